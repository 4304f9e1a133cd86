package pattern

// Pre-images: which paths a template sends into a set. The image of a set under
// a template is not regular once a capture is used twice; its pre-image always
// is. So what stands below a rewrite or behind a redirect is asked backwards.

import (
	"encoding/binary"
	"fmt"
	"math"
	"regexp/syntax"
	"slices"
	"strings"

	"kibitz/core/canonical"
)

// A Copy is a piece of a target's path.
type Copy struct {
	Text   string          // literal, canonical and Marked
	Group  int             // what a capture took, counted from 1; Whole, Anything or Literal
	Change func(byte) byte // of each byte that stands bare; nil for none
	Become string          // with Change: the bare bytes that an encoded character may become, beside any encoded one
}

// Of Copy.Group.
const (
	Literal  = -1
	Whole    = 0  // the path itself
	Anything = -2 // text of which nothing is known
)

// Pre gives the paths that the translated expression source takes and the
// pieces send into the set into; runs of slashes in the result count as one, where
// they are kept the first of them. It is a superset where the expression can take one path in several
// ways. It fails with ErrLarge after limit states.
func Pre(source string, pieces []Copy, into Machine, keepSlashes bool, limit int) (*Lang, error) {
	prog, err := program(source)
	if err != nil {
		return nil, err
	}
	return newPreimage(prog, pieces, into, keepSlashes, limit).explore()
}

func newPreimage(prog *syntax.Prog, pieces []Copy, into Machine, keepSlashes bool, limit int) *preimage {
	w := &preimage{
		prog: prog, into: &merged{of: into, keep: keepSlashes, ids: map[[2]int]int{}, states: [][2]int{{}}}, limit: limit,
		ids: map[string]int32{}, ends: map[int32]bool{},
	}
	w.split(pieces)
	w.findRepeats()
	w.bare, w.within = w.alike()
	return w
}

// merged reads a text as if each run of slashes were one slash; where they are kept, the
// run that it begins with, as canonical.Target does.
type merged struct {
	of     Machine
	keep   bool
	ids    map[[2]int]int // state, and 1 where a slash is merged with those before it; 2 where none is any more
	states [][2]int
}

func (m *merged) id(state, slash int) int {
	if state == 0 {
		return 0
	}
	key := [2]int{state, slash}
	id, ok := m.ids[key]
	if !ok {
		id = len(m.states)
		m.ids[key] = id
		m.states = append(m.states, key)
	}
	return id
}

func (m *merged) start() int { return m.id(m.of.Start(), 0) }

func (m *merged) step(id int, b byte) int {
	s := m.states[id]
	if b == '/' {
		if s[1] == 1 {
			return id
		}
		return m.id(m.of.Step(s[0], b), max(s[1], 1))
	}
	if m.keep {
		return m.id(m.of.Step(s[0], b), 2)
	}
	return m.id(m.of.Step(s[0], b), 0)
}

func (m *merged) read(id int, text string) int {
	for i := 0; i < len(text) && id != 0; i++ {
		id = m.step(id, text[i])
	}
	return id
}

// The work that a state of the result may make on average: its threads, and the slots of all
// threads that are made on the way.
const (
	threadsPerState = 64
	slotsPerState   = 1000
)

// preimage walks the expression's program together with the set.
type preimage struct {
	prog    *syntax.Prog
	into    *merged
	limit   int
	copies  []Copy          // without the literals
	texts   []string        // before the first copy, between them, and behind the last
	repeats map[uint32]bool // captures that can be entered again
	reach   map[int][]int
	all     []int // states of into
	work    int   // slots made
	large   bool

	// Each thread is looked at once, however many states it is in.
	threads []thread
	ids     map[string]int32 // of the threads, by their keys
	seen    []int            // of each, the last round that met it
	round   int
	moves   [][][]int32 // of each, by the number of a letter's kind, where it goes
	ends    map[int32]bool
	bare    kinds
	within  kinds // letters within an encoded character
}

// kinds sorts the letters of a path into those that nothing tells apart.
type kinds struct {
	of    []int  // of each letter, the number of its kind
	first []byte // of each kind
}

