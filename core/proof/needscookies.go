package proof

import (
	"fmt"
	"maps"
	"slices"

	"kibitz/core/browser"
)

func init() {
	register(67, Kind{
		Name: "needs-cookies", Severity: Note,
		Summary: "whoever keeps no cookies, as most robots do, is redirected in a circle; a warning where it happens to all who come by links of other sites, since the cookie is SameSite=Strict",
		Before:  "redirect welcome on / when cookie.seen absent to / as temporary\nheader   seen    on / set Set-Cookie \"seen=1; Path=/\"",
		After:   "redirect welcome on / when cookie.seen absent when query.back absent to /?back=1 as temporary\nheader   seen    on / set Set-Cookie \"seen=1; Path=/\"",
		find:    findNeedsCookies,
	})
}

// findNeedsCookies asks what goes round without cookies, and comes to an end with them; and
// whether those are sent who come from another site.
func findNeedsCookies(c *checker) {
	if !c.SetsCookies() {
		return
	}
	found := map[string]Finding{} // by the circle; of one that is told as a warning, that
	for _, component := range c.graph().cyclic {
		for _, req := range c.componentProbes(component) {
			c.tried++
			without, with := browser.OpenWithout(c, req), browser.Open(c, req)
			if without.Ending != browser.Loop || with.Ending == browser.Loop || with.Ending == browser.TooLong {
				continue
			}
			circle := without.Hops[without.Again:]
			f := c.loopFinding(circle)
			for _, r := range f.Rules {
				c.note(Found, r, "")
			}
			f.Request = req
			f.Message = fmt.Sprintf("Whoever keeps no cookies, as most robots do, comes back to %s again and again; with them the visit %s.", circle[0].Request.Address, with.Summary())
			f.Advice = "set the cookie with the page itself, or say in the query that a visitor has been here: the page is then shown to those without cookies, too"
			from := browser.FromElsewhere(req)
			if foreign := browser.Open(c, from); foreign.Ending == browser.Loop && !c.Book.Reads("referer") {
				f.Severity, f.Request = Warning, from
				f.Message = fmt.Sprintf("Whoever comes by a link of another site comes back to %s again and again: the cookie that ends it is SameSite=Strict, and browsers do not send it on such a visit. So does whoever keeps no cookies, as most robots do.", foreign.Hops[foreign.Again].Request.Address)
				f.Advice = "set the cookie with SameSite=Lax; for those without cookies, set it with the page itself, or say in the query that a visitor has been here"
			}
			if known, told := found[circleKey(circle)]; !told || known.Severity == "" && f.Severity == Warning {
				found[circleKey(circle)] = f
			}
		}
		for _, h := range component {
			if h.rule != nil && !h.isRewrite() {
				c.note(Tried, h.rule, "")
			}
		}
	}
	for _, key := range slices.Sorted(maps.Keys(found)) {
		c.add(found[key])
	}
	c.conclusions("those without cookies come to an end, where they were tried")
}
