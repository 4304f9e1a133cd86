package replay

import (
	"fmt"
	"maps"
	"math/rand"
	rand2 "math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/proof/trial"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

func bookOf(t *testing.T, text string) *engine.Engine {
	t.Helper()
	book, err := rulebook.Read("t.kibitz", []byte("site s address https://s.example files public\n"+text), nil)
	if err != nil {
		t.Fatal(err)
	}
	return engine.New(book, []*site.Tree{site.Memory(map[string]string{"/index.html": "home", "/a.html": "a", "/b.html": "b"})})
}

func compareAll(t *testing.T, before, after string, urls ...string) *Comparison {
	t.Helper()
	c := NewCompare(bookOf(t, before), bookOf(t, after))
	one := c.Comparer()
	for _, u := range urls {
		a, err := request.Parse(u, c.Old.Book.BaseAddress())
		if err != nil {
			t.Fatal(err)
		}
		one.Add(&list.Item{Request: &request.Request{Address: a}})
	}
	one.Done()
	return c.End(time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC))
}

// What is shown of a change does not depend on the order in which requests are compared,
// since all cores work on them.
func TestExamplesDoNotDependOnTheOrder(t *testing.T) {
	before := "redirect x on /x/* to /a.html as 301\n"
	after := "redirect x on /x/* to /{1} as 302\nheader h set X-A b\n"
	urls := []string{"/", "/a.html", "/b.html", "/x/a.html", "/x/b.html", "/x/", "/x/none", "/x/more", "/x/ten", "/x/x/x", "/x/a.html?b=1"}
	shown := func() string {
		var b strings.Builder
		for _, g := range compareAll(t, before, after, urls...).Groups {
			fmt.Fprint(&b, g.Change, g.What, g.Requests, g.From, g.To)
			for _, e := range g.Examples {
				fmt.Fprint(&b, " ", e.Address)
			}
		}
		return b.String()
	}
	// The entries of each comparison are others, and are told by their names.
	names := regexp.MustCompile(`0x[0-9a-f]+`)
	want := names.ReplaceAllString(shown(), "")
	r := rand.New(rand.NewSource(1))
	for range 30 {
		r.Shuffle(len(urls), func(i, j int) { urls[i], urls[j] = urls[j], urls[i] })
		if got := names.ReplaceAllString(shown(), ""); got != want {
			t.Fatalf("%v:\n%s\nwant\n%s", urls, got, want)
		}
	}
}

// Requests that differ in the size of their body alone are told apart.
func TestBodiesAreComparedEach(t *testing.T) {
	c := NewCompare(bookOf(t, "handoff h in /x/"), bookOf(t, "handoff h in /x/\nlimit l body 1000B"))
	one := c.Comparer()
	for _, size := range []int64{0, 10, 2000, 10} {
		a, err := request.Parse("/x/upload", c.Old.Book.BaseAddress())
		if err != nil {
			t.Fatal(err)
		}
		one.Add(&list.Item{Request: &request.Request{Address: a, Method: "POST", Body: size}})
	}
	one.Done()
	if got := c.End(time.Time{}); got.Requests != 4 || got.Same != 3 || len(got.Groups) != 1 || got.Groups[0].Requests != 1 {
		t.Errorf("%d requests, %d the same, groups %v", got.Requests, got.Same, got.Groups)
	}
}

func TestChangesAreToldByWhatTheyMean(t *testing.T) {
	for name, test := range map[string]struct {
		before, after, url string
		want               Change
	}{
		"a loop":           {"", "redirect r on /a.html to /a.html as 302", "/a.html", NowLoops},
		"a bad result":     {"", "redirect r on /a.html to https://{query.h}.s.example/ as 302", "/a.html?h=_", NowFails},
		"a lost page":      {"", "redirect r on /a.html to /gone as 302", "/a.html", NowLost},
		"an opened guard":  {"access g on /a.html refuse", "", "/a.html", NowOpen},
		"a new guard":      {"", "access g on /a.html refuse", "/a.html", NowRefused},
		"another page":     {"", "redirect r on /a.html to /b.html as 302", "/a.html", NowElse},
		"another file":     {"rewrite w on /x to /a.html", "rewrite w on /x to /b.html", "/x", NowElse},
		"another refusal":  {"reply r on /x with 404", "reply r on /x with 410", "/x", NowElse},
		"another site":     {"redirect r on /x to https://o.example/ as 302", "redirect r on /x to https://p.example/ as 302", "/x", NowElse},
		"another way":      {"redirect r on /x to /a.html as 301", "redirect r on /x to /a.html as 302", "/x", NowWay},
		"another header":   {"", "header h set X-Frame-Options DENY", "/a.html", NowHeader},
		"another 404 page": {"", "error e for 404 show /a.html", "/none", NowHeader},
		"a found page":     {"", "rewrite w on /x to /a.html", "/x", NowFound},
		"a mended loop":    {"redirect r on /a.html to /a.html as 301", "", "/a.html", NowFound},
	} {
		got := compareAll(t, test.before, test.after, test.url, test.url)
		if len(got.Groups) != 1 || got.Groups[0].Change != test.want || got.Groups[0].Requests != 2 {
			t.Errorf("%s: %d groups, %+v", name, len(got.Groups), got.Groups)
		}
	}
	if got := compareAll(t, "redirect r on /x to /a.html as 301", "redirect other on /x to /a.html as 301", "/x", "/", "/none"); len(got.Groups) != 0 || got.Same != 3 {
		t.Errorf("another entry that says the same is no change: %+v", got.Groups)
	}
}

