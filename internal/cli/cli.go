// Package cli holds the commands: flags in, the core called, the result shown.
package cli

import (
	"bytes"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"kibitz/internal/render"
)

// The exit statuses: docs/exit.md says of each command what they mean.
const (
	exitWell     = 0
	exitFindings = 1 // errors found, expectations unmet, differences, or a loop
	exitTrouble  = 2 // it could not run, or not to the end
)

// A command is one of kibitz's.
type command struct {
	name    string
	args    string // what stands behind its name
	summary string
	about   string
	setup   func(*flag.FlagSet) func(*run, []string) (int, error)
}

// commands are all of them, in the order in which the work is done.
func commands() []command {
	return []command{demoCommand, checkCommand, traceCommand, replayCommand, compareCommand, serveCommand, verifyCommand, rulesCommand, formatCommand, inventoryCommand}
}

// run is what a command works with.
type run struct {
	stdin          io.Reader
	stdout, stderr io.Writer
	out            *render.Output
	main           func(args []string, stdin io.Reader, stdout, stderr io.Writer) int // for commands that run others
	common
	cases  []testCase // of a replay that is shown as tests
	origin string     // of relative addresses, which are shown without it
}

// common are the flags that several commands have.
type common struct {
	rules string
	as    string
	file  string
	color string
}

// flags are those that every command has.
func (c *common) flags(flags *flag.FlagSet) {
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
	r := &run{stdin: stdin, stdout: stdout, stderr: stderr, main: Main}
	if len(args) == 0 || args[0] == "-h" || args[0] == "-help" || args[0] == "--help" {
		args = append([]string{"help"}, args[min(len(args), 1):]...)
	}
	name, args := args[0], args[1:]
	if name == "help" {
		return r.showHelp("help", args)
	}
	for _, c := range commands() {
		if c.name == name {
			return r.command(c, args)
		}
	}
	var names []string
	for _, c := range commands() {
		names = append(names, c.name)
	}
	fmt.Fprintf(stderr, "kibitz: there is no command %q; there are %s, and help\n", render.Clean(name), strings.Join(names, ", "))
	return exitTrouble
}

func (r *run) command(c command, args []string) int {
	flags := flag.NewFlagSet(c.name, flag.ContinueOnError)
	flags.SetOutput(io.Discard)
	r.common.flags(flags)
	do := c.setup(flags)
	rest, err := parseFlags(flags, args)
	if errors.Is(err, flag.ErrHelp) {
		return r.showHelp(c.name, []string{c.name})
	}
	if err == nil && !slices.Contains([]string{"auto", "always", "never"}, r.color) {
		err = usagef("-color is auto, always or never, not %s", r.color)
	}
	if err != nil {
		return r.end(c.name, usageError{err.Error()})
	}
	var result *bytes.Buffer
	if r.file != "" {
		if err := mustBeNew(r.file); err != nil {
			return r.end(c.name, err)
		}
		result = &bytes.Buffer{}
		r.stdout = result
	}
	written := r.output(r.color)
	status, err := do(r, rest)
	if failed := written.failed(); failed != nil {
		return r.end(c.name, errors.Join(err, failed))
	}
	if result != nil && (err == nil || isPartial(err)) {
		err = errors.Join(err, writeWhole(r.file, result.Bytes(), false))
	}
	if err != nil {
		return r.end(c.name, err)
	}
	return status
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
	fmt.Fprintf(r.stderr, "kibitz %s: %s\n", name, render.Clean(err.Error()))
	if _, ok := errors.AsType[usageError](err); ok && name != "help" {
		fmt.Fprintf(r.stderr, "see: kibitz help %s\n", name)
	}
	return exitTrouble
}

// parseFlags reads flags wherever they stand; the flag package alone stops at
// the first argument.
func parseFlags(flags *flag.FlagSet, args []string) (rest []string, err error) {
	for {
		if err := flags.Parse(args); err != nil {
			var known []string
			flags.VisitAll(func(f *flag.Flag) { known = append(known, "-"+f.Name) })
			if errors.Is(err, flag.ErrHelp) {
				return nil, err
			}
			if strings.HasPrefix(err.Error(), "flag provided but not defined") {
				return nil, fmt.Errorf("%s is no flag of this command; there are %s", strings.TrimPrefix(err.Error(), "flag provided but not defined: "), strings.Join(known, ", "))
			}
			return nil, errors.New(strings.Replace(err.Error(), ": parse error", ": it is no number", 1))
		}
		used := len(args) - flags.NArg()
		ended := used > 0 && args[used-1] == "--"
		args = flags.Args()
		if ended || len(args) == 0 {
			return append(rest, args...), nil
		}
		rest = append(rest, args[0])
		args = args[1:]
	}
}

// checkAs refuses a form that the command does not have.
func (r *run) checkAs(forms ...string) error {
	if slices.Contains(forms, r.as) {
		return nil
	}
	return usagef("-as is %s, not %s", strings.Join(forms, ", "), r.as)
}

// mustBeNew refuses to write over a file, before the work for it is done.
func mustBeNew(name string) error {
	if _, err := os.Lstat(name); err == nil {
		return fmt.Errorf("%s is there already: nothing is written over it; choose another name or remove it", name)
	}
	return nil
}

// writeWhole writes a file so that it is there whole or not at all. Without
// over, a file that is there already is left alone.
func writeWhole(name string, content []byte, over bool) error {
	mode := os.FileMode(0o644)
	if info, err := os.Stat(name); err == nil {
		mode = info.Mode().Perm()
	}
	f, err := os.CreateTemp(filepath.Dir(name), ".kibitz-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(content)
	if err = errors.Join(err, f.Chmod(mode), f.Close()); err != nil {
		return err
	}
	if over {
		return os.Rename(f.Name(), name)
	}
	if err := os.Link(f.Name(), name); errors.Is(err, os.ErrExist) {
		return fmt.Errorf("%s is there already: nothing is written over it", name)
	} else if err != nil {
		return os.Rename(f.Name(), name) // a file system without hard links
	}
	return nil
}
