package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A site that runs is recorded, and the rulebook that is drafted from what it answered gives
// the same answers.
func TestASiteIsDraftedFromWhatItAnswers(t *testing.T) {
	files := map[string]string{"public/index.html": "home", "public/oops.html": "<h1>Nothing there</h1>", "public/fares/index.html": "fares", "public/boats/tern.html": "tern", "public/boats/avocet.html": "avocet", "public/boats/index.html": "boats", "public/secret/a.html": "x", "public/secret/b.html": "x"}
	list := "/\n/boats/tern.html\n/boats/tern\n/boats/avocet\n/none\n/boats/none\n/secret/a.html\n/secret/b.html\nhttp://s.example/fares/\nhttps://www.s.example/boats/\nhttps://www.s.example/fares/\nhttps://www.s.example/none\nhttp://s.example/boats/\n"
	for i := range 12 {
		list += fmt.Sprintf("/news/%d\n/vessel.php?id=%d\n/Old/Page%c.HTM\n", 100+i*7, i+1, 'A'+i)
	}
	for i := range 4 {
		for _, end := range []string{"css", "js"} {
			name := fmt.Sprintf("/assets/a%d.%s", i, end)
			files["public"+name] = strings.Repeat("text ", 200)
			list += name + "\n    Accept-Encoding: gzip\n" + name + "\n"
		}
	}
	list += "/gone/a\n/gone/b.html\n/gone/c/\n/one\n/two.html?x=1\n/two.html\n"
	truth := `site s address https://s.example hosts www.s.example files public
redirect name on /* when host www.s.example to https://s.example{path} as permanent
redirect secure when scheme http to https://{host}{path} as permanent
access secret in /secret/ refuse
reply gone in /gone/ with 410
redirect news on /news/:n(\d+) to /archive/item-{n}/ as permanent
redirect vessel on /vessel.php when query.id ~(?<id>\d+) to /boats/number-{id}.html as permanent query drop
redirect pages on /Old/:page.HTM to /pages/{page|lower}/ as temporary
redirect one on /one to /fares/ as 308
redirect two on /two.html to https://t.example/two as permanent
fallback bare in /boats/ to {path}.html
error missing for 404 show /oops.html
header framing set X-Frame-Options SAMEORIGIN
header secure-only when scheme https set Strict-Transport-Security max-age=600
header assets on ~.*\.(css|js) for 200 304 set Cache-Control "public, max-age=3600"
compress text using gzip
`
	files["true.kibitz"], files["list.txt"] = truth, list
	dir := write(t, files)
	s := serveIn(t, dir, "-rules", "true.kibitz", "-tls", "-quiet")
	secure := <-s.out
	secure, _, _ = strings.Cut(secure, " ")
	if _, errs, status := kibitz(t, dir, "", "record", "list.txt", "-base", "https://s.example", "-at", s.url, "-at", secure, "-insecure", "-rate", "0", "-out", "answers.jsonl"); status != 0 {
		t.Fatal(errs)
	}
	_, errs, status := kibitz(t, dir, "", "draft", "answers.jsonl", "-files", "public", "-out", "site.kibitz")
	if status != 0 {
		t.Fatalf("%d %s", status, errs)
	}
	contains(t, errs, "explain 71 of 71 answers (100.0%)")
	book, _ := os.ReadFile(filepath.Join(dir, "site.kibitz"))
	contains(t, string(book), "address https://s.example", "hosts   www.s.example", "when scheme http", "in /secret/", "refuse 403", "in /gone/", "with 410", `/news/:number(\d+)`, "/archive/item-{number}/", "when query.id", "{name|lower}", "{path}.html", "12 answers say so", "set X-Frame-Options SAMEORIGIN", "when scheme https", "set Strict-Transport-Security", "in /assets/  for 200 304", "compress text", "using gzip", "for 404  show /oops.html")
	table, _ := os.ReadFile(filepath.Join(dir, "site-moves.csv"))
	contains(t, string(table), "/one,/fares/,308", "/two.html,https://t.example/two,301")
	out, errs, status := kibitz(t, dir, "", "replay", "answers.jsonl", "-strict")
	if status != 0 || !strings.Contains(out, "71 of 71 the same (100.0%)") {
		t.Errorf("%d %s%s\n%s", status, out, errs, book)
	}
	if out, _, status := kibitz(t, dir, "", "check"); status != 0 {
		t.Errorf("check: %s\n%s", out, book)
	}
	if out, _, status := kibitz(t, dir, "", "format", "-check"); status != 0 {
		t.Errorf("format: %s\n%s", out, book)
	}
	// Headers, encodings and sizes are as they were, too.
	if out, errs, status := kibitz(t, dir, "", "verify", "list.txt", "-base", "https://s.example", "-at", s.url, "-at", secure, "-insecure", "-rate", "0"); status != 0 {
		t.Errorf("verify: %s%s\n%s", out, errs, book)
	}
	// What nobody has asked for is answered alike, too, where a rule gives it.
	write := "/news/5\n/vessel.php?id=999\n/Old/Quay.HTM\nhttp://www.s.example/x\n/secret/more\n/gone/else\n/boats/avocet\n"
	os.WriteFile(filepath.Join(dir, "more.txt"), []byte(write), 0o644)
	if out, _, status := kibitz(t, dir, "", "compare", "true.kibitz", "site.kibitz", "more.txt", "-expect-none"); status != 0 {
		t.Errorf("what is new to both: %s\n%s", out, book)
	}
	if _, errs, status := kibitz(t, dir, "", "draft", "answers.jsonl", "-files", "public", "-out", "site.kibitz"); status != 2 || !strings.Contains(errs, "is there already") {
		t.Errorf("a second time: %d %s", status, errs)
	}
}

