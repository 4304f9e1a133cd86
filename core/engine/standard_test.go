package engine

// A second reading of patterns: the steps of the WHATWG URL Pattern standard
// ("generate a regular expression and name list") over the regexp package, for
// random patterns of every construct, held against all the ways in which this
// program reads one.

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"kibitz/core/canonical"
	"kibitz/core/pattern"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// A piece is a part of a pattern: fixed text, where re is empty, or a group.
type piece struct {
	name, re             string // re as written: `*`, "" for a segment, or an expression
	group                bool
	prefix, text, suffix string
	modifier             string
	source               string // how it is written
}

// randomPattern gives a pattern and its pieces.
func randomPattern(r *rand.Rand) (text string, pieces []piece) {
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	fixed := func() string {
		return pick("a", "ab", "x-", "b/", "/b", ".", "ä", "é", "%2F", "%20", "A", "k", "/", "c/a", "1", "S", "%FF", "ab/ä")
	}
	names := []string{"x", "y", "jahr", "größe", "℘"}
	text = "/"
	pieces = append(pieces, piece{text: "/"})
	for range 1 + r.IntN(4) {
		p := piece{}
		if r.IntN(3) == 0 {
			p.text = fixed()
			if p.modifier = pick("", "", "?", "+", "*"); p.modifier != "" {
				p.source = "{" + p.text + "}" + p.modifier
			} else {
				p.source = p.text
			}
		} else {
			p.group = true
			if len(names) > 0 && r.IntN(3) > 0 {
				i := r.IntN(len(names))
				p.name = names[i]
				names = slices.Delete(names, i, i+1)
			}
			p.re = pick("", "", "*", `\d+`, `\d{2}`, `[a-c]{1,2}`, `a|bc`, `[^x]+`, `(?:ab)+`, `ä|ö`, `\w*`, `.`, `[à-ü]`, `a{2,}?b?`, `(?:a|ab)(?:c|bcd)?`, `(?i:K)+`, `[^\/]{1,3}`)
			if p.name == "" && p.re == "" {
				p.re = "*"
			}
			if p.re == "*" {
				p.name = ""
			}
			inner := p.re
			switch {
			case p.re == "":
				inner = ":" + p.name
			case p.re != "*" && p.name != "":
				inner = ":" + p.name + "(" + p.re + ")"
			case p.re != "*":
				inner = "(" + p.re + ")"
			}
			p.modifier = pick("", "", "", "?", "+", "*")
			switch last := text[len(text)-1]; {
			case r.IntN(2) == 0 && last != '/' && (p.re != "*" || !strings.HasSuffix(text, "}") && !strings.HasSuffix(text, ")")):
				p.prefix = "/"
				p.source = "/" + inner + p.modifier
			default:
				p.prefix, p.suffix = pick("", "", "/", "a", "ä-", "%2F"), pick("", "", "", "/", "b", "-é")
				if p.re == "" && p.suffix == "b" {
					p.suffix = ".b" // b would belong to the name
				}
				p.source = "{" + p.prefix + inner + p.suffix + "}" + p.modifier
			}
		}
		// What follows a name must not go on with it, and a modifier must not follow.
		if last := pieces[len(pieces)-1]; last.group && !p.group && !strings.HasSuffix(last.source, "}") && !strings.ContainsAny(last.source[len(last.source)-1:], "})?+*") && p.modifier == "" && !strings.HasPrefix(p.text, "/") {
			p.text = "/" + p.text
			p.source = p.text
		}
		pieces = append(pieces, p)
		text += p.source
	}
	return text, pieces
}

// characters gives the characters of canonical text; what is a character of its
// own stands where no other does.
func characters(text string) string {
	var out strings.Builder
	for raw := canonical.Marked(text); raw != ""; {
		if strings.HasPrefix(raw, "%!") {
			out.WriteRune(0xE000 + rune(canonical.Decode("%" + raw[2:4])[0]))
			raw = raw[4:]
			continue
		}
		n := 1
		if raw[0] == '%' {
			n = 3
		}
		out.WriteString(canonical.Decode(raw[:n]))
		raw = raw[n:]
	}
	return out.String()
}

