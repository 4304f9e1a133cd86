package main

import (
	"encoding/json"
	"encoding/xml"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"
)

const logged = `192.0.2.1 - - [10/Oct/2026:13:55:36 +0000] "GET /old HTTP/1.1" 200 1 "https://s.example/" "reader"
192.0.2.1 - - [11/Oct/2026:13:55:36 +0000] "GET /nwe/ HTTP/1.1" 404 1 "https://s.example/" "reader"
192.0.2.1 - - [11/Oct/2026:13:55:37 +0000] "GET / HTTP/1.1" 200 1 "-" "=cmd|' /C calc'!A0"
192.0.2.1 - - [11/Oct/2026:13:55:38 +0000] "\x16\x03" 400 1
`

func TestALogIsHeldAgainstThePrediction(t *testing.T) {
	dir := small(t)
	os.WriteFile(filepath.Join(dir, "access.log"), []byte(logged), 0o644)
	out, errs, status := kibitz(t, dir, "", "replay", "access.log")
	if status != 0 {
		t.Errorf("status %d", status)
	}
	contains(t, out, "3 requests in", "1 line not read", "Recorded against predicted   2 of 3 the same (66.7%)", "1   200 became 301   old   site.kibitz:6   /old", "1   /nwe/   linked on /")
	contains(t, errs, "access.log: 1 of 4 lines could not be read", "line 4: its request is not an HTTP request")

	contains(t, out, "access.log   4 lines   = 3 requests + 0 comments + 1 not read")

	for args, want := range map[string]string{
		"-only 404":                   "1 of 3 requests in",
		"-since 2026-10-11":           "2 of 3 requests in",
		"-until 2026-10-11T00:00:00Z": "1 of 3 requests in",
		"-only differs":               "1 of 3 requests in",
		"-only 500":                   "None of the requests is one of those that -only, -since and -until choose.",
	} {
		out, _, _ := kibitz(t, dir, "", append([]string{"replay", "access.log"}, strings.Fields(args)...)...)
		contains(t, out, want)
	}
}

func TestMachineFormats(t *testing.T) {
	dir := small(t)
	os.WriteFile(filepath.Join(dir, "access.log"), []byte(logged), 0o644)
	out, _, _ := kibitz(t, dir, "", "replay", "-as", "json", "access.log", "list.txt")
	var sums struct {
		Requests int
		Lists    []struct{ Lines, Requests, Comments, Skipped int }
		Unmet    int
		Recorded []struct{ Recorded int }
		Loops    struct{ Addresses []struct{ Address string } }
	}
	if err := json.Unmarshal([]byte(out), &sums); err != nil {
		t.Fatalf("%v in %s", err, out)
	}
	if sums.Requests != 6 || sums.Unmet != 1 || len(sums.Recorded) != 3 || len(sums.Loops.Addresses) != 1 || sums.Lists[0].Skipped != 1 {
		t.Errorf("json: %+v", sums)
	}

	out, _, status := kibitz(t, dir, "", "replay", "-as", "junit", "list.txt")
	var suite struct {
		Tests    int `xml:"tests,attr"`
		Failures int `xml:"failures,attr"`
	}
	if err := xml.Unmarshal([]byte(out), &suite); err != nil || suite.Tests != 3 || suite.Failures != 1 || status != 1 {
		t.Errorf("junit: %+v %v, status %d", suite, err, status)
	}
	out, _, _ = kibitz(t, dir, "", "replay", "-as", "tap", "list.txt")
	contains(t, out, "TAP version 13\n1..3\nok 1 - list.txt:1 GET https://s.example/\n", "not ok 3 - list.txt:3")

	os.WriteFile(filepath.Join(dir, "=list.txt"), []byte("=x\n/old\n"), 0o644)
	out, _, _ = kibitz(t, dir, "", "replay", "-each", "-as", "csv", "-list", "plain", "=list.txt")
	contains(t, out, "list,line,method,url,status,cause,by,location,ends,recorded,met,client,time,body\n'=list.txt,2,GET,https://s.example/old,301,redirect,old,/new/,arrived,,,,,\n")
	out, _, _ = kibitz(t, dir, "", "replay", "-as", "csv", "access.log")
	contains(t, out, "differs,,https://s.example/old,1,,,,,,301,old,site.kibitz:6,200\n")
}

