package replay

// A worker of the fast path for logs: it parses lines, looks their answers up in a table of
// memoized ones, and counts.
//
// The memo key of a line is its method and target, and its class: what tests can tell of its
// client, agent, referrer and time (class.go). With the rulebook
//
//	access bots when agent *bot* refuse
//
// all lines that ask GET /fares/ have one of two keys, since their agents either match or do
// not. The first line of each key is predicted, as a sample of its class; the others are
// counted with it. The simpler way, to predict every line, takes a microsecond or two for
// each, and parsing one takes a tenth of that.

import (
	"bytes"
	"cmp"
	"fmt"
	"math"
	"net/netip"
	"slices"
	"time"
	"unsafe"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// counted is a sum, and how many requests of it the slots had that were folded into the tally.
type counted struct {
	sum
	n       int64
	outcome *OutcomeCount // where it is counted; nil where each line is counted for its own entry
	next    uint32        // the number of another with the same hint; 0 for none
}

// An entryLine is a line of a class whose lines different, interchangeable entries decide
// (engine.Class): it is counted for its own entry, later.
type entryLine struct {
	address string
	by      uint32 // its entry, as in an engine.Class
	sum     uint32 // its number
	status  int32
	at      uint32
}

const maxEntryLines = 1 << 14

// A sumHint is the hash key of sums: few differ in nothing of this, and those are compared.
type sumHint struct {
	by   *rulebook.Rule
	file *site.Node
	size int64
}

// outcomeKey is an Outcome without its texts, which is quicker to look up.
type outcomeKey struct {
	status int
	cause  engine.Cause
	by     *rulebook.Rule
}

type outcomeCounts map[outcomeKey]*OutcomeCount

// of gives the count of a sum's outcome, decided by an entry; its addresses are in a room.
func (counts outcomeCounts) of(s *sum, by *rulebook.Rule, in *room) *OutcomeCount {
	key := outcomeKey{s.status, s.cause, by}
	c := counts[key]
	if c == nil {
		c = &OutcomeCount{room: in}
		counts[key] = c
	}
	return c
}

// logWorker is one worker's part of a replay. It is for one goroutine.
type logWorker struct {
	request    request.Request // the one at hand, and the answer to it
	response   engine.Response
	visit      *browser.Visit // that it begins; nil where nothing needs it
	options    Options
	since      uint32 // in seconds since 1970; 0 for no bound
	until      uint32
	long       int64    // a line with more bytes behind its status may exceed a limit of headers
	differs    bool     // -only differs: requests count whose recorded status is another
	named      []string // -only: and those that entries of these names decide
	engine     *engine.Engine
	memo       *memo // of what a line cannot tell
	name       string
	base       request.Address
	origin     string // of base
	basis      *basis
	class      *classifier
	classes    bool // the rulebook looks at more than the target
	tally      *Tally
	parts      *lineCounter // nil without -by
	slots      slots
	sums       []counted          // the first is none
	hints      map[sumHint]uint32 // their numbers
	outcomes   outcomeCounts
	entryLines []entryLine         // not counted yet
	read       [together]list.Line // the batch of lines that are looked up together
	waiting    [together]pending
	classed    [together]engine.Class
	waits      int
	samples    [maxSamples]sample
	line       sample
	touched    uint32 // keeps the compiler from removing the prefetch
	clock      list.Clock
	at         chunk // at hand
	counts     list.Counts
	lines      map[int]int // by chunk
	skips      []placedSkip
}

// A short log needs little room for slots.
const (
	minSlots  = 1 << 6
	shortLine = 50 // bytes
)

func newLogWorker(e *engine.Engine, name string, size int64, o Options, b *basis, in *room) *logWorker {
	base := o.base(e)
	class := newClassifier(b)
	long := b.Headers - list.HeaderSize - 1 // with the names of the fields that logs tell, and the slash that a browser may add to a referring page
	for _, h := range o.Headers {
		long -= int64(len(h.Name) + len(h.Value) + 4)
	}
	room := maxSlots
	for room > minSlots && int64(room)*shortLine > size {
		room /= 2
	}
	var parts *lineCounter
	if o.By != nil {
		parts = newLineCounter(o.By)
	}
	return &logWorker{parts: parts, long: long, since: bound(o.Since), until: bound(o.Until), differs: slices.Contains(o.Only, "differs"), named: o.named(), options: o, classes: class.any(), engine: e, memo: newMemo(e, o.forget), name: name, base: base, origin: base.Origin(), basis: b, class: class, tally: newTally(in), slots: newSlots(room), sums: make([]counted, 1, 1+room/8), hints: map[sumHint]uint32{}, outcomes: outcomeCounts{}, lines: map[int]int{}}
}

// bound gives a bound of times in whole seconds, since those of a log are.
func bound(t time.Time) uint32 {
	if t.IsZero() {
		return 0
	}
	return uint32(min(max(t.Add(time.Second-1).Unix(), 1), math.MaxUint32))
}

// chunk counts the lines of a chunk.
func (w *logWorker) chunk(c chunk) {
	text := c.text
	w.at = c
	number := 0
	if c.number == 0 {
		heading := text[:c.layout.Heading]
		number = bytes.Count(heading, []byte("\n"))
		if text = text[len(heading):]; len(text) == 0 && len(heading) > 0 && heading[len(heading)-1] != '\n' {
			number++
		}
		w.counts.Comments += number
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
		switch problem := w.meet(line, text, number); problem {
		case nil:
		case list.ErrRecord:
			used, lines := w.record(record, number-1)
			text, number = record[used:], number-1+lines
		default:
			w.skip(c.number, number, problem.Error())
		}
	}
	w.count() // before the chunk's memory is used again
	w.lines[c.number] = number
	w.counts.Lines += number
}

// skip counts a line that could not be read, and keeps the ten first of them:
// chunks are read in no particular order.
func (w *logWorker) skip(chunk, line int, problem string) {
	w.counts.Skipped++
	if len(w.skips) == keptSkips && chunk > w.skips[keptSkips-1].chunk {
		return
	}
	w.skips = append(w.skips, placedSkip{chunk, line, problem})
	slices.SortStableFunc(w.skips, func(a, b placedSkip) int { return cmp.Or(cmp.Compare(a.chunk, b.chunk), cmp.Compare(a.line, b.line)) })
	w.skips = w.skips[:min(len(w.skips), keptSkips)]
}

var errTooLong = fmt.Errorf("the line is longer than %d MiB", list.MaxLine>>20)

// A pending line has been parsed, and is not counted yet.
type pending struct {
	hash       uint64
	query      bool // its memo key has its query
	unmemoized bool // its answer must not be memoized
	slot       uint32
	line       int // in the chunk at hand
}

// together is how many lines are looked up in one batch: the processor fetches their slots
// from memory at the same time.
const together = 64

// spread makes hashes of consecutive numbers differ in all bits (Fibonacci hashing: 2⁶⁴
// divided by the golden ratio).
const spread = 0x9E3779B97F4A7C15

// meet parses a line, with others below it; the error says why it could not.
func (w *logWorker) meet(line, rest []byte, number int) error {
	if len(line) == 0 || line[0] <= '#' && w.at.layout.Comment(line) {
		w.counts.Comments++
		return nil
	}
	if len(line) > list.MaxLine {
		return errTooLong
	}
	m, l := &w.waiting[w.waits], &w.read[w.waits]
	if w.at.layout.Read == nil {
		if err := list.ParseLog(line, l); err != nil {
			return err
		}
		if l.Hosted() {
			item, err := l.Item(w.base)
			if err == nil {
				err = w.countItem(item)
			}
			return err
		}
	} else if item, err := w.at.layout.Read(line, rest, l); err != nil {
		return err
	} else if item != nil {
		return w.countItem(item)
	}
	if err := l.Fits(); err != nil {
		return err
	}
	target := l.Target()
	m.query = w.basis.Query || int64(len(target)) > w.basis.URL || target[0] != '/'
	m.hash, m.line = w.slots.hash(l.Asked(m.query)), number
	m.unmemoized = target[0] != '/' || // absolute form (RFC 9112, 3.2.2): it may be of another site
		l.Behind() > w.long || w.basis.Header && !l.Plain(engine.PlainText) // a header that copies a value of this line may be invalid
	if w.waits++; w.waits == together {
		w.count()
	}
	return nil
}

// countItem counts a request that is read as an item: a Line cannot hold all of it.
func (w *logWorker) countItem(item *list.Item) error {
	if err := item.Fits(); err != nil {
		return err
	}
	w.counts.Requests++
	w.addItem(item)
	return nil
}

func (w *logWorker) addItem(item *list.Item) {
	if r := w.tally.addItem(w.memo, w.name, item, &w.options); r != nil && w.parts != nil {
		w.parts.Add(r)
	}
}

// record counts the record that a text begins with, and says how long it is; before is how
// many lines of the chunk stand above it.
func (w *logWorker) record(text []byte, before int) (used, lines int) {
	used, c := w.at.layout.Record(text, func(item *list.Item) {
		item.Line += w.at.before + before
		w.addItem(item)
	})
	for _, s := range c.First {
		w.skip(w.at.number, before+s.Line, s.Reason)
	}
	c.Skipped -= len(c.First) // skip has counted them
	lines, c.Lines, c.First = c.Lines, 0, nil
	w.counts.AddFrom(&c, 0)
	return used, lines
}

// count counts the batch.
func (w *logWorker) count() {
	waiting := w.waiting[:w.waits]
	w.waits = 0
	if w.slots.size > maxRare {
		w.foldSlots()
	}
	if w.classes {
		w.class.classes(w.read[:len(waiting)], w.classed[:])
		for i := range waiting {
			waiting[i].hash += uint64(w.classed[i].ID) * spread
		}
	}
	for i := range waiting { // prefetch all slots
		m := &waiting[i]
		m.slot = w.slots.guess(m.hash)
		s := &w.slots.all[m.slot]
		w.touched += s.class + uint32(s.key[len(s.key)-1]) // both lines of the cache
	}
	for i := range waiting {
		w.countLine(&waiting[i], &w.read[i], &w.classed[i])
	}
}

// countLine counts a line.
func (w *logWorker) countLine(m *pending, l *list.Line, of *engine.Class) {
	if w.since|w.until > 0 && !w.spans(l) {
		w.pass(m, l)
		return
	}
	if !m.unmemoized {
		key := l.Asked(m.query)
		if int(m.slot) < len(w.slots.all) {
			if s := &w.slots.all[m.slot]; w.slots.is(s, key, of.ID) {
				w.countIn(s, l, of)
				return
			}
		}
		if s := w.slots.find(key, of.ID, m.hash); s != nil {
			w.countIn(s, l, of)
			return
		}
	}
	w.countNew(m, l, of)
}

// countNew predicts a line whose memo key is not in the table.
func (w *logWorker) countNew(m *pending, l *list.Line, of *engine.Class) {
	number, copied, err := w.predict(l, *of, m.unmemoized)
	if err != nil {
		w.skip(w.at.number, m.line, err.Error())
		return
	}
	if w.slots.full() {
		w.foldSlots()
	}
	s, sum := w.slots.add(l.Asked(m.query), of.ID), &w.sums[number]
	s.sum, s.look, s.timed, s.byEntry = number, sum.look, sum.by != nil, sum.outcome == nil
	if s.byEntry {
		w.slots.rareOf(s).address = w.target(s)
	}
	s.filtered = !w.meant(s.byEntry)
	if copied || m.unmemoized {
		w.countIn(s, l, of)
		w.foldSlot(s)
		w.slots.drop()
		return
	}
	w.slots.keep(m.hash)
	w.countIn(s, l, of)
}

// countIn counts a line in a slot.
func (w *logWorker) countIn(s *slot, l *list.Line, of *engine.Class) {
	w.counts.Requests++
	if s.filtered && !w.meansLine(s, l, of) {
		return
	}
	w.slots.record(s, l.Status)
	if w.parts != nil {
		w.countPart(l, s)
	}
	switch {
	case s.timed:
		s.last = max(s.last, w.clock.At(l))
	case s.byEntry:
		w.countLater(entryLine{w.slots.rareOf(s).address, of.Entry, s.sum, int32(l.Status), w.clock.At(l)})
	}
	if s.look == lookMissing {
		l.Tail()
		asked := &w.slots.rareOf(s).asked
		asked.at(int64(w.clock.At(l)))
		if len(l.Referrer()) > 0 {
			w.slots.size += asked.From.add(l.Referrer(), 1)
		}
		if agent := l.Agent(); w.memo.isRobot(unsafe.String(unsafe.SliceData(agent), len(agent)), w.options.Robots) {
			asked.Robots++
		}
	}
}

// spans reports whether a line is within -since and -until.
func (w *logWorker) spans(l *list.Line) bool {
	at := w.clock.At(l)
	if at == 0 || !l.Whole() {
		return w.options.spans(l.At())
	}
	return at >= w.since && (w.until == 0 || at < w.until)
}

// pass counts a line outside of -since and -until: it is read, and no more.
func (w *logWorker) pass(m *pending, l *list.Line) {
	if _, err := list.TargetAddress(string(l.Target()), w.base); err != nil {
		w.skip(w.at.number, m.line, err.Error())
		return
	}
	w.counts.Requests++
}

// meant reports whether -only selects all lines with the answer at hand, whatever status was
// recorded. byEntry: each line is decided by its own entry.
func (w *logWorker) meant(own bool) bool {
	if w.options.Only == nil {
		return true
	}
	r := Result{Item: &list.Item{Request: &w.request}, Response: &w.response, Visit: w.visit}
	if own {
		r.Response.By = nil
	}
	return w.options.Of(&r)
}

// meansLine reports whether -only selects a line, where it does not select all lines of its
// slot.
func (w *logWorker) meansLine(s *slot, l *list.Line, of *engine.Class) bool {
	if w.differs && l.Status != 0 && w.sums[s.sum].differs(l.Status) {
		return true
	}
	return s.byEntry && slices.ContainsFunc(w.named, w.entry(of.Entry).IsCalled)
}

// countLater collects lines to be counted by their own entries.
func (w *logWorker) countLater(l entryLine) {
	if w.entryLines == nil {
		w.entryLines = make([]entryLine, 0, maxEntryLines)
	}
	if w.entryLines = append(w.entryLines, l); len(w.entryLines) == maxEntryLines {
		w.countByEntry(w.outcomes, share{0, 1})
		w.entryLines = w.entryLines[:0]
	}
}

// A sample is a request that stands for its class.
type sample struct {
	engine.Class
	client  netip.Addr
	time    time.Time
	headers []request.Header
}

// of takes the values of a line: those that the rulebook looks at, or all.
func (k *sample) of(l *list.Line, class engine.Class, b *basis, all bool) {
	*k = sample{Class: class, headers: k.headers[:0]}
	if all || b.readsClient {
		k.client = l.ClientAddr()
	}
	if all || b.readsTime {
		k.time = l.At()
	}
	if all || b.readsHeaders {
		k.headers = l.Headers(k.headers)
	}
}

// maxSamples bounds how many classes keep a sample. Predicting the same sample for many
// targets is quicker: its values are in the cache, and so are the engine's look-ups of them.
const maxSamples = 1 << 8

// predict predicts the answer to a line, or to the sample of its class, and reports whether
// an entry copied a value of the request, so that the answer must not be memoized.
func (w *logWorker) predict(l *list.Line, class engine.Class, unmemoized bool) (sum uint32, copied bool, err error) {
	address, err := list.TargetAddress(string(l.Target()), w.base)
	if err != nil {
		return 0, false, err
	}
	ask := func(k *sample) {
		w.request = request.Request{Method: verb(l.Method()), Address: address, Client: k.client, Time: k.time, Headers: append(w.request.Headers[:0], k.headers...)}
		w.request.AddMissing(w.options.Headers)
		sum, copied = w.answer(k.Entry)
	}
	if !w.basis.Copies && !unmemoized {
		known := &w.samples[class.ID%maxSamples]
		if known.ID != class.ID {
			known.of(l, class, w.basis, false)
		}
		if ask(known); !copied { // else the line's own values count
			return sum, false, nil
		}
	}
	w.line.of(l, class, w.basis, true)
	ask(&w.line)
	return sum, copied, nil
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

// answer predicts for the worker's request, and gives the number of its sum: one for all
// interchangeable entries, where one of them decides.
func (w *logWorker) answer(own uint32) (number uint32, copied bool) {
	w.engine.Outcome(&w.request, &w.response)
	copied = w.response.Copied()
	w.visit = nil
	if browser.Follows(&w.response) {
		w.visit = browser.OpenOutcome(w.engine, &w.request, &w.response)
		copied = slices.ContainsFunc(w.visit.Hops, func(h browser.Hop) bool { return h.Response.Copied() }) || w.basis.Tests(referrer) && w.visit.Crosses()
	}
	s := sumOf(&w.response, w.visit)
	interchangeable := own > 0 && s.by == w.entry(own)
	if interchangeable {
		s.by = nil
	}
	return w.number(s, w.response.File, interchangeable), copied
}

// entry gives the entry that a class names.
func (w *logWorker) entry(own uint32) *rulebook.Rule { return w.engine.Book.Rules[own-1] }

// number gives the number of a sum; byEntry: of one whose lines are counted for their own
// entries.
func (w *logWorker) number(s sum, file *site.Node, byEntry bool) uint32 {
	hint := sumHint{s.by, file, s.size}
	first := w.hints[hint]
	for n := first; n > 0; n = w.sums[n].next {
		if c := &w.sums[n]; c.sum == s && (c.outcome == nil) == byEntry {
			return n
		}
	}
	c := counted{sum: s, next: first}
	if !byEntry {
		c.outcome = w.outcomes.of(&s, s.by, w.tally.room)
	}
	number := uint32(len(w.sums))
	w.hints[hint], w.sums = number, append(roomy(w.sums), c)
	return number
}

// countByEntry counts the collected lines of a share of the entries, one entry after the
// other.
func (w *logWorker) countByEntry(outcomes outcomeCounts, mine share) {
	if len(w.entryLines) == 0 {
		return
	}
	last, before := make([]uint32, len(w.engine.Book.Rules)/mine.of+1), make([]uint32, len(w.entryLines)) // the numbers of lines, from 1 on
	for i := range w.entryLines {
		if by := w.entryLines[i].by; mine.has(by) {
			last[by/uint32(mine.of)], before[i] = uint32(i)+1, last[by/uint32(mine.of)]
		}
	}
	for _, at := range last {
		var outcome *OutcomeCount
		for ; at > 0; at = before[at-1] {
			l := &w.entryLines[at-1]
			if outcome == nil {
				outcome = outcomes.of(&w.sums[l.sum].sum, w.entry(l.by), w.tally.room)
			}
			outcome.N++
			outcome.ends(w.sums[l.sum].end, 1)
			outcome.Last = max(outcome.Last, int64(l.at))
			if l.status == 0 {
				continue
			}
			r := outcome.recorded(int(l.status), w.sums[l.sum].differs(int(l.status)))
			r.N++
			if r.Differs != nil {
				r.Differs.Add(l.address)
			}
		}
	}
}

// target gives the address of a slot, as Result.target does.
func (w *logWorker) target(s *slot) string {
	method, target, _ := bytes.Cut(w.slots.keyOf(s), []byte(" "))
	var address string
	if target[0] == '/' {
		if !w.basis.Query {
			target, _, _ = bytes.Cut(target, []byte("?"))
		}
		address = w.origin + string(target)
	} else if a, err := list.TargetAddress(string(target), w.base); err == nil {
		if !w.engine.ReadsQuery(a.Host) {
			a.Query, a.HasQuery = "", false
		}
		a.Fragment = ""
		address = a.String()
	} else {
		address = string(target)
	}
	return kept(withMethod(&request.Request{Method: verb(method)}, address))
}

// fold adds what has been counted to the tally, at the end, but for the lines that are
// counted by their entries.
func (w *logWorker) fold() {
	w.foldSlots()
	for i := range w.sums[1:] {
		c := &w.sums[1+i]
		if c.n == 0 {
			continue
		}
		w.tally.Requests += c.n
		w.tally.countBytes(&c.sum, c.n)
		if c.outcome != nil {
			c.outcome.N += c.n
			c.outcome.ends(c.end, c.n)
		}
	}
}

// foldSlots adds what the slots have counted to the sums, and empties the table.
func (w *logWorker) foldSlots() {
	for i := 1; i < len(w.slots.all); i++ {
		w.foldSlot(&w.slots.all[i])
	}
	w.slots.clear()
}

// foldSlot adds up what a slot has counted.
func (w *logWorker) foldSlot(s *slot) {
	of, all, address := &w.sums[s.sum], int64(0), ""
	target := func() string {
		if address == "" {
			address = w.target(s)
		}
		return address
	}
	record := func(status int, n int64) {
		if n == 0 {
			return
		}
		if all += n; status == 0 || s.byEntry { // the log does not tell it, or countByEntry counts it
			return
		}
		r := of.outcome.recorded(status, of.differs(status))
		r.N += n
		if r.Differs != nil {
			r.Differs.add(target(), n, nil)
		}
	}
	for i, n := range s.counts {
		record(int(s.statuses[i]), int64(n))
	}
	rare := &w.slots.rare[s.rare]
	for _, more := range rare.more {
		record(more.status, more.n)
	}
	if all == 0 { // -only selects none of them
		return
	}
	of.n += all
	if !s.byEntry {
		of.outcome.Last = max(of.outcome.Last, int64(s.last))
	}
	if s.look != lookNone {
		asked := rare.asked
		w.tally.look(s.look, target(), all, &asked)
	}
}
