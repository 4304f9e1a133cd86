package main

import (
	"strings"
	"testing"
)

// What trace says of a request: each entry that was looked at, what decided, and
// how long browsers keep it.
func TestWhatTraceSays(t *testing.T) {
	dir := harbourIn(t, situation{rules: `limit    all      url 60B
redirect secure   when scheme http to https://{host}{path} as permanent
redirect name     when host www.s.example to https://s.example{path} as permanent
access   crew     in /crew/ unless client 192.0.2.0/24 refuse
access   robots   when agent *Hoover* refuse 404
redirect fares    on /fares.php to /fares/ as permanent query only day
redirect season   on /timetable/:season(\w+).php when time before 2027-01-01 to /fares/?s={season} as temporary
rewrite  boat     on /b/:name to /boats/{name}.html
fallback planner  in /planner/ to /planner/{query.page}.html /planner/index.html
error    lost     for 404 show /errors/404.html
error    shut     for 403 text "Shut: {path}"
folder   photos   in /photos/ listing on
header   safe     set X-Frame-Options DENY
header   css      in /styles/ for 200 default Cache-Control no-cache
compress text     using br gzip types text/*
moves    m        table moves.csv as permanent
handoff  booking  in /booking/ to http://127.0.0.1:9
reply    gone     on /gone* with 410 text "It is gone."
`})
	for _, test := range []struct{ asks, says string }{
		{`/fares.php?day=1&x=2`, `
  -  secure   site.kibitz:7    when scheme http: it is https
  -  name     site.kibitz:8    when host www.s.example: it is s.example
  -  1 entry is for another path: crew (9)
  -  robots   site.kibitz:10   when agent *Hoover*: there is none
  +  fares    site.kibitz:11   answers 301 to /fares/?day=1
  +  safe     site.kibitz:18   sets X-Frame-Options: DENY
  -  1 entry is for another path: css (19)
  =  301 decided by fares, site.kibitz:11; the cause is redirect
     redirect fares on /fares.php to /fares/ as permanent query only day
     cached by browsers for good: no header limits it
`},
		{`http://s.example/`, `
  +  secure   site.kibitz:7    answers 301 to https://s.example/
  +  safe     site.kibitz:18   sets X-Frame-Options: DENY
  -  1 entry is for another path: css (19)
  =  301 decided by secure, site.kibitz:7; the cause is redirect
     redirect secure when scheme http to https://{host}{path} as permanent
     cached by browsers for good: no header limits it
`},
		{`-client 192.0.2.7 /crew/rota.html`, `
  -  secure   site.kibitz:7    when scheme http: it is https
  -  name     site.kibitz:8    when host www.s.example: it is s.example
  -  crew     site.kibitz:9    unless client 192.0.2.0/24: it is 192.0.2.7
  -  robots   site.kibitz:10   when agent *Hoover*: there is none
  -  6 entries are for other paths: fares (11)   season (12)   boat (13)   m (21)   booking (22)   gone (23)
  +  the tree has the file /crew/rota.html
  +  safe     site.kibitz:18   sets X-Frame-Options: DENY
  -  1 entry is for another path: css (19)
  =  200 decided by no entry; the cause is file
     cached as each browser sees fit, often a tenth of its age: nothing says how long (RFC 9111, 4.2.2)
`},
		{`/crew/rota.html`, `
  -  secure   site.kibitz:7    when scheme http: it is https
  -  name     site.kibitz:8    when host www.s.example: it is s.example
  +  crew     site.kibitz:9    refuses with 403
  +  shut     site.kibitz:16   shows its text
  +  safe     site.kibitz:18   sets X-Frame-Options: DENY
  -  1 entry is for another path: css (19)
  =  403 decided by crew, site.kibitz:9; the cause is refused
     access crew in /crew/ unless client 192.0.2.0/24 refuse
     not cached
`},
		{`-header 'User-Agent: PageHoover' /`, `
  -  secure   site.kibitz:7    when scheme http: it is https
  -  name     site.kibitz:8    when host www.s.example: it is s.example
  -  1 entry is for another path: crew (9)
  +  robots   site.kibitz:10   refuses with 404
  +  lost     site.kibitz:15   shows /errors/404.html
  +  safe     site.kibitz:18   sets X-Frame-Options: DENY
  -  1 entry is for another path: css (19)
  =  404 decided by robots, site.kibitz:10; the cause is refused
     access robots when agent *Hoover* refuse 404
     cached as each browser sees fit: nothing says how long
`},
		{`/b/tern`, `
  -  secure   site.kibitz:7    when scheme http: it is https
  -  name     site.kibitz:8    when host www.s.example: it is s.example
  -  1 entry is for another path: crew (9)
  -  robots   site.kibitz:10   when agent *Hoover*: there is none
  -  2 entries are for other paths: fares (11)   season (12)
  +  boat     site.kibitz:13   the path becomes /boats/tern.html
  -  3 entries are for other paths: m (21)   booking (22)   gone (23)
  +  the tree has the file /boats/tern.html
  +  safe     site.kibitz:18   sets X-Frame-Options: DENY
  -  1 entry is for another path: css (19)
  =  200 decided by no entry; the cause is file
     cached as each browser sees fit, often a tenth of its age: nothing says how long (RFC 9111, 4.2.2)
`},
		{`/b/gull`, `
  -  secure   site.kibitz:7    when scheme http: it is https
  -  name     site.kibitz:8    when host www.s.example: it is s.example
  -  1 entry is for another path: crew (9)
  -  robots   site.kibitz:10   when agent *Hoover*: there is none
  -  2 entries are for other paths: fares (11)   season (12)
  +  boat     site.kibitz:13   the path becomes /boats/gull.html
  -  3 entries are for other paths: m (21)   booking (22)   gone (23)
  +  the tree has nothing there
  -  1 entry is for another path: planner (14)
  +  lost     site.kibitz:15   shows /errors/404.html
  +  safe     site.kibitz:18   sets X-Frame-Options: DENY
  -  1 entry is for another path: css (19)
  =  404 decided by no entry; the cause is missing
     cached as each browser sees fit: nothing says how long
`},
		{`/planner/x?page=none`, `
  -  secure    site.kibitz:7    when scheme http: it is https
  -  name      site.kibitz:8    when host www.s.example: it is s.example
  -  1 entry is for another path: crew (9)
  -  robots    site.kibitz:10   when agent *Hoover*: there is none
  -  6 entries are for other paths: fares (11)   season (12)   boat (13)   m (21)   booking (22)   gone (23)
  +  the tree has nothing there
  +  planner   site.kibitz:14   /planner/none.html is not a file of the tree
  +  planner   site.kibitz:14   /planner/index.html is served
  +  safe      site.kibitz:18   sets X-Frame-Options: DENY
  -  1 entry is for another path: css (19)
  =  200 decided by planner, site.kibitz:14; the cause is fallback
     fallback planner in /planner/ to /planner/{query.page}.html /planner/index.html
     cached as each browser sees fit, often a tenth of its age: nothing says how long (RFC 9111, 4.2.2)
`},
		{`/photos/`, `
  -  secure   site.kibitz:7    when scheme http: it is https
  -  name     site.kibitz:8    when host www.s.example: it is s.example
  -  1 entry is for another path: crew (9)
  -  robots   site.kibitz:10   when agent *Hoover*: there is none
  -  6 entries are for other paths: fares (11)   season (12)   boat (13)   m (21)   booking (22)   gone (23)
  +  photos   site.kibitz:17   a folder: it is listed
  +  safe     site.kibitz:18   sets X-Frame-Options: DENY
  -  1 entry is for another path: css (19)
  =  200 decided by photos, site.kibitz:17; the cause is listing
     folder photos in /photos/ listing on
     cached as each browser sees fit: nothing says how long
`},
		{`/photos`, `
  -  secure   site.kibitz:7    when scheme http: it is https
  -  name     site.kibitz:8    when host www.s.example: it is s.example
  -  1 entry is for another path: crew (9)
  -  robots   site.kibitz:10   when agent *Hoover*: there is none
  -  6 entries are for other paths: fares (11)   season (12)   boat (13)   m (21)   booking (22)   gone (23)
  +  a folder: answers 301 to /photos/
  +  safe     site.kibitz:18   sets X-Frame-Options: DENY
  -  1 entry is for another path: css (19)
  =  301 decided by no entry; the cause is slash
     cached by browsers for good: no header limits it
`},
		{`-method POST /`, `
  -  secure   site.kibitz:7    when scheme http: it is https
  -  name     site.kibitz:8    when host www.s.example: it is s.example
  -  1 entry is for another path: crew (9)
  -  robots   site.kibitz:10   when agent *Hoover*: there is none
  -  6 entries are for other paths: fares (11)   season (12)   boat (13)   m (21)   booking (22)   gone (23)
  +  files take GET, HEAD, OPTIONS, not POST
  +  safe     site.kibitz:18   sets X-Frame-Options: DENY
  -  1 entry is for another path: css (19)
  =  405 decided by no entry; the cause is method
     not cached: only answers to GET and HEAD are
`},
		{`-header 'Accept-Encoding: br' /styles/site.css`, `
  -  secure   site.kibitz:7    when scheme http: it is https
  -  name     site.kibitz:8    when host www.s.example: it is s.example
  -  1 entry is for another path: crew (9)
  -  robots   site.kibitz:10   when agent *Hoover*: there is none
  -  6 entries are for other paths: fares (11)   season (12)   boat (13)   m (21)   booking (22)   gone (23)
  +  the tree has the file /styles/site.css
  +  text     site.kibitz:20   encoded as br: 2% of its size
  +  safe     site.kibitz:18   sets X-Frame-Options: DENY
  +  css      site.kibitz:19   sets Cache-Control: no-cache
  =  200 decided by no entry; the cause is file
     cached, but checked again each time (no-cache)
`},
		{`/../x`, `
  +  the path climbs above the root with its .. segments
  =  400 decided by no entry; the cause is bad-request
     not cached
`},
		{`https://t.example/`, `
  +  no site answers for t.example
  =  421 decided by no entry; the cause is unknown-host
     not cached
`},
		{`-time 2027-06-01 /timetable/winter.php`, `
  -  secure   site.kibitz:7    when scheme http: it is https
  -  name     site.kibitz:8    when host www.s.example: it is s.example
  -  1 entry is for another path: crew (9)
  -  robots   site.kibitz:10   when agent *Hoover*: there is none
  -  1 entry is for another path: fares (11)
  -  season   site.kibitz:12   when time before 2027-01-01: it is 2027-06-01T00:00:00Z
  -  4 entries are for other paths: boat (13)   m (21)   booking (22)   gone (23)
  +  the tree has nothing there
  -  1 entry is for another path: planner (14)
  +  lost     site.kibitz:15   shows /errors/404.html
  +  safe     site.kibitz:18   sets X-Frame-Options: DENY
  -  1 entry is for another path: css (19)
  =  404 decided by no entry; the cause is missing
     cached as each browser sees fit: nothing says how long
`},
		{`-time 2026-06-01 /timetable/winter.php`, `
  -  secure   site.kibitz:7    when scheme http: it is https
  -  name     site.kibitz:8    when host www.s.example: it is s.example
  -  1 entry is for another path: crew (9)
  -  robots   site.kibitz:10   when agent *Hoover*: there is none
  -  1 entry is for another path: fares (11)
  +  season   site.kibitz:12   answers 302 to /fares/?s=winter
  +  safe     site.kibitz:18   sets X-Frame-Options: DENY
  -  1 entry is for another path: css (19)
  =  302 decided by season, site.kibitz:12; the cause is redirect
     redirect season on /timetable/:season(\w+).php when time before 2027-01-01 to /fares/?s={season} as temporary
     not cached by browsers
`},
		{`/aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa`, `
  +  all    site.kibitz:6    the URL has 77 bytes, and 60 are allowed
  +  safe   site.kibitz:18   sets X-Frame-Options: DENY
  -  1 entry is for another path: css (19)
  =  414 decided by all, site.kibitz:6; the cause is too-large
     limit all url 60B
     cached as each browser sees fit: nothing says how long
`},
		{`-header 'Range: bytes=0-9' /about.html`, `
  -  secure   site.kibitz:7    when scheme http: it is https
  -  name     site.kibitz:8    when host www.s.example: it is s.example
  -  1 entry is for another path: crew (9)
  -  robots   site.kibitz:10   when agent *Hoover*: there is none
  -  6 entries are for other paths: fares (11)   season (12)   boat (13)   m (21)   booking (22)   gone (23)
  +  the tree has the file /about.html
  +  a part is sent: bytes 0 to 9 of 900
  +  safe     site.kibitz:18   sets X-Frame-Options: DENY
  -  1 entry is for another path: css (19)
  =  206 decided by no entry; the cause is range
     cached as each browser sees fit, often a tenth of its age: nothing says how long (RFC 9111, 4.2.2)
`},
		{`-header 'If-None-Match: *' /about.html`, `
  -  secure   site.kibitz:7    when scheme http: it is https
  -  name     site.kibitz:8    when host www.s.example: it is s.example
  -  1 entry is for another path: crew (9)
  -  robots   site.kibitz:10   when agent *Hoover*: there is none
  -  6 entries are for other paths: fares (11)   season (12)   boat (13)   m (21)   booking (22)   gone (23)
  +  the tree has the file /about.html
  +  If-None-Match decides: 304
  +  safe     site.kibitz:18   sets X-Frame-Options: DENY
  -  1 entry is for another path: css (19)
  =  304 decided by no entry; the cause is unchanged
     the browser's cached copy is fresh again (RFC 9111, 4.3.4)
`},
		{`/%66ares.php`, `
  +  the path is read as /fares.php
  -  secure   site.kibitz:7    when scheme http: it is https
  -  name     site.kibitz:8    when host www.s.example: it is s.example
  -  1 entry is for another path: crew (9)
  -  robots   site.kibitz:10   when agent *Hoover*: there is none
  +  fares    site.kibitz:11   answers 301 to /fares/
  +  safe     site.kibitz:18   sets X-Frame-Options: DENY
  -  1 entry is for another path: css (19)
  =  301 decided by fares, site.kibitz:11; the cause is redirect
     redirect fares on /fares.php to /fares/ as permanent query only day
     cached by browsers for good: no header limits it
`},
		{`/webcam`, `
  -  secure   site.kibitz:7    when scheme http: it is https
  -  name     site.kibitz:8    when host www.s.example: it is s.example
  -  1 entry is for another path: crew (9)
  -  robots   site.kibitz:10   when agent *Hoover*: there is none
  -  3 entries are for other paths: fares (11)   season (12)   boat (13)
  +  m        site.kibitz:21   moves.csv:5 says 410
  +  safe     site.kibitz:18   sets X-Frame-Options: DENY
  -  1 entry is for another path: css (19)
  =  410 decided by m, site.kibitz:21; the cause is reply
     moves m table moves.csv as permanent
     cached as each browser sees fit: nothing says how long
`},
		{`/boat.php?id=2`, `
  -  secure   site.kibitz:7    when scheme http: it is https
  -  name     site.kibitz:8    when host www.s.example: it is s.example
  -  1 entry is for another path: crew (9)
  -  robots   site.kibitz:10   when agent *Hoover*: there is none
  -  3 entries are for other paths: fares (11)   season (12)   boat (13)
  +  m        site.kibitz:21   moves.csv:4 has this address
  +  m        site.kibitz:21   answers 302 to /boats/avocet.html
  +  safe     site.kibitz:18   sets X-Frame-Options: DENY
  -  1 entry is for another path: css (19)
  =  302 decided by m, site.kibitz:21; the cause is redirect
     moves m table moves.csv as permanent
     not cached by browsers
`},
		{`/boat.php?id=9`, `
  -  secure   site.kibitz:7    when scheme http: it is https
  -  name     site.kibitz:8    when host www.s.example: it is s.example
  -  1 entry is for another path: crew (9)
  -  robots   site.kibitz:10   when agent *Hoover*: there is none
  -  3 entries are for other paths: fares (11)   season (12)   boat (13)
  -  m        site.kibitz:21   moves.csv:3 has this path, but with the query id=1
  -  2 entries are for other paths: booking (22)   gone (23)
  +  the tree has nothing there
  -  1 entry is for another path: planner (14)
  +  lost     site.kibitz:15   shows /errors/404.html
  +  safe     site.kibitz:18   sets X-Frame-Options: DENY
  -  1 entry is for another path: css (19)
  =  404 decided by no entry; the cause is missing
     cached as each browser sees fit: nothing says how long
`},
		{`-method POST /booking/new`, `
  -  secure    site.kibitz:7    when scheme http: it is https
  -  name      site.kibitz:8    when host www.s.example: it is s.example
  -  1 entry is for another path: crew (9)
  -  robots    site.kibitz:10   when agent *Hoover*: there is none
  -  4 entries are for other paths: fares (11)   season (12)   boat (13)   m (21)
  +  booking   site.kibitz:22   an application answers here
  =  app decided by booking, site.kibitz:22; the cause is handoff
     handoff booking in /booking/ to http://127.0.0.1:9
`},
		{`/gone-too`, `
  -  secure   site.kibitz:7    when scheme http: it is https
  -  name     site.kibitz:8    when host www.s.example: it is s.example
  -  1 entry is for another path: crew (9)
  -  robots   site.kibitz:10   when agent *Hoover*: there is none
  -  5 entries are for other paths: fares (11)   season (12)   boat (13)   m (21)   booking (22)
  +  gone     site.kibitz:23   answers 410
  +  gone     site.kibitz:23   shows its text
  +  safe     site.kibitz:18   sets X-Frame-Options: DENY
  -  1 entry is for another path: css (19)
  =  410 decided by gone, site.kibitz:23; the cause is reply
     reply gone on /gone* with 410 text "It is gone."
     cached as each browser sees fit: nothing says how long
`},
		{`/crew`, `
  -  secure   site.kibitz:7    when scheme http: it is https
  -  name     site.kibitz:8    when host www.s.example: it is s.example
  +  crew     site.kibitz:9    refuses with 403
  +  shut     site.kibitz:16   shows its text
  +  safe     site.kibitz:18   sets X-Frame-Options: DENY
  -  1 entry is for another path: css (19)
  =  403 decided by crew, site.kibitz:9; the cause is refused
     access crew in /crew/ unless client 192.0.2.0/24 refuse
     not cached
`},
	} {
		out, errs, status := kibitz(t, dir, "", append([]string{"trace", "-color", "never"}, shellWords(test.asks)...)...)
		_, out, _ = strings.Cut(out, "\nAnswer 1: ")
		_, out, _ = strings.Cut(out, "\n\n") // the request
		_, out, _ = strings.Cut(out, "\n\n") // and its fields
		out, _, _ = strings.Cut(out, "\nAnswer 2: ")
		out, _, _ = strings.Cut(out, "\n\n  sent as")
		if got := strings.TrimRight(out, "\n"); got != strings.Trim(test.says, "\n") || status != 0 {
			t.Errorf("trace %s: status %d\n%s\nwant\n%s\n%s", test.asks, status, got, test.says, errs)
		}
	}
}

