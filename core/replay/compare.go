package replay

// What a change of the rulebook does: the same requests, predicted twice.

import (
	"cmp"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// A Change is how an answer changes, the worst first, and then what matters more.
type Change int

const (
	NowLoops   Change = iota // the visit goes round, or never ends
	NowFails                 // it ends with a 5xx
	NowLost                  // what was there is not found
	NowOpen                  // what was refused is served
	NowRefused               // what was served is refused
	NowElse                  // it ends at another address, or with another file
	NowFound                 // what was not found, refused or a loop is served
	NowContent               // the file that is shown holds something else
	NowWay                   // it ends where it did, by another way
	NowHeader                // only the header is another
)

// Says tells what a change means to visitors.
func (c Change) Says() string {
	return [...]string{"loop now", "fail now", "are not found any more", "are open now, and were refused", "are refused now, and were served",
		"end at another page", "work now, and did not", "have other content", "reach the same page by another way", "differ in headers alone"}[c]
}

// An Answer is one side of a change.
type Answer struct {
	Status string // of the first answer
	By     *rulebook.Rule
	Ends   string // in a few words, where a redirect is followed
}

// A Group is like changes of many requests.
type Group struct {
	Change   Change
	From, To Answer
	What     string // the header fields that differ, for NowHeader; the file, for NowContent
	Requests int64
	Examples []*request.Request

	keys []string // of the examples, as exampleKey gives them
}

// A Comparison is what two rulebooks do to the same requests.
type Comparison struct {
	Requests int64
	Same     int64
	Groups   []*Group     // worst first, then by their requests
	Circles  []*Returning // of visitors with stored redirects
}

const maxExamples = 3

// Compare predicts requests with two rulebooks: its Comparers take them, one for each
// goroutine, and End gives the result.
type Compare struct {
	Old, New *engine.Engine

	mu       sync.Mutex
	result   Comparison
	compared map[string]compared // by all that the answers of both rulebooks depend on
	groups   map[string]*Group
	starts   map[string]request.Address // that visitors who come back ask for
	files    map[[2]*site.Node]sameness
}

// A Comparer compares requests. It is for one goroutine.
type Comparer struct {
	*Compare
	old, new *keyer
	counts   map[*Group]int64
	key      []byte
}

// Comparer gives one.
func (c *Compare) Comparer() *Comparer {
	return &Comparer{Compare: c, old: newKeyer(c.Old), new: newKeyer(c.New), counts: map[*Group]int64{}}
}

// A compared request is of a group, or of none, where nothing has changed for it.
type compared struct {
	group     *Group
	ownValues bool // it depends on more of the request than which tests hold
	queried   bool // an entry of either rulebook looked at the query
}

// Add compares a request.
func (c *Comparer) Add(item *list.Item) {
	found, fresh := c.compare(item.Request)
	if fresh {
		c.start(item.Request)
	}
	c.counts[found.group]++
}

// compare compares a request, if none was that is like it for both rulebooks; else it is not
// fresh.
func (c *Comparer) compare(req *request.Request) (found compared, fresh bool) {
	key, first := c.old.append(c.key[:0], req)
	key, second := c.new.append(key, req)
	c.key = key
	if !first || !second {
		return c.anew(req), true
	}
	c.mu.Lock()
	found, known := c.compared[string(key)]
	c.mu.Unlock()
	if known {
		return found, false
	}
	found = c.anew(req)
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.compared) >= maxCompared {
		clear(c.compared)
	}
	c.compared[string(key)] = found
	return found, true
}

// maxCompared bounds how many requests are remembered.
const maxCompared = 1 << 16

// Done counts all that was added.
func (c *Comparer) Done() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for g, n := range c.counts {
		c.result.Requests += n
		if g == nil {
			c.result.Same += n
		} else {
			g.Requests += n
		}
	}
	clear(c.counts)
}

// A sameness is what is known of the bytes of two files.
type sameness struct{ same, known bool }

// sameFiles compares the bytes of two files, once. Those at one path of one folder are one
// file.
func (c *Compare) sameFiles(a, b *site.Node, host string) sameness {
	if a == nil || b == nil {
		return sameness{a == b, true}
	}
	old, new := c.Old.SiteFor(host), c.New.SiteFor(host)
	if a.Path == b.Path && old != nil && new != nil && old.Files != "" && old.Files == new.Files {
		return sameness{true, true}
	}
	c.mu.Lock()
	known, ok := c.files[[2]*site.Node{a, b}]
	c.mu.Unlock()
	if ok {
		return known
	}
	same, err := site.SameContent(a, b)
	known = sameness{same, err == nil}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.files[[2]*site.Node{a, b}] = known
	return known
}