// Early hints are recorded, and drafted for the folder whose pages have them; so is what HEAD
// says of an address whose page failed once.
func TestHintsAndHeadsAreSeen(t *testing.T) {
	files := map[string]string{"public/index.html": "home", "public/site.css": "a", "public/none/index.html": "x",
		"true.kibitz": "site s address http://s.example files public\nhint early in /boats/ preload /site.css as style preconnect https://tiles.example\nreply gone in /gone/ with 410\n"}
	list := ""
	for _, name := range []string{"avocet", "tern", "gull"} {
		files["public/boats/"+name+".html"] = name
		list += "/boats/" + name + ".html\n/none/\n/gone/" + name + "\n"
	}
	files["list.txt"] = list
	dir := write(t, files)
	s := serveIn(t, dir, "-rules", "true.kibitz", "-quiet")
	if _, errs, status := kibitz(t, dir, "", "record", "list.txt", "-base", "http://s.example", "-at", s.url, "-rate", "0", "-probe", "-out", "a.jsonl"); status != 0 {
		t.Fatal(errs)
	}
	answers, _ := os.ReadFile(filepath.Join(dir, "a.jsonl"))
	contains(t, string(answers), `"hints":["</site.css>; rel=preload; as=style","<https://tiles.example>; rel=preconnect"]`)
	broken := strings.Replace(string(answers), `"url":"http://s.example/gone/tern","method":"GET","status":410`, `"url":"http://s.example/gone/tern","method":"GET","status":500`, 1)
	if broken == string(answers) {
		t.Fatalf("nothing fails in\n%s", answers)
	}
	os.WriteFile(filepath.Join(dir, "a.jsonl"), []byte(broken), 0o644)
	book, errs, _ := kibitz(t, dir, "", "draft", "a.jsonl", "-files", "public")
	contains(t, book, "hint early  in /boats/  preload /site.css as style  preconnect https://tiles.example", "in /gone/  with 410")
	contains(t, errs, "1 answer: the server failed")
}

