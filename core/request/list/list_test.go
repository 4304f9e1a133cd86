package list

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/rand"
	"os"
	"reflect"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"kibitz/core/request"
)

var base = request.Address{Scheme: "https", Host: "s.example", Port: 443}

// named opens the lists that others name.
func named(name string) (io.ReadCloser, error) {
	switch name {
	case "deep.xml":
		return io.NopCloser(strings.NewReader("<sitemapindex><sitemap><loc>https://s.example/part.xml</loc></sitemap><sitemap><loc>deep.xml</loc></sitemap></sitemapindex>")), nil
	case "part.xml":
		return io.NopCloser(strings.NewReader("<urlset><url><loc>https://s.example/c</loc></url></urlset>")), nil
	}
	return nil, os.ErrNotExist
}

// read gives each request in a line: method, address, and what the list tells.
func read(t testing.TB, format Format, text string) (string, Counts) {
	t.Helper()
	var out []string
	counts, err := Read(strings.NewReader(text), Options{Base: base, Format: format, Open: named}, func(i *Item) {
		r := i.Request
		s := fmt.Sprintf("%d %s %s", i.Line, r.Verb(), r.Address)
		if r.Client.IsValid() {
			s += " from " + r.Client.String()
		}
		if !r.Time.IsZero() {
			s += " at " + r.Time.UTC().Format("2006-01-02T15:04:05")
		}
		if r.Body > 0 {
			s += fmt.Sprint(" body ", r.Body)
		}
		if i.Recorded != 0 {
			s += fmt.Sprint(" got ", i.Recorded)
		}
		if i.Location != "" {
			s += " to " + i.Location
		}
		if i.Expects != nil {
			s += strings.TrimRight(" expects "+i.Expects.Status+" "+i.Expects.Location, " ")
		}
		for _, h := range r.Headers {
			s += fmt.Sprintf(" [%s: %s]", h.Name, h.Value)
		}
		out = append(out, s)
	})
	if err != nil {
		out = append(out, "error: "+err.Error())
	}
	if counts.Lines != counts.Requests+counts.Details+counts.Comments+counts.Skipped && err == nil {
		t.Errorf("%d lines are %d requests, %d details, %d comments and %d skipped, in\n%s", counts.Lines, counts.Requests, counts.Details, counts.Comments, counts.Skipped, text)
	}
	return strings.Join(out, "\n"), counts
}

const at = " - - [10/Oct/2026:13:55:36 +0000] "

