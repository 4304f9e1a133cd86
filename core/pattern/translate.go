package pattern

// Translation: an expression that speaks of characters becomes one that speaks
// of canonical text, in which most characters are percent-encoded. Each
// character has exactly one spelling and none is the beginning of another (see
// canonical.Marked), so the two match the same paths and capture the same text.

import (
	"fmt"
	"regexp"
	"regexp/syntax"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"kibitz/core/canonical"
)

// parseRegexp reads a regular expression over characters; `.` takes them all.
func parseRegexp(s string, fold bool, offset int) (*syntax.Regexp, error) {
	flags := syntax.Perl | syntax.DotNL
	if fold {
		flags |= syntax.FoldCase
	}
	tree, err := syntax.Parse(s, flags)
	if err != nil {
		if bad, ok := err.(*syntax.Error); ok {
			return nil, errorf(offset+max(0, strings.Index(s, bad.Expr)), "the regular expression cannot be read: %s: %s", bad.Code, bad.Expr)
		}
		return nil, errorf(offset, "the regular expression cannot be read: %v", err)
	}
	if depth(tree) > maxDepth {
		return nil, errorf(offset, "the expression nests groups more than %d deep: write fewer", maxDepth)
	}
	names := tree.CapNames()
	for i, name := range names {
		if name != "" && slices.Contains(names[:i], name) {
			return nil, errorf(offset+max(0, strings.LastIndex(s, "<"+name+">")), "the name %s is used twice: give each group its own", name)
		}
	}
	return tree, nil
}

// maxDepth bounds how deep an expression nests: the translation nests deeper, and
// what is too deep for the regexp package must be told when a pattern is read.
const maxDepth = 200

func depth(tree *syntax.Regexp) int {
	most := 0
	for _, sub := range tree.Sub {
		most = max(most, depth(sub))
	}
	return most + 1
}

func hasBoundary(tree *syntax.Regexp) bool {
	switch tree.Op {
	case syntax.OpWordBoundary, syntax.OpNoWordBoundary, syntax.OpBeginLine, syntax.OpEndLine:
		return true
	}
	for _, sub := range tree.Sub {
		if hasBoundary(sub) {
			return true
		}
	}
	return false
}

// writePart writes part i as an expression over canonical text, in the form
// that the standard gives ("generate a regular expression"). With plain the
// expression is for paths without encoded characters alone, and far shorter.
func (p *Pattern) writePart(b *strings.Builder, i int, part part, plain bool) {
	prefix, suffix := literal(part.prefix, p.fold, plain), literal(part.suffix, p.fold, plain)
	var body string
	switch part.kind {
	case text:
		body = literal(part.text, p.fold, plain)
		if part.modifier != 0 {
			body = "(?:" + body + ")" + string(part.modifier)
		}
		b.WriteString(body)
		return
	case segment:
		body = p.anything(i, true, plain) + "+?"
	case wildcard:
		body = p.anything(i, false, plain) + "*"
	case custom:
		tree, err := parseRegexp(part.text, p.fold, part.offset)
		if err != nil {
			panic(err) // it was read when the pattern was
		}
		var inner strings.Builder
		writeTree(&inner, tree, plain)
		body = inner.String()
	}
	switch {
	case prefix == "" && suffix == "" && (part.modifier == 0 || part.modifier == '?'):
		fmt.Fprintf(b, "(%s)%s", body, modifier(part))
	case prefix == "" && suffix == "":
		fmt.Fprintf(b, "((?:%s)%s)", body, modifier(part))
	case part.modifier == 0 || part.modifier == '?':
		fmt.Fprintf(b, "(?:%s(%s)%s)%s", prefix, body, suffix, modifier(part))
	default:
		again := ""
		if part.modifier == '*' {
			again = "?"
		}
		fmt.Fprintf(b, "(?:%s((?:%s)(?:%s%s(?:%s))*)%s)%s", prefix, body, suffix, prefix, body, suffix, again)
	}
}

func modifier(p part) string {
	if p.modifier == 0 {
		return ""
	}
	return string(p.modifier)
}

