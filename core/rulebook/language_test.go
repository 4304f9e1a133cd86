package rulebook

import (
	"fmt"
	"math"
	"os"
	"strings"
	"testing"
	"time"
)

// read reads rules below a site, in which files are missing.
func read(rules string) (*Book, error) {
	return Read("t.kibitz", []byte("site s\n address https://s.example files public\n"+rules), func(name string) ([]byte, error) {
		switch name {
		case "ok.accounts":
			return []byte("# crew\nada:$2b$10$" + strings.Repeat("a", 53) + "\n\nbram:$2y$10$" + strings.Repeat("b", 53) + "\r\n"), nil
		case "bad.accounts":
			return []byte("ada\nbram:plain\ncarl:$2b$19$" + strings.Repeat("c", 53) + "\n:x\n"), nil
		}
		return nil, os.ErrNotExist
	})
}

// Words, quotes, comments and lines, as they are cut.
func TestScanning(t *testing.T) {
	for _, test := range []struct{ line, want string }{
		{`a b  c`, `a|b|c`},
		{"a\tb", `a|b`},
		{`a "b c" d`, `a|"b c"|d`},
		{`a "b \"c\" \\ d"`, `a|"b "c" \ d"`},
		{`a # b`, `a`},
		{`a#b /c#d`, `a#b|/c#d`},
		{`# a`, ``},
		{`a "" b`, `a|""|b`},
		{`a b"c"`, `a|b"c"`},
		{`ä ö`, `ä|ö`},
	} {
		var errs Errors
		src := &Source{Name: "t"}
		words, _ := src.words(test.line, 1, &errs)
		var got []string
		for _, w := range words {
			s := w.Text
			if w.Quoted {
				s = `"` + s + `"`
			}
			got = append(got, s)
		}
		if strings.Join(got, "|") != test.want || len(errs) > 0 {
			t.Errorf("%s: %s %v, want %s", test.line, strings.Join(got, "|"), errs, test.want)
		}
	}
}

// One or several lines, in whatever order of clauses: the same rule.
func TestHowAnEntryIsWrittenDoesNotMatter(t *testing.T) {
	var first string
	for _, text := range []string{
		"redirect r on /a when scheme http to /b as 301 query drop\n",
		"redirect r\n    on /a\n    when scheme http\n    to /b\n    as 301\n    query drop\n",
		"redirect r as 301 query drop to /b # why\n\n# and\n\twhen scheme http on\n /a\n",
		"redirect r\r\n on /a when scheme http to /b as 301 query drop",
	} {
		book, err := read(text)
		if err != nil {
			t.Errorf("%v in %q", err, text)
			continue
		}
		r := book.Rules[0]
		a := r.Action.(*Redirect)
		got := fmt.Sprint(r.Name, r.On[0], r.Tests[0], a.To.Text, a.Status, a.Query.Mode)
		if first == "" {
			first = got
		}
		if got != first {
			t.Errorf("%q says %s, not %s", text, got, first)
		}
	}
}

func TestNames(t *testing.T) {
	book, err := read("redirect on /a to /b as 301\nlimit url 2KiB\nreply x.y-z_1 on /c with 410\n")
	if err != nil {
		t.Fatal(err)
	}
	for i, want := range []string{"redirect:3", "limit:4", "x.y-z_1"} {
		if got := book.Rules[i].Name; got != want {
			t.Errorf("entry %d is called %s, want %s", i, got, want)
		}
	}
}

func TestSpansOfValues(t *testing.T) {
	day := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC).UnixMicro()
	for _, test := range []struct {
		words string
		want  Span
	}{
		{"port 443", Span{443, 443}},
		{"port over 1024", Span{1025, 65535}},
		{"port over 1024 below 2000", Span{1025, 1999}},
		{"body over 2KiB", Span{2049, math.MaxInt64}},
		{"body below 1KiB", Span{0, 1023}},
		{"time after 2026-03-01", Span{day, math.MaxInt64}},
		{"time before 2026-03-01", Span{math.MinInt64, day - 1}},
		{"time after 2026-03-01 before 2026-03-01T00:00:01Z", Span{day, day + time.Second.Microseconds() - 1}},
	} {
		book, err := read("access a when " + test.words + " refuse\n")
		if err != nil {
			t.Errorf("%s: %v", test.words, err)
			continue
		}
		if got := book.Rules[0].Tests[0].Values[0].Span; got != test.want {
			t.Errorf("%s: %v, want %v", test.words, got, test.want)
		}
	}
}

