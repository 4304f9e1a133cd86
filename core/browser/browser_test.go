package browser

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// build compiles rules over a small tree, whose files are ten days old on the day that the
// tests ask at.
func build(t *testing.T, rules string) *engine.Engine {
	t.Helper()
	book, err := rulebook.Read("t.kibitz", []byte("site s address https://s.example files public\n"+rules), nil)
	if err != nil {
		t.Fatal(err)
	}
	tree := site.Memory(map[string]string{"/index.html": "home", "/page.html": "page", "/notes.txt": "notes", "/fares/index.html": "fares"})
	tree.Each(func(n *site.Node) { n.Modified = time.Date(2026, 3, 1, 6, 0, 0, 0, time.UTC) })
	return engine.New(book, []*site.Tree{tree})
}

func get(t *testing.T, url string, headers ...string) *request.Request {
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
		r.Headers = append(r.Headers, request.Header{Name: name, Value: value})
	}
	return r
}

func TestVisits(t *testing.T) {
	for _, test := range []struct {
		name, rules, asks, want string
	}{
		{"arrives", "redirect r on /old to /fares as 301", "/old", "arrived 3 200"},
		{"a loop", "redirect a on /x to /y as 301\nredirect b on /y to /x as 301", "/x", "loop 2 301"},
		{"a redirect to itself", "redirect s in /crew/ to https://{host}{path} as 301", "/crew/", "loop 1 301"},
		{"too long", "redirect g on /g* to /g{1}x as 302", "/g", "too-long 21 302"},
		{"leaves", "redirect a on /x to mailto://a as 301", "/x", "left 1 301"},
		{"an application", "redirect a on /x to /y as 302\nhandoff h on /y", "/x", "app 2 app"},
		{"POST becomes GET", "redirect a on /x to /notes.txt as 302", "POST /x", "arrived 2 200"},
		{"POST stays POST", "redirect a on /x to /notes.txt as 307", "POST /x", "arrived 2 405"},
	} {
		v := Open(build(t, test.rules), get(t, test.asks))
		if got := fmt.Sprint(v.Ending, " ", len(v.Hops), " ", engine.StatusText(v.Last())); got != test.want {
			t.Errorf("%s: %s, want %s", test.name, got, test.want)
		}
	}
}

// What a browser changes from hop to hop (WHATWG Fetch; RFC 9110, 15.4).
func TestFollowing(t *testing.T) {
	for _, test := range []struct {
		status int
		method string
		want   string
	}{
		{301, "POST", "GET 0"}, {302, "POST", "GET 0"}, {303, "POST", "GET 0"}, {307, "POST", "POST 9"}, {308, "POST", "POST 9"},
		{301, "PUT", "PUT 9"}, {302, "DELETE", "DELETE 9"}, {303, "PUT", "GET 0"}, {303, "HEAD", "HEAD 9"}, {301, "GET", "GET 9"},
	} {
		req := get(t, "/a")
		req.Method, req.Body = test.method, 9
		next, err := Follow(req, &engine.Response{Status: test.status, Location: "/b"})
		if err != nil {
			t.Fatal(err)
		}
		if got := fmt.Sprint(next.Verb(), " ", next.Body); got != test.want {
			t.Errorf("%d after %s: %s, want %s", test.status, test.method, got, test.want)
		}
	}
	req := get(t, "https://s.example/a", "Authorization: Basic x", "Referer: https://s.example/page?q", "X-Own: kept")
	same, _ := Follow(req, &engine.Response{Status: 302, Location: "/b"})
	other, _ := Follow(req, &engine.Response{Status: 302, Location: "https://t.example/b"})
	if v, ok := same.Get("Authorization"); !ok {
		t.Errorf("within one origin the password is lost: %q", v)
	}
	if v, ok := other.Get("Authorization"); ok {
		t.Errorf("another origin gets the password: %q", v)
	}
	if v, _ := other.Get("Referer"); v != "https://s.example/" {
		t.Errorf("another origin gets the Referer %s", v)
	}
	if v, _ := other.Get("X-Own"); v != "kept" {
		t.Errorf("X-Own: %s", v)
	}
	if v, _ := req.Get("Referer"); v != "https://s.example/page?q" {
		t.Errorf("the first request was changed: %s", v)
	}
	for _, test := range []struct{ policy, same, other, plain string }{ // to the same origin, another, and without https
		{"", "https://s.example/page?q", "https://s.example/", ""},
		{"no-referrer", "", "", ""},
		{"origin", "https://s.example/", "https://s.example/", "https://s.example/"},
		{"strict-origin", "https://s.example/", "https://s.example/", ""},
		{"same-origin", "https://s.example/page?q", "", ""},
		{"origin-when-cross-origin", "https://s.example/page?q", "https://s.example/", "https://s.example/"},
		{"Strict-Origin-When-Cross-Origin", "https://s.example/page?q", "https://s.example/", ""},
		{"no-referrer-when-downgrade", "https://s.example/page?q", "https://s.example/page?q", ""},
		{"unsafe-url", "https://s.example/page?q", "https://s.example/page?q", "https://s.example/page?q"},
		{"no-referrer, none-of-these, origin, ", "https://s.example/", "https://s.example/", "https://s.example/"},
	} {
		for to, want := range map[string]string{"/b": test.same, "https://t.example/b": test.other, "http://s.example/b": test.plain} {
			next, _ := Follow(req, &engine.Response{Status: 302, Location: to, Headers: []request.Header{{Name: "Referrer-Policy", Value: test.policy}}})
			if got, _ := next.Get("Referer"); got != want {
				t.Errorf("%q, to %s: the Referer is %q, want %q", test.policy, to, got, want)
			}
		}
	}
	posted := get(t, "POST /a", "Content-Type: text/plain", "content-language: de", "Content-Encoding: gzip", "Content-Location: /x", "X-Own: kept")
	for status, want := range map[int]int{301: 1, 302: 1, 303: 1, 307: 5, 308: 5} {
		if next, _ := Follow(posted, &engine.Response{Status: status, Location: "/b"}); len(next.Headers) != want {
			t.Errorf("after a POST that is answered %d, %v are sent", status, next.Headers)
		}
	}
	for _, status := range []int{200, 300, 304, 305, 306, 404} {
		if Follows(&engine.Response{Status: status, Location: "/x"}) {
			t.Errorf("%d is followed", status)
		}
	}
	if Follows(&engine.Response{Status: 301}) {
		t.Error("a redirect without a Location is followed")
	}
}

