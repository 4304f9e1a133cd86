package fix

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"kibitz/core/engine"
	"kibitz/core/proof"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

func none(string) ([]byte, error) { return nil, os.ErrNotExist }

func read(t *testing.T, text string) *engine.Engine {
	t.Helper()
	book, err := rulebook.Read("site.kibitz", []byte(text), none)
	if err != nil {
		t.Fatal(err)
	}
	return engine.New(book, []*site.Tree{site.Memory(map[string]string{"/index.html": "home", "/fares/index.html": "fares", "/old.sql": "dump"})})
}

// What a finding advises is run: it fails where the finding stays, where what is written
// cannot be read, and where an answer changes that it is not about.
func TestAdviceThatFails(t *testing.T) {
	e := read(t, "site s address https://s.example files public\nredirect secure in /fares/ to https://{host}{path} as permanent\n    example /fares/ => 200\n")
	report := proof.Check(e, 1)
	var loop *proof.Finding
	for _, f := range report.Findings {
		if f.Name == "redirect-loop" {
			loop = f
		}
	}
	if loop == nil || len(loop.Fixes) == 0 {
		t.Fatalf("%+v has no way to try", loop)
	}
	rule := e.Book.Rules[0]
	for name, test := range map[string]struct {
		clause string
		fails  bool
	}{
		"as it is advised":                  {"", false},
		"a condition that keeps the circle": {"when scheme https", true},
		"a condition that cannot be":        {"when schema http", true},
		"a condition that holds but once":   {"when method POST", false},
	} {
		ways := loop.Fixes
		if test.clause != "" {
			ways = []proof.Fix{{Says: test.clause, Edits: []rulebook.Edit{rule.With(test.clause)}}}
		}
		with := *loop
		with.Fixes = ways
		findings := []*proof.Finding{&with}
		if got := Fails(e, &proof.Report{Findings: findings}, findings, none)[&with]; got != test.fails {
			t.Errorf("%s: fails %v, want %v", name, got, test.fails)
		}
	}
}

// The larger a rulebook, the fewer findings have their ways run.
func TestFewWaysAreRunOfALargeRulebook(t *testing.T) {
	for entries, want := range map[int]int{2: mostFindings, 1_000: mostEntries / 1_000, mostEntries + 5: 0} {
		var book strings.Builder
		book.WriteString("site s address https://s.example files public\n")
		for i := range entries {
			fmt.Fprintf(&book, "redirect r%d on /%d to / as permanent\n", i, i)
		}
		e := read(t, book.String())
		var findings []*proof.Finding
		for range 30 {
			findings = append(findings, &proof.Finding{Name: "chain", Fixes: []proof.Fix{{Says: "nothing"}}})
		}
		if got := Fails(e, &proof.Report{Findings: findings}, findings, none); len(got) != want {
			t.Errorf("of %d entries %d findings have their ways run, want %d", entries, len(got), want)
		}
	}
}