// The sums for machines tell all that the report does.
func TestSumsAsJSON(t *testing.T) {
	dir := small(t)
	os.WriteFile(filepath.Join(dir, "access.log"), []byte(logged), 0o644)
	os.WriteFile(filepath.Join(dir, "list.txt"), []byte("/ => 200\n/old => 410\n"), 0o644)
	out, _, _ := kibitz(t, dir, "", "replay", "-as", "json", "access.log", "list.txt")
	var got struct {
		Requests int
		Lists    []struct{ Lines, Requests, Comments, Skipped int }
		Missing  struct {
			Addresses []struct {
				Address, Likeliest string
				From               []struct{ Page string }
			}
		} `json:"not_found"`
		Recorded []struct {
			Recorded  int
			Predicted any
			At        string
			Differs   bool
			Addresses []struct{ Address string }
		}
		Unmet      []struct{ Request string }   `json:"not_as_expected"`
		NotReached []struct{ Entry, At string } `json:"not_reached"`
		Bytes      map[string]struct{ Requests, Plain int }
	}
	if err := json.Unmarshal([]byte(out), &got); err != nil {
		t.Fatal(err, out)
	}
	want := `{5 [{4 3 0 1} {2 2 0 0}] {[{https://s.example/nwe/  [{https://s.example/}]}]} [{200 200  false []} {200 301 site.kibitz:6 true [{https://s.example/old}]} {404 404  false []}] [{https://s.example/old}] [{crew-secure site.kibitz:5}] map[text/html:{2 8} text/plain:{1 14}]}`
	if got := fmt.Sprint(got); got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
}

func TestTalliesOfManyDaysAddUp(t *testing.T) {
	dir := small(t)
	lines := strings.SplitAfter(strings.TrimSpace(logged), "\n")
	for name, text := range map[string]string{"all.log": logged, "a.log": lines[0] + lines[1], "b.log": lines[2] + lines[3] + "\n"} {
		os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644)
	}
	kibitz(t, dir, "", "replay", "a.log", "-save", "a.tally")
	kibitz(t, dir, "", "replay", "b.log", "-save", "b.tally")
	if _, errs, status := kibitz(t, dir, "", "replay", "b.log", "-save", "b.tally"); status != 2 || !strings.Contains(errs, "is there already") {
		t.Errorf("saved over a file: status %d, %s", status, errs)
	}
	merged, _, _ := kibitz(t, dir, "", "replay", "-merge", "a.tally", "b.tally")
	for list, from := range map[string]string{"a.log b.log": "   ", "all.log": "\n  status"} {
		whole, _, _ := kibitz(t, dir, "", append([]string{"replay"}, strings.Fields(list)...)...)
		_, a, _ := strings.Cut(merged, from)
		_, b, _ := strings.Cut(whole, from)
		if a != b || a == "" {
			t.Errorf("merged\n%s\nwhole\n%s", a, b)
		}
	}
	if _, errs, status := kibitz(t, dir, "", "replay", "-merge", "a.log"); status != 2 || !strings.Contains(errs, "not a saved tally") {
		t.Errorf("a log merged: status %d, %s", status, errs)
	}
}

// What visitors have at the end of a redirect is counted for each entry; that a list expects
// something makes no redirect of what is none.
func TestWhereRedirectsEnd(t *testing.T) {
	dir := write(t, map[string]string{"public/index.html": "home",
		"site.kibitz": "site s address https://s.example files public\nredirect good on /good to / as 301\nredirect dead on /dead/:x to /none/{x} as 302\nredirect away on /away to https://t.example/ as 302\n",
		"list.txt":    "/good => 301\n/dead/1 => 302\n/dead/2\n/away\n/none => 404\n/dead/known => 302 ends 404\n/ => 200\n"})
	out, _, _ := kibitz(t, dir, "", "replay", "list.txt", "-save", "tally")
	if _, dead, _ := strings.Cut(out, "\nDead ends"); !strings.HasPrefix(dead, "   redirected, and then not found, or answered with an error\n\n  2   to 404   dead   site.kibitz:3\n\n") {
		t.Errorf("%s", out)
	}
	contains(t, out, "To do   1. Give redirects a target that is there, first dead (site.kibitz:3): 2 requests end at what is not.")
	for _, args := range [][]string{{"list.txt"}, {"-merge", "tally"}} {
		sums, errs, _ := kibitz(t, dir, "", append([]string{"replay", "-as", "json"}, args...)...)
		var got struct {
			Outcomes []struct {
				By   string
				Ends map[string]int
			}
		}
		if err := json.Unmarshal([]byte(sums), &got); err != nil {
			t.Fatal(err, errs)
		}
		ends := map[string]map[string]int{}
		for _, o := range got.Outcomes {
			if o.Ends != nil {
				ends[o.By] = o.Ends
			}
		}
		if want := "map[away:map[left:1] dead:map[404:2] good:map[200:1]]"; fmt.Sprint(ends) != want {
			t.Errorf("%v ends %v, want %s", args, ends, want)
		}
	}
	page, _, _ := kibitz(t, dir, "", "replay", "-as", "html", "list.txt")
	contains(t, page, "25.0% of the 4 requests that are sent on arrive at a page", `<svg class="flow"`, "another site  1", "<title>dead, 404: 2 requests</title>")
}