// A chain of exactly twenty redirects arrives, one more is too long.
func TestTwentyRedirects(t *testing.T) {
	var rules strings.Builder
	for i := range 30 {
		fmt.Fprintf(&rules, "redirect r%d on /%d to /%d as 302\n", i, i, i+1)
	}
	rules.WriteString("reply end on /30 with 200 text here\n")
	e := build(t, rules.String())
	if v := Open(e, get(t, "/10")); v.Ending != Arrived || v.Redirects() != 20 {
		t.Errorf("twenty: %s after %d", v.Ending, v.Redirects())
	}
	if v := Open(e, get(t, "/9")); v.Ending != TooLong || v.Redirects() != 21 {
		t.Errorf("twenty-one: %s after %d", v.Ending, v.Redirects())
	}
	back := build(t, strings.Replace(rules.String(), "on /29 to /30", "on /29 to /20", 1))
	if v := Open(back, get(t, "/9")); v.Ending != Loop || v.Redirects() != 21 {
		t.Errorf("the twenty-first comes back: %s after %d", v.Ending, v.Redirects())
	}
}

func TestKeeping(t *testing.T) {
	now := time.Date(2026, 3, 11, 6, 0, 0, 0, time.UTC)
	for _, test := range []struct{ rules, asks, want string }{
		{"", "/page.html", "a tenth of its age, here 1 day"},
		{"header h set Cache-Control max-age=604800", "/page.html", "cached for 7 days"},
		{"header h set Cache-Control \"private, max-age=60\"", "/page.html", "cached for 1 minute, by the browser alone"},
		{"header h set Cache-Control no-store", "/page.html", "not cached"},
		{"header h set Cache-Control no-cache", "/page.html", "checked again each time"},
		{"header h set Expires \"Thu, 01 Jan 2026 00:00:00 GMT\"", "/page.html", "Expires is past"},
		{"header h set Expires \"Fri, 01 Jan 2027 00:00:00 GMT\"", "/page.html", "cached until Fri, 01 Jan 2027"},
		{"redirect r on /x to /page.html as permanent", "/x", "cached by browsers for good: no header limits it"},
		{"redirect r on /x to /page.html as permanent\nheader h for 301 set Cache-Control max-age=3600", "/x", "cached by browsers for 1 hour"},
		{"redirect r on /x to /page.html as temporary", "/x", "not cached by browsers"},
		{"redirect r on /x to /page.html as permanent", "POST /x", "not cached: only answers to GET and HEAD are"},
		{"", "POST /page.html", "not cached"},
		{"", "HEAD /page.html", "a tenth of its age"},
		{"reply r on /x with 410", "/x", "cached as each browser sees fit"},
		{"access a refuse", "/x", "not cached"},
		{"header h set Cache-Control max-age=99999999999999999999999", "/page.html", "cached for 68 years"},
		{"header h set Cache-Control \"max-age=60, max-age=3600\"", "/page.html", "cached for 1 minute"},
		{"header h set Cache-Control \"max-age=+60\"", "/page.html", "but max-age is not a number of seconds, and browsers differ"},
		{"header h set Cache-Control \"x=\\\"a,no-store\\\",max-age=60\"", "/page.html", "cached for 1 minute"},
		{"header h set Cache-Control max-age=100 set Age 40", "/page.html", "cached for 1 minute"},
		{"header h set Cache-Control max-age=100 set Age 100", "/page.html", "checked again each time"},
		{"header h set Pragma no-cache", "/page.html", "Pragma: no-cache, which browsers heed"},
		{"header h set Pragma no-cache set Cache-Control max-age=60", "/page.html", "cached for 1 minute"},
		{"header h set Vary \"Accept-Encoding, *\"", "/page.html", "not cached (Vary: *)"},
		{"header h add Vary Cookie add Vary *", "/page.html", "not cached (Vary: *)"},
		{"redirect r on /x to /page.html as permanent\nheader h for 301 add Vary Cookie add Vary *", "/x", "not cached by browsers"},
		{"header h set Expires 0", "/page.html", "Expires is past"},
		{"header h set Expires -1", "/page.html", "here 1 day (RFC 9111, 4.2.2); but Expires is not a date, and browsers differ in what they make of that"},
		{"redirect r on /x to /page.html as permanent\nheader h for 301 set Expires -1", "/x", "cached by browsers for good; but Expires is not a date, and browsers differ"},
		{"redirect r on /x to /page.html as permanent\nheader h for 301 set Cache-Control \"max-age=\\\"0\\\"\"", "/x", "cached by browsers for good; but max-age is not a bare number"},
		{"redirect r on /x to /page.html as temporary\nheader h for 302 set Expires soon", "/x", "checked again each time (Expires is not a date)"},
		{"redirect r on /x to /page.html as permanent\nheader h for 301 set Cache-Control \"no-cache=\\\"Set-Cookie\\\"\"", "/x", "cached by browsers for good"},
	} {
		req := get(t, test.asks)
		req.Time = now
		if got := Keeping(req, build(t, test.rules).Predict(req), time.Time{}); !strings.Contains(got, test.want) {
			t.Errorf("%s: %q, want %q", test.rules, got, test.want)
		}
	}
}

