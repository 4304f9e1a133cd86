package proof

import (
	"fmt"

	"kibitz/core/engine"
	"kibitz/core/rulebook"
)

func init() {
	register(15, Kind{
		Name: "error-page-unreachable", Severity: Warning,
		Summary: "other entries take the address of an error page, so what it links beside itself, or its own address, shows something else",
		Before:  "redirect tidy  on /errors/* to / as permanent\nerror not-found for 404 show /errors/not-found.html",
		After:   "error not-found for 404 show /errors/not-found.html",
		find: func(c *checker) {
			for _, r := range c.Book.Rules {
				a, ok := r.Action.(*rulebook.ErrorPage)
				if !ok || a.Body.Show == "" {
					continue
				}
				c.note(Proved, r, "")
				for _, s := range c.sitesOf(r) {
					if n := c.Tree(s).Find(a.Body.Show); n == nil || n.Folder || n.Hidden {
						continue // hidden pages are shown all the same
					}
					req := c.homeRequest(s)
					req.Address.Path = a.Body.Show
					c.tried++
					resp := c.Predict(req)
					if resp.By == nil || resp.Cause == engine.CauseRefused || resp.Cause == engine.CauseAsked || resp.File != nil {
						continue
					}
					place, width := clause(r, "show")
					c.note(Found, r, "")
					c.add(Finding{Rules: []*rulebook.Rule{r, resp.By}, Place: place, Width: width, Request: req,
						Message: fmt.Sprintf("The page's own address %s is taken by %s (%s).", a.Body.Show, resp.By.Name, resp.By.Place),
						Advice:  "let that entry leave the folder of the error pages alone"})
				}
			}
			c.conclusions("each page was asked for by its own address")
		},
	})
}
