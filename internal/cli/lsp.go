package cli

// The language server.

import (
	"context"
	"flag"
	"os"

	"kibitz/internal/lsp"
)

func init() {
	register(command{
		order:   12,
		name:    "lsp",
		stays:   true,
		summary: "answers an editor, by the Language Server Protocol over standard input and output",
		about: `Answers an editor that speaks the Language Server Protocol (3.17), over standard input
and output; editors start it by themselves. docs/editor.md says how to connect three of
them.

While a rulebook is written it tells mistakes at once and findings a moment later, what
an entry does and which requests it decides, what may stand next, where a name is given
and used, whether examples hold; it lays out, renames, and offers the fixes that hold.
It reads the rulebook with all that it includes, the site's files, and the lists beside
the rulebook: requests.txt and *.log.`,
		setup: func(flags *flag.FlagSet) func(*run, []string) (int, error) {
			return func(r *run, args []string) (int, error) {
				if len(args) > 0 {
					return 0, usagef("lsp takes no arguments: an editor starts it")
				}
				v := builtOf()
				ctx, stop := context.WithCancel(context.Background())
				defer r.whenInterrupted(stop)()
				return exitWell, lsp.Serve(ctx, r.stdin, r.stdout, lsp.Options{Name: "kibitz", Version: v.Version, Rules: os.Getenv("KIBITZ_RULES")})
			}
		},
	})
}
