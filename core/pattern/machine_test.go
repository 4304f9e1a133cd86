package pattern

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode"

	"kibitz/core/canonical"
)

// short gives all texts over an alphabet of up to n bytes.
func short(alphabet string, n int) []string {
	out := []string{""}
	for from := 0; n > 0; n-- {
		to := len(out)
		for _, s := range out[from:to] {
			for _, c := range alphabet {
				out = append(out, s+string(c))
			}
		}
		from = to
	}
	return out
}

func lang(t *testing.T, text string) *Lang {
	t.Helper()
	p, err := Path(text, false)
	if text[0] == '~' {
		p, err = PathRegexp(text[1:], false)
	}
	if err != nil {
		t.Fatal(err)
	}
	l, err := p.Lang()
	if err != nil {
		t.Fatal(err)
	}
	return l
}

func TestSetsAreWhatTheirPartsSay(t *testing.T) {
	a, b := lang(t, "/a*"), lang(t, "/:x-:y")
	list := []string{"/a", "/a-b", "/b/a", "/a/b"}
	in := func(s string) [3]bool {
		w := false
		for _, l := range list {
			w = w || l == s
		}
		return [3]bool{a.Match(s), b.Match(s), w}
	}
	for name, test := range map[string]struct {
		m    func() Machine
		want func([3]bool) bool
	}{
		"and":          {func() Machine { return And(a, b) }, func(x [3]bool) bool { return x[0] && x[1] }},
		"or":           {func() Machine { return Or(a, b, Words(list)) }, func(x [3]bool) bool { return x[0] || x[1] || x[2] }},
		"minus":        {func() Machine { return And(a, Not(b)) }, func(x [3]bool) bool { return x[0] && !x[1] }},
		"minus words":  {func() Machine { return And(a, Not(Words(list))) }, func(x [3]bool) bool { return x[0] && !x[2] }},
		"not or":       {func() Machine { return Not(Or(Not(a), b)) }, func(x [3]bool) bool { return x[0] && !x[1] }},
		"words":        {func() Machine { return Words(list) }, func(x [3]bool) bool { return x[2] }},
		"not not":      {func() Machine { return Not(Not(a)) }, func(x [3]bool) bool { return x[0] }},
		"nothing":      {func() Machine { return And(a, Not(a)) }, func(x [3]bool) bool { return false }},
		"of no words":  {func() Machine { return Or(Words(nil), b) }, func(x [3]bool) bool { return x[1] }},
		"and no words": {func() Machine { return And(Words(nil), Not(a)) }, func(x [3]bool) bool { return false }},
		"everything":   {func() Machine { return Or(a, Not(a)) }, func(x [3]bool) bool { return true }},
		"and of words": {func() Machine { return And(Words(list), Not(And(a, b))) }, func(x [3]bool) bool { return x[2] && !(x[0] && x[1]) }},
	} {
		m := test.m()
		solid, err := Solid(test.m(), PathBytes, 1000)
		if err != nil {
			t.Fatal(err)
		}
		shortest := -1
		for _, s := range short("ab/-", 5) {
			want := test.want(in(s))
			if want && shortest < 0 {
				shortest = len(s)
			}
			if Matches(m, s) != want || solid.Match(s) != want && s != "" {
				t.Fatalf("%s: %q: lazily %v, as an automaton %v, want %v", name, s, Matches(m, s), solid.Match(s), want)
			}
		}
		for c := range 256 {
			if s := "/a" + string([]byte{byte(c)}); strings.IndexByte(PathBytes, byte(c)) < 0 && solid.Match(s) {
				t.Errorf("%s takes %q, which has a byte that no path has", name, s)
			}
		}
		found, ok, err := Find(test.m(), PathBytes, 1000)
		if err != nil || ok != (shortest >= 0) || ok && (len(found) > shortest || !Matches(m, found)) {
			t.Errorf("%s: found %q %v %v, and the shortest has %d bytes", name, found, ok, err, shortest)
		}
	}
}

func TestPathsAreThoseThatAreCanonical(t *testing.T) {
	for _, s := range short("a/.%4~", 6) {
		for _, keep := range []bool{false, true} {
			path, err := canonical.Path(s, keep)
			want := s != "" && err == nil && path == s
			if got := Paths(keep).Match(s); got != want && !strings.Contains(s, "%") {
				t.Fatalf("%q, slashes kept %v: %v, want %v", s, keep, got, want)
			}
		}
	}
	for s, want := range map[string]bool{"/%20": true, "/%41": false, "/%C3%A4": true, "/%!C3": true, "/%!2F": true, "/%2F": false, "/%0": false, "/%00": false} {
		if got := Paths(false).Match(s); got != want {
			t.Errorf("%s: %v, want %v", s, got, want)
		}
	}
}

