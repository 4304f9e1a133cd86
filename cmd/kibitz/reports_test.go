package main

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// A day of the harbour's log: request, status, and, where they matter, referrer
// and client.
const harbourDay = `
GET / | 200
GET / | 200
GET / | 200
GET / | 200
GET / | 200
GET /fares/?day=1 | 200
GET /fares/?day=1 | 200
GET /fares/?day=1 | 200
GET /fares | 301
GET /fares.php | 404
GET /fares.php?x=1 | 301
GET /old/fares.php | 301
GET /old/boats.php | 301
GET /round | 302
GET /about/ | 200
GET /boats/ternn.html | 404 | https://s.example/boats/
GET /boats/ternn.html | 404 | https://s.example/
GET /boats/ternn.html | 404
GET /wp/<script> | 404
GET /none | 404 | https://other.example/x
GET /none | 200
GET /crew/rota.html | 200
GET /crew/rota.html | 200 | - | 192.0.2.7
GET /b/tern | 200
HEAD /b/tern | 200
POST /planner/x | 405
GET /planner/x | 200
GET /webcam | 410
OPTIONS * | 204
GET /styles/site.css | 200
GET /photos/pier.jpg | 304
`

// harbourLog writes the day as an access log, with lines that are no requests.
func harbourLog() string {
	var b strings.Builder
	for i, row := range strings.Split(strings.TrimSpace(harbourDay), "\n") {
		parts := append(strings.Split(row, " | "), "-", "203.0.113.9")
		if len(parts) == 5 { // a referrer of its own
			parts = append(parts[:3], "203.0.113.9")
		}
		fmt.Fprintf(&b, "%s - - [10/Oct/2026:13:55:%02d +0000] \"%s HTTP/1.1\" %s 100 \"%s\" \"Reader\x1b[31m/1.0\"\n", parts[3], i, parts[0], parts[1], parts[2])
	}
	return b.String() + "garbage\n# a comment\n\n203.0.113.9 - - [10/Oct/2026:13:56:00 +0000] \"\\x16\\x03\" 400 0 \"-\" \"-\"\n"
}

const harbourRules = `redirect secure   when scheme http to https://{host}{path} as permanent
redirect old      on /old/:page.php to /{page} as permanent
redirect round    on /round to /about/ as temporary
redirect and      on /about/ to /round as temporary
moves    m        table moves.csv as permanent
access   crew     in /crew/ unless client 192.0.2.0/24 refuse
rewrite  boat     on /b/:name to /boats/{name}.html
fallback planner  in /planner/ to /planner/index.html
error    lost     for 404 show /errors/404.html
compress text     using br gzip types text/*
header   kept     for 200 default Cache-Control no-cache`

// The whole report of a replay, as it is read.
func TestWhatReplaySays(t *testing.T) {
	dir := harbourIn(t, situation{rules: harbourRules})
	out, errs, status := kibitz(t, dir, harbourLog(), "replay", "-list", "log", "-color", "never", "-")
	out = regexp.MustCompile(`requests in \S+ \S+`).ReplaceAllString(out, "requests in T")
	if want := strings.TrimPrefix(harbourReport, "\n"); out != want || status != 1 {
		t.Errorf("status %d\n%s\nwant\n%s", status, out, want)
	}
	if want := harbourSkips; errs != want {
		t.Errorf("%s\nwant\n%s", errs, want)
	}
}

