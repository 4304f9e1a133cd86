package browser

import (
	"fmt"
	"strings"
	"testing"

	"kibitz/core/engine"
	"kibitz/core/request"
)

// What is sent as Cookie behind a redirect, by what the redirect sets.
func TestCookiesGoAlong(t *testing.T) {
	for _, test := range []struct {
		name, sets string // Set-Cookie of the redirect, several with | between
		asks       string // with Cookie behind a blank
		to, want   string
	}{
		{"a new one", "a=1", "/x", "/y", "a=1"},
		{"beside one that was brought", "a=1", "/x b=2; c=3", "/y", "b=2; c=3; a=1"},
		{"in the place of one that was brought", "a=1", "/x a=0; c=3", "/y", "c=3; a=1"},
		{"nothing is set", "", "/x a=0", "/y", "a=0"},
		{"what browsers do not understand", "=", "/x a=0", "/y", "a=0"},
		{"taken away", "a=; Max-Age=0", "/x a=0; c=3", "/y", "c=3"},
		{"taken away, the last", "a=; Max-Age=0", "/x a=0", "/y", ""},
		{"a date that is past", "a=; Expires=Thu, 01 Jan 1970 00:00:00 GMT", "/x a=0", "/y", ""},
		{"a date to come", "a=1; Expires=Thu, 01 Jan 2099 00:00:00 GMT", "/x", "/y", "a=1"},
		{"Max-Age before Expires", "a=1; Max-Age=60; Expires=Thu, 01 Jan 1970 00:00:00 GMT", "/x", "/y", "a=1"},
		{"set twice", "a=1|a=2", "/x", "/y", "a=2"},
		{"set and taken away", "a=1|a=; Max-Age=0", "/x", "/y", ""},
		{"for the folder of the address", "a=1", "/shop/x", "/shop/y", "a=1"},
		{"not for other folders", "a=1", "/shop/x", "/y", ""},
		{"nor for those that begin alike", "a=1; Path=/shop", "/x", "/shopping", ""},
		{"for all below a path", "a=1; Path=/shop", "/x", "/shop/y/z", "a=1"},
		{"of two with one name the one for more of the path first", "a=1; Path=/|a=2; Path=/shop", "/x", "/shop/y", "a=2; a=1"},
		{"for the host alone", "a=1", "/x", "https://www.s.example/y", ""},
		{"for the domain", "a=1; Domain=s.example", "/x", "https://www.s.example/y", "a=1"},
		{"for a domain with a dot", "a=1; Domain=.s.example", "/x", "https://www.s.example/y", "a=1"},
		{"not for another domain", "a=1; Domain=t.example", "/x", "/y", ""},
		{"nor for one below", "a=1; Domain=www.s.example", "/x", "https://www.s.example/y", ""},
		{"secure, and sent over http", "a=1; Secure", "/x", "http://s.example/y", ""},
		{"secure, and set over http", "a=1; Secure", "http://s.example/x", "/y", ""},
		{"secure", "a=1; Secure", "/x", "/y", "a=1"},
		{"a prefix that is kept", "__Host-a=1; Secure; Path=/", "/x", "/y", "__Host-a=1"},
		{"a prefix without its path", "__Host-a=1; Secure", "/x", "/y", ""},
		{"a prefix that is not secure", "__Secure-a=1", "/x", "/y", ""},
		{"a prefix in other letters", "__host-a=1; Path=/", "/x", "/y", ""},
		{"quotes are of the value", "a=\\\"1\\\"", "/x", "/y", `a="1"`},
		{"a blank and other letters in the value", "a=x é", "/x", "/y", "a=x é"},
		{"without a name", "seen", "/x", "/y", "seen"},
		{"set again it keeps its place", "a=1; Path=/|b=2; Path=/|a=3; Path=/", "/x", "/y", "a=3; b=2"},
		{"the last domain counts", "a=1; Domain=t.example; Domain=s.example", "/x", "https://www.s.example/y", "a=1"},
		{"for a domain that has many owners", "a=1; Domain=example", "/x", "/y", ""},
		{"from other sites, too, and not secure", "a=1; SameSite=None", "/x", "/y", ""},
		{"from other sites, too", "a=1; SameSite=None; Secure", "/x", "/y", "a=1"},
		{"a date as people write it", "a=1; Expires=1 Jan 1999 0:0:0", "/x", "/y", ""},
		{"a date that is none", "a=1; Expires=soon", "/x", "/y", "a=1"},
		{"a day that is none", "a=1; Expires=31 Feb 1999 10:00:00", "/x", "/y", "a=1"},
	} {
		var rules strings.Builder
		rules.WriteString("    hosts www.s.example\nredirect r on /x /shop/x to " + test.to + " as 302\n")
		if test.sets != "" {
			for i, set := range strings.Split(test.sets, "|") {
				fmt.Fprintf(&rules, "header h%d on /x /shop/x add Set-Cookie \"%s\"\n", i, set)
			}
		}
		asks, cookie, has := strings.Cut(test.asks, " ")
		req := get(t, asks)
		if has {
			req = get(t, asks, "Cookie: "+cookie)
		}
		v := Open(build(t, rules.String()), req)
		if len(v.Hops) != 2 {
			t.Fatalf("%s: %d requests", test.name, len(v.Hops))
		}
		if got, _ := v.Hops[1].Request.Get("Cookie"); got != test.want {
			t.Errorf("%s: %q is sent, want %q", test.name, got, test.want)
		}
	}
}

