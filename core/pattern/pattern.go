// Package pattern is the language of paths and hosts.
//
// A pattern is written in the pathname or hostname syntax of the WHATWG URL
// Pattern standard, or as a regular expression (RE2). It is translated once,
// into one regular expression over canonical text; the automaton that matches,
// the expression that fills captures, and the proofs are all made from that one
// translation, so they cannot disagree. Only the groups of the commonest patterns
// are cut out of a path without it (cut), which tests compare.
package pattern

import (
	"fmt"
	"regexp"
	"regexp/syntax"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"unicode/utf8"

	"kibitz/core/canonical"
)

// A Pattern matches whole paths, or whole hosts. It is safe for use by several
// goroutines.
type Pattern struct {
	text  string
	names []string // of the captures, from the left; "1", "2", … where unnamed
	fold  bool
	parts []part // nil for a regular expression
	host  bool

	doubled int // where // stands in the pattern; -1 nowhere

	cuts []string // the literal texts around the groups, where nothing else must be looked at
	rest bool     // the last of these groups is a wildcard

	source   string         // the translation
	pathOnly string         // the same for paths without encoded characters; "" for hosts
	prefix   string         // literal text that every match begins with
	suffix   string         // literal text that every match ends with
	boundary *regexp.Regexp // the expression as written, where \b keeps it from being translated

	translated sync.Once

	once sync.Once
	lang *Lang
	why  error

	reOnce sync.Once
	re     *regexp.Regexp

	plainOnce sync.Once
	plainRe   *regexp.Regexp
	matches   atomic.Int32 // made with plainRe
}

// eagerness is how often a pattern is matched before its automaton is made:
// most patterns of a large rulebook are never asked that often.
const eagerness = 16

// An Error is a mistake in a pattern, with the byte of its text where it is.
type Error struct {
	Offset  int
	Message string // what is wrong, and what to write instead
}

func (e *Error) Error() string { return e.Message }

func errorf(offset int, format string, args ...any) error {
	return &Error{offset, fmt.Sprintf(format, args...)}
}

// Path reads a path pattern. With fold, letters are compared without case.
func Path(text string, fold bool) (*Pattern, error) {
	p := &Pattern{text: text, fold: fold, doubled: -1}
	parts, err := parse(text, pathSyntax)
	if err != nil {
		return nil, err
	}
	if err := p.setPathParts(parts); err != nil {
		return nil, err
	}
	return p, nil
}

// PathRegexp reads a regular expression over paths, written without its ~.
func PathRegexp(text string, fold bool) (*Pattern, error) {
	p := &Pattern{text: "~" + text, fold: fold}
	tree, err := parseRegexp(text, fold, 1)
	if err != nil {
		return nil, err
	}
	unnamed := 0
	for _, name := range tree.CapNames()[1:] {
		if name == "" {
			unnamed++
			name = fmt.Sprint(unnamed)
		}
		p.names = append(p.names, name)
	}
	if hasBoundary(tree) {
		p.boundary, err = Anchored(tree.String())
		if err != nil {
			return nil, errorf(1, "%v", err)
		}
		return p, nil
	}
	var b, plain strings.Builder
	writeTree(&b, tree, false)
	writeTree(&plain, tree, true)
	p.source, p.pathOnly = b.String(), plain.String()
	if err := p.checkSize(); err != nil {
		return nil, err
	}
	p.prefix, _ = literalEnd(tree, fold, false)
	if fold {
		p.prefix = canonical.Fold(p.prefix)
	} else {
		p.suffix, _ = literalEnd(tree, fold, true)
	}
	return p, nil
}

// Merged gives an error for a pattern that can only take paths with a run of
// slashes, which no path has where such runs are made one.
func (p *Pattern) Merged() error {
	if p.doubled < 0 || p.parts == nil || p.takesSome(Paths(false)) {
		return nil
	}
	return errorf(p.doubled, "the site makes // one slash before its entries are read: write one slash, or `slashes keep` in the site")
}

// String is the pattern as it was written.
func (p *Pattern) String() string { return p.text }

// Names are the names of the captures, from the left; an unnamed one is called
// by its number.
func (p *Pattern) Names() []string { return p.names }