// NewCompare makes a comparison.
func NewCompare(old, new *engine.Engine) *Compare {
	return &Compare{Old: old, New: new, compared: map[string]compared{}, groups: map[string]*Group{}, starts: map[string]request.Address{}, files: map[[2]*site.Node]sameness{}}
}

// maxStarts is how many addresses are looked at for visitors who come back.
const maxStarts = 100_000

// start has visitors come back to the address of a request.
func (c *Compare) start(req *request.Request) {
	if req.Verb() != "GET" {
		return
	}
	key := req.Address.String()
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.starts) < maxStarts {
		c.starts[key] = req.Address
	}
}

// anew compares a request, whatever is remembered.
func (c *Comparer) anew(req *request.Request) compared {
	before, after := browser.Open(c.Old, req), browser.Open(c.New, req)
	g := c.change(before, after)
	host := req.Address.Host
	old, new := c.old.of(host).Inputs, c.new.of(host).Inputs
	own := ownValues(old, before) || ownValues(new, after)
	looked := queried(before.Hops[0].Response, before) || queried(after.Hops[0].Response, after)
	c.mu.Lock()
	defer c.mu.Unlock()
	if g != nil {
		if g.Change == NowHeader || g.Change == NowContent {
			g.From, g.To = Answer{}, Answer{}
		}
		id := fmt.Sprintf("%d %s %q %s %q %q", g.Change, g.From.Status, ruleKey(g.From.By), g.To.Status, ruleKey(g.To.By), g.What)
		if c.groups[id] == nil {
			c.groups[id] = g
		}
		c.groups[id].show(req, exampleKey(req, own || looked || !old.Passes || !new.Passes), g)
		g = c.groups[id]
	}
	return compared{g, own, looked}
}

// exampleKey is what examples of a group are known by: of those that differ in a query that
// makes no difference, one is enough.
func exampleKey(req *request.Request, query bool) string {
	of := req.Address
	if !query {
		of.Query, of.HasQuery = "", false
	}
	return req.Verb() + " " + of.String()
}

// show keeps a request as an example of its group, if it is one of the plainest, whatever
// the order in which they come; what is told of the answers is so of the first.
func (g *Group) show(req *request.Request, key string, change *Group) {
	if i := slices.Index(g.keys, key); i >= 0 {
		if plainer(req, g.Examples[i]) >= 0 {
			return
		}
		g.Examples, g.keys = slices.Delete(g.Examples, i, i+1), slices.Delete(g.keys, i, i+1)
	}
	at, _ := slices.BinarySearchFunc(g.Examples, req, plainer)
	if at == maxExamples {
		return
	}
	g.Examples, g.keys = slices.Insert(g.Examples, at, req), slices.Insert(g.keys, at, key)
	most := min(len(g.Examples), maxExamples)
	g.Examples, g.keys = g.Examples[:most], g.keys[:most]
	if at == 0 {
		g.From, g.To = change.From, change.To
	}
}

// wants reports whether a request may be an example of a group.
func (c *Compare) wants(g *Group, req *request.Request) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return len(g.Examples) < maxExamples || plainer(req, g.Examples[maxExamples-1]) < 0
}

// plainer puts short addresses first.
func plainer(a, b *request.Request) int {
	x, y := a.Address.String(), b.Address.String()
	return cmp.Or(cmp.Compare(len(x), len(y)), strings.Compare(x, y), strings.Compare(a.Verb(), b.Verb()))
}

func ruleKey(r *rulebook.Rule) string {
	if r == nil {
		return "-"
	}
	return r.Name
}

// an end is what a visit comes to.
type end int

const (
	served end = iota
	elsewhere
	refused
	missing
	fails
	loops
)

func endOf(v *browser.Visit) end {
	last := v.Last()
	switch {
	case v.Ending == browser.Loop || v.Ending == browser.TooLong:
		return loops
	case v.Ending == browser.Left || v.Ending == browser.ToApp || v.Ending == browser.ToFiles:
		return elsewhere
	case last.Cause == engine.CauseAsked || last.Cause == engine.CauseRefused:
		return refused
	case last.Status >= 500 && last.Cause != engine.CauseReply:
		return fails
	case last.Status >= 400:
		return missing
	}
	return served
}

