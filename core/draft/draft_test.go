package draft

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"kibitz/core/engine"
	"kibitz/core/proof"
	"kibitz/core/proof/trial"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// Whatever rulebook gives the answers: the draft is a rulebook, gives each of them or lists
// it with a reason, has no example that fails, and contradicts no page that it was shown.
func TestDraftsOfRandomRulebooks(t *testing.T) {
	books := 150
	if testing.Short() {
		books = 20
	}
	given, all := 0, 0
	for seed := range uint64(books) {
		r := rand.New(rand.NewPCG(seed, 11))
		text := trial.Anything(r, 10)
		book, err := rulebook.Read("a.kibitz", []byte(text), trial.AnythingLoad)
		if err != nil {
			t.Fatalf("%v in\n%s", err, text)
		}
		tree := site.Memory(trial.AnythingFiles)
		e := engine.New(book, []*site.Tree{tree, nil})
		s := &Source{Files: "public", Tree: tree, Table: "moves.csv"}
		for range 200 {
			req := trial.AnyRequest(r)
			req = &request.Request{Address: req.Address}
			if resp := e.Predict(req); resp.Word() == "" {
				s.Answers = append(s.Answers, &Answer{List: "l", Line: len(s.Answers) + 1, Request: req, Status: resp.Status, Location: resp.Location})
			}
		}
		if len(s.Answers) == 0 {
			continue
		}
		d, err := s.Write()
		if err != nil {
			t.Fatalf("seed %d: %v\n%s", seed, err, text)
		}
		if d.Agree+len(d.Left) != d.Answers || d.Answers != len(s.Answers) {
			t.Errorf("seed %d: %d given, %d left of %d", seed, d.Agree, len(d.Left), d.Answers)
		}
		given, all = given+d.Agree, all+d.Answers
		drafted, err := rulebook.Read("draft.kibitz", []byte(d.Rulebook), d.Read)
		if err != nil {
			t.Fatalf("seed %d: %v in\n%s\n%s", seed, err, d.Rulebook, d.Tables)
		}
		de := engine.New(drafted, []*site.Tree{tree})
		for _, f := range proof.Check(de, 1).Findings {
			if f.Severity != proof.Note {
				t.Errorf("seed %d: %s %s is not accepted in\n%s", seed, f.Name, f.Message, d.Rulebook)
			}
		}
		for _, f := range d.Accepted {
			if f.Name == "example-fails" || f.Name == "redirect-loop" && !loops(e, s.Answers) {
				t.Errorf("seed %d: %s %s in\n%s", seed, f.Name, f.Message, d.Rulebook)
			}
		}
		left := map[string]bool{}
		for _, l := range d.Left {
			if l.Why == "" || l.Predicted == "" {
				t.Errorf("seed %d: %s is left without a reason", seed, l.Answer.Request.Address)
			}
			left[l.Answer.Request.Address.String()] = true
		}
		for _, a := range s.Answers {
			if got := de.Predict(a.Request); !left[a.Request.Address.String()] && got.Word() == "" && got.Status != a.Status && got.Status != 200 {
				t.Errorf("seed %d: %s is said to be given: %d, and is %d", seed, a.Request.Address, a.Status, got.Status)
			}
		}
	}
	t.Logf("%d of %d answers are given (%.1f%%)", given, all, 100*float64(given)/float64(all))
	if 100*given < 35*all { // most of what they answer cannot be seen, or is as good as random
		t.Errorf("only %d of %d answers are given", given, all)
	}
}

// loops reports whether the answers themselves send visitors round.
func loops(e *engine.Engine, answers []*Answer) bool {
	for _, a := range answers {
		at := a.Request
		for range 20 {
			r := e.Predict(at)
			if r.Location == "" {
				break
			}
			to, err := at.Address.Resolve(r.Location)
			if err != nil {
				break
			}
			if at = (&request.Request{Address: to}); to == a.Request.Address {
				return true
			}
		}
	}
	return false
}

// at is an address of the site.
func at(path string) request.Address {
	return request.Address{Scheme: "https", Host: "s.example", Port: 443, Path: path}
}

