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
	lineReader
	lineKeys
	request    request.Request // the one at hand, and the answer to it
	response   engine.Response
	visit      *browser.Visit // that it begins; nil where nothing needs it
	options    Options
	since      uint32 // in seconds since 1970; 0 for no bound
	until      uint32
	differs    bool     // -only differs: requests count whose recorded status is another
	named      []string // -only: and those that entries of these names decide
	engine     *engine.Engine
	memo       *memo // of what a line cannot tell
	name       string
	origin     string // of base
	tally      *Tally
	parts      *lineCounter // nil without -by
	show       *lineShow    // nil where no line is shown by itself
	slots      slots
	sums       []counted          // the first is none
	hints      map[sumHint]uint32 // their numbers
	outcomes   outcomeCounts
	entryLines []entryLine // not counted yet
	waiting    [together]pending
	samples    [maxSamples]sample
	line       sample
	touched    uint32 // keeps the compiler from removing the prefetch
	clock      list.Clock
}

// A short log needs little room for slots.
const (
	minSlots  = 1 << 6
	shortLine = 50 // bytes
)

func newLogWorker(e *engine.Engine, name string, size int64, o Options, b *basis, in *room, shown *turns) *logWorker {
	base := o.base(e)
	room := maxSlots
	for room > minSlots && int64(room)*shortLine > size {
		room /= 2
	}
	var parts *lineCounter
	if o.By != nil {
		parts = newLineCounter(o.By)
	}
	w := &logWorker{lineKeys: newLineKeys(b), parts: parts, since: bound(o.Since), until: bound(o.Until), differs: slices.Contains(o.Only, "differs"), named: o.named(), options: o, engine: e, memo: newMemo(e, o.forget), name: name, origin: base.Origin(), tally: newTally(in), slots: newSlots(room), sums: make([]counted, 1, 1+room/8), hints: map[sumHint]uint32{}, outcomes: outcomeCounts{}}
	w.lineReader = newLineReader(w, base)
	if o.Each != nil {
		w.show = newLineShow(&o, shown)
	}
	return w
}

// endChunk ends what is shown of a chunk; sums are of all of them together.
func (w *logWorker) endChunk() {
	w.memo.trim()
	if w.show != nil {
		w.show.endChunk(w.at.number)
	}
}

// bound gives a bound of times in whole seconds, since those of a log are.
func bound(t time.Time) uint32 {
	if t.IsZero() {
		return 0
	}
	return uint32(min(max(t.Add(time.Second-1).Unix(), 1), math.MaxUint32))
}

// A pending line is one of a batch that is looked up.
type pending struct {
	hash       uint64
	query      bool // its memo key has its query, whatever is answered
	unmemoized bool // its answer must not be memoized
	slot       uint32
}

// spread makes hashes of consecutive numbers differ in all bits (Fibonacci hashing: 2⁶⁴
// divided by the golden ratio).
const spread = 0x9E3779B97F4A7C15

// takeItem counts a request that is no line.
func (w *logWorker) takeItem(item *list.Item) {
	r := w.tally.addItem(w.memo, w.name, item, &w.options)
	if r == nil {
		return
	}
	if w.parts != nil {
		w.parts.Add(r)
	}
	if w.show != nil {
		w.show.Result(r)
	}
}

// take counts a batch of lines.
func (w *logWorker) take(lines []list.Line) {
	waiting := w.waiting[:len(lines)]
	for i := range lines {
		m, l := &waiting[i], &lines[i]
		m.query, m.unmemoized = w.needsQuery(l), w.unmemoized(l)
		m.hash = w.slots.hash(l.Asked(m.query))
	}
	if w.slots.size > maxRare {
		w.foldSlots()
	}
	if w.classes {
		w.classify(lines)
		for i := range waiting {
			waiting[i].hash += uint64(w.classed[i].ID) * spread // as w.hash does
		}
	}
	if w.show != nil {
		for i := range lines {
			w.showLine(i, &lines[i])
		}
	}
	for i := range waiting { // prefetch all slots
		m := &waiting[i]
		m.slot = w.slots.guess(m.hash)
		s := &w.slots.all[m.slot]
		w.touched += s.class + uint32(s.key[len(s.key)-1]) // both lines of the cache
	}
	for i := range waiting {
		w.countLine(i, &lines[i])
	}
}

