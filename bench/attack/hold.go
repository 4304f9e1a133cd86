package main

// An attack, and what must be true after it.

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// An attack is one call of the program.
type attack struct {
	name   string
	files  map[string]string // what lies in its folder; a name with a slash at its end is a folder
	make   func(dir string) error
	args   []string
	input  func(io.Writer) // what comes from standard input; nil for nothing
	writes []string        // files that it is to write
	exits  []int           // the statuses that it may end with; nil: 0, 1 and 2
	ends   bool            // there are line ends in its texts
	says   string          // a text that must be in what it prints
	large  bool            // it takes long, or writes much
	most   int64           // the memory that it may take, in bytes; 0: maxMemory
}

// The bounds of every attack.
const (
	maxMemory = 256 << 20
	maxTime   = 60 * time.Second
)

// A result is what came of it.
type result struct {
	out, errs    []byte
	exit         int
	peak         int64 // bytes
	took         time.Duration
	late         bool
	before, left []string // files of its folder
}

// run makes the folder, and calls the program in it.
func (a *attack) run(program, dir string) (*result, error) {
	if err := os.RemoveAll(dir); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	for name, text := range a.files {
		at := filepath.Join(dir, name)
		if strings.HasSuffix(name, "/") {
			if err := os.MkdirAll(at, 0o755); err != nil {
				return nil, err
			}
			continue
		}
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			return nil, err
		}
		if err := os.WriteFile(at, []byte(text), 0o644); err != nil {
			return nil, err
		}
	}
	if a.make != nil {
		if err := a.make(dir); err != nil {
			return nil, err
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), maxTime)
	defer cancel()
	c := exec.CommandContext(ctx, program, a.args...)
	c.Dir = dir
	c.WaitDelay = time.Second
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	if a.input != nil {
		in, err := c.StdinPipe()
		if err != nil {
			return nil, err
		}
		go func() {
			defer in.Close()
			a.input(in)
		}()
	}
	r := &result{before: namesIn(dir)}
	start := time.Now()
	err := c.Run()
	if exit, ok := errors.AsType[*exec.ExitError](err); err != nil && !ok && ctx.Err() == nil {
		return nil, err
	} else if ok {
		r.exit = exit.ExitCode()
	}
	r.late = ctx.Err() != nil
	r.took, r.out, r.errs, r.peak, r.left = time.Since(start), out.Bytes(), errs.Bytes(), peak(c.ProcessState), namesIn(dir)
	return r, nil
}

func namesIn(dir string) (names []string) {
	filepath.WalkDir(dir, func(path string, _ os.DirEntry, _ error) error {
		names = append(names, path)
		return nil
	})
	return names
}

// problems are what is not as it must be.
func (a *attack) problems(r *result) (problems []string) {
	say := func(format string, args ...any) { problems = append(problems, fmt.Sprintf(format, args...)) }
	all := string(r.out) + string(r.errs)
	exits := a.exits
	if exits == nil {
		exits = []int{0, 1, 2}
	}
	switch {
	case r.late:
		say("it does not end within %s", maxTime)
		return problems
	case bytes.Contains(r.errs, []byte("goroutine ")):
		say("it panics: %s", firstLine(r.errs))
	case !slices.Contains(exits, r.exit):
		say("it ends with %d: %s", r.exit, firstLine(r.errs))
	}
	if r.peak > max(a.most, maxMemory) {
		say("it takes %d MiB", r.peak>>20)
	}
	for what, text := range map[string][]byte{"standard output": r.out, "standard error": r.errs} {
		if where := unprintable(string(text)); where != "" {
			say("%s has a character that a terminal acts on: %s", what, where)
		}
	}
	left := slices.DeleteFunc(slices.Clone(r.left), func(name string) bool { return slices.Contains(a.writes, filepath.Base(name)) })
	if !slices.Equal(r.before, left) {
		say("it leaves files: %q", r.left)
	}
	if a.says != "" && !strings.Contains(all, a.says) {
		say("it does not say %q: %s", a.says, firstLine(append(r.errs, r.out...)))
	}
	if strings.Contains(all, ".kibitz-") {
		say("it names a file that is there for a moment only")
	}
	if !a.ends && strings.Contains(string(r.errs), `\x0A`) {
		say("a line end stands in a message as \\x0A: %s", firstLine(r.errs))
	}
	if r.exit != 2 || len(r.out) > 0 {
		if err := a.wellFormed(r); err != nil {
			say("the result is not well formed: %v", err)
		}
	}
	return problems
}

