package lsp

// What each word is, for colours.

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"kibitz/core/rulebook"
)

// tokenTypes are the types of words, in the protocol's own names.
var tokenTypes = []string{"class", "function", "keyword", "property", "string", "regexp", "number", "variable", "comment"}

const (
	tokenKind = iota
	tokenName
	tokenClause
	tokenField
	tokenText
	tokenRegexp
	tokenNumber
	tokenValue
	tokenComment
)

// A token is some characters of a line and their type.
type token struct {
	word rulebook.Word
	kind int
}

type semanticTokens struct {
	Data []int `json:"data"`
}

func tokensOf(v *view) (*semanticTokens, error) {
	var all []token
	o := v.doc.outline
	for _, l := range o.Lines {
		if l.Comment.Text != "" {
			all = append(all, token{l.Comment, tokenComment})
		}
	}
	for _, e := range o.Entries {
		for i := range e.Words {
			all = append(all, tokensOfWord(e, i)...)
		}
	}
	slices.SortFunc(all, func(a, b token) int {
		return cmp.Or(a.word.Place.Line-b.word.Place.Line, a.word.Place.Col-b.word.Place.Col)
	})
	out := &semanticTokens{Data: []int{}}
	line, char := 0, 0
	for _, t := range all {
		at := spanOfWord(t.word)
		if at.Start.Line != line {
			char = 0
		}
		out.Data = append(out.Data, at.Start.Line-line, at.Start.Character-char, at.End.Character-at.Start.Character, t.kind, 0)
		line, char = at.Start.Line, at.Start.Character
	}
	return out, nil
}

// tokensOfWord gives the type of a word; the names in braces are parts of their own.
func tokensOfWord(e *rulebook.OutlineEntry, i int) []token {
	w := e.Words[i]
	clause, first := e.Clause(i)
	kind := tokenText
	switch {
	case i == 0:
		kind = tokenKind
	case i == 1 && e.Name != nil:
		kind = tokenName
	case i == first:
		kind = tokenClause
	case isTest(clause) && i == first+1:
		kind = tokenField
	case w.Quoted:
	case strings.HasPrefix(w.Text, "~"):
		kind = tokenRegexp
	case w.Text == "=>" && clause == "example":
		kind = tokenClause
	case isNumber(w.Text):
		kind = tokenNumber
	}
	var out []token
	at := w
	for _, r := range refsOf(e, i) {
		if before := r.word.Place.Col - at.Place.Col; before > 0 {
			out = append(out, token{rulebook.Word{Place: at.Place, Width: before}, kind})
		}
		if r.word.Width > 0 {
			out = append(out, token{r.word, tokenValue})
		}
		at.Place.Col, at.Width = r.word.Place.Col+r.word.Width, w.Place.Col+w.Width-r.word.Place.Col-r.word.Width
	}
	if at.Width > 0 {
		out = append(out, token{at, kind})
	}
	return out
}

// isNumber reports whether a word is a number, a status class, a size or a duration.
func isNumber(text string) bool {
	if text == "" || text[0] < '0' || text[0] > '9' || strings.ContainsAny(text, ".:/") {
		return false
	}
	digits := strings.TrimRight(text, "KMGiBshdmx")
	_, err := strconv.Atoi(digits)
	return err == nil
}
