package draft

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// told reads answers, one a line: method, address, status, and behind it header fields or a
// Location; `body TEXT` is what was sent.
func told(t *testing.T, text string) (out []*Answer) {
	t.Helper()
	for line := range strings.SplitSeq(strings.TrimSpace(text), "\n") {
		line, body, _ := strings.Cut(line, " body ")
		parts := strings.Split(line, " | ")
		words := strings.Fields(parts[0])
		a := &Answer{List: "l", Line: len(out) + 1, Request: &request.Request{Method: words[0]}, Header: []request.Header{}}
		var err error
		if a.Request.Address, err = request.Parse(words[1], at("/")); err != nil {
			t.Fatal(err)
		}
		fmt.Sscan(words[2], &a.Status)
		for _, field := range parts[1:] {
			name, value, _ := strings.Cut(field, ": ")
			if name == "Location" {
				a.Location = value
			}
			if name == "Hint" {
				a.Hints = append(a.Hints, value)
				continue
			}
			a.Header = append(a.Header, request.Header{Name: name, Value: value})
		}
		if body != "" {
			sum := sha256.Sum256([]byte(body))
			a.Sum = hex.EncodeToString(sum[:])
		}
		out = append(out, a)
	}
	return out
}

// What is drafted from a few answers, said in the fewest words that nothing contradicts.
func TestWhatIsLearnt(t *testing.T) {
	tree := site.Memory(map[string]string{"/index.html": "home", "/a/x.html": "x", "/a/y.html": "y", "/a/z.css": "z", "/b/x.html": "x", "/404.html": "There is no {path} here.", "/410.html": "It is gone."})
	for name, test := range map[string]struct {
		answers, want string
		without       string
	}{
		"a field of a folder, whatever is answered there": {`
GET /a/x.html 200 | X-A: 1
GET /a/none 404 | X-A: 1
GET /a/old 301 | X-A: 1 | Location: /b/x.html
GET /b/x.html 200
GET /none 404`, "header x-a in /a/ set X-A 1", ""},
		"a field of what is found in a folder": {`
GET /a/x.html 200 | X-A: 1
GET /a/y.html 200 | X-A: 1
GET /a/z.css 200 | X-A: 1
GET /a/none 404
GET /b/x.html 200`, "header x-a in /a/ for 200 304 set X-A 1", ""},
		"a field of an extension, in all folders": {`
GET /a/x.html 200 | X-A: 1
GET /a/y.html 200 | X-A: 1
GET /b/x.html 200 | X-A: 1
GET /b/none.html 404 | X-A: 1
GET /a/z.css 200
GET /none 404`, `header x-a on ~.*\.html set X-A 1`, ""},
		"a field of a status": {`
GET /n1 404 | X-A: 1
GET /n2 404 | X-A: 1
GET /n3 404 | X-A: 1
GET /a/x.html 200
GET /b/x.html 200`, "header x-a for 404 set X-A 1", ""},
		"of two values the rarer one last, since all entries apply": {`
GET /a/x.html 200 | X-A: 1
GET /a/y.html 200 | X-A: 1
GET /a/z.css 200 | X-A: 1
GET /a/none 404 | X-A: 1
GET /b/x.html 200 | X-A: 2
GET /b/none 404 | X-A: 2
GET /b/more 404 | X-A: 2`, "header x-a in /a/ set X-A 1 # 3 answers say so. header x-a-2 in /b/ set X-A 2", ""},
		"a field that comes twice, or is the answer's own, is no entry's": {`
GET /a/x.html 200 | X-A: 1 | X-A: 2 | Server: x
GET /a/y.html 200 | X-A: 1 | X-A: 2 | Server: x
GET /b/x.html 200 | X-A: 1 | X-A: 2 | Server: x`, "site s", "header"},
		"methods that are refused in a folder": {`
GET /a/x.html 200
GET /b/x.html 200
OPTIONS /a/x.html 405
OPTIONS /a/y.html 405
OPTIONS /a/none 405
OPTIONS /b/x.html 204`, "access reading in /a/ unless method GET HEAD refuse 405", ""},
		"a method that is refused once": {`
GET /a/x.html 200
POST /a/x.html 403
OPTIONS /b/x.html 204`, "site s", "method"},
		"a page of an error that is filled": {`
GET /index.html 200 body home
GET /n1 404 body There is no /n1 here.
GET /n2 404 body There is no /n2 here.
GET /a/n3 404 body There is no /a/n3 here.`, "error not-found for 404 show /404.html fill on", ""},
		"a page of an error as it is": {`
GET /index.html 200 body home
GET /old/g1 410 body It is gone.
GET /old/g2 410 body It is gone.`, "error gone-2 for 410 show /410.html", "fill on"},
		"what is gone in a folder that has files": {`
GET /a/g1 410
GET /a/g2 410
GET /b/x.html 200`, "reply gone on /a/g1 /a/g2 with 410", "in /a/"},
		"what is gone in a folder, whatever is asked for": {`
GET /a/g1 410
GET /a/kibitz-asks-for-nothing 410
GET /b/x.html 200`, "reply gone in /a/ with 410", ""},
		"what is hidden in a folder that has files": {`
GET /a/x.html 403
GET /a/y.html 403
GET /b/x.html 200`, "access refused in /a/ refuse 403", ""},
		"a page that says something of its own": {`
GET /index.html 200 body home
GET /n1 404 body Nothing at /n1.
GET /n2 404 body Nothing at /n2.`, "site s", "error"},
		"hints of a folder": {`
GET /a/x.html 200 | Content-Type: text/html | Hint: </a/z.css>; rel=preload; as=style | Hint: <https://t.example>; rel=preconnect
GET /a/y.html 200 | Content-Type: text/html | Hint: </a/z.css>; rel=preload; as=style | Hint: <https://t.example>; rel=preconnect
GET /a/ 200 | Content-Type: text/html; charset=utf-8 | Hint: </a/z.css>; rel=preload; as=style | Hint: <https://t.example>; rel=preconnect
GET /b/x.html 200 | Content-Type: text/html`, "hint early in /a/ preload /a/z.css as style preconnect https://t.example", ""},
		"a parameter that is taken away in one folder alone": {`
GET /a/x.html?print=1 302 | Location: /a/x.html
GET /a/y.html?print=1 302 | Location: /a/y.html
GET /a/z.css?print=1 302 | Location: /a/z.css
GET /b/x.html?print=1 200`, "redirect without-print in /a/ when query.print 1 to {path} as temporary query drop", ""},
		"a parameter that is taken away of one kind of page": {`
GET /a/x.html?print=1 302 | Location: /a/x.html
GET /b/x.html?print=1 302 | Location: /b/x.html
GET /a/y.html?print=1 302 | Location: /a/y.html
GET /a/z.css?print=1 200`, `redirect without-print on ~.*\.html when query.print 1 to {path} as temporary query drop`, ""},
		"a parameter that is taken away of two pages": {`
GET /a/x.html?print=1 302 | Location: /a/x.html
GET /b/x.html?print=1 302 | Location: /b/x.html
GET /a/y.html?print=1 200`, "table moves.csv", "query.print"},
		"a folder that is closed": {`
GET /f/x.html 503
GET /f/y.html 503
GET /f/ 503
GET /a/x.html 200`, "# reply closed in /f/ with 503", ""},
		"a server that fails now and then": {`
GET /f/x.html 503
GET /f/y.html 503
GET /f/ 503
GET /f/z.html 404
GET /a/x.html 200`, "site s", "closed"},
		"a folder that is moved, which itself leads elsewhere": {`
GET /f 301 | Location: /b/x.html
GET /f/x.html 301 | Location: /a/x.html
GET /f/y.html 301 | Location: /a/y.html
GET /f/g/z.html 301 | Location: /a/g/z.html`, "on /f/:rest(.*) to /a/{rest} as permanent", "in /f/"},
		"pages of one kind that lead to one, of which another does not": {`
GET /f/tern.php 301 | Location: /a/x.html
GET /f/knot.php 301 | Location: /a/x.html
GET /f/plover.php 301 | Location: /a/x.html
GET /f/kibitz-asks-for-nothing.php 404`, "on /f/knot.php /f/plover.php /f/tern.php to /a/x.html", "/f/:name"},
		"a failure among answers for one address": {`
GET /gone/a 410
GET /gone/b 500
HEAD /gone/b 410
GET /gone/b 410
GET /index.html 200`, "reply gone in /gone/ with 410", ""},
	} {
		t.Run(name, func(t *testing.T) {
			s := &Source{Table: "moves.csv", Files: "public", Tree: tree, Answers: told(t, test.answers)}
			d, err := s.Write()
			if err != nil {
				t.Fatal(err)
			}
			got := strings.Join(strings.Fields(d.Rulebook), " ")
			_, got, _ = strings.Cut(got, "first entry that fits wins.")
			if !strings.Contains(got, test.want) || test.without != "" && strings.Contains(got, test.without) {
				t.Errorf("%q is not in, or %q is in\n%s", test.want, test.without, d.Rulebook)
			}
			if _, err := rulebook.Read("d.kibitz", []byte(d.Rulebook), d.Read); err != nil {
				t.Error(err)
			}
		})
	}
}

