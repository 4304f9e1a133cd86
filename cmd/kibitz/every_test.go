package main

import (
	"fmt"
	"strings"
	"testing"
)

// What is true of every request: a rulebook that is only written otherwise answers all
// alike, and one slip among thousands of rows is found.
func TestCompareSaysWhatIsTrueOfEveryRequest(t *testing.T) {
	const head = "site s address https://s.example hosts www.s.example\nredirect secure when scheme http to https://{host}{path} as permanent\n"
	const fares = "redirect fares on /prices/* to /fares/{1} as 302\n"
	rows, slip := "", ""
	for n := range 2000 {
		row := fmt.Sprintf("/shop/item-%d.html,/items/%d/,301\n", n+1, n+1)
		rows += row
		if n == 1233 {
			row = "/shop/item-1234.html,/items/1243/,301\n"
		}
		slip += row
	}
	dir := write(t, map[string]string{
		"rows.csv": rows, "slip.csv": slip,
		"table.kibitz":            head + "moves items table rows.csv\n" + fares,
		"slip.kibitz":             head + "moves items table slip.csv\n" + fares,
		"pattern.kibitz":          head + fares + "redirect items on /shop/item-:n([1-9]|[1-9]\\d|[1-9]\\d\\d|1\\d\\d\\d|2000).html to /items/{n}/ as permanent\n",
		"broad.kibitz":            head + fares + "redirect items on /shop/item-:n(\\d+).html to /items/{n}/ as permanent\n",
		"parted.kibitz":           head + "include rest.kibitz\n",
		"rest.kibitz":             "moves items table rows.csv\n" + fares,
		"turned.kibitz":           "site s address https://s.example hosts www.s.example\n" + fares + "moves items table rows.csv\nredirect secure when scheme http to https://{host}{path} as permanent\n",
		"rewrite.kibitz":          head + "rewrite w on /a/:x to /prices/{x} then next\n" + fares,
		"rewrite2.kibitz":         head + "rewrite w on /a/:x to /prices/{x} then next\nredirect fares on /prices/:x to /fares/{x} as 302\n",
		"public/fares/index.html": "fares",
		"slash.kibitz":            "site s address https://s.example files public\n",
		"said.kibitz":             "site s address https://s.example files public\nredirect r on /fares to /fares/ as permanent\n",
		"password.kibitz":         head + "access crew in /crew/ unless client 192.0.2.0/24 refuse\n",
		"header.kibitz":           head + "access crew in /crew/ unless client 192.0.2.0/24 refuse\nheader h in /crew/ for 403 set X-Why \"crew only\"\n",
	})
	for _, test := range []struct {
		old, new string
		status   int
		want     []string
	}{
		{"table", "pattern", 0, []string{"Proved: every request gets the same answer.", "Nothing changes."}},
		{"slip", "pattern", 1, []string{"Proved: every request gets the same answer, but for ", "items on /shop/item-:n", "was 301 to /items/1243/ by items", "now 301 to /items/1234/ by items", "kibitz trace -rules pattern.kibitz https://s.example/shop/item-1234.html"}},
		{"table", "broad", 1, []string{"was files, now 301 to /items/0/ by items", "kibitz trace -rules broad.kibitz https://s.example/shop/item-0.html"}},
		{"table", "parted", 0, []string{"Proved: every request gets the same answer. The entries are the same."}},
		{"slip", "parted", 1, []string{"was 301 to /items/1243/ by items"}},
		{"table", "turned", 1, []string{"was 301 to https://s.example/prices/ by secure", "now 302 to /fares/ by fares"}},
		{"rewrite", "rewrite2", 1, []string{"by fares"}},
		{"slash", "said", 0, []string{"No request was found that is answered differently", "Not known: the cause of an answer was slash and is redirect now: what other methods get is not known"}},
		{"password", "header", 1, []string{"Proved: every request gets the same answer, but for ", "crew in /crew/", "403 by crew", "with another X-Why"}},
	} {
		out, errs, status := kibitz(t, dir, "", "compare", "-expect-none", test.old+".kibitz", test.new+".kibitz")
		if status != test.status {
			t.Errorf("%s and %s: status %d, want %d\n%s%s", test.old, test.new, status, test.status, out, errs)
		}
		contains(t, out, test.want...)
		if json, _, _ := kibitz(t, dir, "", "compare", "-as", "json", test.old+".kibitz", test.new+".kibitz"); strings.Contains(json, `"alike": true`) != (test.status == 0 && !strings.Contains(out, "Not known: ")) {
			t.Errorf("%s and %s: as JSON otherwise:\n%s", test.old, test.new, json)
		}
	}
}
