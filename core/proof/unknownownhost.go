package proof

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

func init() {
	register(33, Kind{
		Name: "unknown-own-host", Severity: Warning,
		Summary: "a redirect leads to a host that is nearly one of the site's own, and that no site answers for",
		Before:  "redirect desk on /desk to https://wwww.saltmarsh-ferries.example/fares/ as temporary",
		After:   "redirect desk on /desk to https://www.saltmarsh-ferries.example/fares/ as temporary",
		find: func(c *checker) {
			for _, r := range c.Book.Rules {
				hosts := map[string]*rulebook.Row{}
				switch a := r.Action.(type) {
				case *rulebook.Redirect:
					if host, ok := rulebook.Constant(a.To.Host); ok && host != "" {
						hosts[host] = nil
					}
				case *rulebook.Moves:
					for i := range a.Table.Rows {
						if to, err := request.Parse(a.Table.Rows[i].New, request.Address{}); err == nil && strings.Contains(a.Table.Rows[i].New, "//") {
							hosts[to.Host] = &a.Table.Rows[i]
						}
					}
				default:
					continue
				}
				c.note(Tried, r, "")
				for _, host := range slices.Sorted(maps.Keys(hosts)) {
					if c.nearlyOwn(r, host, hosts[host]) {
						break
					}
				}
			}
			c.conclusions("no host that they lead to is nearly one of the sites' own")
		},
	})
}

// nearlyOwn reports a host that differs from one of a site in a letter, or in a www.
func (c *checker) nearlyOwn(r *rulebook.Rule, host string, row *rulebook.Row) bool {
	if c.SiteFor(host) != nil {
		return false
	}
	for _, s := range c.Book.Sites {
		for _, p := range s.Hosts {
			own, literal := p.Literal()
			if !literal || !nearly(own, host) {
				continue
			}
			at := c.sitesOf(r)[0]
			req := c.space(at).typicalRequest(r)
			if row != nil {
				req = withRow(req, row)
			}
			c.tried++
			if resp := c.Predict(req); resp.By != r || resp.Cause != engine.CauseRedirect {
				continue
			}
			f := Finding{Rules: []*rulebook.Rule{r}, Request: req,
				Message: fmt.Sprintf("No site here has the host %s, but %s is nearly the same: whoever asks for %s may be sent to a host that nobody runs.", host, own, req.Address.Target()),
				Advice:  "write   " + own + "   or accept it, if that host is meant",
				Fixes:   replaceIn(r, "to", "//"+host, "//"+own)}
			f.Place, f.Width = clause(r, "to", "table")
			c.add(f)
			return true
		}
	}
	return false
}

// nearly reports whether two hosts are one but for a slip.
func nearly(own, host string) bool {
	if "www."+own == host || "www."+host == own {
		return true
	}
	return min(len(own), len(host)) > 10 && rulebook.Distance(own, host) == 1
}
