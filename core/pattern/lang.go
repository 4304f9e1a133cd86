package pattern

// Automata: a translated pattern as a table that takes one look for each byte.

import (
	"encoding/binary"
	"errors"
	"fmt"
	"regexp/syntax"
	"slices"
	"unicode"
)

// MaxStates is how large the automaton of one pattern may grow. It counts
// states, so that a rulebook is treated the same on every machine.
const MaxStates = 2000

// A Lang is a regular set of ASCII texts, as a minimised automaton. It never
// changes. State 0 is dead, state 1 the start.
type Lang struct {
	class   [128]uint8 // bytes that no state tells apart share a class
	classes int
	next    []uint16 // state × class
	accept  []bool
	all     []bool // whatever follows, the text is in the set
}

// Match reports whether s is in the set.
func (l *Lang) Match(s string) bool {
	state, next, classes := 1, l.next, l.classes
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c >= 128 {
			return false
		}
		state = int(next[state*classes+int(l.class[c])])
		if state == 0 {
			return false
		}
		if l.all[state] {
			return true
		}
	}
	return l.accept[state]
}

// compile makes the automaton of an expression over ASCII text.
func compile(source string) (*Lang, error) {
	prog, err := program(source)
	if err != nil {
		return nil, err
	}
	return determine(prog)
}

func program(source string) (*syntax.Prog, error) {
	tree, err := syntax.Parse(source, syntax.Perl|syntax.DotNL)
	if err != nil {
		return nil, err
	}
	return syntax.Compile(tree.Simplify())
}

// compileText is compile for an expression over any text, in which the byte 127
// stands for all characters beyond ASCII. It fails where those are told apart.
func compileText(source string) (*Lang, error) {
	prog, err := program(source)
	if err != nil {
		return nil, err
	}
	for i := range prog.Inst {
		inst := &prog.Inst[i]
		if inst.Op != syntax.InstRune || len(inst.Rune) == 1 {
			if inst.Op == syntax.InstRune1 && inst.Rune[0] >= 127 {
				return nil, errors.New("it tells characters beyond ASCII apart")
			}
			continue
		}
		beyond := rune(0)
		for j := 0; j < len(inst.Rune); j += 2 {
			for lo, hi := max(inst.Rune[j], 127), inst.Rune[j+1]; lo <= hi; lo = hi + 1 {
				beyond += hi - lo + 1
			}
		}
		for _, letter := range []rune{0x17F, 0x212A} { // s and k, where case does not count
			if beyond < 1000 && inst.MatchRune(letter) {
				beyond--
			}
		}
		if beyond != 0 && beyond != unicode.MaxRune-126 {
			return nil, errors.New("it tells characters beyond ASCII apart")
		}
	}
	return determine(prog)
}

func determine(prog *syntax.Prog) (*Lang, error) {
	b := &builder{prog: prog, Lang: &Lang{}, seen: map[string]uint16{}, on: make([]uint32, len(prog.Inst))}
	b.findClasses()
	if err := b.explore(); err != nil {
		return nil, err
	}
	return minimise(b.Lang), nil
}

// A builder turns a program of the regexp/syntax package into an automaton:
// a state is the set of the instructions that may come next.
type builder struct {
	*Lang
	prog  *syntax.Prog
	seen  map[string]uint16
	sets  [][]uint32
	on    []uint32 // the mark of the last set that an instruction was put in
	mark  uint32
	bytes []byte // one of each class
}

// findClasses cuts the bytes at every end of a range that the program names.
func (b *builder) findClasses() {
	var cut [129]bool
	for i := range b.prog.Inst {
		inst := &b.prog.Inst[i]
		if inst.Op != syntax.InstRune && inst.Op != syntax.InstRune1 {
			continue
		}
		ranges := inst.Rune
		if len(ranges) == 1 { // one letter, perhaps in either case
			ranges = orbit(ranges[0])
		}
		for j := 0; j < len(ranges); j += 2 {
			lo, hi := ranges[j], ranges[j+1]
			if lo < 128 {
				cut[lo] = true
			}
			if hi < 128 {
				cut[hi+1] = true
			}
		}
	}
	class := 0
	b.bytes = []byte{0}
	for c := 1; c < 128; c++ {
		if cut[c] {
			class++
			b.bytes = append(b.bytes, byte(c))
		}
		b.class[c] = uint8(class)
	}
	b.classes = class + 1
}

