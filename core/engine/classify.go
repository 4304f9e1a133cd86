package engine

import (
	"encoding/binary"
	"math"
	"net/netip"
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

	all map[string]uint32 // the class of the parts' classes and the times, side by side
	key []byte
}

type classifierPart struct {
	field int
	kind  rulebook.FieldKind
	name  string
	known map[string]known

	last   string
	lastID uint32
}

// known is a value that has been met, and its class.
type known struct {
	value string
	id    uint32
}

// classOf gives the class of a value, and the value to keep.
func (p *classifierPart) classOf(c *Classifier, value []byte) (string, uint32) {
	k, ok := p.known[string(value)]
	if !ok {
		k = known{string(value), c.site.fields[p.field].of(string(value), len(value) > 0).id}
		if len(p.known) >= maxKnown {
			clear(p.known)
		}
		p.known[k.value] = k
	}
	return k.value, k.id
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
		c.parts = append(c.parts, classifierPart{field: i, kind: f.field.Kind, name: f.field.Name, known: map[string]known{}})
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

// A Logged is what an access log tells of a request beside its target.
type Logged struct{ Client, Time, Agent, Referrer []byte }

// maxClasses bounds the memory for classes that are made of several fields'.
const maxClasses = 1 << 16

// Class gives the number of a class: requests for the same target with values of
// the same class have the same answer, if no template copies a value.
func (c *Classifier) Class(l *Logged) uint32 {
	if len(c.parts) == 1 && len(c.time) == 0 {
		return c.parts[0].class(c, l)
	}
	c.key = c.key[:0]
	for i := range c.parts {
		c.key = binary.LittleEndian.AppendUint32(c.key, c.parts[i].class(c, l))
	}
	if len(c.time) > 0 {
		t, err := list.LogTime(l.Time)
		for _, test := range c.time {
			bit := byte('0')
			if holds(test, "", err == nil, t.UnixNano(), netip.Addr{}) {
				bit = '1'
			}
			c.key = append(c.key, bit)
		}
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

// class gives the class of one value.
func (p *classifierPart) class(c *Classifier, l *Logged) uint32 {
	var value []byte
	switch {
	case p.kind == rulebook.FieldClient:
		return c.site.fields[p.field].clientID(l.Client)
	case p.name == "user-agent":
		value = l.Agent
	case p.name == "referer":
		value = l.Referrer
	}
	if p.last != string(value) || p.lastID == 0 { // lines that follow each other often share it
		p.last, p.lastID = p.classOf(c, value)
	}
	return p.lastID
}

// clientID is the class of a client as a log names it, without what the class
// says. Most addresses are in no block, which their first two bytes tell; what is
// no address at all may then be something else.
func (c *classes) clientID(text []byte) uint32 {
	if a, b, ok := firstTwo(text); ok && c.near[a][b/64]&(1<<(b%64)) == 0 && c.none == c.nobody {
		return c.nobody.id
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

// firstTwo reads the first two of numbers parted by dots.
func firstTwo(text []byte) (a, b uint8, ok bool) {
	a, text, ok = octet(text)
	if ok {
		b, _, ok = octet(text)
	}
	return a, b, ok
}

// octet reads a number and the dot behind it.
func octet(text []byte) (n uint8, rest []byte, ok bool) {
	number := 0
	for i := 0; i < len(text) && i < 4; i++ {
		c := text[i]
		if c == '.' {
			return uint8(number), text[i+1:], i > 0 && number < 256
		}
		if c < '0' || c > '9' {
			break
		}
		number = 10*number + int(c-'0')
	}
	return 0, nil, false
}
