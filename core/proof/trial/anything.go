package trial

// Rulebooks of everything that the language has, and requests of all kinds for them: for
// tests that hold one way of answering against another.

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"kibitz/core/request"
	"kibitz/core/rulebook"
)

// AnythingFiles are the tree of the first site of a rulebook of Anything; the second has
// none.
var AnythingFiles = map[string]string{
	"/index.html": strings.Repeat("<p>home", 99), "/a": "a", "/b/index.html": "b", "/b/c.txt": strings.Repeat("c", 999), "/b/c.txt.gz": "c", "/d/e.js": strings.Repeat("let e\n", 99), "/d/f.png": "f",
	"/errors/404.html": "<p>{path} {query.q} is gone {host}", "/.git/config": "x", "/.well-known/x": "x", "/ä/x y.html": "ä", "/latin.txt": "\xe4", "/g.svgz": "g", "/list/": "",
}

// AnythingLoad gives the content of the files that rulebooks of Anything name.
func AnythingLoad(name string) ([]byte, error) {
	switch name {
	case "anything.csv":
		return []byte("old,new,status\n/a,/b/,301\n/old,/b/c.txt?x=1,302\n/gone,,410\n/Lost,,404\n/q?id=1,/a,307\nhttps://s.example/full,https://t.example/x,308\n"), nil
	case "plain.csv":
		return []byte("/p,/a\n/r,/b/\n"), nil
	case Accounts:
		return Load(name)
	}
	return nil, os.ErrNotExist
}

// Anything writes a rulebook of two sites, with up to n entries each, all of which have
// names.
func Anything(r *rand.Rand, n int) string {
	w := &writer{Rand: r}
	lines := []string{"list nets 192.0.2.0/24 2001:db8::/32", "list words de fr"}
	for site, head := range []string{
		"site s address https://s.example files public hosts www.s.example *.s.example" + w.pick("", " slashes keep", " slashes merge") + w.pick("", " unknown-hosts answer") + w.pick("", ` accept split-address "meant"`),
		"site t address http://t.example:8080",
	} {
		if w.IntN(3) == 0 && site == 0 {
			lines = append(lines, w.entry("every", 2))
		}
		lines = append(lines, head)
		for i := range 1 + w.IntN(n) {
			lines = append(lines, w.entry(fmt.Sprintf("e%d-%d", site, i), site))
		}
	}
	for { // what goes wrong is left out
		text := strings.Join(lines, "\n") + "\n"
		_, err := rulebook.Read("a.kibitz", []byte(text), AnythingLoad)
		errs, ok := errors.AsType[rulebook.Errors](err)
		if !ok {
			return text
		}
		bad := errs[len(errs)-1].Place.Line - 1
		lines = slices.Delete(lines, bad, bad+1)
	}
}

type writer struct{ *rand.Rand }

func (w *writer) pick(list ...string) string { return list[w.IntN(len(list))] }

// some gives up to n of a list, at least one.
func (w *writer) some(n int, list ...string) string {
	var out []string
	for range 1 + w.IntN(n) {
		out = append(out, w.pick(list...))
	}
	return strings.Join(out, " ")
}

