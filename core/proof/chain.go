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
	register(11, Kind{
		Name: "chain", Severity: Warning,
		Summary: "a visit needs two redirects or more, where one would do",
		Before:  "redirect prices on /prices    to /fares   as permanent      # the folder answers: /fares/",
		After:   "redirect prices on /prices    to /fares/  as permanent",
		Proves:  true,
		find:    findChains,
	})
}

const maxChainEdges = 32 // of one entry, at all schemes and hosts

func findChains(c *checker) {
	g := c.graph()
	first := map[*rulebook.Rule]*browser.Visit{} // of a table's rows
	rows := map[*rulebook.Rule]map[*rulebook.Row]bool{}
	var rules []*rulebook.Rule
	hopsOf := map[*rulebook.Rule][]*hop{} // at all origins
	for _, h := range g.all {
		if h.rule == nil || h.isRewrite() || h.row == nil && onlyMoves(h) && !h.fed || len(h.edges) == 0 { // a rewrite may have changed the path
			continue
		}
		if h.group != nil {
			h = &hop{origin: h.origin, rule: h.rule, row: h.group[0], group: h.group}
		}
		if h.row != nil {
			req := withRow(h.origin.space.typicalRequest(h.rule), h.row)
			req.Address.Host = h.origin.host
			req.Address.SetScheme(h.origin.scheme)
			c.tried++
			if v := browser.Open(c, req); isChain(v) && v.Hops[0].Response.Row == h.row {
				if first[h.rule] == nil {
					first[h.rule], rows[h.rule] = v, map[*rulebook.Row]bool{}
				}
				rows[h.rule][h.row] = true
				for _, alike := range h.group {
					rows[h.rule][alike] = true
				}
			} else {
				c.note(Tried, h.rule, "visits of its rows that might go on were followed, and end")
			}
			continue
		}
		if hopsOf[h.rule] == nil {
			rules = append(rules, h.rule)
		}
		hopsOf[h.rule] = append(hopsOf[h.rule], h)
	}
	for _, r := range rules {
		v, always, state, why := c.chainFrom(g, r, hopsOf[r])
		if v != nil && !always && !c.all { // only a value that it copies leads on
			v, state, why = nil, Tried, "only made-up values that it copies lead on"
		}
		c.note(state, r, why)
		if v != nil {
			f := chainFinding(v)
			if !always {
				f.Severity = Note
			}
			c.add(f)
		}
	}
	for r, v := range first {
		f := chainFinding(v)
		f.Place, f.Width = clause(r, "table")
		f.Count = len(rows[r])
		row := v.Hops[0].Response.Row
		f.Message = fmt.Sprintf("%s:%d: %s", r.Action.(*rulebook.Moves).Table.Name, row.Line, f.Message)
		f.Message += further(f.Count-1, "So does one more row.", "So do %d more rows.")
		c.note(Found, r, "")
		c.add(f)
	}
	c.redirectsProved()
	c.conclusions("where each leads, no other redirect takes it on; what changes only scheme or host at the start is not counted")
}

// chainFrom looks for a chain that begins with a rule at one of its hops; always: it is there where
// no address had to be found for it.
func (c *checker) chainFrom(g *hops, r *rulebook.Rule, at []*hop) (v *browser.Visit, always bool, state, why string) {
	begins := func(req *request.Request) bool {
		c.tried++
		visit := browser.Open(c, req)
		if isChain(visit) && visit.Hops[0].Response.By == r {
			v = visit
		}
		return v != nil
	}
	for _, req := range c.firstProbes(at[0].origin.space.site, r) {
		if begins(req) {
			return v, true, Found, ""
		}
	}
	_, constant := rulebook.Constant(at[0].to.Path)
	state, edges := Proved, 0
	for _, h := range at {
		if edges += len(h.edges); edges > maxChainEdges*c.effort {
			return nil, false, Tried, fmt.Sprintf("it may lead on in %d ways and more", edges)
		}
		for _, to := range h.edges {
			path, err := g.into(h, to.over())
			if path == nil && err == nil {
				continue
			}
			_, err = h.origin.space.find(question{in: []*rulebook.Rule{r}, path: path, template: h.origin.request(), fix: begins})
			if err == nil {
				return v, constant, Found, ""
			}
			if err != errNone {
				state, why = Tried, "visits that might go on were followed, and end"
			}
		}
	}
	return nil, false, state, why
}

// onlyMoves reports whether a hop changes nothing but the scheme and the host. Of several slashes
// that a path begins with one is left.
func onlyMoves(h *hop) bool {
	return h.to != nil && !h.origin.space.site.KeepSlashes && !h.to.HasQuery && h.query.Mode == rulebook.QueryKeep && len(h.to.Path) == 1 && h.to.Path[0].Value && h.to.Path[0].Capture == "" &&
		h.to.Path[0].Field.Kind == rulebook.FieldPath && len(h.to.Path[0].Filters) == 0 && !h.to.IsPath()
}

// isChain reports whether a visit needs two redirects or more, but for those at
// its start that change only the scheme or the host.
func isChain(v *browser.Visit) bool {
	if v.Ending == browser.Loop || v.Ending == browser.TooLong {
		return false
	}
	first := 0
	for first+1 < len(v.Hops) && v.Hops[first].Request.Address.Target() == v.Hops[first+1].Request.Address.Target() {
		first++
	}
	for _, h := range v.Hops[first:v.Redirects()] {
		if h.Response.By != v.Hops[first].Response.By { // an entry that takes its own result is another matter
			return v.Redirects()-first >= 2
		}
	}
	return v.Hops[first].Response.Row != nil && v.Redirects()-first >= 2
}

func chainFinding(v *browser.Visit) Finding {
	f := Finding{Request: v.Hops[0].Request}
	var names []string
	times := 1
	for i, h := range v.Hops[:v.Redirects()] {
		name := "the folder's slash"
		if by := h.Response.By; by != nil {
			f.Rules = append(f.Rules, by)
			name = by.Name
		}
		if i > 0 && h.Response.By == v.Hops[i-1].Response.By {
			times++
			names[len(names)-1] = fmt.Sprintf("%s %d times", name, times)
			continue
		}
		names, times = append(names, name), 1
	}
	f.Place, f.Width = clause(f.Rules[0], "to", "table")
	end := v.Hops[len(v.Hops)-1].Request.Address
	if v.Ending == browser.Left {
		end = v.Left
	}
	short := end.String()
	if end.Origin() == v.Hops[0].Request.Address.Origin() {
		short = end.Target() + end.Fragment
	}
	f.Message = fmt.Sprintf("%s waits for %d redirects: %s.", whoAsks(v.Hops[0].Request), v.Redirects(), strings.Join(names, ", then "))
	if setsCookie(v.Hops[1:v.Redirects()]) { // who is sent straight would not have it
		f.Advice = "let the first redirect set the cookie, too, and send it straight to   " + short
		return f
	}
	f.Advice = "send it straight to   " + short
	if to, _, _, ok := f.Rules[0].Entry.Clause("to"); ok && !strings.Contains(to.Values[0].Text, "{") {
		f.Fixes = []Fix{setTarget(f.Rules[0], rulebook.Quote(rulebook.Literal(short)))}
	}
	return f
}

// setsCookie reports whether some answers set a cookie.
func setsCookie(hops []browser.Hop) bool {
	return slices.ContainsFunc(hops, func(h browser.Hop) bool {
		_, sets := h.Response.Get("Set-Cookie")
		return sets
	})
}
