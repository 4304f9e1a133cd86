package live

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"kibitz/core/engine"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

const verified = `site s address http://s.example hosts www.s.example
redirect old    on /old    to /new/?a=1  as permanent
access   crew   in /crew/  unless client 192.0.2.0/24  refuse
handoff  app    in /app/
header   frame  set X-Frame-Options DENY
compress text   using gzip over 0B
`

// verifyAgainst sends requests to a handler that stands for the server.
func verifyAgainst(t *testing.T, handler http.HandlerFunc, o Options, lines ...string) []*Verified {
	t.Helper()
	return verifyList(t, list.FormatPlain, handler, o, lines...)
}

func verifyList(t *testing.T, format list.Format, handler http.HandlerFunc, o Options, lines ...string) []*Verified {
	t.Helper()
	server := httptest.NewServer(handler)
	defer server.Close()
	book, err := rulebook.Read("t.kibitz", []byte(verified), nil)
	if err != nil {
		t.Fatal(err)
	}
	e := engine.New(book, []*site.Tree{site.Memory(map[string]string{"/index.html": strings.Repeat("home ", 200), "/crew/rota.html": "rota", "/map.png": "png"})})
	var items []*list.Item
	if _, err := list.Read(strings.NewReader(strings.Join(lines, "\n")), list.Options{Base: book.BaseAddress(), Format: format}, func(i *list.Item) { items = append(items, i) }); err != nil {
		t.Fatal(err)
	}
	at, _ := url.Parse(server.URL)
	if o.At == nil {
		o.At = []*url.URL{at}
	}
	o.Timeout = 5 * time.Second
	if o.Aspects == nil {
		o.Aspects = Aspects
	}
	return Verify(context.Background(), e, "list", items, o)
}

// A request is sent once, however often a list has it; each line is held against what is
// predicted for it.
func TestEachRequestIsSentOnce(t *testing.T) {
	var asked atomic.Int64
	all := verifyList(t, list.FormatLog, func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		w.Header().Set("X-Frame-Options", "DENY")
		http.NotFound(w, r)
	}, Options{Parallel: 4},
		`192.0.2.1 - - [28/Feb/2026:00:00:01 +0000] "GET /none HTTP/1.1" 404 1 "-" "A"`, `192.0.2.2 - - [28/Feb/2026:00:00:02 +0000] "GET /none HTTP/1.1" 404 1 "-" "A"`,
		`192.0.2.1 - - [28/Feb/2026:00:00:01 +0000] "HEAD /none HTTP/1.1" 404 1 "-" "A"`, `192.0.2.1 - - [28/Feb/2026:00:00:01 +0000] "GET /none HTTP/1.1" 404 1 "-" "B"`,
		`192.0.2.1 - - [28/Feb/2026:00:00:01 +0000] "GET /none?a HTTP/1.1" 404 1 "-" "A"`, `203.0.113.1 - - [28/Feb/2026:00:00:03 +0000] "GET /none HTTP/1.1" 404 1 "-" "A"`)
	sent := 0
	for _, v := range all {
		if v.Sent {
			sent++
		}
		if v.Got == nil || v.Got.StatusCode != 404 {
			t.Errorf("%s has no answer", v.Item.Request.Address)
		}
	}
	if len(all) != 6 || sent != 3 || asked.Load() != 3 {
		t.Errorf("%d lines, %d sent, %d asked for; want 6, 3, 3", len(all), sent, asked.Load())
	}
}

func TestDifferencesAreSeenAndExplained(t *testing.T) {
	home := strings.Repeat("home ", 200)
	good := func(w http.ResponseWriter) {
		w.Header().Set("X-Frame-Options", "DENY")
		w.Header().Set("Content-Type", "text/html; charset=UTF-8")
	}
	for name, test := range map[string]struct {
		line    string
		answer  http.HandlerFunc
		aspects string
		reason  string
	}{
		"as predicted": {"/", func(w http.ResponseWriter, r *http.Request) { good(w); fmt.Fprint(w, home) }, "", ""},
		"another size": {"/", func(w http.ResponseWriter, r *http.Request) { good(w); fmt.Fprint(w, "short") }, "size", "older or newer"},
		"a header too few": {"/", func(w http.ResponseWriter, r *http.Request) {
			good(w)
			w.Header().Del("X-Frame-Options")
			fmt.Fprint(w, home)
		}, "headers", "is not sent"},
		"another value": {"/", func(w http.ResponseWriter, r *http.Request) {
			good(w)
			w.Header().Set("X-Frame-Options", "SAMEORIGIN")
			fmt.Fprint(w, home)
		}, "headers", "another value"},
		"no encoding": {"/\n  Accept-Encoding: gzip", func(w http.ResponseWriter, r *http.Request) { good(w); fmt.Fprint(w, home) }, "encoding", "not compressed"},
		"no redirect": {"/old", func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(404) }, "status", "does not have this redirect"},
		"another kind": {"/old", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Location", "/new/?a=1")
			w.WriteHeader(302)
		}, "status", "302 in the place of 301"},
		"to a full URL": {"/old", func(w http.ResponseWriter, r *http.Request) {
			good(w)
			w.Header().Set("Location", "http://s.example/new/?a=1")
			w.WriteHeader(301)
		}, "", ""},
		"without the slash": {"/old", func(w http.ResponseWriter, r *http.Request) {
			good(w)
			w.Header().Set("Location", "/new?a=1")
			w.WriteHeader(301)
		}, "location", "slash"},
		"without the query": {"/old", func(w http.ResponseWriter, r *http.Request) {
			good(w)
			w.Header().Set("Location", "/new/")
			w.WriteHeader(301)
		}, "location", "query"},
		"to another host": {"/old", func(w http.ResponseWriter, r *http.Request) {
			good(w)
			w.Header().Set("Location", "http://t.example/new/?a=1")
			w.WriteHeader(301)
		}, "location", "another host"},
		"an open guard":         {"/crew/rota.html", func(w http.ResponseWriter, r *http.Request) { good(w); fmt.Fprint(w, "rota") }, "status", "guard is not there"},
		"an error that is none": {"/none", func(w http.ResponseWriter, r *http.Request) { good(w); fmt.Fprint(w, home) }, "status", "answers 200"},
	} {
		results := verifyAgainst(t, test.answer, Options{Parallel: 1}, test.line)
		if len(results) != 1 || results[0].Failed != nil || results[0].Skipped != "" {
			t.Fatalf("%s: %+v", name, results[0])
		}
		var aspects []string
		for _, d := range results[0].Differences {
			aspects = append(aspects, d.Aspect)
		}
		if strings.Join(aspects, " ") != test.aspects || !strings.Contains(results[0].Reason(), test.reason) {
			t.Errorf("%s: %v: %s", name, results[0].Differences, results[0].Reason())
		}
	}
}