// anything is the class of all characters, or of all that are no delimiter.
// Where the end follows, or a byte that no encoded character has in it, a byte
// will do for a character: no split can fall inside one.
func (p *Pattern) anything(i int, inSegment, plain bool) string {
	switch {
	case p.host && inSegment:
		return `[^.]`
	case p.host:
		return `.`
	case plain || p.parts[i].modifier == 0 && p.edgeFollows(i):
		if inSegment {
			return `[^/]`
		}
		return `.`
	case inSegment:
		return segmentCharacter
	}
	return anyCharacter
}

// edgeFollows reports whether what stands behind part i is nothing, or begins
// with a byte that is in no encoded character.
func (p *Pattern) edgeFollows(i int) bool {
	next := p.parts[i].suffix
	switch {
	case next != "":
	case i+1 == len(p.parts):
		return true
	case p.parts[i+1].modifier != 0:
		return false
	case p.parts[i+1].kind == text:
		next = p.parts[i+1].text
	default:
		next = p.parts[i+1].prefix
	}
	if next == "" {
		return false
	}
	if c := next[0]; p.fold {
		return strings.IndexByte("/-._~$&'()*+,;=:@", c) >= 0
	} else {
		return strings.IndexByte("0123456789ABCDEF%!", c) < 0
	}
}

var (
	anyCharacter     = "(?:" + spellings([]rune{0, unicode.MaxRune}, false) + ")"
	segmentCharacter = "(?:" + spellings([]rune{0, '/' - 1, '/' + 1, unicode.MaxRune}, false) + ")"
)

// literal is an expression for canonical text; with fold, for its letters in
// either case.
func literal(s string, fold, plain bool) string {
	if !fold {
		return regexp.QuoteMeta(s)
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		switch {
		case strings.HasPrefix(s[i:], "%!"):
			b.WriteString(s[i : i+4])
			i += 4
		case s[i] == '%':
			end := i + 3
			for !utf8.FullRuneInString(canonical.Decode(s[i:end])) {
				end += 3
			}
			r, _ := utf8.DecodeRuneInString(canonical.Decode(s[i:end]))
			b.WriteString(charset(orbit(r), plain))
			i = end
		default:
			b.WriteString(charset(orbit(rune(s[i])), plain))
			i++
		}
	}
	return b.String()
}

// orbit gives the letters that r is the same as when case does not count, as
// ranges.
func orbit(r rune) []rune {
	out := []rune{r, r}
	for f := unicode.SimpleFold(r); f != r; f = unicode.SimpleFold(f) {
		out = append(out, f, f)
	}
	return out
}

// writeTree writes an expression over characters as one over canonical text.
func writeTree(b *strings.Builder, tree *syntax.Regexp, plain bool) {
	switch tree.Op {
	case syntax.OpNoMatch:
		b.WriteString(`[^\x00-\x{10FFFF}]`)
	case syntax.OpEmptyMatch:
		b.WriteString(`(?:)`)
	case syntax.OpLiteral:
		for _, r := range tree.Rune {
			if tree.Flags&syntax.FoldCase != 0 {
				b.WriteString(charset(orbit(r), plain))
			} else {
				b.WriteString(charset([]rune{r, r}, plain))
			}
		}
	case syntax.OpCharClass:
		b.WriteString(charset(tree.Rune, plain))
	case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		b.WriteString(charset([]rune{0, unicode.MaxRune}, plain))
	case syntax.OpBeginText:
		b.WriteString(`\A`)
	case syntax.OpEndText:
		b.WriteString(`\z`)
	case syntax.OpCapture:
		b.WriteString("(")
		writeTree(b, tree.Sub[0], plain)
		b.WriteString(")")
	case syntax.OpConcat:
		for _, sub := range tree.Sub {
			writeTree(b, sub, plain)
		}
	case syntax.OpAlternate:
		b.WriteString("(?:")
		for i, sub := range tree.Sub {
			if i > 0 {
				b.WriteString("|")
			}
			writeTree(b, sub, plain)
		}
		b.WriteString(")")
	default: // the repetitions
		b.WriteString("(?:")
		writeTree(b, tree.Sub[0], plain)
		b.WriteString(")")
		switch tree.Op {
		case syntax.OpStar:
			b.WriteString("*")
		case syntax.OpPlus:
			b.WriteString("+")
		case syntax.OpQuest:
			b.WriteString("?")
		case syntax.OpRepeat:
			fmt.Fprintf(b, "{%d,", tree.Min)
			if tree.Max >= 0 {
				fmt.Fprint(b, tree.Max)
			}
			b.WriteString("}")
		}
		if tree.Flags&syntax.NonGreedy != 0 {
			b.WriteString("?")
		}
	}
}