// A redirect that nobody can follow is not drafted, and it is said why.
func TestALocationThatIsNotAnAddress(t *testing.T) {
	d, err := (&Source{Table: "moves.csv", Answers: told(t, "GET /a 301 | Location: //\nGET /b 301 | Location: /c\nGET /c 200")}).Write()
	if err != nil {
		t.Fatal(err)
	}
	why := ""
	for _, l := range d.Left {
		if l.Answer.Location == "//" {
			why = l.Why
		}
	}
	if why != "its Location is not an address: nobody can follow it" {
		t.Errorf("%q of %+v", why, d.Left)
	}
}

// Each answer of a host without files of its own is of the site that most of that host's lead
// to; others are of the first site.
func TestWhichSiteAnAnswerIsOf(t *testing.T) {
	answers := told(t, `
GET https://s.example/ 200
GET https://t.example/ 200
GET https://www.t.example/a 301 | Location: https://t.example/a
GET https://www.t.example/b 301 | Location: https://t.example/b
GET https://www.t.example/c 301 | Location: https://s.example/c
GET https://u.example/ 200`)
	s, other := &Source{Host: "s.example", Table: "s.csv"}, &Source{Host: "t.example", Table: "t.csv"}
	d, err := All([]*Source{s, other}, answers)
	if err != nil {
		t.Fatal(err)
	}
	hosts := func(s *Source) (out []string) {
		for _, a := range s.Answers {
			out = append(out, a.Request.Address.Host)
		}
		return slices.Compact(out)
	}
	if got := fmt.Sprint(hosts(s), hosts(other)); got != "[s.example u.example] [t.example www.t.example]" {
		t.Errorf("%s", got)
	}
	if d.Agree+len(d.Left) != len(answers) || d.Answers != len(answers) {
		t.Errorf("%d given, %d left of %d", d.Agree, len(d.Left), d.Answers)
	}
	book, err := rulebook.Read("d.kibitz", []byte(d.Rulebook), d.Read)
	if err != nil || len(book.Sites) != 2 {
		t.Fatalf("%v in\n%s", err, d.Rulebook)
	}
	e := engine.New(book, make([]*site.Tree, 2))
	if r := e.Predict(answers[2].Request); r.Status != 301 || r.Location != "https://t.example/a" {
		t.Errorf("%d %s", r.Status, r.Location)
	}
}

