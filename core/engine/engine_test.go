package engine

import (
	"fmt"
	"math/rand"
	"net/netip"
	"os"
	"strings"
	"testing"
	"time"

	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// build compiles rules below a site line over a small tree.
func build(t testing.TB, rules string) *Engine {
	t.Helper()
	return buildTree(t, rules, map[string]string{
		"/index.html": "home", "/fares/index.html": "fares", "/crew/rota.html": "rota", "/planner/index.html": "planner",
		"/errors/404.html": "<p>{path} is gone {x}", "/.well-known/security.txt": "s", "/.secret/key": "k", "/boats/list.txt": "boats",
		"/app.js": strings.Repeat("var a = 1;\n", 200), "/app.js.gz": "small", "/a b.txt": "blank", "/notes.txt": "notes",
	})
}

func buildTree(t testing.TB, rules string, tree map[string]string) *Engine {
	t.Helper()
	files := func(name string) ([]byte, error) {
		switch name {
		case "moves.csv":
			return []byte("old,new,status\n/old,/fares/,301\n/gone,,410\n/Gone/A,,410\n/q?id=1,/boats/?b=1,302\nhttp://s.example/full,https://t.example/x,308\n"), nil
		case "crew.accounts":
			return []byte("ada:$2a$04$9xdmSH0myfPbApaShp7ieePc8RQTNeIqqZq4aEFEY4gEPgyOFXUDm\nbo:$2a$04$QrowycEzTrT0l688wTp4VeFWTtR.Yon5GM/KLNfrpJsx/VNquYrHe\n"), nil
		}
		return nil, os.ErrNotExist
	}
	book, err := rulebook.Read("t.kibitz", []byte("site s\n address https://s.example files public\n hosts www.s.example\n unknown-hosts answer\n"+rules), files)
	if err != nil {
		t.Fatalf("%v\nin:\n%s", err, rules)
	}
	return New(book, []*site.Tree{site.Memory(tree)})
}

func get(t testing.TB, url string, headers ...string) *request.Request {
	t.Helper()
	r := &request.Request{}
	if method, rest, ok := strings.Cut(url, " "); ok {
		r.Method, url = method, rest
	}
	var err error
	if r.Address, err = request.Parse(url, request.Address{Scheme: "https", Host: "s.example", Port: 443}); err != nil {
		t.Fatal(err)
	}
	for _, h := range headers {
		name, value, _ := strings.Cut(h, ": ")
		if name == "client" {
			r.Client = netip.MustParseAddr(value)
			continue
		}
		if name == "time" {
			if r.Time, err = time.Parse(time.RFC3339, value); err != nil {
				t.Fatal(err)
			}
			continue
		}
		r.Headers = append(r.Headers, request.Header{Name: name, Value: value})
	}
	return r
}

// summary is an answer in one line: status, cause, entry, Location or file.
func summary(r *Response) string {
	s := fmt.Sprint(StatusText(r), " ", r.Cause)
	if r.By != nil {
		s += " by " + r.By.Name
	}
	if r.Location != "" {
		s += " to " + r.Location
	}
	if r.File != nil {
		s += " file " + r.File.Path
	}
	return s
}

func TestAnswers(t *testing.T) {
	for _, test := range []struct {
		name  string
		rules string
		asks  string // a request, and perhaps header fields behind |
		want  string
	}{
		{"a file", "", "/notes.txt", "200 file file /notes.txt"},
		{"a file is found by its canonical path", "", "/%6Eotes.txt", "200 file file /notes.txt"},
		{"a name with a blank", "", "/a%20b.txt", "200 file file /a%20b.txt"},
		{"dot segments are resolved", "", "/fares/../notes.txt", "200 file file /notes.txt"},
		{"climbing is refused", "", "/../notes.txt", "400 bad-request"},
		{"an unknown host", "", "https://t.example/", "200 document file /index.html"},
		{"a file with a slash behind it", "", "/notes.txt/", "404 missing"},
		{"a folder without its slash", "", "/fares?x=1", "301 slash to /fares/?x=1"},
		{"a folder without its slash, and a query that is not one of a URL", "", "/fares?\"x=ü", "301 slash to /fares/?%22x=%C3%BC"},
		{"a folder", "", "/fares/", "200 document file /fares/index.html"},
		{"a folder without document", "", "/boats/", "403 no-document"},
		{"no document is wanted", "folder f in /fares/ documents none", "/fares/", "403 no-document"},
		{"a listing", "folder f in /boats/ listing on", "/boats/", "200 listing by f"},
		{"another document", "folder f documents list.txt index.html", "/boats/", "200 document by f file /boats/list.txt"},
		{"slash leave", "folder f slash leave", "/fares", "200 document file /fares/index.html"},
		{"slash drop", "folder f slash drop", "/fares/", "301 slash by f to /fares"},
		{"slash drop serves", "folder f slash drop", "/fares", "200 document file /fares/index.html"},
		{"slash drop spares the home page", "folder f slash drop", "/", "200 document file /index.html"},
		{"hidden things are not there", "", "/.secret/key", "404 missing"},
		{"but well-known ones are", "", "/.well-known/security.txt", "200 file file /.well-known/security.txt"},
		{"hidden on", "folder f in /.secret/ hidden on", "/.secret/key", "200 file file /.secret/key"},
		{"an encoded slash names nothing", "", "/fares%2Findex.html", "404 missing"},
		{"POST to a file", "", "POST /notes.txt", "405 method"},
		{"OPTIONS", "", "OPTIONS /notes.txt", "204 options"},
		{"what is gone, whatever its case", "moves m table moves.csv as permanent ignoring case", "/gone/a", "410 reply by m"},
		{"what is below the folder is put elsewhere", "redirect r in /fares/ to /prices/{below} as 302", "/fares/a/b", "302 redirect by r to /prices/a/b"},
		{"at the folder nothing is below", "redirect r in /fares/ to /prices/{below} as 302", "/fares", "302 redirect by r to /prices/"},
		{"nor with its slash", "redirect r in /fares/ to /prices/{below} as 302", "/fares/", "302 redirect by r to /prices/"},
		{"below the second folder", "redirect r in /x/y/ /fares/ to /prices/{below} as 302", "/fares/%C3%A4/", "302 redirect by r to /prices/%C3%A4/"},
		{"below everything", "redirect r in / to https://t.example/{below} as 302", "/a/b", "302 redirect by r to https://t.example/a/b"},
		{"below a folder of another length", "redirect r in /kai/ ignoring case to /x/{below} as 302", "/%E2%84%AAAI/B", "302 redirect by r to /x/B"},
		{"below it in a query", "redirect r in /fares/ to /p?q={below} as 302", "/fares/a/%C3%A4", "302 redirect by r to /p?q=a%2F%C3%A4"},
		{"the folder is put elsewhere", "redirect r in /fares/ to /prices/{path} as 302", "/fares/x", "302 redirect by r to /prices/fares/x"},
		{"hidden things are missing to a test", "redirect r when file exists to /x as 302", "/.secret/key", "404 missing"},
		{"but for those that are shown", "folder f in /.secret/ hidden on\nredirect r when file exists to /x as 302", "/.secret/key", "302 redirect by r to /x"},
		{"a hidden folder is missing", "redirect r when file missing to /x as 302", "/.secret", "302 redirect by r to /x"},
		{"what others say of folders asks for hidden things, too", "folder a when file missing listing on\nfolder f hidden on\nredirect r when file folder to /x as 302", "/.secret/", "302 redirect by r to /x"},
		{"letters beyond ASCII are lowered", "redirect r on /:x(.*[A-Z\u00c0-\u00dc].*) to /{x|lower} as 302", "/\u00c4B", "302 redirect by r to /%C3%A4b"},
		{"and come to rest", "redirect r on /:x(.*[A-Z\u00c0-\u00dc].*) to /{x|lower} as 302", "/%C3%A4b", "404 missing"},
		{"a host beyond ASCII", "redirect r on /x to https://B\u00fccher.example/x as 302", "/x", "302 redirect by r to https://xn--bcher-kva.example/x"},
		{"a host beyond ASCII around a value", "redirect r on /x/:h to https://{h}.b\u00fccher.example/x as 302", "/x/a", "302 redirect by r to https://a.xn--bcher-kva.example/x"},
		{"a scheme's own port", "redirect r on /x to http://t.example:80/ as 302", "/x", "302 redirect by r to http://t.example/"},
		{"raw bytes in a query", "redirect r on /x to /y as 302", "/x?a=\"\u00fc", "302 redirect by r to /y?a=%22%C3%BC"},
		{"raw bytes in a path", "redirect r in / to /y{path} as 302 unless path /y*", "/\u00fc\"^", "302 redirect by r to /y/%C3%BC%22%5E"},
		{"text at the start that may be missing", "redirect r on {/index.html}? to /x as 302", "/", "200 document file /index.html"},
		{"text at the start that is there", "redirect r on {/index.html}? to /x as 302", "/index.html", "302 redirect by r to /x"},
		{"two texts that may be missing", "redirect r on {/x}?{/y}? to /z as 302", "/", "200 document file /index.html"},
		{"a variant with two slashes beside one without", "redirect r on /a{/b/}?/c to /x as 302", "/a/c", "302 redirect by r to /x"},
		{"captures behind a count", "redirect r on /:y(\\d{4})/:m(\\d{2})/:t to /t/{y}/{m}/{t} as 302", "/2024/05/x", "302 redirect by r to /t/2024/05/x"},
		{"captures behind a count, of one of two", "redirect r on /:y(\\d{4})/:m /old/:y/:m to /t/{y}/{m} as 302", "/2024/05", "302 redirect by r to /t/2024/05"},
		{"an expression that ignores case in part", "redirect r on ~/x(?i:y)z to /a as 302", "/xYz", "302 redirect by r to /a"},
		{"a word boundary and an encoded slash", "redirect r on ~/crew/\\b.* to /a as 302", "/crew%2Fx", "404 missing"},
		{"an expression is read by itself", "redirect r when agent ~a|b to /a as 302", "/|User-Agent: b", "302 redirect by r to /a"},
		{"half anchored it is not", "redirect r when agent ~a|b to /a as 302", "/|User-Agent: bx", "200 document file /index.html"},
		{"a quote that is not closed", "redirect r when agent ~\\Qa.c to /a as 302", "/|User-Agent: a.c", "302 redirect by r to /a"},
		{"a quoted path is made canonical", "redirect r when path \"/two words\" to /a as 302", "/two%20words", "302 redirect by r to /a"},
		{"so is one that is asked", "redirect r when asked \"/f\u00e4hre\" to /a as 302", "/f%C3%A4hre", "302 redirect by r to /a"},
		{"a quoted path is not a pattern", "redirect r when path \"/a*\" to /b as 302", "/ab", "404 missing"},
		{"no time is known", "redirect r when time absent to /a as 302", "/", "302 redirect by r to /a"},
		{"some time is known", "redirect r when time absent to /a as 302", "/|time: 2026-01-01T00:00:00Z", "200 document file /index.html"},
		{"times far off", "redirect r when time after 2300-01-01 to /a as 302", "/|time: 2026-01-01T00:00:00Z", "200 document file /index.html"},
		{"times far off come", "redirect r when time after 2300-01-01 to /a as 302", "/|time: 2400-01-01T00:00:00Z", "302 redirect by r to /a"},
		{"times long ago", "redirect r when time before 1600-01-01 to /a as 302", "/|time: 1599-01-01T00:00:00Z", "302 redirect by r to /a"},

		{"redirect", "redirect r on /old to /fares/ as permanent", "/old", "301 redirect by r to /fares/"},
		{"redirect keeps the query", "redirect r on /old to /fares/ as 308", "/old?a=1&b", "308 redirect by r to /fares/?a=1&b"},
		{"redirect with its own query drops", "redirect r on /old to /fares/?from=old as 302", "/old?a=1", "302 redirect by r to /fares/?from=old"},
		{"query merge", "redirect r on /old to /fares/?a=9 as 302 query merge", "/old?a=1&b=2&b=3", "302 redirect by r to /fares/?a=9&b=2&b=3"},
		{"query only", "redirect r on /old to /fares/ as 302 query only b", "/old?a=1&b=2&b=3", "302 redirect by r to /fares/?b=2&b=3"},
		{"query drop", "redirect r on /old to /fares/ as 302 query drop", "/old?a=1", "302 redirect by r to /fares/"},
		{"a capture goes into a path as it is", "redirect r on /t/:x.php to /u/{x}/ as 302", "/t/%C3%A4.php", "302 redirect by r to /u/%C3%A4/"},
		{"a capture goes into a query as a component", "redirect r on /t/:x to /u?x={x} as 302", "/t/a+b%C3%A4", "302 redirect by r to /u?x=a%2Bb%C3%A4"},
		{"a newline from a capture stays encoded", "redirect r on /t/:x to /u/{x} as 302", "/t/a%0d%0aSet-Cookie:x", "302 redirect by r to /u/a%0D%0ASet-Cookie:x"},
		{"a target never names another host", "redirect r on /t* to /{1} as 302", "/t/%5Cevil.example", "302 redirect by r to /%5Cevil.example"},
		{"two slashes become one", "redirect r on /t* to /{1} as 302", "/t/evil.example", "302 redirect by r to /evil.example"},
		{"a dot segment in a result", "redirect r on /t/:x to /u/{x}. as 302", "/t/.x", "302 redirect by r to /u/.x."},
		{"a dot segment in a result is refused", "redirect r on /t/:x-y to /u/{x}/z as 302", "/t/..-y", "500 bad-target by r"},
		{"host and path", "redirect r when scheme http to https://{host}{path} as 301", "http://s.example/a?b", "301 redirect by r to https://s.example/a?b"},
		{"a value in a host is a label", "redirect r on /go/:town to https://{town}.s.example/ as 302", "/go/a.b", "500 bad-target by r"},
		{"lower and dashes", "redirect r on /B/:x to /b/{x|lower|dashes} as 302", "/B/The%20Big_Boat%C3%84", "302 redirect by r to /b/the-big-boat%C3%A4"},
		{"ignoring case", "redirect r on /Boats/:x ignoring case to /b/{x} as 302", "/bOATS/X", "302 redirect by r to /b/X"},
		{"the first entry wins", "redirect a on /x to /1 as 302\nredirect b on /x to /2 as 302", "/x", "302 redirect by a to /1"},
		{"a value of when", "redirect r on /old when query.id ~(?P<n>\\d+) to /n/{n} as 302 query drop", "/old?id=17", "302 redirect by r to /n/17"},
		{"a host's label", "redirect r when host :boat.boats.example to https://s.example/boats/{boat} as 302", "http://kittiwake.boats.example/", "302 redirect by r to https://s.example/boats/kittiwake"},
		{"one of two hosts that name a label", "redirect r when host :boat.boats.example :boat.ferries.example to https://s.example/boats/{boat} as 302", "http://kittiwake.ferries.example/", "302 redirect by r to https://s.example/boats/kittiwake"},
		{"a fragment", "redirect r on /old to /fares/#adults as 302", "/old", "302 redirect by r to /fares/#adults"},

		{"rewrite", "rewrite w on /prices to /fares/", "/prices", "200 document file /fares/index.html"},
		{"rewrite is read on below, not above", "redirect a on /fares/ to /no as 302\nrewrite w on /prices to /fares/\nredirect b on /fares/ to /yes as 302", "/prices", "302 redirect by b to /yes"},
		{"rewrite finish", "rewrite w on /prices to /fares/ then finish\nredirect b on /fares/ to /yes as 302", "/prices", "200 document file /fares/index.html"},
		{"rewrite again", "redirect a on /fares/ to /yes as 302\nrewrite w on /prices to /fares/ then again", "/prices", "302 redirect by a to /yes"},
		{"a rewrite that never rests", "rewrite w in / to /x{path} then again", "/a", "500 rewrite-loop by w"},
		{"the path as it stands", "rewrite w on /a to /b\nredirect r when path /b when asked /a to /c as 302", "/a", "302 redirect by r to /c"},

		{"reply", "reply g on /g with 410", "/g", "410 reply by g"},
		{"handoff", "handoff app in /booking/", "POST /booking/new", "app handoff by app"},
		{"refuse", "access c in /crew/ unless client 192.0.2.0/24 refuse", "/crew/rota.html|client: 203.0.113.9", "403 refused by c"},
		{"refuse passes", "access c in /crew/ unless client 192.0.2.0/24 refuse", "/crew/rota.html|client: 192.0.2.7", "200 file file /crew/rota.html"},
		{"a mapped address", "access c in /crew/ unless client 192.0.2.0/24 refuse", "/crew/rota.html|client: ::ffff:192.0.2.7", "200 file file /crew/rota.html"},
		{"admit", "access a on /crew/rota.html admit\naccess c in /crew/ refuse 404", "/crew/rota.html", "200 file file /crew/rota.html"},
		{"methods", "access m unless method GET HEAD POST refuse 405", "PUT /", "405 refused by m"},
		{"ask", "access k in /crew/ ask Crew accounts crew.accounts", "/crew/rota.html", "401 asked by k"},
		{"no password at all", "access k in /crew/ ask Crew accounts crew.accounts", "/crew/rota.html|Authorization: Basic Ym86", "200 file file /crew/rota.html"},
		{"a name alone is not a name and password", "access k in /crew/ ask Crew accounts crew.accounts", "/crew/rota.html|Authorization: Basic Ym8=", "401 asked by k"},
		{"a wrong password", "access k in /crew/ ask Crew accounts crew.accounts", "/crew/rota.html|Authorization: Basic YWRhOng=", "401 asked by k"},

		{"moves", "moves m table moves.csv", "/old?x=1", "301 redirect by m to /fares/?x=1"},
		{"moves: gone", "moves m table moves.csv", "/gone", "410 reply by m"},
		{"moves: a query", "moves m table moves.csv", "/q?id=1", "302 redirect by m to /boats/?b=1"},
		{"moves: another query", "moves m table moves.csv", "/q?id=2", "404 missing"},
		{"moves: a full address", "moves m table moves.csv", "http://s.example/full", "308 redirect by m to https://t.example/x"},
		{"moves: another scheme", "moves m table moves.csv", "/full", "404 missing"},

		{"fallback", "fallback p in /planner/ to /planner/index.html", "/planner/route/7", "200 fallback by p file /planner/index.html"},
		{"fallback tries in order", "fallback p to {path}.html /notes.txt", "/x", "200 fallback by p file /notes.txt"},
		{"fallback with a status", "fallback p to /notes.txt as 404", "/x", "404 fallback by p file /notes.txt"},
		{"a fallback that has nothing is passed", "fallback p to /none\nfallback q to /notes.txt", "/x", "200 fallback by q file /notes.txt"},
		{"error page", "error e for 4xx show /errors/404.html", "/x", "404 missing file /errors/404.html"},
		{"error page that is missing", "error e for 404 show /errors/no.html", "/x", "404 missing"},

		{"a bad result has its error page", "redirect r on /t/:x-y to /u/{x}/z as 302\nerror e for 5xx show /errors/404.html", "/t/..-y", "500 bad-target by r file /errors/404.html"},
		{"a bad header value has none", "header h set X-A {query.a}\nerror e for 5xx show /errors/404.html", "/?a=%0A", "500 bad-target by h"},

		{"limit", "limit l url 10B", "/0123456789", "414 too-large by l"},
		{"limit: equal passes", "limit l url 10B", "/012345678", "404 missing"},
		{"file exists", "rewrite w when file missing to /index.html", "/x", "200 file file /index.html"},
		{"query absent", "redirect r on /s when query.q absent to /s?q=all as 302", "/s?", "302 redirect by r to /s?q=all"},
		{"the language that is asked for first", "redirect r on / when language de* to /de/ as 302", "/|Accept-Language: en;q=0.7, de-AT", "302 redirect by r to /de/"},
		{"the first of two alike", "redirect r on / when language fr to /fr/ as 302", "/|Accept-Language: fr, de", "302 redirect by r to /fr/"},
		{"none that is refused", "redirect r on / when language absent to /any/ as 302", "/|Accept-Language: *, de;q=0", "302 redirect by r to /any/"},
		{"none where nothing is told", "redirect r on / when language present to /x/ as 302", "/", "200 document file /index.html"},
		{"a language in a target", "redirect r on / when language present to /{language}/ as 302", "/|Accept-Language: de-AT;q=0.9,en;q=0.8", "302 redirect by r to /de-at/"},
		{"cookie", "redirect r on / when cookie.lang de to /de/ as 302", "/|Cookie: a=b; lang=de", "302 redirect by r to /de/"},
		{"agent", "access b when agent *bot* refuse", "/|User-Agent: a bot 1.0", "403 refused by b"},
		{"not modified", "", "/notes.txt|If-None-Match: *", "304 unchanged file /notes.txt"},
		{"a hidden sibling is not the file", "compress c using gzip", "/app.js|Accept-Encoding: gzip", "200 file file /app.js"},
	} {
		t.Run(test.name, func(t *testing.T) {
			e := build(t, test.rules)
			parts := strings.Split(test.asks, "|")
			req := get(t, parts[0], parts[1:]...)
			if got := summary(e.Predict(req)); got != test.want {
				t.Errorf("%s\ngot  %s\nwant %s", test.asks, got, test.want)
			}
			if r, _ := e.Trace(req); summary(r) != test.want {
				t.Errorf("traced: %s, want %s", summary(r), test.want)
			}
		})
	}
}

// The compiled way and the plain way must agree, whatever the rulebook.
func TestCompiledAgreesWithReadingInOrder(t *testing.T) {
	r := rand.New(rand.NewSource(7))
	pick := func(list ...string) string { return list[r.Intn(len(list))] }
	paths := []string{"/notes.txt", "/", "/a", "/a/", "/b", "/a/b", "/a/b/", "/a/b.php", "/A", "/a/B.PHP", "/c/a", "/a%20b", "/%C3%A4", "/%C3%84/b", "/old", "/OLD", "/gone", "/q", "/a/x-y", "/fares", "/k", "/b/a/c"}
	seen := map[Cause]int{}
	for range 1200 {
		var rules strings.Builder
		for i := range 1 + r.Intn(14) {
			kind := pick("redirect", "redirect", "rewrite", "reply", "access", "fallback", "error", "header", "folder", "moves", "handoff", "limit")
			fmt.Fprintf(&rules, "%s e%d", kind, i)
			if r.Intn(4) > 0 {
				rules.WriteString(" on " + pick("/a", "/a/:x", "/a/*", "/:x", "/:x/b", "/*", "/a{/}?", "/:x.php", "~/a.*", "~.*b", "/ä", "/a/:x-:y", "/old", "/:a/:b/:c", "/a/:r*", "*", `~/\w+\b.*`, "/ä/*", "/k", "/a /b/*"))
			}
			if r.Intn(4) == 0 {
				rules.WriteString(" in " + pick("/", "/a/", "/a", "/A", "/b /a/b"))
			}
			if r.Intn(3) == 0 {
				rules.WriteString(" " + pick("when", "unless") + " " + pick("scheme http", "host www.s.example", "host *.example", "method POST", "method GET HEAD", "client 192.0.2.0/24", "client 192.0.2.7 2001:db8::/32", "agent *bot*", "agent absent", "query.id 1", "query present", "port 8080", "port over 1024", "cookie.c x", "path /a", "asked /a*", "file missing", "file folder", "user present", "body over 5B"))
			}
			if r.Intn(4) == 0 {
				rules.WriteString(" ignoring case")
			}
			rules.WriteString(map[string]string{
				"redirect": " to " + pick("/r", "/a", "/b{path}", "https://{host}{path}") + " as " + pick("301", "302", "307"),
				"rewrite":  " to " + pick("/a", "/b", "/a/b", "/n{path}", "/A") + pick("", " then next", " then finish", " then again"),
				"reply":    " with 410", "handoff": "", "moves": " table moves.csv",
				"access":   pick(" refuse", " refuse 404", " admit", " ask R accounts crew.accounts"),
				"fallback": " to " + pick("/notes.txt", "{path}.html /index.html") + pick("", " as 404"),
				"error":    " for " + pick("404", "4xx", "403 410") + " show " + pick("/errors/404.html", "/none"),
				"header":   " " + pick("set X-A 1", "default X-A 2", "add X-B {path}", "drop X-A"),
				"folder":   " " + pick("listing on", "documents none", "slash leave", "slash drop", "hidden on"),
				"limit":    " " + pick("url 12B", "body 3B"),
			}[kind] + "\n")
		}
		if strings.Contains(rules.String(), "hidden on") && strings.Contains(rules.String(), " file ") {
			continue // they do not go together in one entry
		}
		e := build(t, rules.String())
		for range 25 {
			req := get(t, pick("https://s.example", "http://s.example", "https://www.s.example", "http://x.example:8080")+paths[r.Intn(len(paths))]+pick("", "", "?id=1", "?x"))
			req.Method = pick("GET", "GET", "POST", "HEAD")
			req.Client = netip.MustParseAddr(pick("192.0.2.7", "203.0.113.1", "2001:db8::1"))
			req.Body = int64(r.Intn(9))
			if r.Intn(2) == 0 {
				req.Headers = append(req.Headers, request.Header{Name: "User-Agent", Value: pick("bot", "reader")}, request.Header{Name: "Cookie", Value: "c=x"})
			}
			got, want := e.Predict(req), first(e.Trace(req))
			a, b := fmt.Sprint(summary(got), got.Headers, got.Size), fmt.Sprint(summary(want), want.Headers, want.Size)
			if a != b {
				t.Fatalf("%s %s\ncompiled %s\nin order %s\n%s", req.Method, req.Address, a, b, rules.String())
			}
			seen[got.Cause]++
		}
	}
	for _, c := range []Cause{CauseRedirect, CauseReply, CauseRefused, CauseFallback, CauseRewriteLoop, CauseHandoff, CauseMissing, CauseTooLarge, CauseFile} {
		if seen[c] == 0 {
			t.Errorf("no answer with cause %s was tried", c)
		}
	}
}

func first(r *Response, _ *Trace) *Response { return r }

// What a refusal of methods allows (RFC 9110, 10.2.1).
func TestMethodsThatARefusalLeaves(t *testing.T) {
	for _, test := range []struct{ rule, asks, allow string }{
		{"access a unless method GET HEAD refuse 405", "POST /", "GET, HEAD"},
		{"access a unless method ~GET|HEAD refuse 405", "POST /", "GET, HEAD"},
		{"access a unless method P* GET refuse 405", "DELETE /", "GET, POST, PUT, PATCH"},
		{"access a unless method GET unless method REPORT refuse 405", "POST /", "GET, REPORT"},
		{"access a when method POST refuse 405", "POST /", "GET, HEAD, OPTIONS"},
		{"access a when method ~[A-Z]+ refuse 405", "POST /", ""},
	} {
		r := build(t, test.rule).Predict(get(t, test.asks))
		if allow, ok := r.Get("Allow"); r.Status != 405 || allow != test.allow || !ok {
			t.Errorf("%s: %d, Allow: %q, want %q", test.rule, r.Status, allow, test.allow)
		}
	}
}

// An answer that the entries, read one by one, do not give is a mistake of the program.
func TestAContradictionIsTold(t *testing.T) {
	e := build(t, "redirect r on /a to /b as 302")
	req := get(t, "/a")
	right := e.Predict(req)
	if _, err := e.Confirm(req, right); err != nil {
		t.Errorf("there is none: %v", err)
	}
	for _, change := range []func(*Response){
		func(r *Response) { r.Status = 301 }, func(r *Response) { r.Location = "/c" }, func(r *Response) { r.By = nil }, func(r *Response) { r.Cause = CauseSlash },
		func(r *Response) { r.Headers = nil }, func(r *Response) { r.Encoded++ },
	} {
		wrong := *right
		change(&wrong)
		if _, err := e.Confirm(req, &wrong); err == nil || !strings.Contains(err.Error(), "a mistake of Kibitz") || !strings.Contains(err.Error(), "https://s.example/a") {
			t.Errorf("%s against %s: %v", summary(&wrong), summary(right), err)
		}
	}
}

// Of a site without a tree the reading alone is known.
func TestAnUnknownTree(t *testing.T) {
	book, err := rulebook.Read("t.kibitz", []byte("site s address https://s.example\nredirect r on /a to /b as 302\naccess x on /c refuse\nerror e for 403 text No.\nreply p on /p with 200 text Yes.\nheader h set X-A 1\n"), nil)
	if err != nil {
		t.Fatal(err)
	}
	e := New(book, []*site.Tree{nil})
	for asks, want := range map[string]string{
		"/": "files unknown-tree", "/none": "files unknown-tree", "POST /none": "files unknown-tree", "HEAD /b/": "files unknown-tree",
		"/a": "302 redirect by r to /b", "/c": "403 refused by x", "/p": "200 reply by p",
	} {
		req := get(t, asks)
		r := e.Predict(req)
		if got := summary(r); got != want {
			t.Errorf("%s: %s, want %s", asks, got, want)
		}
		if _, err := e.Confirm(req, r); err != nil {
			t.Error(err)
		}
		for _, word := range []string{"200", "4xx", "app"} {
			if r.Status == 0 && StatusFits(word, r) {
				t.Errorf("%s is %s, and passes for %s", asks, want, word)
			}
		}
	}
	if known := New(book, []*site.Tree{site.New()}); summary(known.Predict(get(t, "/"))) != "403 no-document" {
		t.Errorf("an empty tree is a tree: %s", summary(known.Predict(get(t, "/"))))
	}
}

// What people read: texts and filled pages show letters, and what a link needs stays.
func TestValuesForPeople(t *testing.T) {
	tree := map[string]string{
		"/404.html":    "<a href=\"{path}\">{path}</a> {query}",
		"/latin1.html": "<p>Schl\xfcssel {path}",
	}
	for _, test := range []struct{ rules, asks, want string }{
		{"error e for 404 show /404.html fill on", "/f%C3%A4hre%20x%22%3Cb%3E?q=%C3%A4%26", "<a href=\"/fähre x%22%3Cb%3E\">/fähre x%22%3Cb%3E</a> q=ä%26"},
		{"error e for 404 show /404.html fill on", "/a'&b%E2%80%AE%C2%85%FF%2F", "<a href=\"/a&#39;&amp;b%E2%80%AE%C2%85%FF%2F\">/a&#39;&amp;b%E2%80%AE%C2%85%FF%2F</a> "},
		{"error e for 404 show /latin1.html fill on", "/%C3%A4", "<p>Schl\xfcssel /%C3%A4"},
		{"error e on /:x for 404 text No {y}", "/%C3%A4", ""},
		{"error e on /:x for 404 text No {x}, {x|upper} or {path}.", "/%C3%A4%20b", "No ä b, Ä B or /ä b."},
		{"reply r on /x with 200 text {agent}", "/x|User-Agent: a%20b", "a%20b"},
	} {
		asks, header, _ := strings.Cut(test.asks, "|")
		if test.want == "" {
			if _, err := rulebook.Read("t.kibitz", []byte("site s address https://s.example\n"+test.rules), nil); err == nil || !strings.Contains(err.Error(), "the entry's patterns give {x}") {
				t.Errorf("%s: %v", test.rules, err)
			}
			continue
		}
		var headers []string
		if header != "" {
			headers = append(headers, header)
		}
		body, err := buildTree(t, test.rules, tree).Predict(get(t, asks, headers...)).Content()
		if err != nil || string(body) != test.want {
			t.Errorf("%s on %s: %q %v, want %q", test.rules, test.asks, body, err, test.want)
		}
	}
}

// A text is sent as UTF-8 where it is that.
func TestCharsets(t *testing.T) {
	long := strings.Repeat("ä", 40_000) // a character lies across the end of what is looked at
	e := buildTree(t, "media old in /old/ charset windows-1252", map[string]string{
		"/a.txt": "ä", "/b.txt": "\xe4", "/old/b.txt": "\xe4", "/long.txt": "a" + long, "/cut.txt": "a" + long[:65534] + "\xff", "/late.txt": "a" + long + "\xff", "/w.html": "\xff\xfea\x00", "/e.css": "", "/i.png": "\x89PNG",
	})
	for path, want := range map[string]string{
		"/a.txt": "text/plain; charset=utf-8", "/b.txt": "text/plain", "/old/b.txt": "text/plain; charset=windows-1252", "/long.txt": "text/plain; charset=utf-8",
		"/cut.txt": "text/plain", "/late.txt": "text/plain; charset=utf-8", "/w.html": "text/html", "/e.css": "text/css; charset=utf-8", "/i.png": "image/png",
	} {
		if got, _ := e.Predict(get(t, path)).Get("Content-Type"); got != want {
			t.Errorf("%s: %s, want %s", path, got, want)
		}
	}
}
