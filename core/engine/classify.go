package engine

import (
	"bytes"
	"encoding/binary"
	"math"
	"math/bits"
	"net/netip"
	"slices"
	"strings"
	"unsafe"

	"kibitz/core/request/list"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// Reads says which parts of a request, beside method, host, scheme and path,
// can change its answer.
type Reads struct {
	Query    bool
	Client   bool
	Agent    bool
	Referrer bool
	Time     bool
	Copied   bool  // a template copies a client, header, time or the like
	Header   bool  // a header entry copies a value: one that is long or has control characters may spoil it
	LongURL  int64 // URLs of up to this size are all alike
	Long     int64 // and so are header fields that together have no more

	others map[string]bool // header fields that are neither agent nor referrer
}

// Matters reports whether a header field, in small letters, can change an answer, if it is
// neither agent nor referrer.
func (r *Reads) Matters(name string) bool {
	switch name {
	case "accept-encoding", "authorization", "range":
		return true
	}
	return strings.HasPrefix(name, "if-") || r.others[name] || r.Long < math.MaxInt64
}

// Reads looks at all entries of the site that answers for host.
func (e *Engine) Reads(host string) Reads {
	r := Reads{LongURL: math.MaxInt64, Long: math.MaxInt64, others: map[string]bool{}}
	s := e.siteFor(host)
	if s == nil {
		return r
	}
	r.Header = !s.fixed
	for _, entry := range s.entries {
		for _, t := range entry.Tests {
			r.field(t.Field)
		}
		switch a := entry.Action.(type) {
		case *rulebook.Moves:
			r.Query = r.Query || s.moved.queries
		case *rulebook.Redirect:
			r.template(a.To)
		case *rulebook.Rewrite:
			r.template(a.To)
		case *rulebook.Fallback:
			for _, t := range a.To {
				r.template(t)
			}
		case *rulebook.Limit:
			if a.URL >= 0 {
				r.LongURL = min(r.LongURL, a.URL)
			}
			if a.Headers >= 0 {
				r.Long = min(r.Long, a.Headers)
			}
		case *rulebook.Header:
			for _, c := range a.Changes {
				r.template(c.Value)
			}
		case *rulebook.Reply:
			r.template(a.Body.Text)
		case *rulebook.ErrorPage:
			r.template(a.Body.Text)
			if a.Fill {
				r.page(s.tree.Find(a.Body.Show))
			}
		}
	}
	return r
}

// page looks at the values that a page names.
func (r *Reads) page(n *site.Node) {
	if n == nil || n.Folder {
		return
	}
	page, err := n.Read()
	if err != nil {
		return // it is not filled either
	}
	t := &rulebook.Template{}
	for _, s := range strings.Split(string(page), "{")[1:] {
		inner, _, _ := strings.Cut(s, "}")
		if p, ok := rulebook.PagePiece(inner); ok {
			t.Body = append(t.Body, p)
		}
	}
	r.template(t)
}

func (r *Reads) template(t *rulebook.Template) {
	if t == nil {
		return
	}
	for _, pieces := range [][]rulebook.Piece{t.Body, t.Scheme, t.Host, t.Path, t.Query, t.Fragment} {
		for _, p := range pieces {
			if p.Value && p.Capture == "" {
				r.field(p.Field)
				switch p.Field.Kind {
				case rulebook.FieldClient, rulebook.FieldHeader, rulebook.FieldCookie, rulebook.FieldTime, rulebook.FieldUser:
					r.Copied = true
				}
			}
		}
	}
}

func (r *Reads) field(f rulebook.Field) {
	switch f.Kind {
	case rulebook.FieldQuery:
		r.Query = true
	case rulebook.FieldClient:
		r.Client = true
	case rulebook.FieldTime:
		r.Time = true
	case rulebook.FieldHeader:
		r.Agent = r.Agent || f.Name == "user-agent"
		r.Referrer = r.Referrer || f.Name == "referer"
		r.others[f.Name] = true
	case rulebook.FieldCookie:
		r.others["cookie"] = true
	}
}

// A Classifier tells which of a log line's values the rulebook cannot tell
// apart. It is for one goroutine.
type Classifier struct {
	site  *siteEngine
	parts []classifierPart
	time  []*rulebook.Test
	at    string // the time at hand, as the log writes it
	holds []byte // which of the tests of times hold then

	all map[string]uint32 // the class of the parts' classes and the times, side by side
	key []byte
}

type classifierPart struct {
	field int
	reads column
	known map[string]*knownValue // values that a log writes as they are
	late  [1 << 9]knownValue     // some of them, by parts of their texts

	clients *clientReader // where the field is the client
	found   []Class       // of the lines at hand, where there are other parts

	few []*rulebook.Test // the tests, if they are few and quickly decided
	ids []uint32         // the classes, by what holds of them
}

// A column is what a log tells of a request, beside its target and time.
type column uint8

const (
	columnNone column = iota
	columnClient
	columnAgent
	columnReferrer
)

const fewTests = 4

// fewOf gives the tests of a field, if they are few and quickly decided.
func fewOf(tests []*rulebook.Test) []*rulebook.Test {
	slow := func(v rulebook.Value) bool { return v.Kind == rulebook.ValueRegexp || v.Kind == rulebook.ValuePattern }
	if len(tests) > fewTests || slices.ContainsFunc(tests, func(t *rulebook.Test) bool { return len(t.Values) > fewTests || slices.ContainsFunc(t.Values, slow) }) {
		return nil
	}
	return tests
}

// A knownValue is a value whose class is known.
type knownValue struct {
	text string
	id   uint32
}

// knownID gives the class of a value that is known. Few agents ask most often, and are
// found sooner than by a hash of all of their text: by parts of it in which agents differ,
// their systems, versions and ends.
func (p *classifierPart) knownID(value []byte) (id uint32, ok bool) {
	n := len(value)
	if n == 0 {
		return 0, false
	}
	sample := uint64(n)
	if n >= 32 {
		at := func(i int) uint64 { return binary.LittleEndian.Uint64(value[i:]) }
		sample += at(n/4) + bits.RotateLeft64(at(n-24), 20) + bits.RotateLeft64(at(n-8), 40)
	} else if n >= 8 {
		sample += binary.LittleEndian.Uint64(value) + bits.RotateLeft64(binary.LittleEndian.Uint64(value[n-8:]), 20)
	}
	late := &p.late[sample*spread>>(64-9)]
	if late.text == string(value) {
		return late.id, true
	}
	v := p.known[string(value)]
	if v == nil {
		return 0, false
	}
	*late = *v
	return v.id, true
}

// classOf gives the class of a value.
func (p *classifierPart) classOf(c *Classifier, value []byte) uint32 {
	id, ok := p.knownID(value)
	if !ok {
		id = c.site.fields[p.field].of(string(value), len(value) > 0).ID
		if len(p.known) >= maxKnown {
			clear(p.known)
		}
		if bytes.IndexByte(value, '"') < 0 && bytes.IndexByte(value, '\\') < 0 {
			text := string(value)
			p.known[text] = &knownValue{text, id}
		}
	}
	return id
}

// Classifier makes one for the site that answers for host.
func (e *Engine) Classifier(host string) *Classifier {
	c := &Classifier{site: e.siteFor(host), all: map[string]uint32{}}
	if c.site == nil {
		return c
	}
	for i, f := range c.site.fields {
		if isFront(f.field.Kind) || len(f.tests) == 0 {
			continue
		}
		part := classifierPart{field: i, known: map[string]*knownValue{}, few: fewOf(f.tests), ids: make([]uint32, 1<<fewTests)}
		switch {
		case f.clients != nil:
			part.reads, part.clients = columnClient, newClientReader(f.clients)
		case f.field == rulebook.Field{Kind: rulebook.FieldHeader, Name: "user-agent"}:
			part.reads = columnAgent
		case f.field == rulebook.Field{Kind: rulebook.FieldHeader, Name: "referer"}:
			part.reads = columnReferrer
		}
		c.parts = append(c.parts, part)
	}
	for _, entry := range c.site.entries {
		for _, t := range entry.Tests {
			if t.Field.Kind == rulebook.FieldTime {
				c.time = append(c.time, t)
			}
		}
	}
	return c
}

// maxClasses bounds the memory for classes that are made of several fields'.
const maxClasses = 1 << 16

// A Class is one of a line's values that the rulebook reads, beside its target: requests
// for the same target with values of the same class have the same answer, if no template
// copies a value.
type Class struct {
	ID  uint32 // no other class has it
	Own uint32 // of entries that are alike, the one for the line's client: if it decides for one line of the class, each other's own decides in its place; its position in Book.Rules, from 1 on, or 0 for none
}

// MaxLines is how many lines Classes takes at once.
const MaxLines = 64

// Classes gives the classes of lines, no more than MaxLines: what one of them waits for, the
// others need not.
func (c *Classifier) Classes(lines []list.Line, out []Class) {
	out = out[:len(lines)]
	if len(c.parts) == 1 && len(c.time) == 0 {
		c.parts[0].classes(c, lines, out)
		return
	}
	for p := range c.parts {
		part := &c.parts[p]
		if len(part.found) < len(lines) {
			part.found = make([]Class, len(lines))
		}
		part.classes(c, lines, part.found[:len(lines)])
	}
	for i := range lines {
		own := uint32(0)
		c.key = c.key[:0]
		for p := range c.parts {
			found := &c.parts[p].found[i]
			if found.Own != 0 {
				own = found.Own
			}
			c.key = binary.LittleEndian.AppendUint32(c.key, found.ID)
		}
		if len(c.time) > 0 {
			c.key = append(c.key, c.timed(&lines[i])...)
		}
		id, ok := c.all[string(c.key)]
		if !ok {
			if len(c.all) >= maxClasses {
				clear(c.all) // what is met again gets another number, and the same answer
			}
			id = classIDs.Add(1)
			c.all[string(c.key)] = id
		}
		out[i] = Class{id, own}
	}
}

// timed says which tests of times hold. Lines that follow each other are mostly of
// one second.
func (c *Classifier) timed(l *list.Line) []byte {
	if c.holds != nil && string(l.Time()) == c.at {
		return c.holds
	}
	t := l.At()
	c.at, c.holds = string(l.Time()), c.holds[:0]
	for _, test := range c.time {
		bit := byte('0')
		if holds(test, "", !t.IsZero(), t.UnixMicro(), netip.Addr{}) {
			bit = '1'
		}
		c.holds = append(c.holds, bit)
	}
	return c.holds
}

// classes gives the classes of one value of each line, as Classes does.
func (p *classifierPart) classes(c *Classifier, lines []list.Line, out []Class) {
	out = out[:len(lines)]
	switch p.reads {
	case columnClient:
		p.clients.classes(lines, out)
	case columnAgent:
		for i := range lines {
			l := &lines[i]
			id, ok := p.knownID(l.Last())
			if !ok {
				l.Tail()
				id = p.classOf(c, l.Agent())
			}
			out[i] = Class{ID: id}
		}
	case columnReferrer:
		for i := range lines {
			out[i] = Class{ID: p.referrer(c, &lines[i])}
		}
	default:
		for i := range lines {
			out[i] = Class{ID: p.classOf(c, nil)}
		}
	}
}

// referrer gives the class of a line's referrer. There are many of them, while
// agents come again: few tests are sooner asked than a value is looked up.
func (p *classifierPart) referrer(c *Classifier, l *list.Line) uint32 {
	value := l.From()
	if value == nil {
		l.Tail()
		value = l.Referrer()
	}
	if p.few == nil {
		return p.classOf(c, value)
	}
	at := 0
	for i, t := range p.few {
		if holds(t, unsafe.String(unsafe.SliceData(value), len(value)), len(value) > 0, 0, netip.Addr{}) {
			at |= 1 << i
		}
	}
	if p.ids[at] == 0 {
		p.ids[at] = c.site.fields[p.field].of(string(value), len(value) > 0).ID
	}
	return p.ids[at]
}