func TestReaders(t *testing.T) {
	for _, test := range []struct {
		name   string
		format Format // as it is told by the content
		text   string
		want   string
		skips  string
	}{
		{"plain", FormatPlain, "# a list\n\n/a => 200\nPOST https://t.example/b # why\n", "3 GET https://s.example/a expects 200\n4 POST https://t.example/b", ""},
		{"plain with details", FormatPlain, "/a => 200\n  client 192.0.2.1\n\ttime 2026-03-01T00:00:00Z\n  body 2KiB\n  X-A: b c\n", "1 GET https://s.example/a from 192.0.2.1 at 2026-03-01T00:00:00 body 2048 expects 200 [X-A: b c]", ""},
		{"plain, CRLF, no last line end", FormatPlain, "\ufeff/a\r\n/b", "1 GET https://s.example/a\n2 GET https://s.example/b", ""},
		{"plain, broken", FormatPlain, "fares\n/a => nonsense\nget /b\n/c /d /e\n=> 200\n", "", "1: write /fares|2: not something to expect|3: not a method|4: more than a method|5: missing before"},
		{"plain, a broken detail takes its request", FormatPlain, "/a\n  client x\n  X: y\n/b\n", "4 GET https://s.example/b", "2: the whole request|3: could not be read"},

		{"common log", FormatLog, "192.0.2.1" + at + `"GET /a?b=c HTTP/1.1" 200 512` + "\n", "1 GET https://s.example/a?b=c from 192.0.2.1 at 2026-10-10T13:55:36 got 200", ""},
		{"combined log", FormatLog, "2001:db8::1 - ada [10/Oct/2026:13:55:36 +0200] " + `"HEAD /a HTTP/2.0" 304 - "https://r.example/" "An agent (x; y)"` + "\n", "1 HEAD https://s.example/a from 2001:db8::1 at 2026-10-10T11:55:36 got 304 [Referer: https://r.example/] [User-Agent: An agent (x; y)]", ""},
		{"escapes in a log", FormatLog, "192.0.2.1" + at + `"GET /a\x22b\"c\\ HTTP/1.1" 404 1 "-" "say \"hi\""` + "\n", `1 GET https://s.example/a"b"c\ from 192.0.2.1 at 2026-10-10T13:55:36 got 404 [User-Agent: say "hi"]`, ""},
		{"a dash for everything", FormatLog, "- - - [10/Oct/2026:13:55:36 +0000] " + `"GET /a HTTP/1.1" 200 - "-" "-"` + "\n", "1 GET https://s.example/a at 2026-10-10T13:55:36 got 200", ""},
		{"nothing in the quotes", FormatLog, "192.0.2.1" + at + `"GET /a HTTP/1.1" 200 1 "" ""` + "\n", "1 GET https://s.example/a from 192.0.2.1 at 2026-10-10T13:55:36 got 200", ""},
		{"a host for a client", FormatLog, "pier.example" + at + `"GET /a HTTP/1.1" 200 1` + "\n", "1 GET https://s.example/a at 2026-10-10T13:55:36 got 200", ""},
		{"the host that was asked, in front", FormatLog, "www.s.example:443 192.0.2.1" + at + `"GET /a HTTP/1.1" 200 1` + "\nWWW.s.example:80 2001:db8::1" + at + `"GET /b HTTP/1.1" 200 1 "-" "x"` + "\nt.example:8443 192.0.2.1" + at + `"GET /c HTTP/1.1" 200 1` + "\n_ 192.0.2.1" + at + `"GET /d HTTP/1.1" 200 1` + "\na|b 192.0.2.1" + at + `"GET /e HTTP/1.1" 200 1` + "\n", "1 GET https://www.s.example/a from 192.0.2.1 at 2026-10-10T13:55:36 got 200\n2 GET http://www.s.example/b from 2001:db8::1 at 2026-10-10T13:55:36 got 200 [User-Agent: x]\n3 GET https://t.example:8443/c from 192.0.2.1 at 2026-10-10T13:55:36 got 200\n4 GET https://s.example/d from 192.0.2.1 at 2026-10-10T13:55:36 got 200", "5: is not a host"},
		{"blanks in a target", FormatLog, "192.0.2.1" + at + `"GET /a b c HTTP/1.1" 400 1` + "\n", "1 GET https://s.example/a b c from 192.0.2.1 at 2026-10-10T13:55:36 got 400", ""},
		{"no protocol", FormatLog, "192.0.2.1" + at + `"GET /a" 200 1` + "\n", "1 GET https://s.example/a from 192.0.2.1 at 2026-10-10T13:55:36 got 200", ""},
		{"a whole URL", FormatLog, "192.0.2.1" + at + `"GET http://T.example/a HTTP/1.1" 200 1` + "\n", "1 GET http://t.example/a from 192.0.2.1 at 2026-10-10T13:55:36 got 200", ""},
		{"slashes are kept", FormatLog, "192.0.2.1" + at + `"GET //a//b HTTP/1.1" 200 1` + "\n", "1 GET https://s.example//a//b from 192.0.2.1 at 2026-10-10T13:55:36 got 200", ""},
		{"requests that are none", FormatLog, "192.0.2.1" + at + `"-" 408 0` + "\n192.0.2.1" + at + `"" 400 0` + "\n192.0.2.1" + at + `"\x16\x03\x01" 400 0` + "\n192.0.2.1" + at + `"CONNECT t.example:443 HTTP/1.1" 400 0` + "\n", "", "1: not an HTTP request|2: not an HTTP request|3: not an HTTP request|4: not an HTTP request"},
		{"broken lines of a log", FormatLog, "192.0.2.1" + at + `"GET /a HTTP/1.1" 200 1` + "\n\n# note\nhello\n192.0.2.1 - - [x]\n192.0.2.1" + at + `"GET /a HTTP/1.1` + "\n192.0.2.1" + at + `"GET /a HTTP/1.1" x` + "\n\x00\xff\xfe\n", "1 GET https://s.example/a from 192.0.2.1 at 2026-10-10T13:55:36 got 200", "4: not a line of an access log|5: not a line of an access log|6: not a line of an access log|7: no status|8: not a line of an access log"},
		{"escapes of all kinds", FormatLog, "192.0.2.1" + at + `"GET /a\x2Fb\xzz HTTP/1.1" 200 1 "https://r.example/\t\n\r" "a\\b\x41"` + "\n", "1 GET https://s.example/a/b\\xzz from 192.0.2.1 at 2026-10-10T13:55:36 got 200 [Referer: https://r.example/\t\n\r] [User-Agent: a\\bA]", ""},
		{"a tail that is cut off", FormatLog, "192.0.2.1" + at + `"GET /a HTTP/1.1" 200 1 "https://r.exam` + "\n192.0.2.1" + at + `"GET /b HTTP/1.1" 200 1 "-"  "reader` + "\n192.0.2.1" + at + `"GET /c HTTP/1.1" 200 1 "-" x "reader"` + "\n", "1 GET https://s.example/a from 192.0.2.1 at 2026-10-10T13:55:36 got 200\n2 GET https://s.example/b from 192.0.2.1 at 2026-10-10T13:55:36 got 200\n3 GET https://s.example/c from 192.0.2.1 at 2026-10-10T13:55:36 got 200 [User-Agent: reader]", ""},
		{"methods", FormatLog, "192.0.2.1" + at + `"PROPFIND /a HTTP/1.1" 207 1` + "\n192.0.2.1" + at + `"get /a HTTP/1.1" 200 1` + "\n192.0.2.1" + at + `"GET  HTTP/1.1" 200 1` + "\n192.0.2.1" + at + `"OPTIONS * HTTP/1.1" 204 0` + "\n", "1 PROPFIND https://s.example/a from 192.0.2.1 at 2026-10-10T13:55:36 got 207\n4 OPTIONS https://s.example from 192.0.2.1 at 2026-10-10T13:55:36 got 204", "2: not an HTTP request|3: not an HTTP request"},

		{"csv", FormatCSV, "url,method,client,status,location,header.X-A\n/a,post,192.0.2.1,301,/b,\"c, d\"\n/b\n", "2 POST https://s.example/a from 192.0.2.1 got 301 to /b [X-A: c, d]\n3 GET https://s.example/b", ""},
		{"csv, broken", FormatCSV, "url,status\n,200\n/a,9\n/b,200,x\n\"/c\n", "", "2: url is missing|3: status|4: 3 fields|5: quote"},
		{"csv, another column", FormatCSV, "url,colour\n/a,red\n", "error: the column \"colour\" is not known: there are url, method, client, time, body, status, location and header.NAME; or old, new and status", ""},
		{"csv, a table of moves", FormatCSV, "Old;New;Status\n/a;/b/;\n/c;https://t.example/;302\n/d;;410\n/e;;\n/f;/g;none\n;/h;\n", "2 GET https://s.example/a expects 3xx /b/\n3 GET https://s.example/c expects 302 https://t.example/\n4 GET https://s.example/d expects 410", "5: neither a new address nor a status|6: the status \"none\" is none|7: the address is empty"},
		{"csv of a spreadsheet", FormatCSV, "\ufeffURL;Status;Header.X-A\r\n/a;301;\"b;c\"\r\n", "2 GET https://s.example/a got 301 [X-A: b;c]", ""},
		{"csv, a quote that is never closed", FormatCSV, "url,header.X-A\n/a,b\n/c,\"d\n/e,f\n/g,\"h\ni\"\n/j,\n", "2 GET https://s.example/a [X-A: b]\n4 GET https://s.example/e [X-A: f]\n5 GET https://s.example/g [X-A: h\ni]\n7 GET https://s.example/j", "3: extraneous or missing"},
		{"csv, the last quote is never closed", FormatCSV, "url\n/a\n\"/b\n/c\n/d\n", "2 GET https://s.example/a\n4 GET https://s.example/c\n5 GET https://s.example/d", "3: a quote that opens in this line is never closed"},
		{"csv, a table with statuses below a heading of two", FormatCSV, "old,new\n/a,/b,302\n/c,,410\n/d,/e\n", "2 GET https://s.example/a expects 302 /b\n3 GET https://s.example/c expects 410\n4 GET https://s.example/d expects 3xx /e", ""},
		{"csv with tabs", FormatCSV, "method\turl\nhead\t/a,b\n", "2 HEAD https://s.example/a,b", ""},
		{"csv, rows of several lines", FormatCSV, "url,header.X-A\n/a,\"b\nc\"\n/d,\n", "2 GET https://s.example/a [X-A: b\nc]\n4 GET https://s.example/d", ""},
		{"csv, values that cannot be", FormatCSV, "url,client,time,body\n/a,nobody,,\n/b,,noon,\n/c,,,7.5\n/d,,,-1\nfares,,,\n/e,192.0.2.1,2026-03-01T08:00:00Z,7\n", "7 GET https://s.example/e from 192.0.2.1 at 2026-03-01T08:00:00 body 7", "2: \"nobody\" is not an address|3: \"noon\" is not a time|4: \"7.5\" is not a number|5: \"-1\"|6: write /fares"},

		{"jsonl", FormatJSONL, `{"url":"/a","method":"PUT","body":7,"headers":{"X-A":"b"},"status":204}` + "\n\n" + `{"url":"https://t.example/"}` + "\n", "1 PUT https://s.example/a body 7 got 204 [X-A: b]\n3 GET https://t.example/", ""},
		{"jsonl, broken", FormatJSONL, `{"url":"/a"}` + "\n{\n[]\n" + `{"url":7}` + "\n" + `{"method":"GET"}` + "\n", "1 GET https://s.example/a", "2: not a JSON object|3: a JSON array|4: should be a text|5: url is missing"},
		{"jsonl, numbers as text", FormatJSONL, `{"url":"/a","status":"404","body":"9"}` + "\n", "1 GET https://s.example/a body 9 got 404", ""},
		{"jsonl, values that cannot be", FormatJSONL, `{"url":"/a","status":[1]}` + "\n" + `{"url":"/b","client":"x"}` + "\n" + `{"url":"/c","headers":"x"}` + "\n" + `{"url":"/d","status":99}` + "\n" + `{"url":"/e","body":1.5}` + "\n", "", "1: its \"status\" is of the kind array, and should be a number|2: \"x\" is not an address of a client|3: its \"headers\" is of the kind string, and should be an object|4: the status \"99\" is none|5: \"1.5\" is not a number of bytes"},
		{"jsonl with names of other documents in it", FormatJSONL, `{"note":{"log":{}},"url":"/a","tags":["entries"],"log":"x"}` + "\n", "1 GET https://s.example/a", ""},
		{"jsonl, fields that stand twice", FormatJSONL, `{"url":"/a","headers":{"X-B":["c","d"],"X-A":"b"}}` + "\n", "1 GET https://s.example/a [X-A: b] [X-B: c] [X-B: d]", ""},
		{"jsonl that replay has written", FormatJSONL, `{"list":"l","line":3,"method":"HEAD","url":"/a","status":301,"cause":"redirect","by":"r","location":"/b","headers":{"location":["/b"]},"client":"192.0.2.1","time":"2026-03-01T00:00:00Z","body":5,"request":{"headers":{"user-agent":["x"]}},"ends":"arrived","hops":[[301,"/a"]]}` + "\n" + `{"url":"/b","status":"app","cause":"handoff"}` + "\n" + `{"url":"/c","status":301,"cause":"redirect","location":"/d","recorded":404}` + "\n", "1 HEAD https://s.example/a from 192.0.2.1 at 2026-03-01T00:00:00 body 5 got 301 to /b [user-agent: x]\n2 GET https://s.example/b\n3 GET https://s.example/c got 404", ""},
		{"csv that replay has written", FormatCSV, "list,line,method,url,status,cause,by,location,ends,recorded,met,client,time,body\nl,2,GET,/a,301,redirect,r,/b,arrived,,,192.0.2.1,,7\nl,3,GET,/b,files,unknown-tree,,,files,404,true,,,\n", "2 GET https://s.example/a from 192.0.2.1 body 7 got 301 to /b\n3 GET https://s.example/b got 404", ""},
		{"json that verify has written", FormatResults, `{"results":[{"list":"l","line":1,"method":"GET","url":"https://s.example/a","status":200,"got":404,"request":{"headers":{"x-a":["b"]}}},{"url":7},{"method":"GET","url":"https://s.example/b","status":"app","skipped":"an application answers it"}]}`, "1 GET https://s.example/a got 404 [x-a: b]\n3 GET https://s.example/b", "2: should be a text"},
		{"a JSON array", FormatJSONL, `[{"url":"/a"}]` + "\n", "", "1: a JSON array: write one object a line"},

		{"json log, names with dots", FormatJSONLog, `{"timestamp":"2026-03-01T08:00:00Z","url.full":"https://t.example/a?b","http.request.method":"head","http.response.status_code":301,"http.response.header.location":["/c"],"client.address":"192.0.2.1","user_agent.original":"x","http.request.header.referer":["https://r.example/"],"http.request.body.size":7}` + "\n",
			"1 HEAD https://t.example/a?b from 192.0.2.1 at 2026-03-01T08:00:00 body 7 got 301 to /c [referer: https://r.example/] [User-Agent: x]", ""},
		{"json log, objects in objects", FormatJSONLog, `{"url":{"path":"/a","query":"b=c"},"http":{"request":{"method":"GET","header":{"accept_language":["de","en"]}},"response":{"status_code":"404"}},"client":{"address":"[2001:db8::1]:4711"}}` + "\n\n",
			"1 GET https://s.example/a?b=c from 2001:db8::1 got 404 [accept-language: de, en]", ""},
		{"json log, attributes and numbers for times", FormatJSONLog, `{"time":1772352000,"attributes":{"url.path":"/a"}}` + "\n" + `{"time":1772352000123,"attributes":{"url.path":"/b"}}` + "\n" + `{"time":"1772352000000000000","attributes":{"url.path":"/c"}}` + "\n",
			"1 GET https://s.example/a at 2026-03-01T08:00:00\n2 GET https://s.example/b at 2026-03-01T08:00:00\n3 GET https://s.example/c at 2026-03-01T08:00:00", ""},
		{"json log, the address in parts", FormatJSONLog, `{"url.path":"/a","server.address":"t.example"}` + "\n" + `{"url.path":"/b","server.address":"T.example","server.port":80}` + "\n" + `{"url.path":"/c","url.scheme":"http","server.address":"2001:db8::7","server.port":"8080"}` + "\n",
			"1 GET https://t.example/a\n2 GET http://t.example/b\n3 GET http://[2001:db8::7]:8080/c", ""},
		{"json log, broken", FormatJSONLog, `{"url.path":"/a"}` + "\n[]\n{\n" + `{"status":1}` + "\n" + `{"url.path":"/b","time":"noon"}` + "\n" + `{"url.path":"/c"} {"url.path":"/d"}` + "\n" + `{"url.path":"/e","http.response.status_code":7}` + "\n" + `null` + "\n",
			"1 GET https://s.example/a", "2: not a JSON object|3: not a JSON object|4: names no address|5: not a time|6: more than one|7: the status|8: not a JSON object"},

		{"har", FormatHAR, `{"log":{"version":"1.2","entries":[{"startedDateTime":"2026-03-01T00:00:00Z","request":{"method":"GET","url":"https://s.example/a","headers":[{"name":"Host","value":"x"},{"name":":path","value":"/"},{"name":"Accept","value":"*/*"}],"bodySize":-1},"response":{"status":301,"redirectURL":"/b"}},{"request":{"method":"GET","url":"data:x"}}]}}`, "1 GET https://s.example/a at 2026-03-01T00:00:00 got 301 to /b [Accept: */*]", "2: not an http address"},
		{"har, entries of another kind", FormatHAR, "\ufeff" + `{"log":{"creator":{"entries":["entries"]},"comment":"entries","entries":[{"request":5},{"request":{"url":"https://s.example/a","bodySize":1.5}},[],{"request":{"method":"GET","url":"https://s.example/b"}}],"pages":[1]}}`, "4 GET https://s.example/b", "1: cannot be read|2: cannot be read|3: cannot be read"},
		{"har that is cut", FormatHAR, `{"log":{"entries":[{"request":{"method":"GET","url":"https://s.example/b"}},{"request":{"met`, "1 GET https://s.example/b\nerror: it is cut off or damaged (unexpected EOF)", "2: cannot be read any further"},
		{"har without entries", FormatHAR, `{"log":{}}`, "error: the HTTP archive holds no entries", ""},

		{"w3c", FormatW3C, "#Version: 1.0\n#Fields: date time c-ip cs-method cs-uri-stem cs-uri-query sc-status cs(User-Agent) cs-host\n2026-03-01 10:00:00 192.0.2.1 GET /a b=c 200 An+agent www.s.example\n2026-03-01 10:00:01 192.0.2.1 GET /b - 404 - -\n", "3 GET https://www.s.example/a?b=c from 192.0.2.1 at 2026-03-01T10:00:00 got 200 [User-Agent: An agent]\n4 GET https://s.example/b from 192.0.2.1 at 2026-03-01T10:00:01 got 404", ""},
		{"w3c, other fields below", FormatW3C, "#Fields: cs-method cs-uri\nGET /a?x\n#Fields: cs-uri-stem sc-status\n/b 200\n", "2 GET https://s.example/a?x\n4 GET https://s.example/b got 200", ""},
		{"w3c, quoted", FormatW3C, "#Fields: cs-uri-stem cs(Referer)\n/a \"https://r.example/ \"\"x\"\"\"\n", `2 GET https://s.example/a [Referer: https://r.example/ "x"]`, ""},
		{"w3c, empty values", FormatW3C, "#Fields: cs-uri cs-host c-ip sc-status cs-method\n/a \"\" \"\" \"\" \"\"\n\"\" - - - -\n#Fields: cs-uri\n\"\n", "2 GET https://s.example/a", "3: names no address|5: names no address"},
		{"w3c, broken", FormatW3C, "#Version: 1.0\n/a\n#Fields: cs-uri-stem sc-status\n/a\n/a x\n- 200\n", "", "2: no #Fields|4: 1 fields|5: status|6: names no address"},

		{"sitemap", FormatSitemap, "<?xml version=\"1.0\"?>\n<urlset xmlns=\"x\">\n<url><loc> https://s.example/a </loc></url>\n<url><loc>/b</loc></url>\n<url><loc>ftp://x/</loc></url></urlset>", "3 GET https://s.example/a expects 200\n4 GET https://s.example/b expects 200", "5: not of this site's kind"},
		{"sitemap index of an index", FormatSitemap, "<sitemapindex><sitemap><loc>deep.xml</loc></sitemap></sitemapindex>", "1 GET https://s.example/c expects 200", ""},
		{"sitemap index", FormatSitemap, "<sitemapindex><sitemap><loc>https://s.example/part.xml</loc></sitemap><sitemap><loc>https://s.example/none.xml</loc></sitemap></sitemapindex>", "1 GET https://s.example/c expects 200", "cannot be read beside its index"},
		{"sitemap, cut off", FormatSitemap, "<urlset><url><loc>/a</loc></url><url><lo", "1 GET https://s.example/a expects 200", "any further"},
		{"nothing", FormatPlain, "", "", ""},
	} {
		t.Run(test.name, func(t *testing.T) {
			if got := Detect([]byte(test.text)); got != test.format {
				t.Errorf("it is told to be %s, not %s", got, test.format)
			}
			got, counts := read(t, "", test.text)
			if got != test.want {
				t.Errorf("got\n%s\nwant\n%s", got, test.want)
			}
			var skips []string
			for _, s := range counts.First {
				skips = append(skips, fmt.Sprintf("%d: %s", s.Line, s.Reason))
			}
			wanted := strings.Split(test.skips, "|")
			if test.skips == "" {
				wanted = nil
			}
			if len(skips) != len(wanted) {
				t.Fatalf("skipped %q, want %q", skips, wanted)
			}
			for i, want := range wanted {
				number, reason, ok := strings.Cut(want, ": ")
				if !ok {
					number, reason = "", want
				}
				if !strings.HasPrefix(skips[i], number) || !strings.Contains(skips[i], reason) {
					t.Errorf("skipped %q, want %q", skips[i], want)
				}
			}
		})
	}
}

