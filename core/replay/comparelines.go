package replay

// Two rulebooks and the lines of a list, on the fast path: what becomes of a line is remembered
// by its target and by all that either rulebook can tell of it.

import (
	"slices"

	"kibitz/core/engine"
	"kibitz/core/request/list"
)

// A lineComparer compares the lines of one worker.
type lineComparer struct {
	lineReader
	lineKeys
	*Comparer
	known  map[string]compared
	same   map[string]bool // what nothing has changed for, whatever its query
	passes bool            // both rulebooks pass queries on as they are
	key    []byte
}

// Lines compares the requests of a list, and says what its lines are.
func (c *Compare) Lines(text Text, o Options) (list.Counts, error) {
	base := o.base(c.New)
	old, new := c.Old.Inputs(base.Host), c.New.Inputs(base.Host)
	basis := newBasis(bothInputs(old, new), o.Headers)
	matters := func(name string) bool { return old.Matters(name) || new.Matters(name) }
	passes := c.Old.PassesQueries(base.Host) && c.New.PassesQueries(base.Host)
	readers := make([]*lineReader, o.Workers)
	failed := text.read(layoutOf(text.Format, &o, base, matters), &o, func(i int) (*lineReader, func(error)) {
		w := &lineComparer{lineKeys: newLineKeys(basis), Comparer: c.Comparer(), known: map[string]compared{}, same: map[string]bool{}, passes: passes}
		w.lineReader = newLineReader(w, base)
		readers[i] = &w.lineReader
		return readers[i], func(error) { w.Done() }
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
		// A query that is passed on as it is, and looked at by nobody, makes no difference.
		any := remembered[i] && w.passes && !w.needsQuery(&lines[i])
		if any {
			w.key = w.appendKey(w.key[:0], i, &lines[i], false)
			if w.same[string(w.key)] {
				w.lineReader.counts.Requests++
				w.Comparer.counts[nil]++
				continue
			}
		}
		w.key = w.appendKey(w.key[:0], i, &lines[i], true)
		found, known := w.known[string(w.key)]
		if !known || found.ownValues || !remembered[i] {
			item, err := lines[i].Item(w.base)
			if err != nil {
				w.skip(w.places[i], err.Error())
				continue
			}
			item.Request.AddMissing(w.given.Headers)
			if found = w.compare(item.Request); remembered[i] {
				if len(w.known) >= maxCompared {
					clear(w.known)
				}
				w.known[string(w.key)] = found
			}
		}
		if any && found.group == nil && !found.ownValues && !found.queried {
			if len(w.same) >= maxCompared {
				clear(w.same)
			}
			w.same[string(w.appendKey(w.key[:0], i, &lines[i], false))] = true
		}
		w.lineReader.counts.Requests++
		w.Comparer.counts[found.group]++
	}
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
	both := &engine.Inputs{Query: a.Query || b.Query, Times: slices.Concat(a.Times, b.Times), Texts: slices.Concat(a.Texts, b.Texts), Fields: slices.Concat(a.Fields, b.Fields),
		Copies: a.Copies || b.Copies, Header: a.Header || b.Header, URL: min(a.URL, b.URL), Headers: min(a.Headers, b.Headers)}
	for _, c := range slices.Concat(a.Clients, b.Clients) {
		of := *c
		of.Base = false // clients for whom different entries decide are of different classes
		both.Clients = append(both.Clients, &of)
	}
	return both
}