// What check finds in a draft, since the server does so, is accepted there, and said.
func TestADraftAcceptsWhatTheServerDoes(t *testing.T) {
	dir := write(t, map[string]string{"public/index.html": "home", "answers.txt": "https://s.example/ => 200\n"})
	list, _ := os.OpenFile(filepath.Join(dir, "answers.txt"), os.O_APPEND|os.O_WRONLY, 0)
	for _, name := range []string{"one", "two", "three", "four"} {
		fmt.Fprintf(list, "https://s.example/old/%s.php => 301 /new/%s/\n", name, name)
	}
	list.Close()
	out, errs, status := kibitz(t, dir, "", "draft", "answers.txt", "-files", "public", "-out", "site.kibitz")
	if status != 0 || !strings.Contains(errs, "To look at   accepted in the draft, since the server does so") {
		t.Fatalf("%d %s%s", status, out, errs)
	}
	book, _ := os.ReadFile(filepath.Join(dir, "site.kibitz"))
	contains(t, string(book), "redirect old  on /old/:name.php", `accept missing-target "the server does so: `)
	if out, _, status := kibitz(t, dir, "", "check", "-fail-on", "warning"); status != 0 {
		t.Errorf("%s", out)
	}
}

// Of several sites each is drafted from its own answers, and of the other names that lead to it.
func TestADraftOfSeveralSites(t *testing.T) {
	dir := write(t, map[string]string{
		"ferries/index.html": "ferries", "freight/index.html": "freight", "freight/rates.html": "rates",
		"answers.txt": `https://s.example/              => 200
https://www.s.example/          => 301 https://s.example/
https://s.example/lorries       => 301 https://freight.s.example/
https://freight.s.example/      => 200
https://freight.s.example/rates.html => 200
http://freight.s.example/rates.html  => 302 https://freight.s.example/rates.html
https://cargo.s.example/rates.html   => 308 https://freight.s.example/rates.html
https://freight.s.example/tariff     => 301 /rates.html
https://freight.s.example/old/       => 410
`})
	draft := func(args ...string) (errs string, status int) {
		_, errs, status = kibitz(t, dir, "", append([]string{"draft", "answers.txt", "-out", "site.kibitz"}, args...)...)
		return errs, status
	}
	if errs, status := draft("-files", "s.example=ferries", "-files", "freight.s.example=freight"); status != 0 || !strings.Contains(errs, "explain 9 of 9 answers (100.0%)") {
		t.Fatalf("%d %s", status, errs)
	}
	book, _ := os.ReadFile(filepath.Join(dir, "site.kibitz"))
	contains(t, string(book), "files   ferries", "files   freight", "hosts   www.s.example", "hosts   cargo.s.example", "table site-moves-s.example.csv", "table site-moves-freight.s.example.csv")
	table, _ := os.ReadFile(filepath.Join(dir, "site-moves-freight.s.example.csv"))
	contains(t, string(table), "/tariff,/rates.html,301")
	if out, errs, status := kibitz(t, dir, "", "replay", "answers.txt"); status != 0 || !strings.Contains(out, "9 of 9 expectations met") {
		t.Errorf("%d %s%s\n%s", status, out, errs, book)
	}
	for _, test := range []struct {
		files   []string
		message string
	}{
		{[]string{"-out", "other.kibitz", "-files", "ferries", "-files", "freight.s.example=freight"}, "of several sites say which files are whose"},
		{[]string{"-files", "s.example=ferries", "-files", "s.example=freight"}, "the files of a site are named once"},
		{[]string{"-files", "S.example=ferries"}, "is not a host in small letters"},
		{[]string{"-files", "s.example="}, "it is empty"},
		{[]string{"-out", "other.kibitz", "-files", "s.example=ferries", "-files", "u.example=freight"}, "no answer is of u.example"},
	} {
		if errs, status := draft(test.files...); status != 2 || !strings.Contains(errs, test.message) {
			t.Errorf("%q: %d %s", test.files, status, errs)
		}
	}
}

