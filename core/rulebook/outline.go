package rulebook

// A rulebook's text as it stands, word by word, whatever mistakes are in it: for who reads
// it while it is written.

import (
	"slices"
	"strings"
	"unicode/utf8"
)

// An Outline is a text in entries and words.
type Outline struct {
	Source  *Source
	Entries []*OutlineEntry
	Lines   []OutlineLine
}

// An OutlineEntry is what begins in the first column, with the indented lines below it.
type OutlineEntry struct {
	Kind  Kind   // as it is written, whether or not there is such a kind
	Name  *Word  // nil where it has none
	Words []Word // all of them, the kind first
}

// An OutlineLine is one line in words.
type OutlineLine struct {
	Words    []Word
	Indented bool
	Comment  Word // with its #; empty where there is none
}

// Outlined cuts a text into entries. A text that is none in UTF-8 has no lines.
func Outlined(name string, text []byte) *Outline {
	var errs Errors
	src, lines := scan(name, text, &errs)
	o := &Outline{Source: src}
	for _, l := range lines {
		line := OutlineLine{Words: l.words, Indented: l.indented}
		if l.comment != "" {
			width := utf8.RuneCountInString(l.comment)
			line.Comment = Word{Text: l.comment, Place: Place{src, l.number, utf8.RuneCountInString(src.Lines[l.number-1]) - width + 1}, Width: width}
		}
		o.Lines = append(o.Lines, line)
		switch {
		case len(l.words) == 0:
		case !l.indented:
			o.Entries = append(o.Entries, &OutlineEntry{Kind: Kind(l.words[0].Text), Words: slices.Clip(l.words)})
		case len(o.Entries) > 0:
			last := o.Entries[len(o.Entries)-1]
			last.Words = append(last.Words, l.words...)
		}
	}
	for _, e := range o.Entries {
		if len(e.Words) > 1 && e.Kind != KindInclude && !e.begins(1) {
			e.Name = &e.Words[1]
		}
	}
	return o
}

// begins reports whether a word begins a clause.
func (e *OutlineEntry) begins(i int) bool {
	return rowOf(e.Kind) != nil && e.Kind.begins(e.Words[i])
}

// Clause gives the keyword of the clause that a word belongs to, and where that stands among
// the words; "" for the words in front of the first.
func (e *OutlineEntry) Clause(i int) (keyword string, at int) {
	for at = min(i, len(e.Words)-1); at > 0; at-- {
		if (e.Name == nil || at > 1) && e.begins(at) {
			return e.Words[at].Text, at
		}
	}
	return "", 0
}

// Has reports whether the entry has a clause of a name.
func (e *OutlineEntry) Has(clause string) bool {
	for i := 1; i < len(e.Words); i++ {
		if word, at := e.Clause(i); at == i && word == clause {
			return true
		}
	}
	return false
}

// May reports whether the entry can have one more clause of a name.
func (e *OutlineEntry) May(clause string) bool {
	if rowOf(e.Kind) == nil {
		return false
	}
	form, ok := e.Kind.form(clause)
	return ok && (form.repeat || !e.Has(clause))
}

// At gives the entry that a line belongs to, counted from 1; nil above the first.
func (o *Outline) At(line int) *OutlineEntry {
	var at *OutlineEntry
	for _, e := range o.Entries {
		if e.Words[0].Place.Line > line {
			break
		}
		at = e
	}
	return at
}

// Extent gives the lines of the entry, counted from 0; to is the first behind it.
func (e *OutlineEntry) Extent() (from, to int) { return extent(e.Words[0].Place) }

// Needs says what a clause of this kind wants behind it, with the words that it takes in
// backticks; ok is false where there is no such clause.
func (k Kind) Needs(clause string) (needs string, ok bool) {
	if rowOf(k) == nil {
		return "", false
	}
	form, ok := k.form(clause)
	return form.needs, ok
}

// References gives the names in braces of a text, each with the characters before it: of
// `to /{a}/{b|lower}` a and b.
func References(text string) (out []Reference) {
	for at := 0; at < len(text); {
		i := strings.IndexByte(text[at:], '{')
		if i < 0 {
			return out
		}
		from := at + i
		if strings.HasPrefix(text[from:], "{{") {
			at = from + 2
			continue
		}
		end := strings.IndexByte(text[from:], '}')
		if end < 0 {
			return out
		}
		name, _, _ := strings.Cut(text[from+1:from+end], "|")
		out = append(out, Reference{Name: name, Col: utf8.RuneCountInString(text[:from+1])})
		at = from + end
	}
	return out
}

// A Reference is a name in braces.
type Reference struct {
	Name string
	Col  int // characters of the text before it
}

// TestWords are the words that a field can be compared with, beside values of its own; none
// for what is not a field.
func TestWords(field string) (words []string) {
	f, ok := parseField(field)
	if !ok {
		return nil
	}
	row := f.Row()
	words = append(words, row.Words...)
	switch {
	case row.Number != nil && f.Kind == FieldTime:
		words = append(words, "after", "before")
	case row.Number != nil:
		words = append(words, "over", "below")
	}
	if !row.Always {
		words = append(words, "present", "absent")
	}
	return words
}
