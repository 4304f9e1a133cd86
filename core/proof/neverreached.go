package proof

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"kibitz/core/pattern"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

func init() {
	register(4, Kind{
		Name: "never-reached", Severity: Error,
		Summary: "the entries above take every request that this one could have",
		Before:  "redirect boats  in /boats/       to /fleet/              as permanent\nredirect avocet on /boats/avocet to /fleet/avocet.html   as permanent",
		After:   "redirect avocet on /boats/avocet to /fleet/avocet.html   as permanent\nredirect boats  in /boats/       to /fleet/              as permanent",
		Proves:  true,
		find:    findNeverReached,
	})
}

// findNeverReached asks of each entry for a request that comes to it. It guesses
// one, asks the engine who takes it, and next time guesses one that those do not
// take: so few entries are ever compared.
func findNeverReached(c *checker) {
	for _, r := range c.Book.Rules {
		var req *request.Request
		var takers []*rulebook.Rule
		err := errNone
		for _, s := range c.sitesOf(r) { // one site in which it is reached is enough
			sp := c.space(s)
			if inReading(r) {
				req, takers, err = sp.comesTo(c, r)
			} else {
				req, takers, err = sp.decides(r)
			}
			if !errors.Is(err, errNone) {
				break
			}
			takers = sp.needed(r, takers)
		}
		switch {
		case err == nil && c.hiddenRows(r):
			c.note(Found, r, "")
		case err == nil:
			c.note(Proved, r, "")
		case !errors.Is(err, errNone):
			c.note(Open, r, err.Error())
		default:
			if req == nil { // nothing meets all its conditions: this meets most
				if probes := c.probes(c.sitesOf(r)[0], r); len(probes) > 0 {
					req = probes[0]
				}
			}
			c.note(Found, r, "")
			c.add(neverFinding(r, req, takers))
		}
	}
	c.conclusions("a request was found that reaches each of them")
}

// hiddenRows tells once of the rows of a table that entries above take under all
// conditions.
func (c *checker) hiddenRows(r *rulebook.Rule) bool {
	a, ok := r.Action.(*rulebook.Moves)
	if !ok {
		return false
	}
	s := c.sitesOf(r)[0]
	sp := c.space(s)
	like := sp.typicalRequest(r)
	count := 0
	var first Finding
	for i := range a.Table.Rows {
		row := &a.Table.Rows[i]
		req := withRow(like, row)
		c.tried++
		met := sp.MetInside(req)
		taker := takerOf(met)
		if slices.Contains(met, r) || taker == nil || taker.Number > r.Number || row.Origin != "" {
			continue
		}
		if len(taker.Tests) > 0 || r.Fold {
			if count == maxOverlaps {
				continue
			}
			path := pathsOf(r, []*rulebook.Row{row})
			if _, err := sp.find(question{in: []*rulebook.Rule{r}, out: []*rulebook.Rule{taker}, path: path}); !errors.Is(err, errNone) {
				continue
			}
		}
		if count++; count == 1 {
			first = Finding{Rules: []*rulebook.Rule{r, taker}, Request: req,
				Message: fmt.Sprintf("%s:%d: no request reaches this row: %s is taken above it, by %s (%s).", a.Table.Name, row.Line, row.Path, taker.Name, taker.Place),
				Advice:  "put the table above " + taker.Name + ", or take the row out"}
			first.Place, first.Width = clause(r, "table")
		}
	}
	if count == 0 {
		return false
	}
	first.Count = count
	first.Message += further(count-1, "So it is with one more row.", "So it is with %d more rows.")
	c.add(first)
	return true
}

// sitesOf are the sites that a rule belongs to.
func (c *shared) sitesOf(r *rulebook.Rule) []*rulebook.Site {
	if r.Site != nil {
		return []*rulebook.Site{r.Site}
	}
	return c.Book.Sites
}

// inReading reports whether a rule is read from top to bottom until one answers.
func inReading(r *rulebook.Rule) bool {
	_, ok := r.Action.(rulebook.Reading)
	return ok
}

const maxGuesses = 200

// comesTo looks for a request with which the reading comes to a rule. Without
// one it gives the rules that take them all, and a request that shows it; the
// error is then errNone, or says what keeps it from being proved.
func (sp *space) comesTo(c *checker, r *rulebook.Rule) (*request.Request, []*rulebook.Rule, error) {
	var takers []*rulebook.Rule
	var shown *request.Request
	if m, ok := r.Action.(*rulebook.Moves); ok { // what its rows take is at hand
		for i := range m.Table.Rows[:min(len(m.Table.Rows), maxGuesses)] {
			c.tried++
			if req := withRow(sp.typicalRequest(r), &m.Table.Rows[i]); slices.Contains(sp.MetInside(req), r) {
				return req, nil, nil
			}
		}
	}
	for range maxGuesses {
		req, err := sp.find(question{in: []*rulebook.Rule{r}, out: takers})
		if errors.Is(err, errNone) {
			found, err := sp.throughRewrites(r)
			if err == nil {
				return found, nil, nil
			}
			return shown, takers, err
		}
		if err != nil {
			return nil, nil, err
		}
		c.tried++
		met := sp.MetInside(req)
		if slices.Contains(met, r) {
			return req, nil, nil
		}
		if shown == nil {
			shown = req
		}
		taker := takerOf(met)
		if taker == nil || slices.Contains(takers, taker) {
			return nil, nil, fmt.Errorf("%s is answered before the rulebook is read", req.Address)
		}
		takers = append(takers, taker)
	}
	return nil, nil, fmt.Errorf("more than %d entries take requests from it", maxGuesses)
}

