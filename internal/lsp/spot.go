package lsp

// What stands at a place of the text.

import (
	"slices"
	"strings"

	"kibitz/core/rulebook"
)

// A spot is a word of an entry, or a gap between two.
type spot struct {
	entry  *rulebook.OutlineEntry
	word   *rulebook.Word // nil in a gap
	index  int            // of the word, or of the one behind the gap
	clause string         // the keyword that it belongs to; "" for none
	first  int            // where that stands among the words
	col    int
}

// spot gives what stands at the position of the request; nil above the first entry and in a
// comment.
func (v *view) spot() *spot {
	o, line := v.doc.outline, v.Position.Line+1
	if line > len(o.Lines) {
		return nil
	}
	col := column(o.Source, v.Position)
	if c := o.Lines[line-1].Comment; c.Text != "" && col > c.Place.Col {
		return nil
	}
	e := o.At(line)
	if e == nil {
		return nil
	}
	s := &spot{entry: e, index: len(e.Words), col: col}
	for i := range e.Words {
		w := &e.Words[i]
		if w.Place.Line == line && contains(*w, col) {
			s.word, s.index = w, i
			break
		}
		if w.Place.Line > line || w.Place.Line == line && w.Place.Col > col {
			s.index = i
			break
		}
	}
	at := s.index
	if s.word == nil {
		at--
	}
	s.clause, s.first = e.Clause(at)
	return s
}

// isKind, isName and isKeyword report what a word is to its entry.
func (s *spot) isKind() bool { return s.word != nil && s.index == 0 }
func (s *spot) isName() bool { return s.word != nil && s.index == 1 && s.entry.Name != nil }
func (s *spot) isKeyword() bool {
	return s.word != nil && s.index > 0 && s.index == s.first && s.clause != ""
}

// isField reports whether the word is the field of a test.
func (s *spot) isField() bool {
	return s.word != nil && isTest(s.clause) && s.index == s.first+1
}

func isTest(clause string) bool { return clause == "when" || clause == "unless" }

// field is the field that the test tests; "" for none.
func (s *spot) field() string {
	if isTest(s.clause) && s.first+1 < len(s.entry.Words) {
		return s.entry.Words[s.first+1].Text
	}
	return ""
}

// isPattern reports whether the word is a pattern of paths.
func (s *spot) isPattern() bool {
	return s.word != nil && !s.word.Quoted && (s.clause == "on" && s.index > s.first || isTest(s.clause) && s.index > s.first+1 && (s.field() == "path" || s.field() == "asked"))
}

// reference gives the name in braces at the cursor, where a value can stand.
func (s *spot) reference() (name string, at rulebook.Word, ok bool) {
	if s.word == nil {
		return "", at, false
	}
	for _, r := range refsOf(s.entry, s.index) {
		if contains(r.word, s.col) {
			return r.name, r.word, true
		}
	}
	return "", at, false
}

// A ref is a name in braces in a word: of a list in a test, of a value in a text.
type ref struct {
	name string
	word rulebook.Word // the name alone
	list bool
}

// refsOf gives the names in braces of a word: where patterns stand, braces are groups.
func refsOf(e *rulebook.OutlineEntry, i int) (out []ref) {
	w := e.Words[i]
	clause, first := e.Clause(i)
	list := isTest(clause) && i > first+1
	if !list && !takesValues(clause) || i == first || list && (w.Quoted || !strings.HasPrefix(w.Text, "{") || !strings.HasSuffix(w.Text, "}")) {
		return nil
	}
	line := []rune(lineOf(w.Place.Source, w.Place.Line))
	written := string(line[w.Place.Col-1 : min(w.Place.Col-1+w.Width, len(line))])
	for _, r := range rulebook.References(written) {
		at := w.Place
		at.Col += r.Col
		out = append(out, ref{r.Name, rulebook.Word{Text: r.Name, Place: at, Width: len([]rune(r.Name))}, list})
	}
	return out
}

// takesValues reports whether a clause has text into which values are put.
func takesValues(clause string) bool {
	return slices.Contains([]string{"to", "set", "add", "default", "text"}, clause)
}

// A capture is a name that a pattern gives.
type capture struct {
	name    string
	word    rulebook.Word // the name alone
	pattern string        // that gives it
}

// capturesOf gives the named captures of an entry: `:name` of patterns, `(?<name>…)` of
// expressions.
func capturesOf(e *rulebook.OutlineEntry) (out []capture) {
	for i, w := range e.Words {
		clause, first := e.Clause(i)
		if w.Quoted || i == first || clause != "on" && !(isTest(clause) && i > first+1) {
			continue
		}
		expression := strings.HasPrefix(w.Text, "~")
		text := []rune(w.Text)
		for at := 0; at < len(text); at++ {
			from := at + 1
			switch {
			case text[at] == '\\':
				at++
				continue
			case !expression && text[at] == ':':
			case expression && strings.HasPrefix(string(text[at:]), "(?<"):
				from = at + 3
			case expression && strings.HasPrefix(string(text[at:]), "(?P<"):
				from = at + 4
			default:
				continue
			}
			end := from
			for end < len(text) && isNamePart(text[end]) {
				end++
			}
			if end > from {
				place := w.Place
				place.Col += from
				out = append(out, capture{string(text[from:end]), rulebook.Word{Text: string(text[from:end]), Place: place, Width: end - from}, w.Text})
			}
			at = max(end-1, at)
		}
	}
	return out
}
