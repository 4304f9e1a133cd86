package cli

import (
	"crypto/sha256"
	"encoding/hex"
	"flag"
	"fmt"
	"io"

	"kibitz/core/site"
	"kibitz/internal/render"
)

func init() {
	register(command{
		order:   13,
		name:    "inventory",
		args:    "DIR",
		summary: "lists a folder's files, for a machine that does not hold them",
		about: `Writes a listing of a folder that the clause ` + "`inventory FILE`" + ` of a site reads
in the place of the folder itself: a CSV with path, size, time of change and, with
-hash, a hash of the content. Run it where the files are, and take the result to
where the rulebook is.`,
		setup: func(flags *flag.FlagSet) func(*run, []string) (int, error) {
			hash := flags.Bool("hash", false, "with the SHA-256 of each file's content")
			return func(r *run, args []string) (int, error) {
				if len(args) != 1 {
					return 0, usagef("name one folder, like: kibitz inventory public -out public.csv")
				}
				tree, err := site.Folder(args[0], nil)
				if err != nil {
					return 0, err
				}
				for _, note := range tree.Notes {
					fmt.Fprintf(r.stderr, "note: %s\n", render.Clean(note))
				}
				return exitWell, site.WriteInventory(r.stdout, tree, func(n *site.Node) (string, error) {
					if !*hash {
						return "", nil
					}
					content, err := n.Open()
					if err != nil {
						return "", err
					}
					defer content.Close()
					sum := sha256.New()
					_, err = io.Copy(sum, content)
					return hex.EncodeToString(sum.Sum(nil)), err
				})
			}
		},
	})
}
