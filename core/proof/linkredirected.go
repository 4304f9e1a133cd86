package proof

import (
	"fmt"

	"kibitz/core/pages"
)

func init() {
	register(61, Kind{
		Name: "link-redirected", Severity: Note, Page: true,
		Summary: "a page of the site links to an address that is redirected, which costs each visitor a request",
		Before:  `<a href="/prices/">Fares</a>`,
		After:   `<a href="/fares/">Fares</a>`,
		find: func(c *checker) {
			for _, t := range c.ownPages().Targets {
				end, ok := t.End()
				if !ok || !t.ForGood() {
					continue // where a redirect is for now, the old address is the one to link to
				}
				var links []*pages.Link
				for _, l := range t.Links {
					if l.Use != pages.Entry && l.Use != pages.Canonical && l.Use != pages.Alternate { // which have findings of their own
						links = append(links, l)
					}
				}
				if len(links) == 0 {
					continue
				}
				by := ""
				if rule := t.Visit.Hops[0].Response.By; rule != nil {
					by = fmt.Sprintf(" by %s (%s)", rule.Name, rule.Place)
				}
				c.addPage(links, Finding{
					Short:   fmt.Sprintf("is redirected to %s%s", end.Target(), by),
					Message: fmt.Sprintf("%s, which is redirected to %s%s.%s%s", does(links[0]), end.Target(), by, linked(links), c.inEveryFile(t)),
					Advice:  "write " + links[0].Instead(end)})
			}
			c.conclusions(readPages)
		},
	})
}

// inEveryFile tells of the command that mends a link wherever it stands.
func (c *checker) inEveryFile(t *pages.Target) string {
	if _, ok := Settled(c.Engine, t); !ok {
		return ""
	}
	return " kibitz links -write fixes it in every file."
}