// A few answers say what is meant; more of them do not change that.
func TestTemplates(t *testing.T) {
	for _, test := range []struct{ pairs, want string }{
		{"/a/1 /b/1, /a/22 /b/22, /a/333 /b/333", `on /a/:number(\d+) to /b/{number} as permanent`},
		{"/a/x.html /b/x/, /a/y.html /b/y/, /a/z.html /b/z/", "on /a/:name.html to /b/{name}/ as permanent"},
		{"/A/X.HTM /b/x/, /A/YY.HTM /b/yy/, /A/Z-1.HTM /b/z-1/", "on /A/:name.HTM to /b/{name|lower}/ as permanent"},
		{"/a/b/c/x /d/x, /a/b/c/y/z /d/y/z, /a/b/c/w/w/w /d/w/w/w", "in /a/b/c/ to /d/{below} as permanent"},
		{"/A/b/x /d/b/x, /A/b/y/z /d/b/y/z, /A/C/w /d/c/w", "in /A/ to /d/{below|lower} as permanent"},
		{"/s/x https://t.example/x, /s/y https://t.example/y, /s/ https://t.example/, /s/y/z https://t.example/y/z", "in /s/ to https://t.example/{below} as permanent"},
		{"/n/17-tern /b/tern.html, /n/204-plover /b/plover.html, /n/3-knot /b/knot.html", `on /n/:number(\d+)-:name to /b/{name}.html as permanent`},
		{"/n/2019/tern /b/tern.html, /n/2019/knot /b/knot.html, /n/2021/plover /b/plover.html, /n/2021/avocet /b/avocet.html", `on /n/:number(\d+)/:name to /b/{name}.html as permanent`},
		{"/f/tern.xml /b/, /f/knot.xml /b/, /f/plover.xml /b/, /f/tern.rss /b/, /f/knot.rss /b/, /f/plover.rss /b/, /f/x/y /b/x/y, /f/x/z /b/x/z, /f/x/a /b/x/a", "on /f/:name.rss /f/:name.xml to /b/ as permanent"},
		{"/a/index.html /a/, /b/c/index.html /b/c/, /d/index.html /d/, /index.html /", "on /:rest((?:.*/)?)index.html to /{rest} as permanent"},
		{"/2019/05/17/first-post /blog/first-post/, /2019/11/02/second-post /blog/second-post/, /2021/01/30/third /blog/third/, /2020/07/08/more /blog/more/", `on /:number(\d+)/:number2(\d+)/:number3(\d+)/:name to /blog/{name}/ as permanent`},
		{"/FARES/ /fares/, /Boats/Tern.html /boats/tern.html, /boats/KNOT.html /boats/knot.html, /Islands/Eider/X.html /islands/eider/x.html", "redirect lower on /:rest(.*[A-Z].*) to /{rest|lower} as permanent"},
		{"/a/print /a, /b/c/print /b/c, /d/print /d, /e/f/g/print /e/f/g", "on /:rest(.*)/print to /{rest} as permanent"},
		{"/a /a/, /b/c /b/c/, /d/e/f /d/e/f/, /g /g/", "on /:rest(.*[^/]) to /{rest}/ as permanent"},
		{"/a/ /a, /b/c/ /b/c, /d/e/f/ /d/e/f, /g/ /g", "on /:rest(.*)/ to /{rest} as permanent"},
		{"/s.php?cat=boats&page=tern /boats/tern.html, /s.php?cat=boats&page=knot /boats/knot.html, /s.php?cat=fares&page=adults /fares/adults.html, /s.php?cat=islands&page=eider /islands/eider.html", "on /s.php when query.cat ~(?<cat>[a-z0-9-]+) when query.page ~(?<page>[a-z0-9-]+) to /{cat}/{page}.html as permanent query drop"},
		{"/s.php?path=boats /boats/, /s.php?path=fares /fares/, /s.php?path=crew /crew/", "on /s.php when query.path ~(?<path2>[a-z0-9-]+) to /{path2}/ as permanent query drop"},
		{"/x?print=1 /x, /y?print=1 /y, /f/z?print=1 /f/z", "when query.print 1 to {path} as permanent query drop"},
		{"/x?sid=a /x, /y?sid=b /y, /f/z?sid=c /f/z", "when query.sid present to {path} as permanent query drop"},
		{"/f/x?print=1 /f/x, /f/y?print=1 /f/y, /f/z?print=1 /f/z", "when query.print 1 to {path} as permanent query drop"},
		{"/p-1-q /r/q/1, /p-2-s /r/s/2, /p-3-t /r/t/3", `on /p-:number(\d+)-:name to /r/{name}/{number} as permanent`},
		{"/x /y, /z /y, /w /y", "on /w /x /z to /y as permanent"},
		{"/f/ /y, /f/a /y, /f/b/c /y", "in /f/ to /y as permanent"},
		{"/a/b/x.html /d/b/x/, /a/c/y.html /d/c/y/, /a/e/f/z.html /d/e/f/z/", "on /a/:rest(.*).html to /d/{rest}/ as permanent"},
		{"/q/7 /n?id=7, /q/8 /n?id=8, /q/123 /n?id=123", `on /q/:number(\d+) to /n?id={number} as permanent`},
		{"/q/7?a=b /n/7?a=b, /q/8?a=c /n/8?a=c, /q/123?b=c /n/123?b=c", `on /q/:number(\d+) to /n/{number} as permanent`},
		{"/q/7?a=b /n/7, /q/8?a=c /n/8, /q/123?b=c /n/123", `on /q/:number(\d+) to /n/{number} as permanent query drop`},
		{"/q/7?a=b /n/7?x=1, /q/8?a=c /n/8?x=1, /q/123?b=c /n/123?x=1", `on /q/:number(\d+) to /n/{number}?x=1 as permanent`},
		{"/f/a /f/x/, /f/b /f/x/, /f/c /f/x/, /f/d/e /f/x/", "on /f/a /f/b /f/c /f/d/e to /f/x/ as permanent"}, // not the folder itself, which leads back
		{"/q?=1&id=7 /n/7, /q?=1&id=8 /n/8, /q?=2&id=99 /n/99", `on /q when query.id ~(?<id>\d+) to /n/{id} as permanent query drop`},
		{"/q?id=7 /n/7, /q?id=8 /n/8, /q?id=7&x=1 /n/7, /q?id=8&x=2 /n/8, /q?id=7&x=3 /n/7", `on /q when query.id ~(?<id>\d+) to /n/{id} as permanent query drop`},
		{"/q?id=7 /n/7, /q?id=8 /n/8, /q?id=99 /n/99", `on /q when query.id ~(?<id>\d+) to /n/{id} as permanent query drop`},
	} {
		s := &Source{Table: "moves.csv"}
		for _, pair := range strings.Split(test.pairs, ", ") {
			old, to, _ := strings.Cut(pair, " ")
			a, err := request.Parse(old, at("/"))
			if err != nil {
				t.Fatal(err)
			}
			s.Answers = append(s.Answers, &Answer{Request: &request.Request{Address: a}, Status: 301, Location: to})
		}
		d, err := s.Write()
		if err != nil {
			t.Fatal(err)
		}
		if got := strings.Join(strings.Fields(d.Rulebook), " "); !strings.Contains(got, test.want) || d.Rows != 0 {
			t.Errorf("%s: %s is not in\n%s%s", test.pairs, test.want, d.Rulebook, d.Tables)
		}
		if d.Agree != d.Answers {
			t.Error(fmt.Sprint(d.Left))
		}
	}
}