// What is named with -fields comes before the names that are known.
func TestNamesOfAJSONLog(t *testing.T) {
	var got []string
	_, err := Read(strings.NewReader(`{"req":{"uri":"/a","verb":"PUT"},"url.full":"/b","code":404,"ms":5}`+"\n"), Options{Base: base, Format: FormatJSONLog, Fields: map[string]string{"url": "req.uri", "method": "req.verb", "status": "code"}}, func(i *Item) {
		got = append(got, fmt.Sprint(i.Request.Method, " ", i.Request.Address, " ", i.Recorded))
	})
	if want := "PUT https://s.example/a 404"; err != nil || len(got) != 1 || got[0] != want {
		t.Errorf("%q, %v; want %q", got, err, want)
	}
}

func TestPackedLists(t *testing.T) {
	var gz, zst bytes.Buffer
	z := gzip.NewWriter(&gz)
	z.Write([]byte("/a\n/b\n"))
	z.Close()
	s, _ := zstd.NewWriter(&zst)
	s.Write([]byte("/a\n/b\n"))
	s.Close()
	for name, text := range map[string]string{"gzip": gz.String(), "zstd": zst.String()} {
		if got, _ := read(t, "", text); got != "1 GET https://s.example/a\n2 GET https://s.example/b" {
			t.Errorf("%s: %s", name, got)
		}
	}
	var long strings.Builder
	for i := range 50_000 {
		fmt.Fprintf(&long, "/page/%d/%x\n", i, i*i)
	}
	gz.Reset()
	z.Reset(&gz)
	z.Write([]byte(long.String()))
	z.Close()
	zst.Reset()
	s.Reset(&zst)
	s.Write([]byte(long.String()))
	s.Close()
	broken := bytes.Clone(gz.Bytes())
	broken[len(broken)/2] ^= 0xff
	for name, text := range map[string]string{"cut gzip": gz.String()[:gz.Len()/2], "cut zstd": zst.String()[:zst.Len()/2], "damaged gzip": string(broken)} {
		got, counts := read(t, FormatPlain, text)
		if counts.Requests < 10_000 || counts.Requests >= 50_000 || !strings.Contains(got, "error: it is cut off or damaged") {
			t.Errorf("%s: %d requests, %s", name, counts.Requests, got[max(0, len(got)-200):])
		}
	}
}

