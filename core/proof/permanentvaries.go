package proof

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"kibitz/core/browser"
	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/pattern"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

// Browsers and caches store a 301 and a 308 under the address that was asked for
// (RFC 9110, 15.4.2; RFC 9111, 4.2.2), whatever else the rulebook looked at.
func init() {
	register(12, Kind{
		Name: "permanent-varies", Severity: Warning,
		Summary: "a permanent redirect depends on what can change while the address stays: browsers store it, and follow it then, too",
		Before:  "redirect german on / when cookie.lang de to /de/ as permanent",
		After:   "redirect german on / when cookie.lang de to /de/ as temporary",
		Proves:  true,
		find: func(c *checker) {
			for _, r := range c.Book.Rules {
				if !permanent(r) {
					continue
				}
				c.note(Proved, r, "")
				for _, s := range c.sitesOf(r) {
					if c.varies(s, r) {
						c.note(Found, r, "")
						break
					}
				}
			}
			c.conclusions("they, and the entries above them, depend on the address alone")
		},
	})
}

// permanent reports whether browsers store what a rule answers.
func permanent(r *rulebook.Rule) bool {
	switch a := r.Action.(type) {
	case *rulebook.Redirect:
		return browser.Permanent(a.Status)
	case *rulebook.Moves:
		return slices.ContainsFunc(a.Table.Rows, permanentRow)
	}
	return false
}

func permanentRow(row rulebook.Row) bool { return browser.Permanent(int(row.Status)) }

// changes reports whether a test can cease to hold, or come to hold, while the address stays
// as it is.
func changes(t *rulebook.Test, comes bool) bool {
	if t.Field.Kind == rulebook.FieldTime { // what has begun, and never ends, does not cease; and what is over does not come
		return slices.ContainsFunc(t.Values, func(v rulebook.Value) bool {
			return v.Kind != rulebook.ValueSpan || t.Unless == comes && v.Span.High != math.MaxInt64 || t.Unless != comes && v.Span.Low > 0
		})
	}
	return t.Field.Row().Changed != nil
}

// fickle are a rule's tests that can cease to hold, or come to hold, while the address
// stays.
func fickle(r *rulebook.Rule, come bool) (out []*rulebook.Test) {
	for _, t := range r.Tests {
		if changes(t, come) {
			out = append(out, t)
		}
	}
	return out
}

// varies looks for two requests for one address of which only one is sent on for good: the
// other does not meet the entry's own conditions, or meets those of an entry above it.
func (c *checker) varies(s *rulebook.Site, r *rulebook.Rule) bool {
	if varying := fickle(r, false); len(varying) > 0 {
		if c.variesBy(s, r, r, varying) {
			return true
		}
		c.note(Tried, r, "no request was found that it answers differently from another for the same address")
	}
	if fields := copiedFickle(r); len(fields) > 0 {
		if c.variesByCopy(s, r, fields) {
			return true
		}
		c.note(Tried, r, "no two requests for one address were found that it sends to different ones by what it copies")
	}
	fickles, rewrites := c.ficklesOf(s)
	some := slices.ContainsFunc(fickles, func(o *rulebook.Rule) bool { return o != r }) ||
		slices.ContainsFunc(rewrites, func(w *rulebook.Rule) bool { return len(copiedFickle(w)) > 0 })
	for _, w := range rewrites { // one may bring it paths that others take under their conditions, or that hold what can change
		if a, ok := w.Action.(*rulebook.Rewrite); ok && some && mayBegin(a.To, r) {
			c.note(Tried, r, fmt.Sprintf("%s may bring it paths that are asked for under various conditions", w.Name))
			break
		}
	}
	for _, above := range fickles {
		if above.Number >= r.Number {
			break
		}
		a, ok := above.Action.(rulebook.Reading)
		if _, guard := above.Action.(*rulebook.Access); !ok || guard || !a.Ends() && above.Kind != rulebook.KindRewrite {
			continue
		}
		tests := fickle(above, true)
		if len(tests) == 0 || !beginAlike(above, r) || apart(above, r) {
			continue
		}
		if c.variesBy(s, r, above, tests) {
			return true
		}
		c.note(Tried, r, "no request was found that an entry above it answers differently")
	}
	return false
}

// copiedFickle are the fields that a rule copies, and that can change while the address stays.
func copiedFickle(r *rulebook.Rule) (out []rulebook.Field) {
	for _, t := range r.Action.Templates() {
		for p := range t.Pieces {
			if p.Value && p.Capture == "" && p.Field.Row().Changed != nil {
				out = append(out, p.Field)
			}
		}
	}
	return out
}

// variesByCopy looks for two requests for one address that a rule sends to two, by a field
// that it copies.
func (c *checker) variesByCopy(s *rulebook.Site, r *rulebook.Rule, fields []rulebook.Field) bool {
	typical := c.space(s).typicalRequest(r)
	for _, f := range fields {
		for _, texts := range [][2]string{{"one", "another"}, {"192.0.2.77", "198.51.100.77"}, {"2030-12-24T17:30:00Z", "2031-12-24T17:30:00Z"}} { // of any field, a client, a time
			var requests [2]*request.Request
			var stored [2]*engine.Response
			for i, text := range texts {
				req := *typical
				req.Headers = slices.Clone(typical.Headers)
				f.Row().Put(&req, f.Name, text, true)
				c.tried++
				requests[i], stored[i] = &req, c.Predict(&req)
			}
			if stored[0].By == r && stored[1].By == r && browser.Permanent(stored[0].Status) && stored[0].Location != stored[1].Location {
				c.add(variesFinding(r, requests[0], requests[1], stored[0], f))
				return true
			}
		}
	}
	return false
}