// What is said of a visit that leaves the site names where it goes, even where that is no
// address of the web.
func TestWhereVisitsLeaveFor(t *testing.T) {
	for _, test := range []struct {
		left request.Address
		want string
	}{
		{request.Address{Scheme: "https", Host: "t.example", Port: 443, Path: "/x"}, "leaves the site for https://t.example/x"},
		{request.Address{}, "leaves the site for mailto:a@t.example"},
	} {
		v := &Visit{Ending: Left, Left: test.left, Hops: []Hop{{Response: &engine.Response{Location: "mailto:a@t.example"}}}}
		if got := v.Summary(); got != test.want {
			t.Errorf("%s, want %s", got, test.want)
		}
	}
}

// A visit that comes to a site without a tree ends where its files decide.
func TestAVisitToUnknownFiles(t *testing.T) {
	book, err := rulebook.Read("t.kibitz", []byte("site s address https://s.example\nredirect r on /a to /b as 302\n"), nil)
	if err != nil {
		t.Fatal(err)
	}
	v := Open(engine.New(book, []*site.Tree{nil}), get(t, "/a"))
	for words, met := range map[string]bool{"302 /b ends files": true, "302 ends 200": false, "files": false} {
		x := &request.Expectation{}
		if err := x.Expect(strings.Fields(words)); err != nil {
			t.Fatal(err)
		}
		if unmet := Unmet(x, v); (len(unmet) == 0) != met {
			t.Errorf("%s: %q", words, unmet)
		}
	}
}
