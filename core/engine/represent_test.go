package engine

import (
	"fmt"
	"io"
	"strings"
	"testing"

	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// dated compiles rules over a tree whose files are all of one time.
func dated(t testing.TB, rules string) *Engine {
	t.Helper()
	text := strings.Repeat("the tide comes in\n", 100)
	listing := fmt.Sprintf("path,size,modified\n/page.html,%d,2026-03-01T06:00:00Z\n/tiny.txt,3,2026-03-01T06:00:00Z\n/undated.txt,9,\n/sea.png,9000,2026-03-01T06:00:00Z\n"+
		"/app.js,1800,2026-03-01T06:00:00Z\n/app.js.br,300,2026-03-01T06:00:00Z\n/app.js.gz,400,2026-03-01T06:00:00Z\n/big.js,1800,2026-03-01T06:00:00Z\n/big.js.gz,1900,2026-03-01T06:00:00Z\n/errors/e.html,20,2026-03-01T06:00:00Z\n", len(text))
	tree, err := site.Inventory([]byte(listing))
	if err != nil {
		t.Fatal(err)
	}
	book, err := rulebook.Read("t.kibitz", []byte("site s address https://s.example files public\n"+rules), nil)
	if err != nil {
		t.Fatal(err)
	}
	return New(book, []*site.Tree{tree})
}

const (
	tag    = `"64bf02e393800-708"` // of page.html
	before = "Sat, 28 Feb 2026 00:00:00 GMT"
	same   = "Sun, 01 Mar 2026 06:00:00 GMT"
	after  = "Mon, 02 Mar 2026 00:00:00 GMT"
)

// Each row names the section of RFC 9110 that it comes from.
func TestConditionalRequests(t *testing.T) {
	e := dated(t, "")
	for _, test := range []struct{ section, asks, want string }{
		{"13.1.1", "/page.html|If-Match: " + tag, "200"},
		{"13.1.1", "/page.html|If-Match: \"x\", " + tag, "200"},
		{"13.1.1", "/page.html|If-Match: *", "200"},
		{"13.1.1", "/page.html|If-Match: \"x\"", "412"},
		{"13.1.1 strong comparison", "/page.html|If-Match: W/" + tag, "412"},
		{"13.1.2", "/page.html|If-None-Match: " + tag, "304"},
		{"13.1.2 weak comparison", "/page.html|If-None-Match: W/" + tag, "304"},
		{"13.1.2", "/page.html|If-None-Match: \"x\"", "200"},
		{"13.1.2", "/page.html|If-None-Match: *", "304"},
		{"13.1.2", "HEAD /page.html|If-None-Match: " + tag, "304"},
		{"13.1.3", "/page.html|If-Modified-Since: " + same, "304"},
		{"13.1.3", "/page.html|If-Modified-Since: " + after, "304"},
		{"13.1.3", "/page.html|If-Modified-Since: " + before, "200"},
		{"13.1.3 not a date", "/page.html|If-Modified-Since: yesterday", "200"},
		{"13.1.3 no date known", "/undated.txt|If-Modified-Since: " + same, "200"},
		{"13.1.4", "/page.html|If-Unmodified-Since: " + same, "200"},
		{"13.1.4", "/page.html|If-Unmodified-Since: " + before, "412"},
		{"13.1.4 not a date", "/page.html|If-Unmodified-Since: x", "200"},
		{"13.2.1 only of what would be 200", "/none|If-None-Match: *", "404"},
		{"13.2.2 step 1 before 2", "/page.html|If-Match: " + tag + "|If-Unmodified-Since: " + before, "200"},
		{"13.2.2 step 1 before 3", "/page.html|If-Match: \"x\"|If-None-Match: " + tag, "412"},
		{"13.2.2 step 3 before 4", "/page.html|If-None-Match: \"x\"|If-Modified-Since: " + same, "200"},
		{"13.2.2 step 4 before 5", "/page.html|If-Modified-Since: " + same + "|Range: bytes=0-9", "304"},
		{"14.2", "/page.html|Range: bytes=0-9", "206 bytes 0-9/1800 10"},
		{"14.2", "/page.html|Range: bytes=1790-", "206 bytes 1790-1799/1800 10"},
		{"14.1.2 suffix", "/page.html|Range: bytes=-5", "206 bytes 1795-1799/1800 5"},
		{"14.1.2 suffix longer than all", "/page.html|Range: bytes=-9999", "206 bytes 0-1799/1800 1800"},
		{"14.1.2 last byte behind the end", "/page.html|Range: bytes=1795-9999", "206 bytes 1795-1799/1800 5"},
		{"15.5.17", "/page.html|Range: bytes=1800-", "416 bytes */1800"},
		{"14.1.2 no bytes", "/page.html|Range: bytes=-0", "416 bytes */1800"},
		{"14.2 only GET", "HEAD /page.html|Range: bytes=0-9", "200"},
		{"14.2 not valid", "/page.html|Range: bytes=9-0", "200"},
		{"14.2 not valid", "/page.html|Range: bytes=a-b", "200"},
		{"14.1 another unit", "/page.html|Range: lines=0-9", "200"},
		{"14.2 several: the whole", "/page.html|Range: bytes=0-1,5-6", "200"},
		{"13.1.5", "/page.html|Range: bytes=0-9|If-Range: " + tag, "206 bytes 0-9/1800 10"},
		{"13.1.5", "/page.html|Range: bytes=0-9|If-Range: \"x\"", "200"},
		{"13.1.5 never weak", "/page.html|Range: bytes=0-9|If-Range: W/" + tag, "200"},
		{"13.1.5 date", "/page.html|Range: bytes=0-9|If-Range: " + same, "206 bytes 0-9/1800 10"},
		{"13.1.5 another date", "/page.html|Range: bytes=0-9|If-Range: " + after, "200"},
	} {
		parts := strings.Split(test.asks, "|")
		r := e.Predict(get(t, parts[0], parts[1:]...))
		got := fmt.Sprint(r.Status)
		if v, ok := r.Get("Content-Range"); ok {
			got += " " + v
		}
		if r.Status == 206 {
			got += fmt.Sprint(" ", r.Encoded)
		}
		if r.Status == 304 && (r.Size != 0 || r.Encoded != 0 || r.Encoding+r.Type != "") { // 15.4.5: it has no content
			got += fmt.Sprint(" with ", r.Size, " ", r.Encoded, r.Encoding, r.Type)
		}
		if got != test.want {
			t.Errorf("%s: %s: %s, want %s", test.section, test.asks, got, test.want)
		}
	}
	r := e.Predict(get(t, "/page.html", "If-None-Match: "+tag))
	if _, ok := r.Get("ETag"); !ok {
		t.Error("15.4.5: a 304 lacks its ETag")
	}
	if v, ok := r.Get("Content-Type"); ok {
		t.Errorf("15.4.5: a 304 has Content-Type %s", v)
	}
}

func TestEncodings(t *testing.T) {
	e := dated(t, "compress c using br zstd gzip over 100B\n")
	for _, test := range []struct{ asks, want string }{
		{"/app.js", " Vary"},
		{"/app.js|Accept-Encoding: br", "br Vary 300"},
		{"/app.js|Accept-Encoding: gzip", "gzip Vary 400"},
		{"/app.js|Accept-Encoding: gzip, br", "br Vary 300"},
		{"/app.js|Accept-Encoding: gzip;q=1, br;q=0.5", "gzip Vary 400"},
		{"/app.js|Accept-Encoding: *", "br Vary 300"},
		{"/app.js|Accept-Encoding: *, br;q=0", "gzip Vary 400"},
		{"/app.js|Accept-Encoding: identity", " Vary"},
		{"/app.js|Accept-Encoding: identity;q=1, gzip;q=0.5", " Vary"},
		{"/app.js|Accept-Encoding: identity;q=0, gzip;q=0.1", "gzip Vary 400"},
		{"/app.js|Accept-Encoding: identity;q=0.5, gzip;q=0.5", "gzip Vary 400"},
		{"/app.js|Accept-Encoding: identity;q=0", " Vary"}, // 12.5.3: sent as it is, never 406
		{"/app.js|Accept-Encoding: br;q=0", " Vary"},
		{"/app.js|Accept-Encoding: br;q=x", " Vary"},
		{"/app.js|Accept-Encoding: BR", "br Vary 300"},
		{"/app.js|Accept-Encoding: deflate", " Vary"},
		{"/tiny.txt|Accept-Encoding: br", " Vary"},
		{"/sea.png|Accept-Encoding: br", ""},
	} {
		parts := strings.Split(test.asks, "|")
		r := e.Predict(get(t, parts[0], parts[1:]...))
		got := r.Encoding
		if v, ok := r.Get("Vary"); ok && v == "Accept-Encoding" {
			got += " Vary"
		}
		if r.Encoding != "" {
			got += fmt.Sprint(" ", r.Encoded)
			if tag, _ := r.Get("ETag"); !strings.HasSuffix(tag, `-`+r.Encoding+`"`) {
				t.Errorf("%s: the encoding has the ETag %s", test.asks, tag)
			}
		}
		if got != test.want {
			t.Errorf("%s: %q, want %q", test.asks, got, test.want)
		}
	}
	big := e.Predict(get(t, "/big.js", "Accept-Encoding: gzip"))
	if big.Encoded == 1900 {
		t.Error("a stored sibling that is larger than its file is sent")
	}
	plain := build(t, "compress c level 9")
	r := plain.Predict(get(t, "/app.js", "Accept-Encoding: br"))
	if r.Encoding != "br" || r.Encoded >= r.Size || r.Encoded < 10 {
		t.Errorf("encoded on the fly: %s %d of %d", r.Encoding, r.Encoded, r.Size)
	}
}

func TestHeadersHintsAndPages(t *testing.T) {
	e := build(t, `error  e  for 404 show /errors/404.html fill on
header a  set X-A one add X-A two
header b  default X-A three default X-B {host|upper} drop ETag
header c  for 404 set X-C {path}
hint   h  preload /app.js as script preload /f.woff2 as font preconnect https://t.example
reply  r  on /closed with 503 retry 90s text "back at {query.at}"
media  m  type notes text/x-notes charset iso-8859-1
`)
	r := e.Predict(get(t, "/<b>%22"))
	page := string(r.content)
	if page != "<p>/%3Cb%3E%22 is gone {x}" {
		t.Errorf("the filled page: %s", page)
	}
	if v, _ := r.Get("X-C"); v != "/%3Cb%3E%22" {
		t.Errorf("X-C: %s", v)
	}
	r = e.Predict(get(t, "/"))
	if v, _ := r.Get("X-A"); v != "one, two" {
		t.Errorf("X-A: %s", v)
	}
	if v, _ := r.Get("X-B"); v != "S.EXAMPLE" {
		t.Errorf("X-B: %s", v)
	}
	want := "</app.js>; rel=preload; as=script|</f.woff2>; rel=preload; as=font; crossorigin|<https://t.example>; rel=preconnect"
	if got := strings.Join(r.Hints, "|"); got != want {
		t.Errorf("hints: %s", got)
	}
	r = e.Predict(get(t, "/closed?at=noon"))
	if v, _ := r.Get("Retry-After"); v != "90" || string(r.content) != "back at noon" {
		t.Errorf("reply: %s, %s", v, r.content)
	}
}

func TestSeveralSites(t *testing.T) {
	book, err := rulebook.Read("t.kibitz", []byte(`header shared set X-From {host}
site a address https://a.example hosts *.boats.example
redirect r on /x to /of-a as 302
site b address https://b.example hosts www.b.example kittiwake.boats.example
    unknown-hosts answer
redirect r on /x to /of-b as 302
`), nil)
	if err != nil {
		t.Fatal(err)
	}
	e := New(book, []*site.Tree{nil, nil})
	for url, want := range map[string]string{
		"https://a.example/x": "/of-a", "https://www.b.example/x": "/of-b", "https://tern.boats.example/x": "/of-a",
		"https://kittiwake.boats.example/x": "/of-b", "https://else.example/x": "/of-b",
	} {
		r := e.Predict(get(t, url))
		if from, _ := r.Get("X-From"); r.Location != want || !strings.Contains(url, from) {
			t.Errorf("%s: to %s, from %s; want %s", url, r.Location, from, want)
		}
	}
	if (&request.Request{}).Verb() != "GET" {
		t.Error("no method is not GET")
	}
}

// Ranges are digits, weights are those of the grammar, and dates are in GMT.
func TestNumbersOfTheWire(t *testing.T) {
	e := build(t, "")
	for field, want := range map[string]string{
		"bytes=0-2": "206 bytes 0-2/5", "bytes=0-+2": "200", "bytes=+0-2": "200", "bytes=-2": "206 bytes 3-4/5", "bytes=-+2": "200", "bytes=--2": "200", "bytes=3-": "206 bytes 3-4/5",
		"bytes=0-99999999999999999999999": "206 bytes 0-4/5", "bytes=-99999999999999999999999": "206 bytes 0-4/5", "bytes=99999999999999999999999-": "416 bytes */5", "bytes=5-": "416 bytes */5", "bytes=-0": "416 bytes */5",
		"bytes=3-2": "200", "bytes=99999999999999999999999-1": "200", "bytes=-": "200", "bytes=0x1-2": "200", "bytes=0-1,3-4": "200", "lines=0-1": "200", "bytes=00-02": "206 bytes 0-2/5",
	} {
		r := e.Predict(get(t, "/notes.txt", "Range: "+field))
		part, _ := r.Get("Content-Range")
		if got := strings.TrimSpace(fmt.Sprint(r.Status, " ", part)); got != want {
			t.Errorf("%s: %s, want %s", field, got, want)
		}
		var first, last int
		if n, _ := fmt.Sscanf(part, "bytes %d-%d/", &first, &last); n == 2 {
			if body, err := bodyOf(r); err != nil || string(body) != "notes"[first:last+1] {
				t.Errorf("%s: the body is %q, %v", field, body, err)
			}
		}
	}
	for date, want := range map[string]bool{
		"Sun, 06 Nov 1994 08:49:37 GMT": true, "Sunday, 06-Nov-94 08:49:37 GMT": true, "Sun Nov  6 08:49:37 1994": true,
		"Sunday, 06-Nov-94 08:49:37 CET": false, "Sun, 06 Nov 1994 08:49:37 UTC": false, "Sun, 06 Nov 1994 08:49:37 +0000": false, "0": false,
	} {
		if _, ok := request.Date(date); ok != want {
			t.Errorf("%s: %v", date, ok)
		}
	}
}

// What an entry says of the validators is what is sent, and what conditions are held
// against.
func TestValidatorsOfEntries(t *testing.T) {
	for _, test := range []struct{ rules, asks, header, want string }{
		{`header h set ETag "\"v1\""`, "/page.html", `If-None-Match: "v1"`, `304 "v1"`},
		{`header h set ETag "\"v1\""`, "/page.html", "", `200 "v1"`},
		{`header h for 200 set ETag "\"v1\""`, "/page.html", `If-None-Match: "v1"`, `304 "v1"`},
		{`header h for 404 set ETag "\"v1\""`, "/page.html", `If-None-Match: "v1"`, "200 *"},
		{`header h set ETag "\"v1\""`, "/page.html", `If-Match: "v2"`, `412 "v1"`},
		{`header h set ETag "W/\"v1\""`, "/page.html", `If-Match: W/"v1"`, `412 W/"v1"`},
		{`header h set ETag "W/\"v1\""`, "/page.html", `If-None-Match: "v1"`, `304 W/"v1"`},
		{`header h drop ETag`, "/page.html", `If-None-Match: "x"`, "200 "},
		{`header h drop ETag`, "/page.html", "If-None-Match: *", "304 "},
		{`header h default ETag "\"v1\""`, "/page.html", `If-None-Match: "v1"`, "200 *"},
		{`header h set Last-Modified "Thu, 01 Jan 2026 00:00:00 GMT" drop ETag`, "/page.html", "If-Modified-Since: Thu, 01 Jan 2026 00:00:00 GMT", "304 "},
		{`header h set Last-Modified "Thu, 01 Jan 2026 00:00:00 GMT" drop ETag`, "/page.html", "If-Modified-Since: Wed, 31 Dec 2025 00:00:00 GMT", "200 "},
		{`header h drop Last-Modified drop ETag`, "/page.html", "If-Modified-Since: Wed, 31 Dec 2036 00:00:00 GMT", "200 "},
		{`header h set ETag "\"a,b\""`, "/page.html", `If-None-Match: "c", "a,b"`, `304 "a,b"`},
		{`header h set ETag "W/\"v1\""`, "/page.html", `If-Range: W/"v1"|Range: bytes=0-1`, `200 W/"v1"`},
		{`header h set ETag "\"v1\""`, "/page.html", `If-Range: "v1"|Range: bytes=0-1`, `206 "v1"`},
	} {
		e := dated(t, test.rules)
		var headers []string
		if test.header != "" {
			headers = strings.Split(test.header, "|")
		}
		req := get(t, test.asks, headers...)
		r := e.Predict(req)
		tag, _ := r.Get("ETag")
		got := fmt.Sprint(r.Status, " ", tag)
		if strings.HasSuffix(test.want, "*") {
			if !strings.HasPrefix(got, test.want[:4]+`"`) || strings.Contains(got, "v1") {
				t.Errorf("%s on %s: %s, want the file's own", test.rules, test.header, got)
			}
		} else if got != test.want {
			t.Errorf("%s on %s: %s, want %s", test.rules, test.header, got, test.want)
		}
		light := &Response{}
		if e.Outcome(req, light); light.Status != r.Status {
			t.Errorf("%s on %s: %d, without the header %d", test.rules, test.header, r.Status, light.Status)
		}
		if _, err := e.Confirm(req, r); err != nil {
			t.Error(err)
		}
	}
}

// What can be encoded says so, whatever an entry makes of Vary.
func TestVaryKeepsWhatCachesNeed(t *testing.T) {
	for _, test := range []struct{ rules, asks, want string }{
		{"compress c\nheader h set Vary Cookie", "/app.js", "Cookie, Accept-Encoding"},
		{"compress c\nheader h set Vary \"Cookie, accept-encoding\"", "/app.js", "Cookie, accept-encoding"},
		{"compress c\nheader h set Vary *", "/app.js", "*"},
		{"compress c\nheader h set Vary \"\"", "/app.js", "Accept-Encoding"},
		{"compress c\nheader h add Vary Cookie", "/app.js", "Accept-Encoding, Cookie"},
		{"header h set Vary Cookie", "/app.js", "Cookie"},
		{"compress c types image/*\nheader h set Vary Cookie", "/app.js", "Cookie"},
		{"compress c\nheader h drop Vary", "/app.js", ""},
	} {
		r := build(t, test.rules).Predict(get(t, test.asks, "Accept-Encoding: gzip"))
		if vary, _ := r.Get("Vary"); vary != test.want {
			t.Errorf("%s: Vary: %s, want %s", test.rules, vary, test.want)
		}
	}
}

// Several Cookie lines are one (RFC 9113, 8.2.3).
func TestCookieLines(t *testing.T) {
	e := build(t, "redirect r when cookie.b 2 to /x as 302\nredirect s when header.cookie \"a=1; c=3\" to /y as 302")
	for _, test := range []struct {
		headers []string
		want    string
	}{
		{[]string{"Cookie: a=1", "Cookie: b=2"}, "/x"}, {[]string{"Cookie: a=1", "cookie: c=3"}, "/y"}, {[]string{"Cookie: a=1, b=2"}, ""},
	} {
		if r := e.Predict(get(t, "/", test.headers...)); r.Location != test.want {
			t.Errorf("%s: %s, want %s", test.headers, r.Location, test.want)
		}
	}
}

func bodyOf(r *Response) ([]byte, error) {
	body, err := r.Open()
	if err != nil {
		return nil, err
	}
	defer body.Close()
	return io.ReadAll(body)
}

// What is packed already, or does not shrink, is sent as it is.
func TestWhatIsEncodedByItsMediaType(t *testing.T) {
	e := buildTree(t, "compress c", map[string]string{"/a.svgz": strings.Repeat("\x1f\x8b", 500), "/a.mpd": strings.Repeat("<a>", 500), "/a.glb": strings.Repeat("x", 500), "/a.png": strings.Repeat("x", 500)})
	for path, want := range map[string]string{"/a.svgz": "image/svg+xml gzip ", "/a.mpd": "application/dash+xml gzip gzip", "/a.glb": "model/gltf-binary gzip gzip", "/a.png": "image/png  "} {
		r := e.Predict(get(t, path, "Accept-Encoding: gzip"))
		sent, _ := r.Get("Content-Encoding")
		if got := r.Type + " " + sent + " " + r.Encoding; got != want {
			t.Errorf("%s: %s, want %s", path, got, want)
		}
		if body, err := bodyOf(r); err != nil || path == "/a.svgz" && len(body) != 1000 {
			t.Errorf("%s: %d bytes, %v", path, len(body), err)
		}
	}
}
