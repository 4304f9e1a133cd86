package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"kibitz/demo"
	"kibitz/internal/live"
	"kibitz/internal/render"
)

func init() {
	register(command{
		order:   1,
		name:    "demo",
		args:    "[DIR]",
		summary: "writes an example site, and walks through the work on it",
		about: `Writes the site of Saltmarsh Ferries, an invented ferry line, into DIR (a new or
empty folder; without it a temporary one) and walks through the work on its rulebook,
printing each command before what it gives: the rulebook as it was, with its
loop; what finds it; the mended rulebook; and the replayed list.`,
		setup: func(flags *flag.FlagSet) func(*run, []string) (int, error) {
			return func(r *run, args []string) (int, error) {
				if len(args) > 1 {
					return 0, usagef("name one folder, or none")
				}
				dir := ""
				if len(args) == 1 {
					dir = args[0]
				}
				return r.demo(dir)
			}
		},
	})
}

// demoSteps are the commands of the walk, each with what it is for.
var demoSteps = []struct{ why, command string }{
	{"Last year's rulebook. Visitors complain that some pages never load: check it.", "check before.kibitz"},
	{"The request that shows the loop, step by step.", "trace -rules before.kibitz https://saltmarsh-ferries.example/crew/"},
	{"What happens to the requests that the site gets?", "replay -rules before.kibitz requests.txt"},
	{"The mended rulebook: check it.", "check site.kibitz"},
	{"An old address that stands in many bookmarks, over http.", "trace 'http://saltmarsh-ferries.example/timetable/winter.php?lang=en'"},
	{"A page as a browser asks for it: before, nothing was compressed.", "trace -rules before.kibitz -header 'Accept-Encoding: gzip, br' /conditions/"},
	{"And now.", "trace -header 'Accept-Encoding: gzip, br' /conditions/"},
	{"What a first visit costs, before …", "replay -rules before.kibitz browser.txt"},
	{"… and now.", "replay browser.txt"},
	{"The crew area from outside.", "trace -client 203.0.113.9 /crew/rota.html"},
	{"Which entries could take an address?", "rules -for /boat.php?name=avocet"},
	{"The whole list.", "replay requests.txt"},
	{"And yesterday's log: what will be answered otherwise than the old server did?", "replay -top 8 yesterday.log"},
	{"What has the repair changed?", "compare before.kibitz site.kibitz requests.txt"},
	{"Next year the fares are to move back to their old address. Who comes back with what is stored?", "compare site.kibitz next.kibitz"},
	{"See it in a browser. (Here a few requests are made of it, and it is ended.)", "serve"},
	{"The server is set up by now. Does it do what the rulebook says? (A stand-in answers here, by standin.kibitz.)", "verify requests.txt -at {http} -at {https} -insecure -rate 0"},
}

// preview serves the site for as long as it takes to ask for a few addresses.
func (r *run) preview() error {
	ctx, stop := context.WithCancel(context.Background())
	side := &run{interrupts: r.interrupts, inputs: &inputs{}, stdout: r.stdout, stderr: r.stderr, out: r.out}
	var asked error
	return errors.Join(side.serve(ctx, &serveFlags{ready: func(url string) {
		go func() {
			defer stop()
			for _, path := range []string{"timetable/winter.php", "boats/albatross", "styles/site.css"} {
				resp, err := http.Get(url + path)
				if err != nil {
					asked = err
					return
				}
				resp.Body.Close()
			}
		}()
	}}), asked)
}

// standIn starts a server for standin.kibitz on free ports of this machine.
func (r *run) standIn(ctx context.Context) (at map[string]string, ended <-chan error, err error) {
	side := &run{interrupts: r.interrupts, inputs: &inputs{}, stderr: r.stderr}
	side.rules = "standin.kibitz"
	e, err := side.load()
	if err != nil {
		return nil, nil, err
	}
	s := live.NewServer(e)
	at = map[string]string{}
	var listeners []*live.Listener
	for _, secure := range []bool{false, true} {
		l, err := s.Listen("", secure)
		if err != nil {
			return nil, nil, err
		}
		listeners = append(listeners, l)
		at["{"+l.Scheme+"}"] = strings.TrimSuffix(l.URL(), "/")
	}
	done := make(chan error, 1)
	go func() { done <- s.Serve(ctx, listeners...) }()
	return at, done, nil
}

func (r *run) demo(dir string) (int, error) {
	temporary := dir == ""
	if temporary {
		var err error
		if dir, err = os.MkdirTemp("", "saltmarsh-"); err != nil {
			return 0, err
		}
	}
	dir, err := filepath.Abs(dir)
	if err != nil {
		return 0, err
	}
	if err := writeDemo(dir); err != nil {
		return 0, err
	}
	if err := os.Chdir(dir); err != nil {
		return 0, err
	}
	r.out.Printf("The site of Saltmarsh Ferries is in %s\n", dir)
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	at, ended, err := r.standIn(ctx)
	if err != nil {
		return 0, err
	}
	for i, step := range demoSteps {
		for mark, url := range at {
			step.command = strings.ReplaceAll(step.command, mark, url)
		}
		r.out.Printf("\n\n%s\n\n$ kibitz %s\n\n", r.out.Quiet(fmt.Sprintf("%d. %s", i+1, step.why)), step.command)
		if step.command == "serve" {
			if err := r.preview(); err != nil {
				return 0, err
			}
			continue
		}
		args := splitShell(step.command)
		if r.color != "auto" {
			args = append(args, "-color", r.color)
		}
		if status := r.main(args, strings.NewReader(""), r.stdout, r.stderr); status == exitTrouble {
			return 0, fmt.Errorf("the step %q could not run", step.command)
		}
	}
	stop()
	if err := <-ended; err != nil {
		return 0, err
	}
	r.out.Printf("\n\nGo on from here:  cd %s  and change site.kibitz.  kibitz serve  shows it in a browser.\n", render.Shell(dir))
	return exitWell, nil
}

// writeDemo writes the example into a folder that is empty or not yet there.
func writeDemo(dir string) error {
	if info, err := os.Stat(dir); err == nil && !info.IsDir() {
		return fmt.Errorf("%s is a file: name a new folder", dir)
	}
	entries, err := os.ReadDir(dir)
	if err == nil && len(entries) > 0 {
		return fmt.Errorf("%s is not empty: nothing is written over what is there; name a new folder", dir)
	}
	files := demo.Files()
	for _, folder := range demo.Folders(files) {
		if err := os.MkdirAll(filepath.Join(dir, filepath.FromSlash(folder)), 0o755); err != nil {
			return err
		}
	}
	for name, text := range files {
		at := filepath.Join(dir, filepath.FromSlash(name))
		if err := os.WriteFile(at, text, 0o644); err != nil {
			return err
		}
		if err := os.Chtimes(at, demo.Modified, demo.Modified); err != nil {
			return err
		}
	}
	return nil
}

// splitShell splits the demo's own commands, in which single quotes group.
func splitShell(s string) []string {
	var out []string
	for i, part := range strings.Split(s, "'") {
		if i%2 == 1 {
			out = append(out, part)
		} else {
			out = append(out, strings.Fields(part)...)
		}
	}
	return out
}