// The phases of a copy.
const (
	waiting = iota
	open
	closed
	passed // entered, but a later entry is the one that counts
)

// A slot is how far one copy is: in which state of the set it began, if that
// was guessed, and where it is.
type slot struct {
	phase       uint8
	guessed     bool
	begin, here int32
}

// A thread is one way of reading a path.
type thread struct {
	pc    uint32
	slots []slot
}

func (t thread) key() string {
	b := binary.LittleEndian.AppendUint32(make([]byte, 0, 4+10*len(t.slots)), t.pc)
	for _, s := range t.slots {
		g := byte(0)
		if s.guessed {
			g = 1
		}
		b = append(b, s.phase, g)
		b = binary.LittleEndian.AppendUint32(b, uint32(s.begin))
		b = binary.LittleEndian.AppendUint32(b, uint32(s.here))
	}
	return string(b)
}

// with gives a thread another slot.
func (w *preimage) with(t thread, i int, s slot) thread {
	if w.work += len(t.slots); w.work > slotsPerState*w.limit {
		w.large = true
	}
	t.slots = slices.Clone(t.slots)
	t.slots[i] = s
	return t
}

func (w *preimage) split(pieces []Copy) {
	w.texts = []string{""}
	for _, p := range pieces {
		if p.Group == Literal {
			w.texts[len(w.texts)-1] += p.Text
			continue
		}
		w.copies = append(w.copies, p)
		w.texts = append(w.texts, "")
	}
}

// findRepeats looks for captures that the program can enter twice.
func (w *preimage) findRepeats() {
	w.repeats = map[uint32]bool{}
	for i := range w.prog.Inst {
		inst := &w.prog.Inst[i]
		if inst.Op != syntax.InstCapture || inst.Arg%2 != 0 {
			continue
		}
		seen := map[uint32]bool{}
		queue := []uint32{inst.Out}
		for len(queue) > 0 {
			pc := queue[len(queue)-1]
			queue = queue[:len(queue)-1]
			if seen[pc] {
				continue
			}
			seen[pc] = true
			to := &w.prog.Inst[pc]
			if to.Op == syntax.InstMatch || to.Op == syntax.InstFail {
				continue
			}
			queue = append(queue, to.Out)
			if to.Op == syntax.InstAlt || to.Op == syntax.InstAltMatch {
				queue = append(queue, to.Arg)
			}
		}
		w.repeats[inst.Arg/2] = seen[uint32(i)]
	}
}

// reached gives the states that some text leads to from one.
func (w *preimage) reached(from int) []int {
	if w.reach == nil {
		w.reach = map[int][]int{}
	}
	if known, ok := w.reach[from]; ok {
		return known
	}
	seen := map[int]bool{from: true}
	list := []int{from}
	for i := 0; i < len(list); i++ {
		if len(list) > w.limit {
			w.large = true
			break
		}
		for _, next := range w.characters(list[i], bareBytes) {
			if !seen[next] {
				seen[next] = true
				list = append(list, next)
			}
		}
	}
	w.reach[from] = list
	return list
}

// bareBytes are the bytes that stand bare in a path.
var bareBytes = strings.TrimSuffix(PathBytes, "%")

// characters gives the states that one whole character leads to, one of some bare ones
// or any encoded one: what is copied begins and ends between characters.
func (w *preimage) characters(from int, bareBytes string) []int {
	const hex = "0123456789ABCDEF"
	over := func(from []int, letters string) []int {
		var out []int
		for _, q := range from {
			for j := range len(letters) {
				if next := w.into.step(q, letters[j]); next != 0 && !slices.Contains(out, next) {
					out = append(out, next)
				}
			}
		}
		return out
	}
	start := []int{from}
	out := over(start, bareBytes)
	percent := over(start, "%")
	out = append(out, over(over(percent, "01234567"), hex)...)
	for more, lead := range []string{"", "CD", "E", "F"} {
		at := over(over(percent, lead), hex)
		for range more {
			at = over(over(over(at, "%"), "89AB"), hex)
		}
		out = append(out, at...)
	}
	return append(out, over(over(over(percent, "!"), hex), hex)...)
}