// What is asked more tells a pattern that was too wide.
func TestQuestionsMakeADraftNarrower(t *testing.T) {
	list := ""
	for i := range 9 {
		list += fmt.Sprintf("/n/%d\n", 110+i*37)
	}
	dir := write(t, map[string]string{"public/index.html": "home", "list.txt": list,
		"true.kibitz": "site s address http://s.example files public\nredirect n on /n/:x(\\d{3}) to /news/{x}/ as permanent query drop\nreply n4 on /n/:x(\\d+) with 410\n"})
	s := serveIn(t, dir, "-rules", "true.kibitz", "-quiet")
	record := func(list, out string) {
		if _, errs, status := kibitz(t, dir, "", "record", list, "-base", "http://s.example", "-at", s.url, "-rate", "0", "-out", out); status != 0 {
			t.Fatal(errs)
		}
	}
	record("list.txt", "a.jsonl")
	_, errs, status := kibitz(t, dir, "", "draft", "a.jsonl", "-files", "public", "-ask", "ask.txt", "-out", "first.kibitz")
	if status != 0 || !strings.Contains(errs, "questions written to ask.txt") {
		t.Fatalf("%d %s", status, errs)
	}
	asked, _ := os.ReadFile(filepath.Join(dir, "ask.txt"))
	contains(t, string(asked), "http://s.example/n/1100\n", "http://s.example/n/111\n", "?kibitz=1\n", "http://s.example/N/")
	record("ask.txt", "b.jsonl")
	kibitz(t, dir, "", "draft", "a.jsonl", "b.jsonl", "-files", "public", "-out", "site.kibitz")
	os.WriteFile(filepath.Join(dir, "more.txt"), []byte("/n/777\n/n/778?x=1\n"), 0o644)
	if out, _, _ := kibitz(t, dir, "", "compare", "true.kibitz", "first.kibitz", "more.txt"); !strings.Contains(out, "1 changed") {
		t.Errorf("before: %s", out)
	}
	if out, _, status := kibitz(t, dir, "", "compare", "true.kibitz", "site.kibitz", "more.txt", "-expect-none"); status != 0 {
		book, _ := os.ReadFile(filepath.Join(dir, "site.kibitz"))
		t.Errorf("with the answers: %s\n%s", out, book)
	}
}