// What https has set for itself alone, http does not set anew.
func TestSecureCookiesAreLeftAlone(t *testing.T) {
	e := build(t, `    hosts www.s.example
redirect one   on /x when scheme https to http://s.example/x as 302
redirect two   on /x to https://s.example/y as 302
header   own   on /x when scheme https add Set-Cookie "a=1; Secure; Path=/"
header   other on /x when scheme http  add Set-Cookie "a=2; Path=/"
`)
	v := Open(e, get(t, "https://s.example/x"))
	if got, _ := v.Hops[len(v.Hops)-1].Request.Get("Cookie"); got != "a=1" {
		t.Errorf("%q is sent", got)
	}
}

// A cookie that other sites do not send along: by the page that a visit comes from.
func TestCookiesFromOtherSites(t *testing.T) {
	for _, test := range []struct{ asks, from, sets, want string }{
		{"https://s.example/x", "", "SameSite=Strict", "a=1"}, // a typed address
		{"https://s.example/x", "https://www.s.example/", "SameSite=Strict", "a=1"},
		{"https://s.example/x", "http://s.example/", "SameSite=Strict", ""},
		{"https://s.example/x", "https://t.example/", "SameSite=Strict", ""},
		{"https://s.example/x", "https://t.example/", "SameSite=Lax", "a=1"},
		{"POST https://s.example/x", "https://t.example/", "SameSite=Lax", ""},
		{"POST https://s.example/x", "https://t.example/", "SameSite=Else", "a=1"},
		{"https://192.0.2.1/x", "https://192.0.2.1/", "SameSite=Strict", "a=1"},
		{"https://192.0.2.1/x", "https://198.51.2.1/", "SameSite=Strict", ""},
	} {
		e := build(t, "    hosts *.example 192.0.2.1\nredirect r on /x to /y as 307\nheader h on /x set Set-Cookie \"a=1; "+test.sets+"\"\n")
		req := get(t, test.asks)
		if test.from != "" {
			req = get(t, test.asks, "Referer: "+test.from)
		}
		v := Open(e, req)
		if got, _ := v.Hops[len(v.Hops)-1].Request.Get("Cookie"); got != test.want {
			t.Errorf("%s from %q, where %s: %q is sent, want %q", test.asks, test.from, test.sets, got, test.want)
		}
	}
}

// A referrer policy that a redirect tells holds for the rest of the way.
func TestReferrerPoliciesStay(t *testing.T) {
	e := build(t, `    hosts www.s.example t.example
redirect one   on /x to /y as 302
redirect two   on /y to https://t.example/z as 302
redirect three on /z to https://s.example/fares/ as 302
header   h     on /x set Referrer-Policy same-origin
`)
	var got []string
	for _, h := range Open(e, get(t, "/x", "Referer: https://s.example/from")).Hops {
		from, _ := h.Request.Get("Referer")
		got = append(got, h.Request.Address.String()+" "+from)
	}
	want := "https://s.example/x https://s.example/from\nhttps://s.example/y https://s.example/from\nhttps://t.example/z \nhttps://s.example/fares/ "
	if strings.Join(got, "\n") != want {
		t.Errorf("%s", strings.Join(got, "\n"))
	}
}

