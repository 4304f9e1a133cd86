package proof

import (
	"fmt"
	"net/http"
	"slices"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/pattern"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

func init() {
	register(39, Kind{
		Name: "vary-missing", Severity: Warning,
		Summary: "what an address shows depends on a header field of the request, and the answer does not say so: caches give it to everybody",
		Before:  "rewrite german on /fares/ when language de to /de/fares then finish",
		After:   "rewrite german on /fares/ when language de to /de/fares then finish\nheader  said   when asked /fares/ add Vary Accept-Language",
		find: func(c *checker) {
			for _, s := range c.Book.Sites {
				for _, r := range s.Rules {
					if r.Kind == rulebook.KindRewrite || r.Kind == rulebook.KindFallback {
						c.unsaid(s, r)
					}
				}
			}
			c.conclusions("they look at nothing but the address, or a request that each of them takes is answered with the Vary that it needs")
		},
	})
}

// unsaid looks at the answers to requests that a rule takes for its header fields.
func (c *checker) unsaid(s *rulebook.Site, r *rulebook.Rule) {
	c.note(Tried, r, "")
	like := c.space(s).typicalRequest(r)
	requests := append([]*request.Request{like}, c.firstProbes(s, r)...)
	for _, folder := range r.In {
		missing := *like
		missing.Address.Path = folder + "/" + improbable
		requests = append(requests, &missing)
	}
	for _, t := range r.Tests {
		row := t.Field.Row()
		if row.Header == nil || t.Field.Kind == rulebook.FieldUser {
			continue
		}
		name := row.Header(t.Field.Name)
		for _, req := range requests {
			c.tried++
			resp := c.Predict(req)
			vary, _ := resp.Get("Vary")
			keep, _ := resp.Get("Cache-Control")
			if resp.Status != 200 || strings.Contains(vary, "*") || strings.Contains(strings.ToLower(vary), name) || strings.Contains(keep, "private") || strings.Contains(keep, "no-store") || resp.By != r && !slices.Contains(c.Met(req), r) {
				continue
			}
			other := c.otherPage(s, req, resp, t)
			if other == nil {
				continue
			}
			entry := fmt.Sprintf("header %s when asked %s add Vary %s", c.freeName(s, "said"), rulebook.Quote(req.Address.Path), http.CanonicalHeaderKey(name))
			c.add(Finding{Rules: []*rulebook.Rule{r}, Place: t.Place, Width: t.Width, Request: req, Other: other,
				Message: fmt.Sprintf("%s shows another page by %s, and its answer has no Vary that says so: a cache on the way gives the one to all.", req.Address.Target(), t.Field),
				Advice:  "say it there:   " + entry,
				Fixes:   []Fix{addEntry(s, entry)}})
			return
		}
	}
}

// otherPage looks for a request for the same address that differs in the field of a test and
// is answered otherwise; nil where none is found.
func (c *checker) otherPage(s *rulebook.Site, req *request.Request, resp *engine.Response, t *rulebook.Test) *request.Request {
	sp := c.space(s)
	only := ruleOf(t)
	q := question{path: pattern.Words([]string{canonical.Marked(req.Address.Path)}), template: &request.Request{Method: req.Method, Address: req.Address}}
	q.fix = func(other *request.Request) bool {
		if other.Address != req.Address || other.Verb() != req.Verb() || c.Holds(t, other) == c.Holds(t, req) {
			return false
		}
		c.tried++
		got := c.Predict(other)
		return got.Status != resp.Status || got.File != resp.File || got.Location != resp.Location
	}
	for _, holds := range []bool{false, true} {
		q.in, q.out = nil, []*rulebook.Rule{only}
		if holds {
			q.in, q.out = q.out, nil
		}
		if other, err := sp.find(q); err == nil {
			return other
		}
	}
	return nil
}
