package proof

import (
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"kibitz/core/engine"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// adviced is an entry that advice says to write.
var adviced = regexp.MustCompile(`   ((?:redirect|access|header|error|folder|media) \S+ \S.*)$`)

// What advice says to write can be written: with it at the head of the site, the finding is
// gone, and no error has come.
func TestAdviceCanBeTaken(t *testing.T) {
	names, _ := filepath.Glob("testdata/*.kibitz")
	taken := map[string]int{}
	for _, name := range names {
		text, e := engineOf(t, name)
		report := CheckAll(e, 1)
		had := map[string]bool{}
		for _, f := range report.Findings {
			had[f.Name] = true
		}
		for _, f := range report.Findings {
			m := adviced.FindStringSubmatch(f.Advice)
			if m == nil || strings.Contains(m[1], "…") {
				continue
			}
			lines := strings.Split(text, "\n")
			at := 0
			for i, line := range lines {
				if strings.HasPrefix(line, "site ") && i < f.Place.Line || strings.HasPrefix(line, "site ") && at == 0 {
					at = i + 1
				}
			}
			for at < len(lines) && strings.HasPrefix(lines[at], " ") {
				at++
			}
			after := strings.Join(append(append(append([]string(nil), lines[:at]...), m[1]), lines[at:]...), "\n")
			book, err := rulebook.Read(name, []byte(after), readTable)
			if err != nil {
				t.Errorf("%s: %s: the advice cannot be read: %s: %v", name, f.Name, m[1], err)
				continue
			}
			trees := make([]*site.Tree, len(book.Sites))
			for i, s := range book.Sites {
				if trees[i] = tree(); s.Files == "testdata/loose" {
					trees[i] = looseTree()
				}
			}
			taken[f.Name]++
			for _, now := range CheckAll(engine.New(book, trees), 1).Findings {
				if now.Name == f.Name && now.Message == f.Message {
					t.Errorf("%s: %s is still there with: %s\n\t%s", name, f.Name, m[1], f.Message)
				}
				if now.Severity == Error && now.Name != "never-reached" && !had[now.Name] {
					t.Errorf("%s: %s: with %s there is a new error: %s", name, f.Name, m[1], now.Message)
				}
			}
		}
	}
	for _, want := range []string{"exposed", "split-address", "password-in-clear", "vary-missing"} {
		if taken[want] == 0 {
			t.Errorf("no advice of %s was taken", want)
		}
	}
}
