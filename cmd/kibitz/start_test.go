package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Whatever lies in a folder: what start writes has no error and no warning, its requests
// are answered as it says, and it is laid out.
func TestStartWritesWhatHolds(t *testing.T) {
	long := strings.Repeat("long text ", 500)
	for name, test := range map[string]struct {
		files map[string]string
		args  []string
		want  []string // in the rulebook
	}{
		"a home page alone": {map[string]string{"public/index.html": "home"}, nil, []string{"address https://www.site.example", "made up", "files   public"}},
		"an address in the sitemap": {map[string]string{"public/index.html": "home", "public/sitemap.xml": "<urlset><url><loc>http://ferry.example/a</loc></url></urlset>"}, nil,
			[]string{"site ferry", "address http://ferry.example", "when host www.ferry.example"}},
		"an address on the home page": {map[string]string{"www/index.html": `<link href="https://www.ferry.example/" rel="canonical">`}, nil, []string{"address https://www.ferry.example", "when scheme http"}},
		"pages of errors":             {map[string]string{"public/index.html": "home", "public/404.html": "none", "public/errors/500.html": "broken", "public/error/index.html": "any"}, nil, []string{"error not-found  for 404      show /404.html", "error broken", "error any-error"}},
		"other home pages":            {map[string]string{"public/index.htm": "home", "public/a/default.htm": "a", "public/b/index.htm": "b"}, nil, []string{"documents index.htm default.htm", "index.htm in 2, default.htm in 1"}},
		"what is exposed":             {map[string]string{"public/index.html": "home", "public/dump.sql": "x", "public/a/b.bak": "x", "public/.git/config": "x", "public/key.pem": "x"}, nil, []string{"refuse 404", `\.sql`, `\.pem`, `\.bak`}},
		"what shrinks":                {map[string]string{"public/index.html": long, "public/app.0a1b2c3d4e.js": long, "public/site.css": long}, nil, []string{"compress text", "3 files of text", "immutable"}},
		"not UTF-8":                   {map[string]string{"public/index.html": "Sch\xfcssel"}, nil, nil},
		"an older sibling":            {map[string]string{"public/index.html": long, "public/index.html.gz": long + long}, nil, nil},
		"odd names":                   {map[string]string{"public/index.html": "home", "public/a b.html": "x", "public/ü/{x}.html": "x", "public/*?#%41.txt": "x", "public/-x/index.html": "x", "public/\"q\".css": long, "public/404.html": "x"}, nil, nil},
		"the folder itself":           {map[string]string{"index.html": "home"}, []string{"."}, []string{"access rulebook", "/site.kibitz", "files   ."}},
		"a folder with blanks":        {map[string]string{"my site/index.html": "home"}, []string{"my site"}, []string{`files   "my site"`}},
		"a port and no TLS":           {map[string]string{"public/index.html": "home"}, []string{"-address", "http://192.0.2.1:8080"}, []string{"address http://192.0.2.1:8080"}},
		"a log":                       {map[string]string{"public/index.html": "home", "public/fares/index.html": "x", "a.log": logged + "192.0.2.1 - - [01/Mar/2026:06:00:00 +0000] \"GET /\x1b[2J\\x0a\\\"=>/fares HTTP/1.1\" 404 5 \"-\" \"-\"\n"}, []string{"-log", "a.log"}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			dir := write(t, test.files)
			out, errs, status := kibitz(t, dir, "", append([]string{"start"}, test.args...)...)
			if status != 0 {
				t.Fatalf("%d %s", status, errs)
			}
			contains(t, out, "written", "requests.txt", "kibitz check")
			book, err := os.ReadFile(filepath.Join(dir, "site.kibitz"))
			if err != nil {
				t.Fatal(err)
			}
			contains(t, string(book), test.want...)
			if out, errs, status := kibitz(t, dir, "", "check", "-fail-on", "warning"); status != 0 {
				t.Errorf("check: %s%s\n%s", out, errs, book)
			}
			if out, errs, status := kibitz(t, dir, "", "replay", "-strict", "requests.txt"); status != 0 || !strings.Contains(out, "expectations met") {
				t.Errorf("replay: %s%s", out, errs)
			}
			if out, _, status := kibitz(t, dir, "", "format", "-check"); status != 0 {
				t.Errorf("format: %s\n%s", out, book)
			}
			// What is there is never written over.
			os.Remove(filepath.Join(dir, "site.kibitz"))
			list, _ := os.ReadFile(filepath.Join(dir, "requests.txt"))
			if _, errs, status := kibitz(t, dir, "", append([]string{"start"}, test.args...)...); status != 2 || !strings.Contains(errs, "requests.txt is there already") {
				t.Errorf("a second time: %d %s", status, errs)
			}
			if again, _ := os.ReadFile(filepath.Join(dir, "requests.txt")); string(again) != string(list) {
				t.Error("the list has changed")
			}
			if _, err := os.Stat(filepath.Join(dir, "site.kibitz")); err == nil {
				t.Error("half of it was written")
			}
		})
	}
}

