package cli

import (
	"fmt"
	"io/fs"
	"os"
	"os/signal"
	"path/filepath"
	"time"

	"github.com/fsnotify/fsnotify"

	"kibitz/core/rulebook"
)

// watch does something now, and again whenever the rulebook, a tree or a list
// changes, until the program is interrupted.
func (r *run) watch(lists []string, do func() (int, error)) (int, error) {
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return 0, err
	}
	defer w.Close()
	interrupted := make(chan os.Signal, 1)
	signal.Notify(interrupted, os.Interrupt)
	defer signal.Stop(interrupted)
	for {
		r.watched(w, lists)
		status, err := do()
		if err != nil {
			r.end("watch", err)
		}
		fmt.Fprintf(r.stderr, "\n%s: waiting for a change (Ctrl-C ends)\n", time.Now().Format("15:04:05"))
		select {
		case <-interrupted:
			return status, nil
		case err := <-w.Errors:
			return 0, err
		case <-w.Events:
			settle(w)
		}
	}
}

// watched adds what the result depends on to a watcher. Folders are watched,
// since editors put a new file in the place of the old one.
func (r *run) watched(w *fsnotify.Watcher, lists []string) {
	name := r.rulesName()
	w.Add(filepath.Dir(name))
	for _, l := range lists {
		if l != "-" {
			w.Add(filepath.Dir(l))
		}
	}
	book, err := rulebook.Load(name)
	if err != nil {
		return // what it names is watched once it can be read
	}
	for _, src := range book.Sources {
		w.Add(filepath.Dir(src.Name))
	}
	for _, s := range book.Sites {
		if s.Inventory != "" {
			w.Add(filepath.Dir(s.Inventory))
		}
		if s.Files == "" {
			continue
		}
		filepath.WalkDir(s.Files, func(path string, d fs.DirEntry, err error) error {
			if err == nil && d.IsDir() {
				w.Add(path)
			}
			return nil
		})
	}
}
