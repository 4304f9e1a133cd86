package proof

import (
	"fmt"
	"net/http"
	"strings"

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

// unsaid looks at the answer to a request that a rule takes for its header fields.
func (c *checker) unsaid(s *rulebook.Site, r *rulebook.Rule) {
	c.note(Tried, r, "")
	for _, t := range r.Tests {
		row := t.Field.Row()
		if row.Header == nil || t.Field.Kind == rulebook.FieldUser {
			continue
		}
		name := row.Header(t.Field.Name)
		req := c.space(s).typicalRequest(r)
		c.tried++
		resp := c.Predict(req)
		vary, _ := resp.Get("Vary")
		keep, _ := resp.Get("Cache-Control")
		if resp.Status != 200 || strings.Contains(vary, "*") || strings.Contains(strings.ToLower(vary), name) || strings.Contains(keep, "private") || strings.Contains(keep, "no-store") {
			continue
		}
		entry := fmt.Sprintf("header %s when asked %s add Vary %s", c.freeName(s, "said"), rulebook.Quote(req.Address.Path), http.CanonicalHeaderKey(name))
		c.add(Finding{Rules: []*rulebook.Rule{r}, Place: t.Place, Width: t.Width, Request: req,
			Message: fmt.Sprintf("%s shows another page by %s, and its answer has no Vary that says so: a cache on the way gives the one to all.", req.Address.Target(), t.Field),
			Advice:  "say it there:   " + entry,
			Fixes:   []Fix{addEntry(s, entry)}})
		return
	}
}
