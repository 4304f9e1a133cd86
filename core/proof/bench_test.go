package proof

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"kibitz/core/engine"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// largeBook writes n entries as rebuilt sites have them; with broad, one in a
// hundred has no literal beginning.
func largeBook(n int, broad bool) string {
	var b strings.Builder
	b.WriteString("site s address https://s.example files public hosts www.s.example\nredirect secure when scheme http to https://{host}{path} as permanent\n")
	for i := range n {
		switch {
		case broad && i%100 == 0:
			fmt.Fprintf(&b, "redirect b%d on ~/.*x%d\\.php to /new/b%d/ as permanent\n", i, i, i)
		case i%10 < 5:
			fmt.Fprintf(&b, "redirect e%d on /old%d/:x to /new%d/{x}/ as permanent\n", i, i, i)
		case i%10 < 7:
			fmt.Fprintf(&b, "redirect e%d on /s%d/p%d/* to /t%d/{1} as permanent\n", i, i%200, i, i)
		case i%10 == 7:
			fmt.Fprintf(&b, "rewrite e%d on /r%d/:x/:y to /show%d.html?a={x}&b={y}\n", i, i, i)
		case i%10 == 8:
			fmt.Fprintf(&b, "redirect e%d on /page%d.php when query.id %d to /pages/%d/ as permanent\n", i, i, i, i)
		default:
			fmt.Fprintf(&b, "access e%d in /private%d/ unless client 192.0.2.0/24 refuse\n", i, i)
		}
	}
	return b.String()
}

// many writes n entries, each made of its number.
func many(n int, entry func(i int) string) string {
	var b strings.Builder
	b.WriteString("site s address https://s.example files public hosts *.s.example\n")
	for i := range n {
		b.WriteString(entry(i) + "\n")
	}
	return b.String()
}

// names gives n names of hosts.
func names(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, " h%d.example", i)
	}
	return b.String()
}

// table is a table of moves of which one row in ten leads to another.
func largeTable(n int) []byte {
	var b strings.Builder
	for i := range n {
		to := fmt.Sprintf("/new/%d/", i)
		if i%10 == 0 && i+7 < n {
			to = fmt.Sprintf("/old/p%d.html", i+7)
		}
		fmt.Fprintf(&b, "/old/p%d.html,%s\n", i, to)
	}
	return []byte(b.String())
}

// Reading, compiling and checking large rulebooks.
func BenchmarkCheck(b *testing.B) {
	moves := largeTable(100_000)
	for _, test := range []struct{ name, text string }{
		{"entries=2000", largeBook(2000, false)},
		{"entries=5000,broad=50", largeBook(5000, true)},
		{"moves=100000", "site s address https://s.example files public\nmoves m table m.csv as permanent\n"},
		{"queries=2000", many(2000, func(i int) string {
			return fmt.Sprintf("redirect q%d on /index.php when query.id %d to /pages/%d/ as permanent", i, i, i)
		})},
		{"domains=2000", many(2000, func(i int) string {
			return fmt.Sprintf("redirect d%d when host h%d.s.example to https://s.example/%d/ as permanent", i, i, i)
		})},
		{"names=5000", "site s address https://s.example files public hosts" + names(5000) + "\nredirect old on /old to /new as 301\nredirect new on /new to /x as 301\n"},
		{"error-pages=2000", many(2000, func(i int) string { return fmt.Sprintf("error e%d for 4xx in /part%d/ text gone", i, i) })},
		{"networks=50000", many(1, func(int) string {
			var list strings.Builder
			for i := range 50_000 {
				fmt.Fprintf(&list, " 10.%d.%d.%d", i>>16, i>>8&255, i&255)
			}
			return "access a when client" + list.String() + " refuse"
		})},
	} {
		b.Run(test.name, func(b *testing.B) {
			for b.Loop() {
				book, err := rulebook.Read("t.kibitz", []byte(test.text), func(string) ([]byte, error) { return moves, nil })
				if err != nil {
					b.Fatal(err)
				}
				Check(engine.New(book, []*site.Tree{site.Memory(map[string]string{"/index.html": "x"})}), 1)
			}
		})
	}
}

// As many entries of one kind with one way of saying for whom, and three times as many: what
// takes much more than three times as long, or stands out among the others, is to be looked at.
func BenchmarkShapes(b *testing.B) {
	shapes := map[string]string{ // N is the number of the entry, M the next
		"redirect on":         "redirect rN on /oldN to /newN as permanent",
		"redirect in":         "redirect rN in /oldN/ to /newN/{below} as permanent",
		"redirect anywhere":   "redirect rN on /*-N to /newN as permanent",
		"redirect capture":    "redirect rN on /aN/:x to /bN/{x} as permanent",
		"redirect chain":      "redirect rN on /pN/:x to /pM/{x} as permanent",
		"redirect query":      "redirect rN on /page when query.id N to /pN as permanent query drop",
		"redirect cookie":     "redirect rN on /cN when cookie.k vN to /pN as temporary",
		"redirect host":       "redirect rN when host hN.s.example to https://s.example{path} as permanent",
		"redirect agent":      "redirect rN when agent *xN* to /m{path} as temporary",
		"redirect expression": "redirect rN on ~/xN/([a-z]+)-(\\d+) to /y/{1} as permanent",
		"redirect to host":    "redirect rN on /hN/:x to https://{x}.hN.example/ as temporary",
		"redirect time":       "redirect rN on /tN when time after 2026-01-01 to /uN as temporary",
		"redirect any case":   "redirect rN on /CaseN/:x to /case-N/{x} as permanent ignoring case",
		"rewrite next":        "rewrite wN on /wN/:x to /vN/{x} then next",
		"rewrite again":       "rewrite wN on /wN/:x to /wM/{x} then again",
		"access in":           "access aN in /sN/ refuse",
		"access in unless":    "access aN in /sN/ unless client 10.0.0.0/8 refuse",
		"access agent":        "access aN when agent *botN* refuse",
		"access extension":    "access aN on /*.extN refuse",
		"access referrer":     "access aN on /fN.html when referrer https://rN.example/* refuse",
		"reply anywhere":      "reply gN on /*-gN with 410",
		"handoff":             "handoff hN in /appN/",
		"fallback":            "fallback fN in /fN/ to /index.html",
		"error":               "error eN in /eN/ for 404 show /index.html",
		"folder":              "folder dN in /dN/ listing on",
		"header anywhere":     "header xN on /*.eN set X-A vN",
		"media":               "media mN type eN text/x-eN",
		"limit":               "limit lN in /lN/ body 1KiB",
		"site with a guard":   "site sN address https://sN.example files public\nredirect rN when scheme http to https://{host}{path} as permanent\naccess gN in /x/ refuse",
	}
	for _, name := range slices.Sorted(maps.Keys(shapes)) {
		for _, n := range []int{300, 900} {
			text := many(n, func(i int) string {
				return strings.NewReplacer("N", fmt.Sprint(i), "M", fmt.Sprint(i+1)).Replace(shapes[name])
			})
			book, err := rulebook.Read("t.kibitz", []byte(text), nil)
			if err != nil {
				b.Fatal(err)
			}
			trees := make([]*site.Tree, len(book.Sites))
			for i := range trees {
				trees[i] = site.Memory(map[string]string{"/index.html": "x", "/x/a.html": "x", "/s1/b.html": "x"})
			}
			b.Run(fmt.Sprintf("%s=%d", strings.ReplaceAll(name, " ", "-"), n), func(b *testing.B) {
				for b.Loop() {
					Check(engine.New(book, trees), 1)
				}
			})
		}
	}
}
