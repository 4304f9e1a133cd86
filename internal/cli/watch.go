package cli

// Watching: what has been read is looked at, and nothing that lies beside it.

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"
)

// inputs are the files and trees that a result depends on: all that was read for it. Each
// name stands as it was said, and as what it is a link to.
type inputs struct {
	mu    sync.Mutex
	files map[string]stamp     // as they were when they were read
	trees map[string]time.Time // when they were read
}

// A stamp tells a file from what is in its place later; that of none is zero.
type stamp struct {
	modified time.Time
	size     int64
}

func stampOf(name string) stamp {
	info, err := os.Stat(name)
	if err != nil {
		return stamp{}
	}
	return stamp{info.ModTime(), info.Size()}
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
		in.files, in.trees = map[string]stamp{}, map[string]time.Time{}
	}
	for _, full := range realNames(name) {
		if tree {
			in.trees[full] = time.Now()
		} else {
			in.files[full] = stampOf(full)
		}
	}
}

// has reports whether a file is one of them, or lies in one of the trees.
func (in *inputs) has(name string) bool {
	if _, ok := in.files[name]; ok {
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
	inputs  *inputs
	written []string // files that the program writes itself, which are no change
}

func (r *run) newWatcher(own ...string) (*watcher, error) {
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, err
	}
	watched := &watcher{Watcher: w, inputs: r.inputs}
	for _, name := range own {
		if name != "" {
			watched.written = append(watched.written, realNames(name)...)
		}
	}
	return watched, nil
}

// look begins to look at all inputs that there are by now. Of files their folders are
// watched, since editors put a new file in the place of the old one. It reports whether
// something has changed since it was read, or looked at: nothing else would tell of that.
func (w *watcher) look() (changed bool) {
	w.inputs.mu.Lock()
	defer w.inputs.mu.Unlock()
	for name, was := range w.inputs.files {
		w.Add(filepath.Dir(name))
		is := stampOf(name)
		changed = changed || is != was
		w.inputs.files[name] = is
	}
	for dir, read := range w.inputs.trees {
		w.inputs.trees[dir] = time.Now()
		w.Add(filepath.Dir(dir))
		filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err != nil {
				return nil
			}
			if d.IsDir() {
				w.Add(path)
			}
			if info, err := d.Info(); err == nil && info.ModTime().After(read) && !slices.Contains(w.written, path) {
				changed = true
			}
			return nil
		})
	}
	return changed
}

// gathered is how long nothing must change before what has changed is read: editors and
// builds write in several steps. Where something always changes it is read all the same.
const (
	gathered   = 200 * time.Millisecond
	gatherMost = 3 * time.Second
)

// wait waits until an input has changed, if none has by now; it reports false where stop comes
// first.
func (w *watcher) wait(stop <-chan struct{}, changed bool) bool {
	var quiet, most <-chan time.Time
	if changed {
		quiet, most = time.After(gathered), time.After(gatherMost)
	}
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
	for _, own := range w.written {
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
		changed := w.look()
		fmt.Fprintf(r.stderr, "\n%s: waiting for a change (Ctrl-C ends)\n", time.Now().Format("15:04:05"))
		if !w.wait(stop, changed) {
			return status, nil
		}
	}
}
