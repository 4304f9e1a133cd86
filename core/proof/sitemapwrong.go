package proof

import (
	"fmt"
	"net/http"

	"kibitz/core/engine"
	"kibitz/core/pages"
)

func init() {
	register(65, Kind{
		Name: "sitemap-wrong", Severity: Warning, Page: true,
		Summary: "a sitemap lists an address that does not answer with a page itself",
		Before:  `<urlset><url><loc>https://saltmarsh-ferries.example/prices/</loc></url></urlset>`,
		After:   `<urlset><url><loc>https://saltmarsh-ferries.example/fares/</loc></url></urlset>`,
		find: func(c *checker) {
			for _, t := range c.ownPages().Targets {
				var links []*pages.Link
				for _, l := range t.Links {
					if l.Use == pages.Entry {
						links = append(links, l)
					}
				}
				if len(links) == 0 || !t.Decided() {
					continue
				}
				f := Finding{}
				end, redirected := t.End()
				switch {
				case t.Broken():
					f.Short = answers(t)
					f.Advice = "take the entry out, or: " + c.instead(t)
				case redirected:
					f.Short = fmt.Sprintf("is redirected to %s: a sitemap lists the addresses of pages themselves", end.Target())
					f.Advice = "write " + end.String()
				case t.Last().Status != http.StatusOK:
					f.Short = "answers " + engine.StatusText(t.Last())
					f.Advice = "take the entry out"
				default:
					continue
				}
				c.addPage(links, f)
			}
			c.conclusions(readPages)
		},
	})
}