// entry writes one entry. site is 0 for one with a tree, 1 for one without, 2 for all.
func (w *writer) entry(name string, site int) string {
	kinds := []string{"redirect", "redirect", "moves", "rewrite", "reply", "handoff", "access", "access", "header", "header", "media", "compress", "hint", "limit", "error"}
	if site != 1 {
		kinds = append(kinds, "fallback", "folder", "folder", "fallback")
	}
	kind := w.pick(kinds...)
	line := kind + " " + name + w.selectors(site)
	names := []string{"{path}", "{asked}", "{host}", "{query.q}", "{header.H}", "{cookie.c}", "{agent}", "{referrer}", "{language}", "{client}", "{user}", "{time}", "{body}", "{method}", "{scheme}", "{port}", "{query}"}
	if strings.Contains(line, ":x") {
		names = append(names, "{x}", "{x|lower}", "{x|upper|dashes}")
	}
	if strings.Contains(line, "*") || strings.Contains(line, "(") {
		names = append(names, "{1}")
	}
	if strings.Contains(line, " in ") {
		names = append(names, "{below}")
	}
	to := w.pick("/a", "/b/c.txt", "/n", "{path}", "/n{path}", "/b/") + w.pick("", "", w.pick(names...), "/"+w.pick(names...), "?own=1", "?q="+w.pick(names...))
	text := w.pick("plain", `"two words"`, w.pick(names...), `"{{x} `+w.pick(names...)+`"`)
	query := w.pick("", "", " query keep", " query merge", " query only q id", " query drop")
	show := w.pick(" text "+text, " text "+text)
	if site != 1 {
		show = w.pick(" text "+text, " show /errors/404.html", " show /none.html")
	}
	switch kind {
	case "redirect":
		to = w.pick(to, to, "https://t.example"+to, "{scheme}://{host}:{port}"+to, "http://fähre.example/x#"+w.pick("f", "{query.q}"), "https://{query.q}.s.example/")
		line += " to " + to + " as " + w.pick("permanent", "temporary", "301", "302", "303", "307", "308") + query
	case "moves":
		line += w.pick(" table anything.csv", " table plain.csv as "+w.pick("permanent", "307")) + query
	case "rewrite":
		line += " to " + to + query + w.pick("", " then next", " then finish", " then again")
	case "reply":
		line += " with " + w.pick("200", "204", "404", "410", "503") + w.pick("", show) + w.pick("", " retry 90s")
	case "handoff":
		line += w.pick("", " to http://127.0.0.1:9")
	case "access":
		line += w.pick(" refuse", " refuse 404", " refuse 405", " admit", " ask \"The crew\" accounts "+Accounts)
	case "fallback":
		line += " to " + w.pick("{path}.html", "/index.html", "/b/c.txt /index.html", "/{query.q}.html /a") + w.pick("", " as 200", " as 404")
	case "error":
		line += " for " + w.some(2, "404", "4xx", "403", "5xx", "405") + show
		if strings.Contains(line, "show") {
			line += w.pick("", " fill on", " fill off")
		}
	case "folder":
		line += w.pick(" documents index.html c.txt", " documents none", "") + w.pick(" listing on", " listing off", "") + w.pick(" columns name size", "") + w.pick(" slash add", " slash drop", " slash leave", "") + w.pick(" hidden on", " hidden off", "")
	case "header":
		line += w.pick("", " for 200", " for 2xx 404")
		for range 1 + w.IntN(3) {
			line += w.pick(" set X-A "+text, " add X-B "+text, " default X-A "+text, " drop X-A", " set Vary Cookie", " set ETag \"\\\"v\\\"\"", " drop ETag", " set Cache-Control no-cache", " set Referrer-Policy "+w.pick("no-referrer", "origin", "unsafe-url", "same-origin", "strict-origin", "origin-when-cross-origin"), " add Set-Cookie \"c="+w.pick("de", "fr; Path=/", "; Max-Age=0", "{agent}; Path=/", "{query.q}")+"\"")
		}
	case "media":
		line += w.pick(" type txt png text/x-note", "") + w.pick(" charset latin1", " type js text/javascript")
	case "compress":
		line += w.pick("", " using br gzip", " using zstd") + w.pick("", " types text/*", " types */*") + w.pick("", " over 10B") + w.pick("", " level 1") + w.pick("", " stored off", " stored on")
	case "hint":
		line += w.pick(" preload /d/e.js as script", " preconnect https://t.example", " preload /d/f.png as image preload /d/e.js as script")
	case "limit":
		line += w.pick(" url 20B", " headers 60B", " body 5B", " url 1KiB body 1MiB headers 2KiB")
	}
	line += w.pick("", "", " accept chain \"it is meant\"")
	if w.IntN(4) == 0 {
		line += " example /a => " + w.pick("2xx", "301", "404")
	}
	return line
}

