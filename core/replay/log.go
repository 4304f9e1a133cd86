package replay

// The fast road for access logs. Lines are parsed where they lie in large
// chunks, by all workers at once. Requests that the rulebook cannot tell apart
// are predicted once and counted from then on; at the end the counts become a
// tally, the same as if each request had been added to it.

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"math"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
)

const (
	chunkSize = 1 << 18 // stays in the cache of a processor, where it is read more than once
	overRead  = 4 << 10
	maxSlots  = 1 << 16 // a power of two
	shortLine = 50      // bytes
)

// A chunk is a run of whole lines.
type chunk struct {
	number int
	text   []byte
}

// A Progress is told how far a log has been read.
type Progress func(bytes int64)

// LogFile replays an access log of a known size that can be read at any place.
func LogFile(e *engine.Engine, name string, in io.ReaderAt, size int64, o Options, progress Progress) (*Tally, error) {
	var next atomic.Int64
	return run(e, name, size, o, func() func() (chunk, error) {
		buf := make([]byte, 1+chunkSize+overRead)
		return func() (chunk, error) {
			n := next.Add(1) - 1
			start := n * chunkSize
			if start >= size {
				return chunk{}, io.EOF
			}
			progress(min(start+chunkSize, size))
			text, err := lines(in, buf, start, size)
			return chunk{int(n), text}, err
		}
	})
}

// lines reads the lines that start in the chunk at start.
func lines(in io.ReaderAt, buf []byte, start, size int64) ([]byte, error) {
	from := max(0, start-1) // one byte back, to see whether a line starts here
	n, err := in.ReadAt(buf[:min(int64(len(buf)), size-from)], from)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	text := buf[:n]
	own := chunkSize
	if start > 0 {
		i := bytes.IndexByte(text, '\n')
		if i < 0 || i > own {
			return nil, nil // a long line from before takes all of it
		}
		text, own = text[i+1:], own-i
	}
	if len(text) <= own {
		return text, nil
	}
	for own > 0 && text[own-1] != '\n' {
		// the last line goes on behind the chunk
		i := bytes.IndexByte(text[own:], '\n')
		if i >= 0 {
			own += i + 1
			break
		}
		at := from + int64(n)
		if at >= size || len(text) > own+list.MaxLine {
			own = len(text)
			break
		}
		more := make([]byte, min(chunkSize, size-at))
		m, err := in.ReadAt(more, at)
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, err
		}
		n += m
		text = append(slices.Clip(text), more[:m]...)
	}
	return text[:own], nil
}

// LogStream replays an access log that comes in one piece after the other.
func LogStream(e *engine.Engine, name string, in io.Reader, o Options) (*Tally, error) {
	full := make(chan chunk, o.Workers)
	empty := make(chan []byte, 2*o.Workers+2)
	for range cap(empty) {
		empty <- nil
	}
	var failed error
	go func() {
		defer close(full)
		var rest []byte
		for number := 0; ; number++ {
			buf := <-empty
			if buf == nil {
				buf = make([]byte, 0, chunkSize)
			}
			buf = append(buf[:0], rest...)
			for len(buf) < cap(buf) {
				n, err := in.Read(buf[len(buf):cap(buf)])
				buf = buf[:len(buf)+n]
				if errors.Is(err, io.EOF) || err != nil && o.stopped() {
					full <- chunk{number, buf}
					return
				}
				if err != nil {
					failed = err
					full <- chunk{number, buf}
					return
				}
				if len(buf) == cap(buf) && bytes.IndexByte(buf, '\n') < 0 && len(buf) <= list.MaxLine {
					buf = slices.Grow(buf, chunkSize)
				}
			}
			end := bytes.LastIndexByte(buf, '\n') + 1
			if end == 0 {
				end = len(buf)
			}
			rest = append([]byte{}, buf[end:]...)
			full <- chunk{number, buf[:end]}
		}
	}()
	t, err := run(e, name, math.MaxInt64, o, func() func() (chunk, error) {
		var last []byte
		return func() (chunk, error) {
			if last != nil {
				empty <- last[:0]
				last = nil
			}
			c, ok := <-full
			if !ok {
				return chunk{}, io.EOF
			}
			last = c.text
			if last == nil {
				last = []byte{}
			}
			return c, nil
		}
	})
	return t, errors.Join(err, failed)
}