// countLine counts a line of the batch.
func (w *logWorker) countLine(i int, l *list.Line) {
	m, of := &w.waiting[i], &w.classed[i]
	if w.since|w.until > 0 && !w.spans(l) {
		w.leaveOut(i, l)
		return
	}
	if !m.unmemoized {
		if s := w.memoized(m, l, of); s != nil {
			w.countIn(s, l, of)
			return
		}
	}
	w.countNew(i, l)
}

// memoized gives the slot of a line; nil for none. It is that of all lines for its path, or,
// where an entry looks at queries on the way, of those with its query.
func (w *logWorker) memoized(m *pending, l *list.Line, of *engine.Class) *slot {
	key := l.Asked(m.query)
	var s *slot
	if int(m.slot) < len(w.slots.all) && w.slots.is(&w.slots.all[m.slot], key, of.ID) {
		s = &w.slots.all[m.slot]
	} else {
		s = w.slots.find(key, of.ID, m.hash)
	}
	if w.Query && !m.query && (s == nil || s.queried) {
		if whole := l.Asked(true); len(whole) > len(key) {
			return w.slots.find(whole, of.ID, w.hash(whole, of))
		}
	}
	return s
}

// hash is that of a key and class.
func (w *logWorker) hash(key []byte, of *engine.Class) uint64 {
	return w.slots.hash(key) + uint64(of.ID)*spread
}

// countNew predicts a line whose memo key is not in the table.
func (w *logWorker) countNew(i int, l *list.Line) {
	m, of := &w.waiting[i], &w.classed[i]
	number, copied, queried, err := w.predict(l, *of, m.unmemoized)
	if err != nil {
		w.skip(w.places[i], err.Error())
		return
	}
	if w.slots.full() {
		w.foldSlots()
	}
	key := l.Asked(m.query || queried)
	s, sum := w.slots.add(key, of.ID), &w.sums[number]
	s.sum, s.look, s.timed, s.byEntry, s.queried = number, sum.look, sum.by != nil, sum.outcome == nil, queried
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
	w.slots.keep(w.hash(key, of))
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

// leaveOut counts a line outside of -since and -until: it is read, and no more.
func (w *logWorker) leaveOut(i int, l *list.Line) {
	if _, err := list.TargetAddress(string(l.Target()), w.base); err != nil {
		w.skip(w.places[i], err.Error())
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
// an entry copied a value of the request, so that the answer must not be memoized, and whether
// one looked at the query.
func (w *logWorker) predict(l *list.Line, class engine.Class, unmemoized bool) (sum uint32, copied, queried bool, err error) {
	address, err := list.TargetAddress(string(l.Target()), w.base)
	if err != nil {
		return 0, false, false, err
	}
	ask := func(k *sample) {
		w.request = request.Request{Method: verb(l.Method()), Address: address, Client: k.client, Time: k.time, Headers: append(w.request.Headers[:0], k.headers...)}
		w.request.AddMissing(w.options.Headers)
		sum, copied, queried = w.answer(k.Entry)
	}
	if !w.Copies && !unmemoized {
		known := &w.samples[class.ID%maxSamples]
		if known.ID != class.ID {
			known.of(l, class, w.basis, false)
		}
		if ask(known); !copied { // else the line's own values count
			return sum, false, queried, nil
		}
	}
	w.line.of(l, class, w.basis, true)
	ask(&w.line)
	return sum, copied, queried, nil
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
func (w *logWorker) answer(own uint32) (number uint32, copied, looked bool) {
	w.engine.Outcome(&w.request, &w.response)
	copied = w.response.Copied()
	w.visit = nil
	if browser.Follows(&w.response) {
		w.visit = browser.OpenOutcome(w.engine, &w.request, &w.response)
		copied = ownValues(w.Inputs, w.visit)
	}
	s := sumOf(&w.response, w.visit)
	interchangeable := own > 0 && s.by == w.entry(own)
	if interchangeable {
		s.by = nil
	}
	return w.number(s, w.response.File, interchangeable), copied, queried(&w.response, w.visit)
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
		if !s.queried {
			target, _, _ = bytes.Cut(target, []byte("?"))
		}
		address = w.origin + string(target)
	} else if a, err := list.TargetAddress(string(target), w.base); err == nil {
		if !s.queried {
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