// shellWords splits at blanks that stand in no quotes.
func shellWords(s string) []string {
	var out []string
	for i, part := range strings.Split(s, "'") {
		if i%2 == 1 {
			out = append(out, part)
		} else {
			out = append(out, strings.Fields(part)...)
		}
	}
	return out
}

// TestTraceShowsWhatCanBeTested shows the values of the request one by one, decoded, and what
// a filled page sends.
func TestTraceShowsWhatCanBeTested(t *testing.T) {
	dir := write(t, map[string]string{"site.kibitz": `site s address https://s.example files public
redirect boat on /:line/:boat when cookie.lang de to /{boat} as temporary
error gone for 404 show /gone.html fill on
`, "public/gone.html": "<p>No {path}</p>\x1b", "public/boats/x.bin": "a\x00b"})
	out, errs, status := kibitz(t, dir, "", "trace", "-content", "-header", "Cookie: lang=de; a=b", "/n%C3%B6rd/a%20b?q=%C3%A4+b&q=2&=&z")
	if status != 0 || errs != "" {
		t.Fatalf("status %d %s", status, errs)
	}
	contains(t, out, `query.q "ä b"`, `query.z ""`, "cookie.lang de", "cookie.a b", "{line} nörd   {boat} a b", "file missing", "The body\n\n  <p>No /a b</p>")
	if strings.Contains(out, "\x1b") || strings.Count(out, "query.q") != 2 {
		t.Errorf("got\n%q", out)
	}
	out, _, _ = kibitz(t, dir, "", "trace", "-content", "/boats/x.bin")
	contains(t, out, "The body is not text: 3 bytes", "file exists")
}
