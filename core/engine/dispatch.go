package engine

// Dispatch: the first entry that fits is found without a walk over them all.
//
// Conditions on scheme, host, port and method pick a front, which holds only
// the entries that can fit there. Within it an entry lies where its path can
// be found: under its exact path, in a tree of segments, or, without a path,
// in a list that is split by the field that most of its entries test. Any other
// condition is a bit: a field's value is looked up once, as a class of values
// that no test of the rulebook tells apart.

import (
	"math"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"kibitz/core/canonical"
	"kibitz/core/pattern"
	"kibitz/core/rulebook"
)

// entry is a rule, compiled.
type entry struct {
	*rulebook.Rule
	kind
	free  bool // has no path
	pos   int
	front []cond           // on scheme, host, port and method
	bits  []cond           // on fields with classes
	asked []*rulebook.Test // tests that are decided each time, since their field can change on the way, or is a number
	loose bool             // lies in the index by its `in`, while its `on` is yet to be tested, or the other way
}

// cond is a test, as a bit of its field's classes.
type cond struct {
	field int // of siteEngine.fields
	bit   int
}

// classes are those of one field.
type classes struct {
	field  rulebook.Field
	tests  []*rulebook.Test
	owners []int // positions of the entries that the tests are of

	texts   map[string][]int // bits of tests that have this plain text
	rest    []int            // bits of tests that must be asked
	clients *clients         // where the field is the client

	mu      sync.RWMutex
	byValue map[string]*class // by value
	byBits  map[string]*class // by what holds
	none    *class            // of a field that the request does not have
}

// class is a set of values that no test tells apart.
type class struct {
	Class
	holds  []bool  // by bit
	flips  []int   // of clients: the tests that hold otherwise than holds says, sorted
	owners []int32 // positions of the entries that these are of, sorted

	mu    sync.Mutex
	lists map[*index][]int32 // what is left of an index's list for this class
}

const maxKnown = 4096

func (s *siteEngine) compile() {
	s.fronts.byKey = map[frontKey]*front{}
	for i := range 4 {
		s.field(rulebook.Field{Kind: rulebook.FieldKind(i)}) // the front's fields come first, in their order
	}
	entries := make([]entry, len(s.Rules))
	var moves []*entry
	for pos, r := range s.Rules {
		e := &entries[pos]
		if _, reading := r.Action.(rulebook.Reading); reading != (kindOf(r.Kind).group == groupReading) {
			panic(string(r.Kind) + " is read in order, or it is not")
		}
		*e = entry{Rule: r, pos: pos, kind: kindOf(r.Kind), free: len(r.On)+len(r.In) == 0}
		for _, t := range r.Tests {
			switch {
			case t.Field.Row().Front:
				e.front = append(e.front, s.cond(t, pos))
			case t.Field.Row().Fixed:
				e.bits = append(e.bits, s.cond(t, pos))
			default:
				e.asked = append(e.asked, t)
			}
		}
		e.loose = len(r.On) > 0 && len(r.In) > 0
		s.entries = append(s.entries, e)
		if _, ok := r.Action.(*rulebook.Moves); ok {
			moves = append(moves, e)
			continue
		}
		s.groups[e.group] = append(s.groups[e.group], e)
	}
	s.moved.index(moves)
	for _, c := range s.fields {
		c.prepare()
		if c.clients != nil {
			s.groupInterchangeable(c.clients)
		}
	}
	for _, e := range s.groups[groupHeader] {
		s.validators = s.validators || slices.ContainsFunc(e.Action.(*rulebook.Header).Changes, func(c rulebook.HeaderChange) bool { return isValidator(c.Name) })
	}
	s.fixed = !slices.ContainsFunc(s.groups[groupHeader], func(e *entry) bool { return !e.Action.(*rulebook.Header).Constant() })
}

// field gives the number of a field's classes.
func (s *siteEngine) field(f rulebook.Field) int {
	for i, c := range s.fields {
		if c.field == f {
			return i
		}
	}
	s.fields = append(s.fields, &classes{field: f, texts: map[string][]int{}, byValue: map[string]*class{}, byBits: map[string]*class{}})
	return len(s.fields) - 1
}