// Each text is read as each format by itself, and as what it looks like.
func FuzzRead(f *testing.F) {
	formats := append([]Format{""}, Formats()...)
	for _, s := range []string{"/a => 200\n  client x\n", "192.0.2.1" + at + `"GET /\x20 HTTP/1.1" 200 1 "-" "\"` + "\n", "url,status\n/a,\"", `{"url":"/a"}`, `{"url.path":"/a","time":1e300}`, `{"url":{"path":"/"},"server.address":"::1","server.port":"x"}`, `{"log":{"entries":[{"request":{"url":"http://["}}]}}`,
		"#Fields: cs-uri\n\"a", "<urlset><loc>x", "\x1f\x8b\x08", "\x28\xb5\x2f\xfd", "[] \"", `x [] "\x`} {
		for i := range formats {
			f.Add(s, byte(i))
		}
	}
	in := bufio.NewReaderSize(nil, 256<<10) // taken as it is: a buffer each would be most of the work
	f.Fuzz(func(t *testing.T, text string, which byte) {
		in.Reset(strings.NewReader(text))
		_, err := Read(in, Options{Base: base, Format: formats[int(which)%len(formats)], Open: named}, func(i *Item) {
			if i.Request == nil || i.Line < 1 {
				t.Error("an item without a request or line")
			}
		})
		if errors.Is(err, io.ErrShortBuffer) {
			t.Error(err)
		}
	})
}

