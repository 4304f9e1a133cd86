package proof

import (
	"fmt"
	"strings"

	"kibitz/core/rulebook"
)

func init() {
	register(45, Kind{
		Name: "error-page-at-large", Severity: Note,
		Summary: "the page of an error answers 200 at its own address, where search engines take it for a page",
		Before:  "error not-found for 404 show /errors/not-found.html",
		After:   "access pages on /errors/not-found.html refuse 404\nerror  not-found for 404 show /errors/not-found.html",
		Quiet:   true,
		find: func(c *checker) {
			for _, s := range c.treeSites() {
				for _, r := range s.Rules {
					a, ok := r.Action.(*rulebook.ErrorPage)
					if !ok || a.Body.Show == "" {
						continue
					}
					c.note(Tried, r, "")
					req := c.homeRequest(s)
					req.Address.Path = a.Body.Show
					c.tried++
					resp := c.Predict(req)
					if resp.Status != 200 || resp.File == nil || resp.File.Path != a.Body.Show {
						continue
					}
					entry := fmt.Sprintf("access %s on %s refuse 404", c.freeName(s, "pages"), rulebook.Quote(a.Body.Show))
					f := Finding{Rules: []*rulebook.Rule{r}, Request: req,
						Message: fmt.Sprintf("%s answers 200 when it is asked for itself.", a.Body.Show),
						Advice:  "refuse it there; visitors still see it in answers of 404:   " + entry,
						Fixes:   []Fix{addEntry(s, entry)}}
					if page, err := resp.File.Read(); a.Fill && err == nil && strings.Contains(string(page), "{") {
						f.Message = fmt.Sprintf("%s answers 200 when it is asked for itself, with its braces as they stand.", a.Body.Show)
					}
					f.Place, f.Width = clause(r, "show")
					c.add(f)
				}
			}
			c.conclusions("each page was asked for by its own address")
		},
	})
}
