package main

import (
	"encoding/csv"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// Tables of old addresses, as they come out of spreadsheets and old systems: what a
// request becomes, or which row is wrong and why.
func TestTablesOfMoves(t *testing.T) {
	for _, test := range []struct{ name, clauses, table, asks, want string }{
		{"a heading", "as permanent", "old,new\n/a,/fares/\n", "/a", "301 /fares/"},
		{"no heading", "as permanent", "/a,/fares/\n/b,/boats/", "/b", "301 /boats/"},
		{"a heading in capitals", "as permanent", "Old,New,Status\n/a,/fares/,\n", "/a", "301 /fares/"},
		{"a byte order mark, and lines of another system", "as permanent", "\ufeffold,new\r\n/a,/fares/\r\n", "/a", "301 /fares/"},
		{"quotes", "as permanent", "\"/a,b\",\"/fares/\"\n", "/a,b", "301 /fares/"},
		{"blanks around", "as permanent", " /a , /fares/ \n", "/a", "301 /fares/"},
		{"a status of its own", "as permanent", "/a,/fares/,308\n/b,/boats/,\n", "/a", "308 /fares/"},
		{"and the entry's", "as temporary", "/a,/fares/,308\n/b,/boats/,\n", "/b", "302 /boats/"},
		{"gone", "as permanent", "/a,,410\n", "/a", "410"},
		{"missing on purpose", "as permanent", "/a,,404\n", "/a", "404"},
		{"another host", "as permanent", "/a,https://maps.example/x?y=1#z\n", "/a", "301 https://maps.example/x?y=1#z"},
		{"the query goes along", "as permanent", "/a,/fares/\n", "/a?day=1", "301 /fares/?day=1"},
		{"but not where the new address has one", "as permanent", "/a,/fares/?from=a\n", "/a?day=1", "301 /fares/?from=a"},
		{"nor where it is dropped", "as permanent query drop", "/a,/fares/\n", "/a?day=1", "301 /fares/"},
		{"some of it", "as permanent query only day", "/a,/fares/\n", "/a?day=1&x=2", "301 /fares/?day=1"},
		{"a query is used up", "as permanent", "/a?id=1,/fares/\n/a?id=2,/boats/\n", "/a?id=2", "301 /boats/"},
		{"a query as it stands", "as permanent", "/a?x=1&y=2,/fares/\n", "/a?y=2&x=1", "404"},
		{"with a query and without", "as permanent", "/a?id=1,/boats/\n/a,/fares/\n", "/a?id=9", "301 /fares/?id=9"},
		{"any query, and below it one", "as permanent", "/a,/fares/\n/a?id=1,/boats/\n", "/a?id=1", "301 /fares/?id=1"},
		{"a query at a host of its own", "as permanent", "https://www.s.example/a?id=1,/fares/\n/a?id=1,/boats/\n", "https://www.s.example/a?id=1", "301 /fares/"},
		{"and at the others", "as permanent", "https://www.s.example/a?id=1,/fares/\n/a?id=1,/boats/\n", "/a?id=1", "301 /boats/"},
		{"a host of its own, and any query there", "as permanent", "/a?id=2,/boats/\nhttps://www.s.example/a,/fares/\n", "https://www.s.example/a?id=1", "301 /fares/?id=1"},
		{"semicolons", "as permanent", "old;new;status\n/a,b;/fares/;308\n", "/a,b", "308 /fares/"},
		{"tabs", "as permanent", "/a;b\t/fares/\n", "/a;b", "301 /fares/"},
		{"a semicolon in an address", "as permanent", "/a;b,/fares/\n", "/a;b", "301 /fares/"},
		{"in any spelling", "as permanent", "/f%c3%a4hre,/fares/\n", "/fähre", "301 /fares/"},
		{"as people write it", "as permanent", "/fähre alt,/fares/\n", "/f%C3%A4hre%20alt", "301 /fares/"},
		{"letter case counts", "as permanent", "/Alt,/fares/\n", "/alt", "404"},
		{"unless it is ignored", "as permanent ignoring case", "/Alt,/fares/\n", "/ALT", "301 /fares/"},
		{"a slash counts", "as permanent", "/a/,/fares/\n", "/a", "404"},
		{"a host of its own", "as permanent", "https://www.s.example/a,/fares/\n/a,/boats/\n", "https://www.s.example/a", "301 /fares/"},
		{"and the others", "as permanent", "https://www.s.example/a,/fares/\n/a,/boats/\n", "/a", "301 /boats/"},
		{"a scheme of its own", "as permanent", "http://s.example/a,/fares/\n", "/a", "404"},
		{"only in a folder", "in /shop/ as permanent", "/shop/a,/fares/\n/b,/boats/\n", "/b", "404"},
		{"only for some", "when cookie.beta 1 as temporary", "/a,/fares/\n", "/a", "404"},
		{"what is not in it", "as permanent", "/a,/fares/\n", "/ab", "404"},
		{"dots in the old address are resolved", "as permanent", "/x/../a,/fares/\n", "/a", "301 /fares/"},
		{"a comment is not a row", "as permanent", "/a,/fares/\n# later\n", "/a", "line 2: a row has two or three fields (old, new, status), not 1"},

		{"no status", "", "/a,/fares/\n", "", "line 1: the row has no status"},
		{"a status that is none", "as permanent", "/a,/fares/,200\n", "", `line 1: the status "200" is not one of 301 302 303 307 308 404 410`},
		{"a word for a status", "as permanent", "/a,/fares/,permanent\n", "", `line 1: the status "permanent" is not one of`},
		{"no new address", "as permanent", "/a,\n", "", "line 1: the new address is missing"},
		{"a new address for what is gone", "as permanent", "/a,/fares/,410\n", "", "line 1: a row with status 410 has no new address"},
		{"twice", "as permanent", "/a,/fares/\n/b,/fares/\n/a,/boats/\n", "", "line 3: /a is on line 1 already"},
		{"twice, in two spellings", "as permanent", "/%61,/fares/\n/a,/boats/\n", "", "line 2: /a is on line 1 already"},
		{"at itself", "as permanent", "/a,/a\n", "", "line 1: /a points at itself"},
		{"at itself, by a longer way", "as permanent", "/x/a,../x/./a\n", "", "the new address begins with a slash"},
		{"at itself, in full", "as permanent", "/a,https://s.example/a\n", "", "line 1: /a points at itself"},
		{"at itself, in another case", "as permanent ignoring case", "/a,/A\n", "", "line 1: /a points at itself"},
		{"no slash", "as permanent", "a,/fares/\n", "", "line 1: an address begins with a slash or with https://: write /a"},
		{"no slash in the new one", "as permanent", "/a,fares/\n", "", "line 1: the new address begins with a slash or with https://: write /fares/"},
		{"two slashes", "as permanent", "/a,//maps.example/\n", "", "write https://maps.example/"},
		{"a fragment", "as permanent", "/a#b,/fares/\n", "", "line 1: a fragment (#…) never reaches the server"},
		{"a climbing path", "as permanent", "/../a,/fares/\n", "", "line 1: the path climbs above the root"},
		{"no old address", "as permanent", ",/fares/\n", "", "line 1: the address is empty"},
		{"one column", "as permanent", "/a\n", "", "line 1: a row has two or three fields (old, new, status), not 1"},
		{"an open quote", "as permanent", "\"/a,/fares/\n", "", "line 1: "},
		{"four fields", "as permanent", "/a,/fares/,301,note\n", "", "line 1: a row has two or three fields (old, new, status), not 4"},
	} {
		t.Run(strings.ReplaceAll(test.name, " ", "-"), func(t *testing.T) {
			t.Parallel()
			dir := harbourIn(t, situation{rules: "moves m table own.csv " + test.clauses})
			if err := os.WriteFile(filepath.Join(dir, "own.csv"), []byte(test.table), 0o644); err != nil {
				t.Fatal(err)
			}
			asks := test.asks
			if asks == "" {
				asks = "/"
			}
			out, errs, _ := kibitz(t, dir, asks+"\n", "replay", "-each", "-as", "csv", "-")
			got := errs
			if rows, err := csv.NewReader(strings.NewReader(out)).ReadAll(); err == nil && errs == "" && len(rows) == 2 {
				got = strings.TrimSpace(column(rows, "status") + " " + column(rows, "location"))
			}
			if errs == "" && got != test.want || !strings.Contains(strings.Join(strings.Fields(got), " "), test.want) {
				t.Errorf("%q asked for %s: %s, want %s", test.table, test.asks, got, test.want)
			}
		})
	}
}

// column gives the field of the first row below its heading.
func column(rows [][]string, heading string) string {
	return rows[1][slices.Index(rows[0], heading)]
}
