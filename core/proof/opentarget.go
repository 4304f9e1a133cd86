package proof

import (
	"fmt"
	"strings"

	"kibitz/core/engine"
	"kibitz/core/rulebook"
)

func init() {
	register(6, Kind{
		Name: "open-target", Severity: Error,
		Summary: "a redirect whose host comes from the request, and is not held to the site's own hosts",
		Before:  "redirect partner on /partner/:name to https://{name}.ferry-tickets.example/ as temporary      # any name at all",
		After:   "redirect partner on /partner/:name(sandling|marram) to https://{name}.ferry-tickets.example/ as temporary",
		Proves:  true,
		find: func(c *checker) {
			for _, r := range c.Book.Rules {
				a, ok := r.Action.(*rulebook.Redirect)
				if !ok {
					continue
				}
				if _, constant := rulebook.Constant(a.To.Host); constant {
					c.note(Proved, r, "")
					continue
				}
				found := false
				for _, s := range c.sitesOf(r) {
					found = found || c.openTarget(s, r, a)
				}
				if !found {
					c.note(Tried, r, "the hosts that its values make are the site's own, or a few")
				}
			}
			c.conclusions("their hosts do not come from the request")
		},
	})
}

// strangers are parts of hosts that no rulebook means.
var strangers = []string{"kibitz-stranger", "kibitzstranger", "70007"}

// openTarget asks with a host or a value that the site does not know.
func (c *checker) openTarget(s *rulebook.Site, r *rulebook.Rule, a *rulebook.Redirect) bool {
	for _, stranger := range strangers {
		for _, req := range c.strangers(s, r, stranger) {
			c.tried++
			resp := c.Predict(req)
			if resp.By != r || resp.Cause != engine.CauseRedirect {
				continue
			}
			next, err := req.Address.Resolve(resp.Location)
			if err != nil || !strings.Contains(next.Host, stranger) || c.SiteFor(next.Host) != nil && !s.UnknownHosts {
				continue
			}
			place, width := clause(r, "to")
			c.note(Found, r, "")
			c.add(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: req,
				Message: fmt.Sprintf("Whoever makes a link can send visitors from here to a host of their choice: this one goes to %s.", next.Host),
				Advice:  "write the host out, or let the pattern take only the names that are meant"})
			return true
		}
	}
	return false
}
