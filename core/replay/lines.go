package replay

// How the lines of a list are read on the fast path: by several workers, each with chunks of
// its own, in place and without copies. What is done with them is another's.

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"

	"kibitz/core/request"
	"kibitz/core/request/list"
)

// A lineTaker takes what a lineReader reads, in the order of the lines.
type lineTaker interface {
	take(lines []list.Line)   // no more than together; they are good until it returns
	takeItem(item *list.Item) // a request that a Line cannot hold
	endChunk()                // all lines of it have been taken
}

// A lineReader reads the chunks of one worker. It is for one goroutine.
type lineReader struct {
	to     lineTaker
	base   request.Address
	at     chunk               // at hand
	read   [together]list.Line // the lines that wait for to
	places [together]int       // where each is, in the chunk
	waits  int                 // how many there are
	counts list.Counts
	lines  map[int]int // by chunk
	skips  []placedSkip
}

// together is how many lines are looked up in one batch: the processor fetches their slots
// from memory at the same time.
const together = 64

func newLineReader(to lineTaker, base request.Address) lineReader {
	return lineReader{to: to, base: base, lines: map[int]int{}}
}

// chunk reads the lines of a chunk.
func (r *lineReader) chunk(c chunk) {
	text := c.text
	r.at = c
	number := 0
	if c.number == 0 {
		heading := text[:c.layout.Heading]
		number = bytes.Count(heading, []byte("\n"))
		if text = text[len(heading):]; len(text) == 0 && len(heading) > 0 && heading[len(heading)-1] != '\n' {
			number++
		}
		r.counts.Comments += number
		text = bytes.TrimPrefix(text, []byte("\ufeff"))
	}
	for len(text) > 0 {
		number++
		record, line := text, text
		if i := bytes.IndexByte(text, '\n'); i >= 0 {
			line, text = text[:i], text[i+1:]
		} else {
			text = nil
		}
		if n := len(line); n > 0 && line[n-1] == '\r' {
			line = line[:n-1]
		}
		switch problem := r.meet(line, text, number); problem {
		case nil:
		case list.ErrRecord:
			used, lines := r.record(record, number-1)
			text, number = record[used:], number-1+lines
		default:
			r.skip(number, problem.Error())
		}
	}
	r.pass() // before the chunk's memory is used again
	r.to.endChunk()
	r.lines[c.number] = number
	r.counts.Lines += number
}

// skip counts a line of the chunk at hand that could not be read, and keeps the ten first of
// them: chunks are read in no particular order.
func (r *lineReader) skip(line int, problem string) {
	chunk := r.at.number
	r.counts.Skipped++
	if len(r.skips) == keptSkips && chunk > r.skips[keptSkips-1].chunk {
		return
	}
	r.skips = append(r.skips, placedSkip{chunk, line, problem})
	slices.SortStableFunc(r.skips, placedSkip.compare)
	r.skips = r.skips[:min(len(r.skips), keptSkips)]
}

var errTooLong = fmt.Errorf("the line is longer than %d MiB", list.MaxLine>>20)

// meet parses a line, with others below it; the error says why it could not.
func (r *lineReader) meet(line, rest []byte, number int) error {
	if len(line) == 0 || line[0] <= '#' && r.at.layout.Comment(line) {
		r.counts.Comments++
		return nil
	}
	if len(line) > list.MaxLine {
		return errTooLong
	}
	l := &r.read[r.waits]
	if r.at.layout.Read == nil {
		if err := list.ParseLog(line, l); err != nil {
			return err
		}
		if l.Hosted() {
			item, err := l.Item(r.base)
			if err == nil {
				err = r.item(item, number)
			}
			return err
		}
	} else if item, err := r.at.layout.Read(line, rest, l); err != nil {
		return err
	} else if item != nil {
		return r.item(item, number)
	}
	if err := l.Fits(); err != nil {
		return err
	}
	r.places[r.waits] = number
	if r.waits++; r.waits == together {
		r.pass()
	}
	return nil
}

// pass hands on the lines that wait.
func (r *lineReader) pass() {
	lines := r.read[:r.waits]
	r.waits = 0
	r.to.take(lines)
}

// item hands on a request that is read as an item: a Line cannot hold all of it.
func (r *lineReader) item(item *list.Item, number int) error {
	if err := item.Fits(); err != nil {
		return err
	}
	item.Line = r.at.before + number
	r.counts.Requests++
	r.pass()
	r.to.takeItem(item)
	return nil
}

// record reads the record that a text begins with, and says how long it is; before is how
// many lines of the chunk stand above it.
func (r *lineReader) record(text []byte, before int) (used, lines int) {
	r.pass()
	used, c := r.at.layout.Record(text, func(item *list.Item) {
		item.Line += r.at.before + before
		r.to.takeItem(item)
	})
	for _, s := range c.First {
		r.skip(before+s.Line, s.Reason)
	}
	c.Skipped -= len(c.First) // skip has counted them
	lines, c.Lines, c.First = c.Lines, 0, nil
	r.counts.AddFrom(&c, 0)
	return used, lines
}

const keptSkips = 10

type placedSkip struct {
	chunk, line int
	reason      string
}

func (a placedSkip) compare(b placedSkip) int {
	return cmp.Or(cmp.Compare(a.chunk, b.chunk), cmp.Compare(a.line, b.line))
}

// countsOf adds up what the readers of all workers have counted.
func countsOf(readers []*lineReader) (counts list.Counts) {
	perChunk := map[int]int{}
	var skips []placedSkip
	for _, r := range readers {
		counts.AddFrom(&r.counts, 0)
		for n, l := range r.lines {
			perChunk[n] = l
		}
		skips = append(skips, r.skips...)
	}
	slices.SortFunc(skips, placedSkip.compare)
	before, at := 0, 0
	for _, s := range skips[:min(keptSkips, len(skips))] {
		for ; at < s.chunk; at++ {
			before += perChunk[at]
		}
		counts.First = append(counts.First, list.Skip{Line: before + s.line, Reason: s.reason})
	}
	return counts
}