// begins gives the states in which copy i can begin; known is false where they
// are a guess.
func (w *preimage) begins(t thread, i int) (states []int, known bool) {
	if i == 0 {
		return w.alive([]int{w.into.start()}, w.texts[0]), true
	}
	before := t.slots[i-1]
	switch {
	case w.copies[i-1].Group == Anything:
		from, known := w.begins(t, i-1)
		seen := map[int]bool{}
		for _, q := range from {
			for _, r := range w.reached(q) {
				seen[r] = true
			}
		}
		var list []int
		for q := range seen {
			list = append(list, q)
		}
		slices.Sort(list)
		return w.alive(list, w.texts[i]), known
	case before.phase == closed:
		return w.alive([]int{int(before.here)}, w.texts[i]), true
	}
	if w.all == nil {
		w.all = w.reached(w.into.start())
	}
	return w.all, false
}

func (w *preimage) alive(from []int, text string) []int {
	var out []int
	for _, q := range from {
		if q = w.into.read(q, text); q != 0 && !slices.Contains(out, q) {
			out = append(out, q)
		}
	}
	return out
}

// enter begins the copies of a group, in every way that there is.
func (w *preimage) enter(t thread, group int, from int, yield func(thread)) {
	if w.large {
		return
	}
	for i := from; i < len(w.copies); i++ {
		if w.copies[i].Group != group {
			continue
		}
		if t.slots[i].phase == closed || t.slots[i].phase == open {
			return // it was the last time that counts, and now there is another
		}
		if w.repeats[uint32(group)] && group > 0 {
			w.enter(w.with(t, i, slot{phase: passed}), group, i+1, yield)
		}
		states, known := w.begins(t, i)
		for _, q := range states {
			w.enter(w.with(t, i, slot{phase: open, guessed: !known, begin: int32(q), here: int32(q)}), group, i+1, yield)
		}
		return
	}
	yield(t)
}

// leave ends the copies of a group.
func (w *preimage) leave(t thread, group int) thread {
	for i, c := range w.copies {
		if c.Group == group && t.slots[i].phase == open {
			s := t.slots[i]
			s.phase = closed
			t = w.with(t, i, s)
		}
	}
	return t
}

// number gives the number of a thread, and whether this round has met it before.
func (w *preimage) number(t thread) (id int32, met bool) {
	key := t.key()
	id, ok := w.ids[key]
	if !ok {
		id = int32(len(w.threads))
		w.ids[key] = id
		w.threads = append(w.threads, t)
		w.seen = append(w.seen, 0)
		w.moves = append(w.moves, nil)
	}
	met = w.seen[id] == w.round
	w.seen[id] = w.round
	return id, met
}

// follow adds the threads that wait for a byte, or for the end, and that this round has not
// met.
func (w *preimage) follow(set []int32, t thread, at syntax.EmptyOp) []int32 {
	id, met := w.number(t)
	if met {
		return set
	}
	if w.work += 1 + len(t.slots); len(w.threads) > threadsPerState*w.limit || w.work > slotsPerState*w.limit {
		w.large = true
	}
	if w.large {
		return set
	}
	inst := &w.prog.Inst[t.pc]
	to := func(t thread, pc uint32) {
		t.pc = pc
		set = w.follow(set, t, at)
	}
	switch inst.Op {
	case syntax.InstAlt, syntax.InstAltMatch:
		to(t, inst.Out)
		to(t, inst.Arg)
	case syntax.InstNop:
		to(t, inst.Out)
	case syntax.InstCapture:
		if inst.Arg%2 == 0 {
			w.enter(t, int(inst.Arg/2), 0, func(t thread) { to(t, inst.Out) })
		} else {
			to(w.leave(t, int(inst.Arg/2)), inst.Out)
		}
	case syntax.InstEmptyWidth:
		if syntax.EmptyOp(inst.Arg)&^at == 0 {
			to(t, inst.Out)
		} else {
			set = append(set, id)
		}
	case syntax.InstFail:
	default:
		set = append(set, id)
	}
	return set
}

