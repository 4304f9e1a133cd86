package pattern

// Sets of texts that are asked about: machines that read a text byte by byte,
// made of smaller ones, and a search for the shortest text in one.

import (
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"sync"

	"kibitz/core/canonical"
)

// A Machine reads texts byte by byte. State 0 is dead: no text that begins so
// is in the set. Machines that make their states as they go are for one
// goroutine.
type Machine interface {
	Start() int
	Step(state int, b byte) int
	Accepts(state int) bool
	All(state int) bool // whatever follows, the text is in the set
}

func (l *Lang) Start() int             { return 1 }
func (l *Lang) Accepts(state int) bool { return l.accept[state] }
func (l *Lang) All(state int) bool     { return l.all[state] }

// Step reads one byte.
func (l *Lang) Step(state int, b byte) int {
	if b >= 128 {
		return 0
	}
	return int(l.next[state*l.classes+int(l.class[b])])
}

// Key gives a text that only the same sets share.
func (l *Lang) Key() string {
	b := append([]byte{byte(l.classes)}, l.class[:]...)
	for _, next := range l.next {
		b = binary.LittleEndian.AppendUint16(b, next)
	}
	for _, accepts := range l.accept {
		b = strconv.AppendBool(b, accepts)
	}
	sum := sha256.Sum256(b)
	return string(sum[:])
}

// Size is the number of states.
func (l *Lang) Size() int { return len(l.accept) }

// product runs machines side by side. A text is in the set if it is in all of
// them, or, with any, in one.
type product struct {
	parts  []Machine
	any    bool
	ids    map[string]int
	states [][]int32
	all    []bool
}

// And is the set of the texts that are in all of the parts.
func And(parts ...Machine) Machine { return combine(parts, false) }

// Or is the set of the texts that are in one of the parts.
func Or(parts ...Machine) Machine { return combine(parts, true) }

func combine(parts []Machine, any bool) Machine {
	if len(parts) == 1 {
		return parts[0]
	}
	p := &product{parts: parts, any: any, ids: map[string]int{}, states: [][]int32{nil}, all: []bool{false}}
	start := make([]int32, len(parts))
	for i, m := range parts {
		start[i] = int32(m.Start())
	}
	p.id(start) // state 1, or dead
	return p
}

func (p *product) Start() int { return min(1, len(p.states)-1) }

// id numbers a tuple of states.
func (p *product) id(tuple []int32) int {
	dead, all := 0, 0
	for i, s := range tuple {
		switch {
		case s == 0:
			dead++
		case p.parts[i].All(int(s)):
			all++
		}
	}
	if p.any && dead == len(tuple) || !p.any && dead > 0 {
		return 0
	}
	var key []byte
	for _, s := range tuple {
		key = binary.LittleEndian.AppendUint32(key, uint32(s))
	}
	if id, ok := p.ids[string(key)]; ok {
		return id
	}
	p.states = append(p.states, tuple)
	p.all = append(p.all, p.any && all > 0 || !p.any && all == len(tuple))
	id := len(p.states) - 1
	p.ids[string(key)] = id
	return id
}

func (p *product) Step(state int, b byte) int {
	if p.all[state] {
		return state
	}
	next := make([]int32, len(p.parts))
	for i, m := range p.parts {
		if s := p.states[state][i]; s != 0 {
			next[i] = int32(m.Step(int(s), b))
		}
		if next[i] == 0 && !p.any {
			return 0
		}
	}
	return p.id(next)
}

func (p *product) Accepts(state int) bool {
	if state == 0 {
		return false
	}
	for i, m := range p.parts {
		s := int(p.states[state][i])
		if (s != 0 && m.Accepts(s)) == p.any {
			return p.any
		}
	}
	return !p.any
}

func (p *product) All(state int) bool { return p.all[state] }

// not is the complement. Its state is one more than that of what it turns over,
// whose dead state takes everything.
type not struct{ of Machine }

// Not is the set of the texts that are not in m.
func Not(m Machine) Machine { return not{m} }

func (n not) turn(s int) int {
	if s != 0 && n.of.All(s) {
		return 0
	}
	return s + 1
}

