package proof

// Two rulebooks, held against each other for every request that there can be.
//
// Paths fall into classes, by which patterns, folders and files of either rulebook take
// them; within a class, and for each combination of the values that tests tell apart, it is
// the same entries that are met. One request stands for each. Where the two answer it
// alike, they answer all of its class alike if the entries that do so make the same of
// every path: their text is the same, or they copy nothing of what may differ. What stands
// written out, paths and rows of tables, is a class of its own each.

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/pattern"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// A Likeness is what is true of all requests for two rulebooks.
type Likeness struct {
	Differences []Difference // in the order in which they were found, the simplest first
	Open        []string     // what could not be decided
	Requests    int          // that were made
}

// Alike reports whether it is proved that every request gets the same answer.
func (l *Likeness) Alike() bool { return len(l.Differences)+len(l.Open) == 0 }

// A Difference is a set of requests that are answered otherwise.
type Difference struct {
	Before, After *rulebook.Rule   // that decide them; nil for the tree
	Takes         string           // the selectors of the entry that decides them, as a rulebook writes them
	Request       *request.Request // one of them
	Was, Is       *engine.Response
	Classes       int // of requests
}

// Headers are the names of the header fields in which the answers differ; "body" for what
// is shown.
func (d *Difference) Headers() []string {
	was, is := map[string]string{}, map[string]string{}
	for _, side := range []struct {
		*engine.Response
		fields map[string]string
	}{{d.Was, was}, {d.Is, is}} {
		for _, h := range side.Response.Headers {
			side.fields[h.Name] += h.Value + "\n"
		}
		for _, h := range side.Hints {
			side.fields["103 Link"] += h + "\n"
		}
	}
	var out []string
	for _, name := range slices.Sorted(maps.Keys(mergedKeys(was, is))) {
		if was[name] != is[name] {
			out = append(out, name)
		}
	}
	if len(out) == 0 {
		out = append(out, "body")
	}
	return out
}

func mergedKeys(a, b map[string]string) map[string]string {
	out := maps.Clone(a)
	maps.Copy(out, b)
	return out
}

// The limits of a comparison, times the effort.
const (
	maxClassStates = 60_000  // of the search for classes of paths
	maxRequests    = 400_000 // requests
	maxOpen        = 8       // reasons that are told
)

// Compare holds two rulebooks against each other.
func Compare(before, after *engine.Engine, effort int) *Likeness {
	l := &likeness{Likeness: &Likeness{}, before: before, after: after, effort: max(effort, 1), told: map[string]int{}}
	for _, s := range before.Book.Sites {
		other := after.SiteFor(s.Address.Host)
		if other == nil || hostsOf(s) != hostsOf(other) || s.KeepSlashes != other.KeepSlashes || s.UnknownHosts != other.UnknownHosts {
			l.open("the sites differ: %s has not the same hosts and settings in both", s.Name)
			continue
		}
		l.site(s, other)
	}
	if len(before.Book.Sites) != len(after.Book.Sites) {
		l.open("one rulebook has more sites than the other")
	}
	return l.Likeness
}

// mostWitnessed bounds the search for a witness, in states and in requests.
const mostWitnessed = 500

// Witness gives a request that two rulebooks answer otherwise: one is looked for among
// those that the entries can take in which they differ. nil proves nothing.
func Witness(before, after *engine.Engine) *Difference {
	l := &likeness{Likeness: &Likeness{}, before: before, after: after, effort: 1, told: map[string]int{}, first: true}
	for _, s := range before.Book.Sites {
		if other := after.SiteFor(s.Address.Host); other != nil && len(l.Differences) == 0 {
			l.site(s, other)
		}
	}
	if len(l.Differences) == 0 {
		return nil
	}
	return &l.Differences[0]
}

func hostsOf(s *rulebook.Site) string {
	var names []string
	for _, p := range s.Hosts {
		names = append(names, p.String())
	}
	slices.Sort(names)
	return strings.Join(names, " ")
}

