package replay

// Lines of logs counted by what they have in common, on the fast path. What part a line is of
// is told by a few of its bytes: the agent, the referrer, the quarter of an hour. Who has read
// these names the part as for any other request; then it is remembered by the bytes.

import (
	"errors"
	"net/netip"

	"kibitz/core/request/list"
)

// ErrParts is the error of a replay by parts of which there are more than can be told apart
// there: which of them are kept hangs on the order of the lines, so that they must be counted
// one after the other.
var ErrParts = errors.New("there are too many parts")

// A lineCounter counts the lines of one worker.
type lineCounter struct {
	*Breakdown
	known map[string]*Part // by the bytes that tell it
	spans map[uint32]*Part // of day and hour: by the quarter of an hour, since a zone may differ by that
	key   [8]byte
}

const quarter = 15 * 60

// maxRemembered is how many remembered parts are forgotten at once: agents and pages may be long.
const maxRemembered = 1 << 14

func newLineCounter(of *Breakdown) *lineCounter {
	return &lineCounter{Breakdown: &Breakdown{By: of.By, Zone: of.Zone, Robots: of.Robots}, known: map[string]*Part{}, spans: map[uint32]*Part{}}
}

// countPart counts a line with the answer of a slot.
func (w *logWorker) countPart(l *list.Line, s *slot) {
	c := w.parts
	at := w.clock.At(l)
	timed := at > 0 && l.Whole()
	var key []byte
	var part *Part
	inTime := c.By == "day" || c.By == "hour"
	switch c.By {
	case "day", "hour":
		if timed {
			part = c.spans[at/quarter]
		}
	case "agent", "visitor":
		l.Tail()
		key = l.Agent()
	case "referrer":
		l.Tail()
		key = l.Referrer()
	case "network":
		key = c.network(l.ClientAddr())
	case "path":
		key = l.Target()
	case "host":
		if key = l.Target(); key[0] == '/' {
			key = key[:1]
		}
	}
	if part == nil && !inTime {
		part = c.known[string(key)]
	}
	if part == nil {
		if part = w.partOf(l); part == nil {
			c.Others++
			return
		}
		switch {
		case !inTime:
			if len(c.known) == maxRemembered {
				clear(c.known)
			}
			c.known[string(key)] = part
		case timed:
			c.spans[at/quarter] = part
		}
	}
	sum := &w.sums[s.sum].sum
	part.count(sum.status, s.look == lookLoop || s.look == lookTooLong)
	if timed {
		if part.from == 0 || at < part.from {
			part.from = at
		}
		part.to = max(part.to, at)
	} else {
		part.at(l.At())
	}
}

// network gives what networkOf looks at of a client.
func (c *lineCounter) network(client netip.Addr) []byte {
	client = client.Unmap()
	bytes := client.As16()
	switch {
	case client.Is4():
		return append(c.key[:0], bytes[12:15]...)
	case client.Is6():
		return append(c.key[:0], bytes[:6]...)
	}
	return nil
}

// partOf names the part of a line as that of any request.
func (w *logWorker) partOf(l *list.Line) *Part {
	item, err := l.Item(w.base)
	if err != nil { // none that has been predicted
		return nil
	}
	from := fromPage(item.Request)
	item.Request.AddMissing(w.options.Headers)
	return w.parts.part(w.parts.of(&Result{Item: item, From: from}))
}

// merge adds the parts of others, which are not to be used any more; false, and nothing is
// added, where there are too many.
func (g *Breakdown) merge(others ...*Breakdown) bool {
	names := map[string]bool{}
	for name := range g.parts {
		names[name] = true
	}
	for _, o := range others {
		for name := range o.parts {
			names[name] = true
		}
		if o.Others > 0 || len(names) > maxParts {
			return false
		}
	}
	for _, o := range others {
		for name, p := range o.parts {
			p.settle()
			mine := g.part(name)
			mine.Requests += p.Requests
			mine.Loops += p.Loops
			for i, n := range p.Classes {
				mine.Classes[i] += n
			}
			mine.at(p.First)
			mine.at(p.Last)
		}
	}
	return true
}
