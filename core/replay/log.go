package replay

// The fast path for logs. All workers parse large chunks of a log in place, without copies;
// answers are memoized (worker.go); at the end the counts of all workers become one tally,
// the same as if each request had been added to it.

import (
	"bytes"
	"errors"
	"io"
	"math"
	"slices"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/request/list"
)

const (
	chunkSize = 1 << 18 // fits into the processor's cache, where it is read more than once
	overRead  = 4 << 10
)

// A chunk is a run of whole records.
type chunk struct {
	number int
	before int // how many lines of a stream stand above it
	text   []byte
	layout *list.Layout
	buf    []byte // that text is a part of, to be used again; may be nil
}

// layoutOf gives how the records of a list are read; matters tells the header fields that can
// change an answer.
func layoutOf(format list.Format, o *Options, base request.Address, matters func(string) bool) *list.Layout {
	reading := list.Options{Base: base, Fields: o.Fields}
	if o.Each == nil { // else all of them are shown
		reading.Matters = matters
	}
	return list.NewLayout(format, reading)
}

// Quick reports whether lists of a format take the fast path. parts: a file of which any
// part can be read first.
func Quick(format list.Format, parts bool) bool {
	lines, anywhere := list.ByLine(format)
	return lines && (anywhere || !parts)
}

// A Progress is told how far a log has been read.
type Progress func(bytes int64)

// A Text is a list that is read by lines: from a file that can be read at any place, if its
// format is one that is Quick in parts, or from a stream.
type Text struct {
	Name     string
	Format   list.Format // one that is Quick
	File     io.ReaderAt // nil for a stream
	Size     int64       // of File
	Progress Progress    // of reading File
	Stream   io.Reader
}

// LogFile replays the lines of a file.
func LogFile(e *engine.Engine, name string, in io.ReaderAt, size int64, format list.Format, o Options, progress Progress) (*Tally, error) {
	return Lines(e, Text{Name: name, Format: format, File: in, Size: size, Progress: progress}, o)
}

// LogStream replays the lines of a stream.
func LogStream(e *engine.Engine, name string, in io.Reader, format list.Format, o Options) (*Tally, error) {
	return Lines(e, Text{Name: name, Format: format, Stream: in}, o)
}

// A chunkSource makes what gives chunks to one worker, the last of them with io.EOF.
type chunkSource func() (next func() (chunk, error))

// read reads all chunks, with as many workers as o says; worker makes the reader of each, and
// what is to be done when it has read its last chunk: failed tells why there is no other, nil
// where all was read.
func (t *Text) read(layout *list.Layout, o *Options, worker func(i int) (r *lineReader, done func(failed error))) error {
	source, ended := t.fromFile(layout, o.Each != nil), func() error { return nil }
	if t.File == nil {
		source, ended = t.fromStream(layout, o)
	}
	var pool errgroup.Group
	for i := range o.Workers {
		pool.Go(func() error {
			r, done := worker(i)
			next := source()
			var failed error
			for failed == nil && !o.stopped() {
				var c chunk
				if c, failed = next(); failed == nil {
					r.chunk(c)
				}
			}
			for failed == nil { // stopped: let the stream end
				_, failed = next()
			}
			if errors.Is(failed, io.EOF) {
				failed = nil
			}
			done(failed)
			return failed
		})
	}
	return errors.Join(pool.Wait(), ended())
}

// fromFile gives the chunks of a file; counted: with how many lines are above each.
func (t *Text) fromFile(layout *list.Layout, counted bool) chunkSource {
	var started atomic.Int64
	counting, above := newTurns(), 0
	return func() func() (chunk, error) {
		buf := make([]byte, 1+chunkSize+overRead)
		return func() (chunk, error) {
			n := started.Add(1) - 1
			start := n * chunkSize
			if start >= t.Size {
				return chunk{}, io.EOF
			}
			t.Progress(min(start+chunkSize, t.Size))
			text, err := lines(t.File, buf, start, t.Size)
			c := chunk{number: int(n), text: text, layout: layout}
			switch {
			case err != nil:
				counting.end()
			case counted:
				inside := linesIn(text)
				counting.take(c.number, func() { c.before, above = above, above+inside })
			}
			return c, err
		}
	}
}