// run works on chunks until there are no more; source makes what gives them to
// one worker. There are about size bytes, or less.
func run(e *engine.Engine, name string, size int64, o Options, source func() func() (chunk, error)) (*Tally, error) {
	all := make([]*logWorker, o.Workers)
	errs := make([]error, o.Workers)
	var pool sync.WaitGroup
	for i := range o.Workers {
		pool.Go(func() {
			all[i] = newLogWorker(e, name, size, o)
			next := source()
			for !o.stopped() {
				c, err := next()
				if err != nil {
					if !errors.Is(err, io.EOF) {
						errs[i] = err
					}
					break
				}
				all[i].chunk(c)
			}
			all[i].fold()
			if o.stopped() { // let the reader end
				for {
					if _, err := next(); err != nil {
						break
					}
				}
			}
		})
	}
	pool.Wait()
	var outcomes map[Outcome]*OutcomeCount
	var adding sync.WaitGroup // while all else is added up
	adding.Go(func() { outcomes = addOutcomes(all) })
	total := all[0].tally
	var counts list.Counts
	perChunk := map[int]int{}
	var skips []placedSkip
	for i, w := range all {
		if i > 0 {
			total.Merge(w.tally)
		}
		counts.Lines += w.counts.Lines
		counts.Requests += w.counts.Requests
		counts.Comments += w.counts.Comments
		counts.Skipped += w.counts.Skipped
		for n, l := range w.lines {
			perChunk[n] = l
		}
		skips = append(skips, w.skips...)
	}
	slices.SortFunc(skips, func(a, b placedSkip) int { return cmp.Or(cmp.Compare(a.chunk, b.chunk), cmp.Compare(a.line, b.line)) })
	before, at := 0, 0
	for _, s := range skips[:min(keptSkips, len(skips))] {
		for ; at < s.chunk; at++ {
			before += perChunk[at]
		}
		counts.First = append(counts.First, list.Skip{Line: before + s.line, Reason: s.reason})
	}
	adding.Wait()
	total.Outcomes = outcomes
	total.AddCounts(name, counts)
	total.Partial = o.stopped()
	return total, errors.Join(errs...)
}

// addOutcomes adds up what came of the requests of all workers, in as many shares.
func addOutcomes(all []*logWorker) map[Outcome]*OutcomeCount {
	shares := make([]map[Outcome]*OutcomeCount, len(all))
	var pool sync.WaitGroup
	for i := range all {
		pool.Go(func() { shares[i] = addShare(all, share{i, len(all)}) })
	}
	pool.Wait()
	out := shares[0]
	for _, s := range shares[1:] {
		for o, c := range s {
			addOutcome(out, o, c)
		}
	}
	return out
}

// addOutcome adds a count of an outcome, which two sites may have that have read one entry.
func addOutcome(out map[Outcome]*OutcomeCount, o Outcome, c *OutcomeCount) {
	if same := out[o]; same != nil {
		c.add(same)
	}
	out[o] = c
}

// A share is one of several, of all entries.
type share struct{ i, of int }

func (s share) has(by *rulebook.Rule) bool {
	return by == nil && s.i == 0 || by != nil && by.Number%s.of == s.i
}

// addShare adds up what came of the requests that the entries of a share decided.
func addShare(all []*logWorker, mine share) map[Outcome]*OutcomeCount {
	outcomes := outcomeCounts{}
	for _, w := range all {
		for key, c := range w.outcomes {
			if !mine.has(key.by) {
				continue
			}
			if same := outcomes[key]; same != nil {
				c.add(same)
			}
			outcomes[key] = c
		}
	}
	for _, w := range all {
		w.countOwn(outcomes, mine)
	}
	out := make(map[Outcome]*OutcomeCount, len(outcomes))
	for key, c := range outcomes {
		addOutcome(out, outcomeOf(key.status, key.cause, key.by), c)
	}
	return out
}

const keptSkips = 10

type placedSkip struct {
	chunk, line int
	reason      string
}

// A slot is a request that has been predicted, and how often it came since. It
// fills one line of the processor's cache.
type slot struct {
	hash     uint32
	class    uint32
	look     look
	timed    bool     // an entry decides, whose last use is wanted
	own      bool     // each line's own entry decides, and is counted by itself
	last     uint32   // when it came last, in seconds since 1970
	key      string   // method and target
	sum      *counted // nil: the slot is free
	recorded [2]recorded
	rare     *rare
}