func (s *siteEngine) cond(t *rulebook.Test, pos int) cond {
	i := s.field(t.Field)
	s.fields[i].tests = append(s.fields[i].tests, t)
	s.fields[i].owners = append(s.fields[i].owners, pos)
	return cond{i, len(s.fields[i].tests) - 1}
}

// prepare sorts the tests of a field by how they are decided.
func (c *classes) prepare() {
	c.none = c.ask("", false, netip.Addr{})
	c.byBits[bitKey(c.none.holds)] = c.none
	if c.field.Kind == rulebook.FieldClient {
		c.clients = c.cutClients()
		c.none = c.clients.none
	}
	for bit, t := range c.tests {
		texts := true
		for _, v := range t.Values {
			texts = texts && (v.Kind == rulebook.ValueText || v.Kind == rulebook.ValueAbsent)
		}
		if !texts {
			c.rest = append(c.rest, bit)
			continue
		}
		for _, v := range t.Values {
			if v.Kind == rulebook.ValueText {
				c.texts[v.Text] = append(c.texts[v.Text], bit)
			}
		}
	}
}

func newClass(n int) *class { return &class{Class: Class{ID: classIDs.Add(1)}, holds: make([]bool, n)} }

var classIDs atomic.Uint32

// has reports whether a test holds for the values of the class.
func (c *class) has(bit int) bool {
	if c.flips != nil {
		if _, flipped := slices.BinarySearch(c.flips, bit); flipped {
			return !c.holds[bit]
		}
	}
	return c.holds[bit]
}

// ask makes the class of a value by asking every test.
func (c *classes) ask(value string, present bool, client netip.Addr) *class {
	out := newClass(len(c.tests))
	for bit, t := range c.tests {
		out.holds[bit] = holds(t, value, present, 0, client)
	}
	return out
}

