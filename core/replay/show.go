package replay

// Each request by itself, beside the sums: its whole answer is remembered, with Location and
// header, by its method, target and class, and by what may be copied of it. Several workers
// look at results at once, each at a run of those that follow each other in a list; what they
// make of a run is put behind that of the runs before it.

import (
	"slices"
	"sync"
	"time"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/request/list"
)

// A Show is what one worker shows its results to. Result is called for each of a run, in the
// order of the list; then End, when all runs before this one have ended, and while none else
// does. A result, and the request in it, are good until the call returns; what was answered is
// not changed.
//
// Where lines need not be told apart that ask for the same and of which no test tells more,
// Alike is called for the first of them, and gives what is called for each, this one too,
// in the place of Result.
type Show struct {
	Result func(*Result)
	Alike  func(*Result) (each func()) // may be nil
	End    func()
}

// InOrder makes Shows of what is to be called for one result after the other, in the order
// of the lists, and may keep them.
func InOrder(each func(*Result)) func() Show {
	return func() Show {
		var run []*Result
		return Show{Result: func(r *Result) { run = append(run, r.Clone()) }, End: func() {
			for _, r := range run {
				each(r)
			}
			run = run[:0]
		}}
	}
}

// Clone gives a result that is good for ever.
func (r *Result) Clone() *Result {
	own, item, req := *r, *r.Item, *r.Item.Request
	req.Headers = slices.Clone(req.Headers)
	item.Request, own.Item = &req, &item
	return &own
}

// turns let those who have numbers do something one after the other, from number 0 on.
type turns struct {
	mu    sync.Mutex
	moved sync.Cond
	next  int
	ended bool
}

func newTurns() *turns {
	t := &turns{}
	t.moved.L = &t.mu
	return t
}

// take waits until it is the turn of a number, and does what is to be done then. It does
// nothing once the turns have ended.
func (t *turns) take(number int, do func()) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for t.next != number && !t.ended {
		t.moved.Wait()
	}
	if t.ended {
		return
	}
	do()
	t.next++
	t.moved.Broadcast()
}

// end lets nobody wait any longer: some number does not come.
func (t *turns) end() {
	t.mu.Lock()
	t.ended = true
	t.mu.Unlock()
	t.moved.Broadcast()
}

// A lineShow shows the lines of one worker.
type lineShow struct {
	Show
	turns  *turns
	known  map[string]*shown
	most   int // that are known
	key    []byte
	result Result // at hand
	item   list.Item
	asked  request.Request
}

// shown is what is remembered for a target and class.
type shown struct {
	method   string
	address  request.Address
	anyQuery bool // it is the same for any query: the address is that of one
	response *engine.Response
	visit    *browser.Visit
	query    bool
	said     any    // as Result.Said
	alike    func() // in the place of all else
}

// byValues stands for the class of a line of which the values themselves count, too.
var byValues = &shown{}

func newLineShow(o *Options, turns *turns) *lineShow {
	s := &lineShow{Show: o.Each(), turns: turns, known: map[string]*shown{}, most: maxMemo}
	if o.Whole { // it takes longer to predict them than to find them far away in memory
		s.most *= 2
	}
	return s
}