// counted is a sum, and what the slots that were folded have counted of it.
type counted struct {
	sum
	n    int64
	came *OutcomeCount // of its outcome; nil where each line has its own
}

// ownLine is a line that an entry of its own decided, where others like it decide for
// others.
type ownLine struct {
	by      *rulebook.Rule
	sum     *counted
	address string
	status  int32
	at      uint32
}

const maxOwn = 1 << 14

// sumKey is what a sum is found by.
type sumKey struct {
	sum
	own bool
}

// outcomeKey is what an outcome is made of.
type outcomeKey struct {
	status int
	cause  engine.Cause
	by     *rulebook.Rule
}

type outcomeCounts map[outcomeKey]*OutcomeCount

// of gives the count of a sum's outcome, decided by an entry.
func (counts outcomeCounts) of(s *sum, by *rulebook.Rule) *OutcomeCount {
	key := outcomeKey{s.status, s.cause, by}
	c := counts[key]
	if c == nil {
		c = &OutcomeCount{}
		counts[key] = c
	}
	return c
}

// rare is what few slots have.
type rare struct {
	more    map[int]int64 // further recorded statuses
	from    Pages         // of a missing address
	address string        // where each line's own entry decides
}

type recorded struct {
	status int32
	n      uint32
}

func (s *slot) add(status int) {
	for i := range s.recorded {
		if r := &s.recorded[i]; (r.status == int32(status) || r.n == 0) && r.n < math.MaxUint32 {
			r.status = int32(status)
			r.n++
			return
		}
	}
	if s.rare == nil {
		s.rare = &rare{}
	}
	if s.rare.more == nil {
		s.rare.more = map[int]int64{}
	}
	s.rare.more[status]++
}

// A clock reads the times of a log, of which most are of the minute before.
type clock struct {
	text   [26]byte // 10/Oct/2026:13:55:36 +0000
	minute int64
	unix   uint32
}

// at gives a time in seconds since 1970; 0 for what is no time.
func (c *clock) at(text []byte) uint32 {
	const seconds, zone = 18, 20
	if len(text) != len(c.text) {
		return 0
	}
	if string(text) == string(c.text[:]) {
		return c.unix
	}
	if string(text[:seconds]) == string(c.text[:seconds]) && string(text[zone:]) == string(c.text[zone:]) && c.unix > 0 {
		tens, ones := text[seconds]-'0', text[seconds+1]-'0'
		if tens < 6 && ones < 10 {
			copy(c.text[:], text)
			c.unix = uint32(c.minute + 10*int64(tens) + int64(ones))
			return c.unix
		}
	}
	t, err := list.LogTime(text)
	if err != nil || t.Unix() <= 0 || t.Unix() > math.MaxUint32 {
		return 0
	}
	copy(c.text[:], text)
	c.minute, c.unix = t.Unix()-int64(t.Second()), uint32(t.Unix())
	return c.unix
}

// slots is a table of the requests met of late, by key. A request that finds no
// room takes the place of another.
type slots struct {
	seed  maphash.Seed
	table []slot
}

const neighbours = 8 // slots in which a key can be

// at gives the first slot in which a key of this hash can be.
func (t *slots) at(hash uint64) *slot { return &t.table[hash&uint64(len(t.table)-1)] }

// find gives the slot of a key and class; if it is not found, that of another, or a free one.
func (t *slots) find(key []byte, class uint32, hash uint64) (s *slot, found bool) {
	for i := range uint64(neighbours) {
		s := t.at(hash + i)
		if s.sum == nil {
			return s, false
		}
		if s.hash == uint32(hash>>32) && s.class == class && s.key == string(key) {
			return s, true
		}
	}
	return t.at(hash + hash>>20%neighbours), false
}