// of gives the class of a text.
func (c *classes) of(value string, present bool) *class {
	if !present {
		return c.none
	}
	c.mu.RLock()
	known := c.byValue[value]
	c.mu.RUnlock()
	if known != nil {
		return known
	}
	out := newClass(len(c.tests))
	for bit, t := range c.tests {
		out.holds[bit] = t.Unless
	}
	for _, bit := range c.texts[value] {
		out.holds[bit] = !c.tests[bit].Unless
	}
	for _, bit := range c.rest {
		out.holds[bit] = holds(c.tests[bit], value, true, 0, netip.Addr{})
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	// Equal classes are the same, so that lists made for one serve them all.
	key := bitKey(out.holds)
	if same := c.byBits[key]; same != nil {
		out = same
	} else {
		if len(c.byBits) >= maxKnown {
			clear(c.byBits)
		}
		c.byBits[key] = out
	}
	if len(c.byValue) >= maxKnown {
		clear(c.byValue)
	}
	c.byValue[strings.Clone(value)] = out
	return out
}

func bitKey(bits []bool) string {
	b := make([]byte, (len(bits)+7)/8)
	for i, bit := range bits {
		if bit {
			b[i/8] |= 1 << (i % 8)
		}
	}
	return string(b)
}

// ofPort gives the class of a port.
func (c *classes) ofPort(port int) *class {
	out := newClass(len(c.tests))
	for bit, t := range c.tests {
		out.holds[bit] = holds(t, "", true, int64(port), netip.Addr{})
	}
	return out
}

// class gives the class of the request's value of a field.
func (s *state) class(field int) *class {
	if found := s.classed[field]; found != nil {
		return found
	}
	c := s.site.fields[field]
	var found *class
	if c.field.Kind == rulebook.FieldClient {
		found = c.clients.of(s.req.Client.Unmap())
	} else {
		found = c.of(s.value(c.field))
	}
	s.classed[field] = found
	return found
}

// frontKey is what picks a front.
type frontKey struct {
	scheme, host, method string
	port                 int
}

type fronts struct {
	mu    sync.RWMutex
	byKey map[frontKey]*front
}

// A front holds the entries that can fit for one scheme, host, port and method.
type front struct {
	groups [groupCount]*index
	alive  []bool // by position
}

// frontFor gives the front for a key. Fronts are kept by class, so there are
// few; a value that no test names counts as the empty one.
func (s *siteEngine) frontFor(key frontKey) *front {
	s.fronts.mu.RLock()
	f := s.fronts.byKey[key]
	s.fronts.mu.RUnlock()
	if f != nil {
		return f
	}
	of := [4]*class{
		rulebook.FieldScheme: s.fields[rulebook.FieldScheme].of(key.scheme, true),
		rulebook.FieldHost:   s.fields[rulebook.FieldHost].of(key.host, true),
		rulebook.FieldPort:   s.fields[rulebook.FieldPort].ofPort(key.port),
		rulebook.FieldMethod: s.fields[rulebook.FieldMethod].of(key.method, true),
	}
	classKey := ""
	for _, c := range of {
		classKey += bitKey(c.holds) + "|"
	}
	s.fronts.mu.Lock()
	defer s.fronts.mu.Unlock()
	shared := frontKey{scheme: "\x00", host: classKey}
	f = s.fronts.byKey[shared]
	if f == nil {
		f = s.newFront(of)
		s.fronts.byKey[shared] = f
	}
	if len(s.fronts.byKey) < maxKnown {
		key.host, key.method = strings.Clone(key.host), strings.Clone(key.method)
		s.fronts.byKey[key] = f
	}
	return f
}

func (s *siteEngine) newFront(of [4]*class) *front {
	f := &front{alive: make([]bool, len(s.entries))}
	for _, e := range s.entries {
		f.alive[e.pos] = true
		for _, c := range e.front {
			f.alive[e.pos] = f.alive[e.pos] && of[s.fields[c.field].field.Kind].has(c.bit)
		}
	}
	for g, entries := range s.groups {
		ix := &index{site: s, group: group(g), alive: f.alive}
		for _, e := range entries {
			if f.alive[e.pos] {
				ix.add(e)
			}
		}
		if group(g) == groupReading && s.moved.rows != nil || ix.size > 0 {
			ix.finish()
			f.groups[g] = ix
		}
	}
	return f
}

// An index finds the first entry that fits a path.
type index struct {
	site   *siteEngine
	size   int
	exact  map[string][]int32
	folded map[string][]int32 // for entries that ignore case, by folded path
	tree   *node
	low    *node // for entries that ignore case
	any    []int32
	split  int // the field by which any is split; -1 for none
	group  group
	alive  []bool // of the front, by position

	once   sync.Once
	nobody []int32 // what is left of any for a client in no network
}

// A node of the tree of segments. Lists are sorted by position.
type node struct {
	children map[string]*node
	param    *node       // for one segment of any text
	here     []int32     // the path ends at this node
	below    []int32     // a slash follows
	open     []candidate // the pattern must decide
	least    int32       // smallest position in this node and below
}

type candidate struct {
	pos     int32
	pattern *pattern.Pattern
}

const noEntry = math.MaxInt32

func (ix *index) add(e *entry) {
	ix.size++
	pos := int32(e.pos)
	if e.free {
		ix.any = append(ix.any, pos)
		return
	}
	root, exact := &ix.tree, &ix.exact
	if e.Fold {
		root, exact = &ix.low, &ix.folded
	}
	if *root == nil {
		*root, *exact = &node{least: noEntry}, map[string][]int32{}
	}
	if len(e.On) == 0 {
		for _, folder := range e.In {
			n := *root
			if folder != "" {
				n = n.at(strings.Split(folder[1:], "/"), pos)
			} else {
				n.least = min(n.least, pos)
			}
			n.here = appendOnce(n.here, pos)
			n.below = appendOnce(n.below, pos)
		}
		return
	}
	for _, p := range e.On {
		for _, route := range p.Routes() {
			if route.End == pattern.Here && !slices.Contains(route.Segments, pattern.AnySegment) {
				path := "/" + strings.Join(route.Segments, "/")
				(*exact)[path] = appendOnce((*exact)[path], pos)
				continue
			}
			n := (*root).at(route.Segments, pos)
			switch route.End {
			case pattern.Here:
				n.here = appendOnce(n.here, pos)
			case pattern.Below:
				n.below = appendOnce(n.below, pos)
			default:
				n.open = append(n.open, candidate{pos, p})
			}
		}
	}
}

func appendOnce(list []int32, pos int32) []int32 {
	if n := len(list); n > 0 && list[n-1] == pos {
		return list
	}
	return append(list, pos)
}

// at gives the node at the segments, which is made where there is none.
func (n *node) at(segments []string, pos int32) *node {
	n.least = min(n.least, pos)
	for _, s := range segments {
		next := n.param
		if s != pattern.AnySegment {
			next = n.children[s]
		}
		if next == nil {
			next = &node{least: noEntry}
			if s == pattern.AnySegment {
				n.param = next
			} else {
				if n.children == nil {
					n.children = map[string]*node{}
				}
				n.children[s] = next
			}
		}
		n = next
		n.least = min(n.least, pos)
	}
	return n
}

const longList = 8

// finish chooses the field by which a long list without paths is split.
func (ix *index) finish() {
	ix.split = -1
	if len(ix.any) <= longList {
		return
	}
	count := map[int]int{}
	for _, pos := range ix.any {
		for _, c := range ix.site.entries[pos].bits {
			count[c.field]++
		}
	}
	for field, n := range count {
		if n > longList && (ix.split < 0 || n > count[ix.split] || n == count[ix.split] && field < ix.split) {
			ix.split = field
		}
	}
}

// anywhere gives the entries without a path that the request's class of the
// splitting field leaves, in two lists.
func (ix *index) anywhere(s *state) (list, more []int32) {
	if ix.split < 0 {
		return ix.any, nil
	}
	c := s.class(ix.split)
	if of := ix.site.fields[ix.split].clients; of != nil && c != of.none {
		// What a client in no network meets, of which the networks may leave less,
		// and what they change.
		ix.once.Do(func() { ix.nobody = ix.filter(ix.any, of.nobody) })
		return ix.nobody, c.owners
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	list, ok := c.lists[ix]
	if !ok {
		list = ix.filter(ix.any, c)
		if c.lists == nil {
			c.lists = map[*index][]int32{}
		}
		c.lists[ix] = list
	}
	return list, nil
}

// filter keeps the entries of a list that a class leaves.
func (ix *index) filter(list []int32, c *class) []int32 {
	var out []int32
	for _, pos := range list {
		e := ix.site.entries[pos]
		fits := true
		for _, cond := range e.bits {
			fits = fits && (cond.field != ix.split || c.has(cond.bit))
		}
		if fits {
			out = append(out, pos)
		}
	}
	return out
}

// compiled is the finder of predictions.
type compiled struct{}

func (compiled) next(s *state, g group, floor int) int {
	ix := s.front.groups[g]
	if ix == nil {
		return -1
	}
	w := walk{state: s, index: ix, floor: int32(floor), best: noEntry, path: s.path}
	list, more := ix.anywhere(s)
	w.list(list)
	for i, pos := range more {
		if e := s.site.entries[pos]; e.free && e.group == g && ix.alive[pos] {
			w.list(more[i : i+1])
		}
	}
	w.list(ix.exact[s.path])
	if ix.tree != nil {
		w.descend(ix.tree, s.path)
	}
	if ix.low != nil {
		low := canonical.Fold(s.path)
		w.list(ix.folded[low])
		w.descend(ix.low, low)
	}
	if g == groupReading && s.site.moved.rows != nil {
		s.site.moved.find(&w)
	}
	if w.best == noEntry {
		return -1
	}
	return int(w.best)
}

// walk is the search for the first entry after floor that fits.
type walk struct {
	*state
	*index
	floor, best int32
	path        string
}

func (w *walk) list(list []int32) {
	if w.floor >= 0 {
		from, _ := slices.BinarySearch(list, w.floor+1)
		list = list[from:]
	}
	for _, pos := range list {
		if pos >= w.best {
			return
		}
		if w.state.fits(w.state.site.entries[pos]) {
			w.best = pos
			return
		}
	}
}

// descend looks at a node and below; rest is the path from there on.
func (w *walk) descend(n *node, rest string) {
	if n.least >= w.best {
		return
	}
	if rest == "" {
		w.list(n.here)
	} else {
		w.list(n.below)
	}
	for _, c := range n.open {
		if c.pos >= w.best {
			break
		}
		if c.pos > w.floor && c.pattern.Match(w.path) && w.state.fits(w.state.site.entries[c.pos]) {
			w.best = c.pos
			break
		}
	}
	if rest == "" {
		return
	}
	segment := rest[1:]
	if i := strings.IndexByte(segment, '/'); i >= 0 {
		segment = segment[:i]
	}
	rest = rest[1+len(segment):]
	if n.children != nil {
		if child := n.children[segment]; child != nil {
			w.descend(child, rest)
		}
	}
	if n.param != nil && segment != "" {
		w.descend(n.param, rest)
	}
}

// fits decides the conditions of an entry whose place in the index fits.
func (s *state) fits(e *entry) bool {
	for _, c := range e.bits {
		if !s.class(c.field).has(c.bit) {
			return false
		}
	}
	if e.loose && !e.Within(s.path) {
		return false
	}
	for _, t := range e.asked {
		if !s.test(t) {
			return false
		}
	}
	return true
}

// movedRows are the rows of all tables of a site.
type movedRows struct {
	rows    *rulebook.RowIndex // nil for none
	refs    []rowRef           // in the order of entries and rows
	folded  bool               // some table ignores case
	queries map[string]bool    // the paths of which some row takes one query alone
	origins bool               // some row takes one origin alone
}

type rowRef struct {
	row  *rulebook.Row
	pos  int32 // of the entry
	next int32 // the next that takes the same; 0 at the end
}

// index makes what finds the rows of entries.
func (m *movedRows) index(entries []*entry) {
	if entries == nil {
		return
	}
	n := 0
	for _, e := range entries {
		n += len(e.Action.(*rulebook.Moves).Table.Rows)
	}
	m.rows, m.refs = rulebook.NewRowIndex(n), make([]rowRef, 0, n)
	last := map[int32]int32{} // of the rows that take the same as a first one
	for _, e := range entries {
		m.folded = m.folded || e.Fold
		rows := e.Action.(*rulebook.Moves).Table.Rows
		for i := range rows {
			row, ref := &rows[i], int32(len(m.refs))
			m.refs = append(m.refs, rowRef{row: row, pos: int32(e.pos)})
			m.origins = m.origins || row.Origin != ""
			if row.HasQuery {
				if m.queries == nil {
					m.queries = map[string]bool{}
				}
				m.queries[row.Path] = true
			}
			if first := m.rows.Add(ref, m.row); first >= 0 { // of another entry
				before, ok := last[first]
				if !ok {
					before = first
				}
				m.refs[before].next, last[first] = ref, ref
			}
		}
	}
}

func (m *movedRows) row(ref int32) *rulebook.Row { return m.refs[ref].row }

// taking gives the rows that take what is asked for: those that say its origin or its
// query, and those that do not.
func (m *movedRows) taking(s *state, path string, each func(ref *rowRef)) {
	origins, queries := append(make([]string, 0, 2), ""), append(make([]string, 0, 2), "")
	if m.origins {
		origins = append(origins, s.req.Address.Origin())
	}
	if m.queries[path] {
		if query := s.Query(); query != "" {
			queries = append(queries, query)
		}
	}
	for _, origin := range origins {
		for _, query := range queries {
			ref := m.rows.Find(path, query, origin, m.row)
			if ref < 0 {
				continue
			}
			for each(&m.refs[ref]); m.refs[ref].next > 0; each(&m.refs[ref]) {
				ref = m.refs[ref].next
			}
		}
	}
}

// find looks the path up in the tables.
func (m *movedRows) find(w *walk) {
	m.first(w, w.path, false)
	if m.folded {
		m.first(w, canonical.Fold(w.path), true)
	}
}

func (m *movedRows) first(w *walk, path string, fold bool) {
	m.taking(w.state, path, func(ref *rowRef) {
		e := w.state.site.entries[ref.pos]
		if ref.pos > w.floor && ref.pos < w.best && e.Fold == fold && w.front.alive[ref.pos] &&
			e.Covers(w.state.path) && w.state.fits(e) {
			w.best = ref.pos
		}
	})
}

// row gives the row of a fitting moves entry that takes the request, or nil.
func (s *state) row(e *entry) (row *rulebook.Row) {
	path := s.path
	if e.Fold {
		path = canonical.Fold(path)
	}
	s.site.moved.taking(s, path, func(ref *rowRef) {
		if ref.pos == int32(e.pos) && (row == nil || ref.row.Line < row.Line) {
			row = ref.row
		}
	})
	return row
}