// lands reports whether the path may end here with a result in the set.
func (w *preimage) lands(t thread) bool {
	t = w.leave(t, Whole)
	for i := range t.slots {
		s := t.slots[i]
		if s.phase == passed {
			return false
		}
		if w.copies[i].Group == Anything || s.phase == waiting { // what took no part is empty
			states, _ := w.begins(t, i)
			if w.copies[i].Group != Anything {
				// The states are those in which an empty copy begins and ends.
				for _, q := range states {
					if w.lands(w.with(t, i, slot{phase: closed, here: int32(q)})) {
						return true
					}
				}
				return false
			}
			continue
		}
		if s.guessed {
			before := t
			states, known := w.begins(before, i)
			if !known || !slices.Contains(states, int(s.begin)) {
				return false
			}
		}
	}
	last := len(w.copies)
	var at []int
	if last > 0 && w.copies[last-1].Group == Anything {
		from, _ := w.begins(t, last-1)
		for _, q := range from {
			at = append(at, w.reached(q)...)
		}
		at = w.alive(at, w.texts[last])
	} else if last > 0 {
		at = w.alive([]int{int(t.slots[last-1].here)}, w.texts[last])
	} else {
		at = w.alive([]int{w.into.start()}, w.texts[0])
	}
	return slices.ContainsFunc(at, func(q int) bool { return w.into.of.Accepts(w.into.states[q][0]) })
}

// step gives the threads to which those of a state move by a letter of a kind: bare, or within
// an encoded character.
func (w *preimage) step(set []int32, kind int, within bool) []int32 {
	letters, at := w.bare, kind
	if within {
		letters, at = w.within, len(w.bare.first)+kind
	}
	var one, all []int32
	for _, id := range set {
		if w.moves[id] == nil {
			w.moves[id] = make([][]int32, len(w.bare.first)+len(w.within.first))
		}
		if w.moves[id][at] == nil {
			w.moves[id][at] = w.move(w.threads[id], letters.first[kind], within)
		}
		switch to := w.moves[id][at]; {
		case len(to) == 0:
		case len(one) == 0:
			one = to
		default:
			all = append(all, to...)
		}
	}
	if len(all) == 0 {
		return one
	}
	all = append(all, one...)
	slices.Sort(all)
	return slices.Compact(all)
}

// move gives the threads to which one moves by a byte, in order; not nil.
func (w *preimage) move(t thread, c byte, within bool) []int32 {
	inst := &w.prog.Inst[t.pc]
	if w.large || inst.Op == syntax.InstMatch || inst.Op == syntax.InstEmptyWidth || !inst.MatchRune(rune(c)) {
		return []int32{}
	}
	moved := []thread{{pc: inst.Out, slots: t.slots}}
	w.work += 1 + len(t.slots)
	for i, s := range t.slots {
		if s.phase != open {
			continue
		}
		var to []int
		switch changes := w.copies[i].Change != nil; {
		case !changes:
			to = []int{w.into.step(int(s.here), c)}
		case within: // of a character that has begun
			continue
		case c == '%':
			to = w.characters(int(s.here), w.copies[i].Become)
		default:
			to = []int{w.into.step(int(s.here), w.copies[i].Change(c))}
		}
		var branches []thread
		for _, m := range moved {
			for _, q := range to {
				if q != 0 {
					s := m.slots[i]
					s.here = int32(q)
					branches = append(branches, w.with(m, i, s))
				}
			}
		}
		moved = branches
	}
	w.round++
	next := []int32{}
	for _, m := range moved {
		next = w.follow(next, m, 0)
	}
	slices.Sort(next)
	return next
}

// unsaid is how many bytes of an encoded character are left behind its %: the next one
// says it.
const unsaid = 1 << 7

// after gives how many bytes of an encoded character are left behind c, of which left
// were before it.
func after(left int, c byte) int {
	switch {
	case left == 0 && c == '%':
		return unsaid
	case left == 0:
		return 0
	case left < unsaid:
		return left - 1
	}
	switch c {
	case '!': // a byte that is a character of its own
		return 2
	case 'C', 'D':
		return 1 + len("%XX")
	case 'E':
		return 1 + 2*len("%XX")
	case 'F':
		return 1 + 3*len("%XX")
	}
	return 1
}

