package proof

import (
	"fmt"
	"strings"

	"kibitz/core/pages"
	"kibitz/core/rulebook"
)

func init() {
	register(62, Kind{
		Name: "asset-refused", Severity: Warning, Page: true,
		Summary: "a browser does not use what a page loads, since it is of the wrong type, or another origin's",
		Before:  `<script src="/fares/"></script>`,
		After:   `<script src="/scripts/app.js"></script>`,
		find: func(c *checker) {
			for _, t := range c.ownPages().Targets {
				why := map[string][]*pages.Link{}
				var order []string
				for _, l := range t.Links {
					if w := l.Refused(); w != "" {
						if why[w] == nil {
							order = append(order, w)
						}
						why[w] = append(why[w], l)
					}
				}
				for _, w := range order {
					links := why[w]
					advice := "name the file that is meant; or give the type with an entry:   media NAME   type EXTENSION TYPE"
					last := t.Last()
					by := last.By
					if at := t.Visit.Hops[len(t.Visit.Hops)-1].Request; by == nil {
						for _, r := range c.Met(at) { // what has rewritten it
							if r.Kind == rulebook.KindRewrite {
								by = r
							}
						}
					}
					switch {
					case strings.Contains(w, "Access-Control-Allow-Origin"):
						advice = fmt.Sprintf("header NAME on %s set Access-Control-Allow-Origin %q", t.Request.Address.Path, links[0].Page.Address.Origin())
					case by != nil && last.File != nil && last.File.Path != t.Request.Address.Path:
						advice = fmt.Sprintf("the answer is that of %s (%s): let it leave the address alone, and put the file there", by.Name, by.Place)
					case last.File != nil:
						advice = fmt.Sprintf("put the file there that is meant: it is %s that is sent", last.File.Path)
					}
					c.addPage(links, Finding{Short: strings.TrimPrefix(w, "it "), Message: fmt.Sprintf("%s, but %s.%s", does(links[0]), w, linked(links)), Advice: advice})
				}
			}
			c.conclusions(readPages)
		},
	})
}
