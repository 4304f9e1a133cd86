package proof

import (
	"fmt"
	"strings"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

var queryLost = Kind{
	Name: "query-lost", Severity: Note,
	Summary: "a redirect drops the query that visitors come with, and does not say so",
	Before:  "redirect ticket on /t/:number to /booking/ticket?number={number} as temporary",
	After:   "redirect ticket on /t/:number to /booking/ticket?number={number} as temporary  query merge",
	find: func(c *checker) {
		for _, r := range c.Book.Rules {
			a, ok := r.Action.(*rulebook.Redirect)
			if !ok {
				continue
			}
			c.note(Proved, r, "")
			if a.Query.Mode != rulebook.QueryDrop || says(r, "query") {
				continue
			}
			for _, s := range c.sitesOf(r) {
				if c.losesQuery(s, r) {
					break
				}
			}
		}
		c.conclusions("they send the query along, or say what becomes of it")
	},
}

// says reports whether an entry has a clause.
func says(r *rulebook.Rule, word string) bool {
	for _, cl := range r.Entry.Clauses {
		if cl.Keyword.Text == word {
			return true
		}
	}
	return false
}

func (c *checker) losesQuery(s *rulebook.Site, r *rulebook.Rule) bool {
	for _, req := range c.probes(s, r) {
		addQuery(req, "from", "poster")
		c.tried++
		resp := c.Predict(req)
		if resp.By != r || resp.Cause != engine.CauseRedirect || strings.Contains(resp.Location, "from=poster") {
			continue
		}
		place, width := clause(r, "to")
		c.note(Found, r, "")
		c.add(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: req,
			Message: fmt.Sprintf("The target has a query of its own, so the visitor's is dropped: %s goes to %s.", req.Address.Target(), resp.Location),
			Advice:  "write   query merge   to send it along, or   query drop   to say that it is meant"})
		return true
	}
	return false
}

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
