package proof

import (
	"fmt"
	"strings"

	"kibitz/core/engine"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

func init() {
	register(21, Kind{
		Name: "listing-open", Severity: Warning,
		Summary: "a listing shows backup files, keys, dumps or hidden folders",
		Before:  "folder downloads in /downloads/ documents none listing on      # and there lies prices.bak",
		After:   "access leftovers on ~.*\\.bak refuse 404                           # and take the file away: a listing names what is there",
		Proves:  true,
		find: func(c *checker) {
			listed := map[string]bool{}
			c.looseFiles(func(kind string, files []*site.Node, s *rulebook.Site) {
				for _, n := range files {
					folder := strings.TrimSuffix(n.Path, lastSegment(n.Path))
					if listed[s.Name+folder] {
						continue
					}
					req, why := c.anybodys(s, folder, func(r *engine.Response) bool {
						page, err := r.Content()
						return r.Cause == engine.CauseListing && err == nil && strings.Contains(string(page), lastSegment(n.Path))
					})
					if why != "" {
						c.noteSite(Tried, s, why)
					}
					if req == nil {
						continue
					}
					resp := c.Predict(req)
					listed[s.Name+folder] = true
					c.noteSite(Found, s, "")
					place, width := clause(resp.By, "listing")
					c.add(Finding{Rules: []*rulebook.Rule{resp.By}, Place: place, Width: width, Request: req,
						Message: fmt.Sprintf("The listing of %s shows everybody %s, %s.", folder, lastSegment(n.Path), kind),
						Advice:  "take the file out of the folder, or write   listing off",
						Fixes:   []Fix{setClause(resp.By, "listing", "off")}})
				}
			})
		},
	})
}