// What is wrong, and what to write instead: one sentence each.
func TestMistakes(t *testing.T) {
	for _, test := range []struct{ rules, says string }{
		{"folder f listing maybe\n", "`maybe` does not go here"},
		{"folder f documents none index.html\n", "stands alone"},
		{"folder f documents a/b\n", "a plain name"},
		{"folder f\n", "says nothing"},
		{"error e for 200 show /x.html\n", "not a status"},
		{"error e for 404\n", "but not what to show"},
		{"error e for 404 show /x.html text y\n", "do not go together"},
		{"error e for 404 text y fill on\n", "puts values into the page"},
		{"reply r with 301\n", "write a `redirect` entry"},
		{"reply r with 99\n", "not a status from 200 to 599"},
		{"fallback f to /x as 302\n", "as an error from 400 on"},
		{"fallback f to /x?y\n", "has no query"},
		{"access a refuse 200\n", "not a status from 400"},
		{"access a ask Crew\n", "needs the file"},
		{"access a ask Crew accounts none\n", "cannot be read"},
		{"access a ask Crew accounts bad.accounts\n", "line 1 is not of the form name:hash"},
		{"access a ask Crew accounts bad.accounts\n", "line 2 has no bcrypt hash"},
		{"access a ask Crew accounts bad.accounts\n", "line 3 has a hash of the cost 19: trying one password would take minutes"},
		{"access a admit accounts ok.accounts\n", "goes with `ask`"},
		{"header h for 404\n", "changes nothing"},
		{"header h set bad:name x\n", "not a name of a header field"},
		{"header h drop Content-Length\n", "decided by the answer itself"},
		{"media m type html\n", "`type` needs"},
		{"media m type a.b text/x\n", "not an extension"},
		{"media m type x texthtml\n", "not a media type"},
		{"media m charset a/b\n", "not a charset"},
		{"compress c using deflate\n", "does not go here"},
		{"compress c level 99\n", "from 1 (quick) to 11"},
		{"compress c types text\n", "not a media type"},
		{"hint h preload site.css as style\n", "write /site.css"},
		{"hint h preload /site.css for style\n", "preload /site.css as style"},
		{"hint h preconnect /x\n", "an origin is"},
		{"handoff a to 127.0.0.1\n", "named by a full URL"},
		{"moves m table none.csv as 301\n", "the table cannot be read"},
		{"redirect r to /x as 301 query only\n", "needs the names"},
		{"redirect r to /x as 301 query keep a\n", "takes no names"},
		{"redirect r to https:// as 301\n", "host is missing"},
		{"redirect r to https://a b/ as 301\n", "not a clause"},
		{"redirect r to /a/../b as 301\n", "write the path that it leads to"},
		{"redirect r to /100% as 301\n", "%25"},
		{"redirect r to /{x as 301\n", "not closed"},
		{"redirect r on /:host to /x as 301\n", "a field of the request already"},
		{"redirect r on /:x to /{x|loud} as 301\n", "nothing that can be done to a value"},
		{"redirect r on /a to /b as 301\n example /a\n", "`example` needs"},
		{"redirect r on /a to /b as 301\n example /a => nothing\n", "not something to expect"},
		{"redirect r on /a to /b as 301\n example get /a => 301\n", "methods are written in capitals"},
		{"redirect r on /a to /b as 301\n accept chain because\n", "in quotes"},
		{"redirect r in crew to /b as 301\n", "write /crew"},
		{"redirect r in /a//b to /b as 301\n", "not a folder"},
		{"redirect r when host a/b to /b as 301\n", "holds no slash"},
		{"redirect r when port 70000 to /b as 301\n", "up to 65535"},
		{"redirect r when port after 5 to /b as 301\n", "write `over`"},
		{"redirect r when time noon to /b as 301\n", "not a time"},
		{"redirect r when file here to /b as 301\n", "`exists`, `folder` or `missing`"},
		{"redirect r when client host to /b as 301\n", "neither an address"},
		{"redirect r when agent ~( to /b as 301\n", "cannot be read"},
		{"redirect r when agent ~good)|(bad to /b as 301\n", "cannot be read"},
		{"redirect r on ~" + strings.Repeat("(", 995) + "a" + strings.Repeat(")", 995) + " to /b as 301\n", "nests groups more than"},
		{"redirect r when agent ~" + strings.Repeat("(", 995) + "a" + strings.Repeat(")", 995) + " to /b as 301\n", "nests groups more than"},
		{"redirect r on " + strings.Repeat("/:x?", 2) + " to /b as 301\n", "used twice"},
		{"redirect r on " + strings.Repeat("/*", 600) + " to /b as 301\n", "at most 500 parts"},
		{"redirect r when agent ~" + strings.Repeat("(?:a{1000}){1000}", 1) + " to /b as 301\n", "cannot be read"},
		{"redirect r on {x}?y to /b as 301\n", "write /"},
		{"redirect r on /a/{/b/}/c to /b as 301\n", "slashes keep"},
		{"redirect r when time 2026-03-01T00:00:00.1234567Z to /b as 301\n", "finer than a microsecond"},
		{"redirect r to https://h.example:99999/ as 301\n", "not a host that a browser takes"},
		{"redirect r to https://256.1.1.1/ as 301\n", "not a host that a browser takes"},
		{"redirect r on /:x to https://{x}.a|b.example/ as 301\n", "not a host that a browser takes"},
		{"redirect r to https://me@h.example/ as 301\n", "not a host that a browser takes"},
		{"redirect r to /x?id=1 as 301 query keep\n", "write `query merge`"},
		{"redirect r to /x?id=1&b=2 as 301 query only a id\n", "names the parameter id itself"},
		{"folder f when file exists hidden on\n", "cannot test `file`"},
		{"access a when language DE-AT refuse\n", "languages are compared in small letters: write de-at"},
		{"access a when language de_at refuse\n", "is not a language: write one like de, de-at or de*"},
		{"access a when languag de refuse\n", "`languag` is not a field of a request"},
		{"access a when language.de refuse\n", "`language.de` is not a field of a request"},
		{"access a when header x refuse\n", "`header` is not a field of a request"},
		{"access a when cookie. x refuse\n", "`cookie.` is not a field of a request"},
		{"redirect r on /a to /b/{below} as 301\n", "the folder of `in`, and this entry has none"},
		{"redirect r in /a/ on /a/:below to /b as 301\n", "give the group another name"},
		{"site t address https://t.example\nfallback f to /x\n", "a `fallback` is about files, and the site does not say which"},
		{"site t address https://t.example\nfolder f listing on\n", "add `files DIR`"},
		{"site t address https://t.example\nreply r on /x with 410 show /x.html\n", "`show` shows a file"},
		{"site t address https://t.example\nredirect r when file missing to /x as 301\n", "`file` asks for files"},
		{"redirect r when host present to /b as 301\n", "always holds"},
		{"redirect r unless host present to /b as 301\n", "can never hold"},
		{"redirect r ignoring spelling to /b as 301\n", "does not go here"},
		{"site t address https://t.example/path\n", "ends with its host"},
		{"site t address /x\n", "a full URL"},
		{"site s address https://t.example\n", "two sites called"},
		{"site t address https://t.example files a inventory b\n", "not both"},
		{"list l\n", "the list is empty"},
		{"list\n", "a list needs a name"},
		{"list a {b}\nlist b 1\n", "holds no lists"},
		{"list a 1\nlist a 2\n", "two lists called"},
		{"include\n", "the name of one file"},
		{"/old on /x to /y as 301\n", "is not a kind of entry"},
		{"redirect /old to /y as 301\n", "a path follows `on`"},
		{"redirect r x on /a to /b as 301\n", "not a clause"},
		{"redirect r on /a to /b as 301 as\n", "`as` needs"},
	} {
		_, err := read(test.rules)
		if err == nil {
			t.Errorf("%s: no error", test.rules)
			continue
		}
		if !strings.Contains(err.Error(), test.says) {
			t.Errorf("%s: %v\nwant %q", test.rules, err, test.says)
		}
		for _, e := range err.(Errors) {
			if text, mark := e.Line(); text == "" || !strings.Contains(mark, "^") {
				t.Errorf("%s: the place is not marked", test.rules)
			}
		}
	}
	if book, err := read("access a ask Crew accounts ok.accounts\n"); err != nil || len(book.Rules[0].Action.(*Access).Accounts) != 2 {
		t.Errorf("good accounts: %v", err)
	}
}