// change tells what has become of a visit; nil is no change.
func (c *Compare) change(a, b *browser.Visit) *Group {
	first, second := a.Hops[0].Response, b.Hops[0].Response
	g := &Group{From: answerOf(a), To: answerOf(b)}
	from, to := endOf(a), endOf(b)
	content := c.sameFiles(a.Last().File, b.Last().File, b.Hops[len(b.Hops)-1].Request.Address.Host)
	cached := len(a.Hops) == len(b.Hops) && a.Last().Status+b.Last().Status == http.StatusOK+http.StatusNotModified && a.Last().File != nil && b.Last().File != nil
	if cached && content.same {
		return nil // what a browser has stored is asked for again, and is the same
	}
	switch {
	case to == loops && from != loops:
		g.Change = NowLoops
	case to == fails && from != fails:
		g.Change = NowFails
	case to == missing && from <= elsewhere:
		g.Change = NowLost
	case from == refused && to <= elsewhere:
		g.Change = NowOpen
	case to == refused && from <= elsewhere:
		g.Change = NowRefused
	case from > elsewhere && to <= elsewhere || from == loops && to <= refused:
		g.Change = NowFound
	case cached && content.known:
		g.Change, g.What = NowContent, b.Last().File.Path
	case !sameEnd(a, b) && (from != to || from <= elsewhere || a.Last().Status != b.Last().Status):
		g.Change = NowElse
	case first.Status != second.Status || first.Location != second.Location || ruleKey(first.By) != ruleKey(second.By) && first.Location != "" || len(a.Hops) != len(b.Hops):
		if first.Status == second.Status && first.Location == second.Location && len(a.Hops) == len(b.Hops) {
			return nil // another entry says the same
		}
		g.Change = NowWay
	case fromTree(a.Last()) && fromTree(b.Last()) && content.known && !content.same:
		g.Change, g.What = NowContent, b.Last().File.Path
	default:
		if g.What = headersApart(a.Last(), b.Last(), content); g.What == "" {
			return nil
		}
		g.Change = NowHeader
	}
	return g
}

func answerOf(v *browser.Visit) Answer {
	r := v.Hops[0].Response
	a := Answer{Status: engine.StatusText(r), By: r.By}
	if v.Redirects() > 0 {
		a.Ends = v.Summary()
	}
	return a
}

// sameEnd reports whether two visits end at the same page.
func sameEnd(a, b *browser.Visit) bool {
	x, y := a.Hops[len(a.Hops)-1], b.Hops[len(b.Hops)-1]
	if a.Ending != b.Ending || x.Response.Status != y.Response.Status || x.Request.Address != y.Request.Address || a.Left != b.Left {
		return false
	}
	if x.Response.Status >= 400 {
		return true // the page that is shown is not a place
	}
	if f, g := x.Response.File, y.Response.File; f != nil && g != nil && f.Path != g.Path || (f == nil) != (g == nil) {
		return false
	}
	return true
}

// fromTree reports whether an answer is a file of the tree, or a part of one.
func fromTree(r *engine.Response) bool { return r.File != nil && r.Status < 300 }

// headersApart names the header fields in which two answers differ. What the time of a file
// makes differs with each copy of it, and says nothing where it is known that they hold the
// same.
func headersApart(a, b *engine.Response, content sameness) string {
	var names []string
	for _, h := range append(slices.Clone(a.Headers), b.Headers...) {
		x, hasX := a.Get(h.Name)
		y, hasY := b.Get(h.Name)
		if content.known && fromTree(a) && fromTree(b) && a.FromFileTime(h.Name) && b.FromFileTime(h.Name) {
			continue
		}
		if (hasX != hasY || x != y) && !slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, h.Name) }) {
			names = append(names, h.Name)
		}
	}
	slices.Sort(names)
	if f, g := a.File, b.File; a.Status >= 400 && ((f == nil) != (g == nil) || f != nil && f.Path != g.Path) {
		names = append(names, "and another page is shown")
	}
	return strings.Join(names, ", ")
}

// End gives what was found, and walks visitors who stored the old redirects
// through the new rulebook.
func (c *Compare) End(now time.Time) *Comparison {
	for _, g := range c.groups {
		c.result.Groups = append(c.result.Groups, g)
	}
	slices.SortFunc(c.result.Groups, func(a, b *Group) int {
		return cmp.Or(cmp.Compare(a.Change, b.Change), cmp.Compare(b.Requests, a.Requests), strings.Compare(ruleKey(a.To.By)+ruleKey(a.From.By), ruleKey(b.To.By)+ruleKey(b.From.By)), plainer(a.Examples[0], b.Examples[0]), strings.Compare(a.What, b.What))
	})
	c.result.Circles = c.returning(now)
	return &c.result
}

// A Returning is a circle for visitors who come back with redirects that they
// stored from the old rulebook.
type Returning struct {
	Visit  *browser.Visit
	Stored []browser.Hop // the answers that they have stored
	HSTS   []string      // hosts that they ask over https only
}