// A plain line is read in one go, all others with care: where both ways can be gone they
// must come to the same.
func TestPlainLinesAreReadAsAllOthers(t *testing.T) {
	r := rand.New(rand.NewSource(7))
	pick := func(list ...string) string { return list[r.Intn(len(list))] }
	mostly := func(usual string, odd ...string) string {
		if r.Intn(12) > 0 {
			return usual
		}
		return pick(odd...)
	}
	plain := 0
	for range 20_000 {
		text := mostly("", "#", "\n", " ", "\t") + pick("203.0.113.1", "2001:db8::1", "a.example", "-", "") + mostly("", "\n", " ", "#", "\x01") +
			mostly(" - - [", " - anna [", " [") + mostly("10/Oct/2026:13:55:36 +0000", "10/Oct/2026:13:55\n36 +0000", "-") + "] " +
			`"` + pick("GET", "GET", "HEAD", "POST", "PUT", "get", "") + " " + mostly("/", "")
		for range r.Intn(6) {
			text += pick("/", "/", "a", "?", "é", "%20", "b", "=1", "x.php", "a-long-name-of-a-page") + mostly("", " ", `"`, `\"`, "HTTP/1.1", "\t", "*", "\n", "\x80")
		}
		text += mostly(" HTTP/1.1", " HTTP/2.0", " HTTP/2", "", " HTTP/1.x", " HTTP/1.:", " HTTP/1./", " HTTP/1;1", " HTTQ/1.1", " HTTP/:.1") + mostly(`"`, "") + mostly(" 200 5", " 404", "", " 20x ", " 5000", "  301 5", " 2x0 5", " x00 5", " :00 5", " 2/0 5", " 20: 5", " 20\xb2 5", ";200 5", " 200;5") +
			pick("", ` "-" "boat/1.0"`, ` "https://a.example/\"" "x"`, "\r")
		var quick, careful Line
		quick.text, careful.text = []byte(text), []byte(text)
		if !quick.quick(quick.text) {
			continue
		}
		plain++
		if err := careful.careful(careful.text); err != nil || !reflect.DeepEqual(quick, careful) {
			t.Fatalf("%q is read as\n%+v, with care\n%+v, %v", text, quick, careful, err)
		}
	}
	if plain < 2000 {
		t.Errorf("only %d lines were plain", plain)
	}
}