const harbourReport = `
31 requests in T   2 loops   6 not found   2 lines not read

  standard input   35 lines   = 31 requests + 2 comments + 2 not read

  To do   1. Fix the loop at /about/, whose entry kibitz check names: 2 requests.
          2. Correct your own links to what is missing, first /boats/ternn.html (perhaps /boats/tern.html) on /: 2
             requests.
          3. Redirect what other sites link to, or answer 410, first /none from https://other.example/x: 1 request.

  status   requests   share   decided by
  200            14   45.2%   (document) 8   (file) 5   planner 1
  204             1    3.2%   (options) 1
  301             5   16.1%   m 2   old 2   (slash) 1
  302             2    6.5%   and 1   round 1
  403             1    3.2%   crew 1
  404             6   19.4%   (missing) 6
  405             1    3.2%   (method) 1
  410             1    3.2%   m 1

Recorded against predicted   27 of 31 the same (87.1%)

  recorded   200   204   301   302   403   404   405   410
       200    13     .     .     1     1     1     .     .
       204     .     1     .     .     .     .     .     .
       301     .     .     4     .     .     .     .     .
       302     .     .     .     1     .     .     .     .
       304     1     .     .     .     .     .     .     .
       404     .     .     1     .     .     5     .     .
       405     .     .     .     .     .     .     1     .
       410     .     .     .     .     .     .     .     1

Differences   answered differently from what the rulebook says, by what decides

  1   200 became 302   and         site.kibitz:9    /about/
  1   200 became 403   crew        site.kibitz:11   /crew/rota.html
  1   200 became 404   (missing)                    /none
  1   404 became 301   m           site.kibitz:10   /fares.php

Loops   visitors are caught in an endless loop

  1   /about/
  1   /round

  Try one    kibitz trace /about/

Chains   more than one redirect before the visitor arrives

  1   /old/boats.php
  1   /old/fares.php

  Try one    kibitz trace /old/boats.php

Not found   answered 404, and the list did not expect that

  3   /boats/ternn.html   linked on / (1) and 1 more page; perhaps /boats/tern.html
  2   /none               from https://other.example/x (1)
  1   /wp/<script>

  Try one    kibitz trace /boats/ternn.html

Entries   by the requests that they decided, and when they did last (UTC)

  3   9.7%   2026-10-10 13:55   m         site.kibitz:10   the table's addresses
  2   6.5%   2026-10-10 13:55   old       site.kibitz:7    on /old/:page.php
  1   3.2%   2026-10-10 13:55   round     site.kibitz:8    on /round
  1   3.2%   2026-10-10 13:55   and       site.kibitz:9    on /about/
  1   3.2%   2026-10-10 13:55   crew      site.kibitz:11   in /crew/ unless client 192.0.2.0/24
  1   3.2%   2026-10-10 13:55   planner   site.kibitz:13   in /planner/

Not reached   1 entry that decided no request of the list

  secure (site.kibitz:6)

Bytes   of bodies, by media type: as the files are, and as they are sent

  type         requests     size     sent   saved
  text/html          18   14,034   14,034
  image/jpeg          1    9,000    9,000
  text/css            1    2,000    2,000
  text/plain          3       46       46
  all                23   25,080   25,080

Could be smaller   sent uncompressed, and what br would make of it

  file                  requests    size   br   saved
  /index.html                  5   1,500   40   97.3%
  /fares/index.html            3   1,200   40   96.7%
  /styles/site.css             1   2,000   40   98.0%
  /boats/tern.html             2     640   40   93.8%
  /planner/index.html          1   1,100   40   96.4%

  They were asked for without Accept-Encoding, or no compress entry takes them.
  What browsers get    kibitz replay -header 'Accept-Encoding: gzip, br' LIST
`

const harbourSkips = `
standard input: 2 of 35 lines could not be read:
  line 32: it is not a line of an access log: there is no [time] followed by a quoted request
  line 35: its request is not an HTTP request
`

// TestExamplesAsTests gives the examples of the rulebook as tests, and errors as failed ones.
func TestExamplesAsTests(t *testing.T) {
	dir := write(t, map[string]string{"site.kibitz": `site s address https://s.example
redirect a on /a to /b as 301
    example /a => 301 /b
    example /a?x => 404
redirect loop on /l to /l as 302
`})
	out, _, status := kibitz(t, dir, "", "check", "-as", "tap")
	want := `TAP version 13
1..3
ok 1 - site.kibitz:3 a example /a
not ok 2 - site.kibitz:4 a example /a?x
  ---
  message: "status 404 expected, 301 predicted"
  ...
not ok 3 - site.kibitz:5 redirect-loop
`
	if status != 1 || !strings.HasPrefix(out, want) {
		t.Errorf("got %d\n%s\nwant\n%s", status, out, want)
	}
	out, _, _ = kibitz(t, dir, "", "check", "-as", "junit")
	contains(t, out, `<testsuite name="kibitz check" tests="3" failures="2">`, `<testcase name="site.kibitz:3 a example /a" classname="check"></testcase>`)
	os.WriteFile(filepath.Join(dir, "site.kibitz"), []byte("site s\nredirct\n"), 0o644)
	out, _, status = kibitz(t, dir, "", "check", "-as", "tap")
	if status != 2 || !strings.Contains(out, "not ok 1 - site.kibitz:") {
		t.Errorf("of a text with mistakes: %d\n%s", status, out)
	}
}
