// Package site is the tree of files that a site serves: read from a folder,
// from an inventory, or made in memory.
//
// A tree is read once and stands still. Its names are kept in their canonical
// spelling, so that a request's path finds its file with one look-up.
package site

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"kibitz/core/canonical"
)

// A Node is a file or folder of the tree.
type Node struct {
	Path     string // canonical, no slash at the end; the root is ""
	Folder   bool
	Size     int64     // bytes; of files
	Modified time.Time // zero where it is not known
	Hash     string    // of the content, where an inventory tells it
	Hidden   bool      // a segment of the path begins with a dot, but for /.well-known
	Children []*Node   // of a folder, by name

	open func() (io.ReadSeekCloser, error) // nil where the content is not here
}

// Name is the node's own name as it stands on the disk.
func (n *Node) Name() string {
	return canonical.Decode(n.Path[strings.LastIndexByte(n.Path, '/')+1:])
}

// ErrNoContent is the error of Read where only an inventory is known.
var ErrNoContent = errors.New("the inventory names the file, but its content is not here")

// Open opens the content of a file. It must be closed.
func (n *Node) Open() (io.ReadSeekCloser, error) {
	if n.open == nil {
		return nil, ErrNoContent
	}
	return n.open()
}

// MaxWhole is the size in bytes up to which a file is held whole: above it its content is
// only passed on, and it is not encoded or filled.
const MaxWhole = 8 << 20

// ErrLarge is the error of Read for a file over MaxWhole.
var ErrLarge = fmt.Errorf("it is larger than %d MiB", MaxWhole>>20)

// Read gives the content of a file up to MaxWhole.
func (n *Node) Read() ([]byte, error) {
	if n.Size > MaxWhole {
		return nil, ErrLarge
	}
	content, err := n.Beginning(MaxWhole + 1)
	if err == nil && len(content) > MaxWhole {
		return nil, ErrLarge
	}
	return content, err
}

// SameContent reports whether two files have the same bytes, which are read where their sizes
// are the same. The error is one of reading.
func SameContent(a, b *Node) (bool, error) {
	switch {
	case a.Size != b.Size:
		return false, nil
	case a.Hash != "" && b.Hash != "":
		return a.Hash == b.Hash, nil
	}
	x, err := a.Open()
	if err != nil {
		return false, err
	}
	defer x.Close()
	y, err := b.Open()
	if err != nil {
		return false, err
	}
	defer y.Close()
	var p, q [32 << 10]byte
	for {
		n, err := io.ReadFull(x, p[:])
		m, other := io.ReadFull(y, q[:])
		switch ended := err == io.EOF || err == io.ErrUnexpectedEOF; {
		case !bytes.Equal(p[:n], q[:m]):
			return false, nil
		case ended && (other == io.EOF || other == io.ErrUnexpectedEOF):
			return true, nil
		case err != nil && !ended:
			return false, err
		case other != nil || ended:
			return false, other
		}
	}
}

// Beginning gives up to so many bytes of a file.
func (n *Node) Beginning(most int64) ([]byte, error) {
	in, err := n.Open()
	if err != nil {
		return nil, err
	}
	defer in.Close()
	var b bytes.Buffer
	b.Grow(int(min(most, n.Size) + bytes.MinRead))
	_, err = b.ReadFrom(io.LimitReader(in, most))
	return b.Bytes(), err
}

// A Tree is a site's files and folders. The zero Tree is empty.
type Tree struct {
	nodes map[string]*Node
	Files int
	Notes []string // what was left out, and why
}

// New gives an empty tree, with nothing but its root.
func New() *Tree { return newTree(1) }

// newTree is New with room for so many nodes.
func newTree(nodes int) *Tree {
	t := &Tree{nodes: make(map[string]*Node, nodes)}
	t.nodes[""] = &Node{Folder: true}
	return t
}

// Find gives the node at a canonical path without a slash at its end, or nil.
func (t *Tree) Find(path string) *Node {
	if t == nil {
		return nil
	}
	return t.nodes[path]
}

// Each calls yield for every node, folders before what is in them, by name.
func (t *Tree) Each(yield func(*Node)) {
	var walk func(*Node)
	walk = func(n *Node) {
		yield(n)
		for _, child := range n.Children {
			walk(child)
		}
	}
	if root := t.Find(""); root != nil {
		walk(root)
	}
}

// add puts a node in the tree, with the folders that it needs.
func (t *Tree) add(n *Node) error {
	if old := t.nodes[n.Path]; old != nil {
		if old.Folder && n.Folder {
			return nil
		}
		return fmt.Errorf("%s stands twice", canonical.Decode(n.Path))
	}
	cut := strings.LastIndexByte(n.Path, '/')
	parent := t.nodes[n.Path[:cut]]
	if parent == nil {
		parent = &Node{Path: n.Path[:cut], Folder: true}
		if err := t.add(parent); err != nil {
			return err
		}
	}
	if !parent.Folder {
		return fmt.Errorf("%s is a file, and cannot hold %s", canonical.Decode(parent.Path), n.Name())
	}
	name := n.Path[cut+1:]
	n.Hidden = parent.Hidden || strings.HasPrefix(name, ".") && n.Path != "/.well-known"
	parent.Children = append(parent.Children, n)
	t.nodes[n.Path] = n
	if !n.Folder {
		t.Files++
	}
	return nil
}

