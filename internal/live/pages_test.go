package live

import (
	"context"
	"fmt"
	"maps"
	"os/exec"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"kibitz/core/engine"
	"kibitz/core/pages"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// judged are pages with the header that each is sent with, as clauses of an entry. No two
// refer to the same address, or hold the same script or style.
var judged = []struct{ header, body string }{
	{``, `<img src=/i.png?1><script src=/a.js?1></script><link rel=stylesheet href=/a.css?1>`},
	{``, `<base href=/sub/><img src=i.png><img src="../i.png?2">`},
	{``, `<img srcset="/i.png?s 1x"><picture><source srcset="/i.png?p"><img></picture><video poster=/i.png?v></video>`},
	{``, `<style>@import "/b.css"; body { background: url(i.png?bg) } @font-face { font-family: f; src: url(/f.woff2) } p { font-family: f }</style><p>text`},
	{``, `<p style="background: url('/i.png?st&amp;x=1')">x</p><table background=/i.png?t><tr><td>x</table>`},
	{``, `<iframe src=/inner.html></iframe><object data=/inner.html?o></object><embed src=/inner.html?e>`},
	{``, `<svg><image href="/i.png?svg"/><title><a href="/no"></a></title></svg><input type=image src=/i.png?in><noscript><img src=/no.png></noscript><template><img src=/no.png></template>`},
	{``, `<script type=module src=/a.js?m></script><script type=text/template src=/no.js></script><link rel=preload as=image href=/i.png?pre><link rel=modulepreload href=/a.js?mp>`},
	{``, `<script src=/notes.txt></script><link rel=stylesheet href=/style.txt><script type=module src=/notes.txt?m></script>`},
	{``, `<script src=/fares></script><script src=/i.png?script></script><script src=/typed.html?script></script><link rel=stylesheet href=/typed.html?style>`},
	{``, `<style>@font-face { font-family: f; src: url(https://cdn.s.example/f.woff2) } p { font-family: f }</style><p>x</p><script type=module src=https://cdn.s.example/a.js></script><img crossorigin src=https://cdn.s.example/i.png?cors><script src=https://cdn.s.example/a.js?plain></script>`},
	{``, `<script src=http://cdn.s.example/a.js?mixed></script><link rel=stylesheet href=http://cdn.s.example/a.css?mixed><iframe src=http://cdn.s.example/inner.html?mixed></iframe><img src=http://s.example/i.png?upgraded>`},
	{`set Content-Security-Policy upgrade-insecure-requests`, `<script src=http://s.example/a.js?up></script>`},
	{`set Content-Security-Policy "script-src 'self'"`, `<script>let a = 1</script><script src=/a.js?self></script><script src=https://cdn.s.example/a.js?other></script><p onclick="a()">x</p>`},
	{`set Content-Security-Policy "script-src 'sha256-GyqpIlgOJ0IfkcwIuGMztwMdfIXDGFmHTyJfNudl4Jc='"`, `<script>let a = 2</script><script>let b = 2</script>`},
	{`set Content-Security-Policy "script-src 'nonce-abc'"`, `<script nonce=abc>let a = 3</script><script nonce=abc src=/a.js?nonce></script><script nonce=no src=/a.js?no></script><script>let c = 3</script>`},
	{`set Content-Security-Policy "script-src 'nonce-abc' 'strict-dynamic' https://cdn.s.example"`, `<script nonce=abc src=/a.js?sd></script><script src=https://cdn.s.example/a.js?sd2></script>`},
	{`set Content-Security-Policy "script-src 'unsafe-inline'"`, `<script>let a = 5</script><script src=/a.js?ui></script>`},
	{`set Content-Security-Policy "script-src 'unsafe-inline' 'strict-dynamic'"`, `<script src=/a.js?us></script>`},
	{`set Content-Security-Policy "default-src 'none'; img-src 'self'"`, `<img src=/i.png?own><img src=https://cdn.s.example/i.png?cdn><img src="data:image/gif;base64,R0lGODlhAQABAAAAACw="><link rel=stylesheet href=/a.css?none><iframe src=/inner.html?none></iframe>`},
	{`set Content-Security-Policy "img-src https://cdn.s.example/pics/ https://cdn.s.example/i.png"`, `<img src=https://cdn.s.example/pics/a.png><img src=https://cdn.s.example/i.png?path><img src=https://cdn.s.example/i.png/x><img src=/i.png?path2>`},
	{`set Content-Security-Policy "img-src *.s.example"`, `<img src=https://cdn.s.example/i.png?wild><img src=https://s.example/i.png?wild2>`},
	{`set Content-Security-Policy "img-src https:"`, `<img src=/i.png?scheme><img src="data:image/gif;base64,R0lGODlhAQABAAAAADs=">`},
	{`set Content-Security-Policy "style-src 'self'"`, `<style>p { color: red }</style><p style="color: blue">x</p><link rel=stylesheet href=/a.css?self>`},
	{`set Content-Security-Policy "style-src 'unsafe-hashes' 'sha256-kuO8o7/4AS8wAgHfyY1VeYhaWqj5cXFEn70fmIW3hIs='"`, `<p style="color: gray">x</p><p style="color: green">x</p>`},
	{`set Content-Security-Policy "script-src-elem 'none'; script-src 'self'; style-src-attr 'none'"`, `<script src=/a.js?elem></script><style>b { color: red }</style><p style="color: red">x</p>`},
	{``, `<img src=/i.png?before><meta http-equiv=Content-Security-Policy content="img-src 'none'"><img src=/i.png?after>`},
	{``, `<meta http-equiv=Content-Security-Policy content="img-src 'none'; frame-ancestors 'none'"><img src=/i.png?meta>`},
	{`set Content-Security-Policy "frame-src 'self'; object-src 'none'"`, `<iframe src=/inner.html?f></iframe><iframe src=https://cdn.s.example/inner.html?f></iframe><object data=/inner.html?ob></object>`},
	{``, `<iframe src=/deny.html></iframe><iframe src=/ancestors.html></iframe>`},
	{`set Cross-Origin-Embedder-Policy require-corp`, `<img src=https://cdn.s.example/i.png?corp><img src=https://cdn.s.example/open.png><img src=/i.png?same>`},
	{`set Content-Security-Policy "img-src 'self'"`, `<img src=/away.png>`},
	{`set Content-Security-Policy "font-src 'none'; media-src 'none'"`, `<style>@font-face { font-family: g; src: url(/f.woff2?csp) } i { font-family: g }</style><i>x</i><video src=/v.mp4></video>`},
	{`set Content-Security-Policy "default-src 'self', img-src 'none'"`, `<img src=/i.png?two><script src=/a.js?two></script>`},
}

// judgedRules are the rules of the site that has these pages.
const judgedRules = `site s address https://s.example hosts cdn.s.example files public
redirect away on /away.png to https://cdn.s.example/i.png?away as temporary
rewrite  fares on /fares to /inner.html then finish
header   deny on /deny.html set X-Frame-Options DENY
header   ancestors on /ancestors.html set Content-Security-Policy "frame-ancestors 'none'"
header   open on /open.png set Cross-Origin-Resource-Policy cross-origin
header   typed on /typed.html set X-Content-Type-Options nosniff
header   fresh set Cache-Control no-store
`

// complaints are what a browser's console says, and what it is about: an address, or a hash.
var complaints = []struct {
	kind string
	line *regexp.Regexp
}{
	{"csp", regexp.MustCompile(`"Loading [a-z ]+'([^']+)' violates the following Content Security Policy directive`)},
	{"frame", regexp.MustCompile(`"Framing '([^']+)' violates the following Content Security Policy directive`)},
	{"frame", regexp.MustCompile(`"Refused to display '([^']+)' in a frame because`)},
	{"inline", regexp.MustCompile(`"(?:Executing|Applying) inline (?:script|style) violates .*a hash \('(sha256-[^']+)'\)`)},
	{"handler", regexp.MustCompile(`"Executing inline (event handler) violates`)},
	{"type", regexp.MustCompile(`"Refused to (?:execute script from|apply style from) '([^']+)' because its MIME type`)},
	{"type", regexp.MustCompile(`"Failed to load module script: .*source: (\S+) `)},
	{"type", regexp.MustCompile(`"Uncaught SyntaxError: Unexpected token '<'", source: (\S+) `)},
	{"cors", regexp.MustCompile(`"Access to (?:font|script|image) at '([^']+)' from origin .* has been blocked by CORS policy`)},
	{"mixed", regexp.MustCompile(`"Mixed Content: .* requested an insecure .* '([^']+)'. This request has been blocked`)},
}

// own are the pages themselves, and what a browser asks for of itself.
var own = regexp.MustCompile(`^(p\d+\.html|all\.html|favicon\.ico)$`)

// TestABrowserJudgesThePages loads pages of every kind of reference and policy in a browser:
// what it asks for, what it blocks by a policy, and what it refuses by its type are what is
// read of the pages.
func TestABrowserJudgesThePages(t *testing.T) {
	program, err := exec.LookPath("chromium")
	if err != nil || testing.Short() {
		t.Skip("there is no chromium here: .ci/run installs it where it can")
	}
	files := map[string]string{"/i.png": pixel, "/sub/i.png": pixel, "/pics/a.png": pixel, "/open.png": pixel, "/a.js": "1\n", "/a.css": "p {}\n", "/b.css": "p {}\n", "/f.woff2": "x", "/notes.txt": "1\n", "/style.txt": "@import \"/b.css?never\";", "/typed.html": "<p>x", "/v.mp4": "x",
		"/inner.html": "<!doctype html><title>inner</title>", "/deny.html": "<!doctype html>deny", "/ancestors.html": "<!doctype html>no", "/fares/index.html": "x"}
	rules, frames := judgedRules, ""
	for i, p := range judged {
		name := fmt.Sprintf("/p%02d.html", i)
		files[name] = "<!doctype html><title>" + name + "</title>" + p.body
		if p.header != "" {
			rules += fmt.Sprintf("header p%02d on %s %s\n", i, name, p.header)
		}
		frames += "<iframe src=" + name + "></iframe>\n"
	}
	files["/all.html"] = "<!doctype html>" + frames
	book, err := rulebook.Read("t.kibitz", []byte(rules), nil)
	if err != nil {
		t.Fatal(err)
	}
	e := engine.New(book, []*site.Tree{site.Memory(files)})
	w := serve(t, e)
	asked := map[string]bool{}
	var mu sync.Mutex
	w.server.Log = func(d Served) {
		if a := d.Request.Address; strings.HasSuffix(a.Host, "s.example") && !own.MatchString(path.Base(a.Path)) {
			mu.Lock()
			defer mu.Unlock()
			asked[a.String()] = true
		}
	}
	at := map[string]string{}
	for _, o := range w.server.local {
		at[o.scheme] = fmt.Sprint(o.host, ":", o.port)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 90*time.Second)
	defer cancel()
	c := exec.CommandContext(ctx, program, "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync",
		"--disable-features=HttpsUpgrades,HttpsFirstBalancedModeAutoEnable", "--ignore-certificate-errors", "--user-data-dir="+t.TempDir(), "--enable-logging=stderr", "--virtual-time-budget=8000",
		"--host-resolver-rules=MAP *:80 "+at["http"]+", MAP *:443 "+at["https"], "--dump-dom", "https://s.example/all.html")
	var console strings.Builder
	c.Stderr = &console
	if err := c.Run(); err != nil {
		t.Fatal(err)
	}
	said := map[string]bool{}
	for _, of := range complaints {
		for _, m := range of.line.FindAllStringSubmatch(console.String(), -1) {
			said[of.kind+" "+m[1]] = true
		}
	}
	wantAsked, wantSaid := predicted(pages.Of(e))
	mu.Lock()
	defer mu.Unlock()
	for _, pair := range []struct {
		what      string
		got, want map[string]bool
	}{{"asked for", asked, wantAsked}, {"said", said, wantSaid}} {
		for _, s := range slices.Sorted(maps.Keys(pair.want)) {
			if !pair.got[s] {
				t.Errorf("the browser should have %s %s", pair.what, s)
			}
		}
		for _, s := range slices.Sorted(maps.Keys(pair.got)) {
			if !pair.want[s] {
				t.Errorf("the browser has %s %s", pair.what, s)
			}
		}
	}
	if len(wantAsked) < 40 || len(wantSaid) < 30 {
		t.Errorf("%d addresses and %d complaints are too few", len(wantAsked), len(wantSaid))
	}
	if t.Failed() {
		t.Log(console.String())
	}
}

// predicted gives what a browser asks for of the judged pages, and what its console says.
func predicted(all *pages.Site) (asked, said map[string]bool) {
	asked, said = map[string]bool{}, map[string]bool{}
	for _, p := range all.Pages {
		if !own.MatchString(p.Node.Name()) || p.Node.Name() == "all.html" {
			continue
		}
		blocked := map[*pages.Link]bool{}
		for _, b := range p.Blocked() {
			switch {
			case b.Inline != nil && b.Inline.Use == pages.Script && b.Inline.Kind == "attribute":
				said["handler event handler"] = true
			case b.Inline != nil:
				said["inline "+strings.Trim(b.Add[strings.Index(b.Add, "'sha256"):], "'")] = true
			case b.Directive == "frame-ancestors" || b.Field == "X-Frame-Options": // the console tells the origin alone
				said["frame "+b.Link.To.Origin()+"/"] = true
			case b.Field == "Cross-Origin-Resource-Policy": // of which it tells nothing
			case b.Link.Use == pages.Frame && b.Link.To.Origin() != p.Address.Origin():
				blocked[b.Link] = true
				said["frame "+b.Link.To.Origin()+"/"] = true
			case b.Link.Use == pages.Frame:
				blocked[b.Link] = true
				said["frame "+b.Link.To.String()] = true
			case b.Link.To.Host == "":
				blocked[b.Link] = true
				said["csp "+b.Link.Text] = true
			default:
				visit := b.Link.Target.Visit
				if blocked[b.Link] = true; visit.Redirects() > 0 { // what is blocked is where it leads
					asked[b.Link.To.String()] = true
				}
				said["csp "+visit.Hops[len(visit.Hops)-1].Request.Address.String()] = true
			}
		}
		for _, l := range p.Links {
			if !l.Use.Loads() || blocked[l] || l.Target == nil {
				continue
			}
			if l.Mixed() == pages.Blocks {
				said["mixed "+l.To.String()] = true
				continue
			}
			to := l.To
			to.SetScheme("https")
			asked[to.String()] = true
			switch why := l.Refused(); {
			case strings.Contains(why, "another origin"):
				said["cors "+to.String()] = true
			case why != "" && l.Use == pages.Style && l.Target.Last().Type == "text/plain": // the console says nothing of it; but what the sheet imports is not asked for
			case why != "":
				said["type "+to.String()] = true
			}
		}
	}
	return asked, said
}

// pixel is a picture.
const pixel = "GIF89a\x01\x00\x01\x00\x80\x00\x00\x00\x00\x00\xff\xff\xff!\xf9\x04\x01\x00\x00\x00\x00,\x00\x00\x00\x00\x01\x00\x01\x00\x00\x02\x02D\x01\x00;"