// A step is one way on from an address.
type step struct {
	at     *request.Request
	answer *engine.Response
	stored bool
	hsts   bool
}

// returning looks for circles in the union of the new redirects and the old ones
// that a browser keeps. On a circle each address comes once, so that it can be
// stored or not for each by itself.
func (c *Compare) returning(now time.Time) []*Returning {
	w := &walker{Compare: c, now: now, done: map[string]bool{}, on: map[string]int{}, seen: map[string]bool{}}
	var keys []string
	for k := range c.starts {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	for _, k := range keys {
		w.walk(&request.Request{Address: c.starts[k]})
	}
	return w.found
}

type walker struct {
	*Compare
	now   time.Time
	done  map[string]bool
	on    map[string]int // place in the path
	path  []step
	seen  map[string]bool // circles, by their entries
	found []*Returning
}

const maxPath = 40

func (w *walker) walk(req *request.Request) {
	key := addressKey(req)
	if at, ok := w.on[key]; ok {
		w.circle(w.path[at:])
		return
	}
	if w.done[key] || len(w.path) > maxPath {
		return
	}
	w.done[key] = true
	w.on[key] = len(w.path)
	for _, s := range w.steps(req) {
		next, err := browser.Follow(req, s.answer)
		if err != nil {
			continue
		}
		w.path = append(w.path, s)
		w.walk(next)
		w.path = w.path[:len(w.path)-1]
	}
	delete(w.on, key)
}

func addressKey(req *request.Request) string {
	a := req.Address
	a.Fragment = ""
	return a.String()
}

// steps are the ways on from an address: what is stored, and what is answered.
func (w *walker) steps(req *request.Request) []step {
	var out []step
	if w.Old.Serves(req.Address.Host) {
		if old := redirected(w.Old, req); old != nil && browser.Stored(req, old, w.now) {
			out = append(out, step{at: req, answer: old, stored: true})
		}
		if to := w.upgraded(req); to != nil {
			out = append(out, step{at: req, answer: to, hsts: true})
		}
	}
	if w.New.Serves(req.Address.Host) {
		if r := redirected(w.New, req); r != nil {
			out = append(out, step{at: req, answer: r})
		}
	}
	return out
}

// redirected gives the redirect that answers a request; nil for another answer, of which the
// header is not made.
func redirected(e *engine.Engine, req *request.Request) *engine.Response {
	var r engine.Response
	if e.Outcome(req, &r); !browser.Follows(&r) {
		return nil
	}
	return e.Predict(req)
}

// upgraded is how a browser goes on over https where the old rulebook told it to
// (RFC 6797); nil where it did not.
func (w *walker) upgraded(req *request.Request) *engine.Response {
	if req.Address.Scheme != "http" {
		return nil
	}
	over := *req
	over.Address.Scheme = "https"
	if over.Address.Port == 80 {
		over.Address.Port = 443
	}
	field, ok := w.Old.Predict(&over).Get("Strict-Transport-Security")
	if !ok || strings.Contains(strings.ReplaceAll(field, " ", "")+";", "max-age=0;") {
		return nil
	}
	return &engine.Response{Status: 307, Cause: engine.CauseRedirect, Location: over.Address.String()}
}

// circle reports a circle that has a stored redirect in it, if a visit confirms
// it.
func (w *walker) circle(path []step) {
	r := &Returning{}
	stored := map[string]*engine.Response{}
	var keys []string
	fresh := true
	for _, s := range path {
		keys = append(keys, fmt.Sprint(ruleKey(s.answer.By), s.answer.Row, s.stored, s.hsts))
		if s.stored || s.hsts {
			stored[addressKey(s.at)] = s.answer
			fresh = false
		}
		if s.stored {
			r.Stored = append(r.Stored, browser.Hop{Request: s.at, Response: s.answer})
		}
		if s.hsts {
			r.HSTS = append(r.HSTS, s.at.Address.Host)
		}
	}
	slices.Sort(keys)
	key := strings.Join(slices.Compact(keys), " ")
	if fresh || w.seen[key] {
		return
	}
	if w.New.Serves(path[0].at.Address.Host) {
		if unmemoized := browser.Open(w.New, path[0].at); unmemoized.Ending == browser.Loop || unmemoized.Ending == browser.TooLong {
			return // everybody goes round there, whatever they have stored
		}
	}
	r.Visit = browser.OpenWith(w.New, path[0].at, func(req *request.Request) *engine.Response { return stored[addressKey(req)] })
	if r.Visit.Ending != browser.Loop {
		return
	}
	w.seen[key] = true
	w.found = append(w.found, r)
}
