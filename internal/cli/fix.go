package cli

// check -fix: what check advises, run, shown as a diff, and written.

import (
	"bytes"
	"errors"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"

	"kibitz/core/fix"
	"kibitz/core/proof"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
	"kibitz/internal/render"
)

// fixFlags are those of check that mend.
type fixFlags struct {
	fix, write bool
	keep       namesFlag
	listFlags
}

func (f *fixFlags) setup(flags *flag.FlagSet) {
	flags.BoolVar(&f.fix, "fix", false, "try what the findings advise, and print what can be done to the rulebook as a unified diff; names of findings take only those, notes too")
	flags.BoolVar(&f.write, "write", false, "with -fix: write it into the rulebook, all of its files or none")
	flags.Var(&f.keep, "keep", "with -fix: a `list` of requests that must be answered as now, but where a finding is about them; may be repeated")
}

// namesFlag is a flag that may be repeated, with a name each.
type namesFlag []string

func (f *namesFlag) String() string { return strings.Join(*f, " ") }

func (f *namesFlag) Set(name string) error {
	*f = append(*f, name)
	return nil
}

// findingNames takes the names of findings out of the arguments.
func findingNames(args []string) (findings, rest []string) {
	for _, arg := range args {
		if slices.ContainsFunc(proof.Kinds(), func(k proof.Kind) bool { return k.Name == arg }) {
			findings = append(findings, arg)
		} else {
			rest = append(rest, arg)
		}
	}
	return findings, rest
}

// maxKept is how many different requests of the lists are held against each change.
const maxKept = 20_000

// fix mends what can be mended.
func (r *run) fix(f *fixFlags, names []string, severity proof.Severity, look proof.Options) (int, error) {
	e, err := r.load()
	if err != nil {
		return 0, err
	}
	for _, s := range e.Book.Sources {
		if _, err := asRead(s); err != nil {
			return 0, err
		}
	}
	var keep []*list.Item
	seen := map[string]bool{}
	for _, name := range f.keep {
		counts, err := r.readList(name, &f.listFlags, e.Book.Sites[0].Address, func(item *list.Item) {
			key := fmt.Sprint(item.Request.Method, item.Request.Address, item.Request.Headers, item.Request.Client, item.Expects)
			if len(keep) < maxKept && !seen[key] {
				seen[key] = true
				keep = append(keep, item)
			}
		})
		if err := r.told(name, counts, err); err != nil {
			return 0, err
		}
	}
	pages := &readPages{}
	look.Read = pages.read
	result := fix.Run(e, fix.Options{Look: look, Names: names, Keep: keep, Load: rulebook.ReadFile})
	changed, err := changedFiles(e.Book, result.Files(e.Book))
	if err != nil {
		return 0, err
	}
	if f.write {
		if err := writeAll(changed); err != nil {
			return 0, err
		}
		r.fixed(result, changed, true)
		if result.After.Worst(severity) {
			return exitFindings, nil
		}
		return exitWell, nil
	}
	for _, c := range changed {
		r.diff(c.name, string(c.was), string(c.now))
	}
	r.fixed(result, changed, false)
	if result.Before.Worst(severity) {
		return exitFindings, nil
	}
	return exitWell, nil
}

// fixed says what was done and what was not: beside a diff, which goes to standard output,
// on standard error.
func (r *run) fixed(result *fix.Result, changed []changedFile, written bool) {
	out := r.out
	if !written {
		out = render.NewOutput(r.stderr, r.color)
		if len(changed) > 0 {
			out.Printf("\n")
		}
	}
	width := 0
	for _, s := range result.Steps {
		width = max(width, len(s.Finding.Name))
	}
	for _, l := range result.Left {
		width = max(width, len(l.Finding.Name))
	}
	head := "Nothing can be fixed in the rulebook's text alone.\n"
	if n := len(result.Steps); n > 0 {
		what := "would be fixed"
		if written {
			what = "fixed"
		}
		head = fmt.Sprintf("%s %s; each change was tried on %s\n", render.Count(n, "finding"), what, render.Count(result.Known, "request"))
	}
	out.Printf("%s", head)
	for _, s := range result.Steps {
		said := s.Way.Says
		if n := len(s.Changed); n > 0 {
			said += fmt.Sprintf("; answers differently: %s", s.Changed[0].Address)
			if n > 1 {
				said += fmt.Sprintf(" and %s more", render.Number(n-1))
			}
		}
		for _, other := range s.Others {
			said += "; or " + other.Says
		}
		out.Wrapped(fmt.Sprintf("  %-*s  ", width, s.Finding.Name), render.Clean(said))
	}
	if len(result.Left) > 0 {
		out.Printf("Not fixed\n")
	}
	for _, l := range result.Left {
		out.Wrapped(fmt.Sprintf("  %-*s  ", width, l.Finding.Name), render.Clean(l.Why+" ("+placeOf(l.Finding)+")"))
	}
	if result.None > 0 {
		out.Wrapped("", fmt.Sprintf("%s left to you, since only you know what is meant: kibitz check", render.Count(result.None, "finding")))
	}
	if len(result.Notes) > 0 {
		out.Wrapped("", "Notes are fixed by name: kibitz check -fix "+strings.Join(result.Notes, " "))
	}
	if !written && len(changed) > 0 {
		out.Printf("To write it: the same with -write\n")
	}
}

// A changedFile is a file of the rulebook before and after.
type changedFile struct {
	name     string
	was, now []byte
}

// asRead reads a file of the rulebook once more, and sees that it is what was read before.
func asRead(s *rulebook.Source) ([]byte, error) {
	text, err := os.ReadFile(s.Name)
	if err != nil {
		return nil, rulebookError(s.Name, err)
	}
	lines := bytes.Split(bytes.TrimSuffix(bytes.TrimPrefix(text, []byte(bom)), []byte("\n")), []byte("\n"))
	if len(lines) != len(s.Lines) {
		return nil, fmt.Errorf("%s has changed meanwhile: run it again", s.Name)
	}
	for i, line := range lines {
		if string(bytes.TrimSuffix(line, []byte("\r"))) != s.Lines[i] {
			return nil, fmt.Errorf("%s has changed meanwhile: run it again", s.Name)
		}
	}
	return text, nil
}

const bom = "\ufeff"

// changedFiles gives the files that have other lines now; ends of lines are as they were.
func changedFiles(book *rulebook.Book, lines map[string][]string) (out []changedFile, err error) {
	for _, s := range book.Sources {
		now := lines[s.Name]
		if now == nil || slices.ContainsFunc(out, func(c changedFile) bool { return c.name == s.Name }) {
			continue
		}
		was, err := asRead(s)
		if err != nil {
			return nil, err
		}
		end := "\n"
		if n := bytes.Count(was, []byte("\r\n")); n > 0 {
			if end = "\r\n"; n < bytes.Count(was, []byte("\n")) {
				return nil, fmt.Errorf("%s ends its lines in two ways: kibitz format -write %s makes them one", s.Name, s.Name)
			}
		}
		text := strings.Join(now, end)
		if bytes.HasPrefix(was, []byte(bom)) {
			text = bom + text
		}
		if bytes.HasSuffix(was, []byte("\n")) {
			text += end
		}
		out = append(out, changedFile{s.Name, was, []byte(text)})
	}
	return out, nil
}

// writeAll writes all files; where one cannot be written, the others are as they were.
func writeAll(files []changedFile) error {
	for i, f := range files {
		if err := writeWhole(f.name, f.now, true); err != nil {
			for _, done := range files[:i] {
				err = errors.Join(err, writeWhole(done.name, done.was, true))
			}
			return err
		}
	}
	return nil
}
