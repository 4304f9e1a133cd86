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
	books := flag.Int("books", 600, "random rulebooks to check and to try with every short request")
	mutants := flag.Int("mutants", 80, "faults of each kind to plant")
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
		if err := trial.Hold(trial.Book(rand.New(rand.NewPCG(uint64(i), seed))), rand.New(rand.NewPCG(uint64(i), 5)), count); err != nil {
			return err
		}
	}
	fmt.Fprintf(b, "%d random rulebooks: no proof was broken, and every finding was shown by its request. The claims about their entries:\n\n", books)
	b.WriteString("| finding | found | proved | tried | open |\n| --- | ---: | ---: | ---: | ---: |\n")
	for _, name := range trial.Denied() {
		c := count[name]
		fmt.Fprintf(b, "| `%s` | %d | %d | %d | %d |\n", name, c[proof.Found], c[proof.Proved], c[proof.Tried], c[proof.Open])
	}
	return nil
}

// A planted rulebook is a good one, with what it needs to be read.
type planted struct {
	text string
	tree *site.Tree
	open func(string) ([]byte, error)
}

func (p *planted) load(text string) (*engine.Engine, error) {
	book, err := rulebook.Read("site.kibitz", []byte(text), p.open)
	if err != nil {
		return nil, err
	}
	return engine.New(book, []*site.Tree{p.tree}), nil
}

// example is the rulebook of the example site.
func example() *planted {
	files := demo.Files()
	pages := map[string]string{}
	for name, text := range files {
		if at, ok := strings.CutPrefix(name, "public/"); ok {
			pages["/"+at] = string(text)
		}
	}
	return &planted{string(files["site.kibitz"]), site.Memory(pages), func(name string) ([]byte, error) {
		if text, ok := files[path.Base(name)]; ok {
			return text, nil
		}
		return nil, os.ErrNotExist
	}}
}

// plantAll plants faults into good rulebooks.
func plantAll(b *strings.Builder, mutants int, seed uint64) error {
	books := []*planted{example(), {trial.Good, site.Memory(trial.GoodFiles), nil}}
	planted, count := map[string]int{}, map[string]map[trial.Caught]int{}
	serious := 0
	for _, good := range books {
		e, err := good.load(good.text)
		if err != nil {
			return err
		}
		known := proof.Check(e, 1)
		for _, f := range known.Findings {
			if f.Severity != proof.Note {
				serious++
			}
		}
		requests := proof.Requests(e)
		for _, fault := range trial.Faults {
			r := rand.New(rand.NewPCG(seed, 7))
			seen := map[string]bool{}
			for range mutants {
				m, ok := trial.Mutate(r, good.text, fault)
				if !ok || seen[m.Text] {
					continue
				}
				after, err := good.load(m.Text)
				if err != nil {
					continue // it is no rulebook any more, and says so
				}
				seen[m.Text] = true
				if count[fault] == nil {
					count[fault] = map[trial.Caught]int{}
				}
				count[fault][trial.Try(e, known, after, requests)]++
			}
			planted[fault] += len(seen)
		}
	}
	fmt.Fprintf(b, "\nThe rulebook of the example site and a second good one have %d findings of severity error or warning. Faults planted into them, each rulebook with one:\n\n", serious)
	b.WriteString("| fault | planted | found | change no answer | missed |\n| --- | ---: | ---: | ---: | ---: |\n")
	for _, fault := range trial.Faults {
		c := count[fault]
		fmt.Fprintf(b, "| %s | %d | %d | %d | %d |\n", fault, planted[fault], c[trial.Found], c[trial.Same], c[trial.Missed])
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
