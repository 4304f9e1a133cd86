package main

import (
	"strings"
	"testing"
)

// How rulebooks are laid out; what is laid out once stays as it is.
func TestRulebooksAreLaidOutInColumns(t *testing.T) {
	for _, test := range []struct{ name, text, want string }{
		{"blanks and tabs", "site   s\taddress https://s.example", "site s  address https://s.example"},
		{"entries that stand together share columns", `
site s address https://s.example
redirect a on /a to /b as 301
redirect longer on /longer to /b as permanent`, `
site     s                   address https://s.example
redirect a       on /a       to /b  as 301
redirect longer  on /longer  to /b  as permanent`},
		{"a blank line parts the columns", `
site s address https://s.example

redirect a on /a to /b as 301

redirect longer on /longer to /b as permanent`, `
site s  address https://s.example

redirect a  on /a  to /b  as 301

redirect longer  on /longer  to /b  as permanent`},
		{"clauses on lines of their own", `
site s
 address https://s.example
   hosts www.s.example

redirect a
	on /a
	to /b
	as 301`, `
site s
    address https://s.example
    hosts   www.s.example

redirect a
    on /a
    to /b
    as 301`},
		{"comments stay where they are", `
# the site
site s address https://s.example # main
   # about it
redirect a on /a to /b as 301 # why`, `
# the site
site s  address https://s.example  # main
    # about it
redirect a  on /a  to /b  as 301  # why`},
		{"quotes stay", `
site s address https://s.example

header h set X-A "two words" set X-B "\"" drop "Server"`, `
site s  address https://s.example

header h  set X-A "two words"  set X-B "\""  drop "Server"`},
		{"examples and what is accepted stand below", `
site s address https://s.example

redirect a on /a to /b as 301
 example /a => 301 /b
 accept chain "it is meant"`, `
site s  address https://s.example

redirect a  on /a  to /b  as 301
    example /a => 301 /b
    accept chain "it is meant"`},
		{"letters beyond ASCII count as one", `
site s address https://s.example

redirect a on /fähre to /b as 301
redirect b on /boote to /b as 301`, `
site s  address https://s.example

redirect a  on /fähre  to /b  as 301
redirect b  on /boote  to /b  as 301`},
	} {
		t.Run(strings.ReplaceAll(test.name, " ", "-"), func(t *testing.T) {
			dir := write(t, map[string]string{"t.kibitz": strings.TrimPrefix(test.text, "\n") + "\n"})
			out, errs, status := kibitz(t, dir, "", "format", "t.kibitz")
			if want := strings.TrimPrefix(test.want, "\n") + "\n"; out != want || status != 0 {
				t.Errorf("status %d, got\n%s\nwant\n%s%s", status, out, want, errs)
			}
			dir = write(t, map[string]string{"t.kibitz": out})
			if again, _, status := kibitz(t, dir, "", "format", "-check", "t.kibitz"); status != 0 {
				t.Errorf("laid out once more it is\n%s", again)
			}
		})
	}
}

// The rulebook as a table, and the rows that could take an address.
func TestRulesForAnAddress(t *testing.T) {
	dir := harbourIn(t, situation{rules: `redirect secure when scheme http to https://{host}{path} as permanent
redirect fares on /fares.php to /fares/ as permanent
moves old table moves.csv as permanent
access crew in /crew/ unless client 192.0.2.0/24 refuse
fallback bare in / to {path}.html
error lost for 404 show /errors/404.html
header framing set X-Frame-Options SAMEORIGIN
header assets in /styles/ for 200 default Cache-Control no-cache`})
	for _, test := range []struct{ asks, names string }{
		{"/", "bare lost framing"},
		{"/fares.php", "fares old bare lost framing"},
		{"http://s.example/fares.php", "secure fares old bare lost framing"},
		{"/boat.php?id=1", "old bare lost framing"},
		{"/boat.php", "bare lost framing"},
		{"/crew/rota.html", "crew bare lost framing"},
		{"/styles/site.css", "bare lost framing assets"},
	} {
		out, errs, status := kibitz(t, dir, "", "rules", "-for", test.asks)
		var names []string
		for _, line := range strings.Split(out, "\n")[1:] {
			if cells := strings.Fields(line); len(cells) > 2 {
				names = append(names, cells[2])
			}
		}
		if got := strings.Join(names, " "); got != test.names || status != 0 {
			t.Errorf("%s: %q, want %q\n%s%s", test.asks, got, test.names, out, errs)
		}
	}
}
