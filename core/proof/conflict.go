package proof

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"kibitz/core/browser"
	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/pattern"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

func init() {
	register(9, Kind{
		Name: "conflict", Severity: Warning,
		Summary: "two entries overlap, and the more general one is above: where both take an address, it wins",
		Before:  "redirect maps   on /:where/map  to /maps/{where}      as permanent      # and /docs/map?\nredirect papers on /docs/:name  to /fares/?paper={name}  as permanent",
		After:   "redirect papers on /docs/:name  to /fares/?paper={name}  as permanent\nredirect maps   on /:where/map  to /maps/{where}      as permanent",
		find:    func(c *checker) { findCrossings(c, true) },
	})
}

// The most that is looked at for one entry.
const (
	maxMeets      = 400 // pairs of automata
	maxOverlaps   = 6   // crossings that are shown
	maxCloseLooks = 12  // at entries below one
	maxPlain      = 400 // pairs of values
)

// findCrossings looks for pairs of entries which cross. Only those can meet of
// which one's literal beginning begins the other's.
func findCrossings(c *checker, same bool) {
	for _, s := range c.Book.Sites {
		sp := c.space(s)
		var crossed []crossing
		byPrefix := map[string][]int{}
		var prefixes []string
		for pos, b := range s.Rules {
			if !crosses(b) {
				continue
			}
			var above []int
			for _, p := range beginsOf(b) {
				for n := 0; n < len(p); n++ {
					above = append(above, byPrefix[p[:n]]...)
				}
				at, _ := slices.BinarySearch(prefixes, p)
				for ; at < len(prefixes) && strings.HasPrefix(prefixes[at], p); at++ {
					above = append(above, byPrefix[prefixes[at]]...)
				}
			}
			slices.Sort(above)
			crossed = append(crossed, c.crossings(sp, b, slices.Compact(above), same)...)
			for _, p := range beginsOf(b) {
				if byPrefix[p] == nil {
					at, _ := slices.BinarySearch(prefixes, p)
					prefixes = slices.Insert(prefixes, at, p)
				}
				byPrefix[p] = append(byPrefix[p], pos)
			}
		}
		c.tellCrossings(crossed)
	}
	c.conclusions("every two that could overlap were compared, as sets of paths")
}

// crosses reports whether a rule is one that can cross others: it has a path,
// and answers or rewrites.
func crosses(r *rulebook.Rule) bool {
	return inReading(r) && r.Kind != rulebook.KindMoves && (len(r.On) > 0 || len(r.In) > 0)
}

// A crossing is two entries, of which each takes what the other does not.
type crossing struct {
	above, below       *rulebook.Rule
	both, onlyA, onlyB *request.Request
}

