package engine

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// Of several tables, with rows for the same path, query and origin, the first answers
// whose entry's conditions hold and which has a row for the request.
func TestRowsOfSeveralTables(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for range 400 {
		type row struct{ origin, path, query string }
		var tables [3][]row
		files := map[string]string{}
		text := "site s address https://s.example hosts www.s.example\n"
		for i := range tables {
			seen := map[row]bool{}
			for n := range 1 + r.IntN(4) {
				w := row{[]string{"", "", "https://www.s.example"}[r.IntN(3)], []string{"/a", "/b", "/c"}[r.IntN(3)], []string{"", "", "q=1"}[r.IntN(3)]}
				if seen[w] {
					continue
				}
				seen[w] = true
				tables[i] = append(tables[i], w)
				from := w.origin + w.path
				if w.query != "" {
					from += "?" + w.query
				}
				files[fmt.Sprintf("%d.csv", i)] += fmt.Sprintf("%s,/to-%d-%d\n", from, i, n)
			}
			text += fmt.Sprintf("moves m%[1]d when header.x-%[1]d present table %[1]d.csv as 302 query drop\n", i)
		}
		book, err := rulebook.Read("t.kibitz", []byte(text), func(name string) ([]byte, error) { return []byte(files[name]), nil })
		if err != nil {
			t.Fatal(err)
		}
		e := New(book, []*site.Tree{nil})
		for held := range 8 {
			for ask := range 12 {
				req := &request.Request{Address: request.Address{Scheme: "https", Host: []string{"s.example", "www.s.example"}[ask%2], Port: 443, Path: []string{"/a", "/b", "/c"}[ask/2%3]}}
				if ask >= 6 {
					req.Address.Query, req.Address.HasQuery = "q=1", true
				}
				for i := range tables {
					if held>>i&1 == 1 {
						req.Headers = append(req.Headers, request.Header{Name: fmt.Sprint("X-", i), Value: "x"})
					}
				}
				want := ""
				for i := range tables {
					if held>>i&1 == 1 && want == "" && slices.ContainsFunc(tables[i], func(w row) bool {
						return w.path == req.Address.Path && (w.origin == "" || w.origin == req.Address.Origin()) && (w.query == "" || w.query == req.Address.Query)
					}) {
						want = fmt.Sprint("m", i)
					}
				}
				got := ""
				if by := e.Predict(req).By; by != nil {
					got = by.Name
				}
				if got != want {
					t.Fatalf("%s %v is answered by %q, want %q, in\n%s%s", req.Address, req.Headers, got, want, text, strings.Join([]string{files["0.csv"], files["1.csv"], files["2.csv"]}, "--\n"))
				}
			}
		}
	}
}

// What a row leads to is read as it is written: an address in a query is not a host.
func TestWhereRowsLead(t *testing.T) {
	rows := map[string]string{
		"/plain/": "/plain/", "/go?u=https://x.example/a": "/go?u=https://x.example/a", "HTTPS://X.example/A": "https://x.example/A",
		"https://x.example": "https://x.example/", "https://x.example?q=1#top": "https://x.example/?q=1#top", "/a#b?c": "/a#b?c", "/a?": "/a",
	}
	for to, want := range rows {
		book, err := rulebook.Read("t.kibitz", []byte("site s address https://s.example\nmoves m table t.csv as 302\n"), func(string) ([]byte, error) {
			return []byte("old,new\n/old," + to + "\n"), nil
		})
		if err != nil {
			t.Errorf("%s: %v", to, err)
			continue
		}
		r := New(book, []*site.Tree{nil}).Predict(get(t, "/old"))
		if r.Location != want {
			t.Errorf("a row to %s leads to %s, want %s", to, r.Location, want)
		}
	}
}

// A failed condition and a range that is not there have the page of their error, as any other
// error has.
func TestPagesOfConditions(t *testing.T) {
	e := build(t, "error e for 412 416 text \"no {path}\"\n")
	for field, want := range map[string]int{"If-Match: \"x\"": 412, "Range: bytes=9-": 416} {
		r := e.Predict(get(t, "/notes.txt", field))
		body, err := bodyOf(r)
		if r.Status != want || err != nil || string(body) != "no /notes.txt" || r.By != nil && r.By.Name != "e" {
			t.Errorf("%s: %d %q %v", field, r.Status, body, err)
		}
	}
}
