package list

// How records lie in the text of a list, so that several parts of it can be read at once.
//
// The text is cut where a record begins: in a log behind any line, in a table behind a line
// whose quotes are all closed, in the plain format before a line that is not indented. Each
// part is then read by itself. The commonest records are of one line, and are read in place
// into a Line; what is left is read with the same care as by Read.

import (
	"bytes"
	"errors"
)

// A LineReader reads one line of a list. It fills l, or gives the request as an item, where
// a Line cannot tell it all; the error says why the line is not a request, or is
// ErrRecord. rest is what stands below the line. The line may be changed.
type LineReader func(line, rest []byte, l *Line) (*Item, error)

// A lineReader is that of a format whose lines stand for themselves.
type lineReader func(line []byte, l *Line) (*Item, error)

// ErrRecord is the error of a LineReader for a line that is not a whole record, or must be
// read with care: Record reads it.
var ErrRecord = errors.New("the record must be read with care")

// A Layout is how records are read from one of them on. It is for any number of goroutines.
type Layout struct {
	Read    LineReader             // nil for access logs, which ParseLog reads
	Comment func(line []byte) bool // tells lines that are not records
	Heading int                    // how many bytes at the start of the list are no records

	cut    func(text []byte, last bool) int // last: no more of it can be seen, so that it must be cut
	record func(text []byte, each func(*Item)) (used int, c Counts)
	start  func(text []byte) (*Layout, error)
	next   func(text []byte) (at int, next *Layout)
}

// NewLayout gives the layout of a list of a format that is read by lines (ByLine).
func NewLayout(name Format, o Options) *Layout {
	f := formOf(name)
	if f.layout != nil {
		return f.layout(o)
	}
	l := &Layout{Comment: f.comment}
	if f.line != nil {
		read := f.line(o)
		l.Read = func(line, _ []byte, l *Line) (*Item, error) { return read(line, l) }
	}
	return l
}

// Start gives the layout of a list by its first lines, where they say something of it.
func (l *Layout) Start(text []byte) (*Layout, error) {
	if l.start == nil {
		return l, nil
	}
	return l.start(text)
}

// Next gives the place of the first line from which on another layout holds, and that
// layout; -1 for none.
func (l *Layout) Next(text []byte) (at int, next *Layout) {
	if l.next == nil {
		return -1, nil
	}
	return l.next(text)
}

// Cut gives how many bytes of a text, which begins with a record, are whole records: at its
// end another one begins. It is 0 where more of the text must be seen, and never for more
// than MaxLine.
func (l *Layout) Cut(text []byte) int {
	end := bytes.LastIndexByte(text, '\n') + 1
	if l.cut == nil || end == 0 {
		return end
	}
	return l.cut(text[:end], len(text) > MaxLine)
}

// Record reads the record that a text begins with, of one line or several, and says how
// long it is, and what its lines are: their numbers begin with 1.
func (l *Layout) Record(text []byte, each func(*Item)) (used int, c Counts) {
	return l.record(text, each)
}

// AddFrom adds the counts of a part of a list; before is how many lines stand above it.
func (c *Counts) AddFrom(part *Counts, before int) {
	c.Lines += part.Lines
	c.Requests += part.Requests
	c.Details += part.Details
	c.Comments += part.Comments
	c.Skipped += part.Skipped
	for _, s := range part.First {
		if len(c.First) < keptSkips {
			c.First = append(c.First, Skip{before + s.Line, s.Reason})
		}
	}
}