func TestStartSaysWhatItCannotDo(t *testing.T) {
	for name, test := range map[string]struct {
		files map[string]string
		args  []string
		want  string
	}{
		"no folder":              {map[string]string{"notes.txt": "x"}, nil, "no folder here looks like a site's"},
		"two folders":            {map[string]string{"public/a": "x", "www/a": "x"}, nil, "there are public and www here"},
		"a file":                 {map[string]string{"public": "x"}, []string{"public"}, "public is a file"},
		"nothing there":          {map[string]string{"x": ""}, []string{"public"}, "does not exist"},
		"a rulebook":             {map[string]string{"public/a": "x", "site.kibitz": ""}, nil, "site.kibitz is there already"},
		"no address":             {map[string]string{"public/a": "x"}, []string{"-address", "ferry.example"}, "without a path"},
		"an address with a path": {map[string]string{"public/a": "x"}, []string{"-address", "https://ferry.example/a"}, "without a path"},
	} {
		dir := write(t, test.files)
		if _, errs, status := kibitz(t, dir, "", append([]string{"start"}, test.args...)...); status != 2 || !strings.Contains(errs, test.want) {
			t.Errorf("%s: %d %s, want %q", name, status, errs, test.want)
		}
	}
	dir := write(t, map[string]string{"x": ""})
	os.Mkdir(filepath.Join(dir, "public"), 0o755)
	if _, errs, status := kibitz(t, dir, "", "start"); status != 2 || !strings.Contains(errs, "there is no file in public") {
		t.Errorf("an empty folder: %d %s", status, errs)
	}
}

// The site as its files alone make it needs no rulebook; what is printed can be pasted.
func TestTheFilesAlone(t *testing.T) {
	dir := write(t, map[string]string{"my site/index.html": "home", "my site/fares/index.html": "fares", "list.txt": "/fares => 301\n/none\n"})
	kibitz(t, dir, "", "inventory", "my site", "-out", "i.csv")
	for name, test := range map[string]struct {
		args   []string
		status int
		want   []string
	}{
		"trace":          {[]string{"trace", "-files", "my site", "-address", "http://s.example:81", "/fares"}, 0, []string{"GET http://s.example:81/fares", "301   /fares/", "fares/index.html"}},
		"replay":         {[]string{"replay", "-files", "my site", "list.txt"}, 0, []string{"1 of 1 expectation met", "kibitz trace -files 'my site' /none"}},
		"check":          {[]string{"check", "-inventory", "i.csv", "-address", "https://s.example"}, 0, []string{"kibitz trace -inventory i.csv -address https://s.example"}},
		"rules":          {[]string{"rules", "-files", "my site"}, 0, []string{"No entry"}},
		"every file":     {[]string{"replay", "-files", "my site", "-every-file"}, 0, []string{"200"}},
		"two at once":    {[]string{"check", "-files", "my site", "-rules", "x"}, 2, []string{"stand in the place of a rulebook"}},
		"two trees":      {[]string{"check", "-files", "my site", "-inventory", "i.csv"}, 2, []string{"do not go together"}},
		"no tree":        {[]string{"check", "-address", "https://s.example"}, 2, []string{"-address goes with -files"}},
		"a bad address":  {[]string{"check", "-files", "my site", "-address", "s.example"}, 2, []string{"-address is the URL of a site"}},
		"nothing there":  {[]string{"check", "-files", "nowhere"}, 2, []string{"does not exist"}},
		"nothing at all": {[]string{"check"}, 2, []string{"there is no rulebook site.kibitz", "address https://www.s.example", "kibitz start DIR"}},
	} {
		out, errs, status := kibitz(t, dir, "", test.args...)
		if status != test.status {
			t.Errorf("%s: %d %s%s", name, status, out, errs)
		}
		contains(t, out+errs, test.want...)
	}
	s := serveIn(t, dir, "-files", "my site")
	if status, location, _ := s.get(t, "/fares", ""); status != 301 || location != "/fares/" {
		t.Errorf("served: %d %s", status, location)
	}
}