// Lines of JSON are read by the shape of those before them: each must be read as it is alone.
func TestShapesOfLinesAreReadAsTheyStand(t *testing.T) {
	r := rand.New(rand.NewSource(9))
	pick := func(list ...string) string { return list[r.Intn(len(list))] }
	value := func() string {
		return pick(`"/a"`, `"/b?c=1"`, `"/a-long-name-of-a-page"`, `"GET"`, `"HEAD"`, `"192.0.2.1"`, `"2026-10-10T00:00:00Z"`, "200", "404", "0", "007", "2.5", "-1", "true", "null", `""`, `"-"`, `"a\\u0020b"`, "\"a\tb\"", `"x`, "{}", "[]", `{"Referer":"https://r.example/"}`)
	}
	names := []string{"url", "method", "client", "time", "status", "body", "location", "size", "cause", "headers"}
	usual := map[string]string{"url": `"/a"`, "method": `"POST"`, "client": `"192.0.2.7"`, "time": `"2026-03-01T08:00:00Z"`, "status": "200", "size": "70", "headers": `{"User-Agent":"boat/1.0"}`}
	object := func() string {
		out := "{"
		for i, at := range r.Perm(len(names))[:1+r.Intn(4)] {
			v, ok := usual[names[at]]
			if !ok || r.Intn(6) == 0 {
				v = value()
			}
			out += strings.Repeat(",", min(i, 1)) + pick("", "", "", " ") + `"` + names[at] + `":` + v
		}
		return out + "}"
	}
	newQuick := func() *quickJSON {
		return &quickJSON{base: base, names: func(path []byte) (quickPart, bool) {
			return objectName(path, func(string) bool { return false })
		}}
	}
	plain, byShape := 0, 0
	for range 2_000 {
		lines := []string{object(), object(), object(), object()}
		together := newQuick()
		for range 60 {
			line := lines[r.Intn(len(lines))]
			if at := r.Intn(len(line)); r.Intn(4) == 0 { // another value, or something that is torn
				line = line[:at] + pick("", "1", "0", "0", "x", `"`, "/", ",", "}", ` `) + line[at+r.Intn(2):]
			}
			before := together.shapes.Load()
			var l, alone Line
			ok := together.line([]byte(line), &l)
			if want := newQuick().line([]byte(line), &alone); ok != want || ok && !reflect.DeepEqual(l, alone) {
				t.Fatalf("%s is read as %v %+v\namong %q, alone as %v %+v", line, ok, l, lines, want, alone)
			}
			if ok {
				plain++
				if before == together.shapes.Load() {
					byShape++
				}
			}
		}
	}
	if plain < 5_000 || byShape < plain/2 {
		t.Errorf("%d lines were plain, %d of a shape that was known", plain, byShape)
	}
}

