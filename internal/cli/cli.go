// Package cli holds the commands: flags in, the core called, the result shown.
package cli

import (
	"cmp"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"kibitz/internal/render"
)

// The exit statuses: docs/exit.md says of each command what they mean.
const (
	exitWell     = 0
	exitFindings = 1 // errors found, expectations unmet, differences, or a loop
	exitTrouble  = 2 // it could not run, or not to the end
)

// A command is one of kibitz's. Each is told of in a file of its own.
type command struct {
	order   int // by when the work is done
	name    string
	args    string // what stands behind its name
	summary string
	about   string

	rules   string           // what -rules names; "" where there is no such flag
	shows   func(*form) bool // the forms that -as can name; nil where there is no such flag
	each    func(*form) bool // and with -each
	stays   bool             // it runs until it is ended
	goesOn  string           // what -continue does; "" where there is no such flag
	top     int              // what -top is if nothing is said; 0 with no help where there is no such flag
	topHelp string
	setup   func(*flag.FlagSet) func(*run, []string) (int, error) // its own flags, and what it does
}

const theRules = "the rulebook, a `file` (default site.kibitz)"

// commands are all of them, in the order in which the work is done.
var commands []command

func register(c command) {
	commands = append(commands, c)
	slices.SortFunc(commands, func(a, b command) int { return cmp.Compare(a.order, b.order) })
}

// run is what a command works with.
type run struct {
	stdin          io.Reader
	stdout, stderr io.Writer
	out            *render.Output
	main           func(args []string, stdin io.Reader, stdout, stderr io.Writer) int // for commands that run others
	common
	name       string // of the command
	interrupts *interrupts
	inputs     *inputs    // that it has read
	result     *result    // nil without -out
	cases      []testCase // of a replay that is shown as tests
	origin     string     // of relative addresses, which are shown without it
}

// common are the flags that several commands have.
type common struct {
	rules    string
	alone    filesAlone // in place of a rulebook
	as       string
	form     *form // that as names
	most     int   // how many of a sort are shown
	topGiven bool  // -top says so
	file     string
	goOn     bool // with what the file has already
	color    string
}

// flags are those that a command has of them, and every one has.
func (c *common) flags(of *command, flags *flag.FlagSet) {
	if of.rules != "" {
		flags.StringVar(&c.rules, "rules", "", of.rules)
	}
	if of.rules == theRules {
		flags.StringVar(&c.alone.files, "files", "", "in place of a rulebook: the site as the files of this `folder` alone make it")
		flags.StringVar(&c.alone.inventory, "inventory", "", "the same, of a listing of a folder, a `file` that kibitz inventory has written")
		flags.StringVar(&c.alone.address, "address", "", "beside -files or -inventory: the site's main `URL` (default "+localSite+")")
	}
	if of.shows != nil {
		help := "the `form` of the result: " + formsOf(of.shows)
		if of.each != nil {
			help += "; of every request, with -each: " + formsOf(of.each)
		}
		flags.StringVar(&c.as, "as", "text", help)
	}
	if of.topHelp != "" {
		flags.IntVar(&c.most, "top", of.top, of.topHelp)
	}
	if of.goesOn != "" {
		flags.BoolVar(&c.goOn, "continue", false, of.goesOn)
	}
	flags.StringVar(&c.color, "color", "auto", "`when` to use colour: auto, always, never")
	flags.StringVar(&c.file, "out", "", "write the result to this `file`, whole or not at all; it must not be there yet")
}

// A partialError ends a command whose result is good as far as it goes, and is shown.
type partialError struct{ error }

func (e partialError) Unwrap() error { return e.error }

// usageError is a mistake in how kibitz was called.
type usageError struct{ message string }

func (e usageError) Error() string { return e.message }

func usagef(format string, args ...any) error { return usageError{fmt.Sprintf(format, args...)} }

// Main runs a command line, and gives the exit status.
func Main(args []string, stdin io.Reader, stdout, stderr io.Writer) int {
	r := &run{interrupts: &interrupts{}, inputs: &inputs{}, stdin: stdin, stdout: stdout, stderr: stderr, main: Main}
	if len(args) == 0 || args[0] == "-h" || args[0] == "-help" || args[0] == "--help" {
		args = append([]string{"help"}, args[min(len(args), 1):]...)
	}
	if args[0] == "-version" || args[0] == "--version" {
		args[0] = "version"
	}
	name, args := args[0], args[1:]
	if name == "help" {
		return r.showHelp("help", args)
	}
	for i := range commands {
		if commands[i].name == name {
			return r.command(&commands[i], args)
		}
	}
	var names []string
	for _, c := range commands {
		names = append(names, c.name)
	}
	fmt.Fprintf(stderr, "kibitz: there is no command %q; there are %s, and help\n", render.Clean(name), strings.Join(names, ", "))
	return exitTrouble
}

// allOfThem is more than there is of anything that is shown.
const allOfThem = 1 << 30

