package pattern

// Reading the syntax of patterns: the WHATWG URL Pattern standard, section
// "Patterns", with errors that say what to write instead.

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// What a part of a pattern matches.
type partKind uint8

const (
	text     partKind = iota // its text
	segment                  // `:name`: one or more characters that are no delimiter
	wildcard                 // `*`: anything
	custom                   // `(…)`: a regular expression
)

// A part is a piece of a pattern: fixed text, or one group with the text that
// comes and goes with it.
type part struct {
	kind           partKind
	name           string // of its capture; empty for text
	prefix, suffix string
	text           string // fixed text, or the regular expression
	modifier       byte   // 0, '?', '+' or '*'
	offset         int
}

// A dialect is what differs between paths and hosts.
type dialect struct {
	prefix    string // the character that belongs to the group behind it
	delimiter string // what a segment never holds
}

var (
	pathSyntax = dialect{"/", "/"}
	hostSyntax = dialect{"", "."}
)

type tokenKind uint8

const (
	tokenChar tokenKind = iota
	tokenEscaped
	tokenName
	tokenRegexp
	tokenStar
	tokenOpen
	tokenClose
	tokenModifier // ? and +; a star is told apart by where it stands
	tokenEnd
)

type token struct {
	kind   tokenKind
	text   string
	offset int
}

// tokenize splits a pattern (URL Pattern, "tokenize").
func tokenize(s string) ([]token, error) {
	out := make([]token, 0, min(len(s)+1, 64))
	for i := 0; i < len(s); {
		r, size := utf8.DecodeRuneInString(s[i:])
		t := token{tokenChar, s[i : i+size], i}
		switch r {
		case '*':
			t.kind = tokenStar
		case '+', '?':
			t.kind = tokenModifier
		case '{':
			t.kind = tokenOpen
		case '}':
			t.kind = tokenClose
		case '\\':
			if i+1 == len(s) {
				return nil, errorf(i, `a \ at the end escapes nothing: write \\ for a plain one`)
			}
			_, next := utf8.DecodeRuneInString(s[i+1:])
			t.kind, t.text = tokenEscaped, s[i+1:i+1+next]
			size += next
		case ':':
			end := i + 1
			for end < len(s) {
				r, n := utf8.DecodeRuneInString(s[end:])
				if !nameRune(r, end == i+1) {
					break
				}
				end += n
			}
			if end == i+1 {
				return nil, errorf(i, `a colon begins a name like :season; write \: for a plain colon`)
			}
			t.kind, t.text = tokenName, s[i+1:end]
			size = end - i
		case '(':
			end, err := closeGroup(s, i)
			if err != nil {
				return nil, err
			}
			t.kind, t.text = tokenRegexp, s[i+1:end]
			size = end + 1 - i
		}
		out = append(out, t)
		i += size
	}
	return append(out, token{tokenEnd, "", len(s)}), nil
}

// nameRune reports whether a character may stand in a name, or begin one: those
// of identifiers (ECMAScript, 12.7; Unicode Standard Annex 31, ID_Start and
// ID_Continue).
func nameRune(r rune, first bool) bool {
	const joiner, nonJoiner = '\u200d', '\u200c'
	switch {
	case r == '_' || r == '$':
		return true
	case unicode.In(r, unicode.Pattern_Syntax, unicode.Pattern_White_Space):
		return false
	case unicode.In(r, unicode.L, unicode.Nl, unicode.Other_ID_Start):
		return true
	}
	return !first && (r == joiner || r == nonJoiner ||
		unicode.In(r, unicode.Mn, unicode.Mc, unicode.Nd, unicode.Pc, unicode.Other_ID_Continue))
}

// closeGroup finds the end of the regular expression group that opens at i.
func closeGroup(s string, i int) (int, error) {
	depth, class := 0, false
	for j := i; j < len(s); j++ {
		switch s[j] {
		case '\\':
			j++
		case '[':
			class = true
		case ']':
			class = false
		case '(':
			if class {
				break
			}
			depth++
			if depth > 1 && !strings.HasPrefix(s[j:], "(?") || depth > 1 && strings.HasPrefix(s[j:], "(?<") || depth > 1 && strings.HasPrefix(s[j:], "(?P") {
				return 0, errorf(j, "a capture inside a group: write (?:…) there")
			}
		case ')':
			if class {
				break
			}
			if depth--; depth == 0 {
				if j == i+1 {
					return 0, errorf(i, "an empty group matches nothing: write what it should match")
				}
				return j, nil
			}
		}
	}
	return 0, errorf(i, `the group opened here is never closed: add a ), or write \( for a plain parenthesis`)
}

type patternParser struct {
	dialect dialect
	tokens  []token
	at      int
	parts   []part
	pending strings.Builder
	start   int // where the pending text began
	unnamed int
}

