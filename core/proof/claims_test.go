package proof

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"kibitz/core/rulebook"
)

var write = flag.Bool("write", false, "write testdata/claims.txt anew")

// What is claimed of each entry of the rulebooks of testdata, proved or only tried, is as
// it was when it was last read by somebody: run with -write, and read what has changed.
func TestClaims(t *testing.T) {
	golden(t, "testdata/claims.txt", func(b *strings.Builder, report *Report) {
		for _, c := range report.Claims {
			if c.State != Found && c.Entries+c.Sites > 0 {
				fmt.Fprintf(b, "  %-22s %-7s %d %s", c.Finding, c.State, c.Entries+c.Sites, strings.Join(c.Names, " "))
				if c.State == Tried || c.State == Open {
					fmt.Fprintf(b, ": %s", c.Why)
				}
				b.WriteString("\n")
			}
		}
	})
}

// And so is the wording of what is found.
func TestWording(t *testing.T) {
	golden(t, "testdata/findings.txt", func(b *strings.Builder, report *Report) {
		for _, f := range report.Findings {
			fmt.Fprintf(b, "  %d %s %d×", f.Place.Line, f.Name, f.Count)
			for _, r := range f.Rules {
				fmt.Fprint(b, " ", r.Name)
			}
			if f.Request != nil {
				fmt.Fprintf(b, "   %s %s", f.Request.Verb(), f.Request.Address)
			}
			fmt.Fprintf(b, "\n    %s\n    %s\n", f.Message, f.Advice)
		}
	})
}

// golden holds what is written of each rulebook of testdata against a file.
func golden(t *testing.T, file string, say func(*strings.Builder, *Report)) {
	t.Helper()
	names, _ := filepath.Glob("testdata/*.kibitz")
	var b strings.Builder
	for _, name := range names {
		_, e := engineOf(t, name)
		fmt.Fprintln(&b, filepath.Base(name))
		say(&b, CheckAll(e, 1))
	}
	if *write {
		if err := os.WriteFile(file, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	was, is := strings.Split(string(want), "\n"), strings.Split(b.String(), "\n")
	for i := range max(len(was), len(is)) {
		if i >= len(was) || i >= len(is) || was[i] != is[i] {
			t.Fatalf("from line %d on, %s is not what is said:\n%s", i+1, file, strings.Join(is[min(i, len(is)):], "\n"))
		}
	}
}

// Two looks at one rulebook come to the same, word by word.
func TestCheckSaysTheSameEachTime(t *testing.T) {
	names, _ := filepath.Glob("testdata/*.kibitz")
	for _, name := range names {
		first := ""
		for n := range 4 {
			_, e := engineOf(t, name)
			var b strings.Builder
			report := CheckAll(e, 1)
			for _, f := range report.Findings {
				fmt.Fprintln(&b, f.Name, f.Place, f.Message, f.Advice, f.Request)
			}
			fmt.Fprintf(&b, "%+v", report.Claims)
			if n == 0 {
				first = b.String()
			} else if b.String() != first {
				t.Fatalf("%s: once\n%s\nand then\n%s", name, first, b.String())
			}
		}
	}
}

// Reasons are given once each, with those that have them: the first of either, and how many
// more there are.
func TestReasonsAreGathered(t *testing.T) {
	c := &checker{claims: map[subject]knowledge{}}
	all := func(reasons int, each int) (list []subject) {
		for i := range reasons * each {
			s := subject{rule: &rulebook.Rule{Name: fmt.Sprintf("e%d", i)}}
			c.claims[s] = knowledge{Tried, fmt.Sprintf("why%d", i%reasons)}
			list = append(list, s)
		}
		return list
	}
	for _, test := range []struct {
		reasons, each int
		want          string
	}{
		{1, 9, "why0"},
		{2, 1, "e0: why0; e1: why1"},
		{4, 1, "e0: why0; e1: why1; e2: why2; e3: why3"},
		{5, 1, "e0: why0; e1: why1; e2: why2; e3: why3; and one more reason"},
		{7, 1, "e0: why0; e1: why1; e2: why2; e3: why3; and 3 more reasons"},
		{2, 5, "e0, e2, e4, e6 and 1 more: why0; e1, e3, e5, e7 and 1 more: why1"},
	} {
		if got := c.reasons(all(test.reasons, test.each), "how"); got != test.want {
			t.Errorf("%d reasons of %d each: %s, want %s", test.reasons, test.each, got, test.want)
		}
	}
	if got := c.reasons([]subject{{rule: &rulebook.Rule{Name: "x"}}}, "how"); got != "how" {
		t.Errorf("without one of its own: %s", got)
	}
}
