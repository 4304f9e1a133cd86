package list

// Parts of one large list, so that several machines can each read theirs.

import (
	"bytes"
	"io"
)

// A Part is one of several parts of a list: the lines that begin in its share of the bytes.
// So each line is in one part, and nobody must split the list.
type Part struct {
	Number int   `json:"number"` // from 1 on
	Of     int   `json:"of"`     // how many there are
	Size   int64 `json:"size"`   // of the whole list, in bytes
}

// In gives the part of a list. The list is one of a format whose lines stand for themselves
// (ByLine).
func (p Part) In(list io.ReaderAt) (*io.SectionReader, error) {
	start, err := p.lineFrom(list, p.Number-1)
	if err != nil {
		return nil, err
	}
	end, err := p.lineFrom(list, p.Number)
	return io.NewSectionReader(list, start, end-start), err
}

// lineFrom gives where the first line begins that is not in the first n parts.
func (p Part) lineFrom(list io.ReaderAt, n int) (int64, error) {
	of := int64(p.Of)
	at := p.Size/of*int64(n) + p.Size%of*int64(n)/of
	if at == 0 {
		return 0, nil
	}
	at-- // a line begins here where another ends before
	for buf := make([]byte, 1<<16); at < p.Size; {
		read, err := list.ReadAt(buf[:min(int64(len(buf)), p.Size-at)], at)
		if i := bytes.IndexByte(buf[:read], '\n'); i >= 0 {
			return at + int64(i) + 1, nil
		}
		if at += int64(read); err == io.EOF { // it has been cut since
			return at, nil
		} else if err != nil {
			return 0, err
		}
	}
	return p.Size, nil
}