// takerOf is the first of the met rules that keeps a request from those below:
// one that answers it, or gives it another path. Who is asked for a name may be
// let in.
func takerOf(met []*rulebook.Rule) *rulebook.Rule {
	for i, r := range met {
		if a, ok := r.Action.(*rulebook.Access); ok && (a.Do != rulebook.Refuse || i < len(met)-1) {
			continue
		}
		return r
	}
	return nil
}

// throughRewrites looks for a request that a rewrite brings to a rule.
func (sp *space) throughRewrites(r *rulebook.Rule) (*request.Request, error) {
	into := sp.of(r).over
	if into == nil {
		into = pattern.Paths(sp.site.KeepSlashes)
	}
	why := error(nil)
	for _, w := range sp.site.Rules {
		a, ok := w.Action.(*rulebook.Rewrite)
		if !ok || a.Then == rulebook.Finish || w == r || a.Then == rulebook.Next && w.Number > r.Number {
			continue
		}
		from, err := sp.sentInto(w, a.To.Path, into)
		if err != nil {
			why = fmt.Errorf("what %s sends it is not known: %w", w.Name, err)
			continue
		}
		if from == nil {
			continue
		}
		comes := func(req *request.Request) bool { return slices.Contains(sp.MetInside(req), r) }
		req, err := sp.find(question{in: []*rulebook.Rule{w}, path: from, fix: comes})
		if err == nil {
			return req, nil
		}
		if !errors.Is(err, errNone) {
			why = fmt.Errorf("whether %s sends it requests is not known", w.Name)
		}
	}
	if why == nil {
		why = errNone
	}
	return nil, why
}

// needed leaves out the rules without which the others take everything, too.
func (sp *space) needed(r *rulebook.Rule, takers []*rulebook.Rule) []*rulebook.Rule {
	for i := 0; i < len(takers); {
		others := slices.Delete(slices.Clone(takers), i, i+1)
		if _, err := sp.find(question{in: []*rulebook.Rule{r}, out: others}); errors.Is(err, errNone) {
			takers = others
		} else {
			i++
		}
	}
	return takers
}

// decides looks for a request for which a rule outside the reading is the first
// of its kind that says something about one of the points that it speaks of.
func (sp *space) decides(r *rulebook.Rule) (*request.Request, []*rulebook.Rule, error) {
	var all []*rulebook.Rule
	points := sp.pointsOf(r)
	if len(points) == 0 { // every such entry counts
		req, err := sp.find(question{in: []*rulebook.Rule{r}})
		return req, nil, err
	}
	var above []*rulebook.Rule
	for _, o := range sp.site.Rules {
		if o == r {
			break
		}
		if o.Kind == r.Kind && beginAlike(o, r) {
			above = append(above, o)
		}
	}
	for _, point := range points {
		var out []*rulebook.Rule
		for _, o := range above {
			if slices.Contains(sp.pointsOf(o), point) {
				out = append(out, o)
			}
		}
		req, err := sp.find(question{in: []*rulebook.Rule{r}, out: out})
		if err == nil || !errors.Is(err, errNone) {
			return req, nil, err
		}
		for _, o := range out {
			if !slices.Contains(all, o) {
				all = append(all, o)
			}
		}
	}
	req, _ := sp.find(question{in: []*rulebook.Rule{r}})
	return req, all, errNone
}

// beginAlike reports whether some path can have the beginnings of both rules.
func beginAlike(a, b *rulebook.Rule) bool {
	for _, p := range beginsOf(a) {
		for _, q := range beginsOf(b) {
			if strings.HasPrefix(p, q) || strings.HasPrefix(q, p) {
				return true
			}
		}
	}
	return false
}

// pointsOf gives the points of a rule, which are remembered.
func (sp *space) pointsOf(r *rulebook.Rule) []string {
	known, ok := sp.points[r]
	if !ok {
		known = r.Action.Points()
		sp.points[r] = known
	}
	return known
}

func neverFinding(r *rulebook.Rule, req *request.Request, takers []*rulebook.Rule) Finding {
	f := Finding{Rules: append([]*rulebook.Rule{r}, takers...), Request: req}
	f.Place, f.Width = clause(r, "on", "in", "when", "unless", "table", "for", "to")
	if len(takers) == 0 {
		f.Message = "No request meets all the conditions of this entry at once."
		f.Advice = "take out the condition that contradicts the others"
		return f
	}
	var names []string
	for _, t := range takers {
		names = append(names, fmt.Sprintf("%s (%s)", t.Name, t.Place))
	}
	f.Message = fmt.Sprintf("No request reaches this entry: all that it could take are taken above it, by %s.", strings.Join(names, " and "))
	f.Advice = "put it above " + takers[0].Name + ", or take it out"
	f.Fixes = putAbove(r, takers[0]) // to take it out is for who wrote it
	return f
}