// Whatever servers answer, what is drafted is a rulebook: names that mean something in one, and
// characters that do, are in addresses, parameters, header fields and agents.
func TestADraftIsARulebook(t *testing.T) {
	tree := site.Memory(map[string]string{"/index.html": "home", "/a/path.html": "x", "/a/host.html": "y", "/b/#.css": "z", "/a/{x}.html": "{path}"})
	words := []string{"a", "b", "path", "host", "below", "query", "asked", "rest", "name", "number", "7", "41", "A", "x-1", "%7Bpath%7D", "%23", "%22", "%20", "*", ":n", "(x)", "~", "\\", "é", "%C3%A9", "$1", "index.html", "x.htm", "1", "", ".", "%00", "!", "[a]", "a;b", "'", "|"}
	for _, kind := range rulebook.Kinds() {
		words = append(words, kind.Keywords()...)
	}
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 5))
		pick := func(list ...string) string { return list[r.IntN(len(list))] }
		word := func() string {
			return pick(words...)
		}
		s := Source{Table: "moves.csv"}
		main, err := request.Parse("https://"+pick("s", words[len(words)-1-r.IntN(60)], "files", "address", "hosts", "site", "1", "x_y", "www.accept", "slashes", "xn--4ca")+".example/", at("/"))
		if err != nil {
			t.Fatal(err)
		}
		if r.IntN(2) == 0 {
			s.Tree, s.Files = tree, "a folder"
		}
		form := make([]string, 1+r.IntN(3)) // of old addresses: a word, or another each time
		for i := range form {
			form[i] = pick("", word())
		}
		names := []string{word(), word()}
		for i := range 4 + r.IntN(12) {
			var old []string
			for _, part := range form {
				if part == "" {
					part = word()
				}
				old = append(old, part)
			}
			target := "/" + strings.Join(old, "/")
			values := []string{word(), word()}
			if r.IntN(3) > 0 {
				target += "?" + names[0] + "=" + values[0]
				if r.IntN(2) == 0 {
					target += "&" + names[1] + "=" + values[1]
				}
			}
			address, err := request.Parse(target, main)
			if err != nil {
				continue
			}
			a := &Answer{List: "l", Line: i, Request: &request.Request{Address: address, Method: pick("", "", "", "HEAD", "POST", "OPTIONS")}, Status: []int{200, 200, 301, 301, 301, 302, 404, 403, 410, 503, 401, 405}[r.IntN(12)]}
			if a.Status/100 == 3 {
				a.Location = pick("/"+values[0]+"/"+values[1], "/n/"+old[len(old)-1], "/"+strings.ToLower(strings.Join(old, "/")), "/"+strings.Join(old, "/"), "https://t.example/"+values[0], "/"+strings.Join(old[:len(old)-1], "/"), "/x?"+names[0]+"="+values[1], "//", "?", "{path}")
			}
			for range r.IntN(3) {
				a.Header = append(a.Header, request.Header{Name: pick("X-A", "Cache-Control", "Link", "Content-Type", "X-"+pick("a", "B")), Value: pick("a", "no-cache", word(), "\"q\" {path}", "text/html; charset=utf-8", "\x01", "a # b", "{", "}")})
			}
			if r.IntN(4) == 0 {
				a.Request.Headers = []request.Header{{Name: "User-Agent", Value: pick("bad \"bot\"", "*", "~x", word(), "a#b")}}
			}
			if r.IntN(4) == 0 {
				a.Hints = []string{pick("</a.css>; rel=preload; as=style", "<"+word()+">; rel=preconnect", word(), "</{path}>; rel=preload; as=\"x")}
			}
			s.Answers = append(s.Answers, a)
		}
		if len(s.Answers) == 0 {
			continue
		}
		d, err := s.Write()
		if err != nil {
			if strings.Contains(err.Error(), "fault of Kibitz") {
				t.Fatalf("seed %d: %v", seed, err)
			}
			continue
		}
		if _, err := rulebook.Read("d.kibitz", []byte(d.Rulebook), d.Read); err != nil {
			t.Fatalf("seed %d: %v in\n%s", seed, err, d.Rulebook)
		}
	}
}
