package proof

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"kibitz/core/canonical"
	"kibitz/core/pattern"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

func init() {
	register(9, Kind{
		Name: "conflict", Severity: Warning,
		Summary: "two entries cross: each takes addresses that the other does not, and where both do, only their order decides",
		Before:  "redirect papers on /docs/:name  to /downloads/{name}  as permanent\nredirect maps   on /:where/map  to /maps/{where}      as permanent      # and /docs/map?",
		After:   "redirect both   on /docs/map    to /maps/docs         as permanent\nredirect papers on /docs/:name  to /downloads/{name}  as permanent\nredirect maps   on /:where/map  to /maps/{where}      as permanent\n    accept conflict \"the entry above says what /docs/map is\"",
		Proves:  true,
		find:    func(c *checker) { findCrossings(c, true) },
	})
}

// The most that is looked at for one entry.
const (
	maxMeets    = 400 // pairs of automata
	maxOverlaps = 6   // crossings that are shown to be some
	maxPlain    = 400 // pairs of values
)

// findCrossings looks for pairs of entries which cross. Only those can meet of
// which one's literal beginning begins the other's.
func findCrossings(c *checker, same bool) {
	for _, s := range c.Book.Sites {
		sp := c.space(s)
		byPrefix := map[string][]int{}
		var prefixes []string
		for pos, b := range s.Rules {
			if !crosses(b) {
				continue
			}
			var above []int
			for _, p := range prefixesOf(b) {
				for n := 0; n < len(p); n++ {
					above = append(above, byPrefix[p[:n]]...)
				}
				at, _ := slices.BinarySearch(prefixes, p)
				for ; at < len(prefixes) && strings.HasPrefix(prefixes[at], p); at++ {
					above = append(above, byPrefix[prefixes[at]]...)
				}
			}
			slices.Sort(above)
			c.crossings(sp, b, slices.Compact(above), same)
			for _, p := range prefixesOf(b) {
				if byPrefix[p] == nil {
					at, _ := slices.BinarySearch(prefixes, p)
					prefixes = slices.Insert(prefixes, at, p)
				}
				byPrefix[p] = append(byPrefix[p], pos)
			}
		}
	}
	c.conclusions("automata of every two that begin alike were compared")
}

// crosses reports whether a rule is one that can cross others: it has a path,
// and answers or rewrites.
func crosses(r *rulebook.Rule) bool {
	return inReading(r) && r.Kind != rulebook.KindMoves && (len(r.On) > 0 || len(r.In) > 0)
}

// crossings compares an entry with those above it that it could meet.
func (c *checker) crossings(sp *space, b *rulebook.Rule, above []int, same bool) {
	var first *Finding
	count, meets := 0, 0
	state, why := Proved, ""
	for _, pos := range above {
		a := sp.site.Rules[pos]
		if sp.sameConditions(a, b) != same || apart(a, b) || !differ(a, b) {
			continue
		}
		if !endAlike(a, b) {
			continue
		}
		if meets++; meets > maxMeets*c.effort || count == maxOverlaps {
			state, why = Tried, fmt.Sprintf("it begins like %d others", len(above))
			break
		}
		x, y := sp.lang(a), sp.lang(b)
		hint := ""
		if x != nil && y != nil {
			word, meet := pattern.Meet(x, y)
			if !meet {
				continue
			}
			hint = canonical.Unmarked(word)
		}
		if first != nil { // the one that is shown stands for them
			count++
			continue
		}
		both, err := sp.find(question{in: []*rulebook.Rule{a, b}, hint: hint})
		if err == nil {
			_, err = sp.find(question{in: []*rulebook.Rule{a}, out: []*rulebook.Rule{b}})
		}
		var onlyB *request.Request
		if err == nil {
			onlyB, err = sp.find(question{in: []*rulebook.Rule{b}, out: []*rulebook.Rule{a}})
		}
		if errors.Is(err, errNone) {
			continue
		}
		if err != nil {
			state, why = Open, err.Error()
			continue
		}
		onlyA, _ := sp.find(question{in: []*rulebook.Rule{a}, out: []*rulebook.Rule{b}})
		count++
		f := crossingFinding(a, b, both, onlyA, onlyB)
		first = &f
	}
	if first == nil {
		c.note(state, b, why)
		return
	}
	c.note(Found, b, "")
	if count > 1 {
		first.Message += fmt.Sprintf(" It meets %s above it.", plus(count-1, maxOverlaps-1))
	}
	first.Count = count
	c.add(*first)
}

