package proof

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"kibitz/core/engine"
	"kibitz/core/pages"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// TestPageFindings shows what is said of a page beside the page: the finding, where it is in
// the file, and what to do.
func TestPageFindings(t *testing.T) {
	const head = "site s address https://s.example hosts cdn.s.example files public\n"
	tests := []struct {
		name, rules, page string
		want              []string // FINDING LINE:COL, and a part of the message or the advice
	}{
		{"a page that is not there", "", `<a href="/nothing-like-it/">`, []string{"link-broken 1:10 is not found (404)"}},
		{"a name in other letters", "", `<a href="/Fares/">`, []string{"link-broken 1:10 write /fares/"}},
		{"a slash too many", "", `<a href="/about.html/">`, []string{"link-broken 1:10 write /about.html"}},
		{"without its extension", "", `<a href="/about">`, []string{"link-broken 1:10 write /about.html"}},
		{"gone for good", "reply g on /old/ with 410", `<a href="/old/">`, []string{"link-broken 1:10 is gone (410)"}},
		{"refused", "access r on /old/ refuse", `<a href="/old/">`, []string{"link-broken 1:10 let r (r.kibitz:2) leave the address alone"}},
		{"who logs in sees it", "access r in /old/ ask \"x\" accounts a", `<a href="/old/">`, nil},
		{"a loop", "redirect r on /old/ to /old2/ as temporary\nredirect q on /old2/ to /old/ as temporary", `<a href="/old/">`, []string{"link-broken 1:10 is an endless loop of redirects"}},
		{"an application answers", "handoff a in /app/ to http://127.0.0.1:8080", `<a href="/app/x">`, nil},
		{"another site", "", `<a href="https://t.example/">`, nil},
		{"no address", "", `<a href="https://[/">`, []string{"link-broken 1:10 is not a valid address"}},
		{"a mail address and data", "", `<a href="mailto:a@s.example"><img src="data:,x">`, nil},
		{"moved for good", "redirect r on /old/ to /fares/ as permanent", "<p>\n<a href=\"/old/#a\">", []string{"link-redirected 2:10 write /fares/#a"}},
		{"moved for now", "redirect r on /old/ to /fares/ as temporary", `<a href="/old/">`, nil},
		{"the folder's slash", "", `<a href="fares?a=1">`, []string{"link-redirected 1:10 write fares/?a=1"}},
		{"for some visitors only", "redirect r on /old/ when language de to /about.html as permanent\nredirect q on /old/ to /fares/ as permanent", `<a href="/old/">`, []string{"link-redirected 1:10 write /fares/"}},
		{"a part that is not there", "", `<a href="/about.html#me"><a href="/about.html#you"><a href="#own"><p id=own>`, []string{"link-broken 1:35 has no part with the id you"}},
		{"a page for a script", "rewrite r in /app/ to /about.html then finish", `<script src="/app/x.js"></script>`, []string{"asset-refused 1:14 let it leave the address alone"}},
		{"a text for a script", "header h set X-Content-Type-Options nosniff", `<script src="/notes.txt"></script>`, []string{"asset-refused 1:14 browsers do not run"}},
		{"a text for a script, and nobody looks", "", `<script src="/notes.txt"></script>`, nil},
		{"a text for a module", "", `<script type=module src="/notes.txt"></script>`, []string{"asset-refused 1:26 a module must be a script"}},
		{"a text for a style", "", `<!doctype html><link rel=stylesheet href="/notes.txt">`, []string{"asset-refused 1:43 do not take for a style sheet"}},
		{"an old page takes it", "", `<link rel=stylesheet href="/notes.txt">`, nil},
		{"another origin's font", "", `<style>@font-face { src: url(https://cdn.s.example/f.woff2) }</style>`, []string{"asset-refused 1:30 Access-Control-Allow-Origin"}},
		{"that says it may be used", "header h on /f.woff2 set Access-Control-Allow-Origin *", `<style>@font-face { src: url(https://cdn.s.example/f.woff2) }</style>`, nil},
		{"http on https", "", `<script src="http://s.example/a.js"></script><img src="http://s.example/i.png"><form action="http://t.example/">`, []string{"mixed-content 1:14 do not ask for it", "mixed-content 1:56 over https instead", "mixed-content 1:94 warn the visitor"}},
		{"a link over http is none", "", `<a href="http://t.example/">`, nil},
		{"and the policy mends it", "header h set Content-Security-Policy upgrade-insecure-requests", `<script src="http://s.example/a.js"></script>`, nil},
		{"another address of its own", "redirect r on /old/ to /fares/ as permanent", `<link rel=canonical href="/old/">`, []string{"canonical-elsewhere 1:27 write https://s.example/fares/"}},
		{"a language that names it not", "", `<link rel=alternate hreflang=de href="/fares/">`, []string{"canonical-elsewhere 1:39 does not name this page in return"}},
		{"an inline script", `header h set Content-Security-Policy "script-src 'self'"`, `<script>x()</script><b onclick="y()">`, []string{"policy-breaks-page 1:9 'sha256-D6IGS8VMvCoyaR/l0h9tERrBTATY01CoPS7l6xDv0kI='", "policy-breaks-page 1:33 'unsafe-hashes' 'sha256-"}},
		{"with its hash", `header h set Content-Security-Policy "script-src 'sha256-D6IGS8VMvCoyaR/l0h9tERrBTATY01CoPS7l6xDv0kI='"`, `<script>x()</script>`, nil},
		{"with its nonce", `header h set Content-Security-Policy "script-src 'nonce-abc'"`, `<script nonce=abc>x()</script><script nonce=abc src=/a.js></script><script src=/a.js></script>`, []string{"policy-breaks-page 1:80 'self'"}},
		{"a picture from elsewhere", `header h set Content-Security-Policy "default-src 'none'; img-src https:"`, `<img src=/i.png><img src="data:,x"><link rel=stylesheet href=/a.css>`, []string{"policy-breaks-page 1:27 data:", "policy-breaks-page 1:62 'self'"}},
		{"its own policy, of what stands behind it", "", `<script>a()</script><meta http-equiv=Content-Security-Policy content="script-src 'none'"><script>b()</script>`, []string{"policy-breaks-page 1:98 its own Content-Security-Policy"}},
		{"a page that lets none frame it", "header h on /fares/ set X-Frame-Options DENY", `<iframe src="/fares/">`, []string{"policy-breaks-page 1:14 X-Frame-Options"}},
		{"a relative address in a page of errors", "error e for 404 show /page.html", `<img src=i.png><img src=/i.png>`, []string{"link-broken 1:10 begin the address with a slash:   /i.png"}},
		{"of which a script knows more", "", `<a href="#later"><script src=/a.js></script>`, []string{"link-broken 1:10 unless a script puts it there"}},
		{"a fallback's page", "fallback f in /app/ to /app.html", `<a href="/app/x">`, []string{"link-broken 1:10 is not found"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			_, findings := pagesOf(t, head+tt.rules, tt.page)
			var got []string
			for i, f := range findings {
				if f.Page != "public/page.html" {
					t.Errorf("%s at %s", f.Name, f.Place)
				}
				said := fmt.Sprintf("%s %d:%d %s %s", f.Name, f.Place.Line, f.Place.Col, f.Message, f.Advice)
				if i < len(tt.want) {
					if at, part, _ := cutAfter(tt.want[i], " ", 2); strings.HasPrefix(said, at+" ") && strings.Contains(said, part) {
						said = tt.want[i]
					}
				}
				got = append(got, said)
			}
			if !slices.Equal(got, tt.want) {
				t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(tt.want, "\n"))
			}
		})
	}
	if _, accepted := pagesOf(t, "site s address https://s.example files public\n    accept link-broken \"it comes in May\"\n", `<a href="/nothing-like-it/">`); len(accepted) != 0 {
		t.Errorf("what is accepted is told: %s", accepted[0].Message)
	}
}

