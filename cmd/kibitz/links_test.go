package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"kibitz/demo"
)

// linksSite is a site whose pages lead here and there.
var linksSite = map[string]string{
	"site.kibitz": `site s
    address https://s.example
    files   public

redirect old    on /old.html  to /fares/  as permanent
redirect soon   on /soon      to /fares/  as temporary
redirect german on /welcome   when language de to /de/ as permanent
redirect any    on /welcome   to /fares/  as permanent
`,
	"public/index.html":       "<!doctype html>\n<a href='/old.html?a=1&amp;b=2#top'>x</a> <a href=\"/soon\">y</a>\r\n<img srcset=\"/old.html 1x, /map.svg 2x\"><a href=welcome>z</a>\n",
	"public/fares/index.html": "<!doctype html><a href=\"../\">home</a><a href='/Map.svg'>map</a><a href=https://t.example/>other</a>",
	"public/map.svg":          "<svg xmlns='x'><a href='fares'/></svg>",
	"public/site.css":         "a { background: url( '/old.html' ) }",
	"public/de/index.html":    "<!doctype html>Willkommen",
}

// TestLinksByPage shows what links says, and what it leaves for later.
func TestLinksByPage(t *testing.T) {
	dir := write(t, linksSite)
	out, stderr, status := kibitz(t, dir, "", "links")
	want := `5 files refer to 9 addresses: 3 found, 5 to look at, 1 of other sites, not asked for

public/fares/index.html   https://s.example/fares/

     1:47  /Map.svg   is not found (404)
           write /map.svg

public/index.html   https://s.example/

     2:10  /old.html?a=1&b=2#top   is redirected to /fares/?a=1&b=2 by old (site.kibitz:5)
           write /fares/?a=1&b=2#top
     3:14  /old.html   a page is answered in place of the image (text/html)
           put the file there that is meant: it is /fares/index.html that is sent
           is redirected to /fares/ by old (site.kibitz:5)
           write /fares/
     3:49  welcome   is redirected to /fares/ by any (site.kibitz:8)
           write /fares/

public/map.svg   https://s.example/map.svg

     1:25  fares   is redirected to /fares/
           write fares/

public/site.css   https://s.example/site.css

     1:23  /old.html   a page is answered in place of the image (text/html)
           put the file there that is meant: it is /fares/index.html that is sent
           is redirected to /fares/ by old (site.kibitz:5)
           write /fares/

No other page links to 1 page

  /de/

4 addresses can be written into the files: kibitz links -show, then -write
`
	if out != want || stderr != "" || status != 1 {
		t.Errorf("got %d\n%s%s\nwant\n%s", status, out, stderr, want)
	}
}

// TestLinksAreMendedInPlace writes the addresses behind permanent redirects: nothing else
// changes, what depends on the visitor stays, and a second time there is nothing to do.
func TestLinksAreMendedInPlace(t *testing.T) {
	dir := write(t, linksSite)
	want := map[string]string{
		"public/index.html": "<!doctype html>\n<a href='/fares/?a=1&amp;b=2#top'>x</a> <a href=\"/soon\">y</a>\r\n<img srcset=\"/fares/ 1x, /map.svg 2x\"><a href=welcome>z</a>\n",
		"public/map.svg":    "<svg xmlns='x'><a href='fares/'/></svg>",
		"public/site.css":   "a { background: url( '/fares/' ) }",
	}
	diff, _, status := kibitz(t, dir, "", "links", "-show")
	for _, line := range []string{"--- public/site.css\n+++ public/site.css\n", "\n-a { background: url( '/old.html' ) }\n", "\n+a { background: url( '/fares/' ) }\n"} {
		if !strings.Contains(diff, line) || status != 0 {
			t.Errorf("-show gives %d without %q:\n%s", status, line, diff)
		}
	}
	for name, text := range linksSite { // nothing is written by it
		if got, _ := os.ReadFile(filepath.Join(dir, name)); string(got) != text {
			t.Errorf("-show has changed %s", name)
		}
	}
	if err := os.Chmod(filepath.Join(dir, "public/map.svg"), 0o600); err != nil {
		t.Fatal(err)
	}
	for i, says := range []string{"4 addresses written into 3 files\n", "Nothing to write: no address in the files goes through a permanent redirect to a page of the site.\n"} {
		out, stderr, status := kibitz(t, dir, "", "links", "-write")
		if out != says || status != 0 {
			t.Errorf("time %d: got %d %s%s, want %s", i+1, status, out, stderr, says)
		}
		for name, text := range linksSite {
			if changed, ok := want[name]; ok {
				text = changed
			}
			if got, _ := os.ReadFile(filepath.Join(dir, name)); string(got) != text {
				t.Errorf("time %d: %s is\n%s\nwant\n%s", i+1, name, got, text)
			}
		}
	}
	if info, err := os.Stat(filepath.Join(dir, "public/map.svg")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("its mode is %v now", info.Mode())
	}
}

