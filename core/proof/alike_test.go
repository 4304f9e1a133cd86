package proof

import (
	"strings"
	"testing"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// Behind a rewrite, and where something of the request is copied, one request does not stand
// for all of its path: two rulebooks are the same for every request only where that is seen.
func TestWhatIsCopiedIsNotTakenForTheSame(t *testing.T) {
	read := func(rules string) *engine.Engine {
		book, err := rulebook.Read("site.kibitz", []byte("site s address https://s.example hosts www.s.example files public\n"+rules), nil)
		if err != nil {
			t.Fatal(err)
		}
		return engine.New(book, []*site.Tree{tree()})
	}
	for _, test := range []struct {
		old, new string
		same     bool
	}{
		{"redirect a on /y to https://{host}/z as 302", "redirect a on /y to https://{host}/z as 302", true},
		{"redirect a on /y to https://{host}/z as 302", "redirect a on /y to https://s.example/z as 302", false},
		{"rewrite r on /x to /y\nredirect a on /y to https://{host}/z as 302", "rewrite r on /x to /y\nredirect a on /y to https://{host}/z as 302", true},
		{"rewrite r on /x to /y\nredirect a on /y to https://{host}/z as 302", "rewrite r on /x to /y\nredirect a on /y to https://s.example/z as 302", false},
		{"rewrite r on /x to /y\nredirect a on /y to /z?{query} as 302 query drop", "rewrite r on /x to /y\nredirect a on /y to /z as 302 query drop", false},
		{"rewrite r on /x when query.q present to /p/{query.q}\nredirect a on /p/1 when asked /x to /one as 302", "rewrite r on /x when query.q present to /p/{query.q}\nredirect a on /p/1 when asked /x to /two as 302", false},
		{"rewrite r on /x to /y\nredirect a on /y to /z as 302", "rewrite r on /x to /w\nredirect a on /w /y to /z as 302\nredirect b on /w to /z as 302", false}, // /w itself
	} {
		l := Compare(read(test.old), read(test.new), 1)
		if l.Alike() != test.same {
			t.Errorf("%s\nand\n%s\nare the same: %v, %d differences, %v", test.old, test.new, l.Alike(), len(l.Differences), l.Open)
		}
	}
}

// A chain names what decides each of its redirects; what does so several times in a row once.
func TestChainsNameTheirEntries(t *testing.T) {
	book, err := rulebook.Read("site.kibitz", []byte("site s address https://s.example files public\nredirect strip on /strip/* to /{1} as permanent\nredirect other on /other/* to /strip/{1} as permanent\n"), nil)
	if err != nil {
		t.Fatal(err)
	}
	e := engine.New(book, []*site.Tree{tree()})
	for path, want := range map[string]string{
		"/strip/other/fares/":             "waits for 3 redirects: strip, then other, then strip.",
		"/strip/strip/strip/fares/":       "waits for 3 redirects: strip 3 times.",
		"/strip/strip/fares":              "waits for 3 redirects: strip 2 times, then the folder's slash.",
		"/other/strip/other/strip/fares/": "waits for 6 redirects: other, then strip 2 times, then other, then strip 2 times.",
	} {
		a, err := request.Parse("https://s.example"+path, request.Address{})
		if err != nil {
			t.Fatal(err)
		}
		if got := chainFinding(browser.Open(e, &request.Request{Address: a})).Message; !strings.HasSuffix(got, want) {
			t.Errorf("%s: %s, want %s", path, got, want)
		}
	}
}
