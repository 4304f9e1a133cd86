package replay

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"math/rand"
	"os"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/iotest"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

func build(t testing.TB, rules string) *engine.Engine {
	t.Helper()
	book, err := rulebook.Read("t.kibitz", []byte("site s address https://s.example files public\n"+rules+otherSite), func(name string) ([]byte, error) {
		content, ok := map[string]string{"bots.kibitz": "access bots when agent *bot* refuse 410\n", "rows.csv": "/a,/b?x=1\n/c,/d\n"}[name]
		if !ok {
			return nil, os.ErrNotExist
		}
		return []byte(content), nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return engine.New(book, []*site.Tree{site.Memory(map[string]string{"/index.html": strings.Repeat("home ", 300), "/a.txt": "a", "/errors/404.html": "{path}"}), nil})
}

// otherSite is what a log's lines may ask for, too, if they name its host.
const otherSite = `
site other address https://t.example
access t-client when client 192.0.2.0/25 refuse
redirect t-query when query.y present to /a.txt as 301
include bots.kibitz
reply t-time when time after 2026-10-20 with 503
`

// access makes a log with everything that is odd in logs.
func access(n int) string {
	r := rand.New(rand.NewSource(3))
	var b strings.Builder
	pick := func(list ...string) string { return list[r.Intn(len(list))] }
	for range n {
		switch r.Intn(40) {
		case 0:
			b.WriteString(pick("garbage\n", "\n", "# note\n", "\x00\x01\n", strings.Repeat("x", 3000)+"\n"))
			continue
		}
		if r.Intn(20) == 0 {
			b.WriteString(pick("s.example ", "s.example:443 ", "t.example:8080 ", "u.example ", "[2001:db8::7]:443 ", "203.0.113.9:80 "))
		}
		fmt.Fprintf(&b, "%s - - [%02d/Oct/2026:13:55:36 +0000] \"%s\" %s 12", pick("192.0.2.1", "192.0.2.200", "192.0.2.7", "192.0.2.9", "192.0.2.10", "203.0.113.5", "203.0.113.6", "203.0.113.7", "198.51.100.4", "2001:db8::1", "-", "pier.example"), 1+r.Intn(28),
			pick("GET", "GET", "HEAD", "POST", "OPTIONS")+" "+pick("/", "/a.txt", "/%61.txt", "/none", "/none?x=1", "/old", "/old?q=2", "/loop", "/c1", "/a\\x22b", "http://s.example/a.txt", "http://t.example/a?x=1", "https://T.example/a?y=2#f", "http://u.example/", "http://[u", "*", "//a.txt", "/../x", "/"+strings.Repeat("l", 80), "/n"+fmt.Sprint(r.Intn(500)))+pick(" HTTP/1.1", " HTTP/2.0", ""), pick("200", "200", "404", "301", "500", "000"))
		if r.Intn(2) == 0 {
			fmt.Fprintf(&b, " \"%s\" \"%s\"", pick("-", "", "https://s.example/", "https://r.example/x", "https://r.example/\\x07"), pick("-", "", "a bot", "reader \\\"x\\\"", "a\\x01b", "a\x02b bot", "tab\\tbed", "del\x7f", strings.Repeat("long ", 500), strings.Repeat("mid ", 225)))
		}
		b.WriteString(pick("\n", "\n", "\r\n"))
	}
	return b.String()
}

var rulebooks = map[string]string{
	"of targets alone":             "redirect old on /old to / as 301\nredirect loop on /loop to /loop as 302\nredirect c on /c1 to /c2 as 302\nredirect d on /c2 to / as 302\nerror e for 404 show /errors/404.html\n",
	"of classes":                   "access bots when agent *bot* refuse\naccess net when client 192.0.2.0/25 refuse 404\nreply days when time after 2026-10-10 before 2026-10-12 with 503\naccess r when referrer https://r.example/* refuse 410\n",
	"of texts that copy":           "reply r on /old /a.txt with 200 text {agent}{query.q}\n",
	"of error texts that copy":     "error e for 404 text {referrer}{agent}\n",
	"of queries":                   "redirect q when query.x present to /a.txt as 301\nlimit l url 60B\n",
	"of entries alike":             interchangeable + "header h when client 192.0.2.9 set X-A b\n",
	"of entries alike to the last": "access a when client 192.0.2.1 refuse\naccess b when client 192.0.2.200 refuse\n",
	"of alike clients and agents":  "include bots.kibitz\n" + interchangeable + "error e for 404 show /errors/404.html\nreply days when time after 2026-10-10 with 503\n",
	"that copies much":             "header h for 404 set X-Much " + strings.Repeat("{agent}", 80) + "\n",
	"that copies":                  "error e for 404 show /errors/404.html fill on\nheader h set X-Client {client}\nreply t on /a.txt with 200 text {agent}\n",
}

// alike are entries of which each has clients of its own, and some have each other's.
const interchangeable = `
access a when client 192.0.2.1 refuse 404
access b when client 192.0.2.7 2001:db8::/32 refuse 404
access c when client 192.0.2.8/30 refuse 404
access d when client 192.0.2.200 refuse
access e1 when client 198.51.100.0/25 198.51.100.200 refuse
access f when client 203.0.113.5 203.0.113.7 admit
access g when client 203.0.113.6 admit
access i when client 203.0.113.6/31 refuse
reply j on /a.txt when client 203.0.113.5 with 204
`

// chances give one of several texts, and, once in so many times, an odd one.
func chances(seed int64, once int) (r *rand.Rand, pick func(...string) string, rarely func(usual string, odd ...string) string) {
	r = rand.New(rand.NewSource(seed))
	pick = func(list ...string) string { return list[r.Intn(len(list))] }
	rarely = func(usual string, odd ...string) string {
		if r.Intn(once) > 0 {
			return usual
		}
		return pick(odd...)
	}
	return r, pick, rarely
}

// tally in a form that can be compared.
func savedForm(t *testing.T, tally *Tally) string {
	t.Helper()
	var b bytes.Buffer
	tally.Lists[0].Name = ""
	if err := tally.Save(&b, Rules{}); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// sized is how much of something is tried: less where tests are to be short.
func sized(n int) int {
	if testing.Short() {
		return n / 5
	}
	return n
}

// The fast path must count what the slow one does, however many work on it.
func TestTheFastPathAgreesWithTheSlowOne(t *testing.T) {
	for name, rules := range rulebooks {
		t.Run(name, func(t *testing.T) { bothRoads(t, rules, access(sized(9000)), Choice{}, 1, 2, 7) })
		for i, choice := range choices {
			t.Run(fmt.Sprint(name, ", choice ", i), func(t *testing.T) { bothRoads(t, rules, access(sized(2000)), choice, 1, 2) })
		}
	}
	t.Run("more than is kept", func(t *testing.T) { bothRoads(t, rulebooks["of entries alike"], access(3*maxEntryLines), Choice{}, 1) })
	r := rand.New(rand.NewSource(8))
	for i := range sized(60) {
		var rules strings.Builder
		for n := range 1 + r.Intn(6) {
			fmt.Fprintf(&rules, fragments[r.Intn(len(fragments))]+"\n", n)
		}
		t.Run(fmt.Sprint("random-", i), func(t *testing.T) {
			bothRoads(t, rules.String(), access(600), slices.Concat(choices, make([]Choice, len(choices)))[r.Intn(2*len(choices))], 1, 2)
		})
	}
}

// fragments are entries that look at what logs tell, and at what they do not.
var fragments = []string{
	"access e%d when agent *bot* refuse", "access e%d when agent absent refuse 404", "access e%d when referrer https://r.example/* refuse 410", "access e%d when referrer absent refuse 403",
	"access e%d when client 192.0.2.0/25 refuse", "access e%d unless client 192.0.2.0/24 2001:db8::/32 refuse 404", "access e%d when client absent refuse 410",
	"access e%[1]d when client 192.0.2.1 refuse\naccess f%[1]d when client 192.0.2.7 192.0.2.9 refuse\naccess g%[1]d when client 2001:db8::/32 203.0.113.6 refuse", "access e%[1]d when client 203.0.113.0/29 admit\naccess f%[1]d when client 192.0.2.0/29 admit",
	"access e%d in / when client 192.0.2.200 admit", "reply e%d when time after 2026-10-08 before 2026-10-20 with 503", "reply e%d when time before 2026-10-05 with 410",
	"redirect e%d on /old to /a.txt as 301", "redirect e%d on /c1 to /c1 as 302", "redirect e%d when query.x present to /a.txt as 307", "redirect e%d on /:x when method HEAD POST to /{x}/x as 303",
	"rewrite e%d on /none to /a.txt", "fallback e%d in /n to /index.html", "limit e%d url 30B", "limit e%d headers 60B", "access e%d when cookie.a 1 refuse", "reply e%d on /none with 200 text {cookie.b}", "error e%d for 404 405 show /errors/404.html", "error e%d for 404 text {path}{agent}",
	"header e%d set X-Client {client}", "compress e%d using gzip types text/*", "reply e%d when method POST with 204",
	"redirect e%d on /old /none when agent ~.*(?P<who>bot|x).* to /{who} as 302", "redirect e%d on /bot to /a.txt as 301", "redirect e%d on /none when referrer ~https://(?P<r>[rs])\\..* to /{r} as 302", "redirect e%d on /r to /a.txt as 302",
	"reply e%d on /old with 200 text {client}", "header e%d set X-Agent {agent}", "header e%d in /a.txt / add X-From {referrer} add X-Path {path}", "header e%d when agent ~(?P<who>.*)bot set X-Who {who} set X-Both {client}{who}", "redirect e%d on /old to /?from={referrer} as 302",
}

// choices are of a part of the requests.
var choices = []Choice{
	{Only: []string{"404"}},
	{Only: []string{"differs"}},
	{Only: []string{"A", "c", "d", "f", "bots", "old", "301"}},
	{Only: []string{"b", "e1"}},
	{Only: []string{"loop", "chain", "app", "missing-target"}},
	{Since: time.Date(2026, 10, 9, 13, 55, 36, 1, time.UTC), Only: []string{"2xx", "differs", "g", "i"}},
	{Since: time.Date(2026, 10, 9, 13, 55, 36, 0, time.UTC), Until: time.Date(2026, 10, 20, 0, 0, 0, 0, time.UTC)},
	{Until: time.Date(2026, 10, 20, 13, 55, 36, 0, time.UTC)},
	{Since: time.Date(2030, 1, 1, 0, 0, 0, 0, time.UTC)},
}

// bothRoads compares the tallies of a log.
func bothRoads(t *testing.T, rules, text string, choice Choice, numbers ...int) {
	t.Helper()
	bothRoadsOf(t, list.FormatLog, rules, text, choice, numbers...)
}

func bothRoadsOf(t *testing.T, format list.Format, rules, text string, choice Choice, numbers ...int) {
	t.Helper()
	e := build(t, rules)
	source := Source{Name: "log", Read: func(base request.Address, yield func(*list.Item)) (list.Counts, error) {
		return list.Read(strings.NewReader(text), list.Options{Base: base, Format: format}, yield)
	}}
	o := Options{Workers: 2, Choice: choice, Whole: len(rules)%2 == 0, forget: true}
	wantShown := o.shown()
	slow, err := Run(e, []Source{source}, o)
	if err != nil {
		t.Fatal(err)
	}
	want := savedForm(t, slow)
	compare := func(way string, run func(Options) (*Tally, error), each bool) {
		t.Helper()
		o, shown := Options{Workers: o.Workers, Choice: choice, Whole: o.Whole}, wantShown
		if each {
			shown = o.shown()
		}
		tally, err := run(o)
		if err != nil {
			t.Fatal(err)
		}
		if got := savedForm(t, tally); got != want {
			t.Fatalf("%s%d workers on %s, each: %t:\n%s\nslowly:\n%s", rules, o.Workers, way, each, got, want)
		}
		if got, want := shown(), wantShown(); got != want {
			t.Fatalf("%s%d workers on %s, each:\n%s", rules, o.Workers, way, firstApart(got, want))
		}
	}
	compare("items", func(o Options) (*Tally, error) { return Run(e, []Source{source}, o) }, true)
	for i := range numbers {
		o.Workers = numbers[i]
		if Quick(format, true) {
			compare("a file", func(o Options) (*Tally, error) {
				return LogFile(e, "log", strings.NewReader(text), int64(len(text)), format, o, func(int64) {})
			}, i%2 == 0)
		}
		compare("a stream", func(o Options) (*Tally, error) {
			return LogStream(e, "log", iotest.HalfReader(strings.NewReader(text)), format, o)
		}, i%2 == 1)
	}
}

// shown makes a replay show each result, and gives what tells all of them, a line for each.
func (o *Options) shown() func() string {
	var b strings.Builder
	o.Each = InOrder(func(r *Result) {
		req := r.Item.Request
		slices.SortFunc(req.Headers, func(a, b request.Header) int { return strings.Compare(a.Name, b.Name) }) // of different names, whose order tells nothing
		fmt.Fprintf(&b, "%s:%d %v %v %q %d %q %t %t %q: %s\n", r.List, r.Item.Line, req.Client, req.Time, req.Headers, r.Item.Recorded, r.From, r.Robot, r.Query, r.Unmet, answerText(r, o.Whole))
	})
	return b.String
}

// answerText tells what is asked for and what becomes of it.
func answerText(r *Result, whole bool) string {
	resp, req := r.Response, r.Item.Request
	text := fmt.Sprintf("%s %s => %d %s %s %q %v", req.Verb(), req.Address, resp.Status, resp.Cause, ruleKey(resp.By), resp.Location, resp.File)
	if whole {
		text += fmt.Sprintf(" %q", resp.Headers)
	}
	if r.Visit != nil {
		text += " " + r.Visit.Summary()
	}
	return text
}

// firstApart gives the first lines in which two texts differ.
func firstApart(got, want string) string {
	a, b := strings.Split(got, "\n"), strings.Split(want, "\n")
	for i := range min(len(a), len(b)) {
		if a[i] != b[i] {
			return fmt.Sprintf("line %d: %s\nand not: %s", i+1, a[i], b[i])
		}
	}
	return fmt.Sprintf("%d lines, and not %d", len(a), len(b))
}

// w3cAccess makes a log whose lines have other fields from time to time, with everything
// that is odd in them.
func w3cAccess(n int) string {
	r, pick, rarely := chances(3, 15)
	var b strings.Builder
	sets := []string{
		"date time c-ip cs-method cs-uri-stem cs-uri-query sc-status sc-bytes cs(Referer) cs(User-Agent)",
		"time date s-ip cs-method cs-uri-stem cs-uri-query s-port cs-username c-ip cs(User-Agent) cs(Referer) sc-status time-taken",
		"c-ip date time cs-uri-stem cs-method sc-status cs(User-Agent)",
		"date time c-ip cs-method cs-uri cs-host cs(Cookie) sc-status",
		"date time c-ip cs-method cs-uri-query cs-uri-stem cs(Host) sc-status cs(Accept-Encoding)",
		"cs-uri-stem sc-status",
		"cs-method cs-uri-stem c-ip cs-uri-query date time sc-status",
		"date time cs-method cs-uri cs-uri-stem c-ip",
		"sc-status cs-method cs-uri-stem c-ip",
		"date time cs-uri-stem cs-uri-query cs-method sc-status sc-status",
	}
	var fields []string
	b.WriteString(pick("", "192.0.2.1 /early\n", "\ufeff") + "#Version: 1.0\n")
	for i := range n {
		if i%150 == 0 {
			fields = strings.Fields(sets[i/150%len(sets)])
			fmt.Fprintf(&b, "%s#Fields: %s\n", pick("", "", " ", "# #Fields: x\n"), strings.Join(fields, " "))
		}
		if r.Intn(60) == 0 {
			b.WriteString(pick("\n", " # note\n", "garbage\n", "\x00 \x01\n", "#Date: 2026-10-10\n", "# Fields: a b\n", "/x#Fields: c-ip\n", strings.Repeat("- ", len(fields)-1)+"-\n"))
			continue
		}
		for i, name := range fields {
			value := "-"
			switch strings.ToLower(name) {
			case "date":
				value = rarely(fmt.Sprintf("2026-10-%02d", 1+r.Intn(28)), "-", "10/10/2026", "\"2026-10-10\"")
			case "time":
				value = rarely("13:55:36", "-", "13:55:36.5", "13:55")
			case "c-ip":
				value = pick("192.0.2.1", "192.0.2.200", "192.0.2.7", "192.0.2.9", "203.0.113.5", "203.0.113.6", "198.51.100.4", rarely("2001:db8::1", "[2001:db8::1]", "-", "pier.example"))
			case "cs-method":
				value = rarely(pick("GET", "GET", "HEAD", "POST", "OPTIONS"), "-", "get", "\"GET\"")
			case "cs-uri-stem":
				value = rarely(pick("/", "/a.txt", "/%61.txt", "/none", "/old", "/loop", "/c1", "//a.txt", "/n"+fmt.Sprint(r.Intn(300))), "-", "*", "none", "/a+b", "/a?b", "/../x", "/\"a", "/"+strings.Repeat("l", 120))
			case "cs-uri":
				value = rarely(pick("/", "/a.txt?x=1", "/none", "/old?q=2", "/c1", "/n"+fmt.Sprint(r.Intn(300))), "http://t.example/a?y=1", "http://[u", "*", "-")
			case "cs-uri-query":
				value = pick("-", "-", "x=1", "q=2&y=3", rarely("a+b", "\"x\"", "?"))
			case "cs-host", "cs(host)":
				value = rarely("s.example", "-", "t.example", "S.example", "s.example:8443", "u.example")
			case "cs(cookie)":
				value = pick("-", "a=1;+b=2")
			case "cs(accept-encoding)":
				value = pick("-", "gzip,+br")
			case "sc-status":
				value = rarely(pick("200", "200", "404", "301", "500"), "-", "20", "x", "2000")
			case "cs(referer)":
				value = pick("-", "https://s.example/", "https://r.example/x", rarely("https://r.example/x+y", "\"https://r.example/a b\"", "\x02"))
			case "cs(user-agent)":
				value = pick("-", "a+bot", "reader/1.0+(x)", rarely("bot", "\"a bot\"", "a\x01b", strings.Repeat("long+", 300)))
			default:
				value = pick("-", "1", "80")
			}
			if i > 0 {
				b.WriteString(rarely(" ", "  ", "\t", " "))
			}
			b.WriteString(value)
		}
		b.WriteString(rarely("\n", "\r\n", " \n", " more\n"))
	}
	return b.String()
}

// jsonAccess makes a list of JSON lines, with everything that is odd in them.
func jsonAccess(n int) string {
	r, pick, rarely := chances(3, 12)
	var b strings.Builder
	for range n {
		fields := []string{`"url": ` + rarely(pick(`"/"`, `"/a.txt"`, `"/none?x=1"`, `"/old"`, `"/c1"`, `"https://s.example/a.txt?q=%41"`, fmt.Sprintf(`"/n%d"`, r.Intn(200))), `"https://t.example/a"`, `"x"`, `"//a.txt"`, `"/../a.txt"`, `"/a/./b"`, `"/%2e/a.txt"`, `"/a b"`, `"/a#b"`, `"/\u0061.txt"`, `"/ä"`, `"/a\\b"`, `7`, `""`, `"https://s.example"`, `"HTTPS://S.example/a.txt"`, `"/a?"`, `"/a?b?c"`)}
		if r.Intn(4) > 0 {
			fields = append(fields, `"method": `+rarely(pick(`"GET"`, `"HEAD"`, `"POST"`), `"get"`, `""`, `"G T"`, `null`))
		}
		if r.Intn(4) > 0 {
			fields = append(fields, `"client":`+rarely(pick(`"192.0.2.1"`, `"192.0.2.7"`, `"203.0.113.6"`, `"2001:db8::1"`), `"pier"`, `""`, `"-"`, `"fe80::1%eth0"`, `"::ffff:192.0.2.1"`))
		}
		if r.Intn(4) > 0 {
			fields = append(fields, `"time": `+rarely(fmt.Sprintf(`"2026-10-%02dT10:00:%02dZ"`, 1+r.Intn(28), r.Intn(60)), `"2026-10-10T10:00:00+02:00"`, `"2026-10-10"`, `"2026-10-10T10:00:61Z"`, `"2026-10-10T10:00:00.5Z"`, `""`))
		}
		if r.Intn(4) > 0 {
			fields = append(fields, `"status":`+rarely(pick("200", "404", "301"), `7`, `"404"`, `"app"`, `200.0`, `999`, `-1`))
		}
		if r.Intn(2) > 0 {
			fields = append(fields, fmt.Sprintf(`"headers": {%s: %s%s}`, pick(`"User-Agent"`, `"user-agent"`), rarely(pick(`"a bot"`, `"reader"`, `"bot"`), `"a\tbot"`, `""`, `["a bot"]`, `"bät"`, "\"a\xff\""), rarely("", `, "Referer": "https://r.example/x"`, `, "referer":"-"`, `, "Cookie": "a=1"`, `, "X-Other": "y"`, `, "User-Agent": "again"`)))
		}
		if r.Intn(6) == 0 {
			fields = append(fields, pick(`"body": 0`, `"body": 9`, `"note": "x"`, `"URL": "/a.txt"`, `"Status": 301`, `"more": {"url": "/none"}`, `"list": [1]`, `"ms": 1.5`, `"ok": true`, `"location": "/b"`, `"url": "/a.txt"`, `"cause": "file"`, `"recorded": 404`))
		}
		r.Shuffle(len(fields), func(i, j int) { fields[i], fields[j] = fields[j], fields[i] })
		b.WriteString(rarely("{"+strings.Join(fields, ", ")+"}", "{"+strings.Join(fields, ","), "{"+strings.Join(fields, "\t,\t")+"} ", "{"+strings.Join(fields, ",")+"} x", "\n", "# no comment", "[", "{}") + pick("\n", "\n", "\r\n"))
	}
	return b.String()
}

// csvAccess makes a table of requests, with everything that is odd in one.
func csvAccess(n int) string {
	r, pick, rarely := chances(3, 12)
	var b strings.Builder
	b.WriteString("url,client,Header.User-Agent,\"method\",time,status,header.Referer,header.Cookie,by,body\n")
	for range n {
		row := []string{
			rarely(pick("/", "/a.txt", "/none?x=1", "/old", "/c1", "https://s.example/a.txt?q=%41", fmt.Sprintf("/n%d", r.Intn(200))), "https://t.example/a", "x", "//a.txt", "/../a.txt", "/a b", `"/a,b"`, "/ä", "", `"/a""b"`, "\"/a\nb\"", `"/a`, `/a"`, `"/a"b`, "\"\r\n\"", "\"/a\n\n/b\""),
			rarely(pick("192.0.2.1", "192.0.2.7", "203.0.113.6", "2001:db8::1", ""), "pier", "-", `"192.0.2.1"`),
			rarely(pick("a bot", "reader", "", `"reader, a bot"`), `"a ""bot"""`, "-", "\"a\nbot\"", "a\tbot", "a\xff"),
			rarely(pick("GET", "HEAD", "POST", ""), "get", "G T", `"GET"`),
			rarely(pick(fmt.Sprintf("2026-10-%02dT10:00:%02dZ", 1+r.Intn(28), r.Intn(60)), ""), "2026-10-10T10:00:00+02:00", "2026-10-10"),
			rarely(pick("200", "404", "301", ""), "7", "app", "999"),
			rarely(pick("", "https://r.example/x"), "-", `"https://s.example/a,b"`),
			rarely("", "a=1"), rarely("", "e1"), rarely("", "0", "9"),
		}
		if r.Intn(12) == 0 {
			row = row[:1+r.Intn(len(row))]
		}
		b.WriteString(rarely(strings.Join(row, ","), "", " ", strings.Join(row, ",")+",x", "\"", `""`) + pick("\n", "\n", "\n", "\r\n"))
	}
	return b.String()
}

// plainAccess makes a plain list, with everything that is odd in one.
func plainAccess(n int) string {
	r, pick, rarely := chances(3, 12)
	var b strings.Builder
	for range n {
		b.WriteString(rarely(pick("", "", "GET ", "HEAD ", "POST "), "get ", "GET  ", "GET\t", " ", "G T "))
		b.WriteString(rarely(pick("/", "/a.txt", "/none?x=1", "/old", "/c1", "https://s.example/a.txt", fmt.Sprintf("/n%d", r.Intn(200))), "https://t.example/a", "x", "//a", "/ä", "/a b", "#/a", "/a#b", ""))
		b.WriteString(rarely("", " => 200", " => 301 /b", " # why", "\t", " ", " => nonsense") + pick("\n", "\n", "\n", "\r\n"))
		b.WriteString(rarely("", "  client 192.0.2.1\n", "  client pier\n", "\n", "# c\n", "\n  => 404\n", "\tUser-Agent: a bot\n", "\v\n  body 9\n", "\u00a0\n  time 2026-10-10T10:00:00Z\n", "# c\n  Referer: https://r.example/x\n\n  Cookie: a=1\n", "   \n", "\u2003x\n", "  => 200\n  nonsense\n"))
	}
	return b.String()
}

// eventAccess makes a JSON log, with everything that is odd in it.
func eventAccess(n int) string {
	r, pick, rarely := chances(3, 12)
	var b strings.Builder
	for range n {
		url := rarely(pick("/", "/a.txt", "/none", "/old", "/c1", fmt.Sprintf("/n%d", r.Intn(200))), "x", "/../a.txt", "/%2e/b", "/ä", "")
		query := rarely(pick("", "x=1", "q=2"), "?x=1", "a b")
		fields := []string{
			rarely(fmt.Sprintf(`"url.path":%q,"url.query":%q`, url, query), fmt.Sprintf(`"url":{"path":%q,"query":%q}`, url, query), fmt.Sprintf(`"url.full":"https://s.example%s"`, url), fmt.Sprintf(`"url.path":%q,"url.full":"/old"`, url), `"url":"/a.txt"`),
			rarely(`"http":{"request":{"method":"`+pick("GET", "HEAD", "POST")+`"},"response":{"status_code":`+pick("200", "404", `"301"`)+`}}`, `"http.request.method":"get"`, `"http.response.status_code":7`, `"http":[]`),
		}
		for _, one := range []string{
			rarely(`"client.address":"`+pick("192.0.2.1", "192.0.2.7", "203.0.113.6", "2001:db8::1")+`"`, `"client.address":"192.0.2.1:4711"`, `"network.peer.address":"192.0.2.7"`, `"client":{"address":""}`, `"client.address":"pier"`),
			rarely(fmt.Sprintf(`"timestamp":"2026-10-%02dT10:00:00Z"`, 1+r.Intn(28)), `"time":1772352000`, `"time":"noon"`, `"timestamp":"2026-10-10T10:00:00+02:00"`),
			rarely(`"user_agent.original":"`+pick("a bot", "reader")+`"`, `"user_agent.original":"-"`, `"user_agent":{"original":"a\tb"}`),
			rarely(`"level":"info","ms":3`, `"http.request.header.referer":"https://r.example/x"`, `"http.request.header.referer":["https://r.example/x"]`, `"http.request.header.cookie":"a=1"`, `"http.request.header.x-other":"y"`, `"http.request.header.user_agent":"bot"`, `"server.address":"t.example"`, `"server.address":"s.example","url.scheme":"https"`, `"http.request.body.size":9`, `"ms":1.5`),
		} {
			if r.Intn(4) > 0 {
				fields = append(fields, one)
			}
		}
		r.Shuffle(len(fields), func(i, j int) { fields[i], fields[j] = fields[j], fields[i] })
		b.WriteString(rarely("{"+strings.Join(fields, ",")+"}", `{"attributes":{`+strings.Join(fields, ",")+"}}", `{"Attributes":{`+strings.Join(fields, ",")+"}}", "{"+strings.Join(fields, ","), "", "[]") + "\n")
	}
	return b.String()
}

func TestTheFastPathAgreesOfAllFormats(t *testing.T) {
	formats := []struct {
		name  list.Format
		lines func(n int) string
		most  int
	}{{list.FormatW3C, w3cAccess, 6000}, {list.FormatJSONL, jsonAccess, 500}, {list.FormatJSONLog, eventAccess, 500}, {list.FormatCSV, csvAccess, 500}, {list.FormatPlain, plainAccess, 500}}
	for name, rules := range rulebooks {
		t.Run(name, func(t *testing.T) {
			for _, f := range formats {
				bothRoadsOf(t, f.name, rules, f.lines(sized(f.most)), Choice{}, 1, 2, 7)
				for _, choice := range choices {
					bothRoadsOf(t, f.name, rules, f.lines(sized(f.most/4)), choice, 2)
				}
			}
		})
	}
	t.Run("several chunks", func(t *testing.T) {
		bothRoadsOf(t, list.FormatCSV, rulebooks["of targets alone"], csvAccess(20_000), Choice{}, 1, 2, 7)
		bothRoadsOf(t, list.FormatPlain, rulebooks["of targets alone"], plainAccess(40_000), Choice{}, 1, 2, 7)
	})
	r := rand.New(rand.NewSource(8))
	for i := range sized(40) {
		var rules strings.Builder
		for n := range 1 + r.Intn(6) {
			fmt.Fprintf(&rules, fragments[r.Intn(len(fragments))]+"\n", n)
		}
		t.Run(fmt.Sprint("random-", i), func(t *testing.T) {
			for _, f := range formats {
				bothRoadsOf(t, f.name, rules.String(), f.lines(sized(f.most/3)), Choice{}, 1, 2)
			}
		})
	}
}

// Of many expectations that are not met the first are listed, whoever met them.
func TestTheFirstThatAreUnmet(t *testing.T) {
	var text strings.Builder
	for i := range 3 * maxUnmet {
		fmt.Fprintf(&text, "/n%d%s => 200\n", i, strings.Repeat("x", 100))
	}
	bothRoadsOf(t, list.FormatPlain, rulebooks["of targets alone"], text.String(), Choice{}, 1, 2, 7)
}

// More addresses than there is room for are forgotten and met again, and are counted all
// the same.
func TestMoreAddressesThanAreRemembered(t *testing.T) {
	r := rand.New(rand.NewSource(6))
	var text strings.Builder
	for i := range 3 * maxSlots / 2 {
		path := fmt.Sprint("/", i)
		switch {
		case i%3 == 0:
			path = fmt.Sprint("/often/", r.Intn(50))
		case i%11 == 0:
			path += strings.Repeat("/long", 30)
		}
		fmt.Fprintf(&text, "192.0.2.%d - - [10/Oct/2026:13:55:36 +0000] \"GET %s HTTP/1.1\" %d 1 \"https://s.example/\" \"reader\"\n", r.Intn(250), path, []int{200, 200, 200, 404, 500, 301}[min(r.Intn(400), 5)])
	}
	bothRoads(t, "fallback often in /often/ to /index.html\nreply rest in / with 200 text a\n"+interchangeable, text.String(), Choice{}, 1, 2)
}

// Chunks must cut a log only at line ends, wherever lines end.
func TestEveryLineIsReadOnce(t *testing.T) {
	var text strings.Builder
	n := 0
	for text.Len() < 3*chunkSize+chunkSize/2 {
		n++
		fmt.Fprintf(&text, "192.0.2.1 - - [10/Oct/2026:13:55:36 +0000] \"GET /%d HTTP/1.1\" 200 1 \"-\" \"%s\"\n", n, strings.Repeat("x", n%200))
		if n == 4000 { // a line longer than a chunk and its over-read
			n++
			fmt.Fprintf(&text, "192.0.2.1 - - [10/Oct/2026:13:55:36 +0000] \"GET /long HTTP/1.1\" 200 1 \"-\" \"%s\"\n", strings.Repeat("y", chunkSize+2*overRead))
		}
	}
	e := build(t, "")
	for _, ending := range []string{"", "192.0.2.1 - - [10/Oct/2026:13:55:36 +0000] \"GET /last HTTP/1.1\" 200 1"} {
		s, lines := text.String()+ending, n
		if ending != "" {
			lines++
		}
		want := int64(lines - 1) // no server takes the long one
		for _, workers := range []int{1, 3} {
			got, err := LogFile(e, "log", strings.NewReader(s), int64(len(s)), list.FormatLog, Options{Workers: workers}, func(int64) {})
			if err != nil || got.Requests != want || got.Lists[0].Lines != lines || got.Lists[0].Skipped != 1 {
				t.Errorf("%d workers: %d requests in %d lines, want %d in %d (%v)", workers, got.Requests, got.Lists[0].Lines, want, lines, err)
			}
			got, err = LogStream(e, "log", strings.NewReader(s), list.FormatLog, Options{Workers: workers})
			if err != nil || got.Requests != want {
				t.Errorf("%d workers on a stream: %d requests, want %d (%v)", workers, got.Requests, want, err)
			}
		}
	}
}

func TestSavedTalliesAddUpToTheWhole(t *testing.T) {
	text := access(4000)
	e := build(t, rulebooks["of targets alone"])
	whole, err := LogStream(e, "log", strings.NewReader(text), list.FormatLog, Options{Workers: 2})
	if err != nil {
		t.Fatal(err)
	}
	total := NewTally()
	lines := strings.SplitAfter(text, "\n")
	for i := 0; i < len(lines); i += 1000 {
		part, err := LogStream(e, "log", strings.NewReader(strings.Join(lines[i:min(i+1000, len(lines))], "")), list.FormatLog, Options{Workers: 1})
		if err != nil {
			t.Fatal(err)
		}
		var file bytes.Buffer
		if err := part.Save(&file, Rules{}); err != nil {
			t.Fatal(err)
		}
		loaded, _, err := LoadTally(&file)
		if err != nil {
			t.Fatal(err)
		}
		total.Merge(loaded)
	}
	var sum list.Counts
	for _, l := range total.Lists {
		sum.Lines, sum.Requests, sum.Skipped = sum.Lines+l.Lines, sum.Requests+l.Requests, sum.Skipped+l.Skipped
	}
	if w := whole.Lists[0]; sum.Lines != w.Lines || sum.Requests != w.Requests || sum.Skipped != w.Skipped {
		t.Errorf("lines: %+v, want %+v", sum, w)
	}
	total.Lists, whole.Lists = nil, nil
	var a, b bytes.Buffer
	total.Save(&a, Rules{})
	whole.Save(&b, Rules{})
	var x, y any
	json.Unmarshal(a.Bytes()[bytes.IndexByte(a.Bytes(), '\n'):], &x)
	json.Unmarshal(b.Bytes()[bytes.IndexByte(b.Bytes(), '\n'):], &y)
	if !reflect.DeepEqual(x, y) {
		t.Errorf("the parts\n%s\nthe whole\n%s", a.String(), b.String())
	}
	if _, _, err := LoadTally(strings.NewReader(`{"kibitz":"else"}`)); err == nil {
		t.Error("a file of another kind is taken for a tally")
	}
}

func TestAFailingReaderIsAnError(t *testing.T) {
	e := build(t, "")
	broken := io.MultiReader(strings.NewReader(access(10)), iotest.ErrReader(io.ErrUnexpectedEOF))
	if _, err := LogStream(e, "log", broken, list.FormatLog, Options{Workers: 2}); err == nil {
		t.Error("no error")
	}
}

func BenchmarkLog(b *testing.B) {
	text := access(100_000)
	e := build(b, rulebooks["of targets alone"])
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if _, err := LogFile(e, "log", strings.NewReader(text), int64(len(text)), list.FormatLog, Options{Workers: 1}, func(int64) {}); err != nil {
			b.Fatal(err)
		}
	}
}

func TestALineCostsNoAllocation(t *testing.T) {
	e := build(t, rulebooks["of targets alone"])
	w := newLogWorker(e, "log", 1<<30, Options{}, newBasis(e.Inputs("s.example"), nil), &room{}, nil)
	line := []byte(`192.0.2.1 - - [10/Oct/2026:13:55:36 +0000] "GET /a.txt?x=1 HTTP/1.1" 200 12 "https://s.example/" "reader"`)
	w.at.layout = list.NewLayout(list.FormatLog, list.Options{})
	w.meet(line, nil, 1)
	w.pass()
	if n := testing.AllocsPerRun(1000, func() { w.meet(line, nil, 1) }); n != 0 {
		t.Errorf("%v allocations", n)
	}
}

// However many pages an address is asked from, and in whatever order and parts
// they are counted, the same ones are kept, with all of their requests.
func TestPagesDoNotDependOnTheirOrder(t *testing.T) {
	var asked []string
	for i := range 500 {
		asked = append(asked, fmt.Sprintf("https://s.example/%d", i*i%97))
	}
	count := func(asked []string) Pages {
		var p Pages
		for _, a := range asked {
			p.add([]byte(a), 1)
		}
		return p
	}
	want := count(asked).Most()
	if len(want) != maxPages {
		t.Fatalf("%d pages are kept", len(want))
	}
	r := rand.New(rand.NewSource(5))
	for range 20 {
		r.Shuffle(len(asked), func(i, j int) { asked[i], asked[j] = asked[j], asked[i] })
		cut := r.Intn(len(asked))
		var parts Top
		parts.add("/x", 1, &Asked{From: count(asked[:cut])})
		parts.add("/x", 1, &Asked{From: count(asked[cut:])})
		if got := parts.Asked("/x").From.Most(); !slices.Equal(got, want) {
			t.Fatalf("got %v\nwant %v", got, want)
		}
	}
	for _, page := range want {
		if n := int64(len(slices.DeleteFunc(slices.Clone(asked), func(a string) bool { return a != page.Address }))); n != page.N {
			t.Errorf("%s: %d, not %d", page.Address, page.N, n)
		}
	}
}

// Of more addresses than memory has room for the commonest are listed with all of their
// requests and pages, in whatever order and parts they are counted.
func TestTheCommonestOfManyAddresses(t *testing.T) {
	r := rand.New(rand.NewSource(4))
	asked := make([]int, 0, 400_000)
	for i := range 3 * maxAddresses {
		asked = append(asked, i)
	}
	for range 200_000 {
		asked = append(asked, int(float64(3*maxAddresses)*math.Pow(r.Float64(), 3)))
	}
	count := map[string]int64{}
	for _, i := range asked {
		count[fmt.Sprint("/", i)]++
	}
	var want []Count
	for address, n := range count {
		want = append(want, Count{address, n})
	}
	slices.SortFunc(want, func(a, b Count) int {
		return cmp.Or(cmp.Compare(b.N, a.N), cmp.Compare(checksum([]byte(a.Address)), checksum([]byte(b.Address))))
	})
	others := int64(len(asked))
	for _, c := range want[:maxAddresses] {
		others -= c.N
	}
	listed := slices.SortedFunc(slices.Values(want[:maxAddresses]), compareCounts)
	for _, parts := range []int{1, 2, 5} {
		r.Shuffle(len(asked), func(i, j int) { asked[i], asked[j] = asked[j], asked[i] })
		tops, shared := make([]*Top, parts), &room{}
		for i := range tops {
			tops[i] = shared.top(false)
		}
		for _, i := range asked {
			var from Pages
			from.add(fmt.Append(nil, "/from/", i%7), 1)
			tops[r.Intn(parts)].add(fmt.Sprint("/", i), 1, &Asked{From: from})
		}
		for i := range tops[1:] {
			tops[0].Merge(tops[1+i])
		}
		var asking sync.WaitGroup // the parts of a report ask at the same time
		for range 4 {
			asking.Go(func() {
				if got := tops[0].Most(2 * maxAddresses); !slices.Equal(got, listed) {
					t.Errorf("%d parts: the commonest of %d are others", parts, len(got))
				}
			})
			asking.Go(func() { tops[0].Len() })
			asking.Go(func() { tops[0].Asked("/1") })
		}
		asking.Wait()
		got := listed
		if tops[0].Total != int64(len(asked)) || tops[0].Others() != others || tops[0].Len() != maxAddresses {
			t.Errorf("%d parts: %d in all, %d not listed, %d addresses; want %d, %d", parts, tops[0].Total, tops[0].Others(), tops[0].Len(), len(asked), others)
		}
		for _, c := range got[:100] {
			n := int64(0)
			for _, p := range tops[0].Asked(c.Address).From.Most() {
				n += p.N
			}
			if n != c.N {
				t.Errorf("%s: %d requests, from pages %d", c.Address, c.N, n)
			}
		}
	}
}

// Of parts that were saved, each with its commonest addresses, the merged counts are never too
// high, and too low by no more than the requests divided by how many addresses are listed.
func TestWhatMergingLoses(t *testing.T) {
	const parts, requests = 4, 600_000
	skewed := rand.NewZipf(rand.New(rand.NewSource(7)), 1.05, 20, 10_000_000)
	counts, tallies := map[string]int64{}, make([]*Tally, parts)
	for i := range tallies {
		tallies[i] = NewTally()
	}
	for i := range requests {
		address := fmt.Sprint("/", skewed.Uint64())
		counts[address]++
		tallies[i%parts].Missing.Add(address)
	}
	total := NewTally()
	for _, part := range tallies {
		saved, err := json.Marshal(&part.Missing)
		if err != nil {
			t.Fatal(err)
		}
		var top Top
		if err := json.Unmarshal(saved, &top); err != nil {
			t.Fatal(err)
		}
		if top.Others() == 0 {
			t.Fatal("the part lists all of its addresses")
		}
		total.Missing.Merge(&top)
	}
	if total.Missing.Total != requests {
		t.Errorf("%d requests", total.Missing.Total)
	}
	const most = requests / maxAddresses
	low, listed := int64(0), map[string]bool{}
	for _, c := range total.Missing.Most(maxAddresses) {
		listed[c.Address] = true
		if c.N > counts[c.Address] || c.N < counts[c.Address]-most {
			t.Fatalf("%s: %d of %d", c.Address, c.N, counts[c.Address])
		}
		low = max(low, counts[c.Address]-c.N)
	}
	for address, n := range counts {
		if n > 2*most && !listed[address] {
			t.Errorf("%s has %d requests, and is not listed", address, n)
		}
	}
	t.Logf("%d addresses in all; counts are too low by up to %d of %d requests, and may be by %d", len(counts), low, requests, most)
}

// Which addresses are listed of many recorded statuses does not depend on the order of lines,
// on who counts them, or on the tallies that are merged, even where each has too many.
func TestTheCommonestOfManyStatuses(t *testing.T) {
	r := rand.New(rand.NewSource(6))
	type line struct{ status, address, times int }
	var lines []line
	for status := range 300 {
		for address := range 300 + 3*status { // of the last more than a minor Top lists at the least
			lines = append(lines, line{200 + status, address, 1 + r.Intn(4)})
		}
	}
	outcome := Outcome{Status: "404", Cause: engine.CauseMissing}
	var want string
	for _, test := range []struct{ rooms, workers int }{{1, 1}, {1, 3}, {3, 1}, {2, 2}} {
		r.Shuffle(len(lines), func(i, j int) { lines[i], lines[j] = lines[j], lines[i] })
		total := NewTally()
		for part := range test.rooms {
			in := &room{}
			var sum *Tally
			for worker := range test.workers {
				w := newTally(in)
				for i, l := range lines {
					if i%test.rooms != part || i/test.rooms%test.workers != worker {
						continue
					}
					w.Requests += int64(l.times)
					c := w.countOf(outcome)
					c.N += int64(l.times)
					recorded := c.recorded(l.status, true)
					recorded.N += int64(l.times)
					recorded.Differs.add(fmt.Sprintf("/%d/%s", l.address, strings.Repeat("x", 60)), int64(l.times), nil)
				}
				if sum == nil {
					sum = w
				} else {
					sum.Merge(w)
				}
			}
			total.Merge(sum)
		}
		if total.room.file == nil {
			t.Fatal("nothing is in the file")
		}
		var got strings.Builder
		if err := total.Save(&got, Rules{}); err != nil {
			t.Fatal(err)
		}
		if want == "" {
			want = got.String()
		}
		if got.String() != want {
			t.Fatalf("%+v gives other addresses", test)
		}
		least, listed := total.Outcomes[outcome].Recorded[0].Differs.Len(), 0
		for _, c := range total.Outcomes[outcome].Recorded {
			least = min(least, c.Differs.Len())
			listed += c.Differs.Len()
		}
		if least < 300 || listed > maxMinor*maxAddresses+300*leastMinor*maxAddresses {
			t.Errorf("of one status %d are listed, and %d in all", least, listed)
		}
	}
}

func TestMostAreTheCommonest(t *testing.T) {
	r := rand.New(rand.NewSource(9))
	for range 200 {
		var top Top
		for range r.Intn(700) {
			top.add(fmt.Sprint("/", r.Intn(400)), int64(r.Intn(4)), nil)
		}
		all := top.Most(1000)
		if len(all) != top.Len() || !slices.IsSortedFunc(all, compareCounts) {
			t.Fatalf("%d of %d: %v", len(all), top.Len(), all)
		}
		for _, n := range []int{0, 1, 2, 10, 100} {
			if got := top.Most(n); !slices.Equal(got, all[:min(n, len(all))]) {
				t.Fatalf("the %d commonest: %v, want %v", n, got, all[:min(n, len(all))])
			}
		}
	}
}

// Whoever waits is told of each part of a file once, and of its end.
func TestHowFarALogIsRead(t *testing.T) {
	e, text := build(t, ""), strings.Repeat("192.0.2.1 - - [10/Oct/2026:13:55:36 +0000] \"GET /a.txt HTTP/1.1\" 200 1\n", 3*chunkSize/70)
	var mu sync.Mutex
	var told []int64
	if _, err := LogFile(e, "log", strings.NewReader(text), int64(len(text)), list.FormatLog, Options{Workers: 2}, func(n int64) {
		mu.Lock()
		defer mu.Unlock()
		told = append(told, n)
	}); err != nil {
		t.Fatal(err)
	}
	slices.Sort(told)
	want := []int64{chunkSize, 2 * chunkSize, 3 * chunkSize, int64(len(text))}
	if want = slices.DeleteFunc(want, func(n int64) bool { return n > int64(len(text)) }); !slices.Equal(told, slices.Compact(want)) {
		t.Errorf("%v of %d bytes, want %v", told, len(text), want)
	}
}

// What comes by a pipe is read in pieces, and a line without an end is not gathered.
func TestALineWithoutAnEnd(t *testing.T) {
	left, most := 12*list.MaxLine, 0
	tally, err := LogStream(build(t, ""), "log", readerFunc(func(b []byte) (int, error) {
		most = max(most, len(b))
		n := copy(b, bytes.Repeat([]byte("x"), min(len(b), left)))
		if left -= n; n == 0 {
			return 0, io.EOF
		}
		return n, nil
	}), list.FormatLog, Options{Workers: 1})
	if err != nil || tally.Lists[0].Lines != 1 || tally.Lists[0].Skipped != 1 {
		t.Fatalf("%v, %v", tally, err)
	}
	if most > list.MaxLine {
		t.Errorf("%d bytes are read at once", most)
	}
}

// What could be smaller is a file that was sent as it is: no error page, no listing, no
// answer of an entry, nothing that was compressed.
func TestWhatCouldBeSmaller(t *testing.T) {
	long := strings.Repeat("text ", 200)
	for _, test := range []struct {
		rules, path string
		want        string
	}{
		{"", "/long.txt", "s /long.txt"},
		{"", "/short.txt", ""},
		{"", "/long.png", ""},
		{"compress c using gzip over 0B", "/long.txt", ""},
		{"error e for 404 show /long.txt", "/none", ""},
		{"reply r on /r with 200 text " + strings.ReplaceAll(long, " ", "-"), "/r", ""},
		{"folder f in /many/ documents none listing on", "/many/", ""},
	} {
		files := map[string]string{"/long.txt": long, "/short.txt": "text", "/long.png": long}
		for i := range 30 {
			files[fmt.Sprintf("/many/%d.txt", i)] = ""
		}
		book, err := rulebook.Read("t.kibitz", []byte("site s address https://s.example files public\n"+test.rules), nil)
		if err != nil {
			t.Fatal(err)
		}
		e := engine.New(book, []*site.Tree{site.Memory(files)})
		log := fmt.Sprintf("192.0.2.1 - - [10/Oct/2026:13:55:36 +0000] \"GET %s HTTP/1.1\" 200 1 \"-\" \"-\"\n", test.path)
		tally, err := LogFile(e, "log", strings.NewReader(log), int64(len(log)), list.FormatLog, Options{Workers: 1, Headers: []request.Header{{Name: "accept-encoding", Value: "gzip"}}}, func(int64) {})
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, c := range tally.Plain.Most(10) {
			got = append(got, c.Address)
		}
		if strings.Join(got, " ") != test.want {
			t.Errorf("%s, %s: %q, want %q", test.rules, test.path, got, test.want)
		}
	}
}

// A saved tally may name files that are gone by now.
func TestWhatCouldBeSmallerOfOtherFiles(t *testing.T) {
	e := bookOf(t, "")
	tally := NewTally()
	tally.Plain.Add("s /gone.txt")
	tally.Plain.Add("other /a.html")
	if got := Smaller(e, tally); len(got) != 0 {
		t.Errorf("%v", got)
	}
}

func TestWhatDiffers(t *testing.T) {
	for _, test := range []struct {
		recorded, predicted int
		cause               engine.Cause
		want                bool
	}{
		{200, 200, engine.CauseFile, false},
		{304, 200, engine.CauseFile, false},
		{304, 200, engine.CauseDocument, false},
		{206, 200, engine.CauseFile, false},
		{304, 200, engine.CauseFallback, false},
		{304, 200, engine.CauseReply, true},
		{304, 200, engine.CauseListing, true},
		{304, 404, engine.CauseMissing, true},
		{304, 301, engine.CauseSlash, true},
		{200, 304, engine.CauseUnchanged, true},
		{416, 200, engine.CauseFile, true},
		{502, 0, engine.CauseHandoff, false},
		{404, 410, engine.CauseReply, true},
	} {
		if got := differs(test.recorded, test.predicted, test.cause); got != test.want {
			t.Errorf("recorded %d, predicted %d (%s): %v", test.recorded, test.predicted, test.cause, got)
		}
	}
}

// Whatever stands in a log, both roads count the same of it. Which code an input reaches
// depends on how goroutines meet, so that making it smaller finds no end: run it with
// -fuzzminimizetime 1x.
func FuzzRoads(f *testing.F) {
	formats := []list.Format{list.FormatLog, list.FormatW3C, list.FormatJSONL, list.FormatCSV, list.FormatPlain, list.FormatJSONLog}
	books := slices.Sorted(maps.Keys(rulebooks))
	engines := make([]*engine.Engine, len(books))
	for i, name := range books {
		engines[i] = build(f, rulebooks[name])
		f.Add(0, i, i, access(4))
		f.Add(1, i, i+3, w3cAccess(4))
		f.Add(2, i, len(choices), jsonAccess(3))
		f.Add(3, i, len(choices), csvAccess(3))
		f.Add(4, i, len(choices), plainAccess(4))
		f.Add(5, i, len(choices), eventAccess(3))
	}
	choices := append(choices, Choice{})
	f.Fuzz(func(t *testing.T, format, book, choice int, text string) {
		if len(text) > 1<<11 {
			return
		}
		form, e := formats[uint(format)%uint(len(formats))], engines[uint(book)%uint(len(books))]
		o := Options{Workers: 1, Choice: choices[uint(choice)%uint(len(choices))]}
		source := Source{Name: "log", Read: func(base request.Address, yield func(*list.Item)) (list.Counts, error) {
			return list.Read(strings.NewReader(text), list.Options{Base: base, Format: form}, yield)
		}}
		alone := o
		alone.forget, alone.Whole, o.Whole = true, true, true
		wantShown, gotShown := alone.shown(), o.shown()
		slow, err := Run(e, []Source{source}, alone)
		var fast *Tally
		failed := err
		if Quick(form, true) {
			fast, err = LogFile(e, "log", strings.NewReader(text), int64(len(text)), form, o, func(int64) {})
		} else {
			fast, err = LogStream(e, "log", strings.NewReader(text), form, o)
		}
		if fmt.Sprint(err) != fmt.Sprint(failed) { // of a heading
			t.Fatalf("the fast path: %v\nslowly: %v", err, failed)
		}
		if err != nil {
			return
		}
		if got, want := savedForm(t, fast), savedForm(t, slow); got != want {
			t.Fatalf("%sthe fast path:\n%s\nslowly:\n%s", rulebooks[books[uint(book)%uint(len(books))]], got, want)
		}
		if got, want := gotShown(), wantShown(); got != want {
			t.Fatalf("%seach on the fast path: %s", rulebooks[books[uint(book)%uint(len(books))]], firstApart(got, want))
		}
	})
}

// Every line of a list is told of, whatever it holds, in every format, packed or not: as
// a request, a detail of one, a comment, or one that is not read.
func FuzzLists(f *testing.F) {
	e := build(f, "redirect r on /a to /b as 301")
	for i, text := range []string{"/a => 200\n client x\n# c\n\n/b", access(4), w3cAccess(4), jsonAccess(3), "url,header.X\n/a,\"b\nc\"\n/d,\"e\n/f\n", `{"log":{"entries":[{"request":{"url":"http://s.example/"}},5]}}`, "<urlset><url><loc>/a</loc></url><loc>", `{"results":[{"url":"/a"}]}`} {
		f.Add(i, i, text)
	}
	f.Fuzz(func(t *testing.T, format, packing int, text string) {
		if len(text) > 1<<12 {
			return
		}
		form := list.Formats()[uint(format)%uint(len(list.Formats()))]
		in := []byte(text)
		var packed bytes.Buffer
		switch uint(packing) % 4 {
		case 1:
			z := gzip.NewWriter(&packed)
			z.Write(in)
			z.Close()
			in = packed.Bytes()
		case 2:
			z, _ := zstd.NewWriter(&packed)
			z.Write(in)
			z.Close()
			in = packed.Bytes()
		case 3: // as it is, whatever it begins with
		default:
			if list.Packed(in) {
				return
			}
		}
		o := Options{Workers: 1}
		var tallies []*Tally
		keep := func(tally *Tally, err error) {
			if _, cut := errors.AsType[*list.Damaged](err); err == nil || cut { // else nothing is told of it
				tallies = append(tallies, tally)
			}
		}
		unpacked, err := list.Unpack(bytes.NewReader(in))
		if err != nil {
			return
		}
		if Quick(form, false) {
			keep(LogStream(e, "list", unpacked, form, o))
		}
		source := Source{Name: "list", Read: func(base request.Address, yield func(*list.Item)) (list.Counts, error) {
			return list.Read(bytes.NewReader(in), list.Options{Base: base, Format: form}, yield)
		}}
		keep(Run(e, []Source{source}, o))
		for _, tally := range tallies {
			c := tally.Lists[0].Counts
			if c.Lines != c.Requests+c.Details+c.Comments+c.Skipped || tally.Requests != int64(c.Requests) {
				t.Fatalf("%s: %d lines are %d requests (%d counted), %d details, %d comments and %d not read", form, c.Lines, c.Requests, tally.Requests, c.Details, c.Comments, c.Skipped)
			}
			if packing%4 != 3 && form == list.FormatPlain && c.Lines != len(strings.SplitAfter(strings.TrimSuffix(text, "\n"), "\n")) && text != "" {
				t.Fatalf("%q has %d lines", text, c.Lines)
			}
		}
	})
}

// A line that is too long is one line, whatever the format, and however it comes.
func TestLongLinesAreCountedOnce(t *testing.T) {
	long := strings.Repeat("x", list.MaxLine+3*chunkSize)
	logged := func(path string) string {
		return "192.0.2.1 - - [10/Oct/2026:13:55:36 +0000] \"GET " + path + " HTTP/1.1\" 200 1"
	}
	e := build(t, "")
	for format, text := range map[list.Format]string{
		list.FormatLog:   logged("/a") + "\n" + logged("/"+long) + "\n" + logged("/b") + "\nbad\n",
		list.FormatW3C:   "#Fields: cs-method cs-uri-stem\nGET /" + long + "\nGET /b\nbad bad bad\n",
		list.FormatJSONL: `{"url":"/a"}` + "\n" + `{"url":"/` + long + `"}` + "\n" + `{"url":"/b"}` + "\n" + "{bad\n",
		list.FormatPlain: "/a\n/" + long + "\n/b\nbad\n",
		list.FormatCSV:   "url\n/" + long + "\n/b\nbad\n",
	} {
		var tallies []*Tally
		add := func(tally *Tally, err error) {
			if err != nil {
				t.Error(format, err)
			}
			tallies = append(tallies, tally)
		}
		for _, workers := range []int{1, 2} {
			o := Options{Workers: workers}
			if Quick(format, true) {
				add(LogFile(e, "list", strings.NewReader(text), int64(len(text)), format, o, func(int64) {}))
			}
			if Quick(format, false) {
				add(LogStream(e, "list", strings.NewReader(text), format, o))
				add(LogStream(e, "list", iotest.HalfReader(strings.NewReader(text)), format, o))
			}
			add(Run(e, []Source{{Name: "list", Read: func(base request.Address, yield func(*list.Item)) (list.Counts, error) {
				return list.Read(strings.NewReader(text), list.Options{Base: base, Format: format}, yield)
			}}}, o))
		}
		for i, tally := range tallies {
			c := tally.Lists[0].Counts
			if c.Lines != 4 || c.Skipped != 2 || len(c.First) != 2 || c.First[0].Line != 2 || c.First[1].Line != 4 || !strings.Contains(c.First[0].Reason, "longer than") {
				t.Errorf("%s, way %d: %d lines, %d not read: %v", format, i, c.Lines, c.Skipped, c.First)
			}
		}
	}
}

// A log that is cut while it is read ends where it ends now.
func TestALogThatIsCutEnds(t *testing.T) {
	e := build(t, "")
	line := "192.0.2.1 - - [10/Oct/2026:13:55:36 +0000] \"GET /a.txt HTTP/1.1\" 200 1\n"
	text := strings.Repeat(line, 2*chunkSize/len(line))
	for _, left := range []int{0, 1, len(line), chunkSize - 1, chunkSize, chunkSize + len(line)/2, len(text) - 1} {
		tally, err := LogFile(e, "log", strings.NewReader(text[:left]), int64(len(text)), list.FormatLog, Options{Workers: 2}, func(int64) {})
		if err != nil {
			t.Fatal(err)
		}
		c := tally.Lists[0].Counts
		if whole := left / len(line); c.Requests < whole || c.Requests > whole+1 || c.Lines != c.Requests+c.Skipped {
			t.Errorf("%d bytes are left: %d lines, %d requests, %d not read", left, c.Lines, c.Requests, c.Skipped)
		}
	}
}
