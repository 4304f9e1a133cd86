// Package excerpt makes a short list that stands for a long one: the fewest requests that
// are answered in every way in which those of the list are, and that notice each small
// harm to the rulebook.
package excerpt

import (
	"cmp"
	"fmt"
	"io"
	"net/netip"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"kibitz/core/browser"
	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/proof"
	"kibitz/core/replay"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
)

// A Pick is a request of an excerpt.
type Pick struct {
	*list.Item
	By    *rulebook.Rule // that decides it; nil for none
	Of    int64          // requests of the list that are answered in the same way; 0 for one that was made
	Made  bool           // no list has it
	Holds []string       // when this request fails first, as Harm.If says it
}

// A Gatherer gathers the ways in which the requests of a list are answered.
type Gatherer struct {
	engine  *engine.Engine
	inputs  map[string]*engine.Inputs // by host
	classes map[string]*class
	key     []byte
}

// A class are the requests that are answered in one way, and of which the same is true.
type class struct {
	n      int64
	way    string           // how they are answered
	parts  []string         // that, with each thing that is true of them
	common map[string]*met  // some requests by method and target, the commonest among them
	sample *request.Request // of the first
}

type met struct {
	n   int64
	req *request.Request
}

const (
	maxClasses = 20_000
	maxMet     = 1 << 16 // requests that are counted of all classes together
	leastMet   = 16      // and of each at least
)

// NewGatherer makes one for the requests to an engine.
func NewGatherer(e *engine.Engine) *Gatherer {
	return &Gatherer{engine: e, inputs: map[string]*engine.Inputs{}, classes: map[string]*class{}}
}

// Show gives what takes the results of one worker; what a run has of each is added when it
// ends.
func (g *Gatherer) Show() replay.Show {
	var run []*like
	count := func(l *like, n int64) {
		if l.n == 0 {
			run = append(run, l)
		}
		l.n += n
	}
	return replay.Show{Result: func(r *replay.Result) {
		count(newLike(r), max(r.Item.Times, 1))
	}, Alike: func(r *replay.Result) func() {
		l := newLike(r)
		return func() { count(l, 1) }
	}, End: func() {
		for _, l := range run {
			g.add(l)
			l.n = 0
		}
		run = run[:0]
	}}
}

// A like are requests for the same, with all that is true of them.
type like struct {
	n     int64 // that are not added yet
	asked *request.Request
	first *replay.Result // of it; nil once the class is known
	class *class         // nil where there are too many
	met   *met
}

func newLike(r *replay.Result) *like {
	first := r.Clone()
	return &like{first: first, asked: first.Item.Request}
}

// add adds like requests of a list.
func (g *Gatherer) add(l *like) {
	if l.first != nil {
		l.class, l.first = g.classOf(l.first), nil
	}
	if l.class == nil {
		return
	}
	l.class.n += l.n
	if l.met == nil || l.met.n == 0 {
		l.met = l.class.count(l.asked, l.n, max(leastMet, maxMet/len(g.classes)))
	} else {
		l.met.n += l.n
	}
}

// classOf gives the class of a request; nil where there are too many.
func (g *Gatherer) classOf(r *replay.Result) *class {
	host := r.Item.Request.Address.Host
	in := g.inputs[host]
	if in == nil {
		in = g.engine.Inputs(host)
		g.inputs[host] = in
	}
	g.key = appendWay(g.key[:0], r)
	way := len(g.key)
	g.key = appendTruths(g.key, in, r.Item.Request)
	c := g.classes[string(g.key)]
	if c == nil && len(g.classes) < maxClasses {
		c = &class{way: string(g.key[:way]), sample: r.Item.Request, common: map[string]*met{}}
		c.parts = append(c.parts, c.way)
		for i, truth := range strings.Split(string(g.key[way:]), "\x00") {
			if truth != "" {
				c.parts = append(c.parts, c.way+"\x00"+strconv.Itoa(i)+truth)
			}
		}
		g.classes[string(g.key)] = c
	}
	return c
}

