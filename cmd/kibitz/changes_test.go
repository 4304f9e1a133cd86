package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// changes are rulebooks before and after, with what compare calls the change for
// the requests of the list: `change number`, and the circles of visitors who come
// back.
var changes = []struct {
	name, before, after, list, want string
	status                          int
}{
	{
		name:   "nothing but the words",
		before: "redirect a on /old to /fares/ as permanent",
		after:  "redirect a\n    on /old     # as it was\n    to /fares/\n    as 301",
		list:   "/old\n/\n/none",
	},
	{
		name:   "a page that is found now",
		before: "",
		after:  "redirect a on /old to /fares/ as permanent",
		list:   "/old\n/",
		want:   "found 1",
	},
	{
		name:   "a page that is lost",
		before: "redirect a on /old to /fares/ as permanent",
		after:  "",
		list:   "/old\n/",
		want:   "lost 1",
	},
	{
		name:   "a loop",
		before: "redirect a when scheme http to https://{host}{path} as temporary",
		after:  "redirect a to https://{host}{path} as temporary",
		list:   "/\n/fares/\nhttp://s.example/",
		want:   "loops 2, loops 1", // by https and by http
		status: 1,
	},
	{
		name:   "a guard that is gone, and one that is new",
		before: "access crew in /crew/ refuse",
		after:  "access boats in /boats/ refuse",
		list:   "/crew/rota.html\n/boats/tern.html\n/",
		want:   "open 1, refused 1",
	},
	{
		name:   "another target, and another way to the same",
		before: "redirect a on /a to /fares/ as 302\nredirect b on /b to /c as 302\nredirect c on /c to /fares/ as 302",
		after:  "redirect a on /a to /boats/ as 302\nredirect b on /b to /fares/ as 302\nredirect c on /c to /fares/ as 302",
		list:   "/a\n/b\n/c",
		want:   "elsewhere 1, way 1",
	},
	{
		name:   "a server error",
		before: "",
		after:  "rewrite again on /about.html to /about.html then again",
		list:   "/about.html\n/",
		want:   "fails 1",
	},
	{
		name:   "a header",
		before: "header h set X-A 1 set X-B 1",
		after:  "header h set X-A 2 set X-C 1",
		list:   "/\n/about.html",
		want:   "header 2",
	},
	{
		name:   "a page that moves back: who remembers the way there goes round",
		before: "redirect there on /fares/ to /boats/ as permanent",
		after:  "redirect back on /boats/ to /fares/ as permanent",
		list:   "/fares/\n/boats/",
		want:   "elsewhere 1, elsewhere 1; stored https://s.example/fares/",
		status: 1,
	},
	{
		name:   "the same, but nobody remembers",
		before: "redirect there on /fares/ to /boats/ as temporary",
		after:  "redirect back on /boats/ to /fares/ as temporary",
		list:   "/fares/\n/boats/",
		want:   "elsewhere 1, elsewhere 1",
	},
	{
		name:   "back from https: who was told to stay there goes round",
		before: "header stay set Strict-Transport-Security max-age=31536000",
		after:  "redirect back in /live/ when scheme https to http://{host}{path} as temporary",
		list:   "/live/\nhttp://s.example/live/",
		want:   "elsewhere 1, header 1; hsts s.example",
		status: 1,
	},
	{
		name:   "a loop that stays one is no matter of who comes back",
		before: "redirect a on /x to /y as permanent\nredirect b on /y to /x as permanent",
		after:  "redirect a on /x to /y as permanent\nredirect b on /y to /x as permanent",
		list:   "/x\n/y",
	},
	{
		name:   "a loop that is mended goes on for who has stored it",
		before: "redirect a on /x to /y as permanent\nredirect b on /y to /x as permanent",
		after:  "redirect a on /x to /fares/ as permanent\nredirect b on /y to /fares/ as permanent",
		list:   "/x\n/y",
		want:   "found 1, found 1; stored https://s.example/x; stored https://s.example/y",
		status: 1,
	},
	{
		name:   "compression is switched on",
		before: "",
		after:  "compress text using gzip types text/*",
		list:   "/\n    Accept-Encoding: gzip\n/about.html\n/photos/pier.jpg",
		want:   "header 1, header 1",
	},
	{
		name:   "an error page of its own",
		before: "",
		after:  "error e for 404 show /errors/404.html",
		list:   "/none\n/about.html",
		want:   "header 1",
	},
	{
		name:   "an error page that answers 200 no more",
		before: "fallback f to /errors/404.html",
		after:  "error e for 404 show /errors/404.html",
		list:   "/none\n/about.html",
		want:   "lost 1",
	},
	{
		name:   "a listing is opened",
		before: "",
		after:  "folder f in /photos/ listing on",
		list:   "/photos/\n/",
		want:   "found 1",
	},
	{
		name:   "a chain becomes one redirect",
		before: "redirect a on /a to /b as permanent\nredirect b on /b to /fares/ as permanent",
		after:  "redirect a on /a /b to /fares/ as permanent",
		list:   "/a\n/b",
		want:   "way 1",
	},
	{
		name:   "a form is lost on the way",
		before: "redirect a on /send.php to /send as 308\nreply s on /send with 204",
		after:  "redirect a on /send.php to /send as 301\nreply s on /send with 204",
		list:   "POST /send.php\n/send.php",
		want:   "way 2",
	},
	{
		name:   "for some alone",
		before: "access crew in /crew/ unless client 192.0.2.0/24 refuse",
		after:  "access crew in /crew/ unless client 198.51.100.0/24 refuse",
		list:   "/crew/rota.html\n    client 192.0.2.1\n/crew/rota.html\n    client 198.51.100.1\n/crew/rota.html",
		want:   "open 1, refused 1",
	},
	{
		name:   "what is answered by an application now",
		before: "",
		after:  "handoff app in /planner/",
		list:   "/planner/\n/planner/x\n/",
		want:   "elsewhere 1, found 1",
	},
	{
		name:   "what is kept for an hour goes round for that long",
		before: "redirect there on /fares/ to /boats/ as temporary\nheader h for 302 set Cache-Control max-age=3600",
		after:  "redirect back on /boats/ to /fares/ as permanent",
		list:   "/fares/\n/boats/",
		want:   "elsewhere 1, elsewhere 1; stored https://s.example/fares/",
		status: 1,
	},
	{
		name:   "what is not kept does not",
		before: "redirect there on /fares/ to /boats/ as permanent\nheader h for 301 set Cache-Control no-cache",
		after:  "redirect back on /boats/ to /fares/ as permanent",
		list:   "/fares/\n/boats/",
		want:   "elsewhere 1, elsewhere 1",
	},
	{
		name:   "nor what was sent in a form",
		before: "redirect there on /fares/ when method POST to /boats/ as 308",
		after:  "redirect back on /boats/ to /fares/ as 308",
		list:   "POST /fares/",
		want:   "way 1",
	},
	{
		name:   "all hosts below are told to stay on https",
		before: "header stay set Strict-Transport-Security \"max-age=9999; includeSubDomains\"",
		after:  "redirect back when host www.s.example when scheme https to http://{host}{path} as temporary\nheader stay set Strict-Transport-Security \"max-age=9999; includeSubDomains\"",
		list:   "/\nhttp://www.s.example/about.html",
		want:   "; hsts www.s.example",
		status: 1,
	},
}

