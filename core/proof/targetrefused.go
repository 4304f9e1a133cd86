package proof

import (
	"fmt"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/rulebook"
)

func init() {
	register(36, Kind{
		Name: "target-refused", Severity: Warning,
		Summary: "a redirect leads to a page that is gone or refused",
		Before:  "redirect tickets on /tickets to /desk/ as temporary\nreply    desk    in /desk/ with 410",
		After:   "redirect tickets on /tickets to /fares/ as temporary\nreply    desk    in /desk/ with 410",
		find: func(c *checker) {
			for _, r := range c.Book.Rules {
				if r.Kind != rulebook.KindRedirect && r.Kind != rulebook.KindMoves {
					continue
				}
				c.note(Tried, r, "")
				for _, s := range c.sitesOf(r) {
					if c.leadsToRefusal(s, r) {
						break
					}
				}
			}
			c.conclusions("none of the requests made from each entry's own selectors ends at a refusal")
		},
	})
}

// leadsToRefusal reports a redirect all of whose probes end at what is gone, or refused to
// everybody.
func (c *checker) leadsToRefusal(s *rulebook.Site, r *rulebook.Rule) bool {
	var shown *browser.Visit
	ends := map[string]bool{} // by their paths
	for _, req := range c.firstProbes(s, r) {
		c.tried++
		v := c.lightVisit(req)
		if v.Hops[0].Response.By != r || v.Hops[0].Response.Location == "" {
			continue
		}
		if last := v.Last(); v.Ending != browser.Arrived || last.Status != 410 && !refusesAll(last) {
			return false
		}
		ends[v.Hops[len(v.Hops)-1].Request.Address.Path] = true
		if shown == nil {
			shown = v
		}
	}
	if shown == nil {
		return false
	}
	end := shown.Hops[len(shown.Hops)-1]
	f := Finding{Rules: []*rulebook.Rule{r}, Request: shown.Hops[0].Request,
		Advice: "send them to a page that is there, or answer   with 410   at the old address"}
	by := ""
	if end.Response.By != nil {
		f.Rules = append(f.Rules, end.Response.By)
		by = fmt.Sprintf(", by %s (%s)", end.Response.By.Name, end.Response.By.Place)
	}
	f.Message = fmt.Sprintf("It leads to a page that turns visitors away: %s answers %d%s%s.", end.Request.Address, end.Response.Status, by, andOthers(len(ends)-1))
	f.Place, f.Width = clause(r, "to", "table")
	c.add(f)
	return true
}

// refusesAll reports whether an answer is a refusal that does not look at who asks.
func refusesAll(r *engine.Response) bool {
	if r.Cause != engine.CauseRefused {
		return false
	}
	for _, t := range r.By.Tests {
		if t.Field.Row().Beside {
			return false
		}
	}
	return true
}
