package proof

import (
	"fmt"

	"kibitz/core/request"
	"kibitz/core/rulebook"
)

var methodLost = Kind{
	Name: "method-lost", Severity: Note,
	Summary: "redirects with 301 or 302 take POST, and browsers then ask again with GET, without what was filled in",
	Before:  "redirect desk on /book to /booking/new as permanent",
	After:   "redirect desk on /book to /booking/new as 308",
	find: func(c *checker) {
		for _, s := range c.Book.Sites {
			c.losesMethod(s)
		}
		c.conclusions("they keep the method, or do not take POST")
	},
}

// losesMethod tells once of all the redirects of a site: nearly every one takes
// POST, and few are ever asked so.
func (c *checker) losesMethod(s *rulebook.Site) {
	var f Finding
	for _, r := range s.Rules {
		if r.Kind != rulebook.KindRedirect && r.Kind != rulebook.KindMoves {
			continue
		}
		c.note(Proved, r, "")
		for _, req := range c.firstProbes(s, r) {
			post := *req
			post.Method, post.Body = "POST", 1
			c.tried++
			resp := c.Predict(&post)
			if resp.By != r || resp.Status != 301 && resp.Status != 302 {
				continue
			}
			c.note(Found, r, "")
			f.Rules = append(f.Rules, r)
			if f.Request == nil {
				f.Request = &post
				f.Place, f.Width = clause(r, "as", "to", "table")
				f.Message = fmt.Sprintf("A form sent to %s is asked for again with GET, and what was filled in is lost", post.Address.Target())
			}
			break
		}
	}
	if f.Request == nil {
		return
	}
	if f.Count = len(f.Rules); f.Count > 1 {
		f.Message += fmt.Sprintf("; so it is at %d more entries", f.Count-1)
	}
	f.Message += "."
	f.Advice = "where forms are sent, write   as 308   or   as 307; elsewhere nothing is to be done"
	f.Rules = f.Rules[:1]
	c.add(f)
}

// firstProbes are the first few requests that a rule takes.
func (c *checker) firstProbes(s *rulebook.Site, r *rulebook.Rule) []*request.Request {
	if a, ok := r.Action.(*rulebook.Moves); ok {
		var out []*request.Request
		for i := range min(len(a.Table.Rows), 3) {
			req := &request.Request{Address: s.Address}
			req.Address.Path = a.Table.Rows[i].Path
			out = append(out, req)
		}
		return out
	}
	probes := c.probes(s, r)
	return probes[:min(len(probes), 4)]
}
