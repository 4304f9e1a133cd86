package proof

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"kibitz/core/engine"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

var write = flag.Bool("write", false, "write testdata/claims.txt anew")

// What is claimed of each entry of the rulebooks of testdata, proved or only tried, is as
// it was when it was last read by somebody: run with -write, and read what has changed.
func TestClaims(t *testing.T) {
	names, _ := filepath.Glob("testdata/*.kibitz")
	var b strings.Builder
	for _, name := range names {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		book, err := rulebook.Read(name, text, readTable)
		if err != nil {
			t.Fatal(err)
		}
		trees := make([]*site.Tree, len(book.Sites))
		for i, s := range book.Sites {
			if trees[i] = tree(); s.Files == "testdata/loose" {
				trees[i] = looseTree()
			}
		}
		fmt.Fprintln(&b, filepath.Base(name))
		for _, c := range Check(engine.New(book, trees), 1).Claims {
			if c.State != Found && c.Entries+c.Sites > 0 {
				fmt.Fprintf(&b, "  %-22s %-7s %d %s\n", c.Finding, c.State, c.Entries+c.Sites, strings.Join(c.Rules, " "))
			}
		}
	}
	const file = "testdata/claims.txt"
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
			t.Fatalf("from line %d on, %s is not what is claimed:\n%s", i+1, file, strings.Join(is[min(i, len(is)):], "\n"))
		}
	}
}

// Two looks at one rulebook come to the same, word by word.
func TestCheckSaysTheSameEachTime(t *testing.T) {
	names, _ := filepath.Glob("testdata/*.kibitz")
	for _, name := range append(names, "media") {
		text := []byte("site s address https://s.example files public\nmedia a type css text/css type js text/javascript type png image/png type txt text/plain type html text/html\nmedia b type css text/x type js text/x type png image/x type txt text/x type html text/x\n")
		if name != "media" {
			var err error
			if text, err = os.ReadFile(name); err != nil {
				t.Fatal(err)
			}
		}
		first := ""
		for n := range 4 {
			book, err := rulebook.Read(name, text, readTable)
			if err != nil {
				t.Fatal(err)
			}
			trees := make([]*site.Tree, len(book.Sites))
			for i := range trees {
				trees[i] = tree()
			}
			var b strings.Builder
			report := Check(engine.New(book, trees), 1)
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