// What one visitor's program is refused is not a rule for all others.
func TestOneProgramIsNotEverybody(t *testing.T) {
	ask := func(path, agent string, status int) *Answer {
		a := &Answer{Request: &request.Request{Address: at(path)}, Status: status}
		if agent != "" {
			a.Request.Headers = []request.Header{{Name: "User-Agent", Value: agent}}
		}
		return a
	}
	tree := site.Memory(map[string]string{"/fares.html": "x", "/boats.html": "x", "/a.html": "x"})
	for _, test := range []struct {
		answers []*Answer
		want    string
		left    int
	}{
		{[]*Answer{ask("/fares.html", "", 200), ask("/fares.html", "Hoover", 403)}, "", 1},
		{[]*Answer{ask("/fares.html", "Hoover", 403), ask("/fares.html", "", 200)}, "", 1},
		{[]*Answer{ask("/fares.html", "Hoover", 403), ask("/boats.html", "Hoover", 403), ask("/a.html", "Hoover", 403), ask("/fares.html", "Reader", 200)}, "when agent Hoover refuse 403", 0},
	} {
		s := &Source{Answers: test.answers, Files: "public", Tree: tree}
		d, err := s.Write()
		if err != nil {
			t.Fatal(err)
		}
		if strings.Contains(d.Rulebook, "refuse") != (test.want != "") || !strings.Contains(strings.Join(strings.Fields(d.Rulebook), " "), test.want) || len(d.Left) != test.left {
			t.Errorf("want %q and %d left: %v in\n%s", test.want, test.left, d.Left, d.Rulebook)
		}
		for _, l := range d.Left {
			if !strings.Contains(l.Why, "program") {
				t.Errorf("%s is left: %s", l.Answer.Request.Address, l.Why)
			}
		}
	}
}

