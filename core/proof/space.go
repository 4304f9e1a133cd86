package proof

// The space of requests: which requests some entries take and others do not.
//
// A question is answered field by field. For each field that an entry of the
// question tests there is a choice for every combination of answers that some
// value gives; the path comes last, by a search over automata. To prove that no
// request does something, more is searched than what does it; what is found is
// run through the engine. No other reasoning is used.

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/pattern"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// errNone says that there is no such request: this is proved.
var errNone = errors.New("there is no such request")

// The limits of a question, times the effort. They count states, never seconds,
// so that a report is the same on every machine.
const (
	maxSearch  = 100_000 // states of a search for a path
	maxText    = 2_000   // of a search for the values of a field
	maxSolid   = 1_000   // of a set that is kept
	maxChoices = 4_096   // combinations of choices
	maxFixed   = 256     // of them, where each request is asked what it does
)

// A space is the requests that one site can get.
type space struct {
	*engine.Engine
	site     *rulebook.Site
	effort   int
	base     request.Request
	reach    map[*rulebook.Rule]*reach
	direct   map[*rulebook.Rule]*reach // of those that test what was asked for, as asAsked gives it
	inTree   []treeSets                // as treeHas gives them: at least, and at most
	memo     map[string]pathAnswer
	asks     bool                   // some entry asks for a name
	rewrites bool                   // some entry rewrites: the path that was asked for is not always the one at hand
	rows     map[string][]placedRow // of all tables, by path
	wanted   map[string][]int       // positions of the rules that want a host; "" has those that want none
	langs    map[*rulebook.Rule]*pattern.Lang
	samples  map[*rulebook.Rule][]string // paths
	likes    map[*rulebook.Rule]*request.Request
	signsOf  map[string]signs
	tested   map[*rulebook.Rule]string   // what rules test beside their paths
	points   map[*rulebook.Rule][]string // that they decide alone
	does     map[*rulebook.Rule]string   // what rules do, as they write it
	shows    map[string]bool             // names of documents
}

func newSpace(e *engine.Engine, s *rulebook.Site, effort int) *space {
	sp := &space{Engine: e, site: s, effort: effort, reach: map[*rulebook.Rule]*reach{}, direct: map[*rulebook.Rule]*reach{}, memo: map[string]pathAnswer{}, langs: map[*rulebook.Rule]*pattern.Lang{}, samples: map[*rulebook.Rule][]string{}, likes: map[*rulebook.Rule]*request.Request{}, signsOf: map[string]signs{}, tested: map[*rulebook.Rule]string{}, points: map[*rulebook.Rule][]string{}, does: map[*rulebook.Rule]string{}, shows: map[string]bool{rulebook.UsualDocument: true}}
	sp.base.Address = s.Address
	sp.base.Address.Path, sp.base.Address.Query, sp.base.Address.HasQuery, sp.base.Address.Fragment = "/", "", false, ""
	for _, r := range s.Rules {
		a, ok := r.Action.(*rulebook.Access)
		sp.asks = sp.asks || ok && a.Do == rulebook.Ask
		sp.rewrites = sp.rewrites || r.Kind == rulebook.KindRewrite
		if a, ok := r.Action.(*rulebook.Folder); ok {
			for _, name := range a.Documents {
				sp.shows[name] = true
			}
		}
	}
	return sp
}

// isDocument reports whether some folder shows files of a name as its document.
func (sp *space) isDocument(name string) bool { return sp.shows[name] }

// whatItDoes is what a rule does, as it writes it.
func (sp *space) whatItDoes(r *rulebook.Rule) string {
	does, known := sp.does[r]
	if !known {
		does = r.Action.(rulebook.Reading).Does()
		sp.does[r] = does
	}
	return does
}

// typicalRequest gives a request that comes to a rule, if one is found, for others to be
// made of.
func (sp *space) typicalRequest(r *rulebook.Rule) *request.Request {
	if known := sp.likes[r]; known != nil {
		return known
	}
	found, err := sp.find(question{in: []*rulebook.Rule{r}, fix: func(req *request.Request) bool { return slices.Contains(sp.MetInside(req), r) }})
	if err != nil {
		found = &sp.base
	}
	sp.likes[r] = found
	return found
}