// likeness is a comparison on its way.
type likeness struct {
	*Likeness
	before, after *engine.Engine
	effort        int
	told          map[string]int // differences, by the entries that decide
	first         bool           // one difference will do, at the entries that differ
}

func (l *likeness) open(format string, args ...any) {
	why := fmt.Sprintf(format, args...)
	if !slices.Contains(l.Open, why) && len(l.Open) < maxOpen {
		l.Open = append(l.Open, why)
	}
}

// A pair is one site in both rulebooks.
type pair struct {
	*likeness
	old, new         *rulebook.Site
	space, newSpace  *space
	sameTree         bool
	textOf           map[*rulebook.Rule]string
	oldText, newText []string          // of all rules
	changed          []pattern.Machine // the paths of those that differ
	leads            bool              // of which some lead elsewhere: what only says something of an answer shows at the paths that stand written out
}

func (l *likeness) site(old, new *rulebook.Site) {
	p := &pair{likeness: l, old: old, new: new, space: newSpace(l.before, old, l.effort), newSpace: newSpace(l.after, new, l.effort), textOf: map[*rulebook.Rule]string{}}
	p.sameTree = l.before.KnowsTree(old) == l.after.KnowsTree(new) && sameTrees(l.before.Tree(old), l.after.Tree(new))
	for _, r := range old.Rules {
		p.oldText = append(p.oldText, p.text(r))
	}
	for _, r := range new.Rules {
		p.newText = append(p.newText, p.text(r))
	}
	if p.sameTree && slices.Equal(p.oldText, p.newText) {
		return
	}
	if !p.sameTree && !(l.before.KnowsTree(old) && l.after.KnowsTree(new)) {
		l.open("which files the site %s has is not known in one of them", old.Name)
	}
	if l.first {
		p.changed = p.changedOvers()
	}
	points, reps := p.classes()
	for _, path := range points {
		p.at(path, true)
	}
	if l.first && (len(l.Differences) > 0 || !p.leads) {
		return
	}
	for _, path := range reps() {
		p.at(path, false)
	}
}

// changedOvers are the paths of the rules that are not the same in both, or stand elsewhere.
func (p *pair) changedOvers() (overs []pattern.Machine) {
	add := func(sp *space, r *rulebook.Rule) {
		over := sp.of(r).over
		if over == nil {
			over = pattern.Paths(p.old.KeepSlashes)
		}
		overs = append(overs, over)
	}
	for _, side := range []struct {
		*space
		rules     []*rulebook.Rule
		own, them []string
	}{{p.space, p.old.Rules, p.oldText, p.newText}, {p.newSpace, p.new.Rules, p.newText, p.oldText}} {
		for i, r := range side.rules {
			if !slices.Contains(side.them, side.own[i]) || len(side.own) == len(side.them) && side.own[i] != side.them[i] {
				add(side.space, r)
				_, reads := r.Action.(rulebook.Reading)
				p.leads = p.leads || reads || r.Kind.Leads()
			}
		}
	}
	return overs
}

// concerns reports whether a path is one that is to be looked at.
func (p *pair) concerns(path string) bool {
	if !p.first {
		return true
	}
	if p.Requests > mostWitnessed {
		return false
	}
	marked := canonical.Marked(path)
	return len(p.Differences) == 0 && slices.ContainsFunc(p.changed, func(over pattern.Machine) bool { return pattern.Matches(over, marked) })
}

// text writes what a rule does and for whom, without its name and its notes.
func (p *pair) text(r *rulebook.Rule) string {
	if known, ok := p.textOf[r]; ok {
		return known
	}
	out := []string{string(r.Kind)}
	for _, on := range r.On {
		out = append(out, "on "+on.String())
	}
	for _, f := range r.In {
		out = append(out, "in "+f)
	}
	var tests []string
	for _, t := range r.Tests {
		tests = append(tests, fmt.Sprint(t.Unless, t))
	}
	slices.Sort(tests)
	out = append(append(out, tests...), fmt.Sprint(r.Fold), p.does(r))
	p.textOf[r] = strings.Join(out, "\x00")
	return p.textOf[r]
}