// In the drawing of redirects only requests that are sent on are counted, whatever else no
// entry decides; and a redirect that no entry makes is named without a place.
func TestTheFlowIsOfRedirectsAlone(t *testing.T) {
	line := func(path string, status int) string {
		return fmt.Sprintf("192.0.2.1 - - [10/Oct/2026:13:55:36 +0000] \"GET %s HTTP/1.1\" %d 1 \"-\" \"reader\"\n", path, status)
	}
	dir := write(t, map[string]string{"public/index.html": "home", "public/a/index.html": "a", "public/b/x.txt": "b", "site.kibitz": "site s address https://s.example files public\n",
		"access.log": strings.Repeat(line("/", 200), 5) + line("/a", 301) + line("/a", 200) + strings.Repeat(line("/none", 404), 4)})
	page, _, _ := kibitz(t, dir, "", "replay", "access.log", "-as", "html")
	contains(t, page, "<title>200, (slash): 1 request</title>", "<title>301, (slash): 1 request</title>", "<title>(slash), 200: 2 requests</title>")
	if strings.Contains(page, "<title>404") {
		t.Errorf("what is not sent on is drawn in\n%s", page)
	}
	os.RemoveAll(filepath.Join(dir, "public", "a", "index.html"))
	os.WriteFile(filepath.Join(dir, "site.kibitz"), []byte("site s address https://s.example files public\nreply none on /a/ with 410\n"), 0o644)
	out, _, _ := kibitz(t, dir, "", "replay", "access.log")
	contains(t, out, "a target that is there, first (slash): 2 requests end at what is not.")
}

// Parts of one list, counted apart, are the list as a whole; what is missing is named.
func TestPartsOfAListAddUp(t *testing.T) {
	dir := small(t)
	lines := strings.Repeat(logged, 40) + "no line of a log\n" + logged
	os.WriteFile(filepath.Join(dir, "all.log"), []byte(lines), 0o644)
	var tallies []string
	for k := range 7 {
		part, name := fmt.Sprintf("%d/7", 7-k), fmt.Sprint(7-k, ".tally")
		if out, errs, status := kibitz(t, dir, "", "replay", "-part", part, "all.log", "-save", name); status > 1 || !strings.Contains(out, "all.log, part "+fmt.Sprint(7-k)+" of 7") {
			t.Fatalf("part %s: status %d, %s%s", part, status, out, errs)
		}
		tallies = append(tallies, name)
	}
	merge := func(args ...string) (out, errs string, status int) {
		return kibitz(t, dir, "", append([]string{"replay", "-merge"}, args...)...)
	}
	for _, form := range []string{"text", "json"} {
		whole, wholeErrs, _ := kibitz(t, dir, "", "replay", "all.log", "-as", form)
		merged, errs, _ := merge(append(tallies, "-as", form)...)
		cut := func(s string) string { // the time that it took
			return regexp.MustCompile(`in \S+ \S+ `).ReplaceAllString(s, "")
		}
		if cut(merged) != cut(whole) || errs != wholeErrs || !strings.Contains(errs, "all.log: 42 of 165 lines could not be read:\n  line 4:") {
			t.Errorf("merged\n%s%s\nwhole\n%s%s", merged, errs, whole, wholeErrs)
		}
	}
	merge(append(tallies[:3:3], "-save", "some.tally")...)
	if some, _, _ := merge("some.tally"); !strings.Contains(some, "all.log, part 7 of 7") || strings.Contains(some, "part 4 of 7") {
		t.Errorf("three of the parts\n%s", some)
	}
	if _, errs, status := merge("some.tally", tallies[3], tallies[1]); status != 2 || !strings.Contains(errs, "6.tally counts all.log, part 6 of 7, and so does a tally before it") {
		t.Errorf("a part twice: status %d, %s", status, errs)
	}
	os.WriteFile(filepath.Join(dir, "list.csv"), []byte("url\n/a\n"), 0o644)
	for _, test := range []struct{ args, message string }{
		{"-part 1/2 list.csv", "-part takes lists whose lines stand for themselves"},
		{"-part 1/2 -", "-part reads a part of a file: standard input is not one"},
		{"-part 3/2 all.log", "write it as K/N"},
		{"-part 1 all.log", "write it as K/N"},
		{"-part 1/2 -every-file", "-part is of lists"},
	} {
		if _, errs, status := kibitz(t, dir, "", append([]string{"replay"}, strings.Fields(test.args)...)...); status != 2 || !strings.Contains(errs, test.message) {
			t.Errorf("%s: status %d, %s", test.args, status, errs)
		}
	}
}