// IsExpression reports whether a pattern is a regular expression as a whole.
func (p *Pattern) IsExpression() bool { return p.parts == nil }

// Literal gives the only text that the pattern matches, if it is just one and
// case counts.
func (p *Pattern) Literal() (string, bool) {
	if p.parts == nil || p.fold {
		return "", false
	}
	switch {
	case len(p.parts) == 0:
		return "", true
	case len(p.parts) == 1 && p.parts[0].kind == text && p.parts[0].modifier == 0:
		return canonical.Unmarked(p.parts[0].text), true
	}
	return "", false
}

// Match reports whether the pattern takes the whole of a canonical path, or of
// a host.
func (p *Pattern) Match(path string) bool {
	encoded := strings.IndexByte(path, '%') >= 0
	if !encoded && !p.fold && (!strings.HasSuffix(path, p.suffix) || !strings.HasPrefix(path, p.prefix)) {
		return false
	}
	if p.cuts != nil && !encoded {
		return p.cut(path, nil)
	}
	if p.boundary != nil {
		decoded, _ := characters(path)
		return p.boundary.Match(decoded)
	}
	if !p.host && !encoded && p.matches.Load() < eagerness {
		p.matches.Add(1)
		return p.plainRegexp().MatchString(path)
	}
	marked := canonical.Marked(path)
	if lang, err := p.Lang(); err == nil {
		return lang.Match(marked)
	}
	return p.regexp().MatchString(marked)
}

// cut finds the groups of a pattern that has cuts, in a path without encoded
// characters, and puts their texts into into, if it is not nil. It reports
// whether the pattern takes the path.
//
// A group is as short as it can be, and the first place where the literal text
// behind it stands will do: a later one leaves less to the next group, and what
// it leaves out holds no slash.
func (p *Pattern) cut(path string, into []string) bool {
	if !strings.HasPrefix(path, p.cuts[0]) {
		return false
	}
	path = path[len(p.cuts[0]):]
	last := len(p.cuts) - 2
	for i, literal := range p.cuts[1:] {
		end := -1
		switch {
		case i < last && path != "":
			end = 1 + strings.Index(path[1:], literal)
		case i == last && strings.HasSuffix(path, literal):
			end = len(path) - len(literal)
		}
		if wild := i == last && p.rest; end < 0 || !wild && (end == 0 || strings.IndexByte(path[:end], '/') >= 0) {
			return false
		}
		if into != nil {
			into[i] = path[:end]
		}
		path = path[end+len(literal):]
	}
	return true
}

// cutsOf gives the literal texts around the groups, if each group but a wildcard
// at the end is one of a segment. Between two that nothing parts it is empty: then the
// first one takes one character.
func (p *Pattern) cutsOf() []string {
	cuts := []string{""}
	for i, part := range p.parts {
		last := i == len(p.parts)-1 || i == len(p.parts)-2 && p.parts[i+1].kind == text
		switch {
		case part.modifier != 0 || part.kind == custom || part.kind == wildcard && !last:
			return nil
		case part.kind == text:
			cuts[len(cuts)-1] += part.text
			continue
		}
		p.rest = part.kind == wildcard
		cuts[len(cuts)-1] += part.prefix
		cuts = append(cuts, part.suffix)
	}
	if len(cuts) == 1 {
		return nil
	}
	return cuts
}

// Lang is the set of texts that the pattern takes, in the form of
// canonical.Marked. The error says why there is none: the pattern needs too
// many states, or looks at word boundaries.
func (p *Pattern) Lang() (*Lang, error) {
	p.once.Do(func() {
		if p.boundary != nil {
			p.why = fmt.Errorf(`%s looks at word boundaries (\b)`, p.text)
			return
		}
		p.translate()
		if p.lang, p.why = compile(p.source); p.why != nil {
			p.why = fmt.Errorf("%s needs more than %d states; the part that grows is %s", p.text, MaxStates, growing(p.text))
		}
	})
	return p.lang, p.why
}

var counted = regexp.MustCompile(`(?:\\.|\[[^]]*\]|\([^()]*\)|[^\\])\{(\d+)(?:,\d*)?\}`)

