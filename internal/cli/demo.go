package cli

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/term"

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
empty folder; without it a temporary one) and walks through the work on it: a folder of
files and a log, a server that runs by old rules, the rulebook as it was, with its loop;
what finds it; the fixed rulebook; and the replayed lists.

On a terminal it goes step by step: Enter goes on, a number jumps, q leaves. With -all,
and where it is not a terminal, everything is printed at once.`,
		setup: func(flags *flag.FlagSet) func(*run, []string) (int, error) {
			all := flags.Bool("all", false, "print everything at once, in full")
			return func(r *run, args []string) (int, error) {
				if len(args) > 1 {
					return 0, usagef("name one folder, or none")
				}
				return r.demo(first(args), *all)
			}
		},
	})
}

// begin is the folder of the example in which somebody has no rulebook yet.
const begin = "begin"

// A demoStep is a command of the walk, with what it is for.
type demoStep struct {
	why, command string
	in           string // the folder that it is run in; "" for the example's own
	about        string // what the first line begins with that the step is about; "" for the top
}

var demoSteps = []demoStep{
	{"You have a folder of files and a log of three days, and no rulebook: begin with one.", "start ../public -address https://saltmarsh-ferries.example -log ../days.log", begin, ""},
	{"A server runs by rules that somebody wrote years ago. What does it answer? (A stand-in answers here, by standin.kibitz.)", "record ../requests.txt -base https://saltmarsh-ferries.example -at {http} -at {https} -insecure -rate 0 -out answers.jsonl", begin, ""},
	{"Which rulebook would answer so? It is drafted; what is not sure yet is asked of the server, and what cannot be seen is said.", "draft answers.jsonl -files ../public -at {http} -at {https} -insecure -rate 0", begin, "# Old addresses."},
	{"Where have the addresses gone that visitors still ask for?", "moves ../days.log -files ../public -as text", begin, ""},
	{"Last year's rulebook. Visitors complain that some pages never load: check it.", "check before.kibitz", "", ""},
	{"The request that shows the loop, step by step.", "trace -rules before.kibitz https://saltmarsh-ferries.example/crew/", "", ""},
	{"What happens to the requests that the site gets?", "replay -rules before.kibitz requests.txt", "", ""},
	{"What of this can be fixed in the text alone? Every change is tried on the requests that must stay as they are.", "check -fix -keep requests.txt before.kibitz", "", ""},
	{"The fixed rulebook: check it.", "check site.kibitz", "", ""},
	{"An old address that stands in many bookmarks, over http.", "trace 'http://saltmarsh-ferries.example/timetable/winter.php?lang=en'", "", ""},
	{"A page as a browser asks for it: before, nothing was compressed.", "trace -rules before.kibitz -header 'Accept-Encoding: gzip, br' /conditions/", "", "  sent as"},
	{"And now.", "trace -header 'Accept-Encoding: gzip, br' /conditions/", "", "  sent as"},
	{"What a first visit costs, before …", "replay -rules before.kibitz browser.txt", "", "Bytes"},
	{"… and now.", "replay browser.txt", "", "Bytes"},
	{"The crew area from outside.", "trace -client 203.0.113.9 /crew/rota.html", "", "  -  methods"},
	{"The same page for several visitors: from outside, on board, and a program that copies sites.", "trace -as-visitors visitors.txt /crew/rota.html", "", ""},
	{"Which entries could take an address?", "rules -for /boat.php?name=avocet", "", ""},
	{"The whole list.", "replay requests.txt", "", ""},
	{"How much of each entry does that list hold fast?", "replay -cover requests.txt", "", "Held"},
	{"And the log: what needs doing?", "replay -top 8 days.log -save now.tally", "", "  To do"},
	{"What would last year's rulebook have answered?", "replay -rules before.kibitz days.log -save before.tally", "", "  To do"},
	{"Both side by side: what has grown, and what has gone?", "replay -merge -by tally before.tally now.tally", "", ""},
	{"A page of it, to show to others: tables that sort, and where redirects lead.", "replay -top 0 days.log -as html -out days.html", "", ""},
	{"Who asks for what is not there? By agent, visitor, referrer, network, day or hour.", "replay -only 404 -by agent days.log", "", ""},
	{"A short list that stands for that log, to keep beside the rulebook. (Without -quick it also gets what notices each slip.)", "excerpt -quick days.log", "", ""},
	{"A designer sends new pages. What do they refer to, and what becomes of it?", "links newpages.kibitz", "", ""},
	{"What has moved for good can be written into the files. What would be changed?", "links newpages.kibitz -show", "", ""},
	{"That is right: write it.", "links newpages.kibitz -write", "", ""},
	{"What has the repair changed?", "compare before.kibitz site.kibitz requests.txt", "", ""},
	{"Next year the fares are to move back to their old address. Who comes back with what is stored?", "compare site.kibitz next.kibitz", "", "error  stored-redirect-loop"},
	{"See it in a browser. (Here a few requests are made of it, and it is ended.)", "serve", "", ""},
	{"The server is set up. Does it do what the rulebook says?", "verify requests.txt -at {http} -at {https} -insecure -rate 0", "", ""},
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

func (r *run) demo(dir string, all bool) (int, error) {
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
	if err := os.Mkdir(filepath.Join(dir, begin), 0o755); err != nil {
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
	walk := &walk{run: r, dir: dir, at: at}
	if in, ok := r.stdin.(*os.File); ok && !all && r.out.Terminal && term.IsTerminal(int(in.Fd())) {
		err = walk.stepByStep(bufio.NewReader(in))
	} else {
		err = walk.all()
	}
	if err != nil {
		return 0, err
	}
	stop()
	if err := <-ended; err != nil {
		return 0, err
	}
	r.out.Printf("\n\nGo on from here:  cd %s  and change site.kibitz.  kibitz serve  shows it in a browser.\nNow yours:        kibitz start DIR  writes a first rulebook for a folder of files.\n", render.Shell(dir))
	return exitWell, nil
}

// A walk goes through the steps of the example.
type walk struct {
	*run
	dir string
	at  map[string]string // where the stand-in listens, by the marks of the steps
}

// head shows what a step is for, and its command; rows is how many of the screen that takes.
func (w *walk) head(i int) (step demoStep, rows int) {
	step = demoSteps[i]
	for mark, url := range w.at {
		step.command = strings.ReplaceAll(step.command, mark, url)
	}
	in := ""
	if step.in != "" {
		in = w.out.Quiet(step.in + " ")
	}
	said := fmt.Sprintf("%s\n\n%s$ kibitz %s\n", w.out.Quiet(fmt.Sprintf("%d. %s", i+1, step.why)), in, step.command)
	w.out.Printf("\n\n%s\n", said)
	return step, w.out.Lines(said)
}

// do runs the command of a step.
func (w *walk) do(step demoStep, stdout, stderr io.Writer) error {
	if step.command == "serve" {
		side := *w.run
		side.stdout, side.stderr = stdout, stderr
		side.output(w.color)
		return side.preview()
	}
	if err := os.Chdir(filepath.Join(w.dir, step.in)); err != nil {
		return err
	}
	defer os.Chdir(w.dir)
	args := splitShell(step.command)
	switch {
	case w.out.Color:
		args = append(args, "-color", "always")
	case w.color != "auto":
		args = append(args, "-color", w.color)
	}
	if status := w.main(args, strings.NewReader(""), stdout, stderr); status == exitTrouble {
		return fmt.Errorf("the step %q could not run", step.command)
	}
	return nil
}

// all prints every step in full.
func (w *walk) all() error {
	for i := range demoSteps {
		step, _ := w.head(i)
		if err := w.do(step, w.stdout, w.stderr); err != nil {
			return err
		}
	}
	return nil
}

// The walk shows at least so many lines of what a command prints, and leaves so many of the
// screen free where there is more.
const (
	leastLines = 6
	leftFree   = 5
)

// stepByStep shows one step after the other, each as far as it goes on the screen.
func (w *walk) stepByStep(in *bufio.Reader) error {
	os.Setenv("COLUMNS", strconv.Itoa(w.out.Width))
	done := map[int]bool{}
	for i := 0; i < len(demoSteps); {
		step, used := w.head(i)
		var said, notes bytes.Buffer  // notes come last: they are seen where there is room
		if done[i] && step.in != "" { // it has written its files
			said.WriteString("This step has been done.\n")
		} else if err := w.do(step, &said, &notes); err != nil {
			return err
		}
		done[i] = true
		lines := strings.Split(strings.Trim(strings.TrimRight(said.String(), "\n")+"\n"+notes.String(), "\n"), "\n")
		above := max(0, slices.IndexFunc(lines, func(line string) bool { return strings.HasPrefix(render.Uncoloured(line), step.about) }))
		if above > 0 {
			w.out.Printf("%s\n", w.out.Quiet("… "+render.Count(above, "line")+" above"))
		}
		lines = lines[above:]
		used += 4 // what says that there is more, and what to press
		shown := 0
		for shown < len(lines) && (shown < leastLines || used+w.out.Lines(lines[shown]) < w.out.Height-leftFree) {
			used += w.out.Lines(lines[shown])
			shown++
		}
		io.WriteString(w.stdout, strings.TrimRight(strings.Join(lines[:shown], "\n"), "\n")+"\n")
		if more := len(lines) - shown; more > 0 {
			w.out.Printf("%s\n", w.out.Quiet("… and "+render.Count(more, "more line")))
		}
		w.out.Printf("\n%s ", w.out.Quiet(fmt.Sprintf("%d of %d.  Enter goes on, a number jumps, q leaves:", i+1, len(demoSteps))))
		line, err := in.ReadString('\n')
		word := strings.TrimSpace(line)
		n, isNumber := strconv.Atoi(word)
		switch {
		case err != nil || word == "q" || word == "quit":
			return nil
		case isNumber == nil && n >= 1 && n <= len(demoSteps):
			i = n - 1
		default:
			i++
		}
	}
	return nil
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