// expand puts captures into a target, as the engine does.
func expand(pieces []Copy, path string, captures []string) string {
	out := ""
	for _, p := range pieces {
		text := p.Text
		if p.Group == Whole {
			text = path
		} else if p.Group > 0 {
			text = captures[p.Group-1]
		}
		if p.Change != nil {
			text = canonical.Map(text, unicode.ToUpper)
		}
		out += text
	}
	return regexp.MustCompile("/+").ReplaceAllString(out, "/")
}

func upper(c byte) byte {
	if 'a' <= c && c <= 'z' {
		return c - 32
	}
	return c
}

func TestPreimages(t *testing.T) {
	lit := func(s string) Copy { return Copy{Text: s, Group: Literal} }
	one, two, whole := Copy{Group: 1}, Copy{Group: 2}, Copy{Group: Whole}
	words := short("ab/-", 6)
	for _, w := range short("ab/", 3) { // with characters that change as a whole, and some that do not
		words = append(words, "/a/%C3%A4"+w, "/a/"+w+"%C3%A4b", "/a/%C3%84b"+w, "/a/%2F"+w, "/a/"+w+"%FF%20")
	}
	for _, test := range []struct {
		from   string
		pieces []Copy
		into   string
		exact  bool // the pattern takes each path in one way
	}{
		{"/a*", []Copy{lit("/a/"), one}, "/a*", true},
		{"/a/:x", []Copy{lit("/b/"), one}, "/b/a*", true},
		{"/:x/:y", []Copy{lit("/"), two, lit("/"), one}, "/b/a*", true},
		{"/:x/:y", []Copy{lit("/"), one, lit("-"), one, two}, "~/(aa?)-(a)b*", true},
		{"/a/*", []Copy{lit("/"), one}, "/b*", true},
		{"/a*", []Copy{lit("/b"), whole}, "/b/a/*", true},
		{"/:x-:y", []Copy{lit("/"), two, lit("/"), one}, "/b/:x", false},
		{"~/(a)?b*", []Copy{lit("/"), one, lit("b")}, "/b", true},
		{"~/(?:(a|b)-)*", []Copy{lit("/"), one}, "/b", true},
		{"~/(?:(a|b)-)*", []Copy{lit("/"), one, one}, "/aa", true},
		{"/b/:x/*", []Copy{lit("/"), two, lit("/"), one, lit("/"), two}, "~.*a/b/a.*", true},
		{"/a/:x", []Copy{lit("/"), {Group: 1, Change: upper}}, "/A:r*", true},
		{"/a/:x", []Copy{lit("/"), {Group: 1, Change: upper}}, "/%C3%84*", false},
		{"/a/:x", []Copy{lit("/"), {Group: 1, Change: upper}, lit("/"), {Group: 1, Change: upper}}, "/%C3%84B/:r", false},
		{"/:x{/b}?", []Copy{lit("/"), one, lit("/a")}, "/a/a", true},
	} {
		p, err := Path(test.from, false)
		if test.from[0] == '~' {
			p, err = PathRegexp(test.from[1:], false)
		}
		if err != nil {
			t.Fatal(err)
		}
		into := lang(t, test.into)
		source, _ := p.Source()
		pre, err := Pre(source, test.pieces, into, false, 2000)
		if err != nil {
			t.Fatal(test.from, test.pieces, err)
		}
		hits := 0
		for _, s := range words {
			if s == "" || !canonical.Is(s, false) {
				continue
			}
			captures := p.Captures(s, nil)
			want := captures != nil && into.Match(canonical.Marked(expand(test.pieces, s, captures)))
			if want {
				hits++
			}
			if got := pre.Match(canonical.Marked(s)); got != want && (test.exact || want) {
				t.Fatalf("%s to %v: %s: into %s: %v, want %v", test.from, test.pieces, s, test.into, got, want)
			}
		}
		if hits == 0 {
			t.Errorf("%s to %v into %s: nothing is sent there: the test shows nothing", test.from, test.pieces, test.into)
		}
	}
}