// count counts a request n times, with room for so many others: of more, those stay that come
// often (Misra and Gries). It gives what counts it; nil where it does not stay.
func (c *class) count(req *request.Request, n int64, room int) *met {
	at := req.Verb() + " " + req.Address.Target()
	if m := c.common[at]; m != nil {
		m.n += n
		return m
	}
	if len(c.common) >= room {
		least := n
		for _, m := range c.common {
			least = min(least, m.n)
		}
		for at, m := range c.common {
			if m.n -= least; m.n == 0 {
				delete(c.common, at)
			}
		}
		if n -= least; n == 0 {
			return nil
		}
	}
	m := &met{n, req}
	c.common[at] = m
	return m
}

// requests are those of a class, the commonest first.
func (c *class) requests() []*request.Request {
	var all []*met
	for _, m := range c.common {
		all = append(all, m)
	}
	slices.SortFunc(all, func(a, b *met) int {
		return cmp.Or(cmp.Compare(b.n, a.n), strings.Compare(a.req.Address.Target(), b.req.Address.Target()), strings.Compare(a.req.Verb(), b.req.Verb()))
	})
	out := []*request.Request{}
	for _, m := range all {
		out = append(out, m.req)
	}
	if len(out) == 0 {
		out = append(out, c.sample)
	}
	return out
}

// appendWay adds how a request is answered: by which entry, why, with which status and form
// of Location, in which encoding, and where the visit ends.
func appendWay(key []byte, r *replay.Result) []byte {
	resp := r.Response
	if resp.By != nil {
		key = strconv.AppendInt(key, int64(resp.By.Number)+1, 10)
	}
	key = append(append(key, ' '), resp.Cause...)
	key = strconv.AppendInt(append(key, ' '), int64(resp.Status), 10)
	key = append(append(key, ' '), resp.Encoding...)
	if resp.Location != "" {
		key = append(key, ' ')
		if strings.Contains(resp.Location, "://") {
			key = append(key, 'a')
		}
		if strings.Contains(resp.Location, "?") {
			key = append(key, 'q')
		}
	}
	if r.Visit != nil {
		key = append(append(key, ' '), r.Visit.Ending...)
		last := r.Visit.Last()
		key = strconv.AppendInt(append(key, ' '), int64(last.Status), 10)
		if last.By != nil {
			key = strconv.AppendInt(append(key, ' '), int64(last.By.Number)+1, 10)
		}
	}
	return append(key, 0)
}

// appendTruths adds what is true of a request: for each field that is tested, which of its
// tests hold.
func appendTruths(key []byte, in *engine.Inputs, req *request.Request) []byte {
	for i := range in.Texts {
		t := &in.Texts[i]
		value, ok := t.Field.Row().Text(rulebook.Before{Asks: req}, t.Field.Name)
		key = append(t.Append(key, value, ok), 0)
	}
	for _, c := range in.Clients {
		key = append(strconv.AppendUint(key, uint64(c.Of(req.Client).ID), 10), 0)
	}
	if len(in.Times) > 0 {
		key = append(engine.HoldAt(in.Times, req.Time, key), 0)
	}
	return key
}