func (n not) Start() int             { return n.turn(n.of.Start()) }
func (n not) All(state int) bool     { return state == 1 }
func (n not) Accepts(state int) bool { return state == 1 || state > 1 && !n.of.Accepts(state-1) }
func (n not) Step(state int, b byte) int {
	if state == 1 {
		return 1
	}
	return n.turn(n.of.Step(state-1, b))
}

// words is a finite set of texts, as the runs of a sorted list that share a
// beginning.
type words struct {
	list  []string
	ids   map[run]int
	runs  []run
	class [128]uint8 // as that of a Lang
}

type run struct{ lo, hi, depth int32 }

// Words is the set of the listed texts.
func Words(list []string) Machine {
	list = slices.Clone(list)
	sort.Strings(list)
	w := &words{list: slices.Compact(list), ids: map[run]int{}, runs: []run{{}}}
	w.id(run{0, int32(len(w.list)), 0})
	last := uint8(0)
	for _, word := range w.list {
		for i := range len(word) {
			if c := word[i] & 127; w.class[c] == 0 {
				last++
				w.class[c] = last
			}
		}
	}
	return w
}

func (w *words) id(r run) int {
	if r.lo == r.hi {
		return 0
	}
	if id, ok := w.ids[r]; ok {
		return id
	}
	w.runs = append(w.runs, r)
	w.ids[r] = len(w.runs) - 1
	return len(w.runs) - 1
}

func (w *words) Start() int         { return min(1, len(w.runs)-1) }
func (w *words) All(state int) bool { return false }

func (w *words) Accepts(state int) bool {
	r := w.runs[state]
	return r.lo < r.hi && len(w.list[r.lo]) == int(r.depth)
}

func (w *words) Step(state int, b byte) int {
	r := w.runs[state]
	part := w.list[r.lo:r.hi]
	at := func(c int) int32 {
		return r.lo + int32(sort.Search(len(part), func(i int) bool {
			return len(part[i]) > int(r.depth) && int(part[i][r.depth]) >= c
		}))
	}
	return w.id(run{at(int(b)), at(int(b) + 1), r.depth + 1})
}

// Matches reports whether a text is in a set.
func Matches(m Machine, text string) bool {
	s := m.Start()
	for i := 0; i < len(text) && s != 0; i++ {
		if m.All(s) {
			return true
		}
		s = m.Step(s, text[i])
	}
	return s != 0 && m.Accepts(s)
}

// Paths is the set of all canonical paths, in the form of canonical.Marked; with
// keepSlashes there are empty segments, too.
func Paths(keepSlashes bool) *Lang {
	if keepSlashes {
		return keptPaths()
	}
	return mergedPaths()
}

var (
	mergedPaths = sync.OnceValue(func() *Lang { return mustCompile("(?:/|(?:/" + someSegment + ")+/?)") })
	keptPaths   = sync.OnceValue(func() *Lang { return mustCompile("(?:/|/" + someSegment + ")+") })

	noDot       = "(?:" + spellings([]rune{1, '.' - 1, '/' + 1, 0x10FFFF}, false) + ")"
	noSlash     = "(?:" + spellings([]rune{1, '/' - 1, '/' + 1, 0x10FFFF}, false) + ")"
	someSegment = "(?:" + noDot + noSlash + `*|\.` + noDot + noSlash + `*|\.\.` + noSlash + "+)"
)

// Hosts is the set of all host names in lower case.
var Hosts = sync.OnceValue(func() *Lang {
	const label = `[a-z0-9_](?:[a-z0-9_-]*[a-z0-9_])?`
	return mustCompile(label + `(?:\.` + label + `)*`)
})

// The texts that parts of a request can be. The byte 127 stands in them for all characters
// beyond ASCII.
var (
	Methods      = sync.OnceValue(func() *Lang { return mustCompile(`[A-Z-]+`) })
	Queries      = sync.OnceValue(func() *Lang { return mustCompile(`[!$-&(-;=?-~]+`) })                        // as they are sent (WHATWG URL, special-query percent-encode set); none is not an empty one
	Parameters   = sync.OnceValue(func() *Lang { return mustCompile(`[\x00-\x7f]*`) })                          // of a query, decoded
	HeaderValues = sync.OnceValue(func() *Lang { return mustCompile(`(?:[!-\x7f](?:[\t -\x7f]*[!-\x7f])?)?`) }) // RFC 9110, 5.5
	CookieValues = sync.OnceValue(func() *Lang { return mustCompile(`(?:[\t -:<-\x7f]*[!-:<-\x7f])?`) })        // as far as a Cookie header field can have them
)

