package replay

// The sums of a replay, which remembers what it has predicted, held against those of each
// line by itself, in an engine that has met no other.

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/iotest"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/proof/trial"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// anyEngine makes an engine for a rulebook of trial.Anything.
func anyEngine(t testing.TB, text string) *engine.Engine {
	t.Helper()
	book, err := rulebook.Read("a.kibitz", []byte(text), trial.AnythingLoad)
	if err != nil {
		t.Fatal(err)
	}
	return engine.New(book, []*site.Tree{site.Memory(trial.AnythingFiles), nil})
}

// anyLine writes a request as a line of an access log.
func anyLine(r *rand.Rand) string {
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	req := trial.AnyRequest(r)
	target := req.Address.Path
	if req.Address.HasQuery {
		target += "?" + req.Address.Query
	}
	if r.IntN(4) == 0 {
		target = req.Address.String()
	}
	client, at := "-", "10/Oct/2026:13:55:36 +0000"
	if req.Client.IsValid() {
		client = req.Client.String()
	}
	if !req.Time.IsZero() {
		at = req.Time.Format("02/Jan/2006:15:04:05 -0700")
	}
	tail := ""
	if r.IntN(5) > 0 {
		tail = fmt.Sprintf(" \"%s\" \"%s\"", pick("-", "-", "", "https://r.example/x", "https://r.example/z?y", "https://q.example/x", "https://s.example/", "Bad", "x\\x07"), pick("-", "-", "a bot", "Bad", "\\x00\\x01", "\x00\x01", "a spider", strings.Repeat("long ", 30)))
	}
	return fmt.Sprintf("%s%s - - [%s] \"%s %s HTTP/1.1\" %s 12%s", pick("", "", "", "", "", "www.s.example ", "t.example:8080 "), client, at, req.Verb(), target, pick("200", "404", "301", "304", "500"), tail)
}

// otherQuery gives a line that differs in its query alone, or hardly in more.
func otherQuery(r *rand.Rand, line string) string {
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	before, behind, _ := strings.Cut(line, " HTTP/1.1")
	before, _, _ = strings.Cut(before, "?")
	if i := strings.LastIndex(before, " /"); i >= 0 && r.IntN(3) == 0 {
		before = before[:i+1] + pick("/q", "/a", "/n", "/b/c.txt")
	}
	return before + pick("", "?", "?q=1", "?q=1", "?q=2", "?id=1", "?id=2", "?x", "?q=1&id=1", "?id=1&x", "?X-Much=%00") + " HTTP/1.1" + behind
}

// anyHeaders are of all requests that do not have them.
func anyHeaders(r *rand.Rand) (out []request.Header) {
	for _, h := range []request.Header{{Name: "Referer", Value: "https://r.example/y"}, {Name: "User-Agent", Value: "another bot"}, {Name: "Cookie", Value: "c=de"}, {Name: "Accept-Encoding", Value: "gzip"}, {Name: "Accept-Language", Value: "de-AT, en;q=0.5"}, {Name: "H", Value: "x"}, {Name: "If-None-Match", Value: "*"}} {
		if r.IntN(4) == 0 {
			out = append(out, h)
		}
	}
	return out
}

// sumsAlone adds up what each line gives by itself.
func sumsAlone(t testing.TB, book string, lines []string, o Options) *Tally {
	t.Helper()
	total := NewTally()
	for _, line := range lines {
		tally, err := Run(anyEngine(t, book), []Source{{Name: "log", Read: func(base request.Address, yield func(*list.Item)) (list.Counts, error) {
			return list.Read(strings.NewReader(line+"\n"), list.Options{Base: base, Format: list.FormatLog}, yield)
		}}}, Options{Workers: 1, Headers: o.Headers, forget: true})
		if err != nil {
			t.Fatal(err)
		}
		total.Merge(tally)
	}
	return total
}

