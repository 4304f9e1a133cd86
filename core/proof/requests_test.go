package proof

import (
	"slices"
	"testing"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// What is asked for where no list is given has a request for each entry that can be
// reached, one for whom its conditions leave alone, and one for each file.
func TestRequestsForEachEntry(t *testing.T) {
	book, err := rulebook.Read("t.kibitz", []byte(`site s address https://s.example files public
redirect one    on ~/x+y{3}z? when agent ~a[bc]+d when header.K k unless query.q 1   to /a.html as 302
redirect two    on /two when client 192.0.2.0/24 when time after 2026-03-01           to /a.html as 302
access   three  in /three/ unless cookie.c d                                          refuse
reply    four   on /four/:n(\d{4}) when method POST when body over 2KiB               with 204
access   five   on /five when agent ~a.* when agent ~.*b                                refuse
`), nil)
	if err != nil {
		t.Fatal(err)
	}
	e := engine.New(book, []*site.Tree{site.Memory(map[string]string{"/a.html": "a", "/b/index.html": "b"})})
	all := Requests(e)
	for _, r := range book.Rules {
		taken := func(req *request.Request) bool { return e.Takes(r, req) }
		if !slices.ContainsFunc(all, taken) {
			t.Errorf("no request is taken by %s", r.Name)
		}
		other := &rulebook.Rule{On: r.On, In: r.In}
		if !slices.ContainsFunc(all, func(req *request.Request) bool { return !taken(req) && e.Takes(other, req) }) {
			t.Errorf("no request is for a path of %s, and not taken by it", r.Name)
		}
	}
	for _, path := range []string{"/a.html", "/b/index.html", "/b/"} {
		if !slices.ContainsFunc(all, func(req *request.Request) bool { return req.Address.Path == path }) {
			t.Errorf("%s is not asked for", path)
		}
	}
}
