package cli

import (
	"bytes"
	"errors"
	"flag"
	"os"

	"kibitz/core/rulebook"
	"kibitz/internal/render"
)

func init() {
	register(command{
		order:   12,
		name:    "format",
		args:    "[FILE…]",
		summary: "lays rulebooks out in columns",
		about: `Lays out rulebooks: the clauses of neighbouring entries stand in columns, and
indented lines are indented by the same width. Comments, blank lines and line breaks stay
where they are, and so does the meaning. Without -write or -check the result
goes to standard output.
Exit status 1, with -check: a file needs formatting.`,
		setup: func(flags *flag.FlagSet) func(*run, []string) (int, error) {
			write := flags.Bool("write", false, "replace the files, each whole or not at all")
			check := flags.Bool("check", false, "change nothing; name the files that need formatting")
			return func(r *run, args []string) (int, error) {
				if *write && *check {
					return 0, usagef("-write and -check do not go together")
				}
				if len(args) == 0 {
					args = []string{usualRules()}
				}
				return r.format(args, *write, *check)
			}
		},
	})
}

func (r *run) format(names []string, write, check bool) (int, error) {
	status := exitWell
	type file struct {
		name string
		text []byte
	}
	var changed []file
	for _, name := range names {
		text, err := os.ReadFile(name)
		if err != nil {
			return 0, rulebookError(name, err)
		}
		laid, err := rulebook.Format(name, text)
		if errs, ok := errors.AsType[rulebook.Errors](err); ok {
			return 0, bookErrors{errs}
		}
		if err != nil {
			return 0, err
		}
		switch {
		case !write && !check:
			r.stdout.Write(laid)
		case !bytes.Equal(text, laid):
			changed = append(changed, file{name, laid})
		}
	}
	for _, f := range changed {
		if check {
			r.out.Printf("%s needs formatting: kibitz format -write %s\n", render.Clean(f.name), render.Shell(f.name))
			status = exitFindings
			continue
		}
		if err := writeWhole(f.name, f.text, true); err != nil {
			return 0, err
		}
		r.out.Printf("%s laid out\n", render.Clean(f.name))
	}
	return status, nil
}
