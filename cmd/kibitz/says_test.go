package main

import (
	"encoding/json"
	"testing"
)

// What check says of each finding: where, what happens to whom, and the way out.
func TestWhatCheckSays(t *testing.T) {
	for _, test := range []struct{ rules, finding, place, says, mend string }{
		{"redirect secure to https://{host}{path} as permanent", "redirect-loop", "site.kibitz:6:17",
			"Whoever asks for https://s.example/ is redirected to the same address again and again.",
			"add   when scheme http"},
		{"redirect a on /a to /b as permanent\nredirect b on /b to /a as permanent", "redirect-loop", "site.kibitz:7:12",
			"Whoever asks for https://s.example/b is caught in an endless loop: b to /a, then a to /b.",
			"take one of these redirects out, or narrow what it takes"},
		{"redirect bare on /:folder/ to /{folder} as permanent", "redirect-loop", "site.kibitz:6:15",
			"Whoever asks for https://s.example/de is caught in an endless loop: the folder's slash to /de/, then bare to /de.",
			"send folders to their address with its slash, or serve them without it:   folder plain in / slash leave"},
		{"redirect one when host www.s.example to https://s.example{path} as permanent\nredirect two when host s.example to https://www.s.example{path} as permanent", "redirect-loop", "site.kibitz:6:14",
			"Whoever asks for https://www.s.example/ is caught in an endless loop: one to https://s.example/, then two to https://www.s.example/.",
			"take one of these redirects out, or narrow what it takes"},
		{"redirect g on /g* to /g{1}x as temporary", "runaway", "site.kibitz:6:12",
			"Whoever asks for https://s.example/ga is redirected again and again, each time to a new address (https://s.example/gaxx …): none repeats in 1000 redirects, and browsers give up.",
			"narrow what the entry takes, so that its own target is not in it"},
		{"rewrite w in / to /x{path} then again", "rewrite-loop", "site.kibitz:6:28",
			"Whoever asks for https://s.example/ gets a 500: the reading is started again and again, and the entry takes its own result each time.",
			"write   then next   or narrow what the entry takes, so that its own target is not in it"},
		{"rewrite a on /a to /b then again\nrewrite b on /b to /a then again", "rewrite-loop", "site.kibitz:6:23",
			"Whoever asks for https://s.example/b gets a 500: the reading is started again and again, and a and b take each other's results.",
			"write   then next   in one of them, or take it out"},
		{"redirect boats in /boats/ to /fares/ as permanent\nredirect avocet on /boats/avocet to /fares/ as permanent", "never-reached", "site.kibitz:7:17",
			"No request reaches this entry: all that it could take are taken above it, by boats (site.kibitz:6).",
			"put it above boats, or take it out"},
		{"redirect a on /a when scheme http to /b as permanent\nredirect b on /a when scheme https to /c as permanent\nredirect c on /a to /fares/ as permanent", "never-reached", "site.kibitz:8:12",
			"No request reaches this entry: all that it could take are taken above it, by b (site.kibitz:7) and a (site.kibitz:6).",
			"put it above b, or take it out"},
		{"redirect old on /boat.php to /boats/ as permanent\nmoves m table moves.csv as permanent", "never-reached", "site.kibitz:7:9",
			"moves.csv:3: no request reaches this row: /boat.php is taken above it, by old (site.kibitz:6). So it is with one more row.",
			"put the table above old, or take the row out"},
		{"rewrite short on /rota to /crew/rota.html then finish\naccess crew in /crew/ unless client 192.0.2.0/24 refuse", "guard-bypassed", "site.kibitz:7:13",
			"/crew/rota.html is guarded, but whoever asks for /rota gets it anyway, through a rewrite to /crew/rota.html.",
			"guard that address, too, or put the guard above what leads there"},
		{"access crew on /crew/rota.html unless client 192.0.2.0/24 refuse\nfallback all in / to /crew/rota.html", "guard-bypassed", "site.kibitz:6:13",
			"/crew/rota.html is guarded, but whoever asks for /a gets it anyway, by all (site.kibitz:7).",
			"guard that address, too, or put the guard above what leads there"},
		{"redirect partner on /partner/:name to https://{name}.tickets.example/ as temporary", "open-target", "site.kibitz:6:36",
			"Whoever makes a link can send visitors from here to a host of their choice: this one goes to kibitz-stranger.tickets.example.",
			"write the host out, or let the pattern take only the names that are meant"},
		{"redirect any on /go to https://{query.to}.tickets.example/ as temporary", "open-target", "site.kibitz:6:21",
			"Whoever makes a link can send visitors from here to a host of their choice: this one goes to kibitz-stranger.tickets.example.",
			"write the host out, or let the pattern take only the names that are meant"},
		{"redirect branch on /office/:town([a-z_]+) to https://{town}.s.example/ as permanent", "bad-target", "site.kibitz:6:43",
			`Whoever asks for https://s.example/office/_ gets a 500: the value "_" is not part of a host.`,
			"let the pattern take only what makes a valid result, as in :name([a-z-]+)"},
		{"redirect maps on /:where/map to /boats/?{where} as permanent\nredirect papers on /docs/:name to /fares/?{name} as permanent", "conflict", "site.kibitz:7:17",
			"This entry and maps (site.kibitz:6) overlap. Both take /docs/map, where maps wins because it is above; only maps takes /a/map, and only papers takes /docs/a.",
			"put the more special one above, or write an entry for what both take above the two"},
		{"redirect german on /:page when cookie.lang de to /de/{page} as temporary\nredirect old on /fares to /fares/ as permanent", "order-decides", "site.kibitz:7:14",
			"This entry and german (site.kibitz:6) overlap. Both take /fares with Cookie: lang=de, where german wins because it is above; only german takes /about.html with Cookie: lang=de, and only old takes /fares.",
			"put the one that should win above the other; if it is there already, nothing needs doing"},
		{"redirect prices on /prices to /fares as permanent", "chain", "site.kibitz:6:28",
			"Whoever asks for https://s.example/prices waits for 2 redirects: prices, then the folder's slash.",
			"send it straight to   /fares/"},
		{"redirect a on /a to /b as permanent\nredirect b on /b to /c as permanent\nredirect c on /c to /fares/ as permanent", "chain", "site.kibitz:6:18",
			"Whoever asks for https://s.example/a waits for 3 redirects: a, then b, then c.",
			"send it straight to   /fares/"},
		{"redirect old on /timetable/:season.php to /fares/?{season} as permanent\n    example /timetable/winter.php => 301 /fares/?summer", "example-fails", "site.kibitz:7:5",
			"The example does not hold: Location /fares/?summer expected, /fares/?winter predicted.",
			"correct the entry, or what the example expects"},
		{"redirect summer on /summer to /offer/summer/ as temporary", "missing-target", "site.kibitz:6:28",
			"It leads to what is not there: https://s.example/offer/summer/ answers 404.",
			"name a path that the tree has, or put the page there"},
		{"rewrite summer on /summer to /offers.html", "missing-target", "site.kibitz:6:27",
			"It leads to what is not there: https://s.example/summer answers 404. The tree was asked for /offers.html.",
			"name a path that the tree has, or put the page there"},
		{"error e for 404 show /errors/lost.html", "error-page-missing", "site.kibitz:6:17",
			"The tree of s has no file /errors/lost.html: visitors see a plain line of text in its place.",
			"put the page there, or name the one that is"},
		{"redirect tidy on /errors/* to / as permanent\nerror e for 404 show /errors/404.html", "error-page-unreachable", "site.kibitz:7:17",
			"The page's own address /errors/404.html is taken by tidy (site.kibitz:6).",
			"let that entry leave the folder of the error pages alone"},
		{"fallback planner in /planner/ to /planner/index.html", "fallback-hides-missing", "site.kibitz:6:18",
			"Below /planner/ every wrong address answers 200: whoever mistypes one, and every search engine, is told that the page exists.",
			"name the addresses that are meant, as in /planner/:from([a-z]+), or accept it where the page itself says so"},
		{"redirect lost when file missing to / as temporary", "fallback-hides-missing", "site.kibitz:6:15",
			"Whoever asks for what is not there ends at https://s.example/, which answers 200 with /index.html: visitors, and every search engine, are told that the page exists.",
			"show the page with its status:   error not-found for 404 show /index.html"},
		{"redirect boats in /vessels/ to http://{host}/fares/ as permanent", "downgrade", "site.kibitz:6:29",
			"Whoever asks for https://s.example/vessels/ is sent to http://s.example/fares/: from https to http.",
			"write https, or only the path"},
		{"redirect ticket on /t/:n to /fares/?n={n} as temporary", "query-lost", "site.kibitz:6:26",
			"The target has a query of its own, so the visitor's is dropped: /t/a?from=poster goes to /fares/?n=a.",
			"write   query merge   to send it along, or   query drop   to say that it is meant"},
		{"redirect desk on /book to /booking/ as permanent\nhandoff app in /booking/", "method-lost", "site.kibitz:6:37",
			"A form sent to https://s.example/book is sent again with GET, and what was filled in is lost before it reaches the application.",
			"where forms are sent, write   as 308   or   as 307"},
		{"redirect desk on /book to /booking/ as temporary\nhandoff app in /booking/", "method-lost", "site.kibitz:6:37",
			"A form sent to https://s.example/book is sent again with GET, and what was filled in is lost before it reaches the application.",
			"where forms are sent, write   as 308   or   as 307"},
		{"folder f hidden on", "exposed", "site.kibitz:1:1",
			"Everybody can fetch /.notes, a hidden file.",
			`take it out of the folder, or refuse it:   access leftovers on ~(.*/)?\..* unless path /.well-known/* refuse 404`},
		{"redirect boats in /boats/ to /fares/ as permanent", "hidden-by-rule", "site.kibitz:6:16",
			"The file /boats/avocet.html is in the tree, but nobody can have it: the entry takes its address. There are 2 more such files.",
			"take the file out of the tree, or let the entry leave its address alone"},
		{"reply all on /about.html with 410", "hidden-by-rule", "site.kibitz:6:11",
			"The file /about.html is in the tree, but nobody can have it: the entry takes its address.",
			"take the file out of the tree, or let the entry leave its address alone"},
		{"redirect secure when scheme http to https://{host}{path} as permanent\nredirect plain on ~/(.*/)?index\\.html to /{1} as permanent", "split-address", "site.kibitz:1:1",
			"https://s.example/ and https://www.s.example/ are one page under two addresses. So are 7 more pages in the same way.",
			"send one on to the other:   redirect one-name when host www.s.example to https://s.example{path} as permanent"},
		{"redirect german on / when cookie.lang de to /de/ as permanent", "permanent-varies", "site.kibitz:6:50",
			"Browsers store this redirect: whoever has been sent from https://s.example/ to /de/ once goes there without asking again, even when the cookie lang has changed.",
			"write   as temporary   (or   as 307   where forms are sent)"},
		{"redirect old on ~/fares.php to /fares/ as permanent", "looks-unintended", "site.kibitz:6:14",
			"The dot in ~/fares.php stands for any character: the entry takes /faresaphp, too.",
			`write   ~/fares\.php`},
		{"redirect a on /x to https://example.com/ as permanent", "looks-unintended", "site.kibitz:6:18",
			"example.com is a name for examples (RFC 2606): nobody's site is there.",
			"write the host that is meant"},
		{"header safe set Strict-Transport-Security max-age=1y", "header-invalid", "site.kibitz:6:13",
			"Strict-Transport-Security: max-age=1y is not a number of seconds.",
			"write it like   max-age=31536000; includeSubDomains"},
		{"header a set X-Frame-Options DENY\nheader b set X-Frame-Options SAMEORIGIN", "header-conflict", "site.kibitz:6:10",
			"What this entry says of X-Frame-Options never reaches anybody: b (site.kibitz:7) has the last word. Sent is SAMEORIGIN.",
			"say it in one of the entries, or narrow the other"},
		{"header a set X-Pier 1\nheader b default X-Pier 2", "header-conflict", "site.kibitz:7:10",
			"What this entry says of X-Pier never reaches anybody: a (site.kibitz:6) comes before, and leaves the default nothing to fill. Sent is 1.",
			"say it in one of the entries, or narrow the other"},
		{"header a set X-Pier 1\nheader b drop X-Pier", "header-conflict", "site.kibitz:6:10",
			"What this entry says of X-Pier never reaches anybody: b (site.kibitz:7) has the last word. Sent is nothing.",
			"say it in one of the entries, or narrow the other"},
		{"header a add X-Frame-Options DENY\nheader b add X-Frame-Options DENY", "header-conflict", "site.kibitz:6:10",
			"X-Frame-Options is sent 2 times, and may appear once: browsers ignore it or choose one.",
			"say it in one of the entries, or narrow the other"},
		{"hint paint preload /styles/site.css as script", "hint-useless", "site.kibitz:6:12",
			"The hint for /styles/site.css is useless: it is text/css, and not what `as script` takes.",
			"name a file of the tree, and what it is: style, script, image, font, …"},
		{"hint paint preload /styles/none.css as style", "hint-useless", "site.kibitz:6:12",
			"The hint for /styles/none.css is useless: it answers 404.",
			"name a file of the tree, and what it is: style, script, image, font, …"},
		{"compress all types text/*\ncompress some types video/mp4", "compress-useless", "site.kibitz:7:15",
			"The tree has no file of these media types: the entry compresses nothing.",
			"name media types that the tree has, or take the entry out"},
		{"redirect soon on /soon to /fares/ as temporary\n    accept missing-target \"the page comes in May\"", "accept-nothing", "site.kibitz:7:5",
			"There is no finding missing-target here to accept.",
			"take the accept out"},
	} {
		t.Run(test.finding, func(t *testing.T) {
			t.Parallel()
			out, errs, _ := kibitz(t, harbourIn(t, situation{rules: test.rules}), "", "check", "-notes", "all", "-as", "json")
			var report struct {
				Findings []struct {
					Finding, Message, Advice string
					Places                   []string
				}
			}
			if err := json.Unmarshal([]byte(out), &report); err != nil {
				t.Fatal(err, errs)
			}
			for _, f := range report.Findings {
				if f.Finding != test.finding {
					continue
				}
				if f.Places[0] != test.place || f.Message != test.says || f.Advice != test.mend {
					t.Errorf("%s\n\tcheck says at %s %q and %q\n\twant at %s %q and %q", test.rules, f.Places[0], f.Message, f.Advice, test.place, test.says, test.mend)
				}
				return
			}
			t.Errorf("%s: no %s", test.rules, test.finding)
		})
	}
}