// lines reads the lines that start in the chunk at start.
func lines(in io.ReaderAt, buf []byte, start, size int64) ([]byte, error) {
	from := max(0, start-1) // one byte back, to see whether a line starts here
	n, err := in.ReadAt(buf[:min(int64(len(buf)), size-from)], from)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	text := buf[:n]
	chunk := chunkSize
	if start > 0 {
		i := bytes.IndexByte(text, '\n')
		if i < 0 || i > chunk {
			return nil, nil // a long line from before takes all of it
		}
		text, chunk = text[i+1:], chunk-i
	}
	if len(text) <= chunk {
		return text, nil
	}
	for chunk > 0 && text[chunk-1] != '\n' {
		// the last line goes on behind the chunk
		i := bytes.IndexByte(text[chunk:], '\n')
		if i >= 0 {
			chunk += i + 1
			break
		}
		at := from + int64(n)
		if at >= size || len(text) > chunk+list.MaxLine {
			chunk = len(text)
			break
		}
		more := make([]byte, min(chunkSize, size-at))
		m, err := in.ReadAt(more, at)
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, err
		}
		if m == 0 { // the file has been cut since
			chunk = len(text)
			break
		}
		n += m
		text = append(slices.Clip(text), more[:m]...)
	}
	return text[:chunk], nil
}

// fromStream gives the chunks of a stream; ended, when there are no more, why it could not be
// read any further.
func (t *Text) fromStream(layout *list.Layout, o *Options) (source chunkSource, ended func() error) {
	r := &streamReader{options: o, in: t.Stream, layout: layout, full: make(chan chunk, o.Workers), empty: make(chan []byte, 2*o.Workers+2)}
	for range cap(r.empty) {
		r.empty <- make([]byte, 0, chunkSize)
	}
	var failed error
	go func() {
		defer close(r.full)
		failed = r.read()
	}()
	return func() func() (chunk, error) {
		var last []byte
		return func() (chunk, error) {
			if last != nil {
				r.empty <- last
				last = nil
			}
			c, ok := <-r.full
			if !ok {
				return chunk{}, io.EOF
			}
			last = c.buf
			return c, nil
		}
	}, func() error { return failed }
}

// A streamReader cuts a stream into chunks of whole records.
type streamReader struct {
	options *Options
	in      io.Reader
	layout  *list.Layout
	started bool
	number  int // of the next chunk
	lines   int // above it
	full    chan chunk
	empty   chan []byte // to be used again
}

// read reads the stream to its end.
func (r *streamReader) read() error {
	var rest []byte
	skipping := false // what is left of a line that is too long
	for {
		buf := <-r.empty
		buf = append(buf[:0], rest...)
		end := 0
		for {
			if r.options.stopped() {
				return nil
			}
			if len(buf) == cap(buf) {
				if err := r.start(buf); err != nil {
					return err
				}
				if end = r.layout.Cut(buf); end > 0 || len(buf) > list.MaxLine {
					break
				}
				buf = slices.Grow(buf, chunkSize)
			}
			n, err := r.in.Read(buf[len(buf):cap(buf)])
			buf = buf[:len(buf)+n]
			if skipping {
				i := bytes.IndexByte(buf, '\n')
				if skipping = i < 0; skipping {
					i = len(buf) - 1
				}
				buf = append(buf[:0], buf[i+1:]...)
			}
			if err != nil {
				if err := r.start(buf); err != nil {
					return err
				}
				r.send(buf)
				if errors.Is(err, io.EOF) || r.options.stopped() {
					return nil
				}
				return err
			}
		}
		if end == 0 { // one line, longer than any that is read
			end, skipping = len(buf), true
		}
		rest = append([]byte{}, buf[end:]...)
		r.send(buf[:end])
	}
}

// start reads what the first lines say of those below them.
func (r *streamReader) start(buf []byte) (err error) {
	if !r.started {
		r.started = true
		r.layout, err = r.layout.Start(buf)
	}
	return err
}

// send hands on records, those of each layout by themselves.
func (r *streamReader) send(buf []byte) {
	text := buf
	for {
		i, next := r.layout.Next(text)
		if i < 0 {
			break
		}
		if i > 0 {
			r.pass(bytes.Clone(text[:i]), nil)
		}
		text, r.layout = text[i:], next
	}
	r.pass(text, buf)
}