// A reach is the paths that a rule's selectors take: not more than over, not
// less than under. nil is every path.
type reach struct {
	over, under pattern.Machine
	why         string // where they are not the same
}

var nothing = pattern.Words(nil)

// of gives the reach of a rule.
func (sp *space) of(r *rulebook.Rule) *reach {
	known := sp.reach[r]
	if known == nil {
		known = sp.reachOf(r, sp.rewrites)
		sp.reach[r] = known
	}
	return known
}

// asAsked gives the reach of a rule where no entry has rewritten the path.
func (sp *space) asAsked(r *rulebook.Rule) *reach {
	if !hasTest(r, rulebook.FieldAsked) || !sp.rewrites {
		return sp.of(r)
	}
	known := sp.direct[r]
	if known == nil {
		known = sp.reachOf(r, false)
		sp.direct[r] = known
	}
	return known
}

// reachOf finds the reach of a rule; rewritten tells that the path that was asked for may not be
// the one at hand.
func (sp *space) reachOf(r *rulebook.Rule, rewritten bool) *reach {
	out := &reach{}
	var over, under []pattern.Machine
	add := func(list []pattern.Machine, sure bool) {
		over = append(over, pattern.Or(list...))
		if sure {
			under = append(under, pattern.Or(list...))
		}
	}
	if len(r.On) > 0 {
		var list, least []pattern.Machine
		for _, p := range r.On {
			l, err := p.Lang()
			if err != nil {
				out.why = err.Error()
				continue
			}
			list = append(list, l)
		}
		least = list
		if out.why == "" {
			over = append(over, pattern.Or(list...))
		}
		if len(least) == 0 {
			least = []pattern.Machine{nothing}
		}
		under = append(under, pattern.Or(least...))
	}
	if len(r.In) > 0 && !slices.Contains(r.In, "") {
		var list []pattern.Machine
		for _, f := range r.In {
			list = append(list, pattern.Folder(f, r.Fold))
		}
		add(list, true)
	}
	if m, ok := r.Action.(*rulebook.Moves); ok {
		var all, anyQuery []*rulebook.Row
		for i := range m.Table.Rows {
			row := &m.Table.Rows[i]
			all = append(all, row)
			if !row.HasQuery && row.Origin == "" {
				anyQuery = append(anyQuery, row)
			}
		}
		least := nothing
		if paths := pathsOf(r, all); paths != nil {
			over = append(over, paths)
			least = pathsOf(r, anyQuery)
		}
		under = append(under, least)
	}
	for _, t := range r.Tests {
		most, least := sp.pathTest(t, rewritten)
		if most != nil {
			over = append(over, most)
		}
		if least != nil {
			under = append(under, least)
		}
	}
	if len(over) > 0 {
		out.over = pattern.And(over...)
	}
	if len(under) > 0 {
		out.under = pattern.And(under...)
	}
	return out
}

// onPath reports whether a test looks at the path.
func onPath(t *rulebook.Test) bool {
	_, path := t.Field.Row().Vary.(rulebook.VaryPath)
	return path
}

// pathTest gives at most and at least the paths for which a test holds; nil is
// every path.
func (sp *space) pathTest(t *rulebook.Test, rewritten bool) (most, least pattern.Machine) {
	switch {
	case !onPath(t):
		return nil, nil
	case t.Field.Kind == rulebook.FieldAsked && rewritten: // it may not be the path at hand
		return nil, nothing
	}
	var over, under []pattern.Machine
	every := false
	for _, v := range t.Values {
		switch {
		case t.Field.Kind == rulebook.FieldFile && v.Kind == rulebook.ValueText:
			most, least := sp.treeHas(v.Text)
			over, under = append(over, most), append(under, least)
		case v.Kind == rulebook.ValueText:
			m := pattern.Words([]string{canonical.Marked(v.Text)})
			over, under = append(over, m), append(under, m)
		case v.Pattern != nil:
			if l, err := v.Pattern.Lang(); err == nil {
				over, under = append(over, l), append(under, l)
			} else {
				every = true
			}
		default:
			every = true
		}
	}
	low := nothing
	if len(under) > 0 {
		low = pattern.Or(under...)
	}
	switch {
	case t.Unless && every:
		return pattern.Not(low), nothing
	case t.Unless:
		return pattern.Not(pattern.Or(over...)), pattern.Not(low)
	case every:
		return nil, low
	}
	return pattern.Or(over...), low
}