// standard generates the regular expression of pieces.
func standard(pieces []piece, fold bool) *regexp.Regexp {
	quote := func(s string) string {
		text, err := canonical.Text(s)
		if err != nil {
			panic(err)
		}
		return regexp.QuoteMeta(characters(text))
	}
	var b strings.Builder
	for _, p := range pieces {
		if !p.group {
			if p.modifier == "" {
				b.WriteString(quote(p.text))
			} else {
				b.WriteString("(?:" + quote(p.text) + ")" + p.modifier)
			}
			continue
		}
		re := p.re
		switch re {
		case "":
			re = "[^/]+?"
		case "*":
			re = ".*"
		}
		prefix, suffix := quote(p.prefix), quote(p.suffix)
		once := p.modifier == "" || p.modifier == "?"
		switch {
		case prefix == "" && suffix == "" && once:
			b.WriteString("(" + re + ")" + p.modifier)
		case prefix == "" && suffix == "":
			b.WriteString("((?:" + re + ")" + p.modifier + ")")
		case once:
			b.WriteString("(?:" + prefix + "(" + re + ")" + suffix + ")" + p.modifier)
		default:
			b.WriteString("(?:" + prefix + "((?:" + re + ")(?:" + suffix + prefix + "(?:" + re + "))*)" + suffix + ")")
			if p.modifier == "*" {
				b.WriteString("?")
			}
		}
	}
	flags := "s"
	if fold {
		flags = "si"
	}
	return regexp.MustCompile(`\A(?` + flags + ":" + b.String() + `)\z`)
}

// nearPath gives a path that the pieces take, nearly take, or do not.
func nearPath(r *rand.Rand, pieces []piece) string {
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	path := ""
	for _, p := range pieces {
		times := 1
		switch p.modifier {
		case "?":
			times = r.IntN(2)
		case "+":
			times = 1 + r.IntN(3)
		case "*":
			times = r.IntN(3)
		}
		for range times {
			if !p.group {
				path += p.text
				continue
			}
			path += p.prefix + pick("a", "ab", "2024", "12", "abcd", "ä", "K", "%2F", "x", "a/b", "aab", "bc", "%C3", "ü%20x") + p.suffix
		}
	}
	switch r.IntN(5) {
	case 0:
		i := r.IntN(len(path))
		for i > 0 && !utf8.RuneStart(path[i]) {
			i--
		}
		path = path[:i] + pick("", "a", "/", "é", "%2F", "-", "B") + path[i:]
	case 1:
		path = path[:len(path)-1]
	case 2:
		path = strings.ToUpper(strings.ReplaceAll(path, "%2F", ""))
	}
	return path
}