// charset is an expression for the canonical spellings of the characters in
// ranges (pairs: from, to); with plain, only for those that stand bare.
func charset(ranges []rune, plain bool) string {
	if len(ranges) == 2 && ranges[0] == 0 && ranges[1] == unicode.MaxRune {
		if plain {
			return "."
		}
		return anyCharacter
	}
	return spellings(ranges, plain)
}

func spellings(ranges []rune, plain bool) string {
	var bare strings.Builder // bytes that stand for themselves
	var alts []string
	var hex [128]bool
	for i := 0; i < len(ranges); i += 2 {
		lo, hi := ranges[i], ranges[i+1]
		for c := lo; c <= hi && c < utf8.RuneSelf; c++ {
			switch {
			case c == '/' || canonical.Bare(byte(c)):
				fmt.Fprintf(&bare, `\x%02x`, c)
			case c == '\\':
				alts = append(alts, "%!5C")
			default:
				hex[c] = true
			}
		}
		if lo <= utf8.RuneError && utf8.RuneError <= hi {
			alts = append(alts, "%!(?:2F|5C|[89A-F][0-9A-F])")
		}
		if hi >= utf8.RuneSelf {
			alts = utf8Ranges(alts, max(lo, utf8.RuneSelf), hi)
		}
	}
	if plain { // nothing is encoded
		alts, hex = nil, [128]bool{}
	}
	for c := 0; c < len(hex); c++ {
		end := c
		for end < len(hex) && hex[end] {
			end++
		}
		if end > c {
			alts = append(alts, byteRange(byte(c), byte(end-1)))
			c = end
		}
	}
	if bare.Len() > 0 {
		alts = append([]string{"[" + bare.String() + "]"}, alts...)
	}
	switch len(alts) {
	case 0:
		return `[^\x00-\x{10FFFF}]`
	case 1:
		return alts[0]
	}
	return "(?:" + strings.Join(alts, "|") + ")"
}

// utf8Ranges adds expressions for the encoded characters from lo to hi, cut so
// that each byte of one has a range of its own.
func utf8Ranges(alts []string, lo, hi rune) []string {
	if lo > hi {
		return alts
	}
	if lo <= 0xDFFF && hi >= 0xD800 { // the surrogates are no characters
		return utf8Ranges(utf8Ranges(alts, lo, 0xD7FF), 0xE000, hi)
	}
	for _, last := range []rune{0x7FF, 0xFFFF} {
		if lo <= last && last < hi {
			return utf8Ranges(utf8Ranges(alts, lo, last), last+1, hi)
		}
	}
	for n := 1; n < utf8.UTFMax; n++ {
		low := rune(1)<<(6*n) - 1
		if lo&^low != hi&^low {
			if lo&low != 0 {
				return utf8Ranges(utf8Ranges(alts, lo, lo|low), lo|low+1, hi)
			}
			if hi&low != low {
				return utf8Ranges(utf8Ranges(alts, lo, hi&^low-1), hi&^low, hi)
			}
		}
	}
	from, to := string(lo), string(hi)
	out := ""
	for i := range len(from) {
		out += byteRange(from[i], to[i])
	}
	return append(alts, out)
}

// byteRange is an expression for the encoded bytes from lo to hi.
func byteRange(lo, hi byte) string {
	const digits = "0123456789ABCDEF"
	span := func(a, b byte) string {
		switch {
		case a == b:
			return digits[a : a+1]
		case a == 0 && b == 15:
			return "[0-9A-F]"
		}
		return "[" + digits[a:b+1] + "]"
	}
	var alts []string
	for lo <= hi {
		a, b := lo>>4, lo>>4
		end := min(hi, lo|15)
		if lo&15 == 0 && hi-lo >= 16 {
			b = (hi+1)>>4 - 1
			if hi == 255 {
				b = 15
			}
			end = b<<4 | 15
		}
		alts = append(alts, span(a, b)+span(lo&15, end&15))
		if end == 255 {
			break
		}
		lo = end + 1
	}
	if len(alts) == 1 {
		return "%" + alts[0]
	}
	return "%(?:" + strings.Join(alts, "|") + ")"
}