// explore makes the automaton: a state is a set of threads, and, where a copy changes
// letters, how many bytes of an encoded character are left.
func (w *preimage) explore() (*Lang, error) {
	first := thread{pc: uint32(w.prog.Start), slots: make([]slot, len(w.copies))}
	var start []int32
	w.round++
	w.enter(first, Whole, 0, func(t thread) {
		start = w.follow(start, t, syntax.EmptyBeginText|syntax.EmptyBeginLine)
	})
	slices.Sort(start)
	type state struct {
		set  []int32
		left int
	}
	ids := map[string]uint16{}
	states := []state{{}}
	threads := 0
	var key []byte
	l := &Lang{classes: len(PathBytes) + 1, next: make([]uint16, len(PathBytes)+1)}
	number := func(set []int32, left int) uint16 {
		if len(set) == 0 {
			return 0
		}
		key = append(key[:0], byte(left))
		for _, id := range set {
			key = binary.LittleEndian.AppendUint32(key, uint32(id))
		}
		id, ok := ids[string(key)]
		if !ok {
			id = uint16(len(states))
			ids[string(key)] = id
			states = append(states, state{set, left})
			threads += len(set)
		}
		return id
	}
	if number(start, 0) == 0 {
		states = append(states, state{})
	}
	changes := slices.ContainsFunc(w.copies, func(c Copy) bool { return c.Change != nil })
	for i := 1; i < len(states); i++ {
		if len(states) > min(w.limit, math.MaxUint16-2) || threads > threadsPerState*w.limit || w.large {
			return nil, fmt.Errorf("%w: more than %d", ErrLarge, w.limit)
		}
		letters, within := w.bare, states[i].left > 0
		if within {
			letters = w.within
		}
		to := make([]uint16, len(letters.first))
		for kind, c := range letters.first {
			if w.large {
				break
			}
			left := 0
			if changes {
				left = after(states[i].left, c)
			}
			to[kind] = number(w.step(states[i].set, kind, within), left)
		}
		for _, kind := range letters.of {
			l.next = append(l.next, to[kind])
		}
		l.next = append(l.next, 0) // of what is in no path
	}
	for i := range l.class {
		l.class[i] = uint8(len(PathBytes))
	}
	for j := range len(PathBytes) {
		l.class[PathBytes[j]] = uint8(j)
	}
	if w.large {
		return nil, fmt.Errorf("%w: more than %d", ErrLarge, w.limit)
	}
	const end, begin = syntax.EmptyEndText | syntax.EmptyEndLine, syntax.EmptyBeginText | syntax.EmptyBeginLine
	for i, s := range states {
		l.accept = append(l.accept, slices.ContainsFunc(s.set, func(id int32) bool {
			if i == 1 {
				return w.accepts(id, begin|end)
			}
			accepts, known := w.ends[id]
			if !known {
				accepts = w.accepts(id, end)
				w.ends[id] = accepts
			}
			return accepts
		}))
	}
	return minimise(l), nil
}

// accepts reports whether a text may end where a thread is.
func (w *preimage) accepts(id int32, at syntax.EmptyOp) bool {
	w.round++
	return slices.ContainsFunc(w.follow(nil, w.threads[id], at), func(id int32) bool {
		t := w.threads[id]
		return w.prog.Inst[t.pc].Op == syntax.InstMatch && w.lands(t)
	})
}

// alike sorts the letters that are not told apart by the program, nor by the set, to which a
// copy may hand on another letter. Within an encoded character nothing is handed on where
// letters are changed, but some tell how long it is.
func (w *preimage) alike() (bare, within kinds) {
	b := &builder{prog: w.prog, Lang: &Lang{}}
	b.findClasses()
	classes := classesOf(w.into.of)
	read := func(key []byte, c byte) []byte { // what the set makes of a letter, runs of slashes being one
		if c == '/' {
			return append(key, c)
		}
		return classes.key(key, c)
	}
	bare = sortLetters(func(c byte) string {
		key := read([]byte{b.class[c]}, c)
		for i := range w.copies {
			if change := w.copies[i].Change; change != nil {
				key = read(key, change(c))
			}
		}
		if c == '%' { // it begins a character
			key = append(key, c)
		}
		return string(key)
	})
	within = sortLetters(func(c byte) string {
		key := []byte{b.class[c], byte(after(unsaid, c))}
		if slices.ContainsFunc(w.copies, func(c Copy) bool { return c.Change == nil }) {
			key = read(key, c)
		}
		return string(key)
	})
	return bare, within
}

