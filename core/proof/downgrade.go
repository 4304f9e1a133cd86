package proof

import (
	"fmt"
	"strings"

	"kibitz/core/engine"
	"kibitz/core/rulebook"
)

func init() {
	register(18, Kind{
		Name: "downgrade", Severity: Warning,
		Summary: "a redirect from https to http: what was private goes open over the wire",
		Before:  "redirect boats in /boats/ to http://{host}/fleet/ as permanent",
		After:   "redirect boats in /boats/ to /fleet/ as permanent",
		Proves:  true,
		find: func(c *checker) {
			for _, r := range c.Book.Rules {
				if r.Kind != rulebook.KindRedirect && r.Kind != rulebook.KindMoves {
					continue
				}
				c.note(Proved, r, "")
				if !mayDowngrade(r) {
					continue
				}
				for _, s := range c.sitesOf(r) {
					if c.downgrades(s, r) {
						break
					}
				}
			}
			c.conclusions("none leads to http but from http")
		},
	})
}

// mayDowngrade reports whether a target can be plain http.
func mayDowngrade(r *rulebook.Rule) bool {
	switch a := r.Action.(type) {
	case *rulebook.Redirect:
		scheme, _ := rulebook.Constant(a.To.Scheme)
		return scheme == "http" && !a.To.IsPath()
	case *rulebook.Moves:
		for i := range a.Table.Rows {
			if strings.HasPrefix(a.Table.Rows[i].New, "http:") {
				return true
			}
		}
	}
	return false
}

func (c *checker) downgrades(s *rulebook.Site, r *rulebook.Rule) bool {
	rows := map[*rulebook.Row]bool{} // one that is nil, where there is no table
	var first Finding
	secure := *c.space(s).typicalRequest(r)
	secure.Address.SetScheme("https")
	for _, req := range append(c.probes(s, r), &secure) {
		if req.Address.Scheme != "https" {
			continue
		}
		c.tried++
		resp := c.Predict(req)
		if resp.By != r || resp.Cause != engine.CauseRedirect {
			continue
		}
		to, err := req.Address.Resolve(resp.Location)
		if err != nil || to.Scheme != "http" {
			continue
		}
		if rows[resp.Row] = true; first.Request == nil {
			place, width := clause(r, "to", "table")
			first = Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: req,
				Message: fmt.Sprintf("%s is sent to %s: from https to http.", whoAsks(req), resp.Location),
				Advice:  "write https, or only the path",
				Fixes:   replaceIn(r, "to", "http://", "https://")}
		}
		if resp.Row == nil {
			break
		}
	}
	if len(rows) == 0 {
		c.note(Tried, r, "no request was found that it sends from https to http")
		return false
	}
	if len(rows) > 1 {
		first.Count = len(rows)
		first.Message += further(len(rows)-1, "So is that of one more row.", "So are those of %d more rows.")
	}
	c.note(Found, r, "")
	c.add(first)
	return true
}
