package replay

// Classes of log lines: which lines surely have the same answer, if they ask for the same
// target. They are made from what the engine says that answers depend on, and from nothing
// else, of the request as it is after the header fields that all requests are given.

import (
	"bytes"
	"encoding/binary"
	"slices"
	"unsafe"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
)

// A basis is what the classes of a replay are made from. It is not changed.
type basis struct {
	*engine.Inputs
	clients *clientRuns // nil where no client is tested
	given   request.Request

	readsClient, readsTime, readsHeaders bool // tested, so that a sample has them
	beside                               besides
}

func newBasis(in *engine.Inputs, headers []request.Header) *basis {
	b := &basis{Inputs: in, beside: besideOf(in), given: request.Request{Headers: headers}}
	b.readsClient, b.readsTime = len(b.Clients) > 0, len(b.Times) > 0
	b.readsHeaders = b.Tests(agent) || b.Tests(referrer)
	if len(b.Clients) > 0 {
		b.clients = runsOf(b.Clients)
	}
	return b
}

// The fields that lines of a log differ in, beside target and client: all others are the
// same for each of them.
var (
	agent    = rulebook.Field{Kind: rulebook.FieldHeader, Name: "user-agent"}
	referrer = rulebook.Field{Kind: rulebook.FieldHeader, Name: "referer"}
)

// A classifier gives the classes of lines. It is for one goroutine.
type classifier struct {
	*basis
	texts   []textClasses
	clients *clientReader // nil where no client is tested
	at      string        // the time at hand, as the log writes it
	holds   []byte        // which of the tests of times hold then

	found map[string]uint32 // by the classes of all fields, side by side
	last  uint32            // class that was made
	key   []byte
}

// textClasses are those of the texts of one field.
type textClasses struct {
	*engine.Texts
	byText   map[string]uint32 // by text as a log writes it
	size     int               // of those texts, in bytes
	absent   uint32            // where the line has none
	byKey    map[string]uint32 // by what holds
	last     uint32            // class that was made
	key      []byte
	direct   []*rulebook.Test       // that are sooner decided than a text is looked up
	byDirect []uint32               // classes, by which of these hold
	found    [together]engine.Class // of the lines at hand
}

// maxKnown bounds what is remembered of texts, and of classes. What comes again after it
// has been forgotten gets another class, and the same answer.
const (
	maxKnown = 1 << 16
	maxTexts = 16 << 20 // bytes
)

func newClassifier(b *basis) *classifier {
	c := &classifier{basis: b, found: map[string]uint32{}}
	if b.clients != nil {
		c.clients = newClientReader(b.clients)
	}
	for i := range b.Texts {
		t := textClasses{Texts: &b.Texts[i], byText: map[string]uint32{}, byKey: map[string]uint32{}}
		if t.Field != agent && t.Field != referrer {
			continue
		}
		if t.direct = t.Few(); t.direct != nil {
			t.byDirect = make([]uint32, 1<<len(t.direct))
		}
		t.absent = t.class(b.given.Get(t.Field.Name))
		c.texts = append(c.texts, t)
	}
	return c
}

// any reports whether lines for one target can differ in their classes.
func (c *classifier) any() bool { return len(c.texts)+len(c.Times) > 0 || c.clients != nil }

// class gives the class of a text.
func (t *textClasses) class(text string, present bool) uint32 {
	t.key = t.Append(t.key[:0], text, present)
	return numbered(t.byKey, t.key, &t.last)
}

// numbered gives the number of a key, a new one where it has none.
func numbered(numbers map[string]uint32, key []byte, last *uint32) uint32 {
	n, ok := numbers[string(key)]
	if !ok {
		if len(numbers) >= maxKnown {
			clear(numbers)
		}
		*last++
		n = *last
		numbers[string(key)] = n
	}
	return n
}

// of gives the class of what a line has.
func (t *textClasses) of(text []byte) uint32 {
	if len(text) == 0 {
		return t.absent
	}
	if t.direct != nil {
		hold := 0
		for i, test := range t.direct {
			if engine.HoldsText(test, unsafe.String(unsafe.SliceData(text), len(text))) {
				hold |= 1 << i
			}
		}
		if t.byDirect[hold] == 0 {
			t.byDirect[hold] = t.class(string(text), true)
		}
		return t.byDirect[hold]
	}
	class, ok := t.byText[string(text)]
	if !ok {
		class = t.class(string(text), true)
		if len(t.byText) >= maxKnown || t.size > maxTexts {
			clear(t.byText)
			t.size = 0
		}
		t.size += len(text)
		if bytes.IndexByte(text, '"') < 0 && bytes.IndexByte(text, '\\') < 0 { // a log may write it otherwise
			t.byText[string(text)] = class
		}
	}
	return class
}

// classes gives the classes of what lines have.
func (t *textClasses) classes(lines []list.Line, out []engine.Class) {
	out = out[:len(lines)]
	if t.Field == agent {
		for i := range lines {
			l := &lines[i]
			class, ok := t.byText[string(l.Last())]
			if !ok {
				l.Tail()
				class = t.of(l.Agent())
			}
			out[i].ID = class
		}
		return
	}
	for i := range lines {
		l := &lines[i]
		text := l.From()
		if text == nil {
			l.Tail()
			text = l.Referrer()
		}
		out[i].ID = t.of(text)
	}
}