func (t *Tree) sort() {
	var below func(*Node)
	below = func(folder *Node) {
		slices.SortFunc(folder.Children, func(a, b *Node) int { return strings.Compare(a.Path, b.Path) })
		for _, n := range folder.Children {
			if n.Folder {
				below(n)
			}
		}
	}
	below(t.nodes[""])
}

// Memory makes a tree of names like /a/b.html and their content; a name with a
// slash at its end is an empty folder.
func Memory(files map[string]string) *Tree {
	t := New()
	for name, content := range files {
		n := &Node{Path: canonical.Spell(strings.TrimSuffix(name, "/")), Folder: strings.HasSuffix(name, "/"), Size: int64(len(content))}
		n.open = func() (io.ReadSeekCloser, error) { return inMemory{strings.NewReader(content)}, nil }
		if n.Path == "" {
			continue
		}
		if err := t.add(n); err != nil {
			panic(err) // the caller wrote the map
		}
	}
	t.sort()
	return t
}

type inMemory struct{ *strings.Reader }

func (inMemory) Close() error { return nil }

// Folder reads the tree of a folder. A link is followed where it stays inside;
// one that leads out is left out, with a note. told is called after each folder with how many
// files have been found; it may be nil.
func Folder(dir string, told func(files int)) (*Tree, error) {
	info, err := os.Stat(dir)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil, fmt.Errorf("the site's folder %s does not exist", dir)
	case err != nil:
		return nil, fmt.Errorf("the site's folder cannot be read: %w", err)
	case !info.IsDir():
		return nil, fmt.Errorf("%s is a file: `files` names a folder", dir)
	}
	root, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return nil, err
	}
	if root, err = filepath.Abs(root); err != nil {
		return nil, err
	}
	w := &walker{tree: New(), root: root, visits: map[string]int{}, told: told}
	if err := w.folder(root, "", []string{root}); err != nil {
		return nil, fmt.Errorf("the site's folder cannot be read: %w", err)
	}
	w.tree.sort()
	return w.tree, nil
}

// walker reads a folder.
type walker struct {
	tree   *Tree
	root   string
	visits map[string]int // of real folders
	told   func(files int)
}

// maxVisits is how often one folder is read through links: links to folders with links in
// them could make a tree without end of a few of them.
const maxVisits = 20

// folder reads the real folder dir, which stands in the tree at path; above are
// the real folders that it lies in.
func (w *walker) folder(dir, path string, above []string) error {
	entries, err := os.ReadDir(dir)
	if err != nil {
		if path == "" {
			return err
		}
		w.note(path, "cannot be read, and is taken for empty")
		return nil
	}
	for _, entry := range entries {
		name := path + "/" + canonical.Spell(entry.Name())
		real := filepath.Join(dir, entry.Name())
		info, err := entry.Info()
		if err == nil && info.Mode()&os.ModeSymlink != 0 {
			if real, err = filepath.EvalSymlinks(real); err == nil {
				info, err = os.Stat(real)
			}
		}
		switch {
		case err != nil:
			w.note(name, "is a link to nothing, and is left out")
			continue
		case real != w.root && !strings.HasPrefix(real, w.root+string(filepath.Separator)):
			w.note(name, "is a link that leads out of the tree, and is left out")
			continue
		case info.IsDir() && slices.Contains(above, real):
			w.note(name, "is a link to a folder that it lies in, and is left out")
			continue
		case len(above) > maxDeep:
			w.note(name, fmt.Sprintf("lies more than %d folders deep, and is left out", maxDeep))
			continue
		case info.IsDir() && w.visited(real):
			w.note(name, fmt.Sprintf("is a folder that has been read %d times through links, and is left out", maxVisits))
			continue
		case !info.IsDir() && !info.Mode().IsRegular():
			w.note(name, "is neither a file nor a folder, and is left out")
			continue
		}
		n := &Node{Path: name, Folder: info.IsDir(), Modified: info.ModTime().UTC()}
		if !n.Folder {
			n.Size = info.Size()
			n.open = func() (io.ReadSeekCloser, error) { return w.open(real) }
		}
		if err := w.tree.add(n); err != nil {
			return err
		}
		if n.Folder {
			if err := w.folder(real, name, append(above, real)); err != nil {
				return err
			}
		}
	}
	if w.told != nil {
		w.told(w.tree.Files)
	}
	return nil
}

// open opens a file, but none outside, where it has become a link since.
func (w *walker) open(real string) (io.ReadSeekCloser, error) {
	inside, err := filepath.Rel(w.root, real)
	if err != nil {
		return nil, err
	}
	return os.OpenInRoot(w.root, inside)
}

// visited counts the visits of a real folder, and reports whether there have been too many.
func (w *walker) visited(real string) bool {
	w.visits[real]++
	return w.visits[real] > maxVisits
}

func (w *walker) note(path, what string) {
	w.tree.Notes = append(w.tree.Notes, fmt.Sprintf("%s %s", canonical.Decode(path), what))
}
