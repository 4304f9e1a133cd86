package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// A served program is one that answers in the background.
type served struct {
	*exec.Cmd
	url  string
	errs *lockedText
	out  chan string // the lines of its log
}

// serveIn starts kibitz serve in a folder.
func serveIn(t *testing.T, dir string, args ...string) *served {
	t.Helper()
	s := &served{Cmd: exec.Command(program, append([]string{"serve"}, args...)...), errs: &lockedText{}, out: make(chan string, 1000)}
	s.Dir, s.Stderr = dir, s.errs
	out, err := s.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Process.Kill() })
	lines := bufio.NewScanner(out)
	if !lines.Scan() {
		t.Fatalf("it does not serve: %s", s.errs)
	}
	s.url, _, _ = strings.Cut(lines.Text(), " ")
	go func() {
		for lines.Scan() {
			s.out <- lines.Text()
		}
		close(s.out)
	}()
	return s
}

// get asks for a path, and does not follow redirects.
func (s *served) get(t *testing.T, path, host string) (status int, location, body string) {
	t.Helper()
	req, _ := http.NewRequest("GET", strings.TrimSuffix(s.url, "/")+path, nil)
	req.Host = host
	resp, err := http.DefaultTransport.RoundTrip(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(resp.Body)
	return resp.StatusCode, resp.Header.Get("Location"), string(text)
}

func TestServeAnswersLogsReadsAnewAndStops(t *testing.T) {
	dir := ferries(t)
	s := serveIn(t, dir)
	if status, _, body := s.get(t, "/timetables/winter/", ""); status != 200 || !strings.Contains(body, "<h1>") {
		t.Errorf("a page: %d\n%s", status, body)
	}
	if status, location, _ := s.get(t, "/fares.php", "saltmarsh-ferries.example"); status != 301 || location != "https://saltmarsh-ferries.example/fares.php" {
		t.Errorf("by its own host over http: %d to %s", status, location)
	}
	if status, _, body := s.get(t, "/no<b>where", ""); status != 404 || !strings.Contains(body, "/no%3Cb%3Ewhere") {
		t.Errorf("a filled error page: %d\n%s", status, body)
	}
	var log []string
	for range 4 { // the first line is blank
		log = append(log, <-s.out)
	}
	columns := regexp.MustCompile(` {3,}`).ReplaceAllString(strings.Join(log, "\n"), "  ")
	contains(t, columns, "GET /timetables/winter/  200  document  timetables/winter/index.html", "301  secure site.kibitz:15  https://saltmarsh-ferries.example/fares.php", "404  missing  errors/not-found.html")

	book := filepath.Join(dir, "site.kibitz")
	text, _ := os.ReadFile(book)
	wait := func(what string) {
		for range 100 {
			if strings.Contains(s.errs.String(), what) {
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
		t.Fatalf("%q never came:\n%s", what, s.errs)
	}
	os.WriteFile(book, append(text, "redirect broken\n"...), 0o644)
	wait("the old rulebook goes on answering")
	if status, _, _ := s.get(t, "/", ""); status != 200 {
		t.Errorf("with errors in the new rulebook: %d", status)
	}
	os.WriteFile(book, []byte(strings.Replace(string(text), "# The addresses of the old site.\n", "reply anew on /anew with 200 text anew\n", 1)), 0o644)
	wait("reloaded")
	if status, _, body := s.get(t, "/anew", ""); status != 200 || body != "anew" {
		t.Errorf("after the change: %d %s", status, body)
	}
	s.Process.Signal(syscall.SIGTERM)
	if err := s.Wait(); err != nil {
		t.Errorf("it does not stop cleanly: %v", err)
	}
}

func TestServeSaysWhatItCannotDo(t *testing.T) {
	dir := small(t)
	s := serveIn(t, dir)
	address := strings.TrimSuffix(strings.TrimPrefix(s.url, "http://"), "/")
	for _, test := range []struct {
		args []string
		want string
	}{
		{[]string{"serve", "-listen", address}, "is taken: another program listens there"},
		{[]string{"serve", "-as-host", "elsewhere.example"}, "no site of the rulebook answers for elsewhere.example"},
		{[]string{"serve", "x"}, "serve takes no argument"},
		{[]string{"verify", "list.txt"}, "name the server"},
		{[]string{"verify", "list.txt", "-at", "ftp://x"}, "is not the address of a server"},
		{[]string{"verify", "list.txt", "-at", "http://x", "-at", "http://y"}, "-at may stand twice"},
		{[]string{"verify", "list.txt", "-at", "http://x", "-only", "colour"}, "-only is one of status"},
		{[]string{"compare", "site.kibitz"}, "name the old rulebook and the new one"},
		{[]string{"compare", "site.kibitz", "none.kibitz"}, "there is no rulebook none.kibitz"},
		{[]string{"check", "-effort", "0"}, "-effort is a number"},
	} {
		_, errs, status := kibitz(t, dir, "", test.args...)
		if status != 2 || !strings.Contains(errs, test.want) {
			t.Errorf("%v: status %d: %s", test.args, status, errs)
		}
	}
}

func TestVerifyFindsWhatTheStandInDoesOtherwise(t *testing.T) {
	dir := ferries(t)
	right := serveIn(t, dir, "-as-host", "saltmarsh-ferries.example", "-forwarded", "-quiet")
	wrong := serveIn(t, dir, "-rules", "standin.kibitz", "-forwarded", "-quiet")
	os.WriteFile(filepath.Join(dir, "few.txt"), []byte("/\n/fares.php\n/boats/none\n/crew/rota.html\n  client 192.0.2.7\nPOST /fares/\n"), 0o644)
	out, errs, status := kibitz(t, dir, "", "verify", "few.txt", "-at", right.url, "-forwarded", "-rate", "0")
	if status != 0 {
		t.Errorf("as predicted: status %d\n%s%s", status, out, errs)
	}
	contains(t, out, "4 as predicted", "1   it is not a GET or HEAD")
	out, _, status = kibitz(t, dir, "", "verify", "few.txt", "-at", wrong.url, "-forwarded", "-rate", "0")
	if status != 1 {
		t.Errorf("otherwise: status %d\n%s", status, out)
	}
	contains(t, out, "2 different", "302 in the place of 301", "what is missing answers 200", "Try it      kibitz trace https://saltmarsh-ferries.example/fares.php")
	out, _, _ = kibitz(t, dir, "", "verify", "few.txt", "-at", wrong.url, "-forwarded", "-rate", "0", "-as", "tap")
	contains(t, out, "1..4", "not ok 2 - few.txt:2 GET https://saltmarsh-ferries.example/fares.php")
	out, _, _ = kibitz(t, dir, "", "verify", "few.txt", "-at", wrong.url, "-forwarded", "-rate", "0", "-as", "junit")
	contains(t, out, `<testsuite name="kibitz verify" tests="4" failures="2">`)
	out, _, _ = kibitz(t, dir, "", "verify", "few.txt", "-at", wrong.url, "-forwarded", "-rate", "0", "-as", "json")
	var result struct {
		Results []struct {
			Line, Got   int
			Reason      string
			Differences []struct{ Aspect, Predicted, Got string }
		}
	}
	if err := json.Unmarshal([]byte(out), &result); err != nil || len(result.Results) != 5 || result.Results[1].Got != 302 || result.Results[1].Differences[0].Predicted != "301" {
		t.Errorf("%v: %+v", err, result)
	}
	if out, _, status = kibitz(t, dir, "", "verify", "few.txt", "-at", wrong.url, "-forwarded", "-rate", "0", "-only", "headers"); status != 0 {
		t.Errorf("-only headers: status %d\n%s", status, out)
	}
}

func TestCompareShowsWhatChangesAndWhoComesBack(t *testing.T) {
	dir := ferries(t)
	out, _, status := kibitz(t, dir, "", "compare", "before.kibitz", "site.kibitz", "requests.txt")
	if status != 0 {
		t.Errorf("status %d", status)
	}
	contains(t, out, "152 requests   20 the same   132 changed\nwith before.kibitz and site.kibitz in ", "   11   work now, and did not\n", "11 requests work now, and did not", "before: the visit is an endless loop")
	out, _, status = kibitz(t, dir, "", "compare", "site.kibitz", "next.kibitz")
	if status != 1 {
		t.Errorf("visitors who come back: status %d", status)
	}
	contains(t, out, "made of the rulebooks, with site.kibitz and next.kibitz in ", "error  stored-redirect-loop", "stored, from the old rulebook   old-fares site.kibitz:37", "answered by the new rulebook   new-prices next.kibitz:37")
	if out, _, status = kibitz(t, dir, "", "compare", "site.kibitz", "site.kibitz", "-expect-none", "requests.txt"); status != 0 || !strings.Contains(out, "Nothing changes.") {
		t.Errorf("the same: status %d\n%s", status, out)
	}
	if _, _, status = kibitz(t, dir, "", "compare", "before.kibitz", "site.kibitz", "-expect-none", "requests.txt"); status != 1 {
		t.Errorf("-expect-none: status %d", status)
	}
	os.Rename(filepath.Join(dir, "public", "fares"), filepath.Join(dir, "gone"))
	os.Mkdir(filepath.Join(dir, "empty"), 0o755)
	out, _, _ = kibitz(t, dir, "", "compare", "public", "empty", "requests.txt", "-as", "json")
	var result struct {
		Requests, Same int
		Groups         []struct{ Change string }
	}
	if err := json.Unmarshal([]byte(out), &result); err != nil || result.Requests != 152 || result.Same == 152 || result.Groups[0].Change != "lost" {
		t.Errorf("two trees: %v %+v", err, result)
	}
}

func TestCheckIsNeverAWall(t *testing.T) {
	book := "site s address https://s.example files public\n"
	for i := range 14 {
		book += fmt.Sprintf("redirect r%d on /old%d to /gone%d as 303\n", i, i, i)
	}
	dir := write(t, map[string]string{"site.kibitz": book, "public/index.html": "home"})
	out, _, _ := kibitz(t, dir, "", "check", "-claims")
	contains(t, out, "… and 4 more of missing-target; all of them: kibitz check -top 0", "14 warnings", "found at 14 entries")
	if n := strings.Count(out, "warning  missing-target"); n != 10 {
		t.Errorf("%d findings are shown", n)
	}
	all, _, _ := kibitz(t, dir, "", "check", "-top", "0", "-effort", "2")
	if n := strings.Count(all, "warning  missing-target"); n != 14 || strings.Contains(all, "more of") {
		t.Errorf("-top 0: %d findings are shown", n)
	}
}

// SARIF has what its schema requires, and fingerprints that stay when lines move.
func TestFindingsForCodeHosts(t *testing.T) {
	dir := ferries(t)
	type log struct {
		Version string
		Runs    []struct {
			Tool    struct{ Driver struct{ Name string } }
			Results []struct {
				RuleID, Level       string
				Message             struct{ Text string }
				PartialFingerprints map[string]string
				Locations           []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine, StartColumn, EndColumn int }
					}
				}
			}
		}
	}
	read := func() (l log, prints []string, lines int) {
		out, _, _ := kibitz(t, dir, "", "check", "before.kibitz", "-as", "sarif")
		if err := json.Unmarshal([]byte(out), &l); err != nil {
			t.Fatal(err)
		}
		for _, r := range l.Runs[0].Results {
			at := r.Locations[0].PhysicalLocation
			prints = append(prints, r.RuleID+" "+r.PartialFingerprints["kibitz/v1"])
			lines += at.Region.StartLine
			if r.Message.Text == "" || at.ArtifactLocation.URI != "before.kibitz" || at.Region.StartColumn < 1 || at.Region.EndColumn < at.Region.StartColumn || !slices.Contains([]string{"error", "warning", "note"}, r.Level) {
				t.Errorf("%+v", r)
			}
		}
		return l, prints, lines
	}
	l, before, first := read()
	if l.Version != "2.1.0" || l.Runs[0].Tool.Driver.Name == "" || len(before) < 5 {
		t.Errorf("%+v", l)
	}
	name := filepath.Join(dir, "before.kibitz")
	text, _ := os.ReadFile(name)
	os.WriteFile(name, append([]byte("# one line more\n\n"), text...), 0o644)
	_, after, second := read()
	if !slices.Equal(before, after) || second != first+2*len(before) {
		t.Errorf("the fingerprints moved with the lines:\n%s\n%s", fmt.Sprint(before), fmt.Sprint(after))
	}
	if seen := slices.Compact(slices.Sorted(slices.Values(before))); len(seen) != len(before) {
		t.Errorf("two findings share a fingerprint: %v", before)
	}
}

