package pattern

import (
	"cmp"
	"regexp/syntax"
	"slices"
	"strings"

	"kibitz/core/canonical"
)

// Words gives up to n of the shortest paths that the pattern takes, with
// readable letters where it can.
func (p *Pattern) Words(n int) []string {
	if s, ok := p.Literal(); ok {
		return []string{s}
	}
	if words := p.plainWords(n); words != nil {
		return words
	}
	lang, err := p.Lang()
	if err != nil {
		return p.simplest()
	}
	var out []string
	for _, w := range lang.words(8 * n) {
		if p.Match(w) {
			out = append(out, w)
		}
	}
	slices.SortStableFunc(out, func(a, b string) int { return cmp.Compare(oddness(a), oddness(b)) })
	return out[:min(n, len(out))]
}

// oddness is how unlikely it is that a path is somebody's: by its segments that begin with a
// dot, or with what is not a letter.
func oddness(path string) int {
	n := 0
	for i := range len(path) - 1 {
		switch next := path[i+1]; {
		case path[i] != '/':
		case next == '.':
			n += 2
		case next|32 < 'a' || next|32 > 'z':
			n++
		}
	}
	return n
}

// plainWords fills the groups of a pattern that has no regular expressions; nil
// for any other.
func (p *Pattern) plainWords(n int) []string {
	if p.parts == nil || p.host {
		return nil
	}
	var out []string
	for _, fill := range []string{"a", "ab", "x1", "b/c"} {
		word := ""
		for _, part := range p.parts {
			switch {
			case part.kind == custom:
				return nil
			case part.modifier == '?' && fill == "ab", part.modifier == '*' && fill == "ab":
			case part.kind == text:
				word += part.text
			case part.kind == segment:
				word += part.prefix + strings.ReplaceAll(fill, "/", "") + part.suffix
			default:
				word += part.prefix + fill + part.suffix
			}
		}
		if word = canonical.Unmarked(word); len(out) < n && !slices.Contains(out, word) && canonical.Is(word, false) {
			out = append(out, word)
		}
	}
	return out
}

// words finds texts of the set, shortest first: a breadth-first walk that sees
// each state a few times, with one byte for each class and target.
func (l *Lang) words(n int) []string {
	type at struct {
		state int
		text  string
	}
	var out []string
	seen := make([]int, len(l.accept))
	queue := []at{{1, ""}}
	for len(queue) > 0 && len(out) < n {
		here := queue[0]
		queue = queue[1:]
		if l.accept[here.state] && here.text != "" {
			out = append(out, here.text)
		}
		if len(here.text) > 4096 {
			continue
		}
		tried := map[int]bool{}
		for i := range len(PathBytes) {
			c := PathBytes[i]
			next := int(l.next[here.state*l.classes+int(l.class[c])])
			if next == 0 || tried[next] || seen[next] >= 4 {
				continue
			}
			tried[next] = true
			seen[next]++
			queue = append(queue, at{next, here.text + string(c)})
		}
	}
	return out
}

// Word gives a short text that a regular expression over plain text takes, as
// matches confirms; "" if none is found.
func Word(source string, matches func(string) bool) string {
	if tree, err := syntax.Parse(source, syntax.Perl); err != nil || hasBoundary(tree) {
		return ""
	}
	lang, err := compile(source)
	if err != nil {
		return ""
	}
	for _, w := range lang.words(8) {
		if matches(w) {
			return w
		}
	}
	return ""
}

// Filled gives paths that the pattern takes in which a canonical text stands in
// one of its groups.
func (p *Pattern) Filled(with string) []string {
	var out []string
	for at := range p.parts {
		word := ""
		for i, part := range p.parts {
			fill := "a"
			if i == at {
				fill = with
			}
			if part.kind == custom && i != at {
				if words := p.Words(1); len(words) > 0 {
					if found := p.Captures(words[0], nil); found != nil {
						fill = found[p.group(i)]
					}
				}
			}
			if part.kind == text {
				word += part.text
			} else {
				word += part.prefix + fill + part.suffix
			}
		}
		word = canonical.Unmarked(word)
		if p.parts[at].kind != text && strings.HasPrefix(word, "/") && canonical.Is(word, false) && p.Match(word) {
			out = append(out, word)
		}
	}
	return out
}

// group is the number of the capture of a part, from 0.
func (p *Pattern) group(i int) int {
	n := 0
	for _, part := range p.parts[:i] {
		if part.kind != text {
			n++
		}
	}
	return n
}

// simplest gives one path for a regular expression that has no automaton.
func (p *Pattern) simplest() []string {
	if !strings.HasPrefix(p.text, "~") {
		return nil
	}
	tree, err := parseRegexp(p.text[1:], p.fold, 0)
	if err != nil {
		return nil
	}
	var b strings.Builder
	writeSimplest(&b, tree.Simplify())
	if path := canonical.Spell(b.String()); canonical.Is(path, false) && p.Match(path) {
		return []string{path}
	}
	return nil
}

// writeSimplest writes a text that an expression takes, if it looks at nothing
// around it.
func writeSimplest(b *strings.Builder, tree *syntax.Regexp) {
	switch tree.Op {
	case syntax.OpLiteral:
		b.WriteString(string(tree.Rune))
	case syntax.OpCharClass:
		for _, r := range PathBytes {
			for i := 0; i < len(tree.Rune); i += 2 {
				if tree.Rune[i] <= r && r <= tree.Rune[i+1] {
					b.WriteRune(r)
					return
				}
			}
		}
		b.WriteRune(tree.Rune[0])
	case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		b.WriteByte('a')
	case syntax.OpCapture, syntax.OpPlus:
		writeSimplest(b, tree.Sub[0])
	case syntax.OpConcat:
		for _, sub := range tree.Sub {
			writeSimplest(b, sub)
		}
	case syntax.OpAlternate:
		writeSimplest(b, tree.Sub[0])
	case syntax.OpRepeat:
		for range tree.Min {
			writeSimplest(b, tree.Sub[0])
		}
	}
}
