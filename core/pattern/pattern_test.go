package pattern

import (
	"fmt"
	"math/rand"
	"regexp"
	"slices"
	"strings"
	"testing"

	"kibitz/core/canonical"
)

func TestPathPatterns(t *testing.T) {
	for _, test := range []struct {
		pattern string
		path    string
		want    string // the captures, or "no"
	}{
		{"/fares.php", "/fares.php", ""},
		{"/fares.php", "/faresxphp", "no"},
		{"/timetable/:season.php", "/timetable/winter.php", "season=winter"},
		{"/timetable/:season.php", "/timetable/a/b.php", "no"},
		{"/timetable/:season.php", "/timetable/.php", "no"},
		{"/maps/*", "/maps/", "1="},
		{"/maps/*", "/maps/a/b", "1=a/b"},
		{"/maps/*", "/maps", "no"},
		{`/boats/:id(\d+)`, "/boats/17", "id=17"},
		{`/boats/:id(\d+)`, "/boats/x17", "no"},
		{"/tours{/}?", "/tours", ""},
		{"/tours{/}?", "/tours/", ""},
		{"/tours{/}?", "/tours//", "no"},
		{"/docs/:rest*", "/docs", "rest="},
		{"/docs/:rest*", "/docs/a/b", "rest=a/b"},
		{"/docs/:rest*", "/docs/", "no"},
		{"/docs/:rest+", "/docs/a/b", "rest=a/b"},
		{"/docs/:rest+", "/docs", "no"},
		{"/docs/:rest?", "/docs", "rest="},
		{"/img-:n.:ext", "/img-12.png", "n=12 ext=png"},
		{"/{:a-}?b", "/b", "a="},
		{"/{:a-}?b", "/x-b", "a=x"},
		{"/fähre", "/f%C3%A4hre", ""},
		{"/f%c3%a4hre", "/f%C3%A4hre", ""},
		{"/:x-end", "/%C3%A4-end", "x=%C3%A4"},
		{"/{:x}4:y", "/%C3%A4", "no"},
		{"/{:x}4:y", "/%C3%A44z", "x=%C3%A4 y=z"},
		{"/a%2Fb", "/a%2Fb", ""},
		{"/a%2fb", "/a/b", "no"},
		{"/:x", "/a%2Fb", "x=a%2Fb"},
		{`/12\:30`, "/12:30", ""},
		{`/c\+\+`, "/c++", ""},
		{"/*/:last", "/a/b/c", "1=a/b last=c"},
		{"*", "/anything/at all", "1=/anything/at all"},
		{`~/a.c`, "/a%C3%A4c", ""},
		{`~/a..c`, "/a%C3%A4c", "no"},
		{`~/a.c`, "/a%C3c", ""},
		{`~/a.c`, "/a%2Fc", ""},
		{`~/a[^x]c`, "/a%20c", ""},
		{`~/a\sc`, "/a%20c", ""},
		{`~/(\d+)/(?P<name>[a-z]+)`, "/12/ab", "1=12 name=ab"},
		{`~/(a|ab)(c|bcd)`, "/abcd", "1=a 2=bcd"},
		{`~/x`, "/x/y", "no"},
		{`~.*\bsea\b.*`, "/the%20sea%20side", ""},
		{`~.*\bsea\b.*`, "/seaside", "no"},
		{`~/(.*)\b/(z)`, "/%C3%A4b/z", "1=%C3%A4b 2=z"},
		{`~/[а-я]+`, "/%D0%B1%D1%8F", ""},
		{`~/[^/]*`, "/%FF%C3%A4", ""},
		{`~^/x$`, "/x", ""},
	} {
		p, err := read(test.pattern, false)
		if err != nil {
			t.Errorf("%s: %v", test.pattern, err)
			continue
		}
		if got := captured(p, test.path); got != test.want {
			t.Errorf("%s on %s: got %q, want %q", test.pattern, test.path, got, test.want)
		}
	}
}

