package trial

// Faults that are planted into good rulebooks.

import (
	"fmt"
	"math/rand/v2"
	"regexp"
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

// A fault changes one line of a rulebook, the one at i, or those beside it; ok is false
// where it has no place there.
type fault struct {
	name  string
	plant func(lines []string, i int) (planted []string, ok bool)
}

// Faults are the names of the ways in which Mutate harms a rulebook.
func Faults() []string {
	var out []string
	for _, f := range faults {
		out = append(out, f.name)
	}
	return out
}

var faults = []fault{
	{"drop a condition", dropCondition},
	{"swap two entries", swapEntries},
	{"broaden a pattern", changed(`^(redirect|rewrite|reply|handoff|access) (.* on /[^ ~{]*/)[^ /~{]+( .*)$`, "$1 $2*$3")},
	{"go around a guard", func(lines []string, i int) ([]string, bool) {
		m := guardIn.FindStringSubmatch(lines[i])
		first := slices.IndexFunc(lines, func(l string) bool { return strings.HasPrefix(l, "redirect") || strings.HasPrefix(l, "access") })
		if m == nil || strings.Contains(lines[i], " admit") {
			return nil, false
		}
		return slices.Insert(slices.Clone(lines), first, fmt.Sprintf("rewrite planted-alias on /planted/* to %s{1} then finish", m[1])), true
	}},
	{"redirect back", func(lines []string, i int) ([]string, bool) {
		m := plainRedirect.FindStringSubmatch(lines[i])
		if m == nil {
			return nil, false
		}
		return slices.Insert(slices.Clone(lines), i+1, fmt.Sprintf("redirect planted-back on %s to %s as permanent", m[2], m[1])), true
	}},
	{"misspell a target", changed(`^(redirect .* to /[^ {?#]*[a-z])(/?(?: .*)?)$`, "${1}x$2")},
	{"forget a slash", changed(`^(redirect .* to /[^ {?#]*[a-z])/( .*|)$`, "$1$2")},
	{"unescape a dot", changed(`^(.* on ~[^ ]*)\\\.([a-z(].*)$`, "$1.$2")},
	{"keep a condition for ever", changed(`^(redirect .* (?:when|unless) (?:cookie|language|agent|time).* as )(?:temporary|302|303|307)(.*)$`, "${1}permanent$2")},
	{"lead to http", changed(`^(redirect .* to )https:(.*)$`, "${1}http:$2")},
	{"misname an error page", changed(`^(error .* show /[^ ]*)\.html(.*)$`, "${1}x.html$2")},
	{"take a unit wrongly", changed(`^(header .*max-age=)\d+(.*)$`, "${1}1y$2")},
	{"say it twice", func(lines []string, i int) ([]string, bool) {
		m := twice.FindStringSubmatch(lines[i])
		if m == nil || strings.Contains(lines[i], " admit") {
			return nil, false
		}
		return slices.Insert(slices.Clone(lines), i+1, m[1]+" planted-again "+m[2]), true
	}},
	{"misspell an own host", changed(`^(redirect .* to https://[^ /{]*?)([a-z])([a-z.]+\.example[/{ ].*)$`, "$1$3")},
	{"turn a guard round", changed(`^(access .*) unless (client .*)$`, "$1 when $2")},
	{"let leftovers out", removed(`^access leftovers `)},
	{"fall back for all", changed(`^(fallback [^ ]+ +)on (/[a-z]+/)[^ ]*(?: /[^ ]+)*( +to .*)$`, "${1}in $2$3")},
	{"start again", func(lines []string, i int) ([]string, bool) {
		m := rewritten.FindStringSubmatch(lines[i])
		if m == nil {
			return nil, false
		}
		return replaced(lines, i, fmt.Sprintf("rewrite %s on %s* to %s{1} then again", m[1], m[2], m[2])), true
	}},
	{"hint in vain", changed(`^(hint .* preload /[^ ]*)\.css(.*)$`, "${1}x.css$2")},
	{"break an example", changed(`^( +example .* => )200(.*)$`, "${1}301$2")},
	{"admit all", func(lines []string, i int) ([]string, bool) {
		if m := guardIn.FindStringSubmatch(lines[i]); m == nil || strings.Contains(lines[i], " admit") {
			return nil, false
		}
		return slices.Insert(slices.Clone(lines), i, "access planted-open in / admit"), true
	}},
	{"carry a $1 over", changed(`^((?:redirect|rewrite) .* to [^ ]*)\{1\}(.*)$`, "${1}$$1$2")},
	{"ask in clear", func(lines []string, i int) ([]string, bool) {
		if !strings.HasPrefix(lines[i], "redirect secure ") || !strings.Contains(strings.Join(lines, "\n"), " ask ") {
			return nil, false
		}
		return slices.Delete(slices.Clone(lines), i, i+1), true
	}},
	{"keep errors for long", changed(`^(header .*) for 200( .*max-age=\d{6,}.*)$`, "$1$2")},
	{"part by commas", changed(`^(.* when (?:host|method|cookie[^ ]*) [^ ,]+)( [a-zA-Z*][^ ]* .*)$`, "$1,$2")},
	{"lead to what is gone", func(lines []string, i int) ([]string, bool) {
		gone := ""
		for _, l := range lines {
			if m := goneAt.FindStringSubmatch(l); m != nil {
				gone = m[1]
			}
		}
		m := plainRedirect.FindStringSubmatch(lines[i])
		if m == nil || gone == "" {
			return nil, false
		}
		return replaced(lines, i, strings.Replace(lines[i], " to "+m[2], " to "+gone, 1)), true
	}},
}

var (
	guardIn       = regexp.MustCompile(`^access .* in (/[^ ]+/) `)
	plainRedirect = regexp.MustCompile(`^redirect .* on (/[^ :*~({?]+) +to (/[^ :*~({?]*)(?: |$)`)
	twice         = regexp.MustCompile(`^(redirect|reply|handoff|access) +[^ ]+ +((?:on|in) .*)$`)
	rewritten     = regexp.MustCompile(`^rewrite +([^ ]+) +on (/[a-z]+/)`)
	goneAt        = regexp.MustCompile(`^reply .* on (/[^ :*]+) .* with 410`)
)

// changed is a fault that replaces what an expression takes.
func changed(expression, by string) func([]string, int) ([]string, bool) {
	re := regexp.MustCompile(expression)
	return func(lines []string, i int) ([]string, bool) {
		if !re.MatchString(lines[i]) {
			return nil, false
		}
		return replaced(lines, i, re.ReplaceAllString(lines[i], by)), true
	}
}

// removed is a fault that takes an entry out.
func removed(expression string) func([]string, int) ([]string, bool) {
	re := regexp.MustCompile(expression)
	return func(lines []string, i int) ([]string, bool) {
		if !re.MatchString(lines[i]) {
			return nil, false
		}
		return slices.Delete(slices.Clone(lines), i, i+1), true
	}
}

func replaced(lines []string, i int, line string) []string {
	out := slices.Clone(lines)
	out[i] = line
	return out
}

// Mutate plants one fault of a kind at random; ok is false where the rulebook
// has no place for it. Entries of one line are changed, others stay.
func Mutate(r *rand.Rand, text, name string) (m Mutant, ok bool) {
	lines := strings.Split(text, "\n")
	plant := faults[slices.IndexFunc(faults, func(f fault) bool { return f.name == name })].plant
	for _, i := range r.Perm(len(lines)) {
		whole := i+1 == len(lines) || !strings.HasPrefix(lines[i+1], " ") || strings.HasPrefix(lines[i], " ")
		if !whole {
			continue
		}
		if out, ok := plant(lines, i); ok {
			if planted := strings.Join(out, "\n"); planted != text {
				return Mutant{name, planted}, true
			}
		}
	}
	return m, false
}

// dropCondition takes the first condition out, with its values.
func dropCondition(lines []string, i int) ([]string, bool) {
	words := strings.Fields(lines[i])
	if len(words) == 0 || !slices.Contains([]string{"redirect", "rewrite", "access", "reply", "handoff"}, words[0]) {
		return nil, false
	}
	for j := 2; j+2 < len(words); j++ {
		if words[j] != "when" && words[j] != "unless" || strings.HasPrefix(words[j+1], "cookie") {
			continue
		}
		end := j + 3
		for end < len(words) && !slices.Contains([]string{"to", "as", "refuse", "ask", "admit", "when", "unless", "on", "in", "with", "then"}, words[end]) {
			end++
		}
		return replaced(lines, i, strings.Join(slices.Delete(words, j, end), " ")), true
	}
	return nil, false
}

// swapEntries swaps an entry with the next one of its kind.
func swapEntries(lines []string, i int) ([]string, bool) {
	kind, _, _ := strings.Cut(lines[i], " ")
	if !slices.Contains([]string{"redirect", "rewrite", "access", "reply", "handoff"}, kind) {
		return nil, false
	}
	for j := i + 1; j < len(lines) && !strings.HasPrefix(lines[j], "site "); j++ {
		if word, _, _ := strings.Cut(lines[j], " "); word == kind && (j+1 == len(lines) || !strings.HasPrefix(lines[j+1], " ")) {
			out := slices.Clone(lines)
			out[i], out[j] = out[j], out[i]
			return out, true
		}
	}
	return nil, false
}

// Caught says what became of a mutant.
type Caught int

const (
	Missed Caught = iota
	Found         // a new error or warning
	Noted         // a new note
	Same          // it answers everything as the rulebook did
)

// Try checks a mutant against what was found in the rulebook that it is made of.
func Try(before *engine.Engine, known *proof.Report, after *engine.Engine, requests []*request.Request) Caught {
	old := map[string]int{}
	for _, f := range known.Findings {
		old[key(f)] += f.Count
	}
	caught := Missed
	for _, f := range proof.Check(after, 1).Findings {
		if old[key(f)] >= f.Count {
			continue
		}
		if f.Severity != proof.Note {
			return Found
		}
		caught = Noted
	}
	if caught == Noted {
		return Noted
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

// Changed gives the first line in which two texts differ, as the second has it.
func Changed(before, after string) string {
	was, is := strings.Split(before, "\n"), strings.Split(after, "\n")
	for i, line := range is {
		if i >= len(was) || was[i] != line {
			return line
		}
	}
	return ""
}