func mustCompile(source string) *Lang {
	l, err := compile(source)
	if err != nil {
		panic(err)
	}
	return l
}

// Regexp is the set of the texts that an expression over plain text takes. It
// fails where the expression tells characters beyond ASCII apart, where it looks
// at word boundaries, and where it needs too many states.
func Regexp(source string) (*Lang, error) {
	return expressions.get(source, func() (*Lang, error) {
		tree, err := parseRegexp(source, false, 0)
		if err != nil {
			return nil, err
		}
		if hasBoundary(tree) {
			return nil, errors.New(`it looks at word boundaries (\b)`)
		}
		return compileText(source)
	})
}

// Folder is the set of the canonical folder f, with and without its slash, and
// of all below it.
func Folder(f string, fold bool) *Lang {
	of := folder{f, fold}
	l, _ := folders.get(of, func() (*Lang, error) { return of.compile(), nil })
	return l
}

// Text is the set of the canonical path, or of all that differ from it in case alone.
func Text(path string, fold bool) (*Lang, error) {
	source := literal(canonical.Marked(path), fold, false)
	return texts.get(source, func() (*Lang, error) { return compile(source) })
}

// Sets that were compiled: one rulebook is held against many that differ little from it, and
// each of them has the same.
var (
	folders     compiledSets[folder]
	expressions compiledSets[string]
	texts       compiledSets[string]
)

type compiledSets[K comparable] struct {
	sync.Mutex
	known map[K]*Lang
	steps int // of all of them
}

// maxSteps is how many steps the sets have that are kept: of one kind some megabytes.
const maxSteps = 1 << 21

// get gives the set of a key, which make compiles where it is not known.
func (c *compiledSets[K]) get(key K, make func() (*Lang, error)) (*Lang, error) {
	c.Lock()
	l := c.known[key]
	c.Unlock()
	if l != nil {
		return l, nil
	}
	l, err := make()
	if err != nil {
		return nil, err
	}
	c.Lock()
	defer c.Unlock()
	if c.steps += len(l.next); c.known == nil || c.steps > maxSteps {
		c.known, c.steps = map[K]*Lang{}, len(l.next)
	}
	c.known[key] = l
	return l, nil
}

type folder struct {
	path string
	fold bool
}

func (of folder) compile() *Lang {
	f, fold := of.path, of.fold
	l, err := compile(literal(canonical.Marked(f), fold, false) + `(?:/.*)?`)
	if err != nil {
		return mustCompile(regexp.QuoteMeta(canonical.Marked(f)) + `(?:/.*)?`)
	}
	return l
}

// FolderSource is Folder as an expression, with what is below the folder as its one
// capture.
func FolderSource(f string, fold bool) string {
	return literal(canonical.Marked(f), fold, false) + `(?:/(.*))?`
}

// ErrLarge is wrapped by what Find and Solid give where a limit is passed.
var ErrLarge = errors.New("too many states")

// The alphabets of what is asked about, the most readable bytes first.
const (
	PathBytes = "aexbcdfghijklmnopqrstuvwyz0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZ/-._~!$&'()*+,;=:@%"
	HostBytes = "abcdefghijklmnopqrstuvwxyz0123456789.-_"
	TextBytes = "abcdefghijklmnopqrstuvwxyz0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZ -._/:;,=()+*!@#$%&'\"<>?[]\\^`{|}~\x7f\t\n\r\x00\x01\x02\x03\x04\x05\x06\x07\b\v\f\x0e\x0f\x10\x11\x12\x13\x14\x15\x16\x17\x18\x19\x1a\x1b\x1c\x1d\x1e\x1f"
)

// Find gives the shortest text over an alphabet that is in a set; ok is false
// if there is none. It fails with ErrLarge after limit states.
func Find(m Machine, alphabet string, limit int) (text string, ok bool, err error) {
	found, err := FindSome(m, alphabet, limit, 1)
	if len(found) == 0 {
		return "", false, err
	}
	return found[0], true, nil
}

