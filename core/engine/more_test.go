package engine

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"kibitz/core/rulebook"
)

// What a listing shows, and that nothing in a name can break out of it.
func TestListings(t *testing.T) {
	tree := map[string]string{
		"/box/a.txt": "12345", "/box/<b>&\".txt": "1", "/box/.hidden": "x", "/box/sub/deep.txt": "y", "/box/a:b.txt": "", "/index.html": "home",
	}
	for _, test := range []struct {
		name, rules, asks string
		has, lacks        []string
	}{
		{"all columns", "folder f listing on", "/box/", []string{
			"<title>Folder /box/</title>", `<a href="./a.txt">a.txt</a>`, "<td>5", `<a href="./sub/">sub/</a>`, `href="../"`,
			`<a href="./%3Cb%3E&%22.txt">&lt;b&gt;&amp;&#34;.txt</a>`, `href="./a:b.txt"`,
		}, []string{".hidden", "<b>"}},
		{"names alone", "folder f listing on columns name", "/box/", []string{"<th>Name"}, []string{"<th>Size", "<td>5"}},
		{"hidden things", "folder f listing on hidden on", "/box/", []string{".hidden"}, nil},
		{"the top has nothing above it", "folder f listing on documents none", "/", []string{`href="./box/"`}, []string{`href="../"`}},
	} {
		r := buildTree(t, test.rules, tree).Predict(get(t, test.asks))
		page := string(r.content)
		if r.Cause != CauseListing || r.Type != "text/html" {
			t.Errorf("%s: %s", test.name, summary(r))
		}
		for _, s := range test.has {
			if !strings.Contains(page, s) {
				t.Errorf("%s: %q is missing in\n%s", test.name, s, page)
			}
		}
		for _, s := range test.lacks {
			if strings.Contains(page, s) {
				t.Errorf("%s: %q is in\n%s", test.name, s, page)
			}
		}
	}
}

// Where each value of a template lands, and how it is encoded there.
func TestValuesAreEncodedForTheirPlace(t *testing.T) {
	for _, test := range []struct{ rule, asks, want string }{
		{"redirect r on /a/:x to /b/{x} as 302", "/a/%22%3C", "/b/%22%3C"},
		{"redirect r on /a when query.q present to /b/{query.q} as 302 query drop", "/a?q=%2F..%2Fx%3F%23", "500"},
		{"redirect r on /a when query.q present to /b/{query.q}/c as 302 query drop", "/a?q=x%20y%25z%3Fw", "/b/x%20y%25z%3Fw/c"},
		{"redirect r on /a to /b?back={asked} as 302", "/a", "/b?back=%2Fa"},
		{"redirect r on /a/:x to /b?q={x} as 302", "/a/%26%3D%C3%A4", "/b?q=%26%3D%C3%A4"},
		{"redirect r on /a to /b?{query} as 302", "/a?x=1&y=%20", "/b?x=1&y=%20"},
		{"redirect r on /a to /b?{query} as 302", "/a", "/b"},
		{"redirect r on /a when header.X-T present to /b?t={header.X-T} as 302@X-T: a&b=c", "/a", "/b?t=a%26b%3Dc"},
		{"redirect r on /a to https://{host}:{port}/x as 302", "https://s.example:8443/a", "https://s.example:8443/x"},
		{"redirect r on /a to {scheme}://{host}/x as 302", "http://s.example/a", "http://s.example/x"},
		{"redirect r on /a/:h to https://{h}.example/ as 302", "/a/Boat-1", "https://boat-1.example/"},
		{"redirect r on /a/:h to https://{h}.example/ as 302", "/a/x%2Fy", "500"},
		{"redirect r on /a/:h to https://{h}.example/ as 302", "/a/0azAZ9", "https://0azaz9.example/"},
		{"redirect r on /a/:h to https://{h}.example/ as 302", "/a/x%60", "500"}, // before a, and so on: what stands beside letters and digits
		{"redirect r on /a/:h to https://{h}.example/ as 302", "/a/x%7B", "500"},
		{"redirect r on /a/:h to https://{h}.example/ as 302", "/a/x@", "500"},
		{"redirect r on /a/:h to https://{h}.example/ as 302", "/a/x%5B", "500"},
		{"redirect r on /a/:h to https://{h}.example/ as 302", "/a/x:", "500"},
		{"rewrite r on /a when query.q present to /b/{query.q} then finish", "/a?q=%2F..%2Fx", "500"},
		{"rewrite r on /a when query.q present to /b/{query.q}/c then again\nredirect s on /b/x/c to /d as 302 query drop", "/a?q=x", "/d"},
		{"redirect r on /a/:h? to https://{h}.example/ as 302", "/a", "500"},
		{"redirect r on /a* to {path}/x as 302", "/ab", "/ab/x"},
		{"redirect r on /a/*/:x to /b/{x}/{1} as 302", "/a/1/2/3", "/b/3/1/2"},
		{"redirect r on ~/a/(\\d+)(?P<rest>.*) to /b/{1}{rest} as 302", "/a/12/x", "/b/12/x"},
		{"redirect r on /a/:x to /b/{{{x}} as 302", "/a/1", "/b/%7B1%7D"},
		{"redirect r on /a/:x to /b/{x|upper}{x|lower} as 302", "/a/aB%c3%a4", "/b/AB%C3%84ab%C3%A4"},
		{"redirect r on /a to /b#{query.x} as 302 query drop", "/a?x=y%20z", "/b#y%20z"},
		{"redirect r when cookie.c ~(?<who>\\w+) to /u/{who} as 302@Cookie: c=ada", "/a", "/u/ada"},
		{"redirect r unless cookie.c ~(?<who>\\w+) to /u as 302", "/a", "/u"},
		{"redirect r when method GET unless scheme http when cookie.c ~(?<who>\\w+) to /u/{who} as 302@Cookie: c=ada", "/a", "/u/ada"},
		{"redirect r when cookie.c ~a(?<who>\\w+) ~b(?<who>\\w+) to /u/{who} as 302@Cookie: c=bob", "/a", "/u/ob"},
		{"redirect r on /a to /b?{query} as 302", "/a?\"q=1", "/b?%22q=1"},
		{"redirect r on /a to /b?{query} as 302", "/a?q=<", "/b?q=%3C"},
		{"redirect r on /a to /b as 302", "/a?\"x=1", "/b?%22x=1"},
	} {
		rule, header, _ := strings.Cut(test.rule, "@")
		var headers []string
		if header != "" {
			headers = append(headers, header)
		}
		r := build(t, rule).Predict(get(t, test.asks, headers...))
		got := r.Location
		if r.Status == 500 {
			got = "500"
		}
		if got != test.want {
			t.Errorf("%s on %s: %s (%d), want %s", rule, test.asks, got, r.Status, test.want)
		}
	}
}

