package replay

import (
	"cmp"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/representation"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// A Tally is what a replay adds up. Tallies of parts, merged, are the tally of
// the whole.
type Tally struct {
	Requests int64
	Expected int64 // requests whose list expects something
	Lists    []ListCounts
	Partial  bool // the replay was interrupted

	Outcomes map[Outcome]*OutcomeCount
	Loops    Top
	TooLong  Top
	Chains   Top
	Missing  Top // but those of which the list knows, with the pages that they were asked from
	Unmet    []Unmet
	Unmets   int64
	Types    map[string]*Bytes
	Plain    Top // files that were sent as they are, though their type shrinks

	room *room // of the addresses
}

// ListCounts are those of one list.
type ListCounts struct {
	Name string
	Part *list.Part `json:",omitempty"` // of the list, that the counts are of; nil for all of it
	list.Counts
}

// An Outcome is what can happen to a request: its status and what decided it.
type Outcome struct {
	Status string
	Cause  engine.Cause
	By     string // name of the entry; "" for none
	At     string // and its place
}

// OutcomeCount is how often an outcome came, and how often for each status that the list
// has recorded.
type OutcomeCount struct {
	N        int64
	Last     int64 `json:",omitempty"` // when an entry decided so last, in seconds since 1970; 0 where no list tells
	Recorded []RecordedCount
	Ends     map[string]int64 `json:",omitempty"` // of redirects: by what the visitor has at the end, a status or a browser.Ending

	room *room // of their addresses
}

// RecordedCount is how often a status was recorded, and the addresses where the outcome
// is another.
type RecordedCount struct {
	Status  int
	N       int64
	Differs *Top `json:",omitempty"`
}

// Unmet is a request whose answer is not what its list expects.
type Unmet struct {
	List   string
	Line   int
	Target string
	What   []string
}

// Bytes are sizes by media type.
type Bytes struct {
	Requests int64
	Plain    int64 // as the files are
	Wire     int64 // as they are sent
	Unknown  int64 // requests whose size over the wire is not known
}

// NewTally gives an empty tally.
func NewTally() *Tally { return newTally(&room{}) }

// newTally gives one whose addresses share a room with those of others.
func newTally(r *room) *Tally {
	t := &Tally{Outcomes: map[Outcome]*OutcomeCount{}, Types: map[string]*Bytes{}}
	t.in(r)
	return t
}

// in gives an empty tally a room for its addresses.
func (t *Tally) in(r *room) {
	t.room = r
	r.add(&t.Loops, &t.TooLong, &t.Chains, &t.Missing, &t.Plain)
}

// smallest is the size from which it is worth saying that a file could shrink.
const smallest = 512

const maxUnmet = 10_000

// maxKept is the length in bytes up to which an address or a page is kept whole. Of a longer
// one the beginning is, and those that begin alike are counted together.
const maxKept = 2 << 10

func kept(address string) string {
	if len(address) <= maxKept {
		return address
	}
	end := maxKept
	for end > maxKept-utf8.UTFMax && !utf8.RuneStart(address[end]) {
		end--
	}
	return address[:end] + "…"
}

func keptAll(texts []string) []string {
	for i := range texts {
		texts[i] = strings.Clone(kept(texts[i]))
	}
	return texts
}

// Add counts one result.
func (t *Tally) Add(r *Result) {
	s := r.sum()
	t.Requests++
	outcome := t.countOf(outcomeOf(s.status, s.cause, s.by))
	outcome.N++
	if s.by != nil {
		outcome.Last = max(outcome.Last, secondsOf(r.Item.Request.Time))
	}
	outcome.ends(s.end, 1)
	t.countBytes(&s, 1)
	if s.look != lookNone {
		asked := &Asked{}
		if s.look == lookMissing {
			asked.at(secondsOf(r.Item.Request.Time))
			if r.From != "" {
				asked.From.add([]byte(r.From), 1)
			}
			if r.Robot {
				asked.Robots = 1
			}
		}
		t.look(s.look, r.target(), 1, asked)
	}
	if r.Item.Recorded != 0 {
		recorded := outcome.recorded(r.Item.Recorded, s.differs(r.Item.Recorded))
		recorded.N++
		if recorded.Differs != nil {
			recorded.Differs.Add(r.target())
		}
	}
	if r.Item.Expects != nil {
		t.Expected++
	}
	if len(r.Unmet) > 0 {
		t.Unmets++
		if len(t.Unmet) < maxUnmet {
			t.Unmet = append(t.Unmet, Unmet{r.List, r.Item.Line, kept(withMethod(r.Item.Request, r.Item.Request.Address.String())), keptAll(r.Unmet)})
		}
	}
}

// secondsOf gives a time in seconds since 1970; 0 for none, and for what is not a time of a
// log: before then, or later than 2106.
func secondsOf(at time.Time) int64 {
	if s := at.Unix(); !at.IsZero() && s > 0 && s <= math.MaxUint32 {
		return s
	}
	return 0
}

// A look is why a result needs one.
type look uint8

const (
	lookNone look = iota
	lookLoop
	lookTooLong
	lookChain
	lookMissing
)

// A sum is what a tally counts of a result, but for its address. Many results
// have the same.
type sum struct {
	status    int // 0 where the cause has a word
	cause     engine.Cause
	by        *rulebook.Rule
	look      look
	end       string // what visitors have at the end of a redirect; "" for what is none
	mimeType  string
	size      int64
	encoded   int64
	unencoded *site.Node // the file, where it was sent as it is and could be smaller
	site      *rulebook.Site
}

// sumOf gives what is counted of an answer and the visit that it begins.
func sumOf(resp *engine.Response, v *browser.Visit) sum {
	s := sum{status: resp.Status, cause: resp.Cause, by: resp.By, mimeType: resp.Type, size: resp.Size, encoded: resp.Encoded}
	switch {
	case v != nil && v.Ending == browser.Loop:
		s.look = lookLoop
	case v != nil && v.Ending == browser.TooLong:
		s.look = lookTooLong
	case v != nil && v.Redirects() > 1:
		s.look = lookChain
	case resp.Status == 404:
		s.look = lookMissing
	}
	if v != nil && browser.Follows(resp) {
		if s.end = string(v.Ending); v.Ending == browser.Arrived {
			s.end = strconv.Itoa(v.Last().Status)
		}
	}
	if resp.File != nil && resp.Status == 200 && resp.Encoding == "" && resp.Size >= smallest && representation.Compressible(resp.Type) {
		s.unencoded, s.site = resp.File, resp.Site
	}
	return s
}

// sum leaves out what the list knows of already.
func (r *Result) sum() sum {
	s := sumOf(r.Response, r.Visit)
	x := r.Item.Expects
	if x != nil && (x.Loop && len(r.Unmet) == 0 || s.look == lookMissing && engine.StatusFits(x.Status, r.Response)) {
		s.look = lookNone
	}
	if x != nil && x.Ends != "" && len(r.Unmet) == 0 {
		s.end = ""
	}
	return s
}

func outcomeOf(status int, cause engine.Cause, by *rulebook.Rule) Outcome {
	o := Outcome{Status: strconv.Itoa(status), Cause: cause}
	if word := cause.Word(); word != "" {
		o.Status = string(word)
	}
	if by != nil {
		o.By, o.At = by.Name, by.Place.String()
	}
	return o
}

// target is the address under which a request is counted: without its query,
// where no rule of the site looks at one.
func (r *Result) target() string {
	a := r.Item.Request.Address
	if !r.Query {
		a.Query, a.HasQuery = "", false
	}
	a.Fragment = ""
	return withMethod(r.Item.Request, a.String())
}

func withMethod(req *request.Request, address string) string {
	if verb := req.Verb(); verb != "GET" {
		return verb + " " + address
	}
	return address
}

// countOf gives the count of an outcome.
func (t *Tally) countOf(o Outcome) *OutcomeCount {
	c := t.Outcomes[o]
	if c == nil {
		c = &OutcomeCount{room: t.room}
		t.Outcomes[o] = c
	}
	return c
}

// ends counts n requests of which the visitors have something at the end; "" where they have
// the outcome itself.
func (c *OutcomeCount) ends(with string, n int64) {
	if with == "" || n == 0 {
		return
	}
	if c.Ends == nil {
		c.Ends = map[string]int64{}
	}
	c.Ends[with] += n
}

// recorded gives the count for a recorded status.
func (c *OutcomeCount) recorded(status int, differs bool) *RecordedCount {
	for i := range c.Recorded {
		if c.Recorded[i].Status == status {
			return &c.Recorded[i]
		}
	}
	r := RecordedCount{Status: status}
	if differs {
		r.Differs = c.room.top(true)
	}
	c.Recorded = append(c.Recorded, r)
	return &c.Recorded[len(c.Recorded)-1]
}

// add adds another count of the same outcome, which is not to be used any more; merge
// merges the addresses of each status.
func (c *OutcomeCount) add(o *OutcomeCount, merge func(to, from *Top)) {
	c.N += o.N
	c.Last = max(c.Last, o.Last)
	for with, n := range o.Ends {
		c.ends(with, n)
	}
	for _, r := range o.Recorded {
		mine := c.recorded(r.Status, r.Differs != nil)
		mine.N += r.N
		if mine.Differs != nil && r.Differs != nil {
			merge(mine.Differs, r.Differs)
		}
	}
}

// addNamed adds the counts of some outcomes to those of others, whose addresses share a room;
// neither is to be used any more.
func addNamed(to, from map[Outcome]*OutcomeCount) map[Outcome]*OutcomeCount {
	if len(to) < len(from) {
		to, from = from, to
	}
	for o, c := range from {
		if same := to[o]; same != nil {
			same.add(c, (*Top).Merge)
		} else {
			to[o] = c
		}
	}
	return to
}

// A Use is how often an entry decided, and when it did last, in seconds since 1970
// (0 where no list tells).
type Use struct{ N, Last int64 }

// Entries are the uses of entries, by their places.
func (t *Tally) Entries() map[string]Use {
	out := make(map[string]Use, len(t.Outcomes))
	for o, c := range t.Outcomes {
		if u := out[o.At]; o.At != "" {
			out[o.At] = Use{u.N + c.N, max(u.Last, c.Last)}
		}
	}
	return out
}

// countBytes counts the sizes of n answers.
func (t *Tally) countBytes(s *sum, n int64) {
	if s.mimeType == "" {
		return
	}
	b := t.Types[s.mimeType]
	if b == nil {
		b = &Bytes{}
		t.Types[s.mimeType] = b
	}
	b.Requests += n
	if s.encoded < 0 {
		b.Unknown += n
		return
	}
	b.Plain += n * s.size
	b.Wire += n * s.encoded
	if s.unencoded != nil {
		t.Plain.add(s.site.Name+" "+s.unencoded.Path, n, nil)
	}
}

// look counts n requests for an address that needs one, and the pages that they came from.
// The pages are not to be used any more.
func (t *Tally) look(l look, target string, n int64, asked *Asked) {
	switch l {
	case lookLoop:
		t.Loops.add(target, n, nil)
	case lookTooLong:
		t.TooLong.add(target, n, nil)
	case lookChain:
		t.Chains.add(target, n, nil)
	case lookMissing:
		t.Missing.add(target, n, asked)
	}
}

// differs reports whether a server's status is not what is predicted.
func (s *sum) differs(status int) bool { return differs(status, s.status, s.cause) }

// differs reports whether a recorded status is another than the predicted one (0
// for an application's). That a file came as 304 or 206 is up to the browser, which
// has a copy or wants a part; few lists tell of it.
func differs(recorded, predicted int, cause engine.Cause) bool {
	if predicted == http.StatusOK && (recorded == http.StatusNotModified || recorded == http.StatusPartialContent) {
		return cause != engine.CauseFile && cause != engine.CauseDocument && cause != engine.CauseFallback
	}
	return predicted != 0 && predicted != recorded
}

// AddCounts adds what became of a list's lines.
func (t *Tally) AddCounts(name string, c list.Counts) {
	t.Lists = append(t.Lists, ListCounts{Name: name, Counts: c})
}

// Merge adds another tally to this one. The other is not to be used any more.
func (t *Tally) Merge(o *Tally) {
	if t.Requests == 0 && o.room != nil && o.room != t.room { // what is there already need not be moved
		t.in(o.room)
	}
	t.Requests += o.Requests
	t.Expected += o.Expected
	t.Unmets += o.Unmets
	t.Lists = joined(append(t.Lists, o.Lists...))
	t.Partial = t.Partial || o.Partial
	if t.room == o.room {
		t.Outcomes = addNamed(t.Outcomes, o.Outcomes)
	} else {
		for name, c := range o.Outcomes {
			t.countOf(name).add(c, (*Top).Merge)
		}
	}
	t.Loops.Merge(&o.Loops)
	t.TooLong.Merge(&o.TooLong)
	t.Chains.Merge(&o.Chains)
	t.Missing.Merge(&o.Missing)
	t.Plain.Merge(&o.Plain)
	t.room.absorb(o.room)
	for name, b := range o.Types {
		if t.Types[name] == nil {
			t.Types[name] = &Bytes{}
		}
		mine := t.Types[name]
		mine.Requests += b.Requests
		mine.Plain += b.Plain
		mine.Wire += b.Wire
		mine.Unknown += b.Unknown
	}
	t.Unmet = append(t.Unmet, o.Unmet...)
	slices.SortStableFunc(t.Unmet, func(a, b Unmet) int {
		return cmp.Or(strings.Compare(a.List, b.List), cmp.Compare(a.Line, b.Line))
	})
	t.Unmet = t.Unmet[:min(len(t.Unmet), maxUnmet)] // however many workers have kept the first of theirs
}

// joined makes one list of the parts of one, where all of them are there.
func joined(lists []ListCounts) []ListCounts {
	type whole struct {
		name string
		size int64
		of   int
	}
	parts := map[whole][]ListCounts{}
	for _, l := range lists {
		if l.Part != nil {
			of := whole{l.Name, l.Part.Size, l.Part.Of}
			parts[of] = append(parts[of], l)
		}
	}
	for of, all := range parts {
		if len(all) < of.of {
			continue
		}
		slices.SortFunc(all, func(a, b ListCounts) int { return cmp.Compare(a.Part.Number, b.Part.Number) })
		sum := ListCounts{Name: of.name, Counts: list.Counts{Of: all[0].Of}}
		for i := range all {
			sum.Counts.AddFrom(&all[i].Counts, sum.Lines)
		}
		is := func(l ListCounts) bool { return l.Part != nil && whole{l.Name, l.Part.Size, l.Part.Of} == of }
		lists[slices.IndexFunc(lists, is)] = sum
		lists = slices.DeleteFunc(lists, is)
	}
	return lists
}

// Again gives a part of a list that both tallies have counted; nil for none.
func (t *Tally) Again(o *Tally) *ListCounts {
	for i := range o.Lists {
		l := &o.Lists[i]
		if l.Part != nil && slices.ContainsFunc(t.Lists, func(mine ListCounts) bool {
			return mine.Part != nil && mine.Name == l.Name && *mine.Part == *l.Part
		}) {
			return l
		}
	}
	return nil
}
