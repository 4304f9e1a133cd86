package proof

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// randomBook writes a small rulebook over a few pieces.
func randomBook(r *rand.Rand) string {
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	var b strings.Builder
	b.WriteString("site s address https://s.example hosts www.s.example\n")
	for i := range 1 + r.IntN(5) {
		on := pick("/a", "/:x", "/*", "/a/:x", "/:x/:y", "/a*", "/:x-:y", "/a/*", "/b/:x{/}?", "~/(a|b)+", "~/a(.*)b")
		captures := strings.Count(on, ":") + strings.Count(on, "*)") + strings.Count(on, "(a|b)")
		if strings.HasSuffix(on, "*") && on[0] == '/' {
			captures++
		}
		value := func() string {
			if captures == 0 || r.IntN(3) == 0 {
				return pick("a", "b", "a/", "b/", "-")
			}
			if strings.Contains(on, ":") {
				if captures > 1 {
					return pick("{x}", "{y}")
				}
				return "{x}"
			}
			return "{1}"
		}
		to := "/"
		for range r.IntN(4) {
			to += value()
		}
		when := pick("", "", "", " when scheme http", " when scheme https", " when header.h present", " unless header.h present", " when host www.s.example", " when query.q 1")
		then := ""
		switch r.IntN(8) {
		case 0, 1, 2, 3:
			if r.IntN(4) == 0 {
				to = pick("https", "http") + "://" + pick("{host}", "s.example") + to
			}
			then = " as permanent"
			fmt.Fprintf(&b, "redirect e%d on %s%s to %s%s\n", i, on, when, to, then)
		case 4, 5:
			fmt.Fprintf(&b, "rewrite e%d on %s%s to %s then %s\n", i, on, when, to, pick("next", "next", "finish", "again"))
		case 6:
			fmt.Fprintf(&b, "access e%d on %s%s %s\n", i, on, when, pick("refuse 403", "refuse 404", "admit"))
		default:
			fmt.Fprintf(&b, "reply e%d on %s%s with 200\n", i, on, when)
		}
	}
	return b.String()
}

// everyRequest gives all requests over short paths and all values of the
// conditions that randomBook uses.
func everyRequest(book *rulebook.Book) []*request.Request {
	paths := []string{"/"}
	for from, n := 0, 0; n < 4; n++ {
		to := len(paths)
		for _, p := range paths[from:to] {
			for _, c := range "ab/-" {
				if q := p + string(c); canonical.Is(q, false) {
					paths = append(paths, q)
				}
			}
		}
		from = to
	}
	var out []*request.Request
	for _, p := range paths {
		for i := range 16 {
			req := &request.Request{Address: book.Sites[0].Address}
			req.Address.Path = p
			if i&1 != 0 {
				req.Address.Host = "www.s.example"
			}
			if i&2 != 0 {
				req.Address.Scheme, req.Address.Port = "http", 80
			}
			if i&4 != 0 {
				req.Headers = []request.Header{{Name: "H", Value: "x"}}
			}
			if i&8 != 0 {
				req.Address.Query, req.Address.HasQuery = "q=1", true
			}
			out = append(out, req)
		}
	}
	return out
}

// What is said to be proved is broken by none of all short requests, and what
// is found is seen. A rulebook is small, so nearly all can be decided.
func TestWhatIsProvedIsNeverBroken(t *testing.T) {
	books := 150
	if testing.Short() {
		books = 20
	}
	r := rand.New(rand.NewPCG(5, 6))
	count := map[string]int{}
	for range books {
		text := randomBook(r)
		book, err := rulebook.Read("t.kibitz", []byte(text), nil)
		if err != nil {
			continue // a pattern and a template that do not go together
		}
		e := engine.New(book, []*site.Tree{site.Memory(map[string]string{"/a": "a", "/b/index.html": "b"})})
		start := time.Now()
		report := Check(e, 1)
		if d := time.Since(start); d > time.Second {
			t.Log(d, text)
		}
		found := map[string][]string{}
		for _, f := range report.Findings {
			for _, rule := range f.Rules {
				found[f.Name] = append(found[f.Name], rule.Name)
			}
		}
		for _, claim := range report.Claims {
			switch claim.Finding {
			case "never-reached", "redirect-loop", "runaway", "rewrite-loop":
				count[claim.Finding+" "+claim.State] += claim.Entries
			}
		}
		proved := func(name, finding string) bool {
			for _, c := range report.Claims {
				if c.Finding == finding && c.State == Proved {
					return slices.Contains(c.rules, name)
				}
			}
			return false
		}
		met := map[string]bool{}
		for _, req := range everyRequest(book) {
			for _, rule := range e.Met(req) {
				met[rule.Name] = true
				if slices.Contains(found["never-reached"], rule.Name) && findingOf(report, "never-reached", rule.Name) {
					t.Fatalf("%s\n%s is said never to be reached, and is by %s", text, rule.Name, req.Address)
				}
			}
			v := e.VisitFor(req, 30)
			for _, h := range v.Hops {
				by := h.Response.By
				if by == nil {
					continue
				}
				onCircle := v.Ending == engine.Loop
				if onCircle && slices.ContainsFunc(v.Hops[v.Again:], func(o engine.Hop) bool { return o.Response.By == by }) && proved(by.Name, "redirect-loop") {
					t.Fatalf("%s\nredirect-loop is said to be impossible for %s: %s %v", text, by.Name, req.Address, req.Headers)
				}
				if v.Ending == engine.TooLong && proved(by.Name, "runaway") && h.Request == v.Hops[len(v.Hops)-2].Request {
					t.Fatalf("%s\nrunaway is said to be impossible for %s: %s", text, by.Name, req.Address)
				}
				if h.Response.Cause == engine.CauseRewriteLoop && proved(by.Name, "rewrite-loop") {
					t.Fatalf("%s\nrewrite-loop is said to be impossible for %s: %s", text, by.Name, req.Address)
				}
			}
		}
	}
	t.Log(count)
}

// findingOf reports whether the finding is about the entry itself, and not one
// that it names beside it.
func findingOf(report *Report, name, rule string) bool {
	return slices.ContainsFunc(report.Findings, func(f *Finding) bool { return f.Name == name && f.Rules[0].Name == rule })
}
