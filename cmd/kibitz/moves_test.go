package main

import (
	"encoding/csv"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A site is rebuilt: where each old address has gone, how sure, and why; and the table that
// says so is one that a rulebook reads.
func TestTheTableOfARebuiltSite(t *testing.T) {
	text := func(words string) string {
		return "<title>" + words + "</title><h1>" + words + "</h1><p>" + strings.Repeat(words+" and more of it, as it was written down for visitors ", 3)
	}
	dir := write(t, map[string]string{
		"new/index.html": "home", "new/fares/index.html": text("What a crossing costs"), "new/boats/kittiwake.html": text("The Kittiwake"), "new/boats/avocet.html": text("The Avocet"),
		"new/notices/2024-storm-warning.html": text("Storm warning"), "new/team/index.html": text("Who works here"), "new/img/harbour-map.svg": "map",
		"old/index.html": "home", "old/preise.html": text("What a crossing costs"), "old/vessels/Kittiwake.HTM": text("The Kittiwake"), "old/vessels/avocet.htm": text("The Avocet"),
		"old/page7.html": text("Who works here"), "old/guestbook.html": text("Write something nice about ferries"), "old/notices/2024-storm-warning.html": text("Storm warning"),
		"log.csv": "url,requests\n/vessels/Kittiwake.HTM,40\n/vessels/avocet.htm,30\n/preise.html,20\n/boats/kitiwake.html,9\n/news/2024/storm_warning.php,8\n/index.php,7\n/fares/,99\n/wp?x=1,5\n",
	})
	find := func(args ...string) (rows map[string][]string, order []string, errs string) {
		out, errs, status := kibitz(t, dir, "", append([]string{"moves"}, args...)...)
		if status != 0 {
			t.Fatal(errs)
		}
		all, err := csv.NewReader(strings.NewReader(out)).ReadAll()
		if err != nil || strings.Join(all[0], ",") != "old,new,status,sure,requests,why,links" {
			t.Fatalf("%v %v", err, all)
		}
		rows = map[string][]string{}
		for _, row := range all[1:] {
			rows[row[0]] = row[1:]
			order = append(order, row[0])
		}
		return rows, order, errs
	}
	// By names alone: what is telling is found, what is not known is undecided, and never gone.
	rows, order, _ := find("log.csv", "-files", "new")
	for old, want := range map[string]string{
		"/vessels/Kittiwake.HTM": "/boats/kittiwake.html 301 40", "/vessels/avocet.htm": "/boats/avocet.html 301 30", "/boats/kitiwake.html": "/boats/kittiwake.html 301 9",
		"/news/2024/storm_warning.php": "/notices/2024-storm-warning.html 301 8", "/index.php": "/ 301 7", "/preise.html": " ? 20", "/wp": " ? 5",
	} {
		if got := rows[old]; got == nil || got[0]+" "+got[1]+" "+got[3] != want {
			t.Errorf("%s: %v, want %s", old, got, want)
		}
	}
	if rows["/fares/"] != nil || order[0] != "/vessels/Kittiwake.HTM" {
		t.Errorf("what is there still, or the order: %v", order)
	}
	// With the old pages: by what they say, and gone where nothing says it.
	rows, _, errs := find("log.csv", "-files", "new", "-old", "old")
	for old, want := range map[string]string{"/preise.html": "/fares/ 301", "/page7.html": "/team/ 301", "/guestbook.html": " 410"} {
		if got := rows[old]; got == nil || got[0]+" "+got[1] != want {
			t.Errorf("%s: %v, want %s", old, got, want)
		}
	}
	contains(t, errs, "12 old addresses: 3 still there, 7 moved, 1 gone, 1 to be decided")
	// The table is read as it is, and what is undecided is told.
	kibitz(t, dir, "", "moves", "log.csv", "-files", "new", "-out", "moves.csv")
	os.WriteFile(filepath.Join(dir, "site.kibitz"), []byte("site s address https://s.example files new\nmoves old table moves.csv as permanent\n"), 0o644)
	if out, errs, status := kibitz(t, dir, "", "check"); status != 0 || !strings.Contains(out, "2 rows are undecided") {
		t.Errorf("check: %d %s%s", status, out, errs)
	}
	if out, errs, status := kibitz(t, dir, "/vessels/avocet.htm => 301 /boats/avocet.html\n/preise.html => 404\n", "replay", "-"); status != 0 {
		t.Errorf("replay: %s%s", out, errs)
	}
	if out, errs, status := kibitz(t, dir, "", "replay", "moves.csv", "-strict"); status != 0 || !strings.Contains(out, "5 of 5 expectations met") {
		t.Errorf("the table as a list: %s%s", out, errs)
	}
	if out, _, _ := kibitz(t, dir, "", "moves", "log.csv", "-files", "new", "-as", "text", "-least", "80"); !strings.Contains(out, "same name") || strings.Contains(out, "/preise.html") {
		t.Errorf("as text: %s", out)
	}
	for name, test := range map[string]struct {
		args []string
		want string
	}{
		"no folder":        {[]string{"log.csv"}, "name the new site's files"},
		"no addresses":     {[]string{"-files", "new"}, "name a list of old addresses"},
		"an empty list":    {[]string{os.DevNull, "-files", "new"}, "there is no old address"},
		"the same folder":  {[]string{"-files", "new", "-old", "new"}, "0 moved, 0 gone, 0 to be decided"},
		"another form":     {[]string{"log.csv", "-files", "new", "-as", "xml"}, "-as is csv or text"},
		"not a percentage": {[]string{"log.csv", "-files", "new", "-sure", "200"}, "from 0 to 100"},
	} {
		if _, errs, _ := kibitz(t, dir, "", append([]string{"moves"}, test.args...)...); !strings.Contains(errs, test.want) {
			t.Errorf("%s: %s, want %q", name, errs, test.want)
		}
	}
}
