package proof

import (
	"fmt"
	"slices"

	"kibitz/core/browser"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

func init() {
	register(20, Kind{
		Name: "method-lost", Severity: Note,
		Summary: "redirects with 301 or 302 on the way of a form to an application: browsers ask again with GET, without what was filled in",
		Before:  "redirect desk on /book to /booking/new as permanent\nhandoff  book in /booking/",
		After:   "redirect desk on /book to /booking/new as 308\nhandoff  book in /booking/",
		Proves:  true,
		find: func(c *checker) {
			c.losesMethod()
			c.conclusions("they keep the method, or no application takes a form behind them")
		},
	})
}

// losesMethod tells once of all redirects on the way of a form to an application.
func (c *checker) losesMethod() {
	var f Finding
	found := func(r *rulebook.Rule, post *request.Request) {
		if k := c.claims[subject{rule: r}]; k.state == Found {
			return
		}
		c.note(Found, r, "")
		if c.accepts(subject{rule: r}) {
			return
		}
		if f.Count++; f.Request == nil {
			f.Request, f.Rules = post, []*rulebook.Rule{r}
			f.Place, f.Width = clause(r, "as", "to", "table")
			f.Message = fmt.Sprintf("A form sent to %s is sent again with GET, and what was filled in is lost before it reaches the application", post.Address)
		}
	}
	if !slices.ContainsFunc(c.Book.Rules, func(r *rulebook.Rule) bool { return r.Kind == rulebook.KindHandoff }) {
		c.redirectsProved() // nothing takes a form
		return
	}
	for _, s := range c.Book.Sites {
		var apps []*request.Request // requests that come to an application
		for _, r := range s.Rules {
			if r.Kind == rulebook.KindHandoff {
				post := *c.space(s).typicalRequest(r)
				post.Method, post.Body = "POST", 1
				apps = append(apps, &post)
			}
		}
		for _, r := range s.Rules {
			if r.Kind != rulebook.KindRedirect && r.Kind != rulebook.KindMoves {
				continue
			}
			if c.keepsMethod(r) {
				c.note(Proved, r, "")
				continue
			}
			c.note(Tried, r, "no form was found that it takes on its way to an application")
			for _, req := range c.firstProbes(s, r) {
				post := *req
				post.Method, post.Body = "POST", 1
				if by := c.lostBy(&post); by == r {
					found(r, &post)
					break
				}
			}
		}
		for _, app := range apps {
			for _, o := range c.fronts().of[s] {
				post := *app
				post.Address.Host = o.host
				post.Address.SetScheme(o.scheme)
				if by := c.lostBy(&post); by != nil {
					found(by, &post)
				}
			}
		}
	}
	if f.Request == nil {
		return
	}
	switch f.Count {
	case 1:
	case 2:
		f.Message += "; the same holds at one more entry"
	default:
		f.Message += fmt.Sprintf("; the same holds at %d more entries", f.Count-1)
	}
	f.Message += "."
	f.Advice = "where forms are sent, write   as 308   or   as 307"
	if a, ok := f.Rules[0].Action.(*rulebook.Redirect); ok && (a.Status == 301 || a.Status == 308) {
		f.Fixes = []Fix{setClause(f.Rules[0], "as", "308")}
	} else {
		f.Fixes = []Fix{setClause(f.Rules[0], "as", "307")}
	}
	c.add(f)
}

// lostBy gives the redirect by which a form is lost on its way to an application; nil
// where none is.
func (c *checker) lostBy(post *request.Request) *rulebook.Rule {
	c.tried++
	v := browser.Open(c, post)
	if v.Ending != browser.ToApp {
		return nil
	}
	for i, h := range v.Hops[:len(v.Hops)-1] {
		if h.Request.Verb() == "POST" && v.Hops[i+1].Request.Verb() == "GET" && h.Response.Status != 303 {
			return h.Response.By
		}
	}
	return nil
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
	post := c.homeRequest(c.sitesOf(r)[0])
	post.Method = "POST"
	return slices.ContainsFunc(r.Tests, func(t *rulebook.Test) bool { return t.Field.Kind == rulebook.FieldMethod && !c.Holds(t, post) })
}

// firstProbes are the first few requests that a rule takes.
func (c *shared) firstProbes(s *rulebook.Site, r *rulebook.Rule) []*request.Request {
	if a, ok := r.Action.(*rulebook.Moves); ok {
		var out []*request.Request
		for i := range min(len(a.Table.Rows), 3) {
			out = append(out, withRow(c.space(s).typicalRequest(r), &a.Table.Rows[i]))
		}
		return out
	}
	probes := c.probes(s, r)
	return probes[:min(len(probes), 4)]
}