func TestIgnoringCaseFoldsLettersButNotEncodings(t *testing.T) {
	for _, test := range []struct {
		pattern, path string
		want          bool
	}{
		{"/Fares", "/fARES", true},
		{"/fähre", "/F%C3%84HRE", true},
		{"/kai", "/%E2%84%AAai", true}, // the Kelvin sign
		{"~/ab+", "/ABB", true},
		{"~/[a-c]x", "/BX", true},
		{"/a%2Fb", "/A%2Fb", true},
		{"/x", "/y", false},
	} {
		p, err := read(test.pattern, true)
		if err != nil {
			t.Fatal(err)
		}
		if got := p.Match(test.path); got != test.want {
			t.Errorf("%s on %s: %v", test.pattern, test.path, got)
		}
	}
}

func TestPatternErrorsSayWhatToWrite(t *testing.T) {
	for _, test := range []struct {
		pattern string
		offset  int
		says    string
	}{
		{"/page?id=3", 5, "when query.NAME"},
		{"/c++", 2, `\+`},
		{"/12:30", 3, `\:`},
		{"/{:a:b}", 4, "only one group"},
		{"/(a(b))", 3, "(?:…)"},
		{"/:a/:a", 4, "twice"},
		{"/a/../b", 0, ".."},
		{"fares", 0, "/fares"},
		{"/{a", 1, "never closed"},
		{"/a}", 2, `\}`},
		{"/(ab", 1, "never closed"},
		{"/100%", 0, "%25"},
		{`/a\`, 2, `\\`},
		{"~/(", 1, "missing"},
		{"/a/:b(c{2,1})", 7, "repeat"},
		{"/a/(x**)", 5, "repet"},
		{"~/(?<x>.)(?<x>.)", 11, "twice"},
		{`/a/:b(c\b)`, 5, `\b cannot stand inside a pattern`},
		{`/a(\B.)`, 2, `\b cannot stand inside a pattern`},
		{"", 0, "empty"},
	} {
		_, err := read(test.pattern, false)
		bad, ok := err.(*Error)
		if !ok {
			t.Errorf("%s: no error but %v", test.pattern, err)
			continue
		}
		if bad.Offset != test.offset || !strings.Contains(bad.Message, test.says) {
			t.Errorf("%s: at %d %q, want %q at %d", test.pattern, bad.Offset, bad.Message, test.says, test.offset)
		}
	}
}

func TestHostPatterns(t *testing.T) {
	for _, test := range []struct {
		pattern, host string
		want          bool
	}{
		{"www.saltmarsh-ferries.example", "www.saltmarsh-ferries.example", true},
		{"WWW.saltmarsh-ferries.example", "www.saltmarsh-ferries.example", true},
		{"*.example", "a.b.example", true},
		{":sub.example", "a.b.example", false},
		{"{www.}?a.example", "a.example", true},
		{"fähre.example", "xn--fhre-loa.example", true},
		{"[2001:db8::1]", "[2001:db8::1]", true},
	} {
		p, err := Host(test.pattern)
		if err != nil {
			t.Errorf("%s: %v", test.pattern, err)
			continue
		}
		if got := p.Match(test.host); got != test.want {
			t.Errorf("%s on %s: %v", test.pattern, test.host, got)
		}
	}
	for _, bad := range []string{"10.0.0.*", "fä:x.example", "a.example/x"} {
		if _, err := Host(bad); err == nil {
			t.Errorf("%s: no error", bad)
		}
	}
}

func TestRoutesHoldWhatTheyPromise(t *testing.T) {
	for pattern, want := range map[string]string{
		"/a/b":       "[a b] here",
		"/a/:x":      "[a *] here",
		"/a/:x/c":    "[a * c] here",
		"/a/*":       "[a] below",
		"/a{/}?":     "[a] here [a ] here",
		"/a/:x.php":  "[a] open",
		"/a/p-*":     "[a] open",
		"/a/:x?/c":   "[] open",
		"~/a/b/c.*":  "[a b] open",
		"*":          "[] open",
		"/":          "[] here",
		"/a/:x/:y*":  "[a] open",
		"/docs/:r*":  "[] open",
		"/docs/:r/*": "[docs *] below",
	} {
		p, err := read(pattern, false)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, r := range p.Routes() {
			got = append(got, strings.ReplaceAll(fmt.Sprint(r.Segments), AnySegment, "*"), [...]string{"here", "below", "open"}[r.End])
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s: %v, want %s", pattern, got, want)
		}
	}
}

// The automaton, the translated expression and the expression on decoded text
// must agree on every path.
func TestMatchersAgree(t *testing.T) {
	r := rand.New(rand.NewSource(1))
	atoms := []string{"a", "b", ".", "/", "[^/]", "[a-ä]", "ä", `\s`, "(a|ab)", "(?:b)?", "[^a]", "日", "(b*)", "x{2,3}", "(?i:a)"}
	pieces := []string{"a", "b", "/", "%C3%A4", "%C3", "%A4", "%20", "%E6%97%A5", "%2F", "%FF", "x", "A", "%F0%9F%98%80"}
	for range 1500 {
		var re strings.Builder
		for range 1 + r.Intn(4) {
			re.WriteString(atoms[r.Intn(len(atoms))])
			re.WriteString([]string{"", "", "*", "+", "?", "*?"}[r.Intn(6)])
		}
		plain, err := regexp.Compile(`\A(?s:` + re.String() + `)\z`)
		if err != nil {
			continue
		}
		p, err := PathRegexp(re.String(), false)
		if err != nil {
			t.Fatal(err)
		}
		for range 40 {
			var path strings.Builder
			for range r.Intn(6) {
				path.WriteString(pieces[r.Intn(len(pieces))])
			}
			// An encoded slash counts as no character of UTF-8.
			decoded := canonical.Decode(strings.ReplaceAll(path.String(), "%2F", "%FF"))
			want := plain.FindStringSubmatch(decoded)
			if got := p.Match(path.String()); got != (want != nil) {
				t.Fatalf("~%s on %s: automaton %v, plain %v", re.String(), path.String(), got, want)
			}
			got := p.Captures(path.String(), nil)
			if (got == nil) != (want == nil) {
				t.Fatalf("~%s on %s: captures %q, plain %q", re.String(), path.String(), got, want)
			}
			for i := range got {
				if canonical.Decode(strings.ReplaceAll(got[i], "%2F", "%FF")) != want[i+1] {
					t.Fatalf("~%s on %s: captures %q, plain %q", re.String(), path.String(), got, want[1:])
				}
			}
		}
	}
}

// Where the groups of a pattern are cut out of a path, the texts must be those of
// the expression.
func TestCutGroupsAreThoseOfTheExpression(t *testing.T) {
	r := rand.New(rand.NewSource(4))
	pick := func(list ...string) string { return list[r.Intn(len(list))] }
	cut := 0
	for range 3000 {
		var text strings.Builder
		for i := range 1 + r.Intn(3) {
			fmt.Fprintf(&text, "%s{:g%d}%s", pick("/", "a", "-", "/a", "a-", "-/", ""), i, pick("", "a", "-", "/b", "-a"))
		}
		text.WriteString(pick("", "", "/*", "*", "a*-"))
		p, err := Path("/"+strings.TrimPrefix(text.String(), "/"), false)
		if err != nil || p.cuts == nil {
			continue
		}
		cut++
		for range 40 {
			path := "/"
			for range r.Intn(9) {
				path += pick("a", "b", "-", "/")
			}
			if got, want := p.Captures(path, nil), p.plainRegexp().FindStringSubmatch(path); fmt.Sprint(got) != fmt.Sprint(want[min(1, len(want)):]) || p.Match(path) != (want != nil) {
				t.Fatalf("%s on %s: cut %q, expression %q", p, path, got, want)
			}
		}
	}
	if cut < 1000 {
		t.Errorf("only %d patterns were cut", cut)
	}
}

// Groups that nothing parts are cut as the expression parts them.
func TestGroupsSideBySide(t *testing.T) {
	for _, source := range []string{"/:a:b", "/:a:b:c", "/x:a:b/y", "/:a:b/*", "/:a:b.html"} {
		p, err := Path(source, false)
		if err != nil {
			t.Fatal(err)
		}
		p.translate()
		expression := mustAnchored(p.source)
		for _, s := range short("ab/.", 6) {
			if !strings.HasPrefix(s, "/") {
				continue
			}
			var want []string
			if found := expression.FindStringSubmatch(s); found != nil {
				want = found[1:]
			}
			if got := p.Captures(s, nil); !slices.Equal(got, want) || p.Match(s) != (want != nil) {
				t.Fatalf("%s takes %q of %q, want %q", source, got, s, want)
			}
		}
	}
}

func FuzzPattern(f *testing.F) {
	for _, s := range []string{"/a/:b(\\d+)?", "~/x(?i)y", "/{a:b}*", "/%41%ff", "/*{/}?", `/\`, "~(?P<a>)"} {
		f.Add(s, "/a/b%20c")
	}
	f.Fuzz(func(t *testing.T, pattern, path string) {
		path, err := canonical.Path(path, false)
		if err != nil || len(pattern) > 60 {
			return
		}
		for _, fold := range []bool{false, true} {
			p, err := read(pattern, fold)
			if err != nil {
				continue
			}
			p.Routes()
			if p.Match(path) != (p.Captures(path, nil) != nil) {
				t.Errorf("%q on %q: matcher and captures differ", pattern, path)
			}
		}
		Host(pattern)
	})
}

func read(text string, fold bool) (*Pattern, error) {
	if strings.HasPrefix(text, "~") {
		return PathRegexp(text[1:], fold)
	}
	return Path(text, fold)
}

func captured(p *Pattern, path string) string {
	got := p.Captures(path, nil)
	if got == nil {
		return "no"
	}
	if !p.Match(path) {
		return "captured, but not matched"
	}
	var out []string
	for i, name := range p.Names() {
		out = append(out, name+"="+got[i])
	}
	return strings.Join(out, " ")
}

func BenchmarkMatch(b *testing.B) {
	p, _ := Path(`/timetable/:season-:year(\d+).php`, false)
	path := "/timetable/winter-season-2026.php"
	p.Match(path)
	b.Run("automaton", func(b *testing.B) {
		for b.Loop() {
			p.Match(path)
		}
	})
	b.Run("regexp", func(b *testing.B) {
		for b.Loop() {
			p.regexp().MatchString(path)
		}
	})
}

// Words of expressions that have no automaton.
func TestWordsOfExpressionsWithoutAnAutomaton(t *testing.T) {
	for _, test := range []struct{ pattern, want string }{
		{`~/(?:ab|cd)\b`, "/ab"}, {`~/\b(x+)(y{3})z?`, "/xyyy"}, {`~/\b[0-9]-.\b`, "/0-a"}, {`~/\b[α-ω]?a`, "/a"}, {`~/a\Bb\b`, "/ab"}, {`~/a\bb`, ""},
	} {
		p, err := read(test.pattern, false)
		if err != nil {
			t.Fatal(err)
		}
		if got := strings.Join(p.Words(3), " "); got != test.want {
			t.Errorf("%s: %q, want %q", test.pattern, got, test.want)
		}
	}
}

// Words of expressions that have one: the shortest, those that people write first.
func TestWordsOfExpressions(t *testing.T) {
	for _, test := range []struct{ pattern, want string }{
		{`~/(a|b)c`, "/ac"}, {`~/x(\d{2})?`, "/x /x00"}, {`~/[.0a]b?`, "/a /ab"}, {`~/(a|b)+`, "/a /aa /aaa"}, {"/:id([0-9]+)/x", "/0/x /00/x /000/x"},
	} {
		p, err := read(test.pattern, false)
		if err != nil {
			t.Fatal(err)
		}
		if got := strings.Join(p.Words(3), " "); got != test.want {
			t.Errorf("%s: %q, want %q", test.pattern, got, test.want)
		}
	}
}

// A run of slashes is one before entries are read, so that a pattern that wants one takes
// nothing, wherever it stands.
func TestRunsOfSlashesAreRefused(t *testing.T) {
	for text, want := range map[string]int{"//x": 0, "/a//b": 2, "/a//": 2, "/a{/}?/b": -1, "~//x": -1, "/a/:x/b": -1} {
		p, err := read(text, false)
		if err != nil {
			t.Fatal(err)
		}
		at := -1
		if bad, ok := p.Merged().(*Error); ok {
			at = bad.Offset
		}
		if at != want {
			t.Errorf("%s is refused at %d, want %d", text, at, want)
		}
	}
}

// What makes an automaton too large is the longest counted repetition, the first of two.
func TestWhatGrowsIsNamed(t *testing.T) {
	for text, want := range map[string]string{
		"/(a|b)*a(a|b){30}":               "(a|b){30}",
		"/(a|b)*a[ab]{30}(c|d){30}":       "[ab]{30}",
		"/(a|b)*a.{9}(a|b){30}b{2}":       "(a|b){30}",
		"/(a|b)*a(?:a|b)(a|b)(a|b)a":      "/(a|b)*a(?:a|b)(a|b)(a|b)a",
		`/x\d{4,}(a|b)*b[a-c]{29}\w{3,5}`: "[a-c]{29}",
	} {
		if got := growing(text); got != want {
			t.Errorf("%s: %s, want %s", text, got, want)
		}
	}
}

// The least that a pattern takes, outside the captures that are copied.
func TestLeast(t *testing.T) {
	for _, test := range []struct {
		pattern, copied string
		of              byte
		n               int
		ok              bool
	}{
		{"/a/:x", "x", 0, 3, true}, {"/a/:x", "", 0, 4, true}, {"/a/:x/:y", "y", 0, 5, true}, {"/a{/b}?", "", 0, 2, true}, {"/a{/b}+", "", 0, 4, true},
		{`~/(\d{4})/(x|yz)`, "1", 0, 3, true}, {`~/((a)b)+`, "1", 0, 0, false}, {`~/(a|b)*a(a|b){30}`, "", 0, 32, true}, {`~/\bx`, "", 0, 0, false}, // of which the last has no translation
		{"/:x-:y-b", "x y", '-', 2, true}, {"/:x{-b}?", "x", '-', 0, true}, {`~/(.*)_(.*)`, "1 2", '_', 1, true}, {`~/(.*)[-_](.*)`, "1 2", '_', 0, true}, {`~/(a-|-b-)+`, "", '-', 1, true},
	} {
		p, err := read(test.pattern, false)
		if err != nil {
			t.Fatal(err)
		}
		if n, ok := p.Least(strings.Fields(test.copied), test.of); ok != test.ok || ok && n != test.n {
			t.Errorf("%s without %q: %d of %q, %v, want %d, %v", test.pattern, test.copied, n, test.of, ok, test.n, test.ok)
		}
	}
}

// What a path begins with, in the letters that are compared, whether their case counts or not.
func TestBegin(t *testing.T) {
	for _, test := range []struct {
		pattern string
		fold    bool
		begin   string
	}{
		{"/Old/:x", false, "/old/"}, {"/Old/:x", true, "/old/"}, {"/Old{/x}?", true, "/old"}, {"/Key-*", true, "/key-"}, {"/\u00c9t\u00e9/*", true, "/%c3%89t%c3%89/"}, {"/\u00e9/*", false, "/%c3%89/"},
		{"~/Old/(.*)", true, "/old/"}, {"~/Old/(.*)", false, "/old/"}, {"~(?i:/Old)/x", false, ""}, {"/:x", true, "/"}, {"/\u212a*", true, "/k"},
	} {
		p, err := read(test.pattern, test.fold)
		if err != nil {
			t.Fatal(err)
		}
		if got := p.Begin(); got != test.begin {
			t.Errorf("%s, in any case %v: begins with %q, want %q", test.pattern, test.fold, got, test.begin)
		}
		l, err := p.Lang()
		if err != nil {
			t.Fatal(err)
		}
		paths, _ := FindSome(l, PathBytes, 5000, 200)
		for _, path := range paths {
			if path = canonical.Unmarked(path); canonical.Is(path, false) && !strings.HasPrefix(canonical.Fold(path), test.begin) {
				t.Errorf("%s takes %s, which does not begin so: %q", test.pattern, path, canonical.Fold(path))
			}
		}
	}
}