// treeHas gives at most and at least the paths at which the tree has a file, a folder,
// or nothing. What is hidden is nothing, but where an entry may show it.
func (sp *space) treeHas(what string) (most, least pattern.Machine) {
	if sp.inTree == nil {
		var files, folders [2][]string // those that are surely seen, and those that may be
		folders = [2][]string{{"/"}, {"/"}}
		shown := slices.ContainsFunc(sp.site.Rules, func(r *rulebook.Rule) bool {
			a, ok := r.Action.(*rulebook.Folder)
			return ok && a.Hidden != nil && *a.Hidden
		})
		sp.Tree(sp.site).Each(func(n *site.Node) {
			path := canonical.Marked(n.Path)
			for i, seen := range []bool{!n.Hidden, !n.Hidden || shown} {
				switch {
				case !seen:
				case n.Folder:
					folders[i] = append(folders[i], path, path+"/")
				default:
					files[i] = append(files[i], path)
				}
			}
		})
		for i := range files {
			sp.inTree = append(sp.inTree, treeSets{pattern.Words(files[i]), pattern.Words(folders[i])})
		}
	}
	sure, perhaps := sp.inTree[0], sp.inTree[1]
	switch what {
	case "exists":
		return perhaps.files, sure.files
	case "folder":
		return perhaps.folders, sure.folders
	}
	return pattern.Not(pattern.Or(sure.files, sure.folders)), pattern.Not(pattern.Or(perhaps.files, perhaps.folders))
}

// treeSets are the paths of a tree.
type treeSets struct{ files, folders pattern.Machine }

// A question asks for a request that all of in take and none of out.
type question struct {
	in, out  []*rulebook.Rule
	path     pattern.Machine             // which its path is in, too; nil for any
	hint     string                      // a path that may do; "" for none
	template *request.Request            // what fields that are not asked about are taken from; nil for plain ones
	fix      func(*request.Request) bool // what the request must be beside; nil for nothing
}

// find answers a question. The error is errNone where it is proved that there is
// no such request, and otherwise says what is in the way.
func (sp *space) find(q question) (*request.Request, error) {
	base := sp.base
	if q.template != nil {
		base = *q.template
	}
	s := sp.ask(q)
	if len(s.fields) > maxTests*sp.effort {
		return nil, fmt.Errorf("it asks %d things of a request", len(s.fields))
	}
	s.doubtShared()
	alive := make([]bool, len(q.out))
	for i := range alive {
		alive[i] = true
	}
	if req := s.descend(0, base, alive); req != nil {
		return req, nil
	}
	if s.why != "" {
		return nil, errors.New(s.why)
	}
	return nil, errNone
}

// search is one question on its way.
type search struct {
	*space
	question
	fields []asked
	shared bool // two of them are read from the same text
	nodes  int
	why    string // what keeps the answer from being a proof
}

// asked is a field that a question is about, with all tests of it.
type asked struct {
	rulebook.Field
	in, all []*rulebook.Test
	out     []outTest
}

// An outTest is one of a rule that must not take the request.
type outTest struct {
	rule int // its position in out
	*rulebook.Test
}

// ask sorts the tests of a question by their fields.
func (sp *space) ask(q question) *search {
	s := &search{space: sp, question: q}
	at := map[rulebook.Field]int{}
	of := func(t *rulebook.Test) *asked {
		i, ok := at[t.Field]
		if !ok {
			i = len(s.fields)
			at[t.Field] = i
			s.fields = append(s.fields, asked{Field: t.Field})
		}
		s.fields[i].all = append(s.fields[i].all, t)
		return &s.fields[i]
	}
	for _, r := range q.in {
		for _, t := range r.Tests {
			if !onPath(t) {
				f := of(t)
				f.in = append(f.in, t)
			}
		}
	}
	for i, r := range q.out {
		for _, t := range r.Tests {
			if !onPath(t) {
				f := of(t)
				f.out = append(f.out, outTest{i, t})
			}
		}
	}
	slices.SortFunc(s.fields, func(a, b asked) int {
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), strings.Compare(a.Name, b.Name))
	})
	return s
}