// namesFiles are the flags whose value is the name of a file.
var namesFiles = []string{"out", "save", "log", "rules", "files", "inventory", "ask"}

func (r *run) command(c *command, args []string) int {
	if !c.stays {
		collectLate()
	}
	flags := flag.NewFlagSet(c.name, flag.ContinueOnError)
	flags.SetOutput(io.Discard)
	r.common.flags(c, flags)
	do := c.setup(flags)
	rest, err := parseFlags(flags, args)
	if errors.Is(err, flag.ErrHelp) {
		return r.showHelp(c.name, []string{c.name})
	}
	if err == nil && !slices.Contains([]string{"auto", "always", "never"}, r.color) {
		err = usagef("-color is auto, always or never, not %s", r.color)
	}
	flags.Visit(func(f *flag.Flag) {
		r.topGiven = r.topGiven || f.Name == "top"
		if text, ok := f.Value.(flag.Getter); err == nil && ok && text.Get() == "" && slices.Contains(namesFiles, f.Name) {
			err = usagef("-%s lacks the name of a file", f.Name)
		}
	})
	if err == nil {
		err = r.alone.check(r.rules)
	}
	switch {
	case err == nil && r.most < 0:
		err = usagef("-top is a number from 0 on, not %d", r.most)
	case r.most == 0:
		r.most = allOfThem
	}
	if err == nil && c.shows != nil {
		r.form, err = formNamed(r.as, c.shows, c.each)
	}
	if err != nil {
		return r.end(c.name, usageError{err.Error()})
	}
	r.name = c.name
	if r.file != "" {
		if err := mustBeNew(r.file); err != nil && !r.goOn {
			return r.end(c.name, err)
		}
		r.result = &result{name: r.file, written: r.goOn}
		r.stdout = r.result
	}
	r.interrupts.listen(r.result.forget)
	written := r.output(r.color)
	status, err := do(r, rest)
	failed := written.failed()
	err = errors.Join(r.result.end(failed == nil && (err == nil || isPartial(err))), failed, err)
	if err != nil {
		return r.end(c.name, err)
	}
	return status
}

// A result is the file of -out. What the program has written there before, where it
// watches, is replaced.
type result struct {
	name    string
	whole   *whole // nil while nothing has been written
	written bool   // that file, by now
}

func (r *result) Write(b []byte) (n int, err error) {
	if r.whole == nil {
		if r.whole, err = beginWhole(r.name, r.written); err != nil {
			return 0, err
		}
	}
	if n, err = r.whole.Write(b); err != nil {
		err = cannotWrite(r.name, err)
	}
	return n, err
}

// forget removes what has been written, when the program ends at once.
func (r *result) forget() {
	if r != nil && r.whole != nil {
		r.whole.abandon()
	}
}

// end puts the file in its place, or leaves it out.
func (r *result) end(good bool) error {
	if r == nil || r.whole == nil && (r.written || !good) {
		return nil
	}
	if r.whole == nil { // an empty result is one, too
		if _, err := r.Write(nil); err != nil {
			return err
		}
	}
	w := r.whole
	r.whole = nil
	defer w.abandon()
	if !good {
		return nil
	}
	err := w.commit()
	r.written = r.written || err == nil
	return err
}

// output makes ready what results are written to.
func (r *run) output(color string) *writer {
	terminal := r.stdout
	if w, ok := terminal.(*writer); ok { // of a command that runs this one
		terminal = w.to
	}
	r.out = render.NewOutput(terminal, color)
	written := &writer{to: r.stdout}
	r.stdout, r.out.Writer = written, written
	return written
}

func (r *run) showHelp(command string, about []string) int {
	written := r.output("auto")
	return r.end(command, errors.Join(r.help(about), written.failed()))
}

// A writer keeps the first error of what it writes to, since a result of which a
// part is missing must not look like a whole one.
type writer struct {
	to  io.Writer
	err error
}

func (w *writer) Write(b []byte) (int, error) {
	if w.err != nil {
		return 0, w.err
	}
	n, err := w.to.Write(b)
	w.err = err
	return n, err
}

func (w *writer) failed() error {
	if w.err == nil {
		return nil
	}
	if _, ok := w.to.(*result); ok { // which says it itself
		return w.err
	}
	return fmt.Errorf("the result could not be written to its end: %w", w.err)
}

// end reports an error, if there is one.
func (r *run) end(name string, err error) int {
	if err == nil {
		return exitWell
	}
	if book, ok := errors.AsType[bookErrors](err); ok {
		r.showBookErrors(book)
		return exitTrouble
	}
	for i, line := range strings.Split(err.Error(), "\n") {
		lead := "kibitz " + name + ":"
		if i > 0 {
			lead = " "
		}
		fmt.Fprintln(r.stderr, strings.TrimRight(lead+" "+render.Clean(line), " "))
	}
	if _, ok := errors.AsType[usageError](err); ok && name != "help" {
		fmt.Fprintf(r.stderr, "see: kibitz help %s\n", name)
	}
	return exitTrouble
}