// ficklesOf gives the rules of a site that look at what can change while the address stays,
// and those that rewrite.
func (c *checker) ficklesOf(s *rulebook.Site) (fickles, rewrites []*rulebook.Rule) {
	known, ok := c.fickles[s]
	if !ok {
		for _, r := range s.Rules {
			if len(r.Tests) > 0 && len(fickle(r, true))+len(fickle(r, false)) > 0 {
				known[0] = append(known[0], r)
			}
			if r.Kind == rulebook.KindRewrite {
				known[1] = append(known[1], r)
			}
		}
		c.fickles[s] = known
	}
	return known[0], known[1]
}

// mayBegin reports whether what a target makes can begin as the paths of a rule do.
func mayBegin(to *rulebook.Template, r *rulebook.Rule) bool {
	text, _ := literalStart(to.Path)
	start, err := canonical.Text(text)
	start = canonical.Fold(strings.TrimRight(start, "/")) // slashes may be merged
	return err != nil || slices.ContainsFunc(beginsOf(r), func(p string) bool { return strings.HasPrefix(p, start) || strings.HasPrefix(start, p) })
}

// variesBy looks for two requests of which by, which is the rule or stands above it, takes
// one and not the other, by its fickle tests.
func (c *checker) variesBy(s *rulebook.Site, r, by *rulebook.Rule, tests []*rulebook.Test) bool {
	sp := c.space(s)
	req := sp.typicalRequest(r)
	if a, ok := r.Action.(*rulebook.Moves); ok {
		req = withRow(req, &a.Table.Rows[slices.IndexFunc(a.Table.Rows, permanentRow)])
	}
	stores := func(req *request.Request) bool {
		c.tried++
		stored := c.Predict(req)
		return stored.By == r && stored.Location != "" && browser.Permanent(stored.Status)
	}
	only := ruleOf(tests...) // what else it looks at stays as it is
	q := question{out: []*rulebook.Rule{only}}
	if by != r {
		still := &rulebook.Rule{Name: by.Name, Number: -1 - by.Number}
		for _, t := range by.Tests {
			if !slices.Contains(tests, t) {
				still.Tests = append(still.Tests, t)
			}
		}
		found, err := sp.find(question{in: []*rulebook.Rule{r, still}, out: []*rulebook.Rule{by}, path: sp.of(by).over, fix: stores})
		if err != nil {
			return false
		}
		req, q = found, question{in: []*rulebook.Rule{only}}
	}
	if !stores(req) {
		return false
	}
	stored := c.Predict(req)
	var changed *rulebook.Test
	q.path = pattern.Words([]string{canonical.Marked(req.Address.Path)})
	q.template = &request.Request{Method: req.Method, Address: req.Address}
	q.fix = func(other *request.Request) bool {
		if other.Address != req.Address || other.Verb() != req.Verb() {
			return false
		}
		c.tried++
		resp := c.Predict(other)
		i := slices.IndexFunc(tests, func(t *rulebook.Test) bool { return c.Holds(t, other) != c.Holds(t, req) })
		if i < 0 || resp.Status == stored.Status && resp.Location == stored.Location || endAtOne(browser.OpenFrom(c, other, stored), browser.OpenFrom(c, other, resp)) {
			return false
		}
		changed = tests[i]
		return true
	}
	other, err := sp.find(q)
	if err != nil {
		return false
	}
	f := variesFinding(r, req, other, stored, changed.Field)
	if by != r {
		f.Rules = append(f.Rules, by)
		f.Message += fmt.Sprintf(" So %s (%s), above it, is never asked again.", by.Name, by.Place)
	}
	c.add(f)
	return true
}

// ruleOf gives a rule that takes what tests hold for, and looks at nothing else.
func ruleOf(tests ...*rulebook.Test) *rulebook.Rule {
	return &rulebook.Rule{Kind: rulebook.KindRedirect, Tests: tests}
}

// variesFinding tells of a redirect that is stored though a field may change.
func variesFinding(r *rulebook.Rule, req, other *request.Request, stored *engine.Response, changed rulebook.Field) Finding {
	place, width := clause(r, "as", "table")
	return Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: req, Other: other,
		Message: fmt.Sprintf("Browsers store this redirect: whoever has been sent from %s to %s once goes there without asking again, %s.", req.Address, stored.Location, changed.Row().Changed(changed.Name)),
		Advice:  "write   as temporary   (or   as 307   where forms are sent)",
		Fixes:   []Fix{setClause(r, "as", "temporary"), setClause(r, "as", "307")}}
}

// endAtOne reports whether two visits come to the same end.
func endAtOne(one, other *browser.Visit) bool {
	a, b := one.Hops[len(one.Hops)-1], other.Hops[len(other.Hops)-1]
	return one.Ending == other.Ending && a.Response.Status == b.Response.Status && one.Left == other.Left &&
		(a.Request.Address == b.Request.Address || a.Response.File != nil && a.Response.File == b.Response.File)
}