func TestChangesAreCalledByWhatTheyAre(t *testing.T) {
	for _, test := range changes {
		t.Run(strings.ReplaceAll(test.name, " ", "-"), func(t *testing.T) {
			t.Parallel()
			dir := harbourIn(t, situation{rules: test.before, list: test.list})
			if err := os.WriteFile(filepath.Join(dir, "next.kibitz"), []byte(harbour+test.after+"\n"), 0o644); err != nil {
				t.Fatal(err)
			}
			out, errs, status := kibitz(t, dir, "", "compare", "site.kibitz", "next.kibitz", "list.txt", "-as", "json")
			var result struct {
				Groups []struct {
					Change   string
					Requests int
				}
				Circles []struct {
					Stored []struct{ URL string }
					HSTS   []string
				}
			}
			if err := json.Unmarshal([]byte(out), &result); err != nil {
				t.Fatal(err, errs)
			}
			var parts []string
			for _, g := range result.Groups {
				parts = append(parts, fmt.Sprint(g.Change, " ", g.Requests))
			}
			got := strings.Join(parts, ", ")
			for _, c := range result.Circles {
				for _, s := range c.Stored {
					got += "; stored " + s.URL
				}
				for _, host := range c.HSTS {
					got += "; hsts " + host
				}
			}
			if got != test.want || status != test.status {
				t.Errorf("%s, status %d; want %s, status %d\n%s", got, status, test.want, test.status, errs)
			}
			text, _, _ := kibitz(t, dir, "", "compare", "site.kibitz", "next.kibitz", "list.txt")
			if same := strings.Contains(text, "Nothing changes."); same != (test.want == "") {
				t.Errorf("the report says:\n%s", text)
			}
		})
	}
}