// Make picks the requests of an excerpt: for each way in which the list is answered, and
// each thing that is true of some requests so answered, the commonest; then for each harm
// to the rulebook one that notices it, of the list where it has one, else one that is
// made. load gives the files that the rulebook names; with nil the rulebook is not harmed.
func (g *Gatherer) Make(base request.Address, load func(string) ([]byte, error)) (picks []*Pick, s Strength) {
	var classes []*class
	for _, c := range g.classes {
		classes = append(classes, c)
	}
	slices.SortFunc(classes, func(a, b *class) int {
		return cmp.Or(cmp.Compare(b.n, a.n), strings.Compare(strings.Join(a.parts, ""), strings.Join(b.parts, "")))
	})
	ways := map[string]int64{}
	for _, c := range classes {
		ways[c.way] += c.n
	}
	covered := map[string]bool{}
	for _, c := range classes {
		if !slices.ContainsFunc(c.parts, func(p string) bool { return !covered[p] }) {
			continue
		}
		for _, req := range c.requests() {
			p := g.pick(req, base, true)
			if p == nil {
				continue
			}
			for _, part := range c.parts {
				covered[part] = true
			}
			if slices.ContainsFunc(picks, func(o *Pick) bool { return samePick(o, p) }) {
				break
			}
			if p.Of = ways[c.way]; p.Of > 0 {
				ways[c.way] = 0 // told once
			}
			picks = append(picks, p)
			break
		}
	}
	byRule := func(a, b *Pick) int { return cmp.Compare(order(a), order(b)) }
	if load == nil {
		slices.SortStableFunc(picks, byRule)
		return picks, s
	}
	var others []*Pick // of the list, that are not needed for a way
	for _, c := range classes {
		requests := c.requests()
		for _, req := range requests[:min(len(requests), maxOthersOf)] {
			whole := g.pick(req, base, false)
			if whole == nil || len(others) >= maxOthers {
				continue
			}
			others = append(others, whole)
			if p := g.pick(req, base, true); p != nil && !samePick(p, whole) {
				others = append(others, p)
			}
		}
	}
	picks, s = g.strengthen(picks, others, base, load)
	slices.SortStableFunc(picks, byRule)
	return picks, s
}

// How many requests of the list are tried to notice a harm, and how many of a class.
const (
	maxOthers   = 4000
	maxOthersOf = 4
)

// order puts what the same entry decides together, in the order of the rulebook.
func order(p *Pick) int {
	if p.By == nil {
		return 1 << 30
	}
	return p.By.Number
}

func samePick(a, b *Pick) bool {
	return a.Request.Address == b.Request.Address && a.Request.Verb() == b.Request.Verb() && slices.Equal(a.Request.Headers, b.Request.Headers) && a.Request.Client == b.Request.Client && a.Request.Time.Equal(b.Request.Time)
}

// pick makes a request of a list one of an excerpt, with what is to be expected; trimmed,
// it is without what changes nothing of its answer. nil for one that cannot be written down.
func (g *Gatherer) pick(req *request.Request, base request.Address, trimmed bool) *Pick {
	own := *req
	if own.Method == "GET" {
		own.Method = ""
	}
	if trimmed {
		own = *Trimmed(g.engine, &own)
	} else {
		in := g.engine.Inputs(own.Address.Host)
		own = *without(g.engine, &own, len(in.Clients) == 0, len(in.Times) == 0, func(name string) bool { return !in.Matters(name) })
	}
	visit := browser.Open(g.engine, &own)
	p := &Pick{Item: &list.Item{Request: &own, Expects: expected(visit)}, By: visit.Hops[0].Response.By}
	if list.WritePlain(io.Discard, p.Item, base) != nil {
		return nil
	}
	return p
}

// Trimmed gives a request without what changes nothing of its answer, of its client, its
// time and its header.
func Trimmed(e *engine.Engine, req *request.Request) *request.Request {
	return without(e, req, true, true, func(string) bool { return true })
}

// without leaves out of a request what may be left out, if its answer stays the same.
func without(e *engine.Engine, req *request.Request, client, at bool, field func(name string) bool) *request.Request {
	own := *req
	was := answer(e, req)
	try := func(less request.Request) {
		if answer(e, &less) == was {
			own = less
		}
	}
	if less := own; client {
		less.Client = netip.Addr{}
		try(less)
	}
	if less := own; at {
		less.Time = time.Time{}
		try(less)
	}
	for i := len(own.Headers) - 1; i >= 0; i-- {
		if less := own; field(strings.ToLower(own.Headers[i].Name)) {
			if less.Headers = slices.Delete(slices.Clone(own.Headers), i, i+1); len(less.Headers) == 0 {
				less.Headers = nil
			}
			try(less)
		}
	}
	return &own
}