// endAlike reports whether some path can have the literal ends of both rules.
func endAlike(a, b *rulebook.Rule) bool {
	for _, p := range a.On {
		for _, q := range b.On {
			if strings.HasSuffix(p.Suffix(), q.Suffix()) || strings.HasSuffix(q.Suffix(), p.Suffix()) {
				return true
			}
		}
	}
	return len(a.On) == 0 || len(b.On) == 0
}

// plus counts what was counted up to a bound.
func plus(n, bound int) string {
	switch {
	case n == 1:
		return "one more entry"
	case n < bound:
		return fmt.Sprintf("%d more entries", n)
	}
	return fmt.Sprintf("%d or more other entries", n)
}

// lang gives the automaton of a rule's paths; nil where there is none.
func (sp *space) lang(r *rulebook.Rule) *pattern.Lang {
	if l, ok := sp.langs[r]; ok {
		return l
	}
	var out *pattern.Lang
	if over := sp.of(r).over; over != nil {
		if l, ok := over.(*pattern.Lang); ok {
			out = l
		} else if l, err := pattern.Solid(over, pattern.PathBytes, maxSolid); err == nil {
			out = l
		}
	}
	sp.langs[r] = out
	return out
}

// sameConditions reports whether two rules test the same beside the path.
func (sp *space) sameConditions(a, b *rulebook.Rule) bool {
	return sp.conditions(a) == sp.conditions(b)
}

// conditions writes what a rule tests beside its path.
func (sp *space) conditions(r *rulebook.Rule) string {
	if len(r.Tests) == 0 {
		return ""
	}
	known, ok := sp.tested[r]
	if !ok {
		var out []string
		for _, t := range r.Tests {
			out = append(out, fmt.Sprint(t.Unless, t))
		}
		slices.Sort(out)
		known = strings.Join(out, "\n")
		sp.tested[r] = known
	}
	return known
}

// apart reports whether two rules plainly want different values of one field, so that
// no request can be for both.
func apart(a, b *rulebook.Rule) bool {
	for _, t := range a.Tests {
		for _, u := range b.Tests {
			if t.Field == u.Field && !t.Unless && !u.Unless && t.Plain && u.Plain && len(t.Values)*len(u.Values) <= maxPlain && !slices.ContainsFunc(t.Values, func(v rulebook.Value) bool {
				return slices.ContainsFunc(u.Values, func(w rulebook.Value) bool { return v.Text == w.Text })
			}) {
				return true
			}
		}
	}
	return false
}

// differ reports whether it matters which of two rules is read first. Two that
// keep visitors out do so in any order.
func differ(a, b *rulebook.Rule) bool {
	x, first := a.Action.(*rulebook.Access)
	y, second := b.Action.(*rulebook.Access)
	if first || second {
		return first && second && (x.Do == rulebook.Admit) != (y.Do == rulebook.Admit)
	}
	return a.Action.(rulebook.Reading).Does() != b.Action.(rulebook.Reading).Does()
}

// askedFor writes what a request asks for, and under which conditions that are not
// plain.
func askedFor(req *request.Request) string {
	out := req.Address.Target()
	if v := req.Verb(); v != "GET" {
		out = v + " " + out
	}
	for _, h := range req.Headers {
		out += fmt.Sprintf(" with %s: %s", h.Name, h.Value)
	}
	if req.Client.IsValid() {
		out += " from " + req.Client.String()
	}
	if !req.Time.IsZero() {
		out += " at " + req.Time.UTC().Format(time.RFC3339)
	}
	return out
}

func crossingFinding(a, b *rulebook.Rule, both, onlyA, onlyB *request.Request) Finding {
	f := Finding{Rules: []*rulebook.Rule{b, a}, Request: both}
	f.Place, f.Width = clause(b, "on", "in")
	f.Message = fmt.Sprintf("This entry and %s (%s) cross. Both take %s, where %s wins because it stands above; only %s takes %s, and only %s takes %s.",
		a.Name, a.Place, askedFor(both), a.Name, a.Name, askedFor(onlyA), b.Name, askedFor(onlyB))
	f.Advice = "write an entry for what both take above the two, or make one of them narrower"
	if cmp.Compare(len(a.Tests), len(b.Tests)) != 0 {
		f.Advice = "put the one above that is to win; if it stands as it should, nothing is to be done"
	}
	return f
}
