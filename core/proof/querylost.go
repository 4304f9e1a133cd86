package proof

import (
	"fmt"
	"strings"

	"kibitz/core/engine"
	"kibitz/core/rulebook"
)

func init() {
	register(19, Kind{
		Name: "query-lost", Severity: Note,
		Summary: "a redirect drops the query that visitors come with, and does not say so",
		Before:  "redirect ticket on /t/:number to /booking/ticket?number={number} as temporary",
		After:   "redirect ticket on /t/:number to /booking/ticket?number={number} as temporary  query merge",
		Proves:  true,
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
				c.note(Tried, r, "no request was found whose query it drops")
				for _, s := range c.sitesOf(r) {
					if c.losesQuery(s, r) {
						break
					}
				}
			}
			c.conclusions("they send the query along, or say what becomes of it")
		},
	})
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
	like := *c.space(s).typicalRequest(r)
	for _, req := range append(c.probes(s, r), &like) {
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
			Advice:  "write   query merge   to send it along, or   query drop   to say that it is meant",
			Fixes:   []Fix{addClause(r, "query merge")}})
		return true
	}
	return false
}