// logWorker is one worker's part of a replay.
type logWorker struct {
	request  request.Request // the one at hand, and the answer to it
	response engine.Response
	options  Options
	engine   *engine.Engine
	name     string
	base     request.Address
	origin   string // of base
	reads    engine.Reads
	class    *engine.Classifier
	classes  bool // the rulebook looks at more than the target
	tally    *Tally
	slots    slots
	sums     map[sumKey]*counted
	outcomes outcomeCounts
	own      []ownLine // yet to be counted
	waiting  [together]met
	read     [together]list.Line // those that wait
	classed  [together]engine.Class
	likes    [maxLikes]like
	line     like
	waits    int
	touched  uint64 // keeps the look ahead from being left out
	clock    clock
	counts   list.Counts
	lines    map[int]int // by chunk
	skips    []placedSkip
}

func newLogWorker(e *engine.Engine, name string, size int64, o Options) *logWorker {
	base := o.base(e)
	reads := e.Reads(base.Host)
	classes := reads.Agent || reads.Referrer || reads.Client || reads.Time
	room := maxSlots
	for room > neighbours*neighbours && int64(room)*shortLine > size {
		room /= 2 // a short log needs no more
	}
	table := make([]slot, room)
	clear(table) // memory that is read first costs twice: once more when it is written to
	return &logWorker{options: o, classes: classes, engine: e, name: name, base: base, origin: base.Origin(), reads: reads, class: e.Classifier(base.Host), tally: NewTally(), slots: slots{maphash.MakeSeed(), table}, sums: map[sumKey]*counted{}, outcomes: outcomeCounts{}, lines: map[int]int{}}
}

// chunk counts the lines of a chunk.
func (w *logWorker) chunk(c chunk) {
	text := c.text
	if c.number == 0 {
		text = bytes.TrimPrefix(text, []byte("\ufeff"))
	}
	number := 0
	for len(text) > 0 {
		number++
		line := text
		if i := bytes.IndexByte(text, '\n'); i >= 0 {
			line, text = text[:i], text[i+1:]
		} else {
			text = nil
		}
		if n := len(line); n > 0 && line[n-1] == '\r' {
			line = line[:n-1]
		}
		if problem := w.meet(line, c.number, number); problem != nil {
			w.skip(c.number, number, problem)
		}
	}
	w.count() // before the chunk's memory is used again
	w.lines[c.number] = number
	w.counts.Lines += number
}

// skip counts a line that could not be read, and keeps the ten first of them;
// chunks come in no order.
func (w *logWorker) skip(chunk, line int, problem error) {
	w.counts.Skipped++
	if len(w.skips) == keptSkips && chunk > w.skips[keptSkips-1].chunk {
		return
	}
	w.skips = append(w.skips, placedSkip{chunk, line, problem.Error()})
	slices.SortStableFunc(w.skips, func(a, b placedSkip) int { return cmp.Or(cmp.Compare(a.chunk, b.chunk), cmp.Compare(a.line, b.line)) })
	w.skips = w.skips[:min(len(w.skips), keptSkips)]
}

var errTooLong = fmt.Errorf("the line is longer than %d MiB", list.MaxLine>>20)

// A met is a line that has been parsed, and is yet to be counted.
type met struct {
	key   []byte // a part of the line
	hash  uint64
	odd   bool // its values may spoil a header
	chunk int
	line  int
}

// together is how many lines are looked up at once: while one of them waits for
// memory, so do the others.
const together = 16

// spread makes hashes of neighbouring classes differ in all bits (2⁶⁴ divided by
// the golden ratio).
const spread = 0x9E3779B97F4A7C15

// meet parses a line; the error says why it could not.
func (w *logWorker) meet(line []byte, chunk, number int) error {
	if len(line) == 0 || line[0] == '#' || line[0] <= ' ' && len(bytes.TrimSpace(line)) == 0 {
		w.counts.Comments++
		return nil
	}
	if len(line) > list.MaxLine {
		return errTooLong
	}
	m, l := &w.waiting[w.waits], &w.read[w.waits]
	if err := list.ParseLog(line, l); err != nil {
		return err
	}
	target := l.Target
	if !w.reads.Query && int64(len(target)) <= w.reads.LongURL && target[0] == '/' {
		target = l.Path()
	}
	// The method and target stand side by side in the line.
	m.key = l.Asked(target)
	m.hash, m.chunk, m.line = maphash.Bytes(w.slots.seed, m.key), chunk, number
	m.odd = w.reads.Header && !l.Plain(engine.PlainText)
	if w.waits++; w.waits == together {
		w.count()
	}
	return nil
}