// A lockedText is what a running program has written so far.
type lockedText struct {
	mu   sync.Mutex
	text strings.Builder
}

func (l *lockedText) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(b)
}

func (l *lockedText) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.String()
}

// What is written as SARIF is that by the published schema (OASIS, errata 01, without its
// descriptions): of findings of all severities, and of a rulebook that cannot be read.
func TestSARIFByItsSchema(t *testing.T) {
	schema, err := jsonschema.NewCompiler().Compile("testdata/sarif-schema-2.1.0.json")
	if err != nil {
		t.Fatal(err)
	}
	dir := ferries(t)
	if err := os.WriteFile(filepath.Join(dir, "broken.kibitz"), []byte("site s addres x\nredirect on\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"site.kibitz", "before.kibitz", "broken.kibitz"} {
		out, errs, _ := kibitz(t, dir, "", "check", name, "-as", "sarif")
		document, err := jsonschema.UnmarshalJSON(strings.NewReader(out))
		if err != nil {
			t.Fatalf("%s: %v\n%s", name, err, errs)
		}
		if err := schema.Validate(document); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// A log does not tell what browsers accept: -header says it, of every request that does not
// have it, and so compression is compared, too; -headers shows of which addresses.
func TestHeadersOfEveryRequest(t *testing.T) {
	dir := ferries(t)
	os.WriteFile(filepath.Join(dir, "few.txt"), []byte("/conditions/\n/fares/\n  Accept-Encoding: gzip\n"), 0o644)
	for _, test := range []struct {
		args []string
		want []string
		not  string
	}{
		{nil, []string{"1 request: Vary\n", "1 request: Content-Encoding, Content-Length, Vary\n", "examples of these: -headers"}, "/conditions/"},
		{[]string{"-header", "Accept-Encoding: br"}, []string{"2 requests: Content-Encoding, Content-Length, Vary\n"}, "/conditions/"},
		{[]string{"-header", "Accept-Encoding: br", "-headers"}, []string{"2 requests: Content-Encoding, Content-Length, Vary\n      /", "      /conditions/", "      /fares/"}, "examples of these"},
	} {
		out, errs, status := kibitz(t, dir, "", append([]string{"compare", "before.kibitz", "site.kibitz", "few.txt"}, test.args...)...)
		if status != 0 || strings.Contains(out, test.not) {
			t.Errorf("%v: %d\n%s%s", test.args, status, out, errs)
		}
		contains(t, out, test.want...)
	}
	server := serveIn(t, dir, "-rules", "before.kibitz", "-as-host", "saltmarsh-ferries.example", "-forwarded", "-quiet")
	for header, want := range map[string]string{"Accept-Encoding: br": "the answer is not compressed", "Accept-Encoding: identity": "1 as predicted"} {
		out, errs, status := kibitz(t, dir, "/fares/\n", "verify", "-", "-at", server.url, "-forwarded", "-rate", "0", "-only", "encoding", "-header", header)
		if !strings.Contains(out, want) {
			t.Errorf("%s: %d without %q\n%s%s", header, status, want, out, errs)
		}
	}
}

// Of two folders the contents are compared, and not the times: a copy is the same, also for who
// asks whether what he has is still good.
func TestFoldersAreComparedByContent(t *testing.T) {
	dir := write(t, map[string]string{
		"site.kibitz":    "site s address https://s.example files old\nredirect a on /a to /fares/ as 302\nheader h on /own set ETag '\"1\"'\n",
		"old/index.html": "home", "old/fares/index.html": "fares", "old/own": "one", "old/gone": "x",
		"same/index.html": "home", "same/fares/index.html": "fares", "same/own": "one", "same/gone": "x",
		"other/index.html": "home", "other/fares/index.html": "tears", "other/own": "another one",
		"list.txt": "/\n/a\n/fares/\n/own\n/gone\n/fares/\n    If-Modified-Since: Sun, 01 Mar 2026 06:00:00 GMT\n",
	})
	old := time.Date(2026, 3, 1, 6, 0, 0, 0, time.UTC)
	for _, name := range []string{"index.html", "fares/index.html", "own", "gone"} {
		os.Chtimes(filepath.Join(dir, "old", name), old, old)
	}
	out, errs, status := kibitz(t, dir, "", "compare", "old", "same", "list.txt", "-expect-none")
	if status != 0 || !strings.Contains(out, "6 requests   6 the same") || !strings.Contains(out, "Nothing changes.") {
		t.Errorf("a copy: %d\n%s%s", status, out, errs)
	}
	out, errs, status = kibitz(t, dir, "", "compare", "old", "other", "list.txt", "-fail-on", "content")
	if status != 1 {
		t.Errorf("another: %d\n%s%s", status, out, errs)
	}
	contains(t, out, "6 requests   1 the same   5 changed", "1   is not found any more\n", "4   have other content\n", "3 requests: /fares/index.html\n", "1 request: /own\n")
}