// showLine shows a line of the batch, if it is one of those that are meant.
func (w *logWorker) showLine(i int, l *list.Line) {
	s := w.show
	if w.since|w.until > 0 && !w.spans(l) {
		return
	}
	remembered := !w.waiting[i].unmemoized && w.short(l)
	var found *shown
	if remembered {
		found = w.recall(i, l)
	}
	if found != nil && found.alike != nil { // as most often: the quick way
		found.alike()
		return
	}
	s.asked.Time, s.asked.Client, s.asked.Headers = w.timeOf(l), l.ClientAddr(), l.Headers(s.asked.Headers[:0])
	from := fromPage(&s.asked)
	program, _ := s.asked.Get(agent.Name)
	s.asked.AddMissing(w.options.Headers)
	ownValues := found == byValues
	if ownValues {
		s.key = w.beside.append(s.key, &s.asked)
		found = s.known[string(s.key)]
	}
	if found == nil || found.anyQuery {
		address, err := list.TargetAddress(string(l.Target()), w.base)
		if err != nil {
			return // it is skipped where it is counted
		}
		s.asked.Method, s.asked.Address = verb(l.Method()), address
	} else {
		s.asked.Method, s.asked.Address = found.method, found.address
	}
	if found == nil {
		found = w.answered(s.asked)
		if remembered {
			w.remember(found, i, l, ownValues)
		}
	}
	s.item = list.Item{Request: &s.asked, Line: w.at.before + w.places[i], Recorded: l.Status}
	s.result = Result{List: w.name, Item: &s.item, Response: found.response, Visit: found.visit, Query: found.query, Said: &found.said, From: from, Robot: w.memo.isRobot(program, w.options.Robots)}
	switch {
	case found.alike != nil:
		found.alike()
	case s.Alike != nil && remembered && w.options.Only == nil:
		like := s.Alike(&s.result)
		s.known[string(s.key)] = &shown{alike: like}
		like()
	case w.options.Of(&s.result):
		s.Result(&s.result)
	}
}

// recall gives what is remembered of a line; nil for nothing. Where there is no more of it than
// the answer for any query, if at all, the key is that of the line itself.
func (w *logWorker) recall(i int, l *list.Line) (found *shown) {
	s := w.show
	if w.sharesPath(i, l) {
		s.key = w.appendKey(s.key[:0], i, l, false)
		if found = s.known[string(s.key)]; found != nil && s.Alike == nil {
			return found
		}
	}
	s.key = w.appendKey(s.key[:0], i, l, true)
	if own := s.known[string(s.key)]; own != nil {
		return own
	}
	return found
}

// remember remembers what was answered to a line under its key, or what is the same for any
// query.
func (w *logWorker) remember(found *shown, i int, l *list.Line, ownValues bool) {
	s := w.show
	switch {
	case ownValues:
	case w.copied(found):
		s.known[string(s.key)] = byValues
		s.key = w.beside.append(s.key, &s.asked)
	case w.sharesPath(i, l) && found.passesNoQuery():
		found.anyQuery = true
		s.known[string(w.appendKey(nil, i, l, false))] = found
		return
	}
	s.known[string(s.key)] = found
}

// sharesPath reports whether a line can have the answer of one with another query.
func (w *logWorker) sharesPath(i int, l *list.Line) bool {
	return !w.waiting[i].query && len(l.Asked(false)) < len(l.Asked(true))
}

// passesNoQuery reports whether nothing looked at the query, and it is not passed on.
func (s *shown) passesNoQuery() bool {
	return s.response.Location == "" && !s.response.Queried()
}

// timeOf is when a line was asked, as Line.At gives it.
func (w *logWorker) timeOf(l *list.Line) time.Time {
	if at := w.clock.At(l); at > 0 && l.Whole() {
		return time.Unix(int64(at), 0).UTC()
	}
	return l.At()
}

// endChunk ends what is shown of a chunk. Answers are forgotten here alone: of one chunk, like
// lines have the same.
func (s *lineShow) endChunk(number int) {
	s.turns.take(number, s.End)
	if len(s.known) > s.most {
		clear(s.known)
	}
}

// answered predicts a request of a line, of which it keeps a copy.
func (w *logWorker) answered(req request.Request) *shown {
	req.Headers = slices.Clone(req.Headers)
	out := &shown{method: req.Method, address: req.Address}
	out.response, out.visit = answer(w.engine, &req, !w.options.Whole)
	out.query = looksAtQuery(w.engine, &req, out.response, out.visit, !w.options.Whole)
	return out
}

// copied reports whether an answer depends on values of the request itself.
func (w *logWorker) copied(s *shown) bool {
	return s.response.Copied() || s.visit != nil && ownValues(w.Inputs, s.visit)
}
