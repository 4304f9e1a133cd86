package proof

import (
	"fmt"
	"math"
	"slices"

	"kibitz/core/browser"
	"kibitz/core/canonical"
	"kibitz/core/pattern"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

// Browsers and caches store a 301 and a 308 under the address that was asked for
// (RFC 9110, 15.4.2; RFC 9111, 4.2.2), whatever else the rulebook looked at.
func init() {
	register(12, Kind{
		Name: "permanent-varies", Severity: Warning,
		Summary: "a permanent redirect depends on what can change while the address stays: browsers store it, and follow it then, too",
		Before:  "redirect german on / when cookie.lang de to /de/ as permanent",
		After:   "redirect german on / when cookie.lang de to /de/ as temporary",
		find: func(c *checker) {
			for _, r := range c.Book.Rules {
				fickle := slices.DeleteFunc(slices.Clone(r.Tests), func(t *rulebook.Test) bool { return !changes(t) })
				switch {
				case !permanent(r):
				case len(fickle) == 0:
					c.note(Proved, r, "")
				case !slices.ContainsFunc(c.sitesOf(r), func(s *rulebook.Site) bool { return c.varies(s, r, fickle) }):
					c.note(Tried, r, "no request was found that it answers otherwise than another for the same address")
				}
			}
			c.conclusions("they depend on the address alone")
		},
	})
}

// permanent reports whether browsers store what a rule answers.
func permanent(r *rulebook.Rule) bool {
	switch a := r.Action.(type) {
	case *rulebook.Redirect:
		return browser.Permanent(a.Status)
	case *rulebook.Moves:
		return slices.ContainsFunc(a.Table.Rows, permanentRow)
	}
	return false
}

func permanentRow(row rulebook.Row) bool { return browser.Permanent(int(row.Status)) }

// changes reports whether a test can cease to hold while the address stays as it is.
func changes(t *rulebook.Test) bool {
	if t.Field.Kind == rulebook.FieldTime { // what has begun, and never ends, does not
		return slices.ContainsFunc(t.Values, func(v rulebook.Value) bool {
			return v.Kind != rulebook.ValueSpan || !t.Unless && v.Span.High != math.MaxInt64 || t.Unless && v.Span.Low > 0
		})
	}
	return t.Field.Row().Changed != nil
}

// varies looks for two requests for one address of which only one is sent on for good.
func (c *checker) varies(s *rulebook.Site, r *rulebook.Rule, fickle []*rulebook.Test) bool {
	sp := c.space(s)
	req := sp.like(r)
	if a, ok := r.Action.(*rulebook.Moves); ok {
		req = withRow(req, &a.Table.Rows[slices.IndexFunc(a.Table.Rows, permanentRow)])
	}
	c.tried++
	stored := c.Predict(req)
	if stored.By != r || stored.Location == "" {
		return false
	}
	var changed *rulebook.Test
	bare := &request.Request{Method: req.Method, Address: req.Address}
	only := &rulebook.Rule{Kind: rulebook.KindRedirect, Tests: fickle} // what else it looks at stays as it is
	other, err := sp.find(question{out: []*rulebook.Rule{only}, path: pattern.Words([]string{canonical.Marked(req.Address.Path)}), like: bare, fix: func(other *request.Request) bool {
		if other.Address != req.Address || other.Verb() != req.Verb() {
			return false
		}
		c.tried++
		resp := c.Predict(other)
		i := slices.IndexFunc(fickle, func(t *rulebook.Test) bool { return !c.Holds(t, other) })
		if i < 0 || resp.Status == stored.Status && resp.Location == stored.Location {
			return false
		}
		changed = fickle[i]
		return true
	}})
	if err != nil {
		return false
	}
	place, width := clause(r, "as", "table")
	c.note(Found, r, "")
	c.add(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: req, Other: other,
		Message: fmt.Sprintf("Browsers store this redirect: whoever has been sent from %s to %s once goes there without asking again, %s.", req.Address, stored.Location, changed.Field.Row().Changed(changed.Field.Name)),
		Advice:  "write   as temporary   (or   as 307   where forms are sent)"})
	return true
}
