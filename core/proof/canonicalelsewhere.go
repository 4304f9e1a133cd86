package proof

import (
	"fmt"
	"slices"

	"kibitz/core/pages"
)

func init() {
	register(64, Kind{
		Name: "canonical-elsewhere", Severity: Warning, Page: true,
		Summary: "the address that a page names as its own, or as that of another language, is redirected, is not there, or does not name it in return",
		Before:  `<link rel="canonical" href="/prices/">`,
		After:   `<link rel="canonical" href="/fares/">`,
		find: func(c *checker) {
			for _, p := range c.ownPages().Pages {
				for _, l := range p.Links {
					if l.Use != pages.Canonical && l.Use != pages.Alternate || l.Target == nil || !l.Target.Decided() || p.Error {
						continue
					}
					f := Finding{}
					end, redirected := l.Target.End()
					switch {
					case l.Target.Broken():
						continue // link-broken tells of it
					case redirected:
						f.Short = "is redirected to " + end.Target()
						f.Message = fmt.Sprintf("%s, which is redirected to %s: search engines then trust neither.", does(l), end.Target())
						f.Advice = "write " + end.String()
					case l.Use == pages.Alternate && l.Target.Page != nil && l.Target.Page != p && !returns(l.Target.Page, p):
						f.Short = "does not name this page in return"
						f.Message = fmt.Sprintf("%s, but %s does not name this page in return: search engines then ignore both.", does(l), l.Target.Page.Name())
						f.Advice = fmt.Sprintf("write into %s:   <link rel=\"alternate\" hreflang=\"…\" href=%q>", l.Target.Page.Name(), p.Address)
					default:
						continue
					}
					c.addPage([]*pages.Link{l}, f)
				}
			}
			c.conclusions(readPages)
		},
	})
}

// returns reports whether a page names another one as one in another language.
func returns(p, other *pages.Page) bool {
	return slices.ContainsFunc(p.Links, func(l *pages.Link) bool {
		return l.Use == pages.Alternate && l.Target != nil && l.Target.Page == other
	})
}
