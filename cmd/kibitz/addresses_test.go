package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// Addresses that need a look: who asks for them, from where, since when.
func TestWhoAsksForWhatIsMissing(t *testing.T) {
	dir := write(t, map[string]string{"public/index.html": "home", "public/timetable.html": "timetable", "site.kibitz": "site s address https://s.example files public\nredirect round on /round to /round as temporary\n"})
	var log strings.Builder
	add := func(day int, path, from, agent string) {
		fmt.Fprintf(&log, "192.0.2.1 - - [%02d/Oct/2026:10:00:00 +0000] \"GET %s HTTP/1.1\" 200 1 \"%s\" \"%s\"\n", day, path, from, agent)
	}
	add(3, "/timetabel.html", "https://s.example/", "Mozilla/5.0 (X11)")
	add(1, "/timetabel.html", "https://s.example/", "Mozilla/5.0 (X11)")
	add(9, "/timetabel.html", "https://o.example/", "TideBot/1.0")
	add(4, "/admin.php", "-", "TideBot/1.0")
	add(4, "/setup.php", "-", "sounder/2.0 (+https://sounder.example/)")
	add(5, "/setup.php", "-", "Harvester")
	add(6, "/round", "-", "Mozilla/5.0 (X11)")
	os.WriteFile(filepath.Join(dir, "access.log"), []byte(log.String()), 0o644)

	out, _, _ := kibitz(t, dir, "", "replay", "access.log", "-as", "csv", "-robots", "Harvester")
	want := `outcome,method,url,requests,robots,first,last,referrers,likeliest,status,by,at,recorded
loop,,https://s.example/round,1,,,,,,,,,
not-found,,https://s.example/timetabel.html,3,1,2026-10-01T10:00:00Z,2026-10-09T10:00:00Z,https://s.example/ (2) https://o.example/ (1),/timetable.html,404,,,
not-found,,https://s.example/setup.php,2,2,2026-10-04T10:00:00Z,2026-10-05T10:00:00Z,,,404,,,
not-found,,https://s.example/admin.php,1,1,2026-10-04T10:00:00Z,2026-10-04T10:00:00Z,,,404,,,
`
	if !strings.HasPrefix(out, want) {
		t.Errorf("%s\nwant\n%s", out, want)
	}
	if few, _, _ := kibitz(t, dir, "", "replay", "access.log", "-as", "csv", "-top", "1"); strings.Contains(few, "/setup.php") || !strings.Contains(few, "/timetabel.html") {
		t.Errorf("-top 1:\n%s", few)
	}
	os.WriteFile(filepath.Join(dir, "look.csv"), []byte(out), 0o644)
	again, _, _ := kibitz(t, dir, "", "replay", "look.csv")
	contains(t, again, "= 8 requests + 1 comment + 0 not read")

	text, _, _ := kibitz(t, dir, "", "replay", "access.log", "-robots", "harvester")
	contains(t, text, "/timetabel.html   linked on / (2); from https://o.example/ (1); perhaps /timetable.html", "/setup.php        robots alone",
		"Leave what only robots ask for and no page links to, 2 addresses that are not found: 3 requests.")
	text, _, _ = kibitz(t, dir, "", "replay", "access.log")
	contains(t, text, "/setup.php        1 by robots")
	kibitz(t, dir, "", "replay", "access.log", "-robots", "harvester", "-save", "tally")
	merged, _, _ := kibitz(t, dir, "", "replay", "-merge", "tally", "-as", "csv")
	if !strings.HasPrefix(merged, want) {
		t.Errorf("of a saved tally:\n%s", merged)
	}
}