// crossings compares an entry with those above it that it could meet, and gives those by
// which somebody is surprised: the upper one is the more general, and the visit would end
// elsewhere without it.
func (c *checker) crossings(sp *space, b *rulebook.Rule, above []int, same bool) (out []crossing) {
	meets := 0
	why := ""
	for _, pos := range above {
		a := sp.site.Rules[pos]
		if sp.sameConditions(a, b) != same || apart(a, b) || !sp.differ(a, b) || !endAlike(a, b) {
			continue
		}
		if same && (special(a, b) || a.Kind == rulebook.KindRedirect && b.Kind == rulebook.KindRewrite) {
			continue
		}
		if meets++; meets > maxMeets*c.effort || len(out) == maxOverlaps*c.effort {
			why = fmt.Sprintf("it begins like %d others", len(above))
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
		found := crossing{above: a, below: b}
		if c.crossed[a]++; c.crossed[a] > maxCloseLooks*c.effort && hint != "" { // of one that meets many, a glance is enough
			req := sp.base
			req.Address.Path = hint
			if c.Takes(a, &req) && c.Takes(b, &req) && c.matters(a, &req) {
				found.both = &req
				out = append(out, found)
			}
			continue
		}
		var err error
		if found.onlyA, err = sp.find(question{in: []*rulebook.Rule{a}, out: []*rulebook.Rule{b}}); err == nil {
			found.onlyB, err = sp.find(question{in: []*rulebook.Rule{b}, out: []*rulebook.Rule{a}})
		}
		if err == nil {
			found.both, err = sp.find(question{in: []*rulebook.Rule{a, b}, hint: hint, fix: func(req *request.Request) bool { return c.matters(a, req) }})
		}
		switch {
		case err == nil:
			out = append(out, found)
		case !errors.Is(err, errNone) && why == "":
			why = "requests that both take, it and " + a.Name + ", come to the same end"
		}
	}
	c.note(Tried, b, why)
	return out
}

// special reports whether the upper of two entries is plainly the more special one: it
// begins with more text, or says more of it.
func special(above, below *rulebook.Rule) bool {
	begin, say := literals(above)
	begin2, say2 := literals(below)
	return begin > begin2 || say > say2
}

// literals are how much literal text the paths of a rule begin with, and have at both ends
// together, at least.
func literals(r *rulebook.Rule) (begin, all int) {
	for i, p := range r.On {
		n := len(p.Prefix())
		m := n + len(p.Suffix())
		if text, whole := p.Literal(); whole {
			n, m = len(text), len(text)
		}
		if i == 0 || n < begin {
			begin = n
		}
		if i == 0 || m < all {
			all = m
		}
	}
	for _, f := range r.In {
		begin, all = max(begin, len(f)+1), max(all, len(f)+1)
	}
	return begin, all
}

// matters reports whether an entry decides a request, and whether the visit would end
// elsewhere without it.
func (c *checker) matters(r *rulebook.Rule, req *request.Request) bool {
	c.tried++
	kept := c.lightVisit(req)
	if kept.Hops[0].Response.By != r && !slices.Contains(c.Met(req), r) {
		return false
	}
	other := browser.OpenOutcome(c, req, c.PredictWithout(req, r))
	if endAtOne(kept, other) {
		return false
	}
	a, b := kept.Last(), other.Last()
	refused := b.Status >= 400 && b.By != nil && a.By == b.By && a.Status == b.Status
	return !refused && (b.Cause != engine.CauseMissing || a.Cause == engine.CauseMissing) // and what it hides is something
}

// tellCrossings tells once of each entry that crosses several others, beginning with that
// which crosses most.
func (c *checker) tellCrossings(crossed []crossing) {
	crossed = slices.DeleteFunc(crossed, func(x crossing) bool { // an entry accepts its own, and not those of others
		above, below := c.accepts(subject{rule: x.above}), c.accepts(subject{rule: x.below})
		if above || below {
			c.note(Found, x.below, "")
		}
		return above || below
	})
	for len(crossed) > 0 {
		count := map[*rulebook.Rule]int{}
		var culprit *rulebook.Rule
		for _, x := range crossed {
			for _, r := range []*rulebook.Rule{x.below, x.above} {
				if count[r]++; culprit == nil || count[r] > count[culprit] {
					culprit = r
				}
			}
		}
		var ofCulprit, others []crossing
		for _, x := range crossed {
			if x.above == culprit || x.below == culprit {
				ofCulprit = append(ofCulprit, x)
			} else {
				others = append(others, x)
			}
		}
		c.add(crossingFinding(culprit, ofCulprit))
		crossed = others
	}
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
func (sp *space) differ(a, b *rulebook.Rule) bool {
	x, first := a.Action.(*rulebook.Access)
	y, second := b.Action.(*rulebook.Access)
	if first || second {
		return first && second && (x.Do == rulebook.Admit) != (y.Do == rulebook.Admit)
	}
	return sp.whatItDoes(a) != sp.whatItDoes(b)
}

// askedFor writes what a request asks for, and under which conditions that are not
// plain.
func askedFor(req *request.Request) string {
	out := req.Address.Target()
	if v := req.Verb(); v != "GET" {
		out = v + " " + out
	}
	return out + sentAlong(req)
}

// whoAsks begins a sentence about whoever makes a request.
func whoAsks(req *request.Request) string {
	who := "Whoever asks for "
	if v := req.Verb(); v != "GET" {
		who = "Whoever sends " + v + " to "
	}
	return who + req.Address.String() + sentAlong(req)
}

// sentAlong writes what comes with a request beside its method and its address.
func sentAlong(req *request.Request) string {
	out := ""
	for _, h := range req.Headers {
		out += fmt.Sprintf(" with %s: %s", h.Name, h.Value)
	}
	if req.Client.IsValid() {
		out += " from " + req.Client.String()
	}
	if !req.Time.IsZero() {
		out += " at " + req.Time.UTC().Format(time.RFC3339)
	}
	if req.Body > 0 {
		out += fmt.Sprintf(" with a body of %d bytes", req.Body)
	}
	return out
}

func crossingFinding(culprit *rulebook.Rule, own []crossing) Finding {
	first := own[max(0, slices.IndexFunc(own, func(x crossing) bool { return x.onlyA != nil }))]
	f := Finding{Rules: []*rulebook.Rule{culprit}, Request: first.both, Count: len(own)}
	var names []string
	for _, x := range own {
		other := x.above
		if other == culprit {
			other = x.below
		}
		f.Rules = append(f.Rules, other)
		names = append(names, other.Name)
	}
	f.Place, f.Width = clause(culprit, "on", "in")
	if len(own) == 1 {
		f.Message = fmt.Sprintf("This entry and %s (%s) overlap.", names[0], f.Rules[1].Place)
	} else {
		f.Message = fmt.Sprintf("This entry overlaps %d others: %s.", len(own), listed(names))
	}
	who := "Both"
	if len(own) > 1 {
		who = first.above.Name + " and " + first.below.Name + " both"
	}
	f.Message += fmt.Sprintf(" %s take %s, where %s wins because it is above", who, askedFor(first.both), first.above.Name)
	if first.onlyA != nil {
		f.Message += fmt.Sprintf("; only %s takes %s, and only %s takes %s", first.above.Name, askedFor(first.onlyA), first.below.Name, askedFor(first.onlyB))
	}
	f.Message += "."
	f.Advice = "put the more special one above, or write an entry for what both take above the two"
	if len(own) > 1 {
		f.Advice = "put this entry below those, or make it narrower"
		if first.below == culprit {
			f.Advice = "put this entry above those, or make it narrower"
		}
	}
	if cmp.Compare(len(first.above.Tests), len(first.below.Tests)) != 0 {
		f.Advice = "put the one that should win above the other; if it is there already, nothing needs doing"
	}
	return f
}

// listed gives the first few of many names.
func listed(names []string) string {
	if len(names) <= maxListed {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:maxListed], ", "), len(names)-maxListed)
}

// maxListed is how many names a message has; the finding has them all.
const maxListed = 8