// FindSome is Find for up to n texts that end in different states.
func FindSome(m Machine, alphabet string, limit, n int) ([]string, error) {
	type step struct {
		from int32
		by   byte
	}
	var out []string
	states := []int{m.Start()}
	steps := []step{{-1, 0}}
	seen := map[int]bool{states[0]: true}
	if states[0] == 0 {
		return nil, nil
	}
	letters := joint(m, alphabet)
	for i := 0; i < len(states); i++ {
		if m.Accepts(states[i]) {
			var b []byte
			for at := int32(i); steps[at].from >= 0; at = steps[at].from {
				b = append(b, steps[at].by)
			}
			slices.Reverse(b)
			if out = append(out, string(b)); len(out) == n {
				return out, nil
			}
		}
		if len(states) > limit || len(states) > math.MaxInt32 {
			return out, fmt.Errorf("%w: more than %d", ErrLarge, limit)
		}
		for _, c := range letters {
			next := m.Step(states[i], c)
			if next == 0 || seen[next] {
				continue
			}
			seen[next] = true
			states = append(states, next)
			steps = append(steps, step{int32(i), c})
		}
	}
	return out, nil
}

// joint gives one byte of each class that a machine tells apart.
func joint(m Machine, alphabet string) []byte {
	classes := classesOf(m)
	var out []byte
	seen := map[string]bool{}
	for i := range len(alphabet) {
		c := alphabet[i]
		if key := string(classes.key(nil, c)); !seen[key] {
			seen[key] = true
			out = append(out, c)
		}
	}
	return out
}

// letterClasses are those of the automata that a machine is made of: letters that are in one
// class of each of them are not told apart.
type letterClasses []*[128]uint8

// key adds the classes of a letter.
func (classes letterClasses) key(key []byte, c byte) []byte {
	for _, class := range classes {
		key = append(key, class[c&127])
	}
	return key
}

// eachLetter are classes of one letter each.
var eachLetter = func() (all [128]uint8) {
	for c := range all {
		all[c] = uint8(c)
	}
	return all
}()

// classesOf gives the classes of a machine.
func classesOf(m Machine) letterClasses {
	switch m := m.(type) {
	case *Lang:
		return letterClasses{&m.class}
	case *words:
		return letterClasses{&m.class}
	case not:
		return classesOf(m.of)
	case *product:
		var all letterClasses
		for _, p := range m.parts {
			all = append(all, classesOf(p)...)
		}
		return all
	}
	return letterClasses{&eachLetter}
}

// Solid makes a minimised automaton of a machine over an alphabet. It fails with
// ErrLarge where it has more than limit states.
func Solid(m Machine, alphabet string, limit int) (*Lang, error) {
	limit = min(limit, math.MaxUint16-2)
	ids := map[int]uint16{0: 0}
	states := []int{0}
	number := func(s int) uint16 {
		id, ok := ids[s]
		if !ok {
			id = uint16(len(states))
			ids[s] = id
			states = append(states, s)
		}
		return id
	}
	if s := m.Start(); s == 0 {
		states = append(states, 0)
	} else {
		number(s)
	}
	letters := joint(m, alphabet)
	classes := len(letters) + 1 // the last is for what is not in the alphabet
	l := &Lang{classes: classes, next: make([]uint16, classes)}
	l.setClasses(m, alphabet, letters)
	for i := 1; i < len(states); i++ {
		if len(states) > limit {
			return nil, fmt.Errorf("%w: more than %d", ErrLarge, limit)
		}
		for _, c := range letters {
			next := 0
			if states[i] != 0 {
				next = m.Step(states[i], c)
			}
			l.next = append(l.next, number(next))
		}
		l.next = append(l.next, 0)
	}
	for _, s := range states {
		l.accept = append(l.accept, s != 0 && m.Accepts(s))
	}
	return minimise(l), nil
}

// setClasses gives each byte of the alphabet the class of the letter that
// stands for it, and every other byte the last class.
func (l *Lang) setClasses(m Machine, alphabet string, letters []byte) {
	for i := range l.class {
		l.class[i] = uint8(l.classes - 1)
	}
	classes := classesOf(m)
	for i := range len(alphabet) {
		c := alphabet[i]
		for id, letter := range letters {
			if string(classes.key(nil, letter)) == string(classes.key(nil, c)) {
				l.class[c] = uint8(id)
				break
			}
		}
	}
}

