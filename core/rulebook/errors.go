package rulebook

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/rivo/uniseg"

	"kibitz/core/pattern"
)

// An Error is a mistake in a rulebook, at its place.
type Error struct {
	Place   Place
	Width   int // characters that are meant; at least one is marked
	Message string
}

func (e *Error) Error() string {
	return fmt.Sprintf("%s:%d: %s", e.Place, e.Place.Col, e.Message)
}

// Line gives the line where the mistake is, and a second one that marks it. A
// long line is cut to what is around the place.
func (e *Error) Line() (text, mark string) {
	if e.Place.Source == nil || e.Place.Line > len(e.Place.Source.Lines) {
		return "", ""
	}
	return MarkLine(e.Place, e.Width)
}

// MarkLine gives the line of a place, and a second one that marks width
// characters of it.
func MarkLine(at Place, width int) (text, mark string) {
	const most = 140
	runes := []rune(strings.ReplaceAll(at.Source.Lines[at.Line-1], "\t", " "))
	col := min(max(at.Col-1, 0), len(runes))
	width = max(width, 1)
	from, before := 0, ""
	if len(runes) > most && col > most/2 {
		from, before = col-most/4, "… "
	}
	to, after := len(runes), ""
	if to-from > most {
		to, after = from+most, " …"
	}
	width = min(width, max(to-col, 1))
	text = before + string(runes[from:to]) + after
	columns := func(runes []rune) int { return uniseg.StringWidth(string(runes)) } // a letter may take two, or none
	mark = strings.Repeat(" ", len([]rune(before))+columns(runes[from:col])) + strings.Repeat("^", max(1, columns(runes[col:min(col+width, len(runes))])))
	return text, mark
}

// Errors are all the mistakes of a rulebook, in the order of their places.
type Errors []*Error

func (e Errors) Error() string {
	var b strings.Builder
	for i, err := range e {
		if i > 0 {
			b.WriteByte('\n')
		}
		b.WriteString(err.Error())
	}
	return b.String()
}

func (e *Errors) add(at Place, width int, format string, args ...any) {
	*e = append(*e, &Error{at, width, fmt.Sprintf(format, args...)})
}

// at adds an error about a word.
func (e *Errors) at(w Word, format string, args ...any) {
	e.add(w.Place, w.Width, format, args...)
}

// pattern adds the error of a pattern that stands in w, skip bytes into it.
func (e *Errors) pattern(w Word, err error, skip int) {
	if bad, ok := errors.AsType[*pattern.Error](err); ok && !w.Quoted {
		offset := min(bad.Offset+skip, len(w.Text))
		place := w.Place
		place.Col += utf8.RuneCountInString(w.Text[:offset])
		width := w.Width - skip
		if bad.Offset > 0 {
			width = 1
		}
		e.add(place, width, "%s", bad.Message)
		return
	}
	e.at(w, "%v", err)
}

func (e Errors) sort() {
	slices.SortStableFunc(e, func(a, b *Error) int {
		return cmp.Or(strings.Compare(a.Place.Source.Name, b.Place.Source.Name), cmp.Compare(a.Place.Line, b.Place.Line), cmp.Compare(a.Place.Col, b.Place.Col))
	})
}

// nearest gives the known word that is most like s, or "" if none is.
func nearest(s string, known []string) string {
	best, least := "", 1+len(s)/3
	for _, k := range known {
		if d := Distance(strings.ToLower(s), k); d <= least && (best == "" || d < least) {
			best, least = k, d
		}
	}
	return best
}

// orNearest gives what to append to an error about an unknown word.
func orNearest(s string, known []string) string {
	if k := cmp.Or(meant(s, known), nearest(s, known)); k != "" {
		return fmt.Sprintf(": did you mean `%s`?", k)
	}
	return ": it is one of " + strings.Join(known, ", ")
}

// Distance counts the letters to change, add, drop or swap to make a into b.
func Distance(a, b string) int {
	for a != "" && b != "" && a[0] == b[0] { // what begins or ends alike changes nothing
		a, b = a[1:], b[1:]
	}
	for a != "" && b != "" && a[len(a)-1] == b[len(b)-1] {
		a, b = a[:len(a)-1], b[:len(b)-1]
	}
	if len(a) > 40 || len(b) > 40 {
		return 99
	}
	var rows [41][41]uint8
	for i := range len(a) + 1 {
		rows[i][0] = uint8(i)
	}
	for j := range len(b) + 1 {
		rows[0][j] = uint8(j)
	}
	for i := 1; i <= len(a); i++ {
		for j := 1; j <= len(b); j++ {
			change := uint8(1)
			if a[i-1] == b[j-1] {
				change = 0
			}
			d := min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+change)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				d = min(d, rows[i-2][j-2]+1)
			}
			rows[i][j] = d
		}
	}
	return int(rows[len(a)][len(b)])
}