// count counts the lines that wait.
func (w *logWorker) count() {
	waiting := w.waiting[:w.waits]
	w.waits = 0
	if w.classes {
		w.class.Classes(w.read[:len(waiting)], w.classed[:])
		for i := range waiting {
			waiting[i].hash += uint64(w.classed[i].ID) * spread
		}
	}
	// All slots are fetched at once, and then the keys they point to.
	for i := range waiting {
		w.touched += waiting[i].hash ^ uint64(w.slots.at(waiting[i].hash).hash)
	}
	for i := range waiting {
		if key := w.slots.at(waiting[i].hash).key; len(key) > 0 {
			w.touched += uint64(key[0])
		}
	}
	for i := range waiting {
		m, l, of := &waiting[i], &w.read[i], &w.classed[i]
		s, found, alone := (*slot)(nil), false, false
		if l.Target[0] == '/' && !m.odd { // one that names its host may be of another site
			s, found = w.slots.find(m.key, of.ID, m.hash)
		}
		if !found {
			sum, copied, err := w.predict(l, *of, m.odd)
			if err != nil {
				w.skip(m.chunk, m.line, err)
				continue
			}
			next := slot{hash: uint32(m.hash >> 32), class: of.ID, look: sum.look, timed: sum.by != nil, own: sum.came == nil, key: string(m.key), sum: sum}
			if next.own {
				next.rare = &rare{address: w.target(next.key)}
			}
			if alone = copied || s == nil; alone { // no other request is surely like it
				s = &next
			} else {
				w.foldSlot(s)
				*s = next
			}
		}
		w.counts.Requests++
		s.add(l.Status)
		switch {
		case s.timed:
			s.last = max(s.last, w.clock.at(l.Time))
		case s.own:
			if w.own == nil {
				w.own = make([]ownLine, 0, maxOwn)
			}
			w.own = append(w.own, ownLine{of.Own, s.sum, s.rare.address, int32(l.Status), w.clock.at(l.Time)})
			if len(w.own) == maxOwn {
				w.countOwn(w.outcomes, share{0, 1})
				w.own = w.own[:0]
			}
		}
		if s.look == lookMissing {
			if l.Tail(); len(l.Referrer) > 0 {
				w.refer(s, l.Referrer)
			}
		}
		if alone {
			w.foldSlot(s)
		}
	}
}

// refer counts the page that a request for a missing address came from.
func (w *logWorker) refer(s *slot, from []byte) {
	if s.rare == nil {
		s.rare = &rare{}
	}
	s.rare.from.add(from, 1)
}

// A like is what the rulebook looks at in a request, beside its target: requests of one
// class have the same answers.
type like struct {
	engine.Class
	client  netip.Addr
	time    time.Time
	headers []request.Header
}

// of reads the line's own.
func (k *like) of(l *list.Line, read engine.Reads, class engine.Class) {
	*k = like{Class: class, headers: k.headers[:0]}
	if read.Client {
		k.client = l.ClientAddr()
	}
	if read.Time {
		k.time = l.At()
	}
	if read.Agent || read.Referrer {
		k.headers = l.Headers(k.headers)
	}
}

// maxLikes bounds the classes whose last request is remembered: what it has is at hand
// then, and what the engine looks up for it, too.
const maxLikes = 1 << 8

// predict answers a line's request, without what no tally counts, and reports whether the
// answer copies what the request says.
func (w *logWorker) predict(l *list.Line, class engine.Class, odd bool) (same *counted, copied bool, err error) {
	address, err := list.TargetAddress(string(l.Target), w.base)
	if err != nil {
		return nil, false, err
	}
	ask := func(k *like) {
		w.request = request.Request{Method: verb(l.Method), Address: address, Client: k.client, Time: k.time, Headers: append(w.request.Headers[:0], k.headers...)}
		w.options.complete(&w.request)
		same, copied = w.answer(k.Own)
	}
	whole := w.reads.Copied || l.Target[0] != '/'
	if !whole && !odd {
		known := &w.likes[class.ID%maxLikes]
		if known.ID != class.ID {
			known.of(l, w.reads, class)
		}
		if ask(known); !copied {
			return same, false, nil
		}
	}
	read := w.reads
	if whole {
		read.Client, read.Time, read.Agent = true, true, true
	}
	w.line.of(l, read, class)
	ask(&w.line)
	return same, copied, nil
}