// growing names the part of a pattern that makes its automaton large: the
// longest counted repetition, or the whole.
func growing(text string) string {
	part, most := text, 0
	for _, m := range counted.FindAllStringSubmatch(text, -1) {
		if n, err := strconv.Atoi(m[1]); err == nil && n > most {
			part, most = m[0], n
		}
	}
	return part
}

// Captures gives the text of each capture, in the order of Names, for a path
// that the pattern takes; a group that took no part is empty. It gives nil
// where the pattern does not take the path. The captures may be put into into, if
// that has room.
func (p *Pattern) Captures(path string, into []string) []string {
	if len(p.names) == 0 {
		if p.Match(path) {
			return []string{}
		}
		return nil
	}
	if p.cuts != nil && strings.IndexByte(path, '%') < 0 {
		if cap(into) < len(p.names) {
			into = make([]string, len(p.names))
		}
		if into = into[:len(p.names)]; p.cut(path, into) {
			return into
		}
		return nil
	}
	if p.boundary != nil {
		return p.boundaryCaptures(path)
	}
	if !p.host && strings.IndexByte(path, '%') < 0 {
		if found := p.plainRegexp().FindStringSubmatch(path); found != nil {
			return found[1:]
		}
		return nil
	}
	found := p.regexp().FindStringSubmatch(canonical.Marked(path))
	if found == nil {
		return nil
	}
	for i, s := range found {
		found[i] = canonical.Unmarked(s)
	}
	return found[1:]
}

// boundaryCaptures matches the decoded path and gives the captures as they
// stand in the encoded one.
func (p *Pattern) boundaryCaptures(path string) []string {
	decoded, at := characters(path)
	found := p.boundary.FindSubmatchIndex(decoded)
	if found == nil {
		return nil
	}
	out := make([]string, len(p.names))
	for i := range out {
		if lo, hi := found[2*i+2], found[2*i+3]; lo >= 0 {
			out[i] = path[at[lo]:at[hi]]
		}
	}
	return out
}

// characters gives the characters of a canonical path, for an expression that
// cannot be translated, and where in the path each byte of them stands. What is a
// character of its own (%2F, %5C, bytes that are no UTF-8) is U+FFFD, as it is in
// the translation.
func characters(path string) (decoded []byte, at []int) {
	marked := canonical.Marked(path)
	opaque := 0
	for i := 0; i < len(marked); i++ {
		from := i - opaque // in path, where no ! stands
		switch {
		case strings.HasPrefix(marked[i:], "%!"):
			for n := range utf8.RuneLen(utf8.RuneError) {
				at = append(at, from+min(n, 1)*3)
			}
			decoded = utf8.AppendRune(decoded, utf8.RuneError)
			opaque++
			i += 3
		case marked[i] == '%':
			at = append(at, from)
			decoded = append(decoded, canonical.Decode(marked[i:i+3])...)
			i += 2
		default:
			at = append(at, from)
			decoded = append(decoded, marked[i])
		}
	}
	return decoded, append(at, len(path))
}

// Escape writes plain text as a pattern that takes just it.
func Escape(text string) string {
	var out strings.Builder
	for _, r := range text {
		if strings.ContainsRune(`\:*?+{}()`, r) {
			out.WriteByte('\\')
		}
		out.WriteRune(r)
	}
	return out.String()
}

// TextRegexp reads a regular expression over plain text, written without its ~,
// that takes the whole of it. A mistake comes as an Error.
func TextRegexp(text string) (*regexp.Regexp, error) {
	tree, err := parseRegexp(text, false, 0)
	if err != nil {
		return nil, err
	}
	re, err := Anchored(tree.String())
	if err != nil {
		return nil, errorf(0, "the expression is too large: repeat less than it does in {…}")
	}
	return re, nil
}

// Anchored compiles an expression that must take the whole of a text; `.` takes every
// character. The expression must be one that can be read by itself.
func Anchored(expression string) (*regexp.Regexp, error) {
	return regexp.Compile(`\A(?s:` + expression + `)\z`)
}

func mustAnchored(expression string) *regexp.Regexp {
	re, err := Anchored(expression)
	if err != nil {
		panic(err) // checkSize has seen to it
	}
	return re
}

func (p *Pattern) regexp() *regexp.Regexp {
	p.translate()
	p.reOnce.Do(func() { p.re = mustAnchored(p.source) })
	return p.re
}

