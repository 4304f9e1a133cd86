package engine

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// manyEntries writes n redirects, and the same as regular expressions.
func manyEntries(n int) (text string, expressions []*regexp.Regexp) {
	var b strings.Builder
	b.WriteString("site s address https://s.example files public\n")
	for i := range n {
		fmt.Fprintf(&b, "redirect e%d on /shelf-%d/:name-:size.php to /new-%d/{name}/{size} as 301\n", i, i, i)
		expressions = append(expressions, regexp.MustCompile(fmt.Sprintf(`^/shelf-%d/([^/]+?)-([^/]+?)\.php$`, i)))
	}
	return b.String(), expressions
}

// One request, predicted, and by the way of looking at one entry after the other
// with the regexp package: for the last entry and the one in the middle, whose
// Location is made, for none that looks like many, and for none at all. The first
// way must stay flat.
func BenchmarkOneRequest(b *testing.B) {
	for _, n := range []int{10, 100, 1_000, 10_000} {
		text, expressions := manyEntries(n)
		book, err := rulebook.Read("b.kibitz", []byte(text), nil)
		if err != nil {
			b.Fatal(err)
		}
		e := New(book, []*site.Tree{nil})
		for _, asked := range []struct{ what, path, location string }{
			{"last", fmt.Sprintf("/shelf-%d/map-large.php", n-1), fmt.Sprintf("/new-%d/map/large", n-1)},
			{"middle", fmt.Sprintf("/shelf-%d/map-large.php", n/2), fmt.Sprintf("/new-%d/map/large", n/2)},
			{"none-like-it", "/shelf-x/map-large.php", ""},
			{"none", "/fares/", ""},
		} {
			req := &request.Request{Address: book.Sites[0].Address}
			req.Address.Path = asked.path
			b.Run(fmt.Sprintf("%s/predicted/entries=%d", asked.what, n), func(b *testing.B) {
				r := &Response{}
				for b.Loop() {
					if e.Outcome(req, r); r.Location != asked.location {
						b.Fatal(r.Location)
					}
				}
			})
			b.Run(fmt.Sprintf("%s/one-by-one/entries=%d", asked.what, n), func(b *testing.B) {
				for b.Loop() {
					location := ""
					for i, re := range expressions {
						if m := re.FindStringSubmatch(asked.path); m != nil {
							location = fmt.Sprintf("/new-%d/%s/%s", i, m[1], m[2])
							break
						}
					}
					if location != asked.location {
						b.Fatal(location)
					}
				}
			})
		}
	}
}

// One request, among rows of a table that all have its path, each with another query:
// it must stay flat.
func BenchmarkOneRow(b *testing.B) {
	for _, n := range []int{10, 1_000, 100_000} {
		var table strings.Builder
		for i := range n {
			fmt.Fprintf(&table, "/page.php?id=%d,/pages/%d/\n", i, i)
		}
		book, err := rulebook.Read("b.kibitz", []byte("site s address https://s.example files public\nmoves m table m.csv as permanent\n"), func(string) ([]byte, error) { return []byte(table.String()), nil })
		if err != nil {
			b.Fatal(err)
		}
		e := New(book, []*site.Tree{nil})
		req := &request.Request{Address: book.Sites[0].Address}
		req.Address.Path, req.Address.Query, req.Address.HasQuery = "/page.php", fmt.Sprintf("id=%d", n/2), true
		b.Run(fmt.Sprintf("rows=%d", n), func(b *testing.B) {
			r := &Response{}
			for b.Loop() {
				if e.Outcome(req, r); r.Location != fmt.Sprintf("/pages/%d/", n/2) {
					b.Fatal(r.Location)
				}
			}
		})
	}
}
