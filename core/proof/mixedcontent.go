package proof

import (
	"fmt"

	"kibitz/core/pages"
)

func init() {
	register(63, Kind{
		Name: "mixed-content", Severity: Warning, Page: true,
		Summary: "a page that comes over https loads something over http, which browsers do not ask for",
		Before:  `<script src="http://saltmarsh-ferries.example/scripts/app.js"></script>`,
		After:   `<script src="/scripts/app.js"></script>`,
		find: func(c *checker) {
			own := c.ownPages()
			says := map[pages.Mix]string{
				pages.Blocks:   "over http: browsers do not ask for it on a page that came over https",
				pages.Upgrades: "over http: on a page that came over https browsers ask for it over https instead, and show nothing if it is not there",
				pages.Warns:    "over http, from a page that came over https: browsers warn the visitor before anything is sent",
			}
			for _, t := range own.Targets {
				for _, mix := range []pages.Mix{pages.Blocks, pages.Upgrades, pages.Warns} {
					var links []*pages.Link
					for _, l := range t.Links {
						if l.Mixed() == mix {
							links = append(links, l)
						}
					}
					if len(links) == 0 {
						continue
					}
					f := Finding{Short: map[pages.Mix]string{pages.Blocks: "is not asked for: it is http on an https page", pages.Upgrades: "is asked for over https instead", pages.Warns: "sends a form in clear"}[mix], Message: fmt.Sprintf("%s %s.%s", does(links[0]), says[mix], linked(links))}
					if mix != pages.Blocks {
						f.Severity = Note
					}
					secure := t.Request.Address
					secure.SetScheme("https")
					if f.Advice = "write " + secure.String(); t.Request.Address.Scheme == "https" {
						f.Advice = "let the redirects on the way stay with https"
					}
					c.addPage(links, f)
				}
			}
			c.conclusions(readPages)
		},
	})
}