func (s *search) doubt(format string, args ...any) {
	if s.why == "" {
		s.why = fmt.Sprintf(format, args...)
	}
}

// doubtShared notes fields that are read from one place: they are varied one after the
// other, and what is put there for the one is taken from the other.
func (s *search) doubtShared() {
	by := map[string]rulebook.Field{}
	for _, of := range s.fields {
		f := of.Field
		row, place := f.Row(), ""
		switch {
		case f.Kind == rulebook.FieldQuery:
			place = "?"
		case row.Header != nil:
			place = row.Header(f.Name)
		default:
			continue
		}
		first, shared := by[place]
		switch {
		case !shared:
			by[place] = f
		case first.Kind != f.Kind || first.Name == "" || f.Name == "": // two cookies, or two parameters, go side by side
			s.shared = true
			s.doubt("%s and %s are tested together, and are read from the same text", first, f)
		}
	}
}

// descend chooses a value for the field at depth and for all behind it; alive
// says which of the excluded rules still hold.
func (s *search) descend(depth int, req request.Request, alive []bool) *request.Request {
	most := maxChoices * s.effort
	if s.fix != nil {
		most = maxFixed * s.effort
	}
	if s.nodes++; s.nodes > most {
		s.doubt("its conditions combine in more than %d ways", most)
		return nil
	}
	if depth == len(s.fields) {
		return s.finish(req, alive)
	}
	type branch struct {
		req   request.Request
		alive []bool
		holds string // the answers of all tests of the field, where they matter
	}
	var branches []branch
	f := s.fields[depth]
	for _, choice := range s.choices(f, req) {
		if slices.ContainsFunc(f.in, func(t *rulebook.Test) bool { return !s.Holds(t, &choice) }) {
			continue
		}
		next := branch{choice, slices.Clone(alive), ""}
		if s.fix != nil || s.shared { // what is wanted beside, or another field, may depend on each
			for _, t := range f.all {
				next.holds += fmt.Sprint(s.Holds(t, &choice))
			}
		}
		for _, t := range f.out {
			next.alive[t.rule] = next.alive[t.rule] && s.Holds(t.Test, &choice)
		}
		if !slices.ContainsFunc(branches, func(b branch) bool { return b.holds == next.holds && within(b.alive, next.alive) }) {
			branches = append(branches, next)
		}
	}
	slices.SortStableFunc(branches, func(a, b branch) int { return cmp.Compare(count(a.alive), count(b.alive)) })
	for i, b := range branches {
		if slices.ContainsFunc(branches[:i], func(o branch) bool { return o.holds == b.holds && within(o.alive, b.alive) }) {
			continue // what is not found there is not found here
		}
		if found := s.descend(depth+1, b.req, b.alive); found != nil {
			return found
		}
	}
	return nil
}

// within reports whether all that a has b has too.
func within(a, b []bool) bool {
	for i := range a {
		if a[i] && !b[i] {
			return false
		}
	}
	return true
}

func count(list []bool) int {
	n := 0
	for _, b := range list {
		if b {
			n++
		}
	}
	return n
}

type pathAnswer struct {
	words []string
	err   error
}

