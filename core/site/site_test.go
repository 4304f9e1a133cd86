package site

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// names lists a tree: paths, with a slash behind folders, hidden ones in braces.
func names(t *Tree) string {
	var out []string
	t.Each(func(n *Node) {
		s := n.Path
		if n.Folder {
			s += "/"
		}
		if n.Hidden {
			s = "{" + s + "}"
		}
		out = append(out, s)
	})
	return strings.Join(out, " ")
}

func TestAFolderIsReadAsItIs(t *testing.T) {
	dir := t.TempDir()
	tree := filepath.Join(dir, "tree")
	for _, name := range []string{"a.txt", "b c/ä.txt", ".git/config", ".well-known/x", ".well-known/.y", "sub/deep/z"} {
		at := filepath.Join(tree, name)
		os.MkdirAll(filepath.Dir(at), 0o755)
		os.WriteFile(at, []byte("text"), 0o644)
	}
	os.WriteFile(filepath.Join(dir, "secret"), nil, 0o644)
	os.Symlink("../secret", filepath.Join(tree, "out"))
	os.Symlink("a.txt", filepath.Join(tree, "same"))
	os.Symlink("nowhere", filepath.Join(tree, "dead"))
	os.Symlink("..", filepath.Join(tree, "sub/up"))
	got, err := Folder(tree, nil)
	if err != nil {
		t.Fatal(err)
	}
	want := "/ {/.git/} {/.git/config} /.well-known/ {/.well-known/.y} /.well-known/x /a.txt /b%20c/ /b%20c/%C3%A4.txt /same /sub/ /sub/deep/ /sub/deep/z"
	if names(got) != want {
		t.Errorf("got  %s\nwant %s", names(got), want)
	}
	if notes := strings.Join(got.Notes, "\n"); strings.Count(notes, "\n") != 2 || !strings.Contains(notes, "/out is a link that leads out of the tree") {
		t.Errorf("notes: %s", notes)
	}
	if text, err := got.Find("/same").Read(); err != nil || string(text) != "text" {
		t.Errorf("through a link: %q %v", text, err)
	}
	// A file that becomes a link out of the tree is not read through it.
	os.Remove(filepath.Join(tree, "a.txt"))
	os.Symlink("../secret", filepath.Join(tree, "a.txt"))
	if text, err := got.Find("/a.txt").Read(); err == nil {
		t.Errorf("read out of the tree: %q", text)
	}
}

// What is left out of a folder leaves out nothing behind it.
func TestWhatIsLeftOutIsLeftOutAlone(t *testing.T) {
	dir := t.TempDir()
	os.Mkdir(filepath.Join(dir, "tree"), 0o755)
	os.WriteFile(filepath.Join(dir, "secret"), nil, 0o644)
	tree := filepath.Join(dir, "tree")
	for name, to := range map[string]string{"a": "nowhere", "c": "../secret", "e": "."} {
		if os.Symlink(to, filepath.Join(tree, name)) != nil {
			t.Skip("there are no links here")
		}
	}
	if l, err := net.Listen("unix", filepath.Join(tree, "g")); err == nil { // which is neither a file nor a folder
		defer l.Close()
	}
	for _, name := range []string{"b", "d", "f", "h"} {
		os.WriteFile(filepath.Join(tree, name), nil, 0o644)
	}
	got, err := Folder(tree, nil)
	if err != nil || names(got) != "/ /b /d /f /h" || len(got.Notes) != 4 {
		t.Errorf("%v: %s %q", err, names(got), got.Notes)
	}
}