// How much of the rulebook a list with expectations holds fast.
func TestHowMuchIsHeld(t *testing.T) {
	dir := write(t, map[string]string{
		"site.kibitz": "site s address https://s.example\nredirect old on /old to /new as permanent\nreply gone on /gone with 410 text gone\n",
		"half.txt":    "/old => 301 /new\n/olda => files\n/ol => files\n",
		"failing.txt": "/gone => 200\n/old => 301 /new\n/olda => files\n/ol => files\n", // what fails anyhow notices nothing
		"none.txt":    "/old\n",
	})
	out, _, status := kibitz(t, dir, "", "replay", "half.txt", "-cover")
	contains(t, out, "Held   of small slips in an entry, how many the lists notice: ", "1 of 5   gone   site.kibitz:3   not noticed: without the entry, `on /gone*`")
	failing, _, _ := kibitz(t, dir, "", "replay", "failing.txt", "-cover")
	contains(t, failing, "1 of 5   gone   site.kibitz:3")
	if strings.Contains(out, "   old    site.kibitz:2   not noticed") || status != 0 {
		t.Errorf("status %d:\n%s", status, out)
	}
	for share, want := range map[string]int{"50%": 0, "90%": 1, "0%": 0, "100%": 1} {
		if _, errs, status := kibitz(t, dir, "", "replay", "half.txt", "-cover-min", share); status != want {
			t.Errorf("-cover-min %s: status %d, want %d %s", share, status, want, errs)
		}
	}
	out, _, _ = kibitz(t, dir, "", "replay", "half.txt", "-cover", "-as", "json")
	contains(t, out, `"entry": "gone",`, `"not_noticed": [`)
	for _, mistake := range []struct{ args, says string }{
		{"half.txt -cover-min 50", "-cover-min is a share like 90%, not 50"},
		{"half.txt -cover-min x%", "-cover-min is a share like 90%, not x%"},
		{"half.txt -cover-min NaN%", "-cover-min is a share like 90%, not NaN%"},
		{"half.txt -cover -each", "leave out -merge, -each and -by"},
		{"none.txt -cover", "the lists expect nothing of their requests"},
	} {
		if _, errs, status := kibitz(t, dir, "", append([]string{"replay"}, strings.Fields(mistake.args)...)...); status != 2 || !strings.Contains(errs, mistake.says) {
			t.Errorf("%s: status %d, %s", mistake.args, status, errs)
		}
	}
}

// One address as several visitors see it, a column each.
func TestOneAddressAsVisitorsSeeIt(t *testing.T) {
	dir := write(t, map[string]string{
		"public/index.html": "home",
		"public/de.html":    "Heim",
		"site.kibitz":       "site s address https://s.example files public\nredirect german on / when language de* to /de.html as temporary\naccess hoover when agent *Hoover* refuse\naccess office in / unless client 192.0.2.0/24 refuse\nheader night when time after 2026-06-01 set X-Night yes\n",
		"visitors.txt":      "# who\npeople\n    client 192.0.2.9\n\nfrom Vienna # by train\n\tclient 192.0.2.9\n\tAccept-Language: de-AT\nHoover\n  User-Agent: Hoover/1\nat night\n  client 192.0.2.7\n  time 2026-06-10T03:00:00Z\n",
	})
	out, errs, status := kibitz(t, dir, "", "trace", "/", "-as-visitors", "visitors.txt")
	rows := squeezed(out)
	for _, want := range []string{"GET https://s.example/ as 4 visitors see it", "people from Vienna Hoover at night", "answers 200 302 200 403 200", "decided by (document) german hoover (document)", "Location /de.html", "ends /de.html", "there (file)", "X-Night none none none yes"} {
		if !slices.Contains(rows, want) {
			t.Errorf("%q is missing in, status %d:\n%s%s", want, status, out, errs)
		}
	}
	out, _, _ = kibitz(t, dir, "", "trace", "/", "-as-visitors", "visitors.txt", "-as", "json")
	var all []struct {
		Visitor string
		Status  int
		By      string
		Client  string
	}
	if err := json.Unmarshal([]byte(out), &all); err != nil || len(all) != 4 || all[2].Visitor != "Hoover" || all[2].Status != 403 || all[3].Client != "192.0.2.7" {
		t.Errorf("%v\n%s", err, out)
	}
	out, _, _ = kibitz(t, dir, "", "trace", "/", "-as-visitors", "visitors.txt", "-client", "203.0.113.1", "-header", "User-Agent: Hoover/2")
	if rows := squeezed(out); !slices.Contains(rows, "decided by hoover german hoover hoover") {
		t.Errorf("what flags say holds for those who say nothing else:\n%s", out)
	}
	for text, want := range map[string]string{
		"":                              "it names no visitor",
		"# none\n":                      "it names no visitor",
		"  client 192.0.2.1\n":          "line 1: an indented line tells of the visitor above it",
		"a\n  client pier\n":            "line 2: \"pier\" is not an address of a client",
		"a\nb\na\n":                     "line 3: the visitor \"a\" is above already",
		"a\n  => 200\n":                 "line 2: of a visitor nothing is expected",
		strings.Repeat("x", 5<<20):      "line 1: the line is longer than 4 MiB",
		strings.Join(numbers(51), "\n"): "line 51: there are more than 50 visitors",
	} {
		os.WriteFile(filepath.Join(dir, "bad.txt"), []byte(text), 0o644)
		if _, errs, status := kibitz(t, dir, "", "trace", "/", "-as-visitors", "bad.txt"); status != 2 || !strings.Contains(errs, want) {
			t.Errorf("%.40q: status %d, %q, want %q", text, status, errs, want)
		}
	}
}

// squeezed are the lines of an output, with one blank between their words.
func squeezed(out string) (rows []string) {
	for _, line := range strings.Split(out, "\n") {
		rows = append(rows, strings.Join(strings.Fields(line), " "))
	}
	return rows
}