// does writes what a rule does.
func (p *pair) does(r *rulebook.Rule) string {
	var out []string
	for _, cl := range r.Entry.Clauses {
		switch cl.Keyword.Text {
		case "on", "in", "when", "unless", "ignoring", "example", "accept", "table", "accounts":
			continue
		}
		for _, w := range append([]rulebook.Word{cl.Keyword}, cl.Values...) {
			out = append(out, w.Text)
		}
	}
	switch a := r.Action.(type) {
	case *rulebook.Moves:
		for _, row := range a.Table.Rows {
			out = append(out, rowText(&row))
		}
	case *rulebook.Access:
		for _, name := range slices.Sorted(maps.Keys(a.Accounts)) {
			out = append(out, name, a.Accounts[name])
		}
	}
	return strings.Join(out, " ")
}

func rowText(row *rulebook.Row) string {
	return fmt.Sprint(row.Origin, " ", row.Path, row.HasQuery, row.Query, " ", row.New, " ", row.Status)
}

// sameTrees reports whether two trees have the same files.
func sameTrees(a, b *site.Tree) bool {
	if a == b {
		return true
	}
	list := func(t *site.Tree) (out []string) {
		t.Each(func(n *site.Node) { out = append(out, fmt.Sprint(n.Path, n.Folder, n.Size, n.Modified.UnixNano())) })
		slices.Sort(out)
		return out
	}
	return slices.Equal(list(a), list(b))
}

// classes gives the paths that stand written out, and what finds one of each class of the
// others.
func (p *pair) classes() (points []string, reps func() []string) {
	written := map[string]bool{}
	add := func(path string) {
		if path != "" && p.concerns(path) && canonical.Is(path, p.old.KeepSlashes) {
			written[path] = true
		}
	}
	sets := map[string]pattern.Machine{}
	set := func(source string, make func() (pattern.Machine, error)) {
		if sets[source] != nil {
			return
		}
		m, err := make()
		if err != nil {
			p.open("%s: %v", source, err)
			return
		}
		sets[source] = m
	}
	for _, r := range slices.Concat(p.old.Rules, p.new.Rules) {
		patterns := slices.Clone(r.On)
		for _, t := range r.Tests {
			if onPath(t) {
				for _, v := range t.Values {
					if v.Pattern != nil {
						patterns = append(patterns, v.Pattern)
					} else if v.Kind == rulebook.ValueText {
						add(v.Text)
					}
				}
			}
		}
		for _, on := range patterns {
			if text, whole := on.Literal(); whole && !r.Fold {
				add(text)
				continue
			}
			set(fmt.Sprint(r.Fold, on), func() (pattern.Machine, error) { return on.Lang() })
		}
		for _, f := range r.In {
			if f != "" {
				set(fmt.Sprint(r.Fold, " in ", f), func() (pattern.Machine, error) { return pattern.Folder(f, r.Fold), nil })
			}
		}
		if m, ok := r.Action.(*rulebook.Moves); ok {
			if r.Fold {
				p.open("%s takes its rows in any letter case", r.Name)
			}
			for i := range m.Table.Rows {
				add(m.Table.Rows[i].Path)
			}
		}
	}
	trees := []*site.Tree{p.before.Tree(p.old), p.after.Tree(p.new)}
	for _, t := range slices.Compact(trees) {
		t.Each(func(n *site.Node) {
			if add(n.Path); n.Folder {
				add(n.Path + "/")
			}
		})
	}
	points = slices.SortedFunc(maps.Keys(written), shortFirst)
	return points, func() []string { return p.unwritten(points, sets) }
}