func (b *builder) explore() error {
	b.state(nil) // dead
	b.mark++
	b.state(b.follow(nil, uint32(b.prog.Start), syntax.EmptyBeginText|syntax.EmptyBeginLine))
	for s := 1; s < len(b.sets); s++ {
		if s > MaxStates {
			return fmt.Errorf("%w: more than %d", ErrLarge, MaxStates)
		}
		for _, c := range b.bytes {
			b.mark++
			var next []uint32
			for _, pc := range b.sets[s] {
				inst := &b.prog.Inst[pc]
				if inst.Op != syntax.InstMatch && inst.Op != syntax.InstEmptyWidth && inst.MatchRune(rune(c)) {
					next = b.follow(next, inst.Out, 0)
				}
			}
			b.next = append(b.next, b.state(next))
		}
	}
	b.next = append(make([]uint16, b.classes), b.next...)
	return nil
}

// follow adds the instructions that can be reached from pc without a byte;
// those that wait for the end of the text are kept as they are.
func (b *builder) follow(set []uint32, pc uint32, at syntax.EmptyOp) []uint32 {
	if b.on[pc] == b.mark {
		return set
	}
	b.on[pc] = b.mark
	inst := &b.prog.Inst[pc]
	switch inst.Op {
	case syntax.InstAlt, syntax.InstAltMatch:
		return b.follow(b.follow(set, inst.Out, at), inst.Arg, at)
	case syntax.InstCapture, syntax.InstNop:
		return b.follow(set, inst.Out, at)
	case syntax.InstEmptyWidth:
		if syntax.EmptyOp(inst.Arg)&^at == 0 {
			return b.follow(set, inst.Out, at)
		}
	case syntax.InstFail:
		return set
	}
	return append(set, pc)
}

// state gives the number of a set, which is made if it is new.
func (b *builder) state(set []uint32) uint16 {
	slices.Sort(set)
	var key []byte
	for _, pc := range set {
		key = binary.LittleEndian.AppendUint32(key, pc)
	}
	if s, ok := b.seen[string(key)]; ok {
		return s
	}
	s := uint16(len(b.sets))
	b.seen[string(key)] = s
	b.sets = append(b.sets, set)
	b.accept = append(b.accept, b.ends(set, s == 1))
	return s
}

// ends reports whether the text may end in this set.
func (b *builder) ends(set []uint32, start bool) bool {
	at := syntax.EmptyEndText | syntax.EmptyEndLine
	if start {
		at |= syntax.EmptyBeginText | syntax.EmptyBeginLine
	}
	b.mark++
	for _, pc := range set {
		for _, end := range b.follow(nil, pc, at) {
			if b.prog.Inst[end].Op == syntax.InstMatch {
				return true
			}
		}
	}
	return false
}

// minimise joins the states that no text tells apart (Moore), and numbers what
// is left breadth first, so that equal sets have equal tables.
func minimise(l *Lang) *Lang {
	n := len(l.accept)
	block := make([]uint16, n)
	for s, ok := range l.accept {
		if ok {
			block[s] = 1
		}
	}
	for count := 0; ; {
		ids := map[string]uint16{}
		fresh := make([]uint16, n)
		key := make([]byte, 0, 2*l.classes+2)
		for s := range n {
			key = binary.LittleEndian.AppendUint16(key[:0], block[s])
			for c := range l.classes {
				key = binary.LittleEndian.AppendUint16(key, block[l.next[s*l.classes+c]])
			}
			id, ok := ids[string(key)]
			if !ok {
				id = uint16(len(ids))
				ids[string(key)] = id
			}
			fresh[s] = id
		}
		block = fresh
		if len(ids) == count {
			break
		}
		count = len(ids)
	}

	out := &Lang{class: l.class, classes: l.classes}
	number := map[uint16]uint16{block[0]: 0}
	order := []int{0}
	add := func(s int) {
		if _, ok := number[block[s]]; !ok {
			number[block[s]] = uint16(len(order))
			order = append(order, s)
		}
	}
	add(1)
	if len(order) == 1 { // nothing is in the set: the start is dead too
		out.next, out.accept, out.all = make([]uint16, 2*l.classes), make([]bool, 2), make([]bool, 2)
		return out
	}
	for i := 1; i < len(order); i++ {
		for c := range l.classes {
			add(int(l.next[order[i]*l.classes+c]))
		}
	}
	for i, s := range order {
		all := l.accept[s]
		for c := range l.classes {
			to := number[block[l.next[s*l.classes+c]]]
			out.next = append(out.next, to)
			all = all && int(to) == i
		}
		out.accept = append(out.accept, l.accept[s])
		out.all = append(out.all, all)
	}
	return out
}
