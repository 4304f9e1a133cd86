package proof

import (
	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

// A password that is asked for over http goes over the wire as good as in the open (RFC
// 7617, 4).
func init() {
	register(32, Kind{
		Name: "password-in-clear", Severity: Warning,
		Summary: "a name and password are asked for over http, where everybody on the way can read them",
		Before:  "access crew in /crew/ ask \"Crew\" accounts crew.accounts",
		After:   "redirect secure when scheme http to https://{host}{path} as permanent\naccess   crew   in /crew/ ask \"Crew\" accounts crew.accounts",
		Proves:  true,
		find: func(c *checker) {
			for _, r := range c.Book.Rules {
				if a, ok := r.Action.(*rulebook.Access); !ok || a.Do != rulebook.Ask {
					continue
				}
				c.note(Proved, r, "")
				for _, s := range c.sitesOf(r) {
					if c.asksInClear(s, r) {
						break
					}
				}
			}
			c.conclusions("entries above them take every request over http")
		},
	})
}

func (c *checker) asksInClear(s *rulebook.Site, r *rulebook.Rule) bool {
	for _, o := range c.fronts().of[s] {
		if o.scheme != "http" || o.last < position(s, r) || !o.fits(r) {
			continue
		}
		c.note(Tried, r, "no request over http was found that it asks")
		req, err := o.space.find(question{in: []*rulebook.Rule{r}, template: o.request(), fix: func(req *request.Request) bool {
			c.tried++
			resp := c.Predict(req)
			return req.Address.Scheme == "http" && resp.By == r && resp.Cause == engine.CauseAsked
		}})
		if err != nil {
			continue
		}
		entry := "redirect " + c.freeName(s, "secure") + " when scheme http to https://{host}{path} as permanent"
		f := Finding{Rules: []*rulebook.Rule{r}, Request: req,
			Message: whoAsks(req) + " is asked for a name and password over http: everybody on the way can read them.",
			Advice:  "put an entry above it that sends all on to https:   " + entry,
			Fixes:   []Fix{addEntry(s, entry)}}
		f.Place, f.Width = clause(r, "ask")
		c.add(f)
		return true
	}
	return false
}

// position is the place of a rule among those of a site.
func position(s *rulebook.Site, r *rulebook.Rule) int {
	for i, other := range s.Rules {
		if other == r {
			return i
		}
	}
	return len(s.Rules)
}
