package main

import (
	"fmt"
	"strings"
	"testing"
	"unicode/utf8"
)

// Every mistake in a rulebook is shown where it is, and with the way out. The
// place stands in the text as ‸.
func TestEveryMistakeHasItsPlaceAndAWayOut(t *testing.T) {
	for _, test := range []struct{ rules, want string }{
		// the text
		{"redirect a on /x to /y as 301 ‸\"", "the quote opened here is not closed on this line: add a \""},
		{"reply a on /x with 200 text \"two\"‸s", "a blank must follow a closing quote"},
		{"redirect a on /fähre \"/großer kai\"  to /y as ‸301x", "`301x`"},
		{"# here\x07", "a control character (0x07)"},
		{"# \xff", "a byte that is not UTF-8 text (0xFF)"},

		// the grammar
		{"‸redirct a on /x to /y as 301", "`redirct` is not a kind of entry: did you mean `redirect`?"},
		{"‸\"redirect\" a on /x to /y as 301", "is not a kind of entry"},
		{"redirect a on /x ‸tp /y as 301", "`tp` is not a path: did you mean the clause `to`?"},
		{"redirect a on /x to /y ‸az 301", "`az` is not a clause of `redirect`: did you mean `as`?"},
		{"redirect ‸/x to /y as 301", "a path follows `on` or `in`, like `redirect on /x`"},
		{"redirect ‸wen scheme http to /y as 301", "did you mean `when`?"},
		{"redirect ‸a/b on /x to /y as 301", "names are made of letters, digits, - _ and ."},
		{"redirect tea ‸onn /x to /y as 301", "`onn` is not a clause of `redirect`: did you mean `on`?"},
		{"redirect ‸on on /x to /y as 301", "`on` begins a clause of `redirect` and cannot be its name"},
		{"redirect in ‸on / to /y as 301", "if `in` is meant as the name of this entry, call it something else"},
		{"header ‸set set X-Pier 1", "`set` begins a clause of `header` and cannot be its name"},
		{"redirect a on /x to /y as 301 ‸as 302", "`as` stands twice in this entry: it is said on line 3 already"},
		{"‸redirect a on /x to /y", "this `redirect` lacks `as`: it needs a status, like `as permanent`"},
		{"‸fallback f in /x/", "this `fallback` lacks `to`"},
		{"error e for 404 show‸", "`show` needs a path in the site's tree"},
		{"redirect a on /x to‸", "`to` needs an address"},
		{"‸header h in /x/", "this `header` says nothing"},
		{"redirect a on /x to /y as 301 when scheme‸", "`when` needs a field and a value"},
		{"redirect a on /x to /y as 301\nredirect ‸a on /z to /y as 301", "the name `a` is taken by the redirect at t.kibitz:3"},
		{"‸header h for 200", "changes nothing: add `set NAME VALUE`"},
		{"‸folder f in /x/", "this `folder` says nothing"},
		{"list ‸crew", "the list is empty: write its values behind the name"},
		{"‸list", "a list needs a name and its values"},
		{"list a b\nlist ‸a c", "there are two lists called `a`"},
		{"list a ‸{b}", "a list holds no lists"},
		{"‸include", "`include` takes the name of one file"},
		{"include ‸t.kibitz", "these files include each other in a circle: t.kibitz includes t.kibitz"},
		{"include ‸none.kibitz", "the rulebook to include cannot be read"},

		// sites
		{"‸site\n address https://t.example", "a site needs a name"},
		{"site ‸s address https://t.example", "there are two sites called `s`"},
		{"site t address ‸t.example", "a site's address is a full URL"},
		{"site t address ‸https://t.example/x", "ends with its host: write https://t.example"},
		{"site t address https://t.example slashes ‸keeep", "`keeep` does not go here: did you mean `keep`?"},
		{"site t address https://t.example hosts t.example‸/x", "a host holds no slash"},
		{"site t address https://t.example files a ‸inventory b", "`files` or an `inventory`, not both"},
		{"‸site t", "lacks `address`"},
		{"site t address ‸https://s.example:8443", "site `s` answers for s.example already: sites are told apart by their hosts alone"},
		{"site t address https://t.example hosts u.example ‸s.example", "site `s` answers for s.example already"},
		{"site t address https://t.example hosts ‸S.Example", "answers for S.Example already"},
		{"site t address https://t.example hosts *.x.example\nsite u address https://u.example hosts ‸*.x.example", "site `t` answers for *.x.example already"},
		{"site t address https://t.example unknown-hosts answer\nsite u address https://u.example ‸unknown-hosts answer", "site `t` answers for unknown hosts already"},

		// paths and patterns
		{"redirect a on ‸fares to /y as 301", "paths begin with a slash: write /fares"},
		{"redirect a on /x‸//y to /y as 301", "write one slash, or `slashes keep` in the site"},
		{"redirect a on ‸/x/../y to /y as 301", "a path never has a .. segment"},
		{"redirect a on /page‸?id=3 to /y as 301", "when query.NAME"},
		{"redirect a on /x‸{y to /y as 301", "the { opened here is never closed"},
		{"redirect a on /x‸} to /y as 301", "a } without its {"},
		{"redirect a on /{a‸{b}} to /y as 301", "braces do not nest"},
		{"redirect a on /‸(\\d to /y as 301", "the group opened here is never closed"},
		{"redirect a on /‸() to /y as 301", "an empty group matches nothing"},
		{"redirect a on /(a‸(b)) to /y as 301", "a capture inside a group: write (?:…) there"},
		{"redirect a on /‸:/x to /y as 301", "a colon begins a name like :season; write \\: for a plain colon"},
		{"redirect a on /x‸\\ to /y as 301", "a \\ at the end escapes nothing"},
		{"redirect a on /:x/‸:x to /y as 301", "the name :x is used twice"},
		{"redirect a on ~‸/(x to /y as 301", "missing closing )"},
		{"redirect a on ~/x‸**{2} to /y as 301", "invalid nested repetition operator"},
		{"redirect a on ‸/x%zz to /y as 301", "write a plain % as %25"},
		{"redirect a on ‸/:path to /y as 301", "{path} is a field of the request already: give the group another name"},
		{"redirect a in ‸x/ to /y as 301", "a folder begins with a slash: write /x/"},
		{"redirect a in ‸/x* to /y as 301", "a folder holds no wildcards"},
		{"redirect a in ‸/x/../y to /y as 301", "without //, . and .. segments"},
		{"redirect a on /x ignoring ‸cases to /y as 301", "did you mean `case`?"},

		// conditions
		{"redirect a when ‸schema http to /y as 301", "did you mean `scheme`?"},
		{"redirect a when ‸\"scheme\" http to /y as 301", "is not a field of a request"},
		{"redirect a when scheme ‸htp to /y as 301", "a scheme is `http` or `https`"},
		{"redirect a ‸when scheme http https to /y as 301", "always holds: leave it out"},
		{"redirect a ‸when query.x absent present to /y as 301", "always holds"},
		{"redirect a ‸unless query.x absent present to /y as 301", "can never hold"},
		{"redirect a when method ‸get to /y as 301", "methods are written in capitals: GET"},
		{"redirect a when client ‸192.0.2.300 to /y as 301", "neither an address like 192.0.2.7"},
		{"redirect a when client ‸192.0.2.1/24 to /y as 301", "has bits beyond its length: write 192.0.2.0/24"},
		{"redirect a when client ‸{crew} to /y as 301", "there is no list `crew`: write `list crew VALUE…` above the sites"},
		{"redirect a when agent ~‸(x to /y as 301", "the regular expression cannot be read"},
		{"redirect a when file ‸there to /y as 301", "the tree is asked for `exists`, `folder` or `missing`"},
		{"redirect a when port ‸99999 to /y as 301", "is not a port: write a number up to 65535"},
		{"redirect a when body over ‸2 to /y as 301", "2 lacks its unit: write 2B, 2KiB or 2MiB"},
		{"redirect a when time after ‸noon to /y as 301", "write 2026-03-01 or 2026-03-01T08:00:00Z"},
		{"redirect a when time ‸over 2026-03-01 to /y as 301", "`over` does not go with this field: write `after`"},
		{"redirect a when body ‸after 2KiB to /y as 301", "write `over`"},
		{"redirect a when time ‸after 2026-03-01 before 2026-02-01 to /y as 301", "can never hold: the bounds leave nothing between them"},

		// targets and values
		{"redirect a on /x to ‸y as 301", "write /y"},
		{"redirect a on /x to ‸//t.example/ as 301", "write /t.example/ or https://t.example/"},
		{"redirect a on /x to ‸https:///y as 301", "the host is missing"},
		{"redirect a on /x to ‸https://a_b@c/ as 301", "is not a host"},
		{"redirect a on /x to /y/‸{z} as 301", "there is no value {z}"},
		{"redirect a on /:x to /y/‸{x|loud} as 301", "`loud` is nothing that can be done to a value"},
		{"redirect a on /:x to /y/‸{x as 301", "the { opened here is not closed: write {{ for a plain brace"},
		{"redirect a on /x to ‸/y/../z as 301", "the target has a .. segment"},
		{"redirect a on /x to ‸/y% as 301", "write a plain % as %25"},
		{"redirect a on /x to /y as ‸permanant", "did you mean `permanent`?"},
		{"redirect a on /x to /y as ‸200", "301"},
		{"redirect a on /x to /y?a=1 as 301 query ‸keep", "query merge"},
		{"redirect a on /x to /y as 301 query drop ‸b", "takes no names"},
		{"redirect a on /x to /y as 301 query ‸only", "needs the names"},
		{"rewrite w on /x to ‸https://t.example/", "this leads to a path inside the site: begin it with a slash"},
		{"rewrite w on /x to ‸/y#z", "a fragment (#…) never reaches the server"},
		{"rewrite w on /x to /y then ‸stop", "`stop` does not go here"},
		{"fallback f in /x/ to ‸/y?a=1", "a fallback is a file of the tree, and has no query"},
		{"fallback f in /x/ to /y as ‸301", "a fallback is served as 200, or as an error from 400 on"},

		// the other kinds
		{"moves m table ‸none.csv as 301", "the table cannot be read"},
		{"reply r on /x with ‸301", "a reply does not redirect: write a `redirect` entry"},
		{"reply r on /x with ‸99", "is not a status from 200 to 599"},
		{"reply r on /x with 404 retry ‸20", "20 lacks its unit"},
		{"reply r on /x with 404 retry ‸2w", "the unit `w` is not one of ms, s, m, h, d"},
		{"reply r on /x with 404 show /a ‸text b", "`show` and `text` do not go together"},
		{"reply r on /x with 404 show ‸a", "`show` names a path in the site's tree: write /a"},
		{"reply r on /x with 404 show ‸/a/", "is not a file in the site's tree"},
		{"handoff h in /x/ to ‸127.0.0.1:80", "an application is named by a full URL"},
		{"‸access a refuse admit", "just one of"},
		{"access a refuse 403 ‸404", "`refuse` takes one status"},
		{"access a refuse ‸302", "is not a status from 400 to 599"},
		{"access a ‸ask \"The crew\"", "`ask` needs the file with the names and password hashes"},
		{"access a refuse ‸accounts x", "`accounts` goes with `ask`"},
		{"access a ask x accounts ‸none", "the accounts file cannot be read"},
		{"access a ask x accounts ‸t.kibitz", "line 1 is not of the form name:hash"},
		{"access a ask x accounts ‸plain.accounts", "line 2 has no bcrypt hash"},
		{"‸error e for 404", "says for which status, but not what to show"},
		{"error e for ‸3xx text x", "is not a status"},
		{"error e for 404 text x ‸fill on", "a `text` has them already"},
		{"folder f documents ‸a/b", "a plain name, like index.html"},
		{"folder f documents ‸none index.html", "`documents none` stands alone"},
		{"folder f listing ‸yes", "`yes` does not go here"},
		{"folder f columns ‸colour", "`colour` does not go here"},
		{"header h set ‸A:b c", "is not a name of a header field"},
		{"header h set ‸Location /x", "Location is decided by the answer itself"},
		{"header h drop ‸content-length", "content-length is decided by the answer itself"},
		{"media m type html ‸html", "is not a media type: the last word is one like text/html"},
		{"media m type ‸a.b text/html", "is not an extension: write one like html"},
		{"media m charset ‸utf/8", "is not a charset"},
		{"compress c using ‸lz4", "`lz4` does not go here"},
		{"compress c types ‸text", "write one like text/css or text/*"},
		{"compress c level ‸12", "from 1 (quick) to 11 (small)"},
		{"compress c over ‸10", "10 lacks its unit"},
		{"hint h preload ‸a.css as style", "a hint names a path of the site: write /a.css"},
		{"hint h preload /a.css ‸for style", "a hint says what the file is for"},
		{"hint h preconnect ‸t.example", "an origin is a scheme and a host"},
		{"limit l url ‸2Kb", "`Kb`"},

		// examples and what is accepted
		{"redirect a on /x to /y as 301 example ‸/x 301 /y", "an example is a request, => and what is expected"},
		{"redirect a on /x to /y as 301 example ‸get /x => 301", "methods are written in capitals"},
		{"redirect a on /x to /y as 301 example /x ‸=> moved", "moved"},
		{"redirect a on /x to /y as 301 accept chain ‸meant", "a reason stands in quotes: accept chain \"why this is meant\""},
	} {
		text := "site s\n address https://s.example files public\n" + test.rules + "\n"
		place := ""
		if before, after, ok := strings.Cut(text, "‸"); ok {
			line := before[strings.LastIndexByte(before, '\n')+1:]
			place = fmt.Sprintf("t.kibitz:%d:%d\n", 1+strings.Count(before, "\n"), 1+utf8.RuneCountInString(line))
			text = before + after
		}
		dir := write(t, map[string]string{"t.kibitz": text, "plain.accounts": "# crew\nmate:secret\n"})
		out, errs, status := kibitz(t, dir, "", "check", "t.kibitz")
		flat := strings.Join(strings.Fields(errs), " ") // however it is wrapped
		if status != 2 || out != "" || !strings.Contains(flat, test.want) || !strings.Contains(errs, place) {
			t.Errorf("%s\nstatus %d, want %q at %s\n%s", test.rules, status, test.want, place, errs)
		}
	}
}

// Entries without a name whose first value is a clause's keyword, too.
func TestSentencesThatAreNoMistakes(t *testing.T) {
	for _, rule := range []string{
		"folder listing on in /photos/", "folder hidden on", "compress stored on", "redirect when query a=1 to /x as 301",
		"redirect unless query absent to /y as 301", "limit when body over 2MiB body 1MiB", "header set on x", "reply text text with 200",
	} {
		dir := write(t, map[string]string{"t.kibitz": "site s address https://s.example files .\n" + rule + "\n"})
		if out, errs, status := kibitz(t, dir, "", "rules", "t.kibitz"); status != 0 {
			t.Errorf("%s: status %d\n%s%s", rule, status, out, errs)
		}
	}
}