// unwritten finds a path of each class, of sets of paths, but for some points.
func (p *pair) unwritten(points []string, sets map[string]pattern.Machine) (reps []string) {
	var marked []string
	for _, path := range points {
		marked = append(marked, canonical.Marked(path))
	}
	var machines []pattern.Machine
	for _, source := range slices.Sorted(maps.Keys(sets)) {
		machines = append(machines, sets[source])
	}
	others := pattern.And(pattern.Paths(p.old.KeepSlashes), pattern.Not(pattern.Words(marked)))
	if p.first {
		others = pattern.And(others, pattern.Or(p.changed...))
	}
	length := 0
	for _, m := range marked {
		length += len(m)
	}
	limit := maxClassStates*p.effort + length
	if p.first {
		limit = mostWitnessed + length
	}
	found, complete := pattern.Signs(others, machines, pattern.PathBytes, limit)
	if !complete {
		p.open("the paths of site %s fall into too many classes", p.old.Name)
	}
	for _, text := range found {
		reps = append(reps, canonical.Unmarked(text))
	}
	slices.SortFunc(reps, shortFirst)
	return reps
}

func shortFirst(a, b string) int { return cmp.Or(cmp.Compare(len(a), len(b)), strings.Compare(a, b)) }

// at compares all requests for a path: of a point, or of one that stands for its class.
func (p *pair) at(path string, point bool) {
	if !p.concerns(path) {
		return
	}
	var rules []*rulebook.Rule
	for _, side := range []struct {
		*space
		rules []*rulebook.Rule
	}{{p.space, p.old.Rules}, {p.newSpace, p.new.Rules}} {
		for _, r := range side.rules {
			if over := side.of(r).over; over == nil || pattern.Matches(over, canonical.Marked(path)) {
				rules = append(rules, r)
			}
		}
	}
	s := p.space.ask(question{out: rules})
	base := p.space.base
	base.Address.Path = path
	requests := []request.Request{base}
	for _, f := range s.fields {
		var more []request.Request
		for _, req := range requests {
			seen := map[string]bool{}
			for _, choice := range s.choices(f, req) {
				holds := ""
				for _, t := range f.all {
					holds += fmt.Sprint(p.before.Holds(t, &choice))
				}
				if !seen[holds] {
					seen[holds] = true
					more = append(more, choice)
				}
			}
		}
		if requests = more; len(requests) > maxChoices*p.effort {
			p.open("the conditions at %s combine in more than %d ways", path, maxChoices*p.effort)
			return
		}
	}
	s.doubtShared()
	if s.why != "" {
		p.open("%s", s.why)
	}
	for _, req := range p.asked(path, requests) {
		if p.Requests++; p.Requests > maxRequests*p.effort {
			p.open("more than %d requests would have to be compared", maxRequests*p.effort)
			return
		}
		p.compare(&req, point)
	}
}

// asked gives requests without a query and with one, and those that rows of tables want.
func (p *pair) asked(path string, requests []request.Request) (out []request.Request) {
	var rows []*rulebook.Row
	for _, sp := range []*space{p.space, p.newSpace} {
		for _, at := range (&origin{space: sp}).rowsAt(canonical.Marked(path)) {
			rows = append(rows, at.row)
		}
	}
	for _, req := range requests {
		out = append(out, req)
		if req.Address.Query == "" {
			with := req
			with.Address.Query, with.Address.HasQuery = "from=kibitz", true
			out = append(out, with)
		}
		for _, row := range rows {
			if row.HasQuery || row.Origin != "" {
				out = append(out, *withRow(&req, row))
			}
		}
	}
	return out
}

// compare compares the answers to one request.
func (p *pair) compare(req *request.Request, point bool) {
	was, is := p.before.Predict(req), p.after.Predict(req)
	if told(was) != told(is) {
		key := fmt.Sprint(deciderText(was), "\x00", deciderText(is))
		if at, known := p.told[key]; known {
			p.Differences[at].Classes++
			return
		}
		p.told[key] = len(p.Differences)
		p.Differences = append(p.Differences, Difference{Before: was.By, After: is.By, Takes: p.takes(was, is), Request: req, Was: was, Is: is, Classes: 1})
		return
	}
	if p.first {
		return
	}
	if why := p.differsElsewhere(req, was, is, point); why != "" {
		p.open("%s", why)
	}
}