func TestEveryFileAndHeadersOfTheWholeList(t *testing.T) {
	dir := small(t)
	book := filepath.Join(dir, "site.kibitz")
	text, _ := os.ReadFile(book)
	os.WriteFile(book, append(text, "access bots when agent *bot* refuse\n"...), 0o644)
	out, _, _ := kibitz(t, dir, "", "replay", "-every-file")
	contains(t, out, "8 requests in", "every file   8 files   = 8 requests + 0 comments + 0 not read")
	out, _, _ = kibitz(t, dir, "/\n", "replay", "-header", "User-Agent: a bot", "-")
	contains(t, out, "bots 1")
}

func TestAnInterruptedReplaySaysWhatItHas(t *testing.T) {
	dir := small(t)
	c := exec.Command(program, "replay", "-list", "log", "-")
	c.Dir = dir
	in, _ := c.StdinPipe()
	var out, errs strings.Builder
	c.Stdout, c.Stderr = &out, &errs
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	in.Write([]byte(strings.Repeat(strings.SplitAfter(logged, "\n")[0], 20_000)))
	time.Sleep(200 * time.Millisecond)
	c.Process.Signal(os.Interrupt)
	time.Sleep(100 * time.Millisecond)
	in.Close()
	err := c.Wait()
	if c.ProcessState.ExitCode() != 2 || !strings.Contains(errs.String(), "interrupted") || !strings.Contains(out.String(), "partial") {
		t.Errorf("%v\n%s\n%s", err, out.String(), errs.String())
	}
}

// What changes while a rulebook is still looked at is seen as well as what changes later.
func TestWatchSeesWhatChangesMeanwhile(t *testing.T) {
	long := "site s\n address https://s.example\n"
	for i := range 800 { // which takes a moment
		long += fmt.Sprintf("redirect a%d on /:x/a%d to /x/%d as 302\nredirect b%d on /b%d/:y to /y/%d as 302\n", i, i, i, i, i, i)
	}
	for range 3 {
		dir := write(t, map[string]string{"site.kibitz": long})
		c, out, _ := started(t, dir, "check", "-watch", "-top", "1")
		time.Sleep(100 * time.Millisecond)
		os.WriteFile(filepath.Join(dir, "site.kibitz"), []byte("site s\n address https://s.example\nredirect a on /a to /b as 302\n"), 0o644)
		until(t, "the result of what is there now", func() bool { return strings.Contains(out.String(), "site.kibitz: 1 entry for 1 site") })
		c.Process.Signal(os.Interrupt)
		c.Wait()
	}
}