// With -at the server is asked until nothing is undecided: for what the files beside a new
// address would have been called, whether a pattern holds in any folder and in any case, and
// what there is where redirects lead.
func TestADraftAsksTheServer(t *testing.T) {
	files := map[string]string{"public/index.html": "home", "public/data/a.csv": "1", "list.txt": "/boat.php?name=avocet\n/Isles/Tern.htm\n/papers\n/\n",
		"true.kibitz": "site s address http://s.example files public\nredirect boat on /boat.php when query.name ~(?<b>[a-z]+) to /boats/{b}.html as permanent query drop\nredirect isle on /isles/:name.htm ignoring case to /isles/{name|lower}/ as permanent\nredirect papers on /papers to /data/ as temporary\nfolder data in /data/ listing on\n"}
	for _, name := range []string{"avocet", "kite", "plover"} {
		files["public/boats/"+name+".html"] = name
	}
	for _, name := range []string{"tern", "gull", "sand"} {
		files["public/isles/"+name+"/index.html"] = name
	}
	dir := write(t, files)
	s := serveIn(t, dir, "-rules", "true.kibitz", "-quiet")
	if _, errs, status := kibitz(t, dir, "", "record", "list.txt", "-base", "http://s.example", "-at", s.url, "-rate", "0", "-out", "a.jsonl"); status != 0 {
		t.Fatal(errs)
	}
	draft := func(out string, more ...string) (book, table, errs string) {
		_, errs, status := kibitz(t, dir, "", append([]string{"draft", "a.jsonl", "-base", "http://s.example", "-files", "public", "-out", out + ".kibitz"}, more...)...)
		if status != 0 {
			t.Fatalf("%d %s", status, errs)
		}
		text, _ := os.ReadFile(filepath.Join(dir, out+".kibitz"))
		rows, _ := os.ReadFile(filepath.Join(dir, out+"-moves.csv"))
		return strings.Join(strings.Fields(string(text)), " "), string(rows), errs
	}
	if _, table, _ := draft("alone"); !strings.Contains(table, "/boat.php?name=avocet") || !strings.Contains(table, "/Isles/Tern.htm") {
		t.Errorf("without questions:\n%s", table)
	}
	book, table, errs := draft("asked", "-at", s.url, "-rate", "0", "-ask", "more.jsonl")
	contains(t, book, "on /boat.php when query.name ~(?<name>[a-z0-9-]+) to /boats/{name}.html as permanent query drop", "on /isles/:name.htm ignoring case to /isles/{name|lower}/ as permanent", "in /data/ listing on")
	contains(t, errs, "questions asked in ")
	if strings.Contains(table, "boat") || !strings.Contains(table, "/papers,/data/,302") {
		t.Errorf("%s", table)
	}
	answers, _ := os.ReadFile(filepath.Join(dir, "more.jsonl"))
	contains(t, string(answers), `"url":"http://s.example/boat.php?name=kite"`, `"url":"http://s.example/Isles/Gull.htm"`, `"url":"http://s.example/data/"`)
	os.WriteFile(filepath.Join(dir, "new.txt"), []byte("/boat.php?name=plover\n/ISLES/SAND.HTM\n/isles/sand.htm\n/data/\n/elsewhere/x.htm\n"), 0o644)
	if out, _, status := kibitz(t, dir, "", "compare", "true.kibitz", "asked.kibitz", "new.txt", "-expect-none"); status != 0 {
		t.Errorf("%s\n%s", out, book)
	}
	// The answers can be read again, and say the same.
	if _, errs, status := kibitz(t, dir, "", "draft", "a.jsonl", "more.jsonl", "-base", "http://s.example", "-files", "public", "-out", "again.kibitz"); status != 0 {
		t.Error(errs)
	}
	again, _ := os.ReadFile(filepath.Join(dir, "again.kibitz"))
	if got := strings.ReplaceAll(strings.Join(strings.Fields(string(again)), " "), "again-", "asked-"); got != book {
		t.Errorf("of the answers again:\n%s\nwant\n%s", got, book)
	}
	_, _, errs = draft("few", "-at", s.url, "-rate", "0", "-questions", "2")
	contains(t, errs, "2 questions asked in 1 round", "more would decide more: -questions asks for more")
	s.Process.Kill()
	s.Wait()
	_, _, errs = draft("down", "-at", s.url, "-rate", "0", "-retries", "0")
	contains(t, errs, "without an answer: ", "connection refused")
	for args, says := range map[string]string{
		"-at nowhere":                          "-at nowhere is not the address of a server",
		"-at http://127.0.0.1:1 -questions -1": "-questions is a number from 0 on",
	} {
		if _, errs, status := kibitz(t, dir, "", append([]string{"draft", "a.jsonl", "-base", "http://s.example", "-files", "public"}, strings.Fields(args)...)...); status != 2 || !strings.Contains(errs, says) {
			t.Errorf("%s: %d %s", args, status, errs)
		}
	}
}