func TestStoredRedirectsMakeCircles(t *testing.T) {
	for name, test := range map[string]struct {
		before, after string
		urls          string
		want          string // the stored addresses, and the hosts of HSTS
	}{
		"moved back":          {"redirect r on /x to /a.html as 301", "redirect r on /a.html to /x as 302", "/x", "[/x] []"},
		"but was temporary":   {"redirect r on /x to /a.html as 302", "redirect r on /a.html to /x as 302", "/x", ""},
		"but was not kept":    {"redirect r on /x to /a.html as 301\nheader h set Cache-Control no-store", "redirect r on /a.html to /x as 302", "/x", ""},
		"but goes on":         {"redirect r on /x to /a.html as 301", "redirect r on /a.html to /b.html as 302", "/x", ""},
		"a circle of its own": {"", "redirect r on /x to /x as 301", "/x", ""},
		"over two old ones":   {"redirect r on /x to /y as 301\nredirect s on /y to /z as 308", "redirect r on /z to /x as 301", "/x", "[/x /y] []"},
		"back to http":        {"header h set Strict-Transport-Security max-age=9", "redirect r when scheme https to http://s.example{path} as 302", "http://s.example/", "[] [s.example]"},
	} {
		got := compareAll(t, test.before, test.after, test.urls)
		text := ""
		for _, c := range got.Circles {
			var stored []string
			for _, h := range c.Stored {
				stored = append(stored, h.Request.Address.Path)
			}
			text += fmt.Sprint(stored, " ", c.HSTS)
			if c.Visit.Ending != browser.Loop {
				t.Errorf("%s: the visit ends with %s", name, c.Visit.Ending)
			}
		}
		if strings.TrimSpace(text) != test.want {
			t.Errorf("%s: %s, want %s", name, text, test.want)
		}
	}
}

// What is remembered of a comparison is what comes of comparing anew.
func TestComparisonsAreRememberedRight(t *testing.T) {
	changed := 0
	for seed := range uint64(sized(100)) {
		r := rand2.New(rand2.NewPCG(seed, 11))
		before, after := logBook(r), logBook(r)
		kinds := make([]*request.Request, 10)
		for i := range kinds {
			kinds[i] = trial.AnyRequest(r)
		}
		var asked []*list.Item
		for range 60 {
			req := *kinds[r.IntN(len(kinds))]
			if other := kinds[r.IntN(len(kinds))]; r.IntN(2) == 0 { // of the same address, asked otherwise
				req.Headers, req.Client, req.Time = other.Headers, other.Client, other.Time
			}
			asked = append(asked, &list.Item{Request: &req})
		}
		shown := func(anew bool) string {
			c := NewCompare(anyEngine(t, before), anyEngine(t, after))
			one := c.Comparer()
			for _, item := range asked {
				if one.Add(item); anew {
					one.Done()
					one = c.Comparer()
				}
			}
			one.Done()
			end := c.End(time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC))
			var lines []string
			for _, g := range end.Groups {
				lines = append(lines, fmt.Sprintln(g.Change, g.What, g.Requests, g.From.Status, ruleKey(g.From.By), g.To.Status, ruleKey(g.To.By)))
			}
			slices.Sort(lines)
			changed += int(end.Requests - end.Same)
			return fmt.Sprint(end.Requests, end.Same, "\n", strings.Join(lines, ""))
		}
		if got, want := shown(false), shown(true); got != want {
			t.Fatalf("before:\n%s\nafter:\n%s\nremembered: %s\nanew: %s", before, after, got, want)
		}
	}
	if changed == 0 {
		t.Error("nothing changes")
	}
}