// sortLetters puts the letters together that have the same key.
func sortLetters(key func(c byte) string) kinds {
	k, known := kinds{of: make([]int, len(PathBytes))}, map[string]int{}
	for i := range len(PathBytes) {
		of := key(PathBytes[i])
		if _, ok := known[of]; !ok {
			known[of] = len(k.first)
			k.first = append(k.first, PathBytes[i])
		}
		k.of[i] = known[of]
	}
	return k
}

// Source is the pattern's translation: an expression over the form of
// canonical.Marked, with the captures in the order of Names. It fails where the
// pattern looks at word boundaries.
func (p *Pattern) Source() (string, error) {
	if p.boundary != nil {
		return "", fmt.Errorf(`%s looks at word boundaries (\b)`, p.text)
	}
	p.translate()
	return p.source, nil
}

// Prefix is literal text, in the form of canonical.Marked, that every path
// begins with which the pattern takes; "" where letters compare without case.
func (p *Pattern) Prefix() string {
	if p.fold {
		return ""
	}
	return canonical.Marked(p.prefix)
}

// Begin is a text with which the key of canonical.Fold begins of every path that the pattern
// takes, whether letters compare with their case or without.
func (p *Pattern) Begin() string {
	prefix := p.prefix
	if p.fold && p.parts != nil {
		prefix, _ = partEnds(p.parts)
	}
	return canonical.Fold(canonical.Unmarked(prefix))
}

// Suffix is literal text, in the form of canonical.Marked, that every path ends
// with which the pattern takes; "" where letters compare without case.
func (p *Pattern) Suffix() string {
	if p.fold {
		return ""
	}
	return canonical.Marked(p.suffix)
}

// Least is how often a byte stands at least in what the pattern takes outside the named
// captures; of 0 stands for any byte, so that it is the length of the shortest text. ok is
// false where that is not known: a capture can take part more than once.
func (p *Pattern) Least(captures []string, of byte) (n int, ok bool) {
	source, err := p.Source()
	if err != nil {
		return 0, false
	}
	tree, err := syntax.Parse(source, syntax.Perl|syntax.DotNL)
	if err != nil {
		return 0, false
	}
	free := map[int]bool{}
	for i, name := range p.names {
		if slices.Contains(captures, name) {
			free[i+1] = true
		}
	}
	return least(tree, free, of, false)
}

func least(tree *syntax.Regexp, free map[int]bool, of byte, again bool) (n int, ok bool) {
	switch tree.Op {
	case syntax.OpLiteral:
		for _, c := range tree.Rune {
			if of == 0 || c == rune(of) {
				n++
			}
		}
		return n, true
	case syntax.OpCharClass, syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		if of == 0 {
			n = 1
		}
		return n, true
	case syntax.OpCapture:
		if free[tree.Cap] {
			return 0, !again
		}
		return least(tree.Sub[0], free, of, again)
	case syntax.OpConcat, syntax.OpAlternate:
		for i, sub := range tree.Sub {
			m, ok := least(sub, free, of, again)
			if !ok {
				return 0, false
			}
			if tree.Op == syntax.OpConcat || i == 0 {
				n += m
			} else {
				n = min(n, m)
			}
		}
		return n, true
	case syntax.OpStar, syntax.OpQuest:
		_, ok := least(tree.Sub[0], free, of, again || tree.Op == syntax.OpStar)
		return 0, ok
	case syntax.OpPlus, syntax.OpRepeat:
		m, ok := least(tree.Sub[0], free, of, true)
		if tree.Op == syntax.OpRepeat {
			m *= tree.Min
		}
		return m, ok
	}
	return 0, true
}
