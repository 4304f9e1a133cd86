package proof

import (
	"fmt"
	"slices"

	"kibitz/core/request"
	"kibitz/core/rulebook"
)

func init() {
	register(20, Kind{
		Name: "method-lost", Severity: Note,
		Summary: "redirects with 301 or 302 take POST, and browsers then ask again with GET, without what was filled in",
		Before:  "redirect desk on /book to /booking/new as permanent",
		After:   "redirect desk on /book to /booking/new as 308",
		find: func(c *checker) {
			c.losesMethod()
			c.conclusions("they keep the method, or do not take POST")
		},
	})
}

// losesMethod tells once of all redirects: nearly every one takes POST, and few
// are ever asked so.
func (c *checker) losesMethod() {
	var f Finding
	for _, r := range c.Book.Rules {
		if r.Kind != rulebook.KindRedirect && r.Kind != rulebook.KindMoves {
			continue
		}
		if c.keepsMethod(r) {
			c.note(Proved, r, "")
			continue
		}
		c.note(Tried, r, "no form was found that it takes")
		for _, s := range c.sitesOf(r) {
			post := c.losingPost(s, r)
			if post == nil {
				continue
			}
			c.note(Found, r, "")
			if c.accepts(r) {
				break
			}
			if f.Count++; f.Request == nil {
				f.Request, f.Rules = post, []*rulebook.Rule{r}
				f.Place, f.Width = clause(r, "as", "to", "table")
				f.Message = fmt.Sprintf("A form sent to %s is asked for again with GET, and what was filled in is lost", post.Address.Target())
			}
			break
		}
	}
	if f.Request == nil {
		return
	}
	switch f.Count {
	case 1:
	case 2:
		f.Message += "; so it is at one more entry"
	default:
		f.Message += fmt.Sprintf("; so it is at %d more entries", f.Count-1)
	}
	f.Message += "."
	f.Advice = "where forms are sent, write   as 308   or   as 307; elsewhere nothing is to be done"
	c.add(f)
}

// keepsMethod reports whether a rule answers no POST with 301 or 302.
func (c *checker) keepsMethod(r *rulebook.Rule) bool {
	loses := func(status int) bool { return status == 301 || status == 302 }
	switch a := r.Action.(type) {
	case *rulebook.Redirect:
		if !loses(a.Status) {
			return true
		}
	case *rulebook.Moves:
		if !slices.ContainsFunc(a.Table.Rows, func(row rulebook.Row) bool { return row.New != "" && loses(int(row.Status)) }) {
			return true
		}
	}
	post := c.plain(c.sitesOf(r)[0])
	post.Method = "POST"
	return slices.ContainsFunc(r.Tests, func(t *rulebook.Test) bool { return t.Field.Kind == rulebook.FieldMethod && !c.Holds(t, post) })
}

// losingPost gives a POST that a rule answers with 301 or 302; nil for none.
func (c *checker) losingPost(s *rulebook.Site, r *rulebook.Rule) *request.Request {
	for _, req := range c.firstProbes(s, r) {
		post := *req
		post.Method, post.Body = "POST", 1
		c.tried++
		if resp := c.Predict(&post); resp.By == r && (resp.Status == 301 || resp.Status == 302) {
			return &post
		}
	}
	return nil
}

// firstProbes are the first few requests that a rule takes.
func (c *shared) firstProbes(s *rulebook.Site, r *rulebook.Rule) []*request.Request {
	if a, ok := r.Action.(*rulebook.Moves); ok {
		var out []*request.Request
		for i := range min(len(a.Table.Rows), 3) {
			out = append(out, withRow(c.space(s).like(r), &a.Table.Rows[i]))
		}
		return out
	}
	probes := c.probes(s, r)
	return probes[:min(len(probes), 4)]
}