// A field that the files of a kind have is drafted for their extensions; names that are no
// extension say nothing.
func TestFieldsOfKindsOfFiles(t *testing.T) {
	s := &Source{Table: "moves.csv"}
	for _, path := range []string{"/save.old~", "/a.css", "/b.css", "/d/c.css", "/e.css", "/x.html", "/y.html", "/z.html", "/"} {
		a := &Answer{Request: &request.Request{Address: at(path)}, Status: 200, Header: []request.Header{{Name: "X-Kind", Value: "page"}}}
		if strings.HasSuffix(path, ".css") {
			a.Header = []request.Header{{Name: "x-kind", Value: "style"}}
		}
		s.Answers = append(s.Answers, a)
	}
	d, err := s.Write()
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{`on ~.*\.css for 200 304 set X-Kind style`, `on ~.*\.html for 200 304 set X-Kind page`} {
		if got := strings.Join(strings.Fields(d.Rulebook), " "); !strings.Contains(got, want) {
			t.Errorf("%s is not in\n%s", want, d.Rulebook)
		}
	}
}

// A site names itself in its map, to robots, or in its home page.
func TestWhereASiteIs(t *testing.T) {
	for text, want := range map[string]string{
		"/sitemap.xml <urlset><url><loc>https://www.s.example/a</loc>":                  "https://www.s.example/",
		"/robots.txt User-agent: *\nSitemap: http://s.example:8080/map.xml":             "http://s.example:8080/",
		"/index.html <link href='https://t.example/?x' rel='canonical'>":                "https://t.example/",
		"/index.html <link rel=canonical href=https://t.example/en/>":                   "https://t.example/",
		"/index.html <link rel=stylesheet href=https://t.example/a.css>":                "",
		"/fares.html <link rel=canonical href=https://t.example/en/>":                   "",
		"/index.html/a.html <link rel=canonical href=https://t.example/en/> (a folder)": "",
	} {
		name, page, _ := strings.Cut(text, " ")
		a, _, ok := FoundAddress(site.Memory(map[string]string{name: page}))
		got := ""
		if ok {
			got = a.String()
		}
		if got != want {
			t.Errorf("%s: %q, want %q", text, got, want)
		}
	}
}

// What is worth encoding is told with its size, in whole KiB.
func TestWhatAStartSaysOfSizes(t *testing.T) {
	tree := site.Memory(map[string]string{"/index.html": strings.Repeat("x", 1025), "/a.css": strings.Repeat("x", 1023), "/b.css": strings.Repeat("x", 3<<10-2), "/c.png": strings.Repeat("x", 5<<10)})
	b := &Beginning{Tree: tree, Files: "public", Address: at("/")}
	s, err := b.Write()
	if err != nil {
		t.Fatal(err)
	}
	if want := "Of what is larger than 1 KiB, 2 files of text, 3 KiB in all"; !strings.Contains(strings.Join(strings.Fields(strings.ReplaceAll(s.Rulebook, "#", "")), " "), want) {
		t.Errorf("%s is not in\n%s", want, s.Rulebook)
	}
}

