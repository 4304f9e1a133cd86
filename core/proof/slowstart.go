package proof

import (
	"fmt"
	"strings"

	"kibitz/core/browser"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

func init() {
	register(42, Kind{
		Name: "slow-start", Severity: Note,
		Summary: "whoever types another name of the site without https waits for three redirects or more",
		Before:  "redirect secure   when scheme http to https://{host}{path} as permanent\nredirect one-name when host www.saltmarsh-ferries.example to https://saltmarsh-ferries.example{path} as permanent",
		After:   "redirect one-name when host www.saltmarsh-ferries.example to https://saltmarsh-ferries.example{path} as permanent\nredirect secure   when scheme http to https://{host}{path} as permanent",
		find: func(c *checker) {
			for _, s := range c.treeSites() {
				c.noteSite(Tried, s, "")
				c.startsSlow(s)
			}
			c.conclusions("a folder of the tree was asked for without its slash, by every scheme and host")
		},
	})
}

// startsSlow asks for a folder without its slash by each scheme and host.
func (c *checker) startsSlow(s *rulebook.Site) {
	path := ""
	c.Tree(s).Each(func(n *site.Node) {
		if path == "" && n.Folder && !n.Hidden && n.Path != "" {
			at := c.homeRequest(s)
			at.Address.Path = n.Path
			if v := browser.Open(c, at); v.Redirects() == 1 && v.Last().Status == 200 {
				path = n.Path
			}
		}
	})
	for _, o := range c.fronts().of[s] {
		if path == "" {
			return
		}
		req := o.request()
		req.Address.Path = path
		c.tried++
		v := browser.Open(c, req)
		if v.Ending != browser.Arrived || v.Redirects() < 3 {
			continue
		}
		var names []string
		for _, h := range v.Hops[:v.Redirects()] {
			name := "the folder's slash"
			if h.Response.By != nil {
				name = h.Response.By.Name
			}
			names = append(names, name)
		}
		c.addOf(s, Finding{Request: req,
			Message: fmt.Sprintf("Whoever types %s waits for %d redirects: %s.", strings.TrimPrefix(req.Address.String(), "http://"), v.Redirects(), strings.Join(names, ", then ")),
			Advice:  "put the redirect to the right host above the one to https, and let it lead to https at once"})
		return
	}
}
