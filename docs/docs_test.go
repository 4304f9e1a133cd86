package docs

// Every rulebook in the language reference is read, and its examples are run.

import (
	"crypto/sha256"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/aymanbagabas/go-udiff"

	"kibitz/core/engine"
	"kibitz/core/fix"
	"kibitz/core/proof"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// tree is what the examples of the reference are asked of.
var tree = site.Memory(map[string]string{
	"/index.html": "home", "/fares/index.html": "fares", "/boats/index.html": "boats", "/boats/avocet.html": "avocet", "/boats/tern/x": "",
	"/routes/show.html": "route", "/tide-tables/2026-03.csv": "tides", "/planner/index.html": "plan", "/styles/site.css": "body {}",
	"/errors/not-found.html": "{path}", "/sailings.ics": "BEGIN", "/crew/rota.html": "rota",
})

func load(name string) ([]byte, error) {
	switch name {
	case "moves.csv":
		return []byte("old,new\n/a,/b\n"), nil
	case "shared.kibitz":
		return []byte("header h set X-Frame-Options SAMEORIGIN\n"), nil
	case "undecided.csv":
		return []byte("old,new,status\n/spring,,?\n"), nil
	case "slow.accounts":
		return []byte("ada:$2b$16$" + strings.Repeat("a", 53) + "\n"), nil
	case "crew.accounts":
		return []byte("ada:$2b$10$" + strings.Repeat("a", 53) + "\n"), nil
	}
	return nil, os.ErrNotExist
}

func TestEveryRulebookInTheReferenceHolds(t *testing.T) {
	blocks := strings.Split(Language, "```kibitz\n")[1:]
	examples := 0
	for _, block := range blocks {
		text, rest, _ := strings.Cut(block, "```")
		if !strings.Contains(text, "site ") {
			text = "site saltmarsh\n    address https://saltmarsh-ferries.example files public\n" + text
		}
		book, err := rulebook.Read("language.md", []byte(text), load)
		if err != nil {
			t.Errorf("%v\nin\n%s", err, text)
			continue
		}
		for _, r := range book.Rules {
			examples += len(r.Examples)
		}
		for _, f := range proof.Check(engine.New(book, []*site.Tree{tree}), 1).Findings {
			if f.Name == "example-fails" {
				t.Errorf("%s\nin\n%s", f.Message, text)
			}
		}
		laid, err := rulebook.Format("language.md", []byte(text))
		if err != nil {
			t.Errorf("format: %v", err)
		}
		if again, _ := rulebook.Format("language.md", laid); string(again) != string(laid) {
			t.Errorf("format is not settled on\n%s", laid)
		}
		_ = rest
	}
	if len(blocks) < 25 || examples < 30 {
		t.Errorf("only %d rulebooks and %d examples were found", len(blocks), examples)
	}
}

func TestEveryKindAndClauseIsExplained(t *testing.T) {
	for _, k := range rulebook.Kinds() {
		_, text, ok := strings.Cut(Language, "\n### "+string(k)+"\n")
		if !ok {
			t.Errorf("%s has no heading", k)
			continue
		}
		text, _, _ = strings.Cut(text, "\n## ")
		for _, clause := range rulebook.Clauses(k) {
			if !strings.Contains(text, "`"+clause) && !strings.Contains(text, clause+" ") {
				t.Errorf("%s: `%s` is not explained", k, clause)
			}
		}
	}
	for _, f := range rulebook.FieldWords() {
		if !strings.Contains(Language, "`"+f+"`") {
			t.Errorf("the field %s is not explained", f)
		}
	}
}

// findingsTree has what the examples of the findings speak of.
var findingsTree = site.Memory(map[string]string{
	"/index.html": "home", "/fares/index.html": "fares", "/boats/avocet.html": "avocet", "/fleet/index.html": "fleet", "/fleet/avocet.html": "avocet",
	"/offers/summer/index.html": "summer", "/old/prices.txt": "Schl\xfcssel 5", "/errors/strange.html": "<p>There is no {adress} here", "/errors/not-found.html": "gone", "/crew/rota.html": "rota", "/planner/index.html": "plan", "/maps/docs": "map",
	"/downloads/prices.bak": "x", "/downloads/fares.pdf": "x", "/fares.sql": "x", "/soon/index.html": "soon", "/blog/new/a": "x", "/de/fares": "x",
	"/styles/site.css": strings.Repeat("body { color: red }\n", 60), "/scripts/app.js": strings.Repeat("let a = 1\n", 200), "/images/map.png": noise(),
})

// pagesRules are the rules of the site whose pages are examples.
const pagesRules = `redirect prices on /prices/ to /fares/ as permanent
header policy set Content-Security-Policy "script-src 'self'" set X-Content-Type-Options nosniff
`

// noise is text that does not shrink.
func noise() string {
	out := ""
	for i := range 100 {
		sum := sha256.Sum256([]byte{byte(i)})
		out += string(sum[:])
	}
	return out
}

// findingsEngine compiles an example of a finding.
func findingsEngine(k proof.Kind, text string) (*engine.Engine, error) {
	tree := findingsTree
	if k.Page { // the example is one of a page, or a sitemap
		files := map[string]string{"/page.html": "<!doctype html>\n" + text}
		if strings.HasPrefix(text, "<urlset") {
			files = map[string]string{"/sitemap.xml": text}
		}
		files["/fares/index.html"], files["/scripts/app.js"] = "fares", "let a = 1\n"
		text, tree = pagesRules, site.Memory(files)
	}
	if !strings.HasPrefix(text, "site ") {
		text = "list crew-net 192.0.2.0/24\nsite saltmarsh address https://saltmarsh-ferries.example files public hosts www.saltmarsh-ferries.example\n" + text
	}
	book, err := rulebook.Read("findings.md", []byte(text), load)
	if err != nil {
		return nil, err
	}
	return engine.New(book, []*site.Tree{tree}), nil
}

// Every finding is explained by a rulebook that has it, and by one that has not.
func TestEveryFindingIsThereBeforeAndGoneAfter(t *testing.T) {
	for _, k := range proof.Kinds() {
		if !strings.Contains(Findings, "\n### "+k.Name+"\n") || !strings.Contains(Findings, k.Before) || !strings.Contains(Findings, k.After) {
			t.Errorf("%s is not explained in findings.md as it is in help: run go run ./bench/trial -write", k.Name)
		}
		for _, part := range []struct {
			text string
			want bool
		}{{k.Before, true}, {k.After, false}} {
			e, err := findingsEngine(k, part.text)
			if err != nil {
				t.Errorf("%s: %v in\n%s", k.Name, err, part.text)
				continue
			}
			found := false
			for _, f := range proof.CheckAll(e, 1).Findings {
				found = found || f.Name == k.Name
			}
			if found != part.want {
				t.Errorf("%s: found %v, want %v, in\n%s", k.Name, found, part.want, part.text)
			}
		}
	}
}

// What check -fix makes of the example of each finding stands in a file. The finding is gone
// afterwards, or it is said why it is not.
func TestFixesOfEveryFinding(t *testing.T) {
	var out strings.Builder
	for _, k := range proof.Kinds() {
		e, err := findingsEngine(k, k.Before)
		if err != nil {
			t.Fatal(err)
		}
		r := fix.Run(e, fix.Options{Look: proof.Options{All: true}, Names: []string{k.Name}, Load: load})
		if len(r.Steps)+len(r.Left) == 0 {
			continue
		}
		fmt.Fprintf(&out, "%s\n", k.Name)
		for _, s := range r.Steps {
			fmt.Fprintf(&out, "    done: %s\n", s.Way.Says)
		}
		for _, l := range r.Left {
			fmt.Fprintf(&out, "    left: %s\n", l.Why)
		}
		for i, s := range r.Engine.Book.Sources {
			text := udiff.Unified("before", "after", strings.Join(e.Book.Sources[i].Lines, "\n")+"\n", strings.Join(s.Lines, "\n")+"\n")
			for line := range strings.Lines(text) {
				if (line[0] == '+' || line[0] == '-') && !strings.HasPrefix(line, "+++") && !strings.HasPrefix(line, "---") {
					out.WriteString("    " + line)
				}
			}
		}
		if len(r.Left) == 0 && slices.ContainsFunc(r.After.Findings, func(f *proof.Finding) bool { return f.Name == k.Name && len(f.Fixes) > 0 }) {
			t.Errorf("%s is still there after the fix", k.Name)
		}
	}
	const golden = "testdata/fixed.txt"
	if *write {
		if err := os.WriteFile(golden, []byte(out.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, _ := os.ReadFile(golden)
	if out.String() != string(want) {
		t.Errorf("the fixes are others than in %s: run go test ./docs -run Fixes -write, and read them\n%s", golden, udiff.Unified("want", "got", string(want), out.String()))
	}
}