// parseFlags reads flags wherever they stand; the flag package alone stops at
// the first argument, and tells what is wrong by texts alone.
func parseFlags(flags *flag.FlagSet, args []string) (rest []string, err error) {
	for len(args) > 0 {
		arg := args[0]
		args = args[1:]
		if arg == "--" {
			return append(rest, args...), nil
		}
		if len(arg) < 2 || arg[0] != '-' {
			rest = append(rest, arg)
			continue
		}
		name, value, given := strings.Cut(strings.TrimPrefix(arg[1:], "-"), "=")
		known := flags.Lookup(name)
		switch on, ok := boolean(known); {
		case known == nil && (name == "h" || name == "help"):
			return nil, flag.ErrHelp
		case known == nil:
			var all []string
			flags.VisitAll(func(f *flag.Flag) { all = append(all, "-"+f.Name) })
			return nil, fmt.Errorf("-%s is not a flag of this command; there are %s", name, strings.Join(all, ", "))
		case given:
		case ok && on:
			value = "true"
		case len(args) == 0:
			return nil, fmt.Errorf("-%s lacks its value: %s", name, known.Usage)
		default:
			value, args = args[0], args[1:]
		}
		if err := flags.Set(name, value); err != nil {
			return nil, flagProblem(known, value, err)
		}
	}
	return rest, nil
}

// flagProblem says what is wrong with the value of a flag.
func flagProblem(f *flag.Flag, value string, err error) error {
	if plain, ok := f.Value.(flag.Getter); ok { // one of the flag package's own
		switch plain.Get().(type) {
		case int, float64:
			return fmt.Errorf("%q is not a number for -%s", value, f.Name)
		case bool:
			return fmt.Errorf("-%s is true or false, not %q", f.Name, value)
		case time.Duration:
			return fmt.Errorf("%q is not a duration for -%s: write one like 10s", value, f.Name)
		}
	}
	return fmt.Errorf("-%s: %w", f.Name, err)
}

// boolean reports whether a flag is one that needs no value.
func boolean(f *flag.Flag) (on, ok bool) {
	if f == nil {
		return false, false
	}
	b, ok := f.Value.(interface{ IsBoolFlag() bool })
	return ok && b.IsBoolFlag(), ok
}

// mustBeNew refuses to write over a file, before the work for it is done.
func mustBeNew(name string) error {
	if _, err := os.Lstat(name); err == nil {
		return fmt.Errorf("%s is there already: nothing is written over it; choose another name or remove it", name)
	}
	return nil
}

// temporary is what the name of a file begins with that is not whole yet.
const temporary = ".kibitz-"

// A whole is a file that is there whole or not at all. Without over, one that is there
// already is left alone; with it, it keeps its mode and, where that is allowed, its owner,
// and a link goes on leading to it.
type whole struct {
	*os.File
	name, to string
	over     bool
}

// beginWhole begins to write a file. It ends with commit, or with abandon.
func beginWhole(name string, over bool) (*whole, error) {
	w := &whole{name: name, to: name, over: over}
	if real, err := filepath.EvalSymlinks(name); over && err == nil {
		w.to = real
	}
	var err error
	if w.File, err = os.CreateTemp(filepath.Dir(w.to), temporary+"*"); err != nil {
		return nil, cannotWrite(name, err)
	}
	return w, nil
}

// abandon removes what has been written, if it is not in its place.
func (w *whole) abandon() {
	w.Close()
	os.Remove(w.Name())
}

// commit puts the file in its place.
func (w *whole) commit() error {
	mode := os.FileMode(0o644)
	if info, err := os.Stat(w.to); err == nil && w.over {
		mode = info.Mode().Perm()
		keepOwner(w.File, info)
	}
	if err := errors.Join(w.Chmod(mode), w.Close()); err != nil {
		return cannotWrite(w.name, err)
	}
	if !w.over {
		err := os.Link(w.Name(), w.to)
		switch {
		case err == nil:
			return os.Remove(w.Name())
		case errors.Is(err, os.ErrExist):
			return fmt.Errorf("%s is there already: nothing is written over it", w.name)
		} // else a file system without hard links
	}
	return cannotWrite(w.name, os.Rename(w.Name(), w.to))
}

// writeWhole writes a whole file.
func writeWhole(name string, content []byte, over bool) error {
	w, err := beginWhole(name, over)
	if err != nil {
		return err
	}
	defer w.abandon()
	if _, err := w.Write(content); err != nil {
		return cannotWrite(name, err)
	}
	return w.commit()
}

// cannotWrite says that a file cannot be written, without the name that it has for a time.
func cannotWrite(name string, err error) error {
	if err == nil {
		return nil
	}
	reason := err
	if at, ok := errors.AsType[*os.PathError](err); ok {
		reason = at.Err
	}
	if at, ok := errors.AsType[*os.LinkError](err); ok {
		reason = at.Err
	}
	return fmt.Errorf("%s cannot be written: %w", name, reason)
}
