package cli

// Watching: what has been read is looked at, and nothing that lies beside it.

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"
)

// inputs are the files and trees that a result depends on: all that was read for it. Each
// name stands as it was said, and as what it is a link to.
type inputs struct {
	mu           sync.Mutex
	files, trees map[string]bool
}

// realNames gives a file's full name, and that of what it is a link to.
func realNames(name string) []string {
	full, err := filepath.Abs(name)
	if err != nil {
		return nil
	}
	if real, err := filepath.EvalSymlinks(full); err == nil && real != full {
		return []string{full, real}
	}
	return []string{full}
}

func (in *inputs) file(name string) { in.add(name, false) }
func (in *inputs) tree(dir string)  { in.add(dir, true) }

func (in *inputs) add(name string, tree bool) {
	in.mu.Lock()
	defer in.mu.Unlock()
	if in.files == nil {
		in.files, in.trees = map[string]bool{}, map[string]bool{}
	}
	for _, full := range realNames(name) {
		if tree {
			in.trees[full] = true
		} else {
			in.files[full] = true
		}
	}
}

// has reports whether a file is one of them, or lies in one of the trees.
func (in *inputs) has(name string) bool {
	if in.files[name] {
		return true
	}
	for dir := range in.trees {
		if name == dir || strings.HasPrefix(name, dir+string(filepath.Separator)) {
			return true
		}
	}
	return false
}

// A watcher tells when the inputs change.
type watcher struct {
	*fsnotify.Watcher
	inputs *inputs
	own    []string // files that the program writes itself, which are no change
}

func (r *run) newWatcher(own ...string) (*watcher, error) {
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, err
	}
	watched := &watcher{Watcher: w, inputs: r.inputs}
	for _, name := range own {
		if name != "" {
			watched.own = append(watched.own, realNames(name)...)
		}
	}
	return watched, nil
}

// look begins to look at all inputs that there are by now. Of files their folders are
// watched, since editors put a new file in the place of the old one.
func (w *watcher) look() {
	w.inputs.mu.Lock()
	defer w.inputs.mu.Unlock()
	for name := range w.inputs.files {
		w.Add(filepath.Dir(name))
	}
	for dir := range w.inputs.trees {
		w.Add(filepath.Dir(dir))
		filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err == nil && d.IsDir() {
				w.Add(path)
			}
			return nil
		})
	}
}

// gathered is how long nothing must change before what has changed is read: editors and
// builds write in several steps. Where something always changes it is read all the same.
const (
	gathered   = 200 * time.Millisecond
	gatherMost = 3 * time.Second
)

// wait waits until an input has changed; it reports false where stop comes first.
func (w *watcher) wait(stop <-chan struct{}) bool {
	var quiet, most <-chan time.Time
	for {
		select {
		case <-stop:
			return false
		case <-quiet:
			return true
		case <-most:
			return true
		case event := <-w.Events:
			if !w.matters(event.Name) {
				continue
			}
		case <-w.Errors: // some changes were lost
		}
		quiet = time.After(gathered)
		if most == nil {
			most = time.After(gatherMost)
		}
	}
}

func (w *watcher) matters(name string) bool {
	for _, own := range w.own {
		if name == own {
			return false
		}
	}
	w.inputs.mu.Lock()
	defer w.inputs.mu.Unlock()
	return !strings.HasPrefix(filepath.Base(name), temporary) && w.inputs.has(name)
}

// watch does something now, and again whenever an input changes, until the program is
// interrupted.
func (r *run) watch(do func() (int, error)) (int, error) {
	w, err := r.newWatcher(r.file)
	if err != nil {
		return 0, err
	}
	defer w.Close()
	stop := make(chan struct{})
	defer r.whenInterrupted(func() { close(stop) })()
	for {
		r.cases = nil
		status, err := do()
		r.end(r.name, errors.Join(r.result.end(err == nil || isPartial(err)), err))
		w.look()
		fmt.Fprintf(r.stderr, "\n%s: waiting for a change (Ctrl-C ends)\n", time.Now().Format("15:04:05"))
		if !w.wait(stop) {
			return status, nil
		}
	}
}