// finish looks for the path.
func (s *search) finish(req request.Request, alive []bool) *request.Request {
	try := func(path string) *request.Request {
		out := req
		out.Address.Path = path
		for _, r := range s.in {
			if !s.Takes(r, &out) {
				return nil
			}
		}
		for _, r := range s.out {
			if s.Takes(r, &out) {
				return nil
			}
		}
		if s.path != nil && !pattern.Matches(s.path, canonical.Marked(path)) || s.fix != nil && !s.fix(&out) {
			return nil
		}
		return &out
	}
	if s.hint != "" {
		if found := try(s.hint); found != nil {
			return found
		}
	}
	// The plain words of the first entry are nearly always good.
	if len(s.in) > 0 {
		for _, w := range s.specimens(s.in[0]) {
			if found := try(w); found != nil {
				return found
			}
		}
	}
	words, err := s.words(alive)
	for _, w := range words {
		if found := try(canonical.Unmarked(w)); found != nil {
			return found
		}
	}
	switch {
	case err != nil:
		s.doubt("its paths need %v", err)
	case len(words) > 0:
		for _, r := range append(slices.Clone(s.in), s.out...) {
			if why := s.of(r).why; why != "" {
				s.doubt("%s", why)
			}
		}
		s.doubt("a request that was made for it behaves differently")
	}
	return nil
}

// mostLooked is how many files of a folder are held against a pattern.
const mostLooked = 30

// fileOf gives a file of the tree that a pattern takes, in the folder with which it begins;
// "" where none of the first is one.
func (sp *space) fileOf(p *pattern.Pattern) string {
	begins := p.Prefix()
	slash := strings.LastIndexByte(begins, '/')
	if _, whole := p.Literal(); whole || slash < 0 {
		return ""
	}
	folder := sp.Tree(sp.site).Find(canonical.Unmarked(begins[:slash]))
	if folder == nil || !folder.Folder {
		return ""
	}
	for _, n := range folder.Children[:min(len(folder.Children), mostLooked)] {
		if !n.Folder && !n.Hidden && p.Match(n.Path) {
			return n.Path
		}
	}
	return ""
}

// specimens are a few paths that a rule's patterns take: those of examples, of the tree, of
// its own words, and rows of its table.
func (sp *space) specimens(r *rulebook.Rule) []string {
	words, ok := sp.samples[r]
	if !ok {
		for _, e := range r.Examples {
			if a, err := request.Parse(e.URL, request.Address{}); err == nil && canonical.Is(a.Path, true) {
				words = append(words, a.Path)
			}
		}
		for _, p := range r.On {
			if file := sp.fileOf(p); file != "" {
				words = append(words, file)
			}
			words = append(words, p.Words(2)...)
		}
		if m, ok := r.Action.(*rulebook.Moves); ok {
			for _, row := range m.Table.Rows[:min(len(m.Table.Rows), 3)] {
				words = append(words, row.Path)
			}
		}
		sp.samples[r] = words
	}
	return words
}

// words gives some paths for the rules that are alive.
func (s *search) words(alive []bool) ([]string, error) {
	key := ""
	parts := []pattern.Machine{pattern.Paths(s.site.KeepSlashes)}
	for _, r := range s.in {
		if over := s.asAsked(r).over; over != nil {
			parts = append(parts, over)
			key += fmt.Sprintf("%d ", r.Number)
		}
	}
	for i, r := range s.out {
		if !alive[i] {
			continue
		}
		under := s.asAsked(r).under
		if under == nil {
			return nil, nil // it takes every path
		}
		parts = append(parts, pattern.Not(under))
		key += fmt.Sprintf("-%d ", r.Number)
	}
	if s.path != nil {
		parts = append(parts, s.path)
	} else if known, ok := s.memo[key]; ok {
		return known.words, known.err
	}
	words, err := pattern.FindSome(pattern.And(parts...), pattern.PathBytes, maxSearch*s.effort, 6)
	if s.path == nil {
		s.memo[key] = pathAnswer{words, err}
	}
	return words, err
}

