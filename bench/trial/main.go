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

	"kibitz/bench/large"
	"kibitz/core/engine"
	"kibitz/core/proof"
	"kibitz/core/proof/trial"
	"kibitz/core/rulebook"
	"kibitz/core/site"
	"kibitz/demo"
)

func main() {
	books := flag.Int("books", 600, "random rulebooks to check, and to try with every short request; with 0 no figures are made, and -write writes the pages of the findings alone")
	from := flag.Uint64("from", 0, "the `seed` of the first of them; the others follow")
	most := flag.Int("most", 10_000, "requests for each of them")
	mutants := flag.Int("mutants", 8, "faults of each kind to plant into each good rulebook")
	write := flag.Bool("write", false, "write the figures and the pages into docs/findings.md")
	flag.Parse()
	if err := run(*books, *from, *most, *mutants, *write); err != nil {
		fmt.Fprintln(os.Stderr, "trial:", err)
		os.Exit(1)
	}
}

func run(books int, from uint64, most, mutants int, write bool) error {
	var b strings.Builder
	if books > 0 {
		if err := holdAll(&b, books, from, most); err != nil {
			return err
		}
		if err := plantAll(&b, mutants); err != nil {
			return err
		}
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
	out := between(string(text), "pages", pages())
	if books > 0 {
		out = between(out, "figures", b.String())
	}
	return os.WriteFile(name, []byte(out), 0o644)
}

// holdAll checks random rulebooks. Those by which something is denied are kept among the
// test data, and end it when all have been tried.
func holdAll(b *strings.Builder, books int, from uint64, most int) error {
	count := trial.Count{}
	denied := 0
	for i := range uint64(books) {
		seed := from + i
		text := trial.Book(rand.New(rand.NewPCG(seed, 1)))
		err := trial.Hold(text, most, rand.New(rand.NewPCG(seed, 5)), count)
		if err == nil {
			continue
		}
		denied++
		name := fmt.Sprintf("core/proof/trial/testdata/book-%d.kibitz", seed)
		fmt.Fprintf(os.Stderr, "seed %d, kept as %s: %v\n", seed, name, err)
		if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
			return err
		}
	}
	if denied > 0 {
		return fmt.Errorf("%d of %d rulebooks deny what is said of them", denied, books)
	}
	fmt.Fprintf(b, "%d random rulebooks (seeds %d to %d): no proof was denied, and every finding was shown by its request. The claims about their entries and sites:\n\n", books, from, from+uint64(books)-1)
	b.WriteString("| finding | found | proved | tried | open |\n| --- | ---: | ---: | ---: | ---: |\n")
	for _, name := range trial.Denied() {
		c := count[name]
		fmt.Fprintf(b, "| `%s` | %d | %d | %d | %d |\n", name, c[proof.Found], c[proof.Proved], c[proof.Tried], c[proof.Open])
	}
	return nil
}

// A planted rulebook is a good one, with what it needs to be read.
type planted struct {
	name string
	text string
	load func(text string) (*engine.Engine, error)
}

// example is the rulebook of the example site.
func example() planted {
	files := demo.Files()
	pages := map[string]string{}
	for name, text := range files {
		if at, ok := strings.CutPrefix(name, "public/"); ok {
			pages["/"+at] = string(text)
		}
	}
	tree := site.Memory(pages)
	return planted{"the example site", string(files["site.kibitz"]), func(text string) (*engine.Engine, error) {
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
	}}
}

// good are the rulebooks that faults are planted into.
func good() ([]planted, error) {
	out := []planted{example()}
	for _, name := range large.Names {
		b, err := large.Open(name)
		if err != nil {
			return nil, err
		}
		out = append(out, planted{name, b.Text, b.Load})
	}
	return out, nil
}

// plantAll plants faults into good rulebooks.
func plantAll(b *strings.Builder, mutants int) error {
	books, err := good()
	if err != nil {
		return err
	}
	count := map[string]map[trial.Caught]int{}
	all := map[trial.Caught]int{}
	var missed []string
	b.WriteString("\n| good rulebook | entries | files | errors | warnings | notes |\n| --- | ---: | ---: | ---: | ---: | ---: |\n")
	for _, good := range books {
		e, err := good.load(good.text)
		if err != nil {
			return err
		}
		known := proof.Check(e, 1)
		found := map[proof.Severity]int{}
		for _, f := range known.Findings {
			found[f.Severity]++
		}
		files := 0
		for _, s := range e.Book.Sites {
			e.Tree(s).Each(func(n *site.Node) {
				if !n.Folder {
					files++
				}
			})
		}
		fmt.Fprintf(b, "| %s | %d | %d | %d | %d | %d |\n", good.name, len(e.Book.Rules), files, found[proof.Error], found[proof.Warning], found[proof.Note])
		requests := proof.Requests(e)
		for _, fault := range trial.Faults() {
			r := rand.New(rand.NewPCG(1, 7))
			seen := map[string]bool{}
			for range mutants {
				m, ok := trial.Mutate(r, good.text, fault)
				if !ok || seen[m.Text] {
					continue
				}
				seen[m.Text] = true
				caught := trial.Found
				if after, err := good.load(m.Text); err == nil { // else it is not a rulebook any more, and says where
					caught = trial.Try(e, known, after, requests)
				}
				if count[fault] == nil {
					count[fault] = map[trial.Caught]int{}
				}
				count[fault][caught]++
				all[caught]++
				if caught == trial.Missed {
					missed = append(missed, fmt.Sprintf("- %s, %s: `%s`", fault, good.name, trial.Changed(good.text, m.Text)))
				}
			}
		}
	}
	b.WriteString("\nFaults planted into them, each rulebook with one:\n\n| fault | found by an error or a warning | by a note | changes no answer | missed |\n| --- | ---: | ---: | ---: | ---: |\n")
	for _, fault := range trial.Faults() {
		c := count[fault]
		fmt.Fprintf(b, "| %s | %d | %d | %d | %d |\n", fault, c[trial.Found], c[trial.Noted], c[trial.Same], c[trial.Missed])
	}
	could := all[trial.Found] + all[trial.Noted] + all[trial.Missed]
	fmt.Fprintf(b, "\nOf %d that change an answer, %.1f%% are found: %d by an error or a warning, %d by a note. Missed are:\n\n%s\n", could, 100*float64(could-all[trial.Missed])/float64(max(1, could)), all[trial.Found], all[trial.Noted], strings.Join(missed, "\n"))
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