// Which statuses become entries: what a visitor is refused or what is gone, and neither what
// asks for a name nor what a server failed to do.
func TestStatusesThatAreDrafted(t *testing.T) {
	for status, want := range map[int]string{
		399: "", 400: "reply status-400 on /x with 400", 401: "", 402: "reply status-402 on /x with 402", 403: "access refused on /x refuse 403", 404: "access hidden on /x refuse 404",
		405: "access status-405 on /x refuse 405", 410: "reply gone on /x with 410", 451: "access withheld on /x refuse 451", 499: "reply status-499 on /x with 499", 500: "", 501: "",
	} {
		s := &Source{Table: "moves.csv", Files: "public", Tree: site.Memory(map[string]string{"/index.html": "x", "/x": "x"})}
		s.Answers = append(s.Answers, &Answer{Request: &request.Request{Address: at("/x")}, Status: status})
		d, err := s.Write()
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		for _, line := range strings.Split(d.Rulebook, "\n") {
			if line = strings.Join(strings.Fields(line), " "); strings.Contains(line, " on /x") {
				got = line
			}
		}
		if got != want {
			t.Errorf("%d: %q, want %q in\n%s", status, got, want, d.Rulebook)
		}
	}
}

// A row that leads to its own path says something only where the query becomes another.
func TestRowsThatLeadToTheirOwnPath(t *testing.T) {
	for pair, want := range map[string]string{
		"/page?id=3 /page?no=4": "/page?id=3,/page?no=4,301\n",
		"/page?id=3 /page?id=3": "",
		"/page /page?id=3":      "",
		"/page?id=3 /page":      "/page?id=3,/page,301\n",
		"/page?id=3 /other":     "/page?id=3,/other,301\n",
	} {
		old, to, _ := strings.Cut(pair, " ")
		a, err := request.Parse(old, at("/"))
		if err != nil {
			t.Fatal(err)
		}
		s := &Source{Table: "moves.csv", Answers: []*Answer{{Request: &request.Request{Address: a}, Status: 301, Location: to}}}
		d, err := s.Write()
		if err != nil {
			t.Fatal(err)
		}
		table := ""
		for _, one := range d.Tables {
			_, table, _ = strings.Cut(one.Text, "\n")
		}
		if table != want {
			t.Errorf("%s: %q, want %q", pair, table, want)
		}
	}
}

// A host that is not sent on to the site is another one, whatever other names the site has.
func TestHostsThatAreNotTheSites(t *testing.T) {
	s := &Source{Table: "moves.csv", Files: "public", Tree: site.Memory(map[string]string{"/index.html": "x", "/a.html": "x"})}
	for _, told := range []string{"https://s.example/ 200", "https://s.example/a.html 200", "https://www.s.example/ 301 https://s.example/", "https://www.s.example/a.html 301 https://s.example/a.html", "https://t.example/none 403"} {
		words := strings.Fields(told + " .")
		a := &Answer{Request: &request.Request{}, Status: 200}
		a.Request.Address, _ = request.Parse(words[0], request.Address{})
		fmt.Sscan(words[1], &a.Status)
		if len(words) > 3 {
			a.Location = words[2]
		}
		s.Answers = append(s.Answers, a)
	}
	d, err := s.Write()
	if err != nil {
		t.Fatal(err)
	}
	if len(d.Left) != 1 || !strings.Contains(d.Left[0].Why, "its host is not sent on to the site") {
		t.Errorf("%+v in\n%s", d.Left, d.Rulebook)
	}
}

// What some clients may see and others not is no rule for all, and is told as what it is.
func TestAnswersThatDependOnTheClient(t *testing.T) {
	for name, test := range map[string]struct {
		clients  string
		statuses []int
		depends  bool
	}{
		"one may, one may not":      {"192.0.2.7 198.51.100.9", []int{200, 403}, true},
		"one client, then and now":  {"192.0.2.7 192.0.2.7", []int{200, 403}, false},
		"taken away in between":     {"192.0.2.7 198.51.100.9", []int{200, 404}, false},
		"the server failed for one": {"192.0.2.7 198.51.100.9", []int{403, 503}, false},
	} {
		s := &Source{Table: "moves.csv", Files: "public", Tree: site.Memory(map[string]string{"/index.html": "x"})}
		for i, client := range strings.Fields(test.clients) {
			a := &Answer{Request: &request.Request{Client: netip.MustParseAddr(client)}, Status: test.statuses[i]}
			a.Request.Address, _ = request.Parse("https://s.example/crew/", request.Address{})
			s.Answers = append(s.Answers, a)
		}
		d, err := s.Write()
		if err != nil {
			t.Fatal(err)
		}
		depends := slices.ContainsFunc(d.Left, func(l Left) bool { return strings.HasPrefix(l.Why, "it depends on the client") })
		if len(d.Left) == 0 || depends != test.depends {
			t.Errorf("%s: %+v in\n%s", name, d.Left, d.Rulebook)
		}
	}
}

