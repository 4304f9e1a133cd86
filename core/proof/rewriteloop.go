package proof

import (
	"strings"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/rulebook"
)

func init() {
	register(3, Kind{
		Name: "rewrite-loop", Severity: Error,
		Summary: "rewrites that start the reading again and again, without an end",
		Before:  "rewrite below on /app/* to /app/live/{1} then again",
		After:   "rewrite below on /app/* to /app/live/{1} then next",
		Proves:  true,
		find:    findRewriteLoops,
	})
}

func findRewriteLoops(c *checker) {
	bad := func(v *browser.Visit) bool { return v.Hops[0].Response.Cause == engine.CauseRewriteLoop }
	for _, s := range c.Book.Sites {
		g := c.rewriteGraph(s)
		for _, component := range g.components() {
			again := false
			for _, h := range component {
				again = again || h.rule.Action.(*rulebook.Rewrite).Then == rulebook.Again
			}
			if !again {
				continue
			}
			v := g.decide(component, bad)
			if v.visit != nil {
				c.add(c.rewriteLoopFinding(v.visit))
				c.note(Found, v.visit.Hops[0].Response.By, "")
			}
			c.noteAll(component, v)
		}
		for _, h := range g.all {
			if h.rule.Action.(*rulebook.Rewrite).Then == rulebook.Again {
				c.note(Proved, h.rule, "")
			}
		}
	}
	c.conclusions("the reading cannot come back to any of them")
}

// rewriteGraph says which rewrite can lead to which.
func (c *checker) rewriteGraph(s *rulebook.Site) *hops {
	sp := c.space(s)
	g := &hops{shared: c.shared, anywhere: map[*hop]bool{}, verdicts: map[*hop]verdict{}, most: engine.MaxStarts}
	f := &origin{space: sp, scheme: s.Address.Scheme, host: s.Address.Host}
	again := false
	for _, r := range s.Rules {
		if a, ok := r.Action.(*rulebook.Rewrite); ok {
			g.all = append(g.all, &hop{origin: f, rule: r, to: a.To, query: a.Query, fed: true})
			again = again || a.Then == rulebook.Again
		}
	}
	if !again {
		return &hops{shared: c.shared}
	}
	for _, h := range g.all {
		for _, to := range g.all {
			if g.leads(h, to) {
				h.edges = append(h.edges, to)
			}
		}
	}
	return g
}

func (c *checker) rewriteLoopFinding(v *browser.Visit) Finding {
	r := v.Hops[0].Response.By
	f := Finding{Rules: []*rulebook.Rule{r}, Request: v.Hops[0].Request}
	f.Place, f.Width = clause(r, "then", "on", "to")
	takes := "the entry takes its own result each time"
	f.Advice = "write   then next   or narrow what the entry takes, so that its own target is not in it"
	// What comes round is met in every start but perhaps the first.
	times := map[*rulebook.Rule]int{}
	for _, met := range c.Met(f.Request) {
		if times[met]++; times[met] == 3 && met != r && met.Kind == rulebook.KindRewrite {
			f.Rules = append(f.Rules, met)
		}
	}
	if len(f.Rules) > 1 {
		var names []string
		for _, round := range f.Rules {
			names = append(names, round.Name)
		}
		takes = strings.Join(names, " and ") + " take each other's results"
		f.Advice = "write   then next   in one of them, or take it out"
	}
	f.Message = whoAsks(f.Request) + " gets a 500: the reading is started again and again, and " + takes + "."
	return f
}