func firstLine(text []byte) string {
	line, _, _ := strings.Cut(strings.TrimSpace(string(text)), "\n")
	return fmt.Sprintf("%.200q", line)
}

var colours = regexp.MustCompile("\x1b\\[[0-9;]*m")

// unprintable gives the place of a character that is not for reading.
func unprintable(s string) string {
	s = colours.ReplaceAllString(s, "")
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		if r != '\n' && (r == utf8.RuneError && n == 1 || !unicode.IsGraphic(r)) {
			return fmt.Sprintf("%q", s[max(0, i-20):min(len(s), i+20)])
		}
		i += n
	}
	return ""
}

// form is that of the result.
func (a *attack) form() string {
	if i := slices.Index(a.args, "-as"); i >= 0 {
		return a.args[i+1]
	}
	return "text"
}

func (a *attack) wellFormed(r *result) error {
	switch a.form() {
	case "json", "sarif":
		var v any
		if err := json.Unmarshal(r.out, &v); err != nil {
			return err
		}
		return addsUp(r.out)
	case "jsonl":
		for _, line := range strings.Split(strings.TrimSuffix(string(r.out), "\n"), "\n") {
			if line != "" && !json.Valid([]byte(line)) {
				return fmt.Errorf("%.80q is not a JSON", line)
			}
		}
	case "junit":
		d := xml.NewDecoder(bytes.NewReader(r.out))
		for {
			if _, err := d.Token(); err == io.EOF {
				return nil
			} else if err != nil {
				return err
			}
		}
	case "tap":
		return tap(string(r.out))
	case "csv":
		rows, err := csv.NewReader(bytes.NewReader(r.out)).ReadAll()
		for _, row := range rows {
			for _, cell := range row {
				if cell != "" && strings.ContainsRune("=+@\t", rune(cell[0])) {
					return fmt.Errorf("a spreadsheet takes %.40q for a formula", cell)
				}
			}
		}
		return err
	}
	return nil
}

// addsUp sees that each line of a list is a request, a detail, a comment or skipped.
func addsUp(text []byte) error {
	var sums struct {
		Partial bool
		Lists   []struct{ Lines, Requests, Details, Comments, Skipped int }
	}
	if json.Unmarshal(text, &sums) != nil || sums.Partial {
		return nil
	}
	for _, l := range sums.Lists {
		if l.Requests+l.Details+l.Comments+l.Skipped != l.Lines {
			return fmt.Errorf("the lines do not add up: %+v", l)
		}
	}
	return nil
}

var tapLine = regexp.MustCompile(`^(TAP version 1[34]|1\.\.\d+.*|(not )?ok \d+ .*|#.*|  .*|)$`)

// tap sees that there are as many tests as the plan says, in their order.
func tap(text string) error {
	plan, tests := -1, 0
	for _, line := range strings.Split(text, "\n") {
		if !tapLine.MatchString(line) {
			return fmt.Errorf("%.80q is not a line of TAP", line)
		}
		if n, _ := fmt.Sscanf(line, "1..%d", &plan); n == 1 {
			continue
		}
		number := 0
		if n, _ := fmt.Sscanf(strings.TrimPrefix(line, "not "), "ok %d", &number); n == 1 {
			if tests++; number != tests {
				return fmt.Errorf("test %d has the number %d", tests, number)
			}
			if strings.Contains(line, " # ") {
				return fmt.Errorf("a name is taken for a directive: %.80q", line)
			}
		}
	}
	if plan != tests {
		return fmt.Errorf("there are %d tests, and the plan says %d", tests, plan)
	}
	return nil
}
