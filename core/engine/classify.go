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
	LongURL  int64 // URLs of up to this size are all alike
}

// Reads looks at all entries of the site that answers for host.
func (e *Engine) Reads(host string) Reads {
	r := Reads{LongURL: math.MaxInt64}
	s := e.siteFor(host)
	if s == nil {
		return r
	}
	for _, entry := range s.entries {
		for _, t := range entry.Tests {
			r.field(t.Field)
		}
		switch a := entry.Action.(type) {
		case *rulebook.Moves:
			for _, row := range a.Table.Rows {
				r.Query = r.Query || row.HasQuery
			}
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
	kind  rulebook.FieldKind
	name  string
	known map[string]uint32 // classes of values that a log writes as they are

	few []*rulebook.Test // the tests, if they are few and quickly decided
	ids []uint32         // the classes, by what holds of them
}

const fewTests = 4

// fewOf gives the tests of a field, if they are few and quickly decided.
func fewOf(tests []*rulebook.Test) []*rulebook.Test {
	slow := func(v rulebook.Value) bool { return v.Kind == rulebook.ValueRegexp || v.Kind == rulebook.ValuePattern }
	if len(tests) > fewTests || slices.ContainsFunc(tests, func(t *rulebook.Test) bool { return len(t.Values) > fewTests || slices.ContainsFunc(t.Values, slow) }) {
		return nil
	}
	return tests
}

// classOf gives the class of a value.
func (p *classifierPart) classOf(c *Classifier, value []byte) uint32 {
	id, ok := p.known[string(value)]
	if !ok {
		id = c.site.fields[p.field].of(string(value), len(value) > 0).id
		if len(p.known) >= maxKnown {
			clear(p.known)
		}
		if bytes.IndexByte(value, '"') < 0 && bytes.IndexByte(value, '\\') < 0 {
			p.known[string(value)] = id
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
		c.parts = append(c.parts, classifierPart{field: i, kind: f.field.Kind, name: f.field.Name, known: map[string]uint32{}, few: fewOf(f.tests), ids: make([]uint32, 1<<fewTests)})
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

// Class gives the number of a class: requests for the same target with values of
// the same class have the same answer, if no template copies a value.
func (c *Classifier) Class(l *list.Line) uint32 {
	if len(c.parts) == 1 && len(c.time) == 0 {
		return c.parts[0].class(c, l)
	}
	c.key = c.key[:0]
	for i := range c.parts {
		c.key = binary.LittleEndian.AppendUint32(c.key, c.parts[i].class(c, l))
	}
	if len(c.time) > 0 {
		c.key = append(c.key, c.timed(l.Time)...)
	}
	id, ok := c.all[string(c.key)]
	if !ok {
		if len(c.all) >= maxClasses {
			clear(c.all) // what is met again gets another number, and the same answer
		}
		id = classIDs.Add(1)
		c.all[string(c.key)] = id
	}
	return id
}

// timed says which tests of times hold. Lines that follow each other are mostly of
// one second.
func (c *Classifier) timed(text []byte) []byte {
	if c.holds != nil && string(text) == c.at {
		return c.holds
	}
	t, err := list.LogTime(text)
	c.at, c.holds = string(text), c.holds[:0]
	for _, test := range c.time {
		bit := byte('0')
		if holds(test, "", err == nil, t.UnixNano(), netip.Addr{}) {
			bit = '1'
		}
		c.holds = append(c.holds, bit)
	}
	return c.holds
}

// class gives the class of one value.
func (p *classifierPart) class(c *Classifier, l *list.Line) uint32 {
	switch {
	case p.kind == rulebook.FieldClient:
		return c.site.fields[p.field].clientID(l.Client)
	case p.name == "user-agent":
		if last := l.Last(); len(last) > 0 {
			if id, ok := p.known[string(last)]; ok {
				return id
			}
		}
		l.Tail()
		return p.classOf(c, l.Agent)
	case p.name == "referer":
		return p.referrer(c, l)
	}
	return p.classOf(c, nil)
}

// referrer gives the class of a line's referrer. There are many of them, while
// agents come again: few tests are sooner asked than a value is looked up.
func (p *classifierPart) referrer(c *Classifier, l *list.Line) uint32 {
	value := l.From()
	if value == nil {
		l.Tail()
		value = l.Referrer
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
		p.ids[at] = c.site.fields[p.field].of(string(value), len(value) > 0).id
	}
	return p.ids[at]
}

// ipv4Runs are the IPv4 addresses, cut where their class changes.
type ipv4Runs struct {
	first []uint32          // of each run
	class []uint32          // its number
	from  [1<<16 + 1]uint32 // the run of the first address that begins with two given bytes
}

// cutRuns cuts the IPv4 addresses at the ends of blocks.
func (c *classes) cutRuns() *ipv4Runs {
	runs := &ipv4Runs{first: []uint32{0}}
	for block := range c.blocks.All4() {
		start := block.Masked().Addr().As4()
		from := binary.BigEndian.Uint32(start[:])
		to := from | uint32(1<<(32-block.Bits())-1)
		runs.first = append(runs.first, from)
		if to != math.MaxUint32 {
			runs.first = append(runs.first, to+1)
		}
	}
	slices.Sort(runs.first)
	runs.first = slices.Compact(runs.first)
	for _, first := range runs.first {
		id := c.nobody.id
		if block, ok := c.blocks.Lookup(netip.AddrFrom4([4]byte(binary.BigEndian.AppendUint32(nil, first)))); ok {
			id = block.id
		}
		runs.class = append(runs.class, id)
	}
	at := 0
	for begins := range runs.from {
		for at+1 < len(runs.first) && uint64(runs.first[at+1]) <= uint64(begins)<<16 {
			at++
		}
		runs.from[begins] = uint32(at)
	}
	return runs
}

// find gives the class of an address. It halves what is left without a branch,
// since none could be foretold.
func (r *ipv4Runs) find(address uint32) uint32 {
	at := r.from[address>>16]
	for n := r.from[address>>16+1] - at + 1; n > 1; {
		half := n / 2
		below := (uint64(address) - uint64(r.first[at+half])) >> 63 // 1: it is below the middle
		at += half & (uint32(below) - 1)
		n -= half
	}
	return r.class[at]
}

// clientID is the class of a client as a log names it, without what the class
// says. Most addresses are in no block, which their first two numbers tell; what
// is no address at all may then be something else.
func (c *classes) clientID(text []byte) uint32 {
	if first, second, length := twoNumbers(eight(text)); length > 0 {
		begins := first<<8 | second
		if at := c.runs.from[begins]; at == c.runs.from[begins+1] && c.runs.class[at] == c.none.id {
			return c.none.id
		}
		rest := text[length:]
		third, fourth, length := twoNumbers(eight(rest) | '.'<<(8*len(rest)))
		if length == len(rest)+1 {
			return c.runs.find(first<<24 | second<<16 | third<<8 | fourth)
		}
	}
	client, _ := netip.ParseAddr(unsafe.String(unsafe.SliceData(text), len(text)))
	client = client.Unmap()
	if !client.IsValid() {
		return c.none.id
	}
	if found, ok := c.blocks.Lookup(client); ok {
		return found.id
	}
	return c.nobody.id
}

// eight gives the first bytes of a text, the first one lowest, and zeros behind it.
func eight(s []byte) uint64 {
	switch {
	case len(s) >= 8:
		return binary.LittleEndian.Uint64(s)
	case cap(s) >= 8:
		return binary.LittleEndian.Uint64(s[:8]) & (1<<(8*len(s)) - 1)
	}
	var padded [8]byte
	copy(padded[:], s)
	return binary.LittleEndian.Uint64(padded[:])
}

// twoNumbers reads two numbers below 256, each with a dot behind it, from bytes
// of which the first is the lowest, and gives how many bytes that are; 0 where
// they are no such numbers. No branch depends on lengths, which cannot be foretold.
func twoNumbers(s uint64) (a, b uint32, length int) {
	const each, high = 0x0101010101010101, 0x8080808080808080
	digits := s ^ '0'*each
	others := (digits | (digits&^high + (128-10)*each)) & high // the high bits of what are no digits
	first := bits.TrailingZeros64(others) / 8
	second := bits.TrailingZeros64(others&(others-1)) / 8
	a, okA := number(uint32(digits), first)
	b, okB := number(uint32(digits>>(8*first+8)), second-first-1)
	if !okA || !okB || byte(s>>(8*first)) != '.' || byte(s>>(8*second)) != '.' {
		return 0, 0, 0
	}
	return a, b, second + 1
}

// number makes a number of digits, the first in the lowest byte. It must be below
// 256, and written without needless zeros.
func number(digits uint32, length int) (n uint32, ok bool) {
	digits <<= uint(32 - 8*length) // the last one in the highest byte
	n = digits>>24 + digits>>16&0xff*10 + digits>>8&0xff*100
	least := leastOf[length&7]
	return n, n-least < 256-least
}

// leastOf is the least number of a length, above all numbers where there is none.
var leastOf = [8]uint32{256, 0, 10, 100, 256, 256, 256, 256}