// Of a referrer the next request has what the redirect lets it have, whether its header is
// wanted or not.
func TestReferrersOnTheWay(t *testing.T) {
	const rules = "redirect a on /page.html when referrer present to /page.html as 302\nredirect b on /x when host www.s.example to /fares/ as 302\n"
	for header, want := range map[string]string{"": "loop 1 302", "header h set Referrer-Policy no-referrer": "arrived 2 200", "header h set Referrer-Policy origin": "loop 2 302"} {
		e := build(t, "    hosts www.s.example\n"+rules+header+"\n")
		req := get(t, "/page.html", "Referer: https://s.example/from")
		var first engine.Response
		e.Outcome(req, &first)
		for way, v := range map[string]*Visit{"": Open(e, req), ", without the header": OpenOutcome(e, req, &first)} {
			if got := fmt.Sprint(v.Ending, " ", len(v.Hops), " ", engine.StatusText(v.Last())); got != want {
				t.Errorf("%q%s: %s, want %s", header, way, got, want)
			}
		}
	}
}

// A visit is a loop where an address comes back with the same cookies.
func TestCookiesOnTheWay(t *testing.T) {
	const bounce = "redirect b on /page.html when cookie.seen absent to /page.html as 302\n"
	for _, test := range []struct{ name, rules, want string }{
		{"no cookie", bounce, "loop 1 302"},
		{"a cookie that is looked for", bounce + "header h on /page.html set Set-Cookie seen=1", "arrived 2 200"},
		{"a cookie for other paths", bounce + "header h on /page.html set Set-Cookie \"seen=1; Path=/staff\"", "loop 2 302"},
		{"a cookie that comes and goes", "redirect a on /page.html when cookie.x absent to /b as 302\nheader s on /page.html set Set-Cookie x=1\n" +
			"redirect b on /b when cookie.x present to /page.html as 302\nheader d on /b set Set-Cookie \"x=; Max-Age=0\"", "loop 3 302"},
		{"a cookie that stays", "redirect a on /page.html when cookie.x absent to /b as 302\nheader s on /page.html set Set-Cookie x=1\n" +
			"redirect b on /b when cookie.x present to /page.html as 302", "arrived 3 200"},
		{"a count in a cookie", "redirect a on /page.html unless cookie.n 111 to /page.html as 302\nheader s on /page.html set Set-Cookie n={cookie.n}1", "arrived 4 200"},
	} {
		e := build(t, test.rules+"\n")
		req := get(t, "/page.html")
		var first engine.Response
		e.Outcome(req, &first)
		for way, v := range map[string]*Visit{"": Open(e, req), ", without the header": OpenOutcome(e, req, &first)} {
			if got := fmt.Sprint(v.Ending, " ", len(v.Hops), " ", engine.StatusText(v.Last())); got != test.want {
				t.Errorf("%s%s: %s, want %s", test.name, way, got, test.want)
			}
		}
	}
}

// What a stored answer sets was set when it came, and perhaps has been taken away since.
func TestStoredAnswersSetNothing(t *testing.T) {
	e := build(t, "redirect r on /x to /page.html as 301\nheader h on /x set Set-Cookie c=1\n")
	req := get(t, "/x")
	first := e.Predict(req)
	v := OpenWith(e, req, func(asked *request.Request) *engine.Response {
		if asked.Address.Path == "/x" {
			return first
		}
		return nil
	})
	if sent, ok := v.Last().Get("Content-Type"); len(v.Hops) != 2 || !ok {
		t.Fatalf("%d requests, %s", len(v.Hops), sent)
	}
	if cookie, ok := v.Hops[1].Request.Get("Cookie"); ok || v.Hops[0].Response != first {
		t.Errorf("%q is sent", cookie)
	}
}

// Whatever Set-Cookie says, what is understood of it is sent as it is understood again.
func FuzzSetCookie(f *testing.F) {
	for _, text := range []string{"a=1", "seen", "=1", " a b = \"c\" ;Path=/;Domain=.s.example;Secure; SameSite=None", "a=; Max-Age=-99999999999999999999; Expires=Sat Jan 1 00:00:00 2000", "__host-a;Path", "a=1; Expires=1 Jan 0:0:0 99"} {
		f.Add(text, "https://www.s.example/shop/x")
	}
	f.Fuzz(func(t *testing.T, text, from string) {
		at, err := request.Parse(from, request.Address{})
		set, ok := readSetCookie(text)
		if err != nil || !ok {
			return
		}
		c, ok := set.cookie(at)
		if !ok {
			return
		}
		again, ok := readSetCookie(c.pair())
		if !ok || (again.name != c.name || again.value != c.value) && c.name != "" {
			t.Errorf("%q is sent as %q, which is read as %q=%q", text, c.pair(), again.name, again.value)
		}
		if c.alone && c.domain != at.Host || !strings.HasPrefix(c.path, "/") && at.Path != "*" {
			t.Errorf("%q of %s is for %+v", text, from, c)
		}
	})
}