func TestWatchDoesItAgain(t *testing.T) {
	dir := small(t)
	c := exec.Command(program, "check", "-watch")
	c.Dir = dir
	var out strings.Builder
	c.Stdout = &out
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	wait := func(what string) {
		for range 1200 {
			if strings.Contains(out.String(), what) {
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
		t.Errorf("%q never came:\n%s", what, out.String())
	}
	wait("1 error")
	book := filepath.Join(dir, "site.kibitz")
	text, _ := os.ReadFile(book)
	os.WriteFile(book, []byte(strings.Replace(string(text), "in /crew/ ", "in /crew/ when scheme http ", 1)), 0o644)
	wait("entries for 1 site: 2 notes")
	c.Process.Signal(os.Interrupt)
	c.Wait()
}

// Each request of the list is of the outcomes that stand behind it, and of no others.
func TestOnlyChoosesByOutcome(t *testing.T) {
	dir := harbourIn(t, situation{rules: `
redirect a     on /a     to /b     as 302
redirect b     on /b     to /none  as 302
redirect round on /round to /round as 302
redirect far   on /on/*  to /on/on/{1} as 302
redirect down  on /down  to http://s.example/fares/ as 302
redirect bad   on /bad   to /{query.x} as 302
rewrite  again on /again to /again then again
reply    tea   on /tea   with 418`})
	requests := []struct{ asks, outcomes string }{
		{"/a", "a 302 3xx chain missing-target"},
		{"/b", "b 302 3xx missing-target"},
		{"/round", "round 302 3xx loop redirect-loop"},
		{"/on/x", "far 302 3xx loop runaway chain"},
		{"/down", "down 302 3xx downgrade"},
		{"POST /down", "down 302 3xx downgrade method-lost"},
		{"/bad?x=%2e%2e%2fa", "bad 500 5xx bad-target"},
		{"/again", "again 500 5xx rewrite-loop"},
		{"/tea => 200", "TEA 418 4xx unmet"},
		{"/about.html", "200 2xx"},
	}
	list := ""
	for _, r := range requests {
		list += r.asks + "\n"
	}
	for _, word := range strings.Fields("a b round far down bad again TEA 200 302 418 500 2xx 3xx 4xx 5xx chain missing-target loop redirect-loop runaway downgrade method-lost bad-target rewrite-loop unmet differs") {
		want := ""
		for _, r := range requests {
			if slices.Contains(strings.Fields(r.outcomes), word) {
				asks, _, _ := strings.Cut(r.asks, " =>")
				method, path, ok := strings.Cut(asks, " ")
				if !ok {
					method, path = "GET", asks
				}
				want += method + " https://s.example" + path + "\n"
			}
		}
		out, errs, _ := kibitz(t, dir, list, "replay", "-each", "-as", "csv", "-only", word, "-")
		got := ""
		for _, line := range strings.Split(strings.TrimSpace(out), "\n")[1:] {
			cells := strings.Split(line, ",")
			got += cells[2] + " " + cells[3] + "\n"
		}
		if got != want {
			t.Errorf("-only %s:\n%swant\n%s%s", word, got, want, errs)
		}
	}
	if _, errs, status := kibitz(t, dir, list, "replay", "-only", "lop", "-"); status != 2 || !strings.Contains(errs, "no entry has this name") {
		t.Errorf("status %d: %s", status, errs)
	}
}

// What is expected and does not come is said in words, each at its line.
func TestExpectationsThatAreNotMet(t *testing.T) {
	expected := []struct{ asks, unmet string }{
		{"/about.html => 301", "status 301 expected, 200 predicted"},
		{"/about.html => 4xx", "status 4xx expected, 200 predicted"},
		{"/about.html => app", "status app expected, 200 predicted"},
		{"/old => 301 /boats/", "Location /boats/ expected, /fares/ predicted"},
		{"/about.html => 200 /fares/", "Location /fares/ expected, none predicted"},
		{"/old => 301 by new", "decided by new expected, by old predicted"},
		{"/about.html => 200 by old", "decided by old expected, by none predicted"},
		{"/none => 404 cause refused", "cause refused expected, missing predicted"},
		{"/ => 200 file /about.html", "file /about.html expected, /index.html predicted"},
		{"/none => 404 file /about.html", "file /about.html expected, none predicted"},
		{"/ => 200 X-Pier: 2", "X-Pier: 2 expected, 1 predicted"},
		{"/ => 200 X-Quay: 2", "X-Quay: 2 expected, none predicted"},
		{"/ => 200 without X-Pier", "no X-Pier expected, \"1\" predicted"},
		{"/old => 301 loop", "a loop expected, the visit ends with 200 at https://s.example/fares/"},
		{"/old => 301 ends 404", "the visit should end with 404, and ends with 200 at https://s.example/fares/"},
		{"/old => 301 ends /boats/", "the visit should end with /boats/, and ends with 200 at https://s.example/fares/"},
		{"/away => 302 ends 200", "the visit should end with 200, and leaves the site for https://tides.example/"},
		{"/round => 302 ends 200", "the visit should end with 200, and is an endless loop"},
		{"/book => app ends 200", "the visit should end with 200, and ends with app at https://s.example/book"},
	}
	s := situation{rules: "redirect old on /old to /fares/ as 301\nredirect away on /away to https://tides.example/ as 302\nredirect round on /round to /round as 302\nhandoff book on /book\nheader pier set X-Pier 1"}
	for _, e := range expected {
		s.list += e.asks + "\n"
	}
	dir := harbourIn(t, s)
	out, _, status := kibitz(t, dir, "", "replay", "-each", "-as", "jsonl", "list.txt")
	lines := strings.Split(strings.TrimSpace(out), "\n")
	if status != 1 || len(lines) != len(expected) {
		t.Fatalf("status %d, %d lines", status, len(lines))
	}
	for i, e := range expected {
		var r struct{ Unmet []string }
		if err := json.Unmarshal([]byte(lines[i]), &r); err != nil || len(r.Unmet) == 0 || r.Unmet[0] != e.unmet {
			t.Errorf("%s: %q, want %q", e.asks, r.Unmet, e.unmet)
		}
	}
	text, _, _ := kibitz(t, dir, "", "replay", "-each", "list.txt")
	contains(t, text, "301 GET     https://s.example/old   /fares/   old   UNMET: Location /boats/ expected, /fares/ predicted", "302 GET     https://s.example/round   /round (loop)   round", "app GET     https://s.example/book      book")
}

// A log says nothing of the host and scheme that it is of: -base does.
func TestPathsAreAskedOfTheBase(t *testing.T) {
	rules := "redirect secure when scheme http to https://{host}{path} as permanent\n" +
		"site boats address https://boats.example hosts *.boats.example\naccess crew when client 203.0.113.9 refuse\nreply deck on /deck with 200 text {host}"
	log := `203.0.113.9 - - [10/Oct/2026:13:55:00 +0000] "GET /deck HTTP/1.1" 200 7` + "\n" + `192.0.2.1 - - [10/Oct/2026:13:55:00 +0000] "GET /deck?x HTTP/1.1" 200 7` + "\n"
	dir := harbourIn(t, situation{rules: rules, list: "/deck"})
	for _, test := range []struct{ base, want string }{
		{"", "404 https://s.example/deck|404 https://s.example/deck?x"},
		{"http://s.example", "301 http://s.example/deck|301 http://s.example/deck?x"},
		{"https://boats.example/", "403 https://boats.example/deck|200 https://boats.example/deck?x"},
		{"https://tern.boats.example", "403 https://tern.boats.example/deck|200 https://tern.boats.example/deck?x"},
		{"boats.example", "-base is the URL of a site, without a path"},
		{"https://boats.example/deck", "-base is the URL of a site, without a path"},
		{"https://stranger.example", "no site of the rulebook answers for stranger.example"},
	} {
		out, errs, status := kibitz(t, dir, log, "replay", "-base", test.base, "-each", "-as", "jsonl", "-")
		var got []string
		for _, line := range strings.Split(strings.TrimSpace(out), "\n") {
			var l struct {
				Status int
				URL    string
			}
			if json.Unmarshal([]byte(line), &l) == nil {
				got = append(got, fmt.Sprint(l.Status, " ", l.URL))
			}
		}
		if status == 2 {
			got = []string{errs}
		}
		if s := strings.Join(got, "|"); !strings.Contains(s, test.want) {
			t.Errorf("-base %s: %s, want %s", test.base, s, test.want)
		}
		// The sums come by another road.
		out, _, _ = kibitz(t, dir, log, "replay", "-base", test.base, "-as", "json", "-")
		for _, want := range strings.Split(test.want, "|") {
			if code, _, ok := strings.Cut(want, " http"); ok && !strings.Contains(out, `"status": `+code+`,`) {
				t.Errorf("-base %s: no %s among the sums: %s", test.base, code, out)
			}
		}
	}
}