// parse reads a pattern into parts (URL Pattern, "parse a pattern string").
func parse(s string, d dialect) ([]part, error) {
	tokens, err := tokenize(s)
	if err != nil {
		return nil, err
	}
	p := &patternParser{dialect: d, tokens: tokens}
	for p.peek().kind != tokenEnd {
		first := p.peek()
		char, hasChar := p.take(tokenChar)
		name, hasName := p.take(tokenName)
		group, hasGroup := p.takeGroup(hasName)
		switch {
		case hasName || hasGroup:
			prefix := char.text
			if prefix != p.dialect.prefix {
				p.keep(char)
				prefix = ""
			}
			p.flush()
			if err := p.add(first.offset, prefix, name, hasName, group, hasGroup, "", p.modifier()); err != nil {
				return nil, err
			}
		case hasChar:
			p.keep(char)
		default:
			if err := p.group(first); err != nil {
				return nil, err
			}
		}
	}
	p.flush()
	return p.parts, nil
}

// group reads what cannot begin with a name or a regular expression.
func (p *patternParser) group(first token) error {
	if t, ok := p.take(tokenEscaped); ok {
		p.keep(t)
		return nil
	}
	if _, ok := p.take(tokenOpen); !ok {
		if first.kind == tokenClose {
			return errorf(first.offset, `a } without its {: write \} for a plain one`)
		}
		hint := ""
		if first.text == "?" {
			hint = ", and a query is tested with `when query.NAME VALUE`"
		}
		return errorf(first.offset, `%s changes the group before it, and there is none: write \%s for a plain one%s`, first.text, first.text, hint)
	}
	prefix := p.pathSource()
	name, hasName := p.take(tokenName)
	group, hasGroup := p.takeGroup(hasName)
	suffix := p.pathSource()
	if t := p.peek(); t.kind != tokenClose {
		switch t.kind {
		case tokenEnd:
			return errorf(first.offset, `the { opened here is never closed: add a }, or write \{ for a plain one`)
		case tokenOpen:
			return errorf(t.offset, "braces do not nest")
		}
		return errorf(t.offset, "only one group may stand in {…}: give the second braces of its own")
	}
	p.at++
	return p.add(first.offset, prefix, name, hasName, group, hasGroup, suffix, p.modifier())
}

func (p *patternParser) peek() token { return p.tokens[p.at] }

func (p *patternParser) take(kind tokenKind) (token, bool) {
	t := p.peek()
	if t.kind != kind {
		return token{}, false
	}
	p.at++
	return t, true
}

// takeGroup takes a regular expression or, where no name stands before it, a star.
func (p *patternParser) takeGroup(named bool) (token, bool) {
	t, ok := p.take(tokenRegexp)
	if !ok && !named {
		t, ok = p.take(tokenStar)
	}
	return t, ok
}

func (p *patternParser) modifier() byte {
	t := p.peek()
	if t.kind != tokenModifier && t.kind != tokenStar {
		return 0
	}
	p.at++
	return t.text[0]
}

// pathSource takes characters up to the next that is none.
func (p *patternParser) pathSource() string {
	var b strings.Builder
	for p.peek().kind <= tokenEscaped {
		b.WriteString(p.peek().text)
		p.at++
	}
	return b.String()
}

func (p *patternParser) keep(t token) {
	if p.pending.Len() == 0 {
		p.start = t.offset
	}
	p.pending.WriteString(t.text)
}

func (p *patternParser) flush() {
	if p.pending.Len() > 0 {
		p.parts = append(p.parts, part{kind: text, text: p.pending.String(), offset: p.start})
		p.pending.Reset()
	}
}

func (p *patternParser) add(offset int, prefix string, name token, hasName bool, group token, hasGroup bool, suffix string, modifier byte) error {
	if !hasName && !hasGroup {
		if modifier == 0 {
			p.keep(token{text: prefix, offset: offset})
			return nil
		}
		p.flush()
		if prefix != "" {
			p.parts = append(p.parts, part{kind: text, text: prefix, modifier: modifier, offset: offset})
		}
		return nil
	}
	p.flush()
	out := part{kind: segment, name: name.text, prefix: prefix, suffix: suffix, modifier: modifier, offset: offset}
	switch group.kind {
	case tokenStar:
		out.kind = wildcard
	case tokenRegexp:
		out.kind, out.text = custom, group.text
		tree, err := parseRegexp(group.text, false, group.offset+1)
		if err != nil {
			return err
		}
		if tree.MaxCap() > 0 {
			return errorf(group.offset, "a capture inside a group: write (?:…) there")
		}
		if hasBoundary(tree) {
			return errorf(group.offset, `\b cannot stand inside a pattern: write the whole as ~REGEX`)
		}
	}
	if !hasName {
		p.unnamed++
		out.name = fmt.Sprint(p.unnamed)
	}
	for _, other := range p.parts {
		if hasName && other.name == out.name {
			return errorf(name.offset, "the name :%s is used twice: give each group its own", out.name)
		}
	}
	if len(p.parts) == maxParts {
		return errorf(offset, "a pattern has at most %d parts: for everything below a folder write `in FOLDER`", maxParts)
	}
	p.parts = append(p.parts, out)
	return nil
}

// maxParts bounds what a pattern grows to in translation.
const maxParts = 500
