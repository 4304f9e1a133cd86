// Command trial holds the proofs of check to account, and writes the figures
// into docs/findings.md.
package main

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path"
	"strings"

	"kibitz/core/engine"
	"kibitz/core/proof"
	"kibitz/core/proof/trial"
	"kibitz/core/rulebook"
	"kibitz/core/site"
	"kibitz/demo"
)

func main() {
	books := flag.Int("books", 400, "random rulebooks to check and to try with every short request")
	mutants := flag.Int("mutants", 60, "faults of each kind to plant")
	seed := flag.Uint64("seed", 1, "of the random numbers")
	write := flag.Bool("write", false, "write the figures and the pages into docs/findings.md")
	flag.Parse()
	if err := run(*books, *mutants, *seed, *write); err != nil {
		fmt.Fprintln(os.Stderr, "trial:", err)
		os.Exit(1)
	}
}

func run(books, mutants int, seed uint64, write bool) error {
	var b strings.Builder
	if err := holdAll(&b, books, seed); err != nil {
		return err
	}
	if err := plantAll(&b, mutants, seed); err != nil {
		return err
	}
	fmt.Print(b.String())
	if !write {
		return nil
	}
	const name = "docs/findings.md"
	text, err := os.ReadFile(name)
	if err != nil {
		return fmt.Errorf("run it in the project's own folder: %w", err)
	}
	out := between(string(text), "figures", b.String())
	out = between(out, "pages", pages())
	return os.WriteFile(name, []byte(out), 0o644)
}

// holdAll checks random rulebooks; a broken claim ends it.
func holdAll(b *strings.Builder, books int, seed uint64) error {
	count := trial.Count{}
	for i := range books {
		if err := trial.Hold(trial.Book(rand.New(rand.NewPCG(uint64(i), seed))), count); err != nil {
			return err
		}
	}
	fmt.Fprintf(b, "%d random rulebooks: no proof was broken, and every finding was shown by its request. The claims about their entries:\n\n", books)
	b.WriteString("| finding | found | proved | tried | open |\n| --- | ---: | ---: | ---: | ---: |\n")
	for _, name := range trial.Claims {
		c := count[name]
		fmt.Fprintf(b, "| `%s` | %d | %d | %d | %d |\n", name, c[proof.Found], c[proof.Proved], c[proof.Tried], c[proof.Open])
	}
	return nil
}

// plantAll plants faults into the example's rulebook.
func plantAll(b *strings.Builder, mutants int, seed uint64) error {
	files := demo.Files()
	pages := map[string]string{}
	for name, text := range files {
		if at, ok := strings.CutPrefix(name, "public/"); ok {
			pages["/"+at] = string(text)
		}
	}
	tree := site.Memory(pages)
	load := func(text string) (*engine.Engine, error) {
		book, err := rulebook.Read("site.kibitz", []byte(text), func(name string) ([]byte, error) {
			if text, ok := files[path.Base(name)]; ok {
				return text, nil
			}
			return nil, os.ErrNotExist
		})
		if err != nil {
			return nil, err
		}
		return engine.New(book, []*site.Tree{tree}), nil
	}
	good := string(files["site.kibitz"])
	e, err := load(good)
	if err != nil {
		return err
	}
	known := proof.Check(e, 1)
	serious := 0
	for _, f := range known.Findings {
		if f.Severity != proof.Note {
			serious++
		}
	}
	requests := proof.Requests(e)
	fmt.Fprintf(b, "\nThe rulebook of the example site has %d findings of severity error or warning. Faults planted into it, each rulebook with one:\n\n", serious)
	b.WriteString("| fault | planted | found | change no answer | missed |\n| --- | ---: | ---: | ---: | ---: |\n")
	for _, fault := range trial.Faults {
		r := rand.New(rand.NewPCG(seed, 7))
		seen := map[string]bool{}
		count := map[trial.Caught]int{}
		for range mutants {
			m, ok := trial.Mutate(r, good, fault)
			if !ok || seen[m.Text] {
				continue
			}
			seen[m.Text] = true
			after, err := load(m.Text)
			if err != nil {
				delete(seen, m.Text) // it is no rulebook any more, and says so
				continue
			}
			count[trial.Try(e, known, after, requests)]++
		}
		fmt.Fprintf(b, "| %s | %d | %d | %d | %d |\n", fault, len(seen), count[trial.Found], count[trial.Same], count[trial.Missed])
	}
	return nil
}

// pages explains every finding as help does.
func pages() string {
	var b strings.Builder
	for _, k := range proof.Kinds() {
		fmt.Fprintf(&b, "### %s\n\n**%s**: %s.\n\nBefore:\n\n```\n%s\n```\n\nAfter:\n\n```\n%s\n```\n\n", k.Name, k.Severity, k.Summary, k.Before, k.After)
	}
	return b.String()
}

// between puts text between a mark and the next end.
func between(all, mark, text string) string {
	start := "<!-- " + mark + " -->\n"
	before, rest, ok := strings.Cut(all, start)
	_, after, found := strings.Cut(rest, "<!-- end -->")
	if !ok || !found {
		return all
	}
	return before + start + "\n" + strings.TrimSpace(text) + "\n\n<!-- end -->" + after
}
