package main

import (
	"fmt"
	"os"
	"path/filepath"
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
		"Leave what only robots ask for and nobody links to, 2 addresses that are not found: 3 requests.")
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
