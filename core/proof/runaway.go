package proof

import (
	"cmp"
	"fmt"
	"slices"

	"kibitz/core/browser"
	"kibitz/core/rulebook"
)

func init() {
	register(2, Kind{
		Name: "runaway", Severity: Error,
		Summary: "redirects that never end, each to a new address",
		Before:  "redirect blog on /blog/*            to /blog/new/{1}  as permanent",
		After:   "redirect blog on /blog/:year(\\d+)/* to /blog/new/{year}/{1}  as permanent",
		Proves:  true,
		find: func(c *checker) {
			seen := map[string]bool{}
			for _, component := range c.graph().cyclic {
				v := c.verdictOf(component)
				if v.visit != nil && v.visit.Ending == browser.TooLong {
					f := c.runawayFinding(v.visit)
					if key := fmt.Sprint(f.Rules); !seen[key] { // once for both schemes
						seen[key] = true
						c.add(f)
					}
					for _, h := range v.visit.Hops {
						c.note(Found, h.Response.By, "")
					}
				}
				c.noteAll(component, v)
			}
			c.redirectsProved()
			c.conclusions("no visit can go on through any of them")
		},
	})
}

func (c *checker) runawayFinding(v *browser.Visit) Finding {
	f := Finding{Request: v.Hops[0].Request}
	seen := map[*rulebook.Rule]bool{}
	add := func(r *rulebook.Rule) {
		if !seen[r] {
			seen[r] = true
			f.Rules = append(f.Rules, r)
		}
	}
	for _, h := range v.Hops {
		if h.Response.By != nil {
			add(h.Response.By)
			continue
		}
		for _, r := range c.rewrittenBy(h.Request) { // the folder's slash can only go on by these
			add(r)
		}
	}
	slices.SortFunc(f.Rules, func(a, b *rulebook.Rule) int { return cmp.Compare(a.Number, b.Number) })
	if len(f.Rules) > 0 {
		f.Place, f.Width = clause(f.Rules[0], "on", "in", "to")
	}
	next := v.Hops[min(2, len(v.Hops)-1)].Request.Address
	f.Message = fmt.Sprintf("%s is redirected again and again, each time to a new address (%s …): none repeats in %d redirects, and browsers give up.", whoAsks(v.Hops[0].Request), next, runawayHops)
	if v.Outgrown() {
		f.Message = fmt.Sprintf("%s is redirected to longer and longer addresses (%s …): after %d redirects the address is too long, and the answer is %d.", whoAsks(v.Hops[0].Request), next, v.Redirects(), v.Last().Status)
	}
	f.Advice = "narrow what the entry takes, so that its own target is not in it"
	return f
}