// sumsTogether replays lines in each way that there is, and gives the first sums that are
// not those that are wanted.
func sumsTogether(t testing.TB, book string, lines []string, o Options, want string) (way, got string) {
	t.Helper()
	text := strings.Join(lines, "\n") + "\n"
	for _, workers := range []int{1, 3} {
		o.Workers = workers
		for way, replay := range map[string]func() (*Tally, error){
			"a file": func() (*Tally, error) {
				return LogFile(anyEngine(t, book), "log", strings.NewReader(text), int64(len(text)), list.FormatLog, o, func(int64) {})
			},
			"each": func() (*Tally, error) {
				return Run(anyEngine(t, book), []Source{{Name: "log", Read: func(base request.Address, yield func(*list.Item)) (list.Counts, error) {
					return list.Read(strings.NewReader(text), list.Options{Base: base, Format: list.FormatLog}, yield)
				}}}, o)
			},
			"a pipe": func() (*Tally, error) {
				return LogStream(anyEngine(t, book), "log", iotest.HalfReader(strings.NewReader(text)), list.FormatLog, o)
			},
		} {
			tally, err := replay()
			if err != nil {
				t.Fatal(err)
			}
			if got := sumsOnly(t, tally); got != want {
				return fmt.Sprintf("%s, %d workers", way, workers), got
			}
		}
	}
	return "", ""
}