// TestEveryFaultOfTheDesignersPagesIsFound: the example's new pages have each kind of fault
// once.
func TestEveryFaultOfTheDesignersPagesIsFound(t *testing.T) {
	files := map[string]string{}
	for name, text := range demo.Files() {
		files[name] = string(text)
	}
	dir := write(t, files)
	out, stderr, status := kibitz(t, dir, "", "links", "newpages.kibitz", "-as", "json")
	var result struct {
		Links []struct{ File, Text, Finding string }
	}
	if err := json.Unmarshal([]byte(out), &result); err != nil || status != 1 {
		t.Fatalf("%d %v %s", status, err, stderr)
	}
	found := map[string]int{}
	for _, l := range result.Links {
		if l.Finding != "" {
			found[l.Finding]++
		}
	}
	for _, name := range []string{"link-broken", "link-redirected", "asset-refused", "mixed-content", "canonical-elsewhere", "sitemap-wrong", "policy-breaks-page"} {
		if found[name] == 0 {
			t.Errorf("there is no %s among %v", name, found)
		}
	}
	if out, _, status := kibitz(t, dir, "", "links"); status != 0 || !strings.Contains(out, " addresses: 35 found\n") {
		t.Errorf("the good pages have faults (%d):\n%s", status, out)
	}
}

// TestEveryLinkIsAList asks for what the pages refer to, as lists do.
func TestEveryLinkIsAList(t *testing.T) {
	dir := write(t, linksSite)
	out, stderr, status := kibitz(t, dir, "", "replay", "-every-link", "-each", "-as", "csv")
	want := `list,line,method,url,status,cause,by,location,ends,recorded,met,client,time,body
public/fares/index.html,1,GET,https://s.example/,200,document,,,arrived,,,,,
public/fares/index.html,1,GET,https://s.example/Map.svg,404,missing,,,arrived,,,,,
public/index.html,2,GET,https://s.example/old.html?a=1&b=2,301,redirect,old,/fares/?a=1&b=2,arrived,,,,,
public/index.html,2,GET,https://s.example/soon,302,redirect,soon,/fares/,arrived,,,,,
public/index.html,3,GET,https://s.example/old.html,301,redirect,old,/fares/,arrived,,,,,
public/site.css,1,GET,https://s.example/old.html,301,redirect,old,/fares/,arrived,,,,,
public/index.html,3,GET,https://s.example/map.svg,200,file,,,arrived,,,,,
public/index.html,3,GET,https://s.example/welcome,301,redirect,any,/fares/,arrived,,,,,
public/map.svg,1,GET,https://s.example/fares,301,slash,,/fares/,arrived,,,,,
`
	if out != want || stderr != "note: 1 link of other sites: not asked for\n" || status != 0 {
		t.Errorf("got %d\n%s%s\nwant\n%s", status, out, stderr, want)
	}
	out, _, status = kibitz(t, dir, "", "compare", "site.kibitz", "site.kibitz", "-every-link")
	if status != 0 || !strings.Contains(out, "9 requests   9 the same\nwith site.kibitz and site.kibitz") || !strings.Contains(out, "Nothing changes.") {
		t.Errorf("compare gives %d\n%s", status, out)
	}
}

// TestWhatIsNotReadIsTold counts files that cannot be read.
func TestWhatIsNotReadIsTold(t *testing.T) {
	dir := write(t, map[string]string{
		"site.kibitz":       "site s address https://s.example files public\n",
		"public/wide.html":  "\xff\xfe<\x00a\x00>\x00",
		"public/large.html": strings.Repeat("<p>long</p>", 2<<20),
		"public/index.html": "<a href=/none>",
		"public/full.html":  strings.Repeat("<a href=/>", 100_001),
	})
	out, _, status := kibitz(t, dir, "", "links")
	for _, want := range []string{"2 files refer", "Not read: 3 files", "public/full.html   of its addresses 1 are left out", "public/large.html   it is larger than 16 MiB", "public/wide.html   its characters"} {
		if !strings.Contains(out, want) || status != 1 {
			t.Errorf("%d without %q:\n%s", status, want, out)
		}
	}
	if out, _, _ := kibitz(t, dir, "", "check"); !strings.Contains(out, "warning  link-broken   public/index.html:1:9") || !strings.Contains(out, "; 3 files could not be read. By page: kibitz links") {
		t.Errorf("check says\n%s", out)
	}
	if out, _, _ := kibitz(t, dir, "", "check", "-pages", "off"); strings.Contains(out, "link-broken") {
		t.Errorf("check -pages off says\n%s", out)
	}
}
