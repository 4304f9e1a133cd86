package main

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
)

// A runningSite is a server of some years ago, that notes what it is asked for.
type runningSite struct {
	*httptest.Server
	mu    sync.Mutex
	asked []string
	fails func(n int) bool // whether the n-th request gets no answer
}

func runSite(t *testing.T) *runningSite {
	s := &runningSite{}
	s.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		s.asked = append(s.asked, r.Method+" "+r.Host+r.RequestURI)
		n, fails := len(s.asked), s.fails
		s.mu.Unlock()
		if fails != nil && fails(n) {
			panic(http.ErrAbortHandler)
		}
		switch {
		case r.URL.Path == "/old.html":
			w.Header().Set("Location", "https://www.s.example/new/")
			w.WriteHeader(301)
		case r.URL.Path == "/":
			w.Header().Set("Set-Cookie", "id=secret")
			fmt.Fprint(w, "home")
		default:
			http.NotFound(w, r)
		}
	}))
	t.Cleanup(s.Close)
	return s
}

func (s *runningSite) was() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	defer func() { s.asked = nil }()
	return s.asked
}

func TestRecordKeepsWhatAServerAnswers(t *testing.T) {
	s := runSite(t)
	dir := write(t, map[string]string{"list.txt": "/ => 404\n/old.html?a=1\nhttp://www.s.example/none\n/\nPOST /form\nHEAD /\n",
		"site.kibitz": "site s address http://s.example hosts www.s.example\nredirect old on /old.html to https://www.s.example/new/ as permanent\nreply home on / with 200 text home\nreply none in / with 404\n"})
	record := func(args ...string) (errs string, status int) {
		_, errs, status = kibitz(t, dir, "", append([]string{"record", "list.txt", "-at", s.URL, "-base", "http://s.example", "-rate", "0", "-out", "a.jsonl"}, args...)...)
		return errs, status
	}
	errs, status := record("-parallel", "1")
	if status != 0 {
		t.Fatalf("%d %s", status, errs)
	}
	contains(t, errs, "4 answers kept: 2 × 200, 1 × 301, 1 × 404", "1 not sent: it is not a GET or HEAD")
	if got, want := strings.Join(s.was(), "\n"), "GET s.example/\nGET s.example/old.html?a=1\nGET www.s.example/none\nHEAD s.example/"; got != want {
		t.Errorf("it was asked for\n%s\nwant\n%s", got, want)
	}
	text, _ := os.ReadFile(filepath.Join(dir, "a.jsonl"))
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	var first struct {
		URL, Method, Sha256, Asked string
		Status                     int
		Size                       int64
		Headers                    map[string][]string
	}
	if err := json.Unmarshal([]byte(lines[0]), &first); err != nil || first.URL != "http://s.example/" || first.Method != "GET" || first.Status != 200 || first.Size != 4 ||
		first.Sha256 != "4ea140588150773ce3aace786aeef7f4049ce100fa649c94fbbddb960f1da942" || first.Headers["Set-Cookie"] != nil || first.Headers["Content-Type"] == nil || first.Asked == "" {
		t.Errorf("%v %+v", err, first)
	}
	// What was recorded is a list, with what was answered.
	out, errs, status := kibitz(t, dir, "", "replay", "a.jsonl", "-strict")
	if status != 0 || !strings.Contains(out, "Recorded against predicted   4 of 4 the same (100.0%)") {
		t.Errorf("%d %s%s", status, out, errs)
	}
	// Nothing is written over; -continue asks for what is not there yet.
	if errs, status := record(); status != 2 || !strings.Contains(errs, "is there already") {
		t.Errorf("a second time: %d %s", status, errs)
	}
	os.WriteFile(filepath.Join(dir, "list.txt"), []byte("/\n/more\n"), 0o644)
	if errs, status := record("-continue"); status != 0 || !strings.Contains(errs, "1 answer kept beside the 4 that were there") {
		t.Errorf("%d %s", status, errs)
	}
	if got := strings.Join(s.was(), "\n"); got != "GET s.example/more" {
		t.Errorf("it was asked for %s", got)
	}
	if again, _ := os.ReadFile(filepath.Join(dir, "a.jsonl")); !strings.HasPrefix(string(again), string(text)) || strings.Count(string(again), "\n") != 5 {
		t.Errorf("%s", again)
	}
}

