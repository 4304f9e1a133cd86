package proof

import (
	"fmt"

	"kibitz/core/rulebook"
)

func init() {
	register(14, Kind{
		Name: "error-page-missing", Severity: Warning,
		Summary: "the page that an entry shows is not in the tree, so visitors see a plain line of text",
		Before:  "error not-found for 404 show /errors/notfound.html             # the file is not-found.html",
		After:   "error not-found for 404 show /errors/not-found.html",
		Proves:  true,
		find: func(c *checker) {
			for _, s := range c.treeSites() {
				for _, r := range s.Rules {
					show := r.Shows()
					if show == "" {
						continue
					}
					c.note(Proved, r, "")
					if n := c.Tree(s).Find(show); n != nil && !n.Folder {
						continue
					}
					place, width := clause(r, "show")
					req := c.homeRequest(s)
					req.Address.Path = show
					c.add(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: req,
						Message: fmt.Sprintf("The tree of %s has no file %s: visitors see a plain line of text in its place.", s.Name, show),
						Advice:  "put the page there, or name the one that is"})
				}
			}
			c.conclusions("for the tree as it is")
		},
	})
}