// classes gives the classes of lines, no more than together: what one of them waits for, the
// others need not.
func (c *classifier) classes(lines []list.Line, out []engine.Class) {
	if c.clients != nil {
		c.clients.classes(lines, out)
		if len(c.texts)+len(c.Times) == 0 {
			return
		}
	} else {
		clear(out[:len(lines)])
	}
	if c.clients == nil && len(c.texts) == 1 && len(c.Times) == 0 { // as so often
		c.texts[0].classes(lines, out)
		return
	}
	for i := range c.texts {
		c.texts[i].classes(lines, c.texts[i].found[:])
	}
	for i := range lines {
		c.key = binary.LittleEndian.AppendUint32(c.key[:0], out[i].ID)
		for t := range c.texts {
			c.key = binary.LittleEndian.AppendUint32(c.key, c.texts[t].found[i].ID)
		}
		if len(c.Times) > 0 {
			c.key = append(c.key, c.timed(&lines[i])...)
		}
		out[i].ID = numbered(c.found, c.key, &c.last)
	}
}

// timed says which tests of times hold. Lines that follow each other are mostly of
// one second.
func (c *classifier) timed(l *list.Line) []byte {
	if c.holds != nil && string(l.Time()) == c.at {
		return c.holds
	}
	c.at, c.holds = string(l.Time()), engine.HoldAt(c.Times, l.At(), c.holds[:0])
	return c.holds
}

// lineKeys tell which lines of a batch have the same answer: if their answers may be memoized,
// those with the same method, target and class. It is for one goroutine.
type lineKeys struct {
	*basis
	classifier *classifier
	classes    bool  // the rulebook looks at more than the target
	long       int64 // a line with more bytes behind its status may exceed a limit of headers
	classed    [together]engine.Class
}

func newLineKeys(b *basis) lineKeys {
	k := lineKeys{basis: b, classifier: newClassifier(b)}
	k.classes = k.classifier.any()
	k.long = b.Headers - list.HeaderSize - 1 // with the names of the fields that logs tell, and the slash that a browser may add to a referring page
	for _, h := range b.given.Headers {
		k.long -= int64(len(h.Name) + len(h.Value) + 4)
	}
	return k
}

// classify finds the classes of a batch.
func (k *lineKeys) classify(lines []list.Line) {
	if k.classes {
		k.classifier.classes(lines, k.classed[:])
	}
}

// needsQuery reports whether lines that differ in their queries may have different outcomes,
// even where no entry looks at queries.
func (k *lineKeys) needsQuery(l *list.Line) bool {
	target := l.Target()
	return int64(len(target)) > k.URL || target[0] != '/'
}

// unmemoized reports whether the answer to a line may be another than that of its class. It
// must be asked before Tail.
func (k *lineKeys) unmemoized(l *list.Line) bool {
	return l.Target()[0] != '/' || // absolute form (RFC 9112, 3.2.2): it may be of another site
		l.Behind() > k.long || k.Header && !l.Plain(engine.PlainText) // a header that copies a value of this line may be invalid
}

// short reports whether a line is short enough to be remembered. It must be asked before Tail.
func (k *lineKeys) short(l *list.Line) bool { return len(l.Asked(true))+int(l.Behind()) <= maxAsked }

// appendKey adds the key of the whole answer to a line of the batch: its method, target and
// class; or, without the query, that of all lines that have one, and likewise of those that
// have none.
func (k *lineKeys) appendKey(key []byte, i int, l *list.Line, query bool) []byte {
	whole := l.Asked(true)
	if asked := l.Asked(query); len(asked)+len("?") < len(whole) {
		key = append(key, asked...)
		key = append(key, ' ') // which is in no target
	} else {
		key = append(key, whole...)
	}
	key = binary.LittleEndian.AppendUint32(key, k.classed[i].ID)
	return binary.LittleEndian.AppendUint32(key, k.classed[i].Entry)
}

// besides are the fields that an answer depends on, beside method and address.
type besides []rulebook.Field

func besideOf(in *engine.Inputs) (out besides) {
	for _, f := range in.Fields {
		if f.Row().Beside {
			out = append(out, f)
		}
	}
	return out
}

// append adds their values to the key of a request, for an answer that depends on more than
// which tests hold.
func (fields besides) append(key []byte, req *request.Request) []byte {
	for _, f := range fields {
		text, present := f.Row().Text(rulebook.Before{Asks: req}, f.Name)
		key = append(key, '0')
		if present {
			key = appendText(append(key, '1'), text)
		}
	}
	return key
}

// ownValues reports whether a visit depends on values of the request itself: an entry has copied
// one, or another site was told less of the page that it came from.
func ownValues(in *engine.Inputs, v *browser.Visit) bool {
	return slices.ContainsFunc(v.Hops, func(h browser.Hop) bool { return h.Response.Copied() }) || in.Tests(referrer) && v.Crosses()
}