// sumsOnly is the saved form of a tally without what it says of its lists.
func sumsOnly(t testing.TB, tally *Tally) string {
	tally.Lists = nil
	var b strings.Builder
	if err := tally.Save(&b, Rules{}); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// logBook writes a rulebook of two sites that looks at what logs tell, and copies it.
func logBook(r *rand.Rand) string {
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	test := func() string {
		return pick("", "", " when ", " unless ") + pick("agent Bad", "agent *bot*", "agent absent", "agent plain ~(?<who>[a-z])+bot.*", "agent ~(?<who>B).* present", "referrer https://r.example/x", "referrer https://r.example/", "referrer absent", "referrer https://s.example/ ~https://(?<page>[rs]).*",
			"client 192.0.2.0/24", "client 10.0.0.0/8 2001:db8::/32", "client absent", "time after 2026-03-01", "time before 2026-01-01", "query present", "query.q 1", "query.q 1", "query.id absent", "header.H present", "cookie.c de", "language de*", "user present", "scheme http")
	}
	lines := ""
	for site, head := range []string{"site s address https://s.example files public hosts www.s.example", "site t address http://t.example:8080"} {
		lines += head + "\n"
		for i := range 1 + r.IntN(5) {
			line := pick("redirect", "redirect", "access", "access", "reply", "header", "error", "rewrite", "limit", "moves") + fmt.Sprintf(" e%d-%d", site, i)
			kind, _, _ := strings.Cut(line, " ")
			line += pick("", "", " on /a", " on /*", " on /b/:x", " on /n /old")
			if t := test(); strings.HasPrefix(t, " ") {
				line += t
			}
			values := []string{"{path}", "{agent}", "{referrer}", "{client}", "{query.q}", "{time}", "{header.H}", "{language}", "{host}"}
			if strings.Contains(line, "<who>") {
				values = append(values, "{who}", "{who}")
			}
			if strings.Contains(line, "<page>") {
				values = append(values, "{page}", "{page}")
			}
			value := pick(values...)
			switch kind {
			case "redirect":
				line += " to " + pick("", "http://t.example:8080", "https://s.example", "{scheme}://{host}", "https://u.example", "https://www.s.example") + pick("/a", "/n", "/b/c.txt", "{path}", "/a?own="+value, "/n/"+value, "/very/long/path/that/limits/meet") + pick(" as 301", " as 302", " as 303", " as 307")
			case "access":
				line += pick(" refuse", " refuse 404", " admit")
			case "reply":
				line += pick(" with 204", " with 200 text "+value, " with 410")
			case "header":
				line += " set X-A " + value + pick("", " set X-B plain", " add X-C {agent}", " set X-Much "+strings.Repeat("{referrer}", 30), " add Set-Cookie \"c=de; Path=/\"", " set Referrer-Policy no-referrer", " set Referrer-Policy origin", " add Set-Cookie \"c="+value+"; Path=/\"", " add Set-Cookie \"c=; Max-Age=0; Path=/\"")
			case "error":
				line += pick(" for 404 text ", " for 4xx text ") + value
			case "rewrite":
				line += " to " + pick("/a", "/n", "/b/"+value, "{path}", "/x{path}") + pick("", " then finish", " then next")
			case "limit":
				line += pick(" url 20B", " url 30B", " url 60B", " headers 80B", " headers 200B")
			case "moves":
				line += " table anything.csv as permanent"
			}
			if _, err := rulebook.Read("a.kibitz", []byte(lines+line+"\n"), trial.AnythingLoad); err == nil {
				lines += line + "\n"
			}
		}
	}
	return lines
}

// A line counts for what it gives alone, whatever else is in the log, in whatever order.
func TestEachLineCountsAsIfItWereAlone(t *testing.T) {
	for seed := range uint64(sized(300)) {
		r := rand.New(rand.NewPCG(seed, 1))
		book := logBook(r)
		if seed%3 == 0 {
			book = trial.Anything(r, 5)
		}
		eachLineCounts(t, r, book)
	}
}

// What has been told as one, though it is not.
func TestLinesThatAreNotAlike(t *testing.T) {
	line := func(path, referrer, agent string) string {
		return fmt.Sprintf(`192.0.2.1 - - [10/Oct/2026:13:55:36 +0000] "GET %s HTTP/1.1" 200 12 "%s" "%s"`, path, referrer, agent)
	}
	withQueries := func(path string) (out []string) { // of which some make what they lead to too long
		for _, n := range []int{1, 10, 20, 30, 35, 40, 50} {
			out = append(out, line(path+"?q="+strings.Repeat("q", n), "-", "x"))
		}
		return out
	}
	queried := func(path string) (out []string) {
		for _, query := range []string{"", "?", "?id=1", "?id=2", "?id=1&x", "?x", "?id=%00"} {
			out = append(out, line(path+query, "-", "x"))
		}
		return out
	}
	const site, other = "site s address https://s.example files public\n", "site t address http://t.example:8080\n"
	for name, test := range map[string]struct {
		book    string
		headers []request.Header
		lines   []string
	}{
		"an agent that is the key of a class": {site + "access a when agent Bad refuse\naccess b when agent none1 none2 none3 none4 none5 none6 none7 Bad refuse 404\n" + other, nil,
			[]string{line("/a", "-", "Bad"), line("/a", "-", `\x01`), line("/a", "-", `\x00\x01`), line("/a", "-", "\x00\x01"), line("/a", "-", "x"), line("/a", "-", "\x00\x03"), line("/a", "-", "\x00\x02"), line("/a", "-", "\x00\x00")}},
		"no referrer, and one that is given": {site + "access a when referrer https://r.example/* refuse\n" + other, []request.Header{{Name: "Referer", Value: "https://r.example/x"}},
			[]string{line("/a", "https://q.example/", "x"), line("/a", "-", "x"), line("/a", "", "x")}},
		"a group that only some values have": {site + "reply a on /a when agent plain ~(?<who>.+)bot with 200 text {who}\n" + other, nil,
			[]string{line("/a", "-", "plain"), line("/a", "-", "shortbot"), line("/a", "-", "muchlongerbot"), line("/a", "-", "plain")}},
		"a plain header behind one that copies": {site + "header h set X-A {query.q}" + strings.Repeat("{agent}", 70) + " set X-B plain add X-C {agent}\n" + other, nil,
			[]string{line("/a", "-", "x"), line("/a", "-", strings.Repeat("long ", 150)), line("/a", "-", strings.Repeat("long ", 199)), line("/a", "-", "y")}},
		"a query that another site reads": {site + "redirect r on /go to http://t.example:8080/x as 302\n" + other + "redirect x when query.q 1 to /x?q=1 as 302\nreply y with 204\n", nil,
			[]string{line("/go?q=2", "-", "x"), line("/go?q=1", "-", "x"), line("/go", "-", "x")}},
		"an agent that another site reads": {site + "redirect r on /go to http://t.example:8080/x as 302\n" + other + "redirect x when agent bot to /x as 302\nreply y with 204\n", nil,
			[]string{line("/go", "-", "reader"), line("/go", "-", "bot"), line("/go", "-", "-")}},
		"a referrer of which another origin learns less": {site + "redirect r on /go to http://t.example:8080/x as 302\n" + other + "redirect x when referrer https://r.example/ to /x as 302\nreply y with 204\n", nil,
			[]string{line("/go", "https://q.example/page", "x"), line("/go", "https://r.example/page", "x")}},
		"agents that two sites tell apart in their own ways": {site + "access a when agent one refuse\nredirect r on /go to http://t.example:8080/x as 302\n" + other + "redirect x when agent two to /x as 302\nreply y with 204\n", nil,
			[]string{line("/go", "-", "none"), line("/go", "-", "two"), line("/go", "-", "one"), line("/go", "-", "-")}},
		"agents behind languages and queries": {site + "access a when language de refuse\naccess b when query.q 1 refuse\naccess c when cookie.c x refuse\naccess d when agent one refuse\n" + other, nil,
			[]string{line("/a?q=1", "-", "none"), line("/a", "-", "one"), line("/a", "-", "none")}},
		"a URL that grows by what is copied again and again": {site + "redirect r on /a/:x to /b/" + strings.Repeat("{x}", 8) + " as 302\nredirect s in /b/ to /c as 302 query drop\nlimit l url 400B\nreply a with 204\n" + other, nil,
			withQueries("/a/" + strings.Repeat("x", 45))},
		"a URL that grows by what is below, again and again": {site + "redirect r in /a/ to /b/" + strings.Repeat("{below}", 8) + " as 302\nredirect s in /b/ to /c as 302 query drop\nlimit l url 400B\nreply a with 204\n" + other, nil,
			withQueries("/a/" + strings.Repeat("x", 45))},
		"a URL that grows by groups in groups": {site + "redirect r on ~/a/((((((((1*)2)3)4)5)6)7)8) to /b/{1}{2}{3}{4}{5}{6}{7}{8} as 302\nredirect s in /b/ to /c as 302 query drop\nlimit l url 400B\nreply a with 204\n" + other, nil,
			withQueries("/a/" + strings.Repeat("1", 41) + "2345678")},
		"a referrer of one letter": {site + other, nil,
			[]string{line("/none", "x", "x"), line("/none", "x", "y"), line("/none", "-", "y")}},
		"a URL that is too long behind a redirect": {site + "redirect r on /old to /a/longer/path as 302\nredirect s on /a/longer/path to /a as 302\nlimit l url 24B\nreply a with 204\n" + other, nil,
			[]string{line("/old?q=1", "-", "x"), line("/old?q=123456789", "-", "x"), line("/old?q=1234567890123", "-", "x")}},
		"a row for one query":                       {site + "moves m table anything.csv as permanent\n" + other, nil, queried("/q")},
		"a row for one query, behind a rewrite":     {site + "rewrite r on /r to /q\nmoves m table anything.csv as permanent\n" + other, nil, queried("/r")},
		"a query that is looked at for one path":    {site + "reply y on /a when query.id 1 with 204\n" + other, nil, append(queried("/a"), queried("/b")...)},
		"a query that is looked at behind one path": {site + "redirect r on /old to /a as 301\nreply y on /a when query.id 1 with 204\n" + other, nil, append(queried("/old"), queried("/new")...)},
		"a query that is not passed on":             {site + "redirect r on /old to /a as 301 query drop\nreply y on /a when query.id 1 with 204\n" + other, nil, queried("/old")},
		"a query of which a part is passed on":      {site + "redirect r on /old to /a as 301 query only id\nreply y on /a when query.id 1 with 204\n" + other, nil, queried("/old")},
		"a query that is copied":                    {site + "redirect r on /old to /{query.id} as 301\nreply y on /1 with 204\n" + other, nil, queried("/old")},
		"a query that an error page shows":          {site + "error e for 404 text {query.id}\nreply y on /y when query.none present with 204\n" + other, nil, queried("/none")},
		"a query that decides of a file":            {site + "fallback f to /{query.id}.html /a\nreply y on /y when query.none present with 204\n" + other, nil, queried("/none")},
		"a query whose header is not valid":         {site + "header h set X-A {query.id}\nreply y on /y when query.none present with 204\n" + other, nil, queried("/none")},
		"a query that only a header looks at":       {site + "header h when query.id 1 set X-A b\nreply y on /y when query.none present with 204\n" + other, nil, queried("/none")},
		"a client before a query":                   {site + "reply y on /a when client 192.0.2.9 when query.id 1 with 204\n" + other, nil, queried("/a")},
		"a query that is too long":                  {site + "limit l url 24B\nreply y on /y when query.none present with 204\n" + other, nil, withQueries("/none")},
	} {
		t.Run(name, func(t *testing.T) {
			o := Options{Workers: 1, Headers: test.headers}
			want := sumsOnly(t, sumsAlone(t, test.book, test.lines, o))
			for range 2 {
				if way, got := sumsTogether(t, test.book, test.lines, o, want); got != "" {
					t.Errorf("%s: %s\neach alone: %s", way, got, want)
				}
				slices.Reverse(test.lines)
			}
		})
	}
}

// What is answered without a look at the query is answered so for any other.
func TestQueriesThatNobodyLooksAt(t *testing.T) {
	unqueried := 0
	for seed := range uint64(sized(1500)) {
		r := rand.New(rand.NewPCG(seed, 2))
		book := logBook(r)
		if seed%2 == 0 {
			book = trial.Anything(r, 6)
		}
		e := anyEngine(t, book)
		for range 20 {
			req := trial.AnyRequest(r)
			in := e.Inputs(req.Address.Host)
			resp, v := answer(e, req, true)
			if queried(resp, v) || in.URL < math.MaxInt64 || !in.Query {
				continue
			}
			unqueried++
			was := sumOf(resp, v)
			for _, query := range []string{"", "q=1", "q=2", "id=1", "id=2&q=de", "x", "q=%00"} {
				other := *req
				other.Address.Query, other.Address.HasQuery = query, query != ""
				if now := sumOf(answer(e, &other, true)); now != was {
					t.Fatalf("%s\nis answered %+v, and with the query %q %+v, by\n%s", req.Address, was, query, now, book)
				}
			}
		}
	}
	if unqueried < sized(1500) {
		t.Errorf("only %d requests were answered without a look at their query", unqueried)
	}
}

// FuzzEachLineCounts tries few lines in one way, so that it tries many rulebooks.
func FuzzEachLineCounts(f *testing.F) {
	f.Fuzz(func(t *testing.T, a, b uint64) {
		r := rand.New(rand.NewPCG(a, b))
		book := logBook(r)
		e, o := anyEngine(t, book), Options{Workers: 1, Headers: anyHeaders(r)}
		var lines []string
		unmemoized := NewTally()
		for range 10 {
			if lines = append(lines, anyLine(r)); len(lines) > 1 && r.IntN(2) == 0 {
				lines[len(lines)-1] = otherQuery(r, lines[r.IntN(len(lines)-1)])
			}
			var l list.Line
			if err := list.ParseLog([]byte(lines[len(lines)-1]), &l); err != nil {
				t.Fatal(err)
			}
			item, err := l.Item(o.base(e))
			if err != nil {
				t.Fatal(err)
			}
			from := fromPage(item.Request)
			agent, _ := item.Request.Get("user-agent")
			item.Request.AddMissing(o.Headers)
			result := &Result{List: "log", Item: item}
			result.Response, result.Visit = answer(e, item.Request, true)
			result.Query = queried(result.Response, result.Visit)
			result.From, result.Robot = from, VisitorOf(agent, nil) == Robots
			unmemoized.Add(result)
		}
		text := strings.Join(lines, "\n")
		together, err := LogFile(e, "log", strings.NewReader(text), int64(len(text)), list.FormatLog, o, func(int64) {})
		if err != nil {
			t.Fatal(err)
		}
		if got, want := sumsOnly(t, together), sumsOnly(t, unmemoized); got != want {
			t.Fatalf("with %v:\n%s\n%s\n%s\neach alone:\n%s", o.Headers, book, text, got, want)
		}
	})
}

func eachLineCounts(t *testing.T, r *rand.Rand, book string) {
	t.Helper()
	o := Options{Workers: 1}
	if r.IntN(2) == 0 {
		o.Headers = anyHeaders(r)
	}
	kinds := make([]string, 4+r.IntN(12)) // few, so that lines come again
	for i := range kinds {
		if kinds[i] = anyLine(r); i > 0 && r.IntN(2) == 0 {
			kinds[i] = otherQuery(r, kinds[r.IntN(i)])
		}
	}
	lines := make([]string, 40)
	for i := range lines {
		lines[i] = kinds[r.IntN(len(kinds))]
	}
	want := sumsOnly(t, sumsAlone(t, book, lines, o))
	for range 2 {
		if way, got := sumsTogether(t, book, lines, o, want); got != "" {
			lines := fewest(lines, func(lines []string) bool {
				_, got := sumsTogether(t, book, lines, o, sumsOnly(t, sumsAlone(t, book, lines, o)))
				return got != ""
			})
			want := sumsOnly(t, sumsAlone(t, book, lines, o))
			_, got = sumsTogether(t, book, lines, o, want)
			t.Fatalf("%s, with %v:\n%s\n%s\n%s\neach alone:\n%s", way, o.Headers, book, strings.Join(lines, "\n"), got, want)
		}
		r.Shuffle(len(lines), func(i, j int) { lines[i], lines[j] = lines[j], lines[i] })
	}
}

// fewest leaves lines out as long as what is left still shows something.
func fewest(lines []string, shows func([]string) bool) []string {
	for i := 0; i < len(lines); {
		if fewer := slices.Delete(slices.Clone(lines), i, i+1); shows(fewer) {
			lines = fewer
		} else {
			i++
		}
	}
	return lines
}

// What is remembered of a request is what is predicted for it anew: each answer of its visit,
// with its header.
func TestAnswersAreRememberedRight(t *testing.T) {
	told := func(resp *engine.Response, v *browser.Visit) string {
		out := fmt.Sprintf("%s %s %s %v", engine.StatusText(resp), resp.Cause, resp.Location, resp.Headers)
		if resp.By != nil {
			out += " " + resp.By.Name
		}
		if v != nil {
			out += " " + v.Summary()
			for _, h := range v.Hops[1:] {
				out += fmt.Sprintf("\n%s %s %s %v", h.Request.Address, engine.StatusText(h.Response), h.Response.Location, h.Response.Headers)
			}
		}
		return out
	}
	remembered := 0
	for seed := range uint64(sized(120)) {
		r := rand.New(rand.NewPCG(seed, 7))
		book := logBook(r)
		for _, light := range []bool{false, true} {
			m := newMemo(anyEngine(t, book), false)
			kinds := make([]*request.Request, 12)
			for i := range kinds {
				kinds[i] = trial.AnyRequest(r)
			}
			for range 60 {
				req := *kinds[r.IntN(len(kinds))]
				if other := kinds[r.IntN(len(kinds))]; r.IntN(2) == 0 { // of the same address, asked otherwise
					req.Headers, req.Client, req.Time = other.Headers, other.Client, other.Time
				}
				before := len(m.answers)
				a := m.predict(&req, light)
				got := told(a.response, a.visit)
				if want := told(answer(anyEngine(t, book), &req, light)); got != want {
					t.Fatalf("%s\n%s %s %v %s %s\nremembered: %s\nanew: %s", book, req.Verb(), req.Address, req.Headers, req.Client, req.Time, got, want)
				}
				if len(m.answers) == before {
					remembered++
				}
			}
		}
	}
	if remembered < 1000 {
		t.Errorf("only %d answers are remembered", remembered)
	}
}