// Rules by example: a few lines with what is expected of them.
func TestRulesByExample(t *testing.T) {
	for name, test := range map[string]struct {
		list string
		want []string
	}{
		"a folder moves":             {"/old/a => 301 /new/a\n/old/b/c.html => 301 /new/b/c.html\n/old/d => 301 /new/d\n", []string{"in /old/", "/new/{below}"}},
		"an extension goes":          {"/a.html => 301 /a/\n/b.html => 301 /b/\n/c.html => 301 /c/\n/d.html => 301 /d/\n/e.html => 301 /e/\n", []string{"/:name.html", "/{name}/"}},
		"dates":                      {"/2024/03/storm => 301 /n/2024-03-storm/\n/2023/11/tide => 301 /n/2023-11-tide/\n/2022/01/ice => 301 /n/2022-01-ice/\n", []string{`/:number(\d+)/:number2(\d+)/:name`, "/n/{number}-{number2}-{name}/"}},
		"a parameter goes":           {"/a?print=1 => 302 /a\n/b/c?print=1 => 302 /b/c\n/d?print=1 => 302 /d\n", []string{"redirect without-print", "when query.print 1", "to {path}", "query drop"}},
		"pages of folders":           {"/a/index.html => 301 /a/\n/b/c/index.html => 301 /b/c/\n/index.html => 301 /\n", []string{"/:rest((?:.*/)?)index.html", "to /{rest}"}},
		"one place":                  {"/x => 302 /y\n/z.php => 302 /y\n/w => 302 /y\n", []string{"on /w /x /z.php", "to /y", "temporary"}},
		"a table":                    {"/a1 => 301 /zz\n/b2 => 301 /yy\n", []string{"# ", "/a1,/zz,301"}},
		"queries are dropped":        {"/p/a?x=1 => 301 /q/a\n/p/b?y=2 => 301 /q/b\n/p/c?z=1 => 301 /q/c\n", []string{"query drop"}},
		"text that is not a pattern": {"/a(b) => 301 /c\n/{x} => 301 /d\n/a*b => 301 /e\n", []string{"/a(b),/c,301", "/%7Bx%7D,/d,301"}},
	} {
		out, errs, status := kibitz(t, write(t, map[string]string{"list.txt": test.list}), "", "draft", "list.txt", "-base", "https://s.example")
		if status != 0 {
			t.Errorf("%s: %d %s%s", name, status, out, errs)
		}
		for _, want := range test.want {
			if !strings.Contains(out, want) {
				t.Errorf("%s: %q is not in\n%s", name, want, out)
			}
		}
	}
}

func TestDraftSaysWhatItCannotDo(t *testing.T) {
	dir := write(t, map[string]string{"silent.txt": "/a\n/b\n", "empty.txt": "", "public/a": "x",
		"mixed.txt": "https://a.example/x => 200\nhttps://a.example/y => 200\nhttps://b.example/x => 200\n/crew/ => 401\nhttps://a.example/z => 503\n", "one.txt": "/a => 301 /b\n", "d-moves.csv": ""})
	for name, test := range map[string]struct {
		args   []string
		status int
		want   string
	}{
		"no list":                {nil, 2, "name what a server answered"},
		"no statuses":            {[]string{"silent.txt"}, 2, "2 requests, and none of them says what was answered"},
		"nothing":                {[]string{"empty.txt"}, 2, "there is no answer to draft from"},
		"two sites":              {[]string{"mixed.txt", "-base", "https://a.example"}, 1, "its host is not sent on to the site"},
		"what is left is listed": {[]string{"mixed.txt", "-base", "https://a.example"}, 1, "the server failed"},
		"two trees":              {[]string{"one.txt", "-files", "public", "-inventory", "x"}, 2, "the files of a site are named once"},
		"no tree":                {[]string{"one.txt", "-files", "nowhere"}, 2, "does not exist"},
		"a table in the way":     {[]string{"one.txt", "-out", "d.kibitz"}, 2, "d-moves.csv is there already"},
	} {
		out, errs, status := kibitz(t, dir, "", append([]string{"draft"}, test.args...)...)
		if status != test.status || !strings.Contains(errs, test.want) {
			t.Errorf("%s: %d %s%s, want %q", name, status, out, errs, test.want)
		}
	}
}