func TestAllMistakesAreToldAtOnce(t *testing.T) {
	_, err := read("redirct a\nredirect b to y as permanent\n\n  indented\nredirect \"c\" on x\nreply d with 301 retry 5\n")
	errs, ok := err.(Errors)
	if !ok || len(errs) < 6 {
		t.Fatalf("%v", err)
	}
	for i := 1; i < len(errs); i++ {
		if errs[i].Place.Line < errs[i-1].Place.Line {
			t.Errorf("line %d is told after line %d", errs[i].Place.Line, errs[i-1].Place.Line)
		}
	}
}

func TestTheNearestWord(t *testing.T) {
	known := []string{"redirect", "rewrite", "reply", "permanent"}
	for word, want := range map[string]string{"redirct": "redirect", "REDIRECT": "redirect", "rewirte": "rewrite", "permanant": "permanent", "zebra": "", "": ""} {
		if got := nearest(word, known); got != want {
			t.Errorf("%q: %q, want %q", word, got, want)
		}
	}
}

func TestALongLineIsCutAroundThePlace(t *testing.T) {
	src := &Source{Name: "t", Lines: []string{strings.Repeat("x", 300) + "HERE" + strings.Repeat("y", 300)}}
	text, mark := MarkLine(Place{src, 1, 301}, 4)
	if at := strings.Index(mark, "^^^^"); len(text) > 160 || at < 0 || text[len("…")-1+at:][:4] == "" {
		t.Errorf("%q\n%q", text, mark)
	}
	if runes := []rune(text); string(runes[strings.Index(mark, "^"):][:4]) != "HERE" {
		t.Errorf("%q\n%q", text, mark)
	}
}