func (r *streamReader) pass(text, buf []byte) {
	r.full <- chunk{r.number, r.lines, text, r.layout, buf}
	r.number++
	r.lines += linesIn(text)
}

// linesIn counts the lines of a chunk. One without an end is too long, or the last of all.
func linesIn(text []byte) int {
	n := bytes.Count(text, []byte("\n"))
	if len(text) > 0 && text[len(text)-1] != '\n' {
		n++
	}
	return n
}

// Lines replays a list on the fast path.
func Lines(e *engine.Engine, text Text, o Options) (*Tally, error) {
	size := text.Size
	if text.File == nil {
		size = math.MaxInt64
	}
	all := make([]*logWorker, o.Workers)
	basis, addresses, shown := newBasis(e.Inputs(o.base(e).Host), o.Headers), &room{}, newTurns()
	failed := text.read(layoutOf(text.Format, &o, o.base(e), basis.Matters), &o, func(i int) (*lineReader, func(error)) {
		w := newLogWorker(e, text.Name, size, o, basis, addresses, shown)
		all[i] = w
		return &w.lineReader, func(failed error) {
			w.fold()
			if failed != nil {
				shown.end()
			}
		}
	})
	if o.By != nil {
		var parts []*Breakdown
		for _, w := range all {
			parts = append(parts, w.parts.Breakdown)
		}
		if !o.By.merge(parts...) {
			return nil, ErrParts
		}
	}
	var outcomes map[Outcome]*OutcomeCount
	var adding sync.WaitGroup // while all else is added up
	adding.Go(func() { outcomes = addOutcomes(all) })
	total := all[0].tally
	var readers []*lineReader
	for i, w := range all {
		if i > 0 {
			total.Merge(w.tally)
		}
		readers = append(readers, &w.lineReader)
	}
	adding.Wait()
	total.Outcomes = addNamed(outcomes, total.Outcomes) // those of lines that were items
	total.AddCounts(text.Name, countsOf(readers))
	total.Partial = o.stopped()
	return total, failed
}

// addOutcomes adds up what came of the requests of all workers.
func addOutcomes(all []*logWorker) map[Outcome]*OutcomeCount {
	byEntry := make([]map[Outcome]*OutcomeCount, len(all)) // of entry lines, in shares
	var pool sync.WaitGroup
	for i := range byEntry {
		pool.Go(func() {
			counts := outcomeCounts{}
			for _, w := range all {
				w.countByEntry(counts, share{i, len(byEntry)})
			}
			room := len(counts)
			if i == 0 { // for those of all shares
				room *= len(byEntry)
			}
			byEntry[i] = counts.named(room)
		})
	}
	sum := outcomeCounts{}
	for _, w := range all {
		sum.add(w.outcomes)
	}
	pool.Wait()
	out := byEntry[0]
	for _, more := range append(byEntry[1:], sum.named(len(sum))) {
		out = addNamed(out, more)
	}
	return out
}

// named gives the counts by what people call the outcomes, in a map with room for so many.
func (counts outcomeCounts) named(room int) map[Outcome]*OutcomeCount {
	out := make(map[Outcome]*OutcomeCount, room)
	for key, c := range counts {
		if c.N == 0 { // of none that is meant
			continue
		}
		o := outcomeOf(key.status, key.cause, key.by)
		if same := out[o]; same != nil { // two sites have read one entry
			c.add(same, (*Top).Merge)
		}
		out[o] = c
	}
	return out
}

// add adds the counts of one worker, which are not to be used any more.
func (counts outcomeCounts) add(more outcomeCounts) {
	var pool sync.WaitGroup
	for key, c := range more {
		same := counts[key]
		if same == nil {
			counts[key] = c
			continue
		}
		same.add(c, func(a, b *Top) {
			if b.size() < maxFew {
				a.Merge(b)
				return
			}
			pool.Go(func() { a.Merge(b) })
		})
	}
	pool.Wait()
}

// A share is one of several, of all entries.
type share struct{ i, of int }

func (s share) has(by uint32) bool { return int(by)%s.of == s.i }
