package main

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// allSituations are those of all files of tests.
var allSituations = slices.Concat(rebuilding, files, guarding, sending, mistakes, tidying, slips, corners, serving)

// What must be so of every rulebook, whatever it says.
func TestEverySituation(t *testing.T) {
	for _, s := range allSituations {
		t.Run(strings.ReplaceAll(s.name, " ", "-"), func(t *testing.T) {
			t.Parallel()
			dir := harbourIn(t, s)
			each := func(args ...string) string {
				t.Helper()
				out, errs, status := kibitz(t, dir, "", append([]string{"replay", "-each", "-as", "jsonl", "list.txt"}, args...)...)
				if status != 0 {
					t.Errorf("replay %v: status %d\n%s%s", args, status, out, errs)
				}
				return out
			}
			plain := each()

			// The number of workers changes nothing.
			if again := each("-workers", "3"); again != plain {
				t.Errorf("by three workers:\n%s\nby all:\n%s", again, plain)
			}

			// Nothing changes from a rulebook to itself.
			if out, errs, status := kibitz(t, dir, "", "compare", "site.kibitz", "site.kibitz", "list.txt"); status != 0 || !strings.Contains(out, "Nothing changes.") {
				t.Errorf("compared with itself: status %d\n%s%s", status, out, errs)
			}

			// A tally that is kept says what was said.
			sums, _, _ := kibitz(t, dir, "", "replay", "list.txt", "-as", "json", "-save", "kept.json")
			if merged, errs, _ := kibitz(t, dir, "", "replay", "-merge", "kept.json", "-as", "json"); merged != sums {
				t.Errorf("merged:\n%s%s\nas it was:\n%s", merged, errs, sums)
			}

			// In columns it means the same, and its columns are settled.
			if _, errs, status := kibitz(t, dir, "", "format", "-write", "site.kibitz"); status != 0 {
				t.Fatalf("format: status %d\n%s", status, errs)
			}
			if out, errs, status := kibitz(t, dir, "", "format", "-check", "site.kibitz"); status != 0 {
				t.Errorf("it is not laid out: status %d\n%s%s", status, out, errs)
			}
			if again := each(); places.ReplaceAllString(again, "") != places.ReplaceAllString(plain, "") {
				t.Errorf("in columns:\n%s\nbefore:\n%s", again, plain)
			}

			// An inventory stands for the files, but for what only they can tell.
			if strings.Contains(s.rules, "fill on") {
				return
			}
			listing, errs, status := kibitz(t, dir, "", "inventory", "public")
			if status != 0 {
				t.Fatal(errs)
			}
			text, err := os.ReadFile(filepath.Join(dir, "site.kibitz"))
			if err != nil {
				t.Fatal(err)
			}
			other := write(t, map[string]string{"tree.csv": listing, "list.txt": s.list + "\n", "site.kibitz": filesClause.ReplaceAllString(string(text), "inventory tree.csv")})
			for _, name := range []string{"crew.accounts", "moves.csv"} {
				if err := os.Link(filepath.Join(dir, name), filepath.Join(other, name)); err != nil {
					t.Fatal(err)
				}
			}
			dir = other
			// What is not stored encoded has a size that only the file tells.
			without := func(s string) string { return encodedSizes.ReplaceAllString(places.ReplaceAllString(s, ""), "") }
			if again := each(); without(again) != without(plain) {
				t.Errorf("by its inventory:\n%s\nby its files:\n%s", again, plain)
			}
		})
	}
}

var (
	places       = regexp.MustCompile(`"at":"[^"]*",?|site\.kibitz:\d+`)
	filesClause  = regexp.MustCompile(`files +public`)
	encodedSizes = regexp.MustCompile(`"encoded":-?\d+,?|"content-length":\["\d+"\],?`)
)