// A time is copied where one is known.
func TestTimesThatAreCopied(t *testing.T) {
	e := build(t, `header h set X-At "at {time}."`)
	for at, want := range map[string]string{"": "at .", "time: 2026-03-01T09:00:00+01:00": "at 2026-03-01T08:00:00Z."} {
		req := get(t, "/")
		if at != "" {
			req = get(t, "/", at)
		}
		got := ""
		for _, h := range e.Predict(req).Headers {
			if h.Name == "X-At" {
				got = h.Value
			}
		}
		if got != want {
			t.Errorf("%q: %q, want %q", at, got, want)
		}
	}
}

// A trace tells of every entry that was looked at, in words.
func TestATraceSaysWhyNot(t *testing.T) {
	e := build(t, `access crew  in /crew/ unless client 192.0.2.0/24 refuse
redirect a    on /b to /c as 302
redirect b    when scheme http to https://{host}{path} as 301
redirect c    when query.id ~\d+ to /n as 302
redirect d    when cookie.lang de to /de/ as 302
redirect m    when query.id 1 2 3 4 5 6 7 8 to /m as 302
redirect n    when query.id 1 2 3 4 5 6 7 8 9 to /n as 302
rewrite  e    on /short to /notes.txt
header   f    for 404 set X-A b
`)
	_, trace := e.Trace(get(t, "/short?id=x"))
	var got []string
	for _, s := range trace.Steps {
		name := "-"
		if s.Rule != nil {
			name = s.Rule.Name
		}
		got = append(got, fmt.Sprintf("%s %v %s", name, s.Fits, s.Text))
	}
	want := []string{
		"crew false in /crew/: the path is not below it",
		"a false on /b: the path is another",
		"b false when scheme http: it is https",
		`c false when query.id ~\d+: it is x`,
		"d false when cookie.lang de: there is none",
		"m false when query.id 1 2 3 4 5 6 7 8: it is x",
		"n false when query.id 1 2 3 and 6 more: it is x",
		"e true the path becomes /notes.txt?id=x",
		"- true the tree has the file /notes.txt",
		"f false for 404: the status is 200",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

// The light road gives what the full one does, but for the header.
func TestOutcomesAreThoseOfPredictions(t *testing.T) {
	e := build(t, `redirect r on /old to /fares/ as 301
access c in /crew/ refuse
compress z using gzip over 10B
error e for 4xx show /errors/404.html fill on
header h set X-A {path}
media m type txt text/x-note
fallback f in /planner/ to /planner/index.html
`)
	for _, asks := range []string{"/", "/old", "/crew/x", "/none", "/notes.txt", "/planner/x", "/boats/", "POST /", "OPTIONS /", "/app.js", "/../x", "/fares"} {
		for _, header := range []string{"X: y", "Accept-Encoding: gzip", "If-None-Match: *", "Range: bytes=0-1"} {
			req := get(t, asks, header)
			full, light := e.Predict(req), &Response{}
			e.Outcome(req, light)
			a := fmt.Sprint(summary(full), full.Type, full.Size, full.Encoded, full.Encoding)
			b := fmt.Sprint(summary(light), light.Type, light.Size, light.Encoded, light.Encoding)
			if a != b {
				t.Errorf("%s with %s: %s, light %s", asks, header, a, b)
			}
		}
	}
}

// What holds for the class of a client holds for its address, and no two clients of Clients
// are alike.
func TestClassesOfClients(t *testing.T) {
	for _, rules := range []string{
		"access a when client 10.0.0.0/8 192.0.2.128/25 2001:db8::/32 ::ffff:198.51.100.0/120 10.1.2.3 10.1.2.0/24 255.255.255.0/24 refuse\n",
		"access a unless client 10.0.0.0/8 10.1.2.0/24 refuse\naccess b when client 0.0.0.0/0 refuse 404\naccess c when client 10.1.0.0/16 10.1.2.3 admit\n",
		"access a unless client 192.0.2.128/25 refuse\naccess b when client absent refuse\n",
		"access a when client ::/0 refuse\naccess b when client ::1 fe80::/10 refuse\n",
	} {
		c := build(t, rules).sites[0].fields[4]
		answers := func(client netip.Addr) (out string) {
			for _, test := range c.tests {
				out += fmt.Sprint(holds(test, "", client.IsValid(), 0, client), " ")
			}
			return out
		}
		found := map[string]bool{}
		for _, client := range Clients(c.tests) {
			if found[answers(client)] {
				t.Errorf("%s: no test tells %s from a client before it", rules, client)
			}
			found[answers(client)] = true
		}
		clients := []netip.Addr{{}, netip.MustParseAddr("1.2.3.4"), netip.MustParseAddr("::"), netip.MustParseAddr("fe80::1%eth0"), netip.MustParseAddr("2001:db8::1")}
		for _, test := range c.tests { // the addresses at the ends
			for _, v := range test.Values {
				if v.Kind == rulebook.ValueNetwork {
					clients = append(clients, v.Network.Addr().Prev(), v.Network.Addr(), rulebook.LastOf(v.Network), rulebook.LastOf(v.Network).Next())
				}
			}
		}
		for _, client := range clients {
			of := c.clients.of(client)
			for bit, test := range c.tests {
				if got, want := of.has(bit), holds(test, "", client.IsValid(), 0, client); got != want {
					t.Errorf("%s: %s of %s: %v, want %v", rules, test, client, got, want)
				}
			}
			if client.IsValid() && !found[answers(client)] {
				t.Errorf("%s: there is nobody like %s among the clients", rules, client)
			}
		}
	}
}

// Many entries without a path, split by one field, against the plain reading.
func TestSplitListsAgreeWithReadingInOrder(t *testing.T) {
	var rules strings.Builder
	for i := range 40 {
		word := "when"
		if i%7 == 0 {
			word = "unless"
		}
		fmt.Fprintf(&rules, "redirect n%d %s client 10.%d.0.0/16 10.0.%d.0/24 when method %s to /n%d as 302\n", i, word, i%9, i, [...]string{"GET", "HEAD POST"}[i%2], i)
		fmt.Fprintf(&rules, "redirect a%d when agent *bot-%d* when scheme http to /a%d as 302\n", i, i%5, i)
	}
	e := build(t, rules.String())
	for i := range 9 {
		for _, client := range []string{fmt.Sprintf("10.%d.%d.1", i, 3*i), "203.0.113.1", "2001:db8::1"} {
			for _, asks := range []string{"/x", "HEAD /x", "http://s.example/y", "PUT http://s.example/y"} {
				req := get(t, asks, "client: "+client, fmt.Sprintf("User-Agent: bot-%d", i))
				full := e.Predict(req)
				if traced, _ := e.Trace(req); summary(full) != summary(traced) {
					t.Errorf("%s from %s: compiled %s, in order %s", asks, client, summary(full), summary(traced))
				}
			}
		}
	}
}