func (p *Pattern) plainRegexp() *regexp.Regexp {
	p.translate()
	p.plainOnce.Do(func() { p.plainRe = mustAnchored(p.pathOnly) })
	return p.plainRe
}

// AnySegment stands in a Route for one segment of whatever text, but not none.
const AnySegment = "\x00"

// The ways in which a Route ends.
type RouteEnd uint8

const (
	Here  RouteEnd = iota // the segments are the whole path
	Below                 // a slash follows, and then anything
	Open                  // Match must decide
)

// A Route is where a pattern lies in a tree of path segments.
type Route struct {
	Segments []string // canonical (folded with fold); AnySegment for `:x`
	End      RouteEnd
}

const maxRoutes = 16

// Routes gives the places where paths can be found that the pattern takes, all of
// which begin with a slash. Those that end Here or Below hold exactly; those that
// are Open are a superset.
func (p *Pattern) Routes() []Route {
	if p.parts == nil {
		return []Route{{splitOpen(p.prefix), Open}}
	}
	variants := []string{""}
	key := func(s string) string {
		s = canonical.Unmarked(s)
		if p.fold {
			s = canonical.Fold(s)
		}
		return s
	}
	extend := func(s string) {
		for i := range variants {
			variants[i] += s
		}
	}
	routes := func(end RouteEnd) []Route {
		var out []Route
		for _, v := range variants {
			switch {
			case end == Open:
				out = append(out, Route{splitOpen(v), end})
			case strings.HasPrefix(v, "/"):
				out = append(out, Route{strings.Split(v[1:], "/"), end})
			case v == "" && end == Below: // `/*`
				out = append(out, Route{nil, end})
			}
		}
		return out
	}
	for i, part := range p.parts {
		switch {
		case part.kind == text && part.modifier == 0:
			extend(key(part.text))
		case part.kind == text && part.modifier == '?' && 2*len(variants) <= maxRoutes:
			with := append([]string{}, variants...)
			extend(key(part.text))
			variants = append(with, variants...)
		case part.modifier == 0 && part.prefix == "/" && part.suffix == "" && part.kind == segment && p.slashFollows(i):
			extend("/" + AnySegment)
		case part.modifier == 0 && part.prefix == "/" && part.suffix == "" && part.kind == wildcard && i == len(p.parts)-1:
			return routes(Below)
		default:
			if part.modifier == 0 || part.modifier == '+' {
				extend(key(part.prefix))
			}
			return routes(Open)
		}
	}
	return routes(Here)
}

// slashFollows reports whether what stands behind part i begins with a slash,
// or is nothing.
func (p *Pattern) slashFollows(i int) bool {
	if i+1 == len(p.parts) {
		return true
	}
	next := p.parts[i+1]
	if next.modifier != 0 {
		return false
	}
	return next.kind == text && strings.HasPrefix(next.text, "/") || strings.HasPrefix(next.prefix, "/")
}

// splitOpen gives the whole segments of a path's beginning.
func splitOpen(prefix string) []string {
	prefix = canonical.Unmarked(strings.TrimPrefix(prefix, "/"))
	i := strings.LastIndexByte(prefix, '/')
	if i < 0 {
		return nil
	}
	return strings.Split(prefix[:i], "/")
}

// setPathParts makes the text of the parts canonical and translates them.
func (p *Pattern) setPathParts(parts []part) error {
	p.parts = parts
	var shape strings.Builder // the pattern with a stand-in for each group
	for i := range parts {
		part := &parts[i]
		for _, s := range []*string{&part.prefix, &part.suffix, &part.text} {
			if part.kind == custom && s == &part.text {
				continue
			}
			t, err := canonical.Text(*s)
			if err != nil {
				return errorf(part.offset, "%v: write a plain %% as %%25", err)
			}
			*s = canonical.Marked(t)
		}
		shape.WriteString(part.prefix)
		if part.kind == text {
			shape.WriteString(part.text)
		} else {
			shape.WriteString(AnySegment)
		}
		shape.WriteString(part.suffix)
	}
	odd := checkShape(shape.String())
	if shape.Len() == 0 {
		return odd
	}
	p.doubled = strings.Index(shape.String(), "//")
	counted := false
	for _, part := range parts {
		if part.kind != text {
			p.names = append(p.names, part.name)
		}
		counted = counted || part.kind == custom && strings.Contains(part.text, "{")
	}
	if counted {
		p.translate()
		if err := p.checkSize(); err != nil {
			return err
		}
	}
	if !p.fold {
		p.prefix, p.suffix = partEnds(parts)
		p.cuts = p.cutsOf()
	}
	if odd != nil && !p.takesSome(Paths(true)) {
		return odd
	}
	return nil
}