// told is all of an answer that a visitor sees.
func told(r *engine.Response) string {
	out := fmt.Sprint(engine.StatusText(r), " ", r.Location, " ", r.Type, " ", r.Size, r.Encoding, r.Headers, r.Hints)
	if r.File != nil {
		out += " " + r.File.Path
	} else if page, err := r.Content(); err == nil {
		out += string(page)
	}
	return out
}

func deciderText(r *engine.Response) string {
	if r.By == nil {
		return string(r.Cause)
	}
	return r.By.Name
}

// takes writes the selectors of the entry that decides requests, the new one before the old.
func (p *pair) takes(was, is *engine.Response) string {
	r := is.By
	if r == nil || is.Cause != engine.CauseRedirect && was.Cause == engine.CauseRedirect {
		r = was.By
	}
	if r == nil {
		return ""
	}
	var out []string
	for _, cl := range r.Entry.Clauses {
		switch cl.Keyword.Text {
		case "on", "in", "when", "unless", "table":
			words := []string{cl.Keyword.Text}
			for _, w := range cl.Values {
				words = append(words, w.Text)
			}
			out = append(out, strings.Join(words, " "))
		}
	}
	return strings.Join(out, " ")
}

// differsElsewhere says why other requests of a class may be answered differently, though the
// one that stands for them is not; "" where that is ruled out.
func (p *pair) differsElsewhere(req *request.Request, was, is *engine.Response, point bool) string {
	old, new := p.before.MetInside(req), p.after.MetInside(req)
	if i := firstRewrite(old); i >= 0 || firstRewrite(new) >= 0 {
		// What is read then has another path, which is of no class that is known.
		if !point || copiesRequest(old) || copiesRequest(new) {
			return p.afterRewrites(old, new)
		}
	}
	if len(old) != len(new) {
		if asksIn(old) || asksIn(new) {
			return "whom an `ask` entry lets in may be answered differently"
		}
	}
	if why := p.sameFunction(was, is, point); why != "" {
		return why
	}
	return p.sameSettings(req)
}

func firstRewrite(met []*rulebook.Rule) int {
	return slices.IndexFunc(met, func(r *rulebook.Rule) bool { return r.Kind == rulebook.KindRewrite })
}

func asksIn(met []*rulebook.Rule) bool {
	return slices.ContainsFunc(met, func(r *rulebook.Rule) bool {
		a, ok := r.Action.(*rulebook.Access)
		return ok && a.Do == rulebook.Ask
	})
}

// copiesRequest reports whether some of the rules copies what can be another for the same
// path.
func copiesRequest(rules []*rulebook.Rule) bool {
	return slices.ContainsFunc(rules, func(r *rulebook.Rule) bool {
		for _, t := range r.Action.Templates() {
			for piece := range t.Pieces {
				if piece.Value && piece.Capture == "" {
					return true
				}
			}
		}
		return false
	})
}

// afterRewrites rules out a difference behind rewrites only where all that is read is the
// same text.
func (p *pair) afterRewrites(old, new []*rulebook.Rule) string {
	same := len(old) == len(new)
	for i := 0; same && i < len(old); i++ {
		same = p.text(old[i]) == p.text(new[i])
	}
	if !same {
		return fmt.Sprintf("what %s makes of a path is read by entries that are written differently", old[max(0, firstRewrite(old))].Name)
	}
	for i, r := range old {
		if r.Kind != rulebook.KindRewrite {
			continue
		}
		a, b := p.below(p.old, p.oldText, r), p.below(p.new, p.newText, new[i])
		if !slices.Equal(a, b) {
			return fmt.Sprintf("what %s makes of a path is read by entries that are written differently", r.Name)
		}
	}
	return ""
}