// choices gives requests that differ from req in one field: one for every
// combination of answers that the question's tests of it can have.
func (s *search) choices(asked asked, req request.Request) []request.Request {
	f, tests := asked.Field, asked.all
	out := []request.Request{req}
	with := func(change func(*request.Request)) {
		next := req
		next.Headers = slices.Clip(next.Headers)
		change(&next)
		out = append(out, next)
	}
	row := f.Row()
	if row.Put != nil && !row.Always {
		with(func(r *request.Request) { row.Put(r, f.Name, "", false) })
	}
	switch vary := row.Vary.(type) {
	case rulebook.VaryWords:
		for _, word := range row.Words {
			with(func(r *request.Request) { row.Put(r, f.Name, word, true) })
		}
	case rulebook.VaryHosts:
		for _, host := range s.hosts(tests) {
			with(func(r *request.Request) { row.Put(r, f.Name, host, true) })
		}
	case rulebook.VaryNumbers:
		for _, n := range bounds(tests) {
			if vary.Low <= n && n <= vary.High {
				with(func(r *request.Request) { row.Set(r, n) })
			}
		}
	case rulebook.VaryClients:
		for _, a := range engine.Clients(tests) {
			with(func(r *request.Request) { r.Client = a })
		}
	case rulebook.VaryTexts:
		for _, text := range s.texts(tests, vary.All(f), vary.Usual) {
			with(func(r *request.Request) { row.Put(r, f.Name, text, true) })
			says := rulebook.Test{Field: f, Values: []rulebook.Value{{Kind: rulebook.ValueText, Text: text}}}
			if text != "" && !s.Holds(&says, &out[len(out)-1]) { // an empty query is none
				s.doubt("no request could be made of which %s is %q", f, text)
			}
		}
	case rulebook.VaryNot:
		if f.Kind != rulebook.FieldUser || s.asks { // nobody is let in where nobody is asked
			s.doubt("%s", vary.Why)
		}
	default:
		s.doubt("which values %s can have is not known", f)
	}
	return out
}

// addQuery adds a parameter, or with no name a whole query, to a request.
func addQuery(r *request.Request, name, text string) {
	if name != "" {
		text = name + "=" + request.ParameterText(text)
	} else if text == "" {
		return
	} else {
		text = strings.NewReplacer("#", "%23", " ", "%20", "\"", "%22", "<", "%3C", ">", "%3E").Replace(text)
	}
	if r.Address.Query != "" {
		text = r.Address.Query + "&" + text
	}
	r.Address.Query, r.Address.HasQuery = text, true
}