// takesSome reports whether the pattern takes one of the texts of a set. Where
// that cannot be told, it may.
func (p *Pattern) takesSome(of *Lang) bool {
	l, err := p.Lang()
	if err != nil {
		return true
	}
	_, some := Meet(l, of)
	return some
}

// translate makes the translations of a pattern's parts, when they are first
// needed: of most patterns of a large rulebook they never are.
func (p *Pattern) translate() {
	p.translated.Do(func() {
		if p.source != "" || p.boundary != nil {
			return // a regular expression is translated when it is read
		}
		var b, plain strings.Builder
		for i, part := range p.parts {
			p.writePart(&b, i, part, false)
			if !p.host {
				p.writePart(&plain, i, part, true)
			}
		}
		p.source, p.pathOnly = b.String(), plain.String()
	})
}

// checkSize refuses an expression that grows too large in translation, by counted
// repetitions or by its own length.
func (p *Pattern) checkSize() error {
	const surely = 16 << 10 // an expression of so many bytes can be compiled
	if len(p.source) < surely && !strings.Contains(p.source, "{") {
		return nil
	}
	if _, err := Anchored(p.source); err != nil {
		return errorf(0, "the expression is too large: repeat less than it does in {…}")
	}
	return nil
}

// checkShape says what in a pattern no canonical path has. A pattern of which one
// variant has it may have others that take paths.
func checkShape(shape string) error {
	if shape == "" {
		return errorf(0, "an empty pattern matches no path: the home page is /")
	}
	if strings.HasPrefix(shape, AnySegment) {
		return nil
	}
	if shape[0] != '/' {
		return errorf(0, "paths begin with a slash: write /%s", strings.ReplaceAll(canonical.Unmarked(shape), AnySegment, "…"))
	}
	for _, s := range strings.Split(shape, "/") {
		if s == "." || s == ".." {
			return errorf(0, "a path never has a %s segment: write the path that it leads to", s)
		}
	}
	return nil
}

// partEnds gives the literal text at both ends of the parts.
func partEnds(parts []part) (prefix, suffix string) {
	for _, part := range parts {
		if part.kind != text || part.modifier != 0 {
			if part.modifier == 0 || part.modifier == '+' {
				prefix += part.prefix
			}
			break
		}
		prefix += part.text
	}
	for i := len(parts) - 1; i >= 0; i-- {
		part := parts[i]
		if part.kind != text || part.modifier != 0 {
			if part.modifier == 0 || part.modifier == '+' {
				suffix = part.suffix + suffix
			}
			break
		}
		suffix = part.text + suffix
	}
	return prefix, suffix
}

// literalEnd is the canonical text that every match of tree begins with, or with
// suffix ends with, and whether that text is all that tree takes.
func literalEnd(tree *syntax.Regexp, fold, suffix bool) (text string, all bool) {
	switch tree.Op {
	case syntax.OpEmptyMatch, syntax.OpBeginText, syntax.OpEndText:
		return "", true
	case syntax.OpLiteral:
		if tree.Flags&syntax.FoldCase != 0 && !fold {
			return "", false
		}
		for _, r := range tree.Rune {
			if r == utf8.RuneError || r == '\\' {
				return "", false
			}
		}
		return canonical.Spell(string(tree.Rune)), true
	case syntax.OpCapture:
		return literalEnd(tree.Sub[0], fold, suffix)
	case syntax.OpConcat:
		for i := range tree.Sub {
			sub := tree.Sub[i]
			if suffix {
				sub = tree.Sub[len(tree.Sub)-1-i]
			}
			piece, whole := literalEnd(sub, fold, suffix)
			if suffix {
				text = piece + text
			} else {
				text += piece
			}
			if !whole {
				return text, false
			}
		}
		return text, true
	}
	return "", false
}