func TestPreimagesOfRandomTemplates(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	from := []string{"/:x", "/*", "/a*", "/:x/:y", "/a/:x", "/:x/*", "/:x-:y", "~/(a*)(b*)/?", "~/(a|b)*(/)?"}
	words := short("ab/-", 5)
	for range 300 {
		text := from[r.IntN(len(from))]
		p, err := Path(text, false)
		if text[0] == '~' {
			p, err = PathRegexp(text[1:], false)
		}
		if err != nil {
			t.Fatal(err)
		}
		pieces := []Copy{{Text: "/", Group: Literal}}
		for range r.IntN(4) {
			if g := r.IntN(len(p.Names()) + 2); g > len(p.Names()) {
				pieces = append(pieces, Copy{Text: []string{"a", "/", "b/", "-"}[r.IntN(4)], Group: Literal})
			} else {
				pieces = append(pieces, Copy{Group: g})
			}
		}
		into := lang(t, []string{"/a*", "/:x", "/:x/:y", "~/.*b", "/b/a", "/*-*"}[r.IntN(6)])
		source, _ := p.Source()
		pre, err := Pre(source, pieces, into, false, 20000)
		if err != nil {
			t.Fatal(p, pieces, into.Size(), err)
		}
		for _, s := range words {
			if s == "" || !canonical.Is(s, false) {
				continue
			}
			if captures := p.Captures(s, nil); captures != nil && into.Match(canonical.Marked(expand(pieces, s, captures))) && !pre.Match(canonical.Marked(s)) {
				t.Fatalf("%s to %s: %s is sent into the set, and is not in the pre-image", p, fmt.Sprint(pieces), s)
			}
		}
	}
}

// One letter stands for all that nothing tells apart, and the set is the same as if each were
// tried by itself.
func TestPreimagesByLettersThatStandForOthers(t *testing.T) {
	every := sortLetters(func(c byte) string { return string(c) })
	r := rand.New(rand.NewPCG(3, 4))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	fewer := 0
	for range 150 {
		text := pick("/:x", "/*", "/a/:x", "/:x/*", "/:x-:y", "~/(.*[A-Z].*)", "~/(.*)\\.php", "~/([a-f]+)/(.*)", "~/(.*%.*)", "~/([^/.]*)e")
		p, err := Path(text, false)
		if text[0] == '~' {
			p, err = PathRegexp(text[1:], false)
		}
		if err != nil {
			t.Fatal(err)
		}
		changes := []Copy{{}, {Change: upper}, {Change: func(c byte) byte {
			if c >= 'A' && c <= 'Z' {
				c |= 0x20
			}
			return c
		}, Become: "k"}, {Change: func(c byte) byte {
			if c == '_' {
				c = '-'
			}
			return c
		}}}
		pieces := []Copy{{Text: "/", Group: Literal}}
		for range 1 + r.IntN(2) {
			c := changes[r.IntN(len(changes))]
			c.Group = r.IntN(len(p.Names()) + 1)
			pieces = append(pieces, c, Copy{Text: pick("", "/", ".html", "-"), Group: Literal})
		}
		into := lang(t, pick("/a*", "/:x", "/:x/:y", "~/.*b", "/b/a", "/*-*", "~/[a-z]*/X.*", "~/%C3%A4.*", "~/.*K.*", "~/.*\\.html"))
		source, _ := p.Source()
		prog, err := program(source)
		if err != nil {
			t.Fatal(err)
		}
		some, all := newPreimage(prog, pieces, into, false, 5000), newPreimage(prog, pieces, into, false, 5000)
		all.bare, all.within = every, every
		got, err := some.explore()
		want, err2 := all.explore()
		if (err == nil) != (err2 == nil) || err == nil && !slices.Equal(got.accept, want.accept) {
			t.Fatalf("%s to %s into the set: %v, %v", p, fmt.Sprint(pieces), err, err2)
		}
		for _, s := range short("aA/%-b.k", 4) {
			if err == nil && got.Match(s) != want.Match(s) {
				t.Fatalf("%s to %s: %s: %v, and each letter by itself: %v", p, fmt.Sprint(pieces), s, got.Match(s), want.Match(s))
			}
		}
		fewer += len(PathBytes) - len(some.bare.first)
	}
	if fewer < 5000 {
		t.Errorf("only %d letters are stood for", fewer)
	}
}

func TestTextsBeyondASCIIAreOneLetter(t *testing.T) {
	for source, ok := range map[string]bool{`.*bot.*`: true, `(?i)[a-z]+ks`: true, `[^a]*`: true, `\w+`: true, `ä`: false, `[α-ω]+`: false, `[\x00-\x7f]*`: false, `\bx`: false} {
		if _, err := Regexp(source); (err == nil) != ok {
			t.Errorf("%s: %v", source, err)
		}
	}
}
