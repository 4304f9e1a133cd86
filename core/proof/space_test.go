package proof

import (
	"errors"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"time"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// conditions that a random entry can have, and requests that have all their
// values.
var someConditions = []string{
	"when scheme http", "unless scheme http", "when host www.s.example", "unless host *.boats.s.example", "when method POST PUT", "unless method GET",
	"when header.x a*", "unless header.x *b", "when header.x ~[ab]+", "when header.x absent", "when header.x ab", "unless header.x a ab", "when header.x b a*", "unless query.q 1*", "when query.q 1", "unless query.q 1 2", "when query.q present",
	"when client 192.0.2.0/24", "unless client 192.0.2.0/25", "when client 2001:db8::/32", "when client 192.0.2.7", "unless client 192.0.2.7", "when body over 5KiB", "when body below 6KiB",
	"when query present", "unless query absent", "when query q=1", "unless query q=1*", "when query ~q=[23]", `when query "~[#q].*"`, `when query.q "~[\t ].*"`, "when query.q ~.*\\s", "unless query.q present", "when query.q absent",
	"when agent present", "unless agent absent", `when agent "~[ b].*"`, "unless agent b*", "when referrer https://s.example/*", "unless referrer present", "when cookie.c present", "unless cookie.c absent", `when cookie.c "~[;x]"`, "unless cookie.c x", "when method ~[Pp].*",
	"when time after 2026-02-01", "when time before 2026-03-01", "when file exists", "unless file exists", "when path /a", "unless path /a*", "when cookie.c ~x.*", "when port 8080",
}

func everySort() []*request.Request {
	var out []*request.Request
	at := request.Address{Scheme: "https", Host: "s.example", Port: 443, Path: "/a"}
	vary := func(changes ...func(*request.Request)) {
		if len(out) == 0 {
			out = append(out, &request.Request{Address: at})
		}
		for _, req := range out[:len(out):len(out)] {
			for _, change := range changes {
				next := *req
				next.Headers = append([]request.Header(nil), req.Headers...)
				change(&next)
				out = append(out, &next)
			}
		}
	}
	header := func(name, value string) func(*request.Request) {
		return func(r *request.Request) { r.Headers = append(r.Headers, request.Header{Name: name, Value: value}) }
	}
	vary(func(r *request.Request) { r.Address.SetScheme("http") })
	vary(func(r *request.Request) { r.Address.Path = "/b" }, func(r *request.Request) { r.Address.Path = "/ab" })
	vary(func(r *request.Request) { r.Address.Host = "www.s.example" }, func(r *request.Request) { r.Address.Host = "tern.boats.s.example" })
	vary(header("X", "a"), header("X", "ab"), header("X", "b"), header("X", "ac"), header("X", "c"))
	vary(func(r *request.Request) { r.Method = "POST" })
	vary(func(r *request.Request) { addQuery(r, "q", "1") }, func(r *request.Request) { addQuery(r, "q", "2") }, func(r *request.Request) { addQuery(r, "q", "3") }, func(r *request.Request) { addQuery(r, "q", " ") }, func(r *request.Request) { addQuery(r, "q", "a\n") })
	vary(header("Cookie", "c=x"), header("Cookie", "c=; d=x"), header("User-Agent", "b"), header("User-Agent", "a bot"), header("Referer", "https://s.example/"), header("Referer", "https://t.example/"))
	vary(func(r *request.Request) { r.Client = netip.MustParseAddr("192.0.2.7") }, func(r *request.Request) { r.Client = netip.MustParseAddr("192.0.2.200") }, func(r *request.Request) { r.Client = netip.MustParseAddr("2001:db8::1") })
	vary(func(r *request.Request) { r.Body = 5500 }, func(r *request.Request) { r.Body = 50000 })
	vary(func(r *request.Request) { r.Time = time.Date(2026, 2, 15, 0, 0, 0, 0, time.UTC) }, func(r *request.Request) { r.Time = time.Date(2026, 4, 1, 0, 0, 0, 0, time.UTC) })
	return out
}

// What is said to have no request has none of a great many; and what is found
// is what was asked for.
func TestQuestionsAreAnsweredForAllConditions(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	all := everySort()
	r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	all = all[:4000]
	count := map[string]int{}
	for round := range 400 {
		var b strings.Builder
		b.WriteString("site s address https://s.example files public hosts www.s.example *.boats.s.example\n")
		for _, name := range []string{"one", "two", "three"} {
			b.WriteString("redirect " + name + " on " + []string{"/a", "/:x", "/a*", "/*"}[r.IntN(4)])
			seen := map[string]bool{}
			for nth := range r.IntN(4) {
				c := someConditions[r.IntN(len(someConditions))]
				if name == "one" && nth == 0 { // each is tried
					c = someConditions[round%len(someConditions)]
				}
				if field := strings.Fields(c)[1]; !seen[field] {
					seen[field] = true
					b.WriteString(" " + c)
				}
			}
			b.WriteString(" to /z as 302\n")
		}
		book, err := rulebook.Read("t.kibitz", []byte(b.String()), nil)
		if err != nil {
			t.Fatalf("%v\n%s", err, b.String())
		}
		e := engine.New(book, []*site.Tree{site.Memory(map[string]string{"/a": "a"})})
		sp := newSpace(e, book.Sites[0], 1)
		rules := book.Rules
		questions := []question{{in: rules[:1]}, {in: rules[:2]}, {in: rules}, {in: rules[:1], out: rules[1:2]}, {in: rules[:1], out: rules[1:]}, {in: rules[2:], out: rules[:2]}}
		for _, q := range questions[3:] { // what is wanted beside is one condition of what must not hold whole
			for _, test := range q.out[0].Tests {
				q.fix = func(req *request.Request) bool { return sp.Holds(test, req) }
				questions = append(questions, q)
			}
		}
		for _, q := range questions {
			fits := func(req *request.Request) bool {
				for _, rule := range q.in {
					if !e.Takes(rule, req) {
						return false
					}
				}
				for _, rule := range q.out {
					if e.Takes(rule, req) {
						return false
					}
				}
				return q.fix == nil || q.fix(req)
			}
			req, err := sp.find(q)
			switch {
			case err == nil:
				count["found"]++
				if !fits(req) {
					t.Fatalf("%s %v is none that was asked for in\n%s", req.Address, req, b.String())
				}
			case errors.Is(err, errNone):
				count["none"]++
				for _, req := range all {
					if fits(req) {
						t.Fatalf("%d in, %d out: there is said to be none, and %s %+v is one, in\n%s", len(q.in), len(q.out), req.Address, req, b.String())
					}
				}
			default:
				count["open"]++
			}
		}
	}
	if count["found"] < 2500 || count["none"] < 600 || count["open"] > 600 {
		t.Errorf("%v: too little is decided", count)
	}
}

// What is excluded only in part is not taken to be excluded whole.
func TestHalfExcludedIsNotExcluded(t *testing.T) {
	text := `site s address https://s.example
moves    rows    table rows.csv as permanent
redirect grows   on ~/a.*x.{18}         to /z as 302
redirect queried on /page               to /z as 302
redirect other   on /a:rest             to /z as 302
redirect below   in /d/                 to /z as 302
`
	book, err := rulebook.Read("t.kibitz", []byte(text), func(string) ([]byte, error) { return []byte("/page?id=3,/z\nhttps://s.example/abc,/z\n"), nil })
	if err != nil {
		t.Fatal(err)
	}
	sp := newSpace(engine.New(book, []*site.Tree{nil}), book.Sites[0], 1)
	rule := func(i int) []*rulebook.Rule { return book.Rules[i : i+1] }
	for _, q := range []question{{in: rule(2), out: rule(0)}, {in: rule(3), out: book.Rules[:2]}, {in: rule(4), out: rule(1)}} {
		if _, err := sp.find(q); err != nil {
			t.Errorf("%s without %s: %v", q.in[0].Name, q.out[0].Name, err)
		}
	}
}