// Lines that are compared, in whatever format and by however many workers, are compared as each
// request is by itself, when nothing is remembered of the others.
func TestComparedLinesAreThoseOfRequests(t *testing.T) {
	formats := map[list.Format]string{list.FormatLog: access(1500), list.FormatW3C: w3cAccess(1000), list.FormatJSONL: jsonAccess(300), list.FormatCSV: csvAccess(300), list.FormatPlain: plainAccess(300), list.FormatJSONLog: eventAccess(300)}
	names := slices.Sorted(maps.Keys(rulebooks))
	r := rand2.New(rand2.NewPCG(7, 7))
	now := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	changed := 0
	for range sized(24) {
		before, after := rulebooks[names[r.IntN(len(names))]], rulebooks[names[r.IntN(len(names))]]
		for format, text := range formats {
			old, new := build(t, before), build(t, after)
			o := Options{Workers: 1 + r.IntN(3)}
			if r.IntN(3) == 0 {
				o.Headers = []request.Header{{Name: "User-Agent", Value: "a bot"}, {Name: "Referer", Value: "https://r.example/?x"}}
			}
			alone := NewCompare(old, new)
			one := alone.Comparer()
			want, err := list.Read(strings.NewReader(text), list.Options{Base: new.Book.BaseAddress(), Format: format}, func(item *list.Item) {
				item.Request.AddMissing(o.Headers)
				one.counts[one.anew(item.Request).group]++
				one.start(item.Request)
			})
			if err != nil {
				t.Fatal(err)
			}
			one.Done()
			wanted := alone.End(now)
			for way, of := range map[string]Text{
				"file":   {File: strings.NewReader(text), Size: int64(len(text)), Progress: func(int64) {}},
				"stream": {Stream: strings.NewReader(text)},
			} {
				if !Quick(format, way == "file") {
					continue
				}
				of.Format = format
				together := NewCompare(old, new)
				counts, err := together.Lines(of, o)
				if err != nil {
					t.Fatal(err)
				}
				if a, b := fmt.Sprintf("%+v", counts), fmt.Sprintf("%+v", want); a != b {
					t.Errorf("%s, %s: %s\nand not %s", format, way, a, b)
				}
				got := together.End(now)
				if a, b := comparisonText(got), comparisonText(wanted); a != b {
					t.Fatalf("%s\n%s\n%s of %s, %d workers: %s", before, after, way, format, o.Workers, firstApart(a, b))
				}
				changed += len(got.Groups)
			}
		}
	}
	if changed < sized(100) {
		t.Errorf("only %d changes", changed)
	}
}

// What becomes of a query hangs on what it says only where a rulebook names parameters, or has
// a query of its own, or looks at it: whatever comes first, each line is compared as if it were alone.
func TestComparedQueries(t *testing.T) {
	r := rand2.New(rand2.NewPCG(8, 8))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	rules := func() string {
		own := pick("", "", "", "", "?x=1", "?y=2")
		mode := pick("", "", "", " query drop", " query merge", " query only z", " query only w")
		looks := pick("", "", "reply l on /b when query.x 1 with 204\n", "access l on /a when query.z present refuse\n", "header l when query.w 4 set X-A b\n", "header l on /b set X-A {query.y}\n")
		return looks + pick("redirect a on /a to /b"+own+" as 301"+mode, "rewrite a on /a to /c"+own+mode+"\nhandoff c on /c", "moves a table rows.csv as 301"+pick("", " query drop", " query only z"))
	}
	for range sized(400) {
		before, after := rules(), rules()
		var log, alone strings.Builder
		for range 6 {
			query := pick("", "?", "?x=1", "?y=2", "?z=3", "?w=4", "?x=1&z=3", "?y=2&x=1")
			fmt.Fprintf(&log, "192.0.2.1 - - [01/Mar/2026:08:00:00 +0000] \"GET /%s%s HTTP/1.1\" 200 1 \"-\" \"x\"\n", pick("a", "a", "c"), query)
		}
		old, new := build(t, before+"\n"), build(t, after+"\n")
		whole := NewCompare(old, new)
		if _, err := whole.Lines(Text{Stream: strings.NewReader(log.String()), Format: list.FormatLog}, Options{Workers: 1}); err != nil {
			t.Fatal(err)
		}
		same := int64(0)
		for line := range strings.Lines(log.String()) {
			one := NewCompare(old, new)
			if _, err := one.Lines(Text{Stream: strings.NewReader(line), Format: list.FormatLog}, Options{Workers: 1}); err != nil {
				t.Fatal(err)
			}
			n := one.End(time.Time{}).Same
			same += n
			fmt.Fprintln(&alone, n, line[strings.Index(line, "GET"):])
		}
		if got := whole.End(time.Time{}).Same; got != same {
			t.Fatalf("%s\n%s\n%d lines are the same, and %d of them alone:\n%s", before, after, got, same, alone.String())
		}
	}
}

func comparisonText(c *Comparison) string {
	var b strings.Builder
	fmt.Fprintln(&b, c.Requests, c.Same, len(c.Circles))
	for _, g := range c.Groups {
		fmt.Fprintln(&b, g.Change, g.What, g.Requests, g.From.Status, ruleKey(g.From.By), g.From.Ends, g.To.Status, ruleKey(g.To.By), g.To.Ends)
		for _, e := range g.Examples {
			fmt.Fprintln(&b, "  ", e.Verb(), e.Address)
		}
	}
	return b.String()
}