// verb is a method as a string; the commonest are not copied.
func verb(b []byte) string {
	switch string(b) {
	case "GET":
		return "GET"
	case "HEAD":
		return "HEAD"
	case "POST":
		return "POST"
	}
	return string(b)
}

// answer predicts for the worker's request. Where the entry of its own decides, the sum is
// that of all entries that are alike.
func (w *logWorker) answer(own *rulebook.Rule) (same *counted, copied bool) {
	w.engine.Outcome(&w.request, &w.response)
	copied = w.response.Copied()
	var v *engine.Visit
	if engine.Follows(&w.response) {
		v = w.engine.OutcomeVisit(&w.request, &w.response)
		copied = slices.ContainsFunc(v.Hops, func(h engine.Hop) bool { return h.Response.Copied() })
	}
	s := sumOf(&w.response, v)
	alike := own != nil && s.by == own
	if alike {
		s.by = nil
	}
	key := sumKey{s, alike}
	same = w.sums[key]
	if same == nil {
		same = &counted{sum: s}
		if !alike {
			same.came = w.outcomes.of(&s, s.by)
		}
		w.sums[key] = same
	}
	return same, copied
}

// countOwn counts the lines that entries of their own decided, those of a share, one
// entry after the other.
func (w *logWorker) countOwn(outcomes outcomeCounts, mine share) {
	order := make([]uint64, 0, len(w.own)/mine.of+len(w.own)/8) // an entry's number, and the place of a line: quicker to sort
	for i := range w.own {
		if mine.has(w.own[i].by) {
			order = append(order, uint64(w.own[i].by.Number)<<32|uint64(i))
		}
	}
	slices.Sort(order)
	var by *rulebook.Rule
	var came *OutcomeCount
	for _, at := range order {
		l := &w.own[uint32(at)]
		if l.by != by {
			by = l.by
			came = outcomes.of(&l.sum.sum, by)
		}
		came.N++
		came.Last = max(came.Last, int64(l.at))
		if l.status == 0 {
			continue
		}
		r := came.recorded(int(l.status), l.sum.differs(int(l.status)))
		r.N++
		if r.Differs != nil {
			r.Differs.Add(l.address)
		}
	}
}

// target gives the address of a key, as Result.target does.
func (w *logWorker) target(key string) string {
	method, target, _ := strings.Cut(key, " ")
	address := target
	if target[0] == '/' {
		address = w.origin + target
	} else if a, err := list.TargetAddress(target, w.base); err == nil {
		if !w.engine.ReadsQuery(a.Host) {
			a.Query, a.HasQuery = "", false
		}
		a.Fragment = ""
		address = a.String()
	}
	return withMethod(&request.Request{Method: method}, address)
}

// fold adds what has been counted to the tally, at the end, but for its own lines.
func (w *logWorker) fold() {
	for i := range w.slots.table {
		w.foldSlot(&w.slots.table[i])
	}
	for _, c := range w.sums {
		w.tally.Requests += c.n
		w.tally.countBytes(&c.sum, c.n)
		if c.came != nil {
			c.came.N += c.n
		}
	}
}

func (w *logWorker) foldSlot(s *slot) {
	if s.sum == nil {
		return
	}
	all := int64(0)
	address := ""
	target := func() string {
		if address == "" {
			address = w.target(s.key)
		}
		return address
	}
	record := func(status int, n int64) {
		if n == 0 {
			return
		}
		if all += n; status == 0 || s.own { // the log does not know, or countOwn does
			return
		}
		r := s.sum.came.recorded(status, s.sum.differs(status))
		r.N += n
		if r.Differs != nil {
			r.Differs.add(target(), n)
		}
	}
	for _, r := range s.recorded {
		record(int(r.status), int64(r.n))
	}
	if s.rare != nil {
		for status, n := range s.rare.more {
			record(status, n)
		}
		if s.rare.from != nil {
			w.tally.refer(target(), s.rare.from)
		}
	}
	s.sum.n += all
	if !s.own {
		s.sum.came.Last = max(s.sum.came.Last, int64(s.last))
	}
	if s.look != lookNone {
		w.tally.look(s.look, target(), all)
	}
}
