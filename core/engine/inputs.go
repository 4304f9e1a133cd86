package engine

// What an answer depends on. It is told once, for a rulebook as it is compiled, and whoever
// remembers answers makes the keys of that from it.

import (
	"math"
	"net/netip"
	"slices"
	"sort"
	"strings"
	"time"

	"kibitz/core/pattern"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// Inputs are what the answers to requests for a site depend on, beside their method and
// path, over all sites that visits from there can reach.
type Inputs struct {
	Query   bool             // queries that differ may have different answers
	Passes  bool             // each result has the query of the request, whole, or none at all
	Times   []*rulebook.Test // tests of the time
	Texts   []Texts          // the other fields that are tested, but for those that are always at hand
	Clients []*ClientClasses // of each site that tests clients, the first of them the site itself if it does
	Fields  []rulebook.Field // all that are tested or copied
	Copies  bool             // an entry copies a value beside the address, to where it counts
	Header  bool             // an entry copies a value into a header: one that is long, or holds control characters, may spoil it
	URL     int64            // as long as no target is longer, in bytes, no limit of URLs is met on the way
	Headers int64            // and likewise for all header fields together
}

// Texts are the classes of the values that a field has, of each site that tests it.
type Texts struct {
	Field rulebook.Field
	sites []*classes
}

// Append adds the classes of a value to a key, or of a field that is absent: where they are
// the same, the same tests hold.
func (t *Texts) Append(key []byte, value string, present bool) []byte {
	for _, c := range t.sites {
		key = appendID(key, c.of(value, present).ID)
	}
	return key
}

// Few gives the tests of the field, where they are few and each is quickly decided; else nil.
func (t *Texts) Few() (tests []*rulebook.Test) {
	const few = 4
	for _, c := range t.sites {
		tests = append(tests, c.tests...)
	}
	slow := func(v rulebook.Value) bool {
		return v.Kind == rulebook.ValueRegexp || v.Kind == rulebook.ValuePattern
	}
	if len(tests) > few || slices.ContainsFunc(tests, func(t *rulebook.Test) bool { return len(t.Values) > few || slices.ContainsFunc(t.Values, slow) }) {
		return nil
	}
	return tests
}

// HoldsText decides a test of a field that has a text.
func HoldsText(t *rulebook.Test, text string) bool { return holds(t, text, true, 0, netip.Addr{}) }

func appendID(key []byte, id uint32) []byte {
	return append(key, byte(id), byte(id>>8), byte(id>>16), byte(id>>24))
}

// Tests reports whether a field is tested or copied.
func (in *Inputs) Tests(f rulebook.Field) bool { return slices.Contains(in.Fields, f) }

// Matters reports whether a header field, in small letters, can change an answer.
func (in *Inputs) Matters(name string) bool {
	switch name {
	case "accept-encoding", "authorization", "range":
		return true
	}
	return strings.HasPrefix(name, "if-") || in.Headers < math.MaxInt64 || slices.ContainsFunc(in.Fields, func(f rulebook.Field) bool {
		from := f.Row().Header
		return from != nil && from(f.Name) == name
	})
}

// Inputs gives those of the site that answers for a host.
func (e *Engine) Inputs(host string) *Inputs {
	s := e.siteFor(host)
	if s == nil {
		return &Inputs{Passes: true, URL: math.MaxInt64, Headers: math.MaxInt64}
	}
	s.findInputs.Do(func() { s.inputs = e.inputsOf(s) })
	return s.inputs
}

// inputsOf finds the inputs of a site.
func (e *Engine) inputsOf(from *siteEngine) *Inputs {
	in := &Inputs{Passes: true, URL: math.MaxInt64, Headers: math.MaxInt64}
	var longer growth
	for _, s := range e.reach(from) {
		in.Header = in.Header || !s.fixed
		for _, entry := range s.entries {
			in.entry(s, entry)
			longer.entry(entry)
		}
		for _, c := range s.fields {
			switch {
			case c.field.Row().Front || len(c.tests) == 0:
			case c.clients != nil:
				in.Clients = append(in.Clients, c.clients.exported(s == from))
			default:
				in.text(c)
			}
		}
	}
	in.URL = longer.least(in.URL)
	return in
}

func (in *Inputs) text(c *classes) {
	for i := range in.Texts {
		if in.Texts[i].Field == c.field {
			in.Texts[i].sites = append(in.Texts[i].sites, c)
			return
		}
	}
	in.Texts = append(in.Texts, Texts{c.field, []*classes{c}})
}

func (in *Inputs) entry(s *siteEngine, e *entry) {
	for _, t := range e.Tests {
		in.field(t.Field)
		if t.Field.Kind == rulebook.FieldTime {
			in.Times = append(in.Times, t)
		}
	}
	for _, t := range e.Action.Templates() {
		in.template(e.Rule, t)
	}
	if a, sends := e.Action.(rulebook.Sender); sends {
		q, own := a.Sends()
		in.Passes = in.Passes && !own && q.Whole()
	}
	switch a := e.Action.(type) {
	case *rulebook.Moves:
		in.Query = in.Query || s.moved.queries != nil
	case *rulebook.Limit:
		if a.URL >= 0 {
			in.URL = min(in.URL, a.URL)
		}
		if a.Headers >= 0 {
			in.Headers = min(in.Headers, a.Headers)
		}
	case *rulebook.ErrorPage:
		if a.Fill {
			in.page(e.Rule, s.tree.Find(a.Body.Show))
		}
	}
}

func (in *Inputs) field(f rulebook.Field) {
	in.Query = in.Query || f.Kind == rulebook.FieldQuery
	if !slices.Contains(in.Fields, f) {
		in.Fields = append(in.Fields, f)
	}
}

func (in *Inputs) template(r *rulebook.Rule, t *rulebook.Template) {
	for p := range t.Pieces {
		if p.Value && p.Capture == "" {
			in.field(p.Field)
		}
		in.Copies = in.Copies || p.Value && copiesBeside(r, p)
	}
}

// page looks at the values that a page names.
func (in *Inputs) page(r *rulebook.Rule, n *site.Node) {
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
	in.template(r, t)
}

// copiesBeside reports whether a value of a rule's template may be of the request beside
// its method and address: whether it is in truth may depend on which of the values of a
// test holds, so that requests of one class may differ in it.
func copiesBeside(r *rulebook.Rule, p *rulebook.Piece) bool {
	if p.Capture == "" {
		return p.Field.Row().Beside
	}
	return slices.ContainsFunc(r.Tests, func(t *rulebook.Test) bool {
		return t.Takes && !t.Unless && t.Field.Row().Beside && slices.ContainsFunc(t.Values, func(v rulebook.Value) bool {
			return v.Regexp != nil && v.Regexp.SubexpIndex(p.Capture) >= 0
		})
	})
}

// reach gives the sites that visits from one can reach, itself first.
func (e *Engine) reach(from *siteEngine) []*siteEngine {
	found := []*siteEngine{from}
	for i := 0; i < len(found) && len(found) < len(e.sites); i++ {
		for host, known := range found[i].leavesFor {
			if !known {
				return append(found[:1], slices.DeleteFunc(slices.Clone(e.sites), func(s *siteEngine) bool { return s == from })...)
			}
			if s := e.siteFor(host); s != nil && !slices.Contains(found, s) {
				found = append(found, s)
			}
		}
	}
	return found
}

// leavesFor gives the hosts that redirects of the site name; known is false where one is
// not known before there is a request.
func (s *siteEngine) leavesFor(yield func(host string, known bool) bool) {
	for _, entry := range s.entries {
		switch a := entry.Action.(type) {
		case *rulebook.Redirect:
			if a.To.IsPath() || len(a.To.Host) > 0 && a.To.Host[0].Value && a.To.Host[0].Capture == "" && a.To.Host[0].Field.Kind == rulebook.FieldHost && isPort(a.To.Host[1:]) {
				continue
			}
			if text, known := rulebook.Constant(a.To.Host); !yield(hostOf(text), known) {
				return
			}
		case *rulebook.Moves:
			for i := range a.Table.Rows {
				row := &a.Table.Rows[i]
				if row.New == "" || row.New[0] == '/' {
					continue
				}
				to, err := request.Parse(row.New, s.Address)
				if err == nil && !yield(to.Host, true) {
					return
				}
			}
		}
	}
}

// isPort reports whether all that follows a host is a port.
func isPort(pieces []rulebook.Piece) bool {
	return !slices.ContainsFunc(pieces, func(p rulebook.Piece) bool {
		return p.Value && (p.Capture != "" || p.Field.Kind != rulebook.FieldPort) || !p.Value && strings.Trim(p.Text, ":0123456789") != ""
	})
}

// hostOf gives the canonical host of an authority.
func hostOf(authority string) string {
	a, err := request.Parse("https://"+authority+"/", request.Address{})
	if err != nil {
		return ""
	}
	return a.Host
}

// growth bounds how much longer than its first target an URL can become on a visit.
type growth struct {
	unknown  bool
	rewrites int // what the rewrites of one reading add, before a redirect copies the path
	redirect int // what one redirect adds at most
}

func (g *growth) entry(e *entry) {
	switch a := e.Action.(type) {
	case *rulebook.Redirect:
		g.redirect = max(g.redirect, g.template(e.Rule, a.To))
	case *rulebook.Rewrite:
		n := g.template(e.Rule, a.To)
		switch a.Then {
		case rulebook.Finish: // no redirect follows
		case rulebook.Again:
			g.rewrites += MaxStarts * n
		default:
			g.rewrites += n
		}
	case *rulebook.Moves:
		for i := range a.Table.Rows {
			g.redirect = max(g.redirect, len(encodeStray(a.Table.Rows[i].New)))
		}
	}
}

// template gives the length of what a template itself says. The path may be copied once, or
// parts of it that do not overlap: else what comes back to the template grows each time. The
// query is sent along once.
func (g *growth) template(r *rulebook.Rule, t *rulebook.Template) int {
	const longHost = 255
	length := 0
	var parts []string
	for p := range t.Pieces {
		length += len(encodeStray(p.Text))
		whole := p.Capture == "" && (p.Field.Kind == rulebook.FieldPath || p.Field.Kind == rulebook.FieldAsked)
		switch {
		case !p.Value:
		case p.Capture == "" && !whole: // a host, a method: what is longer is a query, or beside the address
			length += longHost
		case len(parts) > 0 && (whole || slices.Contains(parts, p.Capture) || slices.Contains(parts, "")):
			g.unknown = true
		default:
			parts = append(parts, p.Capture)
		}
		g.unknown = g.unknown || len(p.Filters) > 0
	}
	nested := slices.ContainsFunc(r.On, func(p *pattern.Pattern) bool { return p.IsExpression() }) || slices.ContainsFunc(r.Tests, func(t *rulebook.Test) bool { return t.Takes })
	g.unknown = g.unknown || len(parts) > 1 && (nested || slices.Contains(parts, rulebook.Below))
	return length
}

// least gives how long a first target may be, so that no URL on the way is longer than a
// limit. What may not stand in an address is sent as %XX, three bytes for one.
func (g *growth) least(limit int64) int64 {
	switch {
	case limit == math.MaxInt64:
		return limit
	case g.unknown:
		return 0
	}
	each := int64(g.redirect + g.rewrites + len("/"))
	return max(0, limit-MaxRedirects*each) / 3
}

// ClientClasses are the classes of client addresses.
type ClientClasses struct {
	First  []netip.Addr // the first address of each run of addresses that no test tells apart, IPv4 before IPv6
	Class  []Class      // of the run
	None   Class        // of what is not an address
	Nobody Class        // of a client in no network
	Base   bool         // of the site itself, not of one that is reached
}

func (c *clients) exported(base bool) *ClientClasses {
	out := &ClientClasses{First: c.first, None: c.none.Class, Nobody: c.nobody.Class, Base: base}
	for _, of := range c.class {
		out.Class = append(out.Class, of.Class)
	}
	return out
}

// Of gives the class of a client.
func (c *ClientClasses) Of(client netip.Addr) Class {
	switch {
	case !client.IsValid():
		return c.None
	case client.Zone() != "": // no network has zones
		return c.Nobody
	}
	client = client.Unmap()
	behind := sort.Search(len(c.First), func(i int) bool { return client.Less(c.First[i]) })
	return c.Class[behind-1]
}

// A Class is one of client addresses: of two requests that differ in nothing else, and have
// clients of the same class, the answers are the same.
type Class struct {
	ID    uint32 // no other class has it
	Entry uint32 // of entries that do the same for different clients, the one for this client: if it decides for one request of the class, each other one is decided by its own. Its position in Book.Rules, from 1 on; 0 for none
}

// HoldAt appends a byte for each test of the time, which tells whether it holds then.
func HoldAt(tests []*rulebook.Test, t time.Time, out []byte) []byte {
	for _, test := range tests {
		bit := byte('0')
		if holds(test, "", !t.IsZero(), t.UnixMicro(), netip.Addr{}) {
			bit = '1'
		}
		out = append(out, bit)
	}
	return out
}