// cutAfter cuts a text at the n-th separator.
func cutAfter(s, sep string, n int) (before, after string, ok bool) {
	words := strings.SplitN(s, sep, n+1)
	if len(words) <= n {
		return s, "", false
	}
	return strings.Join(words[:n], sep), words[n], true
}

// pagesOf checks the pages of a site that has one page more than the others, in the order of
// their places.
func pagesOf(t *testing.T, rules, page string) (*engine.Engine, []*Finding) {
	t.Helper()
	book, err := rulebook.Read("r.kibitz", []byte(rules), func(string) ([]byte, error) {
		return []byte("a:$2a$04$4y.2qM7uE8l8CKtcMzd25urC99HnSazwsZ5.Reqgzpq0qwsG8RsSu\n"), nil
	})
	if err != nil {
		t.Fatal(err)
	}
	tree := site.Memory(map[string]string{"/page.html": page, "/fares/index.html": "<p id=a>", "/about.html": "<p id=me>", "/notes.txt": "x", "/a.js": "x", "/a.css": "x", "/i.png": "x", "/f.woff2": "x"})
	e := engine.New(book, []*site.Tree{tree})
	findings := Look(e, Options{Pages: true}).Findings
	slices.SortStableFunc(findings, func(a, b *Finding) int { return a.Place.Line*1000 + a.Place.Col - b.Place.Line*1000 - b.Place.Col })
	return e, findings
}

// TestSettled shows which addresses may be put in the place of others: those of permanent
// redirects that lead every visitor to the same page.
func TestSettled(t *testing.T) {
	const head = "site s address https://s.example files public\n"
	for _, tt := range []struct{ rules, link, want string }{
		{"redirect r on /old/ to /fares/ as permanent", "/old/", "https://s.example/fares/"},
		{"redirect r on /old/ to /fares/ as temporary", "/old/", ""},
		{"redirect r on /old/ to /fares/ as permanent", "/fares/", ""},
		{"redirect r on /old/ to /none/ as permanent", "/old/", ""},
		{"redirect r on /old/ to https://t.example/ as permanent", "/old/", ""},
		{"redirect r on /old/ when language de to /fares/ as permanent\nredirect q on /old/ to /about.html as permanent", "/old/", ""},
		{"redirect r on /old/ to /fares/ as permanent\nredirect q on /fares/ when time before 2027-01-01 to /about.html as permanent", "/old/", ""},
		{"redirect r on /old/ to /fares/ as permanent\nrewrite q on /fares/index.html when cookie.a present to /about.html then finish", "/old/", "https://s.example/fares/"},
		{"rewrite w on /old/ to /older/ then next\nredirect q on /older/ when client 192.0.2.0/24 to /about.html as permanent\nredirect r on /older/ to /fares/ as permanent", "/old/", ""},
		{"redirect r on /old/ to /fares/?by={agent} as permanent", "/old/", ""},
		{"redirect r on /old/ when query.id 7 to /fares/ as permanent", "/old/?id=7", "https://s.example/fares/?id=7"},
		{"access a when client 192.0.2.0/24 refuse\nredirect r on /old/ to /fares/ as permanent", "/old/", "https://s.example/fares/"},
	} {
		e, _ := pagesOf(t, head+tt.rules, "<a href='"+tt.link+"'>")
		got := ""
		for _, target := range pages.Of(e).Targets {
			if end, ok := Settled(e, target); ok {
				got = end.String()
			}
		}
		if got != tt.want {
			t.Errorf("%s\n%s may be %q, want %q", tt.rules, tt.link, got, tt.want)
		}
	}
}
