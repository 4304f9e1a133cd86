package proof

import (
	"fmt"
	"strings"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

var redirectLoop = Kind{
	Name: "redirect-loop", Severity: Error,
	Summary: "a visit comes back to an address that it has had, and goes round for ever",
	Before:  "redirect secure                   to https://{host}{path} as permanent",
	After:   "redirect secure  when scheme http to https://{host}{path} as permanent",
	find:    findLoops,
}

// findLoops visits requests that each redirect takes.
func findLoops(c *checker) {
	redirects := 0
	seen := map[string]bool{} // circles that have been reported, by their entries
	for _, s := range c.Book.Sites {
		for _, r := range s.Rules {
			switch r.Action.(type) {
			case *rulebook.Redirect, *rulebook.Moves:
			default:
				continue
			}
			redirects++
			for _, req := range c.probes(s, r) {
				c.tried++
				v := c.Visit(req)
				if v.Ending != engine.Loop {
					continue
				}
				circle := v.Hops[v.Again:]
				key := ""
				for _, h := range circle {
					key = max(key, fmt.Sprintf("%p %v", h.Response.By, h.Response.Row))
				}
				if seen[key] {
					continue
				}
				seen[key] = true
				c.add(loopFinding(circle))
			}
		}
	}
	switch {
	case redirects == 0:
		c.claim(Proved, 0, "no entry redirects")
	case len(seen) > 0:
		c.claim(Found, redirects, "")
	default:
		c.claim(Tried, redirects, "requests made from each entry's own selectors")
	}
}

// loopFinding tells of a circle, beginning at its first hop.
func loopFinding(circle []engine.Hop) Finding {
	req := *circle[0].Request
	f := Finding{Request: &req}
	var names []string
	for _, h := range circle {
		if h.Response.By == nil {
			names = append(names, "the folder's slash")
			continue
		}
		f.Rules = append(f.Rules, h.Response.By)
		names = append(names, h.Response.By.Name)
	}
	if len(f.Rules) > 0 {
		f.Place, f.Width = clause(f.Rules[0], "on", "in", "when", "unless", "table", "to")
	}
	who := "Whoever asks for " + req.Address.String()
	if len(circle) == 1 {
		f.Message = who + " is sent to the same address again, round and round."
	} else {
		f.Message = fmt.Sprintf("%s is sent round for ever: %s, and back again.", who, strings.Join(names, ", then "))
	}
	f.Advice = loopAdvice(circle, req)
	return f
}

// loopAdvice names the condition that breaks the circle, where one does.
func loopAdvice(circle []engine.Hop, req request.Request) string {
	rule := circle[0].Response.By
	if rule == nil {
		return "take one of these redirects out, or narrow what it takes"
	}
	if a, ok := rule.Action.(*rulebook.Redirect); ok && len(circle) == 1 && !hasTest(rule, rulebook.FieldScheme) {
		if scheme, _ := rulebook.Constant(a.To.Scheme); scheme == "https" && req.Address.Scheme == "https" {
			return "add   when scheme http"
		}
		if scheme, _ := rulebook.Constant(a.To.Scheme); scheme == "http" && req.Address.Scheme == "http" {
			return "add   when scheme https"
		}
	}
	if a, ok := rule.Action.(*rulebook.Redirect); ok && len(circle) == 1 && !hasTest(rule, rulebook.FieldHost) && !a.To.IsPath() {
		if host, ok := rulebook.Constant(a.To.Host); ok && host == req.Address.Host {
			return "add   unless host " + host
		}
	}
	if len(circle) == 1 {
		return "narrow what the entry takes, so that its own target is not in it"
	}
	return "take one of these redirects out, or narrow what it takes"
}