// Links to folders with links in them make a tree of any size of a few folders: each is
// read a bounded number of times, and told.
func TestLinksThatMultiply(t *testing.T) {
	dir := t.TempDir()
	for level := range 30 {
		at := filepath.Join(dir, fmt.Sprint("l", level))
		os.Mkdir(at, 0o755)
		for _, name := range []string{"a", "b", "c"} {
			os.Symlink(fmt.Sprintf("../l%d", level+1), filepath.Join(at, name))
		}
	}
	tree, err := Folder(dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	count := 0
	tree.Each(func(*Node) { count++ })
	if count > 30*(maxVisits+1) || count < 30*4 {
		t.Errorf("%d folders", count)
	}
	if notes := strings.Join(tree.Notes, "\n"); !strings.Contains(notes, "has been read 20 times through links, and is left out") {
		t.Errorf("notes: %s", notes)
	}
}

func TestInventories(t *testing.T) {
	got, err := Inventory([]byte("\ufeffpath,size,modified,hash\r\n/a b.txt,4,2026-03-01T06:00:00Z,ff\r\n/empty/,,,\r\n/x/y/z,0,,\r\n"))
	if err != nil || names(got) != "/ /a%20b.txt /empty/ /x/ /x/y/ /x/y/z" || got.Find("/a%20b.txt").Hash != "ff" {
		t.Errorf("%v: %s", err, names(got))
	}
	for text, want := range map[string]string{
		"":                               "is empty",
		"name,size\n":                    "path,size",
		"path,size\na,1\n":               "2: a path begins with a slash",
		"path,size\n/a,x\n":              "2: the size",
		"path,size\n/a,1\n/a,2\n":        "3: /a stands twice",
		"path,size\n/a,1\n/a/b,2\n":      "3: /a is a file",
		"path,size\n/a/../b,1\n":         "2: \"/a/../b\" is not a path",
		"path,size\n/a//b,1\n":           "is not a path",
		"path,size,modified\n/a,1,now\n": "2: the time",
		"path,size\n\"/a,1\n":            "quote",
		"path,size\n" + strings.Repeat("/a", 50_000) + ",1\n": "2: a path has at most 1000 folders",
	} {
		if _, err := Inventory([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
}

// An inventory whose hashes cannot be made is not said to be whole.
func TestAnInventoryThatFails(t *testing.T) {
	var out strings.Builder
	err := WriteInventory(&out, Memory(map[string]string{"/a": "x", "/b": "y"}), func(n *Node) (string, error) {
		if n.Path == "/a" {
			return "", os.ErrPermission
		}
		return "ff", nil
	})
	if !errors.Is(err, os.ErrPermission) {
		t.Errorf("%v of\n%s", err, out.String())
	}
}

func FuzzInventory(f *testing.F) {
	f.Add("path,size\n/a/,\n/a/b,1\n")
	f.Add("path,size,modified,hash\n/,0,,\n//,1\n")
	f.Fuzz(func(t *testing.T, text string) {
		tree, err := Inventory([]byte(text))
		if err != nil {
			return
		}
		var out strings.Builder
		if err := WriteInventory(&out, tree, func(n *Node) (string, error) { return n.Hash, nil }); err != nil {
			t.Fatal(err)
		}
		again, err := Inventory([]byte(out.String()))
		if err != nil || names(again) != names(tree) {
			t.Errorf("%q is written as %q: %v", text, out.String(), err)
		}
	})
}

// Files are the same by their bytes, whatever their names and times; of an inventory by its
// hashes.
func TestSameContent(t *testing.T) {
	long := strings.Repeat("x", 100_000)
	tree := Memory(map[string]string{"/a": "same", "/b": "same", "/c": "some", "/d": "longer", "/e": "", "/f": "", "/g": long + "1", "/h": long + "1", "/i": long + "2"})
	for pair, want := range map[string]bool{"/a /b": true, "/a /c": false, "/a /d": false, "/e /f": true, "/a /e": false, "/g /h": true, "/g /i": false} {
		one, other, _ := strings.Cut(pair, " ")
		if got, err := SameContent(tree.Find(one), tree.Find(other)); err != nil || got != want {
			t.Errorf("%s: %v, %v, want %v", pair, got, err, want)
		}
	}
	listed, err := Inventory([]byte("path,size,modified,hash\n/a,4,,aa\n/b,4,,aa\n/c,4,,bb\n"))
	if err != nil {
		t.Fatal(err)
	}
	if same, err := SameContent(listed.Find("/a"), listed.Find("/b")); err != nil || !same {
		t.Errorf("by hash: %v, %v", same, err)
	}
	if same, err := SameContent(listed.Find("/a"), listed.Find("/c")); err != nil || same {
		t.Errorf("by another hash: %v, %v", same, err)
	}
	if _, err := SameContent(listed.Find("/a"), tree.Find("/a")); err == nil {
		t.Error("a content that is not here is compared")
	}
}
