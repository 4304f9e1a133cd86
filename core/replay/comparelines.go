package replay

// Two rulebooks and the lines of a list, on the fast path: what becomes of a line is remembered
// by its target and by all that either rulebook can tell of it.

import (
	"slices"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/request/list"
)

// A lineComparer compares the lines of one worker.
type lineComparer struct {
	lineReader
	lineKeys
	*Comparer
	known map[string]*likeLines
	asked map[string]bool // the targets of lines of which nobody looked at the query, if some entry of either rulebook does at others
	key   []byte
}

// likeLines are those with one key: for one target, or for one path, whatever the query.
type likeLines struct {
	compared
	anyQuery bool
	plainest *request.Request // of any query
	target   string           // of that, with its method
	shown    bool             // it has been compared itself
}

// Lines compares the requests of a list, and says what its lines are.
func (c *Compare) Lines(text Text, o Options) (list.Counts, error) {
	base := o.base(c.New)
	old, new := c.Old.Inputs(base.Host), c.New.Inputs(base.Host)
	basis := newBasis(bothInputs(old, new), o.Headers)
	matters := func(name string) bool { return old.Matters(name) || new.Matters(name) }
	readers := make([]*lineReader, o.Workers)
	failed := text.read(layoutOf(text.Format, &o, base, matters), &o, func(i int) (*lineReader, func(error)) {
		w := &lineComparer{lineKeys: newLineKeys(basis), Comparer: c.Comparer(), known: map[string]*likeLines{}, asked: map[string]bool{}}
		w.lineReader = newLineReader(w, base)
		readers[i] = &w.lineReader
		return readers[i], func(error) {
			w.forget()
			w.Done()
		}
	})
	return countsOf(readers), failed
}

// take compares a batch of lines.
func (w *lineComparer) take(lines []list.Line) {
	var remembered [together]bool
	for i := range lines {
		remembered[i] = !w.unmemoized(&lines[i]) && w.short(&lines[i])
	}
	w.classify(lines)
	for i := range lines {
		l := &lines[i]
		var found *likeLines
		if remembered[i] {
			found = w.recall(i, l)
		}
		if found == nil || found.ownValues || found.anyQuery && found.isPlainer(l) {
			item, err := l.Item(w.base)
			if err != nil {
				w.skip(w.places[i], err.Error())
				continue
			}
			item.Request.AddMissing(w.given.Headers)
			if found != nil && found.anyQuery {
				found.plainest, found.target, found.shown = item.Request, string(l.Asked(true)), false
			} else {
				found = w.meet(i, l, item.Request, remembered[i])
			}
		}
		if found.anyQuery && w.Query {
			w.ask(l)
		}
		w.lineReader.counts.Requests++
		w.Comparer.counts[found.group]++
	}
}

// recall gives what is remembered of a line; nil for nothing. The key is then that of the line
// itself.
func (w *lineComparer) recall(i int, l *list.Line) *likeLines {
	if w.sharesPath(l) {
		w.key = w.appendKey(w.key[:0], i, l, false)
		if found := w.known[string(w.key)]; found != nil && found.anyQuery {
			return found
		}
	}
	w.key = w.appendKey(w.key[:0], i, l, true)
	return w.known[string(w.key)]
}

// sharesPath reports whether a query that is passed on as it is, and looked at by nobody, makes
// no difference for a line.
func (w *lineComparer) sharesPath(l *list.Line) bool { return w.Passes && !w.needsQuery(l) }

// isPlainer reports whether a line is plainer than the plainest of them, as plainer says.
func (found *likeLines) isPlainer(l *list.Line) bool {
	asked := l.Asked(true)
	return len(asked) < len(found.target) || len(asked) == len(found.target) && string(asked) < found.target
}

// meet compares the request of a line, and remembers what was found.
func (w *lineComparer) meet(i int, l *list.Line, req *request.Request, remembered bool) *likeLines {
	c, fresh := w.compare(req)
	found := &likeLines{compared: c}
	if remembered {
		if len(w.known) >= maxCompared {
			w.forget()
		}
		if found.anyQuery = w.sharesPath(l) && !c.ownValues && !c.queried; found.anyQuery {
			found.plainest, found.target, found.shown = req, string(l.Asked(true)), true
			w.key = w.appendKey(w.key[:0], i, l, false)
		}
		w.known[string(w.key)] = found
	}
	if fresh && !found.anyQuery {
		w.start(req)
	}
	return found
}

// ask has visitors come back to the target of a line.
func (w *lineComparer) ask(l *list.Line) {
	target := l.Asked(true)
	if w.asked[string(target)] {
		return
	}
	if len(w.asked) >= maxCompared {
		clear(w.asked)
	}
	w.asked[string(target)] = true
	if item, err := l.Item(w.base); err == nil {
		w.start(item.Request)
	}
}

// forget forgets all lines, but what is still to be shown of them.
func (w *lineComparer) forget() {
	for _, found := range w.known {
		if !found.anyQuery {
			continue
		}
		if !found.shown && found.group != nil && w.wants(found.group, found.plainest) {
			w.anew(found.plainest)
		}
		w.start(found.plainest)
	}
	clear(w.known)
}

// takeItem compares a request that is no line.
func (w *lineComparer) takeItem(item *list.Item) {
	item.Request.AddMissing(w.given.Headers)
	w.Add(item)
}

// endChunk has nothing to do: lines are compared whatever their order.
func (w *lineComparer) endChunk() {}

// bothInputs are what the answers of two rulebooks depend on together, to requests for one host.
func bothInputs(a, b *engine.Inputs) *engine.Inputs {
	both := &engine.Inputs{Query: a.Query || b.Query, Passes: a.Passes && b.Passes, Times: slices.Concat(a.Times, b.Times), Texts: slices.Concat(a.Texts, b.Texts), Fields: slices.Concat(a.Fields, b.Fields),
		Copies: a.Copies || b.Copies, Header: a.Header || b.Header, URL: min(a.URL, b.URL), Headers: min(a.Headers, b.Headers)}
	for _, c := range slices.Concat(a.Clients, b.Clients) {
		of := *c
		of.Base = false // clients for whom different entries decide are of different classes
		both.Clients = append(both.Clients, &of)
	}
	return both
}