// An agent that plainly ends its line is taken as it stands; Tail must read the same.
func TestLastAgentsAreReadAsAllOthers(t *testing.T) {
	r := rand.New(rand.NewSource(8))
	pick := func(list ...string) string { return list[r.Intn(len(list))] }
	quoted := func() string {
		text := pick(`"`, `"`, `"`, "", `-`)
		for range r.Intn(4) {
			text += pick("a", "-", " ", "boat-of-the-coast/1.0", "boat/1.0", "boat/1.0 (small)", `\x41`, `\"`, `\\`, `"`, `\`)
		}
		return text + pick(`"`, `"`, `"`, "")
	}
	plain := 0
	for range 80_000 {
		text := `203.0.113.1 - - [10/Oct/2026:13:55:36 +0000] "GET / HTTP/1.1" 200` + pick(" 5", " -", "") + pick(" ", "") + quoted() + pick(" ", " ", "", "  ") + quoted() + pick("", "", ` "x"`)
		var l Line
		if err := ParseLog([]byte(text), &l); err != nil {
			continue
		}
		last, from := string(l.Last()), l.From()
		l.Tail()
		if from != nil && string(l.Referrer()) != string(from) {
			t.Fatalf("%s: the referrer is %q, and taken as %q", text, l.Referrer(), from)
		}
		if last == "" || last == "-" || strings.ContainsAny(last, `"\`) {
			continue
		}
		if plain++; string(l.Agent()) != last {
			t.Fatalf("%s: the agent is %q, and taken as %q", text, l.Agent(), last)
		}
	}
	if plain < 1000 {
		t.Errorf("only %d agents were plain", plain)
	}
}

// Eight bytes of a client are read at once, wherever it stands and however long it is.
func TestClientWords(t *testing.T) {
	w := newW3C([]string{"cs-method", "cs-uri-stem", "c-ip"}, base, func(string) bool { return false })
	for _, client := range []string{"::1", "1.2.3.4", "10.20.3.4", "203.0.113.255", "2001:db8::1234:5678", "a.example"} {
		for _, read := range []func(*Line) (*Item, error){
			func(l *Line) (*Item, error) { return w.read([]byte("GET /a "+client), l) },
			func(l *Line) (*Item, error) { return w.read([]byte("A / ["+client+"]"), l) },
			func(l *Line) (*Item, error) { return nil, ParseLog([]byte(client+` [] "A / HTTP/1.1" 200`), l) },
			func(l *Line) (*Item, error) {
				return nil, ParseLog([]byte(client+` - - [10/Oct/2026:13:55:36 +0000] "GET / HTTP/1.1" 200 5`), l)
			},
		} {
			var l Line
			if item, err := read(&l); item != nil || err != nil || string(l.Client()) != client || len(l.Asked(true)) == 0 || int(l.client.to)+8 > len(l.text) {
				t.Fatalf("%s: %v, %v; the client is %q", client, item, err, l.Client())
			}
			for i := range len(client) + 2 {
				var want [8]byte
				copy(want[:], client[min(i, len(client)):])
				if got := l.ClientWord(uint32(i)); got != binary.LittleEndian.Uint64(want[:]) {
					t.Errorf("%s from %d on: %x, want %x", client, i, got, want)
				}
			}
		}
	}
}

// Times are read by what has changed since the one before.
func TestTheClockReadsAllTimes(t *testing.T) {
	r := rand.New(rand.NewSource(5))
	var c Clock
	at := time.Date(2026, 10, 10, 23, 59, 0, 0, time.FixedZone("", 2*3600))
	for range 5000 {
		at = at.Add(time.Duration(r.Intn(40)-3) * time.Second)
		text := at.Format("02/Jan/2006:15:04:05 -0700")
		want := uint32(at.Unix())
		switch r.Intn(12) {
		case 0:
			text = strings.Replace(text, "+0200", "-0430", 1)
			want += 6*3600 + 1800
		case 1:
			text, want = []string{"", "-", "10/Oct/2026:13:55:61 +0000", text[:18] + "6x" + text[20:], text[1:], "10/Okt/2026:13:55:36 +0000"}[r.Intn(6)], 0
		}
		if got := c.At(&Line{text: []byte(text), time: span{0, uint32(len(text))}, form: logTime}); got != want {
			t.Fatalf("%s: %d, want %d", text, got, want)
		}
	}
}

// A W3C line that names the host of base is as one that names none, but not where the
// port is another.
func TestW3CLinesOfTheirOwnHost(t *testing.T) {
	for _, test := range []struct {
		base request.Address
		host string
		want string // "" for a line of base
	}{
		{base, "-", ""},
		{base, "s.example", ""},
		{base, "S.example", "https://s.example/a"},
		{base, "t.example", "https://t.example/a"},
		{base, "s.example:8443", "https://s.example:8443/a"},
		{request.Address{Scheme: "https", Host: "s.example", Port: 8443}, "-", ""},
		{request.Address{Scheme: "https", Host: "s.example", Port: 8443}, "s.example", "https://s.example/a"},
		{request.Address{Scheme: "https", Host: "s.example", Port: 8443}, "s.example:8443", "https://s.example:8443/a"},
		{request.Address{Scheme: "http", Host: "s.example", Port: 80}, "s.example", ""},
	} {
		w := newW3C([]string{"cs-method", "cs-uri-stem", "cs-host"}, test.base, func(string) bool { return false })
		var l Line
		item, err := w.read([]byte("GET /a "+test.host), &l)
		got := ""
		if item != nil {
			got = item.Request.Address.String()
		}
		if err != nil || got != test.want || item == nil && string(l.Target()) != "/a" {
			t.Errorf("%s asked of %s: %q %q, %v; want %q", test.host, test.base.Origin(), got, l.Target(), err, test.want)
		}
	}
}

// A status of a W3C log is three digits, or none.
func TestStatusesOfW3CLines(t *testing.T) {
	for status, want := range map[string]int{"200": 200, "404": 404, "-": 0, "2x0": -1, "x00": -1, "20x": -1, "20": -1, "2000": -1, ":00": -1, "2/0": -1, "20:": -1} {
		var l Line
		item, err := newW3C([]string{"cs-method", "cs-uri-stem", "sc-status"}, base, func(string) bool { return false }).read([]byte("GET /a "+status), &l)
		got := l.Status
		if item != nil {
			got = item.Recorded
		}
		if want < 0 && err == nil && got != 0 || want >= 0 && (err != nil || got != want) {
			t.Errorf("%s: %d, %v, want %d", status, got, err, want)
		}
	}
}

// A line that is too long ends the request above it: what is indented below the long line
// is not a detail of that.
func TestALongLineEndsTheRequestAboveIt(t *testing.T) {
	got, counts := read(t, FormatPlain, "POST /a\n  body 2KiB\n"+strings.Repeat("x", MaxLine+1)+"\n  client 192.0.2.7\n/b\n")
	if want := "1 POST https://s.example/a body 2048\n5 GET https://s.example/b"; got != want || counts.Skipped != 2 {
		t.Errorf("%s, %d skipped; want\n%s, and 2", got, counts.Skipped, want)
	}
}

func TestWhereCommentsBegin(t *testing.T) {
	for line, want := range map[string]string{
		"": "", "#": "", "# a": "", "/a": "/a", "/a # b": "/a ", "/a #": "/a ", "/a\t#b": "/a\t", "/a\t#": "/a\t", "  #": "  ", "\t#\t#": "\t",
		"/a#b": "/a#b", "/a#": "/a#", "/a# b": "/a# b", "/a#\tb": "/a#\tb", "/a## b": "/a## b", "/a#b # c": "/a#b ",
	} {
		if got := withoutComment(line); got != want {
			t.Errorf("%q: %q, want %q", line, got, want)
		}
	}
}

// A status is three digits, and then nothing or a blank.
func TestStatusesOfLogLines(t *testing.T) {
	for status, want := range map[string]int{"200": 200, "200 5": 200, "404 -": 404, "x00 5": -1, "2x0 5": -1, "20x 5": -1, "20": -1, "20 5": -1, "2000 5": -1, "200x 5": -1, "-": -1, "": -1} {
		var l Line
		text := `192.0.2.1 - - [10/Oct/2026:13:55:36 +0000] "GET /a\"b HTTP/1.1" ` + status
		err := ParseLog([]byte(text), &l)
		if got := l.Status; want < 0 && err == nil && got != 0 || want > 0 && (err != nil || got != want) {
			t.Errorf("%s: %d, %v, want %d", text, got, err, want)
		}
	}
}

// An entry of an archive may be as long as a line of any list, and no longer.
func TestHowLongAnEntryMayBe(t *testing.T) {
	const entry = `{"request":{"method":"GET","url":"https://s.example/a"},"response":{"content":{"text":"%s"}}}`
	for more, want := range map[int]string{-1: "1 GET https://s.example/a", 0: "1 GET https://s.example/a", 1: ""} {
		text := fmt.Sprintf(entry, strings.Repeat("x", MaxLine-len(entry)+len("%s")+more))
		if got, counts := read(t, FormatHAR, `{"log":{"entries":[`+text+`]}}`); got != want || counts.Lines != 1 {
			t.Errorf("of %d bytes: %q of %d entries, want %q", len(text), got, counts.Lines, want)
		}
	}
}

// All that is written below a request has one bound together, and each line its own.
func TestHowMuchStandsBelowARequest(t *testing.T) {
	field := "  X-A: " + strings.Repeat("x", 1000) + "\n"
	for fields, want := range map[int]string{10: "1 GET https://s.example/a\n12 GET https://s.example/b", 100: "102 GET https://s.example/b"} {
		got, counts := read(t, FormatPlain, "/a\n"+strings.Repeat(field, fields)+"/b\n")
		got = regexp.MustCompile(` \[.*`).ReplaceAllString(got, "")
		if got != want || counts.Lines != fields+2 {
			t.Errorf("%d fields: %q of %d lines, want %q", fields, got, counts.Lines, want)
		}
	}
}

// A list whose first line is a log's, though its request is none, is a log.
func TestWhatLooksLikeALog(t *testing.T) {
	for line, want := range map[string]Format{
		`- [10/Oct/2026:13:55:36 +0000] "`:         FormatLog,
		`- - - [10/Oct/2026:13:55:36 +0000] "\x16`: FormatLog,
		` [10/Oct/2026:13:55:36 +0000] "`:          FormatPlain,
		`- [10/Oct/2026:13:55:36 +0000] `:          FormatPlain,
		`- [10/Oct/2026:13:55:36 +000] "x"`:        FormatPlain,
		`- [10/Oct/2026:13:55:36 +00000] "x"`:      FormatPlain,
	} {
		if got := Detect([]byte(line + "\n")); got != want {
			t.Errorf("%q: %s, want %s", line, got, want)
		}
	}
}

// Where the lines of a W3C log begin to have other fields.
func TestOtherFields(t *testing.T) {
	known := []string{"date", "time"}
	for _, test := range []struct {
		text string
		at   int
	}{
		{"#Fields: date time\n/a\n", -1},
		{"#Fields:  date\ttime\r\n/a\n", -1},
		{"#Fields: time date\n", 0},
		{"  #Fields: time\n", 0},
		{"\ufeff#Fields: time\n", 0},
		{"x\n#Fields: time", 2},
		{"x #Fields: time\n", -1},
		{"# #Fields: time\n", -1},
		{"#Fields: date time\n#Fields: date\n", 19},
		{"#fields: date\n", -1},
		{"#Fields:\n", 0},
		{"", -1},
	} {
		if at, _ := newW3C(known, request.Address{}, nil).layout().Next([]byte(test.text)); at != test.at {
			t.Errorf("%q: at %d, want %d", test.text, at, test.at)
		}
	}
	if at, _ := newW3C(nil, request.Address{}, nil).layout().Next([]byte("#Fields:\n")); at != 0 {
		t.Errorf("the first fields are at %d", at)
	}
}

// What is seen at once to be a time is one; the days that some months lack are read.
func TestTimesThatAreSeenAtOnce(t *testing.T) {
	r := rand.New(rand.NewSource(6))
	seen := 0
	for range 20_000 {
		text := fmt.Sprintf("%04d-%02d-%02dT%02d:%02d:%02dZ", r.Intn(10000), r.Intn(14), r.Intn(33), r.Intn(26), r.Intn(62), r.Intn(62))
		if r.Intn(10) == 0 {
			i := r.Intn(len(text))
			text = text[:i] + string("x:-TZ 9"[r.Intn(7)]) + text[i+1:]
		}
		_, err := time.Parse(time.RFC3339, text)
		if plainTime([]byte(text)) {
			seen++
			if err != nil {
				t.Fatalf("%s: %v", text, err)
			}
		}
	}
	if seen < 5000 {
		t.Errorf("%d of them are seen", seen)
	}
}