func TestPatternsAreReadAsTheStandardReadsThem(t *testing.T) {
	patterns, paths := 2000, 130
	if testing.Short() {
		patterns = 300
	}
	r := rand.New(rand.NewPCG(2, 7))
	pairs, taken, refused := 0, 0, 0
	for range patterns {
		text, pieces := randomPattern(r)
		fold := r.IntN(3) == 0
		want := standard(pieces, fold)
		rule := "redirect r on " + text + " to /hit as 302"
		if fold {
			rule = "redirect r on " + text + " ignoring case to /hit as 302"
		}
		p, err := pattern.Path(text, fold)
		if err == nil {
			err = p.Merged()
		}
		var e *Engine
		if err == nil {
			book, bad := rulebook.Read("t.kibitz", []byte("site s address https://s.example files public\n"+rule), nil)
			if bad != nil {
				t.Fatalf("%s: %v", text, bad)
			}
			e = New(book, []*site.Tree{nil})
		} else {
			refused++
		}
		for range paths {
			path, bad := canonical.Path(nearPath(r, pieces), false)
			if bad != nil {
				continue
			}
			found := want.FindStringSubmatch(characters(path))
			if err != nil {
				if found != nil {
					t.Fatalf("%s is refused (%v) and takes %s", text, err, path)
				}
				continue
			}
			pairs++
			if found != nil {
				taken++
			}
			if got := p.Match(path); got != (found != nil) {
				t.Fatalf("%s (ignoring case: %v) on %s: %v, and the standard's expression %s says %v", text, fold, path, got, want, found != nil)
			}
			if lang, err := p.Lang(); err == nil && lang.Match(canonical.Marked(path)) != (found != nil) {
				t.Fatalf("%s (ignoring case: %v) on %s: the automaton says %v", text, fold, path, found == nil)
			}
			req := get(t, path)
			if got := e.Predict(req).By != nil; got != (found != nil) {
				t.Fatalf("%s (ignoring case: %v) on %s: the compiled engine says %v", text, fold, path, got)
			}
			if found == nil {
				continue
			}
			captures := p.Captures(path, nil)
			for i := range captures {
				captures[i] = characters(captures[i])
			}
			if !slices.Equal(captures, found[1:]) {
				t.Fatalf("%s (ignoring case: %v) on %s takes %q, and by the standard's expression %s %q", text, fold, path, captures, want, found[1:])
			}
		}
		names := []string{}
		unnamed := 0
		for _, p := range pieces {
			switch {
			case p.group && p.name == "":
				unnamed++
				names = append(names, fmt.Sprint(unnamed))
			case p.group:
				names = append(names, p.name)
			}
		}
		if err == nil && !slices.Equal(append([]string{}, p.Names()...), names) {
			t.Fatalf("%s has the captures %q, want %q", text, p.Names(), names)
		}
	}
	t.Logf("%d pairs, %d taken, %d of %d patterns refused", pairs, taken, refused, patterns)
	if pairs < 100*patterns || taken < pairs/10 || pairs-taken < pairs/10 {
		t.Errorf("%d pairs, of which %d are taken: the test shows too little", pairs, taken)
	}
}

// Expressions are those of the regexp package over the characters of a path: as
// they are translated, where their ends are literal, and where they look at word
// boundaries.
func TestExpressionsAreThoseOverCharacters(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 1))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	taken, pairs := 0, 0
	expressions := 1500
	if testing.Short() {
		expressions = 200
	}
	for range expressions {
		text := pick("/", "/", "/x", "(?i:/IMG)", "^/")
		pieces := []piece{{text: "/"}}
		for range 1 + r.IntN(4) {
			p := pick("x", "y(?i:z)", "(?i:y)z", `\b`, `\B`, `(\d+)`, "(?P<n%d>[a-z]+)", ".", ".*", "[^/]+", "ä", "(?:a|ab)", "(b?)", "/", `\.png`, "K?", `\pL`, "(?i)a", `[^a]`, `(?m:$)`)
			if strings.Contains(p, "%d") {
				p = fmt.Sprintf(p, len(pieces))
			}
			text += p
			pieces = append(pieces, piece{text: pick("x", "yz", "YZ", "z", "12", "a", "/", "ä", "%2F", "%5C", "%FF", ".png", "k", "b", "%20")})
		}
		text += pick("", "", "$", "y", "(?i:Z)")
		fold := r.IntN(3) == 0
		flags := "s"
		if fold {
			flags = "si"
		}
		want := regexp.MustCompile(`\A(?` + flags + ":" + text + `)\z`)
		p, err := pattern.PathRegexp(text, fold)
		if err != nil {
			t.Fatalf("~%s: %v", text, err)
		}
		for range 60 {
			path, bad := canonical.Path(nearPath(r, pieces), false)
			if bad != nil {
				continue
			}
			pairs++
			found := want.FindStringSubmatch(characters(path))
			if found != nil {
				taken++
			}
			if got := p.Match(path); got != (found != nil) {
				t.Fatalf("~%s (ignoring case: %v) on %s: %v", text, fold, path, got)
			}
			captures := p.Captures(path, nil)
			for i := range captures {
				captures[i] = characters(captures[i])
			}
			if found != nil && !slices.Equal(captures, found[1:]) || found == nil && captures != nil {
				t.Fatalf("~%s on %s takes %q, want %q", text, path, captures, found)
			}
		}
	}
	if taken < pairs/50 {
		t.Errorf("%d of %d pairs are taken: the test shows too little", taken, pairs)
	}
}