// Signs gives a text for every combination of sets that some text within an
// outer one is in. complete is false where limit was passed.
func Signs(within Machine, of []Machine, alphabet string, limit int) (texts []string, complete bool) {
	// A state is that of the outer machine and those of all others, side by side.
	size := 1 + len(of)
	states := make([]int32, size, 16*size)
	states[0] = int32(within.Start())
	for i, m := range of {
		states[1+i] = int32(m.Start())
	}
	type step struct {
		from int
		by   byte
	}
	steps := []step{{}} // the one that led to each state
	seen, key := map[string]bool{}, []byte{}
	isNew := func(state []int32) bool {
		key = key[:0]
		for _, s := range state {
			key = binary.LittleEndian.AppendUint32(key, uint32(s))
		}
		if seen[string(key)] {
			return false
		}
		seen[string(key)] = true
		return true
	}
	isNew(states)
	signs, sign := map[string]bool{}, make([]byte, len(of))
	letters := joint(And(append([]Machine{within}, of...)...), alphabet)
	next := make([]int32, size)
	for i := 0; i < len(steps); i++ {
		here := states[i*size : (i+1)*size]
		if here[0] != 0 && within.Accepts(int(here[0])) {
			for j, m := range of {
				sign[j] = 0
				if s := int(here[1+j]); s != 0 && m.Accepts(s) {
					sign[j] = 1
				}
			}
			if !signs[string(sign)] {
				signs[string(sign)] = true
				var text []byte
				for at := i; at > 0; at = steps[at].from {
					text = append(text, steps[at].by)
				}
				slices.Reverse(text)
				texts = append(texts, string(text))
				if len(of) < 30 && len(signs) == 1<<len(of) { // there are no more
					return texts, true
				}
			}
		}
		if len(steps) > limit {
			return texts, false
		}
		for k := range len(letters) {
			c := letters[k]
			outer := within.Step(int(here[0]), c)
			if outer == 0 {
				continue
			}
			next[0] = int32(outer)
			for j, m := range of {
				next[1+j] = 0
				if s := int(here[1+j]); s != 0 {
					next[1+j] = int32(m.Step(s, c))
				}
			}
			if isNew(next) {
				states, steps = append(states, next...), append(steps, step{i, c})
				here = states[i*size : (i+1)*size]
			}
		}
	}
	return texts, true
}

// Any reports whether there is a text in the set.
func (l *Lang) Any() bool { return slices.Contains(l.accept, true) }

// Meet gives the shortest text that two sets of paths share, and whether there
// is one.
func Meet(a, b *Lang) (text string, ok bool) {
	// One byte of each pair of classes will do.
	var letters []byte
	var known [256]uint64 // classes of b, by class of a; those from 64 on are all kept
	for i := range len(PathBytes) {
		c := PathBytes[i]
		x, y := a.class[c], b.class[c]
		if y < 64 && known[x]>>y&1 != 0 {
			continue
		}
		known[x] |= 1 << (y & 63)
		letters = append(letters, c)
	}
	n := len(b.accept)
	seen := make([]uint64, (len(a.accept)*n+63)/64)
	type step struct {
		at, from int32
		by       byte
	}
	queue := []step{{int32(n + 1), -1, 0}}
	for i := 0; i < len(queue); i++ {
		p, q := int(queue[i].at)/n, int(queue[i].at)%n
		if a.accept[p] && b.accept[q] {
			var out []byte
			for s := queue[i]; s.from >= 0; s = queue[s.from] {
				out = append(out, s.by)
			}
			slices.Reverse(out)
			return string(out), true
		}
		for _, c := range letters {
			x := int(a.next[p*a.classes+int(a.class[c])])
			y := int(b.next[q*b.classes+int(b.class[c])])
			if x == 0 || y == 0 {
				continue
			}
			if next := x*n + y; seen[next/64]>>(next%64)&1 == 0 {
				seen[next/64] |= 1 << (next % 64)
				queue = append(queue, step{int32(next), int32(i), c})
			}
		}
	}
	return "", false
}