// Media types that are others than usual, and charsets, are drafted by the extension of files;
// what an application answers says nothing of them.
func TestMediaTypesAreDrafted(t *testing.T) {
	files := map[string]string{"/a.ics": "x", "/b.ics": "x", "/c.html": "x", "/d.html": "x", "/e.css": "x", "/f.zzz": "x", "/g.yyy": "x", "/h.js": "x", "/i.js": "x"}
	s := &Source{Files: "public", Tree: site.Memory(files)}
	for path, kind := range map[string]string{
		"/a.ics": "text/x-calendar", "/b.ics": "text/x-calendar", "/c.html": "text/html; charset=ISO-8859-1", "/d.html": "text/html;charset=iso-8859-1", "/e.css": "text/css; charset=utf-8",
		"/f.zzz": "application/octet-stream", "/g.yyy": "application/x-yyy", "/h.js": "text/javascript", "/i.js": "text/plain", "/j.xls": "text/html", "/k.css": "nonsense",
	} {
		s.Answers = append(s.Answers, &Answer{Request: &request.Request{Address: at(path)}, Status: 200, Header: []request.Header{{Name: "content-type", Value: kind}}})
	}
	d, err := s.Write()
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, line := range strings.Split(d.Rulebook, "\n") {
		if strings.HasPrefix(line, "media") {
			got = append(got, strings.Join(strings.Fields(line), " "))
		}
	}
	want := `media html-charset on ~.*\.html charset iso-8859-1|media ics-files type ics text/x-calendar|media yyy-files type yyy application/x-yyy`
	if strings.Join(got, "|") != want {
		t.Errorf("%s, want %s in\n%s", strings.Join(got, "|"), want, d.Rulebook)
	}
}

// What is shown is told by what it says: the page of a folder by another name, and a file under
// another address. What is no file of the tree is not drawn from that.
func TestFilesAreToldByWhatTheySay(t *testing.T) {
	files := map[string]string{"/index.html": "home", "/boats/default.html": "boats", "/crew/default.html": "crew", "/crew/start.html": "other", "/plan/show.html": "planner", "/fares/index.html": "fares", "/x/a.html": "a", "/x/b.html": "b"}
	tree := site.Memory(files)
	sum := func(path string) string { return sumOf(tree.Find(path)) }
	s := &Source{Files: "public", Tree: tree}
	for path, of := range map[string]string{"/": sum("/index.html"), "/boats/": sum("/boats/default.html"), "/crew/": sum("/crew/default.html"), "/fares/": sum("/fares/index.html"), "/planner": sum("/plan/show.html"), "/reise": sum("/plan/show.html"), "/x/": "of a listing", "/app": "of an application"} {
		s.Answers = append(s.Answers, &Answer{Request: &request.Request{Address: at(path)}, Status: 200, Sum: of})
	}
	d, err := s.Write()
	if err != nil {
		t.Fatal(err)
	}
	text := strings.Join(strings.Fields(d.Rulebook), " ")
	for _, want := range []string{"folder pages documents index.html default.html", "rewrite planner on /planner /reise to /plan/show.html then finish"} {
		if !strings.Contains(text, want) {
			t.Errorf("%s is not in\n%s", want, d.Rulebook)
		}
	}
	left := ""
	for _, l := range d.Left {
		left += l.Answer.Request.Address.Path + " "
	}
	if len(d.Left) != 2 || !strings.Contains(left, "/x/ ") || !strings.Contains(left, "/app ") {
		t.Errorf("left is %s, want /x/ and /app", left)
	}
}

// A site is called by its host, but not by what would begin one of its clauses.
func TestNamesOfSites(t *testing.T) {
	for host, want := range map[string]string{"s.example": "s", "www.s.example": "s", "files.example": "files-site", "www.hosts.example": "hosts-site", "x_y.example": "site", "192.0.2.1": "192"} {
		if got := siteName(host); got != want {
			t.Errorf("%s: %s, want %s", host, got, want)
		}
	}
}
