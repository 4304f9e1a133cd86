package proof

import (
	"errors"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// Requests gives the requests that are made of a rulebook's own selectors, and
// one for each file and folder of its trees.
func Requests(e *engine.Engine) []*request.Request {
	c := newShared(e, 1)
	var out []*request.Request
	for _, s := range e.Book.Sites {
		for _, r := range s.Rules {
			out = append(out, c.probes(s, r)...)
			sp := c.space(s)
			if req, err := sp.find(question{in: []*rulebook.Rule{r}}); err == nil {
				out = append(out, req)
			}
			if len(r.Tests) > 0 && sp.of(r).over != nil { // whom its conditions leave alone
				if req, err := sp.find(question{out: []*rulebook.Rule{r}, path: sp.of(r).over}); err == nil {
					out = append(out, req)
				}
			}
		}
		e.Tree(s).Each(func(n *site.Node) {
			req := c.homeRequest(s)
			if req.Address.Path = n.Path; n.Folder {
				req.Address.Path += "/"
			}
			out = append(out, req)
		})
	}
	return out
}

// Meet reports whether some request can be taken by both rules of a site, where
// nothing stands above them. It is false only where that is proved.
func Meet(e *engine.Engine, a, b *rulebook.Rule) bool {
	s := a.Site
	if s == nil {
		s = e.Book.Sites[0]
	}
	_, err := newSpace(e, s, 1).find(question{in: []*rulebook.Rule{a, b}})
	return !errors.Is(err, errNone)
}
