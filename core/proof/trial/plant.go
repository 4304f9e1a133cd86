package trial

// Faults that are planted into good rulebooks.

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"kibitz/core/engine"
	"kibitz/core/proof"
	"kibitz/core/request"
)

// Good is a rulebook in which nothing but notes is found, with GoodFiles for its
// tree: one more to plant faults into.
const Good = `site s address https://s.example files public hosts www.s.example
redirect secure when scheme http to https://{host}{path} as permanent
redirect name when host www.s.example to https://s.example{path} as permanent
access crew in /crew/ unless client 192.0.2.0/24 refuse 403
access office in /office/ unless client 198.51.100.0/24 refuse 403
redirect special on /old/map to /maps/ as permanent
redirect general on /old/:x to /new/{x}.html as permanent
redirect short on /m to /maps/ as 303
redirect shorter on /c to /new/a.html as 303
redirect german on /start when cookie.lang de to /new/a.html as 302
redirect start on /start to /maps/ as 302
rewrite plan on /plan/:x to /new/{x}.html
reply closed on /closed with 503 text closed
`

// GoodFiles are the files of Good.
var GoodFiles = map[string]string{"/index.html": "x", "/maps/index.html": "m", "/crew/rota.html": "r", "/office/keys.html": "k", "/new/a.html": "a"}

// A Mutant is a rulebook with one fault planted.
type Mutant struct {
	Fault string
	Text  string
}

// Faults are the ways in which Mutate harms a rulebook.
var Faults = []string{"drop a condition", "swap two entries", "broaden a pattern", "go around a guard", "redirect back"}

// Mutate plants one fault of a kind at random; ok is false where the rulebook
// has no place for it. Entries of one line are changed, others stay.
func Mutate(r *rand.Rand, text, fault string) (m Mutant, ok bool) {
	lines := strings.Split(text, "\n")
	var at []int
	for i, line := range lines {
		word, _, _ := strings.Cut(line, " ")
		alone := i+1 == len(lines) || !strings.HasPrefix(lines[i+1], " ")
		switch word {
		case "redirect", "rewrite", "access", "reply", "handoff":
			if alone {
				at = append(at, i)
			}
		}
	}
	r.Shuffle(len(at), func(i, j int) { at[i], at[j] = at[j], at[i] })
	for _, i := range at {
		out := slices.Clone(lines)
		if plant(r, out, i, fault) {
			return Mutant{fault, strings.Join(out, "\n")}, true
		}
	}
	return m, false
}

// plant puts a fault into line i.
func plant(r *rand.Rand, lines []string, i int, fault string) bool {
	words := strings.Fields(lines[i])
	value := func(word string) (int, string) {
		for j := 2; j+1 < len(words); j++ {
			if words[j] == word {
				return j, words[j+1]
			}
		}
		return -1, ""
	}
	switch fault {
	case "drop a condition":
		for _, word := range []string{"when", "unless"} {
			if j, _ := value(word); j > 0 && j+2 < len(words) && !strings.HasPrefix(words[j+1], "cookie") {
				end := j + 3
				for end < len(words) && !slices.Contains([]string{"to", "as", "refuse", "ask", "admit", "when", "unless", "on", "in", "with", "then"}, words[end]) {
					end++
				}
				lines[i] = strings.Join(slices.Delete(words, j, end), " ")
				return true
			}
		}
	case "swap two entries":
		for j := i + 1; j < len(lines); j++ {
			word, _, _ := strings.Cut(lines[j], " ")
			if word == words[0] && (j+1 == len(lines) || !strings.HasPrefix(lines[j+1], " ")) {
				lines[i], lines[j] = lines[j], lines[i]
				return true
			}
		}
	case "broaden a pattern":
		if j, on := value("on"); j > 0 && !strings.HasPrefix(on, "~") && strings.Count(on, "/") >= 1 && !strings.Contains(lines[i], "{") {
			words[j+1] = on[:strings.LastIndex(on, "/")+1] + "*"
			lines[i] = strings.Join(words, " ")
			return true
		}
	case "go around a guard":
		if j, in := value("in"); j > 0 && words[0] == "access" && !slices.Contains(words, "admit") {
			first := slices.IndexFunc(lines, func(l string) bool { return strings.HasPrefix(l, "redirect") || strings.HasPrefix(l, "access") })
			lines[first] = fmt.Sprintf("rewrite planted-alias on /planted/* to %s{1} then finish\n%s", in, lines[first])
			return true
		}
	case "redirect back":
		j, on := value("on")
		k, to := value("to")
		if j > 0 && k > 0 && words[0] == "redirect" && !strings.ContainsAny(on+to, ":*~({?") && strings.HasPrefix(to, "/") {
			lines[i] += fmt.Sprintf("\nredirect planted-back on %s to %s as permanent", to, on)
			return true
		}
	}
	return false
}

// Caught says what became of a mutant: a new finding, no difference to any of
// the requests, or neither.
type Caught int

const (
	Missed Caught = iota
	Found
	Same // it answers everything as the rulebook did
)

// Try checks a mutant against what was found in the rulebook that it is made of.
func Try(before *engine.Engine, known *proof.Report, after *engine.Engine, requests []*request.Request) Caught {
	old := map[string]bool{}
	for _, f := range known.Findings {
		old[key(f)] = true
	}
	report := proof.Check(after, 1)
	for _, f := range report.Findings {
		if !old[key(f)] {
			return Found
		}
	}
	for _, req := range append(requests, proof.Requests(after)...) {
		a, b := before.Predict(req), after.Predict(req)
		if a.Status != b.Status || a.Location != b.Location || a.File != b.File {
			return Missed
		}
	}
	return Same
}

func key(f *proof.Finding) string {
	key := f.Name
	for _, r := range f.Rules {
		key += " " + r.Name
	}
	return key
}