// Rules about clients answer each of them, where the server believes a Forwarded field.
func TestRecordForEachClient(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Forwarded") != `for="192.0.2.7";proto=https` {
			w.WriteHeader(403)
		}
	}))
	defer server.Close()
	dir := write(t, map[string]string{
		"list.jsonl":  `{"url":"/crew/","client":"192.0.2.7"}` + "\n" + `{"url":"/crew/","client":"198.51.100.9"}` + "\n" + `{"url":"/crew/","client":"198.51.100.9"}` + "\n",
		"site.kibitz": "site s address https://s.example\naccess crew in /crew/ unless client 192.0.2.0/24 refuse\nreply all in / with 200\n",
	})
	for _, test := range []struct {
		flags, want, predicted string
	}{
		{"", "1 answer kept: 1 × 403", "1 of 1 the same"},
		{"-forwarded", "2 answers kept: 1 × 200, 1 × 403", "2 of 2 the same"},
	} {
		args := append([]string{"record", "list.jsonl", "-at", server.URL, "-base", "https://s.example", "-rate", "0", "-out", "a" + test.flags + ".jsonl"}, strings.Fields(test.flags)...)
		_, errs, status := kibitz(t, dir, "", args...)
		if status != 0 || !strings.Contains(errs, test.want) {
			t.Errorf("%q: %d %s, want %s", test.flags, status, errs, test.want)
		}
		out, _, _ := kibitz(t, dir, "", "replay", "a"+test.flags+".jsonl")
		contains(t, out, "Recorded against predicted   "+test.predicted)
	}
	_, errs, _ := kibitz(t, dir, "", "record", "list.jsonl", "-at", server.URL, "-base", "https://s.example", "-rate", "0", "-out", "a-forwarded.jsonl", "-forwarded", "-continue")
	contains(t, errs, "0 answers kept beside the 2 that were there")
}

// What lies beside an address tells rules apart.
func TestRecordProbes(t *testing.T) {
	s := runSite(t)
	dir := write(t, map[string]string{"list.txt": "/a/b.html?q=1\nhttp://www.s.example/\n"})
	out, errs, status := kibitz(t, dir, "", "record", "list.txt", "-at", s.URL, "-base", "http://s.example", "-rate", "0", "-probe")
	if status != 0 {
		t.Fatal(errs)
	}
	probes := map[string]bool{}
	for _, line := range strings.Split(strings.TrimSpace(out), "\n") {
		var one struct{ Method, URL, Probe string }
		if err := json.Unmarshal([]byte(line), &one); err != nil {
			t.Fatal(err)
		}
		probes[strings.TrimSpace(one.Probe+" "+one.Method+" "+one.URL)] = true
	}
	for _, want := range []string{
		"GET http://s.example/a/b.html?q=1", "scheme GET https://s.example/a/b.html?q=1", "host GET http://www.s.example/a/b.html?q=1", "slash GET http://s.example/a/b.html/?q=1",
		"no query GET http://s.example/a/b.html", "case GET http://s.example/A/B.HTML?q=1", "extension GET http://s.example/a/b?q=1", "nothing GET http://s.example/a/kibitz-asks-for-nothing.html",
		"method HEAD http://s.example/a/b.html?q=1", "method OPTIONS http://s.example/a/b.html?q=1", "encoding GET http://s.example/a/b.html?q=1", "document GET http://www.s.example/index.html", "query GET http://www.s.example/?kibitz=1",
	} {
		if !probes[want] {
			t.Errorf("%s is not asked for", want)
		}
	}
	for _, asked := range s.was() {
		if method, _, _ := strings.Cut(asked, " "); method != "GET" && method != "HEAD" && method != "OPTIONS" {
			t.Errorf("it sends %s", asked)
		}
	}
}

// A server that stops in the middle loses nothing of what it has said: the rest is asked for
// later.
func TestRecordGoesOnWhereAServerStopped(t *testing.T) {
	s := runSite(t)
	list := ""
	for i := range 20 {
		list += fmt.Sprintf("/%d\n", i)
	}
	dir := write(t, map[string]string{"list.txt": list})
	s.fails = func(n int) bool { return n > 8 }
	args := []string{"record", "list.txt", "-at", s.URL, "-rate", "0", "-out", "a.jsonl", "-retries", "0"}
	_, errs, status := kibitz(t, dir, "", args...)
	if status != 1 || !strings.Contains(errs, "8 answers kept") || !strings.Contains(errs, "without an answer") || !strings.Contains(errs, "With -continue") {
		t.Errorf("%d %s", status, errs)
	}
	s.mu.Lock()
	s.fails = nil
	s.mu.Unlock()
	s.was()
	if _, errs, status := kibitz(t, dir, "", append(args, "-continue")...); status != 0 || !strings.Contains(errs, "12 answers kept beside the 8") || len(s.was()) != 12 {
		t.Errorf("%d %s", status, errs)
	}
	for name, test := range map[string]struct {
		args []string
		want string
	}{
		"no list":              {[]string{"record", "-at", s.URL}, "name a list"},
		"no server":            {[]string{"record", "list.txt"}, "name the server"},
		"continue nothing":     {[]string{"record", "list.txt", "-at", s.URL, "-continue"}, "that -out names"},
		"continue another":     {[]string{"record", "list.txt", "-at", s.URL, "-continue", "-out", "list.txt"}, "is not what record has written"},
		"a base with a path":   {[]string{"record", "list.txt", "-at", s.URL, "-base", "http://s.example/x"}, "without a path"},
		"nobody listens there": {[]string{"record", "list.txt", "-at", "http://127.0.0.1:1", "-rate", "0"}, "20 without an answer"},
	} {
		if _, errs, status := kibitz(t, dir, "", test.args...); status == 0 || !strings.Contains(errs, test.want) {
			t.Errorf("%s: %d %s, want %q", name, status, errs, test.want)
		}
	}
	if text, _ := os.ReadFile(filepath.Join(dir, "list.txt")); string(text) != list {
		t.Errorf("the list was written over")
	}
}