func TestOnlyTheNamedServerIsAskedAndNothingIsFollowed(t *testing.T) {
	var asked atomic.Int64
	hosts := make(chan string, 10)
	handler := func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		hosts <- r.Host + " " + r.RequestURI
		w.Header().Set("Location", "http://127.0.0.1:1/away")
		w.WriteHeader(301)
	}
	results := verifyAgainst(t, handler, Options{Parallel: 1}, "/old", "http://www.s.example/old?x=%zz", "POST /old", "/app/x", "http://elsewhere.example/")
	close(hosts)
	var got []string
	for h := range hosts {
		got = append(got, h)
	}
	if want := []string{"s.example /old", "www.s.example /old?x=%zz"}; !slices.Equal(got, want) || asked.Load() != 2 {
		t.Errorf("asked %q, want %q", got, want)
	}
	for i, part := range []string{"", "", "-send-all", "application", "host"} {
		if !strings.Contains(results[i].Skipped, part) || (part == "") != (results[i].Skipped == "") {
			t.Errorf("request %d: skipped %q, want %q", i, results[i].Skipped, part)
		}
	}
	if results := verifyAgainst(t, func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(301) }, Options{SendAll: true, Aspects: []string{"headers"}}, "POST /old"); results[0].Skipped != "" {
		t.Errorf("-send-all: %s", results[0].Skipped)
	}
}

// The server sees another client than the log did: a request whose answer hangs on that
// is sent only where the client can be sent along.
func TestWhatHangsOnTheClientIsNotAskedWithoutIt(t *testing.T) {
	for _, test := range []struct {
		path, client string
		forwarded    bool
		skipped      string
	}{
		{"/crew/rota.html", "192.0.2.7", false, "its answer depends on the client"},
		{"/crew/rota.html", "192.0.2.7", true, ""},
		{"/crew/rota.html", "198.51.100.7", false, ""}, // refused, as whoever sends it is
		{"/", "192.0.2.7", false, ""},
	} {
		line := fmt.Sprintf(`{"url":%q,"client":%q}`, test.path, test.client)
		results := verifyList(t, list.FormatJSONL, http.NotFound, Options{Forwarded: test.forwarded}, line)
		if got := results[0].Skipped; !strings.HasPrefix(got, test.skipped) || (got == "") != (test.skipped == "") {
			t.Errorf("%s, forwarded %v: skipped %q, want %q", line, test.forwarded, got, test.skipped)
		}
	}
}

func TestAskingAgainAfterAnErrorOfTheNetwork(t *testing.T) {
	for retries, want := range []bool{false, true} {
		tries := 0
		results := verifyAgainst(t, func(w http.ResponseWriter, r *http.Request) {
			if tries++; tries == 1 {
				c, _, _ := w.(http.Hijacker).Hijack()
				c.Close()
				return
			}
			w.WriteHeader(404)
		}, Options{Retries: retries, Aspects: []string{"status"}}, "HEAD /none\n  Connection: close")
		if ok := results[0].Failed == nil; ok != want {
			t.Errorf("%d retries: %v after %d tries", retries, results[0].Failed, tries)
		}
	}
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	taken.Close() // nobody listens there now
	at, _ := url.Parse("http://" + taken.Addr().String())
	if results := verifyAgainst(t, nil, Options{At: []*url.URL{at}}, "/", "/old"); results[0].Failed == nil || len(results) != 2 {
		t.Errorf("nobody answers, and that is not said: %+v", results)
	}
}
