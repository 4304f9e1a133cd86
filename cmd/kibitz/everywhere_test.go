package main

import (
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"fmt"
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

// What machines read is well formed, and says the same as what people read.
func TestEverySituationForMachines(t *testing.T) {
	for _, s := range allSituations {
		t.Run(strings.ReplaceAll(s.name, " ", "-"), func(t *testing.T) {
			t.Parallel()
			dir := harbourIn(t, s)
			text, _, status := kibitz(t, dir, "", "check", "-notes", "all")
			for _, form := range []string{"json", "sarif"} {
				out, errs, same := kibitz(t, dir, "", "check", "-notes", "all", "-as", form)
				if same != status || !json.Valid([]byte(out)) {
					t.Errorf("check -as %s: status %d, and %d as text\n%s%s", form, same, status, out, errs)
				}
			}
			for _, kind := range strings.Fields(s.finds + " " + s.notes) {
				if !strings.Contains(text, "  "+kind+"   site.kibitz:") {
					t.Errorf("%s is not in the text:\n%s", kind, text)
				}
			}
			lines, _, _ := kibitz(t, dir, "", "replay", "-each", "-as", "jsonl", "list.txt")
			table, _, _ := kibitz(t, dir, "", "replay", "-each", "-as", "csv", "list.txt")
			rows, err := csv.NewReader(strings.NewReader(table)).ReadAll()
			if err != nil {
				t.Fatal(err)
			}
			column := slices.Index(rows[0], "status")
			for i, line := range strings.Split(strings.TrimSpace(lines), "\n") {
				var l struct {
					Status any
					URL    string
				}
				if err := json.Unmarshal([]byte(line), &l); err != nil || fmt.Sprint(l.Status) != rows[i+1][column] || !slices.Contains(rows[i+1], l.URL) {
					t.Errorf("line %d: %s (%v), and as CSV %s", i+1, line, err, rows[i+1])
				}
			}
			cases, _, _ := kibitz(t, dir, "", "replay", "-as", "junit", "list.txt")
			if err := xml.Unmarshal([]byte(cases), new(struct {
				XMLName xml.Name `xml:"testsuite"`
			})); err != nil {
				t.Errorf("%v in %s", err, cases)
			}
		})
	}
}