func numbers(n int) (out []string) {
	for i := range n {
		out = append(out, fmt.Sprint(i))
	}
	return out
}

// Saved tallies side by side: what grew, what came, what went.
func TestTalliesSideBySide(t *testing.T) {
	dir := write(t, map[string]string{
		"site.kibitz": "site s address https://s.example\nredirect old on /old to /new as permanent\nreply gone on /gone with 410 text gone\nreply none on /x* with 404 text none\n",
		"next.kibitz": "site s address https://s.example\nreply none on /x* /gone with 404 text none\nredirect old on /old to /new as permanent\n",
		"mon.txt":     "/old\n/old\n/gone\n/x1\n/x1\n",
		"tue.txt":     "/old\n/x1\n/x2\n/gone\n",
	})
	kibitz(t, dir, "", "replay", "mon.txt", "-save", "mon")
	kibitz(t, dir, "", "replay", "tue.txt", "-save", "tue", "-rules", "next.kibitz")
	out, errs, status := kibitz(t, dir, "", "replay", "-merge", "-by", "tally", "mon", "tue")
	want := []string{"2 tallies side by side", "", "mon tue change", "requests 5 4 -1", "404 none 2 3 +1", "301 old 2 1 -1", "410 gone 1 . gone", "",
		"Not found answered 404, what changed most first", "", "mon tue change", "/x1 2 1 -1", "/gone . 1 new", "/x2 . 1 new", ""}
	if got := squeezed(out); !slices.Equal(got, want) || status != 0 {
		t.Errorf("status %d %s\n%q\nwant\n%q", status, errs, got, want)
	}
	csv, _, _ := kibitz(t, dir, "", "replay", "-merge", "-by", "tally", "mon", "tue", "-as", "csv")
	if want := "status,cause,by,not_found,mon,tue\n,,,,5,4\n404,reply,none,,2,3\n301,redirect,old,,2,1\n410,reply,gone,,1,0\n404,,,https://s.example/x1,2,1\n404,,,https://s.example/gone,0,1\n404,,,https://s.example/x2,0,1\n"; csv != want {
		t.Errorf("%s\nwant\n%s", csv, want)
	}
	data, _, _ := kibitz(t, dir, "", "replay", "-merge", "-by", "tally", "mon", "tue", "-as", "json")
	var sides struct {
		Tallies  []string
		Requests []int64
		Outcomes []struct{ Requests []int64 }
	}
	if err := json.Unmarshal([]byte(data), &sides); err != nil || !slices.Equal(sides.Tallies, []string{"mon", "tue"}) || !slices.Equal(sides.Requests, []int64{5, 4}) || len(sides.Outcomes) != 3 {
		t.Errorf("%v\n%s", err, data)
	}
	page, _, _ := kibitz(t, dir, "", "replay", "-merge", "-by", "tally", "mon", "tue", "-as", "html")
	contains(t, page, "<title>", "From mon to tue: 1 more is answered 404, none")
	for args, says := range map[string]string{
		"-merge -by tally mon":             "puts saved tallies side by side",
		"-by tally mon tue":                "puts saved tallies side by side",
		"-merge -by tally mon mon.txt":     "mon.txt is not a saved tally",
		"-merge -by tally mon tue -as tap": "-by tally -as is text, json, csv, html, not tap",
		"-merge -by day mon tue":           "",
	} {
		if _, errs, status := kibitz(t, dir, "", append([]string{"replay"}, strings.Fields(args)...)...); status != 2 || !strings.Contains(errs, says) {
			t.Errorf("%s: status %d, %s", args, status, errs)
		}
	}
}

// The entries and requests by hour as pages.
func TestMorePages(t *testing.T) {
	dir := small(t)
	os.WriteFile(filepath.Join(dir, "noted.kibitz"), []byte("site s address https://s.example\n# Since the move <b>\n# of March.\nredirect old on /old to /new as permanent\n"), 0o644)
	os.WriteFile(filepath.Join(dir, "access.log"), []byte(logged), 0o644)
	page, _, status := kibitz(t, dir, "", "rules", "noted.kibitz", "-as", "html")
	contains(t, page, "1 entry in noted.kibitz", "Since the move &lt;b&gt; of March.", "on /old", "Content-Security-Policy")
	if status != 0 {
		t.Errorf("status %d", status)
	}
	page, _, _ = kibitz(t, dir, "", "rules", "noted.kibitz", "-as", "html", "-for", "/old")
	contains(t, page, "those that could take /old")
	page, _, _ = kibitz(t, dir, "", "replay", "access.log", "-by", "day", "-as", "html")
	contains(t, page, "<rect", "in the time of UTC", "By day")
}