// selectors writes which requests an entry is for.
func (w *writer) selectors(site int) string {
	out := ""
	if w.IntN(3) > 0 {
		out += " on " + w.some(2, "/a", "/:x", "/*", "/b/:x", "/b{/}?", "/:x.txt", "~/(a|b).*", "~.*\\b[cd]\\b.*", "/ä/*", "/:x(\\d{1,3})/y", "{/a}?{/b}*", `"/ä/x y.html"`, "/old", "/gone", "~/(?i:A)b?", "/:x+")
	}
	if w.IntN(4) == 0 {
		out += " in " + w.some(2, "/", "/b/", "/d", "/.git/", "/ä/")
	}
	for range w.IntN(3) {
		field := w.pick("scheme http", "scheme https", "host s.example www.s.example", "host *.s.example", "host ~w+\\.s\\..*", "port 443", "port over 1024", "port over 80 below 9000", "method GET HEAD", "method ~P.*",
			"path /a*", "path ~/b/.*", "path \"/ä/x y.html\"", "asked /:x/*", "asked /a", "query absent", "query present", "query q=1*", "query.q 1 {words}", "query.q ~(?<y>[a-z]+)", "header.H x", "header.H absent", "cookie.c {words}", "cookie.c ~d.",
			"agent *bot*", "agent ~.*(?:spider|bot).*", "referrer absent", "referrer https://r.example/*", "client {nets}", "client 10.0.0.0/8 203.0.113.9", "client absent", "language de*", "language de-at fr", "language absent", "language ~e.", "user a", "user present", "time after 2026-03-01", "time after 2026-01-01 before 2026-06-01", "time present", "body over 3B", "body below 3B", "body 0")
		if site != 1 && w.IntN(6) == 0 {
			field = w.pick("file exists", "file missing", "file folder missing")
		}
		out += w.pick(" when ", " unless ") + field
	}
	return out + w.pick("", "", "", " ignoring case")
}

// AnyRequest makes a request for a rulebook of Anything.
func AnyRequest(r *rand.Rand) *request.Request {
	w := &writer{Rand: r}
	origin := w.pick("https://s.example", "https://s.example", "http://s.example", "https://www.s.example", "http://w.s.example:8081", "http://t.example:8080", "https://t.example", "https://u.example")
	path := w.pick("/", "/a", "/A", "/b", "/b/", "/b/c.txt", "/d/e.js", "/d/", "/n", "/n/m", "/ä/x%20y.html", "/%C3%A4/", "/.git/config", "/.well-known/x", "/old", "/gone", "/Lost", "/lost", "/q", "/full", "/p", "/7/y", "/b//c.txt", "/a%2Fb", "/latin.txt", "/g.svgz", "/list", "/list/", "/a/../b/", "/%FF", "/x.txt", "/ab")
	url := origin + path + w.pick("", "", "", "?", "?q=1", "?q=de&id=2", "?id=1", "?q=..", "?q=%C3%A4+b")
	address, err := request.Parse(url, request.Address{})
	if err != nil {
		panic(err)
	}
	req := &request.Request{Method: w.pick("GET", "GET", "GET", "HEAD", "POST", "PUT", "OPTIONS"), Address: address}
	for _, h := range []request.Header{{Name: "H", Value: "x"}, {Name: "Cookie", Value: "c=de"}, {Name: "Accept-Language", Value: w.pick("de-AT, en;q=0.8", "en;q=0.5, fr", "*", "x_y")}, {Name: "User-Agent", Value: "a bot"}, {Name: "Referer", Value: "https://r.example/x"}, {Name: "Accept-Encoding", Value: w.pick("gzip, br", "zstd;q=0.5, *;q=0.1", "identity")},
		{Name: "Range", Value: w.pick("bytes=0-1", "bytes=5000-")}, {Name: "If-None-Match", Value: w.pick("*", `"v"`)}, {Name: "Authorization", Value: w.pick("Basic YTpi", "Basic YTp4")}} {
		if w.IntN(5) == 0 {
			req.Headers = append(req.Headers, h)
		}
	}
	if client := w.pick("", "192.0.2.1", "10.1.1.1", "2001:db8::1", "203.0.113.9"); client != "" {
		req.Client = netip.MustParseAddr(client)
	}
	if w.IntN(3) > 0 {
		req.Time = time.Date(2025+w.IntN(3), 4, 1, 0, 0, 0, 0, time.UTC)
	}
	if req.Method == "POST" || req.Method == "PUT" {
		req.Body = int64(w.IntN(8))
	}
	return req
}