// Where nothing in the folder names the site, the lists do: by the hosts that they ask, or by
// the pages that requests came from, as far as the folder has these pages.
func TestStartLearnsTheAddress(t *testing.T) {
	const line = `192.0.2.1 - - [10/Oct/2026:13:55:36 +0000] "GET %s HTTP/1.1" 200 1 "%s" "x"` + "\n"
	for name, test := range map[string]struct{ log, want string }{
		"nothing tells it":             {fmt.Sprintf(line, "/", "-"), "https://www.site.example   made up: say yours with -address URL"},
		"the commonest host":           {"#Fields: cs-method cs-uri-stem cs-host\nGET / b.example\nGET / a.example\nGET / a.example\n", "https://a.example   as most requests of the lists name it"},
		"the pages they came from":     {fmt.Sprintf(line, "/", "https://b.example/search") + fmt.Sprintf(line, "/fares/", "https://c.example/") + fmt.Sprintf(line, "/", "https://c.example/fares/"), "https://c.example   as the pages are named"},
		"a host comes before the page": {"#Fields: cs-method cs-uri-stem cs-host cs(Referer)\nGET / a.example https://c.example/\n", "https://a.example   as most"},
	} {
		dir := write(t, map[string]string{"public/index.html": "home", "public/fares/index.html": "fares", "log": test.log})
		out, errs, status := kibitz(t, dir, "", "start", "-log", "log")
		if status != 0 || !strings.Contains(out, test.want) {
			t.Errorf("%s: %d without %q\n%s%s", name, status, test.want, out, errs)
		}
		if out, errs, status := kibitz(t, dir, "", "check"); status != 0 {
			t.Errorf("%s: check says %d\n%s%s", name, status, out, errs)
		}
	}
}

// What start has to accept is said, and what comes next names the log and the folder.
func TestStartSaysWhatComesNext(t *testing.T) {
	dir := write(t, map[string]string{"public/index.html": `<a href="/none.html">x</a>`, "a log.txt": "/old.html\n/index.htm\n"})
	out, errs, status := kibitz(t, dir, "", "start", "-address", "https://s.example", "-log", "a log.txt")
	if status != 0 {
		t.Fatalf("%d\n%s%s", status, out, errs)
	}
	contains(t, out, "To look at   accepted in site.kibitz for now\n\n  public/index.html links to /none.html, which is not found (404).\n", "  kibitz moves 'a log.txt' -files public", "  kibitz links ")
	if _, errs, status := kibitz(t, dir, "", "moves", "a log.txt", "-files", "public", "-out", "moves.csv"); status != 0 || !strings.Contains(errs, "To use it, write into the rulebook:   moves old table moves.csv as permanent\n") {
		t.Errorf("%d\n%s", status, errs)
	}
	os.WriteFile(filepath.Join(dir, "site.kibitz"), []byte("site s address https://t.example files public\n"), 0o644)
	out, _, _ = kibitz(t, dir, "#Fields: cs-method cs-uri-stem cs-host sc-status\nGET / s.example 200\n", "replay", "-")
	contains(t, out, "To do   1. Name all hosts of the site (hosts …): 1 request for one that the rulebook does not have", "like s.example.")
}