// bounds gives the numbers at and beside the ends of all spans, and some number where there
// are none.
func bounds(tests []*rulebook.Test) []int64 {
	var out []int64
	for _, t := range tests {
		for _, v := range t.Values {
			if v.Kind != rulebook.ValueSpan {
				continue
			}
			for _, n := range []int64{v.Span.Low, v.Span.High} {
				if n > -1<<62 && n < 1<<62 {
					out = append(out, n, n-1, n+1)
				}
			}
		}
	}
	if len(out) == 0 {
		return []int64{someTime.UnixMicro()}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

var someTime = time.Date(2026, 9, 1, 12, 0, 0, 0, time.UTC)

// A textSet is a set of texts that a value takes.
type textSet struct {
	source  string
	machine func() (pattern.Machine, error)
}

// signs are what was found for some sets.
type signs struct {
	texts []string
	doubt string
}

// signs gives a text for each combination of sets that some text is in, among texts
// that are none of some words: those are asked one by one. Many questions are about
// the same sets.
func (s *search) signs(of string, all pattern.Machine, alphabet string, words []string, sets []textSet) []string {
	slices.Sort(words)
	words = slices.Compact(words)
	slices.SortFunc(sets, func(a, b textSet) int { return strings.Compare(a.source, b.source) })
	sets = slices.CompactFunc(sets, func(a, b textSet) bool { return a.source == b.source })
	key := fmt.Sprint(of, " ", len(words), "\x00") + strings.Join(words, "\x00") // one word may be empty
	for _, set := range sets {
		key += "\x00\x00" + set.source
	}
	found, known := s.signsOf[key]
	if !known {
		var machines []pattern.Machine
		length := 0
		for _, w := range words {
			length += len(w)
		}
		for _, set := range sets {
			if m, err := set.machine(); err == nil {
				machines = append(machines, m)
			} else {
				found.doubt = err.Error()
			}
		}
		if len(words) > 0 {
			all = pattern.And(all, pattern.Not(pattern.Words(words)))
		}
		limit := maxText * s.effort
		texts, complete := pattern.Signs(all, machines, alphabet, limit+length)
		if !complete {
			found.doubt = fmt.Sprintf("the tests of %s need more than %d states", of, limit)
		}
		found.texts = texts
		s.signsOf[key] = found
	}
	if found.doubt != "" {
		s.doubt("%s", found.doubt)
	}
	return found.texts
}

// texts gives a text for each combination of answers that tests of a field can have.
func (s *search) texts(tests []*rulebook.Test, all *pattern.Lang, usual []string) []string {
	seen := map[string]bool{}
	values := slices.Clone(usual)
	var words []string
	var sets []textSet
	for _, t := range tests {
		for _, v := range t.Values {
			key := fmt.Sprint(v.Kind, v.Text)
			if seen[key] {
				continue
			}
			seen[key] = true
			if text := textOf(v); text != "" || v.Kind == rulebook.ValueText {
				values = append(values, text)
			}
			switch v.Kind {
			case rulebook.ValueText:
				words = append(words, v.Text)
			case rulebook.ValuePresent, rulebook.ValueAbsent: // an empty text may be none
				words = append(words, "")
				values = append(values, "")
			case rulebook.ValueGlob, rulebook.ValueRegexp:
				sets = append(sets, textSet{v.Source(), func() (pattern.Machine, error) { return languageOf(v) }})
			}
		}
	}
	values = slices.DeleteFunc(values, func(text string) bool {
		return !all.Match(strings.Map(func(c rune) rune { return min(c, 0x7f) }, text))
	})
	for _, text := range s.signs(tests[0].Field.String(), all, pattern.TextBytes, words, sets) {
		values = append(values, strings.ReplaceAll(text, "\x7f", "é"))
	}
	return values
}

// languageOf gives the set of a value that is an expression.
func languageOf(v rulebook.Value) (pattern.Machine, error) {
	l, err := pattern.Regexp(v.Source())
	if err != nil {
		return nil, fmt.Errorf("%s: %w", v.Word, err)
	}
	return l, nil
}

var inBrackets = sync.OnceValue(func() *pattern.Lang {
	l, err := pattern.Regexp(`\[.*\]`)
	if err != nil {
		panic(err)
	}
	return l
})

// hosts gives names by which the site is asked, one for each combination of
// answers that the tests can have.
func (s *search) hosts(tests []*rulebook.Test) []string {
	var hosts, words []string
	var sets []textSet
	var patterns []*pattern.Pattern
	for _, t := range tests {
		for _, v := range t.Values {
			switch {
			case v.Kind == rulebook.ValueText:
				words = append(words, v.Text)
			case v.Pattern != nil:
				patterns = append(patterns, v.Pattern)
			case v.Kind == rulebook.ValueRegexp:
				sets = append(sets, textSet{v.Source(), func() (pattern.Machine, error) { return languageOf(v) }})
			}
		}
	}
	hosts = slices.DeleteFunc(slices.Clone(words), func(h string) bool { return s.SiteFor(h) != s.site })
	if len(patterns)+len(sets) == 0 { // names that no test says are all alike: one is enough
		for _, p := range s.site.Hosts {
			if name, literal := p.Literal(); literal && !slices.Contains(words, name) {
				return append(hosts, name)
			}
		}
	}
	for _, site := range s.Book.Sites { // of all sites, since a name belongs to one
		patterns = append(patterns, site.Hosts...)
	}
	for _, p := range patterns {
		name, literal := p.Literal()
		if literal {
			words = append(words, name)
		} else {
			name = specimen(p)
			sets = append(sets, textSet{p.String(), func() (pattern.Machine, error) { return p.Lang() }})
		}
		if name != "" {
			hosts = append(hosts, name)
		}
	}
	if s.site.UnknownHosts { // then it is asked by addresses in brackets, too, of which no signs are made
		for _, set := range sets {
			if m, err := set.machine(); err == nil {
				if _, some, err := pattern.Find(pattern.And(m, inBrackets()), pattern.HostBytes+"[]:", maxText); some || err != nil {
					s.doubt("what it asks of the host may be an IPv6 address, of which none are tried")
				}
			}
		}
	}
	hosts = append(hosts, s.signs("hosts", pattern.Hosts(), pattern.HostBytes, words, sets)...)
	return slices.DeleteFunc(hosts, func(h string) bool { return s.SiteFor(h) != s.site })
}