// answer is all of what becomes of a request.
func answer(e *engine.Engine, req *request.Request) string {
	v := browser.Open(e, req)
	out := v.Summary()
	for _, h := range v.Hops {
		out += fmt.Sprintf("\n%s %s %p %p %v", engine.StatusText(h.Response), h.Response.Location, h.Response.By, h.Response.File, h.Response.Headers)
	}
	return out
}

// expected is what a list that holds an answer fast expects of it.
func expected(v *browser.Visit) *request.Expectation {
	r := v.Hops[0].Response
	x := &request.Expectation{Status: engine.StatusText(r), Location: r.Location}
	if r.By != nil && !strings.Contains(r.By.Name, ":") {
		x.By = r.By.Name
	}
	if r.By == nil && r.Status >= 400 {
		x.Cause = string(r.Cause)
	}
	if r.File != nil {
		x.File = canonical.Decode(r.File.Path)
		if strings.ContainsAny(x.File, " \t") {
			x.File = r.File.Path
		}
	}
	return x
}

// A Strength says how many harms to a rulebook a list notices.
type Strength struct {
	Harms     int // that change some answer
	Noticed   int
	Quiet     int // more, of which no request was found that they change
	Left      int // more that were not tried: the rulebook is too large
	Unnoticed []Unnoticed
	Entries   []Held // of StrengthOf, in the order of the rulebook
}

// Share is the share of harms that are noticed.
func (s *Strength) Share() float64 {
	if s.Harms == 0 {
		return 1
	}
	return float64(s.Noticed) / float64(s.Harms)
}

// Held is how much of an entry a list holds fast.
type Held struct {
	Rule    *rulebook.Rule
	Harms   int // to it, that change some answer
	Noticed int
	Not     []Unnoticed
}

// Unnoticed is a harm that a list does not notice, and a request that would.
type Unnoticed struct {
	Harm
	Request *request.Request
}

// mostEntries is how many entries are read in all, with one harm after the other: each makes
// a rulebook of its own.
const mostEntries = 400_000

// harms are as many as are tried: of entries that requests meet before those of others, and
// of each entry one before there are two of another.
func (b *picksByEntry) harms(book *rulebook.Book, s *Strength) []Harm {
	all := Harms(book)
	most := mostEntries / max(1, len(book.Rules))
	if s.Left = max(0, len(all)-most); s.Left > 0 {
		slices.SortStableFunc(all, func(x, y Harm) int {
			return cmp.Or(cmp.Compare(min(len(b.of[y.Rule]), 1), min(len(b.of[x.Rule]), 1)), cmp.Compare(x.nth, y.nth))
		})
	}
	return all[:len(all)-s.Left]
}

// atOnce is how many harmed rulebooks are held at the same time.
const atOnce = 8

// A harmed rulebook, and what was found of it.
type harmed struct {
	Harm
	engine  *engine.Engine // nil where it cannot be read
	noticed *Pick          // that notices it, of those there were
	more    *Pick          // that would
}

// strengthen adds to picks what notices harms that they do not.
func (g *Gatherer) strengthen(picks, others []*Pick, base request.Address, load func(string) ([]byte, error)) ([]*Pick, Strength) {
	var s Strength
	known, all := g.byEntry(picks), g.byEntry(others)
	for part := range slices.Chunk(all.harms(g.engine.Book, &s), atOnce) {
		tried := make([]harmed, len(part))
		each(len(part), func(i int) {
			h := &tried[i]
			h.Harm = part[i]
			if h.engine, _ = h.Engine(g.engine, load); h.engine == nil {
				return
			}
			if h.noticed = known.noticing(h); h.noticed == nil {
				h.more = g.noticing(h, all, base)
			}
		})
		before := len(picks)
		for i := range tried {
			h := &tried[i]
			switch {
			case h.engine == nil:
				continue
			case h.noticed == nil && h.more == nil:
				s.Quiet++
				continue
			case h.noticed == nil: // perhaps one that was added for another harm does
				if i := slices.IndexFunc(picks[before:], func(p *Pick) bool { return p.notices(h.engine) }); i >= 0 {
					h.noticed = picks[before+i]
				}
			}
			s.Harms++
			switch {
			case h.noticed != nil:
				h.noticed.Holds = append(h.noticed.Holds, h.If())
				s.Noticed++
			case h.more.notices(h.engine):
				h.more.Holds = append(h.more.Holds, h.If())
				picks = with(picks, h.more)
				s.Noticed++
			default:
				s.Unnoticed = append(s.Unnoticed, Unnoticed{h.Harm, h.more.Request})
			}
		}
		for _, p := range picks[before:] {
			known.add(g.engine, p)
		}
	}
	return picks, s
}