// below gives the texts of the rules that may be read once a rewrite has changed the path.
func (p *pair) below(s *rulebook.Site, texts []string, r *rulebook.Rule) []string {
	at, then := position(s, r), r.Action.(*rulebook.Rewrite).Then
	var out []string
	for i, other := range s.Rules {
		_, reading := other.Action.(rulebook.Reading)
		if !reading || then == rulebook.Again || then == rulebook.Next && i > at {
			out = append(out, texts[i])
		}
	}
	return out
}

// sameFunction rules out that the entries that decide make something else of another path.
func (p *pair) sameFunction(was, is *engine.Response, point bool) string {
	a, b := was.By, is.By
	switch {
	case a == nil && b == nil:
		return ""
	case a != nil && b != nil && was.Row == nil && is.Row == nil && p.text(a) == p.text(b):
		return ""
	case was.Row != nil && is.Row != nil && rowText(was.Row) == rowText(is.Row) && queryOf(a) == queryOf(b):
		return ""
	}
	if was.Cause != is.Cause { // a file takes fewer methods than an entry, and can be asked for in part
		return fmt.Sprintf("the cause of an answer was %s and is %s now: what other methods get is not known", was.Cause, is.Cause)
	}
	if queryOf(a) != queryOf(b) && (was.Location != "" || is.Location != "") {
		return fmt.Sprintf("%s and %s treat queries differently", a.Name, b.Name)
	}
	for _, r := range []*rulebook.Rule{a, b} {
		if r == nil {
			continue
		}
		for _, t := range r.Action.Templates() {
			for piece := range t.Pieces {
				switch {
				case !piece.Value:
				case piece.Capture != "" || piece.Field.Kind == rulebook.FieldPath || piece.Field.Kind == rulebook.FieldAsked:
					if !point {
						return fmt.Sprintf("whether %s makes the same of every path is not decided", r.Name)
					}
				case a == nil || b == nil || copied(a) != copied(b):
					return fmt.Sprintf("%s copies %s", r.Name, piece.Field)
				}
			}
		}
	}
	return ""
}

// queryOf writes what becomes of a request's query.
func queryOf(r *rulebook.Rule) string {
	if r == nil {
		return ""
	}
	switch a := r.Action.(type) {
	case *rulebook.Redirect:
		return fmt.Sprint(a.Query, a.To.HasQuery)
	case *rulebook.Moves:
		return fmt.Sprint(a.Query, false)
	}
	return ""
}

// copied writes the fields that a rule copies.
func copied(r *rulebook.Rule) string {
	var out []string
	for _, t := range r.Action.Templates() {
		for piece := range t.Pieces {
			if piece.Value && piece.Capture == "" && piece.Field.Kind != rulebook.FieldPath && piece.Field.Kind != rulebook.FieldAsked {
				out = append(out, fmt.Sprint(piece.Field, piece.Filters))
			}
		}
	}
	return strings.Join(out, " ")
}

// sameSettings rules out that what is set besides differs for others: the entries that take
// the request say the same, or copy nothing.
func (p *pair) sameSettings(req *request.Request) string {
	list := func(e *engine.Engine, s *rulebook.Site) (texts []string, copies string) {
		for _, r := range s.Rules {
			if _, reading := r.Action.(rulebook.Reading); reading || !e.Takes(r, req) {
				continue
			}
			texts = append(texts, p.does(r))
			if r.Kind == rulebook.KindLimit || r.Kind == rulebook.KindFallback || len(r.Action.Templates()) > 0 && !constantTemplates(r) {
				copies = r.Name
			}
		}
		return texts, copies
	}
	old, first := list(p.before, p.old)
	new, second := list(p.after, p.new)
	if slices.Equal(old, new) || first == "" && second == "" {
		return ""
	}
	return fmt.Sprintf("what %s makes of other requests is not decided", cmp.Or(first, second))
}

func constantTemplates(r *rulebook.Rule) bool {
	for _, t := range r.Action.Templates() {
		for piece := range t.Pieces {
			if piece.Value {
				return false
			}
		}
	}
	return true
}
