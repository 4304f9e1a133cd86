package proof

import (
	"fmt"
	"slices"
	"strings"

	"kibitz/core/browser"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

func init() {
	register(1, Kind{
		Name: "redirect-loop", Severity: Error,
		Summary: "redirects lead back to an address that the visitor has already been sent to: an endless loop",
		Before:  "redirect secure                   to https://{host}{path} as permanent",
		After:   "redirect secure  when scheme http to https://{host}{path} as permanent",
		Proves:  true,
		find:    findLoops,
	})
}

// findLoops looks into each component of the graph of redirects: what is in none
// cannot go round.
func findLoops(c *checker) {
	g := c.graph()
	seen := map[string]bool{} // circles that have been reported, by their entries
	report := func(v *browser.Visit) {
		circle := v.Hops[v.Again:]
		f := c.loopFinding(circle)
		for _, r := range f.Rules {
			c.note(Found, r, "")
		}
		if key := circleKey(circle); !seen[key] {
			seen[key] = true
			c.add(f)
		}
	}
	for _, component := range g.cyclic {
		for _, req := range c.componentProbes(component) {
			c.tried++
			if v := browser.Open(c, req); v.Ending == browser.Loop {
				report(v)
			}
		}
		v := c.verdictOf(component)
		if v.visit != nil && v.visit.Ending == browser.Loop {
			report(v.visit)
		}
		c.noteAll(component, v)
	}
	c.redirectsProved()
	c.conclusions("no visit can come back through any of them")
}

// componentProbes are requests for the entries of a component, and for its rows.
func (c *checker) componentProbes(component []*hop) []*request.Request {
	var out []*request.Request
	done := map[*rulebook.Rule]bool{}
	for _, h := range component {
		row := h.row
		if h.group != nil {
			row = h.group[0]
		}
		if row != nil && len(out) < maxRowProbes {
			out = append(out, withRow(h.origin.request(), row))
		}
		if h.rule != nil && row == nil && !done[h.rule] {
			done[h.rule] = true
			out = append(out, c.probes(h.origin.space.site, h.rule)...)
		}
	}
	return out
}

// verdictOf decides a component once for all findings.
func (c *checker) verdictOf(component []*hop) verdict {
	g := c.graph()
	v, ok := g.verdicts[component[0]]
	if !ok {
		v = g.decide(component, func(v *browser.Visit) bool {
			return v.Ending == browser.Loop || v.Ending == browser.TooLong
		})
		g.verdicts[component[0]] = v
	}
	return v
}

// noteAll says what is known of the entries of a component.
func (c *checker) noteAll(component []*hop, v verdict) {
	c.tried += v.tried
	state := v.state
	if state == Found { // of one circle in it; others were looked for
		state = Tried
		v.why = "it shares addresses with entries that have it"
	}
	for _, h := range component {
		if h.rule != nil && (!h.isRewrite() || c.kind.Name == "rewrite-loop") {
			c.note(state, h.rule, v.why)
		}
	}
}

// redirectsProved notes the redirects of which nothing else is known.
func (c *checker) redirectsProved() {
	for _, r := range c.Book.Rules {
		if r.Kind == rulebook.KindRedirect || r.Kind == rulebook.KindMoves {
			c.note(Proved, r, "")
		}
	}
}

// rewrittenBy are the rewrites that a request meets.
func (c *checker) rewrittenBy(req *request.Request) []*rulebook.Rule {
	return slices.DeleteFunc(c.Met(req), func(r *rulebook.Rule) bool { return r.Kind != rulebook.KindRewrite })
}

// circleKey is the same wherever on a circle a visit begins.
func circleKey(circle []browser.Hop) (key string) {
	for _, h := range circle {
		if r := h.Response.By; r != nil {
			key = max(key, fmt.Sprint(r.Place, h.Response.Row))
		}
	}
	return key
}

// loopFinding tells of a circle, beginning at its first hop.
func (c *checker) loopFinding(circle []browser.Hop) Finding {
	req := *circle[0].Request
	f := Finding{Request: &req}
	var names []string
	for _, h := range circle {
		if h.Response.By == nil {
			names = append(names, "the folder's slash to "+h.Response.Location)
			for _, rule := range c.rewrittenBy(h.Request) { // it can only go round by these
				f.Rules = append(f.Rules, rule)
				names = append(names, "rewritten by "+rule.Name)
			}
			continue
		}
		f.Rules = append(f.Rules, h.Response.By)
		names = append(names, h.Response.By.Name+" to "+h.Response.Location)
	}
	if len(f.Rules) > 0 {
		f.Place, f.Width = clause(f.Rules[0], "on", "in", "when", "unless", "table", "to")
	}
	who := whoAsks(&req)
	if len(circle) == 1 {
		f.Message = who + " is redirected to the same address again and again."
	} else {
		f.Message = fmt.Sprintf("%s is caught in an endless loop: %s.", who, strings.Join(names, ", then "))
	}
	f.Advice = loopAdvice(circle, req)
	if clause := missingTest(circle, req); clause != "" {
		f.Advice = "add   " + clause
		f.Fixes = []Fix{addClause(circle[0].Response.By, clause)}
	}
	return f
}

// loopAdvice says how a circle is broken that no condition alone breaks.
func loopAdvice(circle []browser.Hop, req request.Request) string {
	rule := circle[0].Response.By
	if rule == nil {
		what := "keep the slash in what the rewrite makes of the path"
		if len(circle) > 1 {
			what = "send folders to their address with its slash"
		}
		return what + ", or serve them without it:   folder plain in / slash leave"
	}
	if len(circle) == 1 {
		return "narrow what the entry takes, so that its own target is not in it"
	}
	return "take one of these redirects out, or narrow what it takes"
}

// missingTest names the condition that breaks the circle of one entry; "" where none does.
func missingTest(circle []browser.Hop, req request.Request) string {
	rule := circle[0].Response.By
	if rule == nil || len(circle) > 1 {
		return ""
	}
	if a, ok := rule.Action.(*rulebook.Redirect); ok && !hasTest(rule, rulebook.FieldScheme) {
		if scheme, _ := rulebook.Constant(a.To.Scheme); scheme == "https" && req.Address.Scheme == "https" {
			return "when scheme http"
		}
		if scheme, _ := rulebook.Constant(a.To.Scheme); scheme == "http" && req.Address.Scheme == "http" {
			return "when scheme https"
		}
	}
	if a, ok := rule.Action.(*rulebook.Redirect); ok && !hasTest(rule, rulebook.FieldHost) && !a.To.IsPath() {
		if host, ok := rulebook.Constant(a.To.Host); ok && host == req.Address.Host {
			return "unless host " + host
		}
	}
	return ""
}