// picksByEntry are picks by the entries that their visits meet: a harm to one of these they
// notice most likely.
type picksByEntry struct {
	all  []*Pick
	asks [][]ask // of the visit of each; nil where entries read other paths, too
	of   map[*rulebook.Rule][]*Pick
}

// An ask is a request with the path that entries are held against.
type ask struct {
	*request.Request
	path string
}

func (g *Gatherer) byEntry(picks []*Pick) *picksByEntry {
	b := &picksByEntry{of: map[*rulebook.Rule][]*Pick{}}
	for _, p := range picks {
		b.add(g.engine, p)
	}
	return b
}

func (b *picksByEntry) add(e *engine.Engine, p *Pick) {
	var met []*rulebook.Rule
	var asks []ask
	for _, h := range browser.Open(e, p.Request).Hops {
		if s := h.Response.Site; s != nil {
			path, err := canonical.Path(h.Request.Address.Path, s.KeepSlashes)
			if err != nil {
				path = h.Request.Address.Path
			}
			asks = append(asks, ask{h.Request, path})
		}
		met = append(met, e.Met(h.Request)...)
		if h.Response.By != nil {
			met = append(met, h.Response.By)
		}
	}
	if slices.ContainsFunc(met, goesOn) {
		asks = nil
	}
	b.all, b.asks = append(b.all, p), append(b.asks, asks)
	for i, r := range met {
		if !slices.Contains(met[:i], r) {
			b.of[r] = append(b.of[r], p)
		}
	}
}

// goesOn reports whether an entry puts another path in the place of the one it takes, for the
// entries below it.
func goesOn(r *rulebook.Rule) bool {
	_, sends := r.Action.(rulebook.Sender)
	a, reads := r.Action.(rulebook.Reading)
	return sends && reads && !a.Ends()
}

// noticing gives a pick that notices a harm; nil for none. An entry that is read in order
// changes what it took before, or takes now: others are not asked for once more.
func (b *picksByEntry) noticing(h *harmed) *Pick {
	for _, p := range b.of[h.Rule] {
		if p.notices(h.engine) {
			return p
		}
	}
	_, inOrder := h.Rule.Action.(rulebook.Reading)
	now := h.now()
	takes := func(a ask) bool {
		return slices.ContainsFunc(now, func(r *rulebook.Rule) bool { return r.Covers(a.path) && h.engine.Takes(r, a.Request) })
	}
	for i, p := range b.all {
		if (!inOrder || b.asks[i] == nil || slices.ContainsFunc(b.asks[i], takes)) && p.notices(h.engine) {
			return p
		}
	}
	return nil
}

// now gives what the harm has made of its entry, and of the one below it, which may stand in
// its place.
func (h *harmed) now() []*rulebook.Rule {
	rules := h.engine.Book.Rules
	return rules[min(h.Rule.Number, len(rules)):min(h.Rule.Number+2, len(rules))]
}

// with adds a pick; where the request is there already, only what more is expected of it.
func with(picks []*Pick, p *Pick) []*Pick {
	i := slices.IndexFunc(picks, func(o *Pick) bool { return samePick(o, p) })
	if i < 0 {
		return append(picks, p)
	}
	x := picks[i].Expects
	for _, h := range p.Expects.Headers {
		if !slices.Contains(x.Headers, h) {
			x.Headers = append(x.Headers, h)
		}
	}
	for _, name := range p.Expects.Without {
		if !slices.Contains(x.Without, name) {
			x.Without = append(x.Without, name)
		}
	}
	picks[i].Holds = append(picks[i].Holds, p.Holds...)
	return picks
}

// noticing gives a request that is answered otherwise with a harm: of the list, or made; nil
// where none is found.
func (g *Gatherer) noticing(h *harmed, others *picksByEntry, base request.Address) *Pick {
	if p := others.noticing(h); p != nil {
		pick := *p
		return &pick
	}
	harmed := h.engine
	d := proof.Witness(g.engine, harmed)
	if d == nil {
		return nil
	}
	if p := g.pick(d.Request, base, true); p != nil && p.notices(harmed) {
		p.Made = true
		return p
	}
	p := g.pick(d.Request, base, false)
	if p == nil {
		return &Pick{Item: &list.Item{Request: d.Request, Expects: &request.Expectation{}}}
	}
	p.Made = true
	if !p.notices(harmed) { // only the header differs, or what is shown
		for _, name := range d.Headers() {
			if value, ok := d.Was.Get(name); ok {
				p.Expects.Headers = append(p.Expects.Headers, request.Header{Name: name, Value: value})
			} else if name != "body" {
				p.Expects.Without = append(p.Expects.Without, name)
			}
		}
		if list.WritePlain(io.Discard, p.Item, base) != nil {
			p.Expects.Headers, p.Expects.Without = nil, nil
		}
	}
	return p
}

// notices reports whether the expectation of a pick is not met by another engine.
func (p *Pick) notices(harmed *engine.Engine) bool {
	return len(browser.Unmet(p.Expects, browser.Open(harmed, p.Request))) > 0
}

// each calls do for each number below n, several at once.
func each(n int, do func(i int)) {
	var jobs errgroup.Group
	jobs.SetLimit(runtime.GOMAXPROCS(0))
	for i := range n {
		jobs.Go(func() error { do(i); return nil })
	}
	jobs.Wait()
}

// StrengthOf tells how many harms a list with expectations notices.
func StrengthOf(e *engine.Engine, items []*list.Item, load func(string) ([]byte, error)) Strength {
	g := NewGatherer(e)
	var picks []*Pick
	for _, item := range items {
		if p := (&Pick{Item: item}); item.Expects != nil && !p.notices(e) { // what fails anyhow notices nothing
			picks = append(picks, p)
		}
	}
	known := g.byEntry(picks)
	var s Strength
	harms := known.harms(e.Book, &s)
	type tried struct {
		harmed
		read    bool
		witness *request.Request // where nothing notices it
	}
	all := make([]tried, len(harms))
	each(len(harms), func(i int) {
		h := &all[i]
		h.Harm = harms[i]
		if h.engine, _ = h.Engine(e, load); h.engine == nil {
			return
		}
		if h.noticed = known.noticing(&h.harmed); h.noticed == nil {
			if d := proof.Witness(e, h.engine); d != nil {
				h.witness = d.Request
			}
		}
		h.read, h.engine = true, nil // it is not held any longer
	})
	of := map[*rulebook.Rule]*Held{}
	for i := range all {
		h := &all[i]
		if !h.read {
			continue
		}
		if h.noticed == nil && h.witness == nil {
			s.Quiet++
			continue
		}
		entry := of[h.Rule]
		if entry == nil {
			entry = &Held{Rule: h.Rule}
			of[h.Rule] = entry
		}
		s.Harms++
		entry.Harms++
		if h.noticed != nil {
			s.Noticed++
			entry.Noticed++
			continue
		}
		missed := Unnoticed{h.Harm, h.witness}
		s.Unnoticed, entry.Not = append(s.Unnoticed, missed), append(entry.Not, missed)
	}
	for _, r := range e.Book.Rules {
		if entry := of[r]; entry != nil {
			s.Entries = append(s.Entries, *entry)
		}
	}
	return s
}
