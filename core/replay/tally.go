package replay

import (
	"cmp"
	"slices"
	"strings"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/request/list"
)

// A Tally is what a replay adds up. Tallies of parts, merged, are the tally of
// the whole.
type Tally struct {
	Requests int64
	Expected int64 // requests whose list expects something
	Lists    []ListCounts
	Partial  bool // the replay was interrupted

	Outcomes map[Outcome]int64
	Entries  map[string]int64 // requests by the place of the entry that decided
	Loops    Top
	TooLong  Top
	Chains   Top
	Missing  Top             // but those of which the list knows
	Referrer map[string]*Top // of missing addresses
	Recorded map[Pair]int64
	Differs  map[Pair]*Top
	Unmet    []Unmet
	Unmets   int64
	Types    map[string]*Bytes
	Plain    Top // files that were sent as they are, though their type shrinks
}

// ListCounts are those of one list.
type ListCounts struct {
	Name string
	list.Counts
}

// An Outcome is what can happen to a request: its status and what decided it.
type Outcome struct {
	Status string
	Cause  engine.Cause
	By     string // name of the entry; "" for none
	At     string // and its place
}

// A Pair is a recorded status and the outcome that was predicted.
type Pair struct {
	Recorded  int
	Predicted Outcome
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
func NewTally() *Tally {
	return &Tally{Outcomes: map[Outcome]int64{}, Entries: map[string]int64{}, Recorded: map[Pair]int64{}, Differs: map[Pair]*Top{}, Types: map[string]*Bytes{}, Referrer: map[string]*Top{}}
}

// smallest is the size from which it is worth saying that a file could shrink.
const smallest = 512

const maxUnmet = 10_000

// Add counts one result.
func (t *Tally) Add(r *Result) {
	t.count(r, 1)
	if r.Item.Recorded != 0 {
		t.record(r, r.Item.Recorded, 1)
	}
	if ref, ok := r.Item.Request.Get("referer"); ok && ref != "-" && r.missing() {
		t.refer(r, ref)
	}
	if r.Item.Expects != nil {
		t.Expected++
	}
	if len(r.Unmet) > 0 {
		t.Unmets++
		if len(t.Unmet) < maxUnmet {
			t.Unmet = append(t.Unmet, Unmet{r.List, r.Item.Line, withMethod(r.Item.Request, r.Item.Request.Address.String()), r.Unmet})
		}
	}
}

// outcome is what happened to a request.
func (r *Result) outcome() Outcome {
	o := Outcome{Status: engine.StatusText(r.Response), Cause: r.Response.Cause}
	if r.Response.By != nil {
		o.By, o.At = r.Response.By.Name, r.Response.By.Place.String()
	}
	return o
}

// missing reports whether the answer is a 404 that its list does not expect.
func (r *Result) missing() bool {
	x := r.Item.Expects
	return r.Response.Status == 404 && (x == nil || !engine.StatusFits(x.Status, r.Response))
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

// count counts a result n times.
func (t *Tally) count(r *Result, n int64) {
	t.Requests += n
	resp, o := r.Response, r.outcome()
	if o.At != "" {
		t.Entries[o.At] += n
	}
	t.Outcomes[o] += n
	x := r.Item.Expects
	if r.Visit != nil {
		switch {
		case x != nil && x.Loop && len(r.Unmet) == 0: // the list knows of it
		case r.Visit.Ending == engine.Loop:
			t.Loops.add(r.target(), n)
		case r.Visit.Ending == engine.TooLong:
			t.TooLong.add(r.target(), n)
		case r.Redirects() > 1:
			t.Chains.add(r.target(), n)
		}
	}
	if r.missing() {
		t.Missing.add(r.target(), n)
	}
	if resp.Type == "" {
		return
	}
	b := t.Types[resp.Type]
	if b == nil {
		b = &Bytes{}
		t.Types[resp.Type] = b
	}
	b.Requests += n
	if resp.Encoded < 0 {
		b.Unknown += n
		return
	}
	b.Plain += n * resp.Size
	b.Wire += n * resp.Encoded
	if resp.File != nil && resp.Status == 200 && resp.Encoding == "" && resp.Size >= smallest && engine.Compressible(resp.Type) {
		t.Plain.add(resp.Site.Name+" "+resp.File.Path, n)
	}
}

// record counts the status that a server answered to the request of a result.
func (t *Tally) record(r *Result, status int, n int64) {
	p := Pair{status, r.outcome()}
	t.Recorded[p] += n
	if !r.Response.App && r.Response.Status != status {
		if t.Differs[p] == nil {
			t.Differs[p] = &Top{}
		}
		t.Differs[p].add(r.target(), n)
	}
}

// refer counts the page that a request for a missing address came from.
func (t *Tally) refer(r *Result, from string) {
	target := r.target()
	top := t.Referrer[target]
	if top == nil {
		if len(t.Referrer) >= maxReferred {
			return
		}
		top = &Top{most: maxReferrers}
		t.Referrer[target] = top
	}
	top.add(from, 1)
}

// maxReferred and maxReferrers bound what is kept of referrers.
const (
	maxReferred  = 4096
	maxReferrers = 64
)

// AddCounts adds what became of a list's lines.
func (t *Tally) AddCounts(name string, c list.Counts) {
	t.Lists = append(t.Lists, ListCounts{name, c})
}

// Merge adds another tally to this one.
func (t *Tally) Merge(o *Tally) {
	t.Requests += o.Requests
	t.Expected += o.Expected
	t.Unmets += o.Unmets
	t.Lists = append(t.Lists, o.Lists...)
	t.Partial = t.Partial || o.Partial
	addAll(t.Outcomes, o.Outcomes)
	addAll(t.Entries, o.Entries)
	addAll(t.Recorded, o.Recorded)
	t.Loops.Merge(&o.Loops)
	t.TooLong.Merge(&o.TooLong)
	t.Chains.Merge(&o.Chains)
	t.Missing.Merge(&o.Missing)
	t.Plain.Merge(&o.Plain)
	for target, top := range o.Referrer {
		if t.Referrer[target] == nil {
			t.Referrer[target] = &Top{most: maxReferrers}
		}
		t.Referrer[target].Merge(top)
	}
	for p, top := range o.Differs {
		if t.Differs[p] == nil {
			t.Differs[p] = &Top{}
		}
		t.Differs[p].Merge(top)
	}
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
}

func addAll[K comparable](into, from map[K]int64) {
	for k, n := range from {
		into[k] += n
	}
}

// A Top counts addresses, the commonest of which are shown. The zero Top is
// empty.
type Top struct {
	Counts map[string]int64
	Total  int64
	Others int64 // requests whose address was one too many to be kept

	most int // addresses that are kept; 0 is maxAddresses
}

// maxAddresses bounds the memory that a Top takes.
const maxAddresses = 1 << 16

// Add counts an address.
func (t *Top) Add(address string) { t.add(address, 1) }

func (t *Top) add(address string, n int64) {
	t.Total += n
	if t.Counts == nil {
		t.Counts = map[string]int64{}
	}
	if _, ok := t.Counts[address]; !ok && len(t.Counts) >= cmp.Or(t.most, maxAddresses) {
		t.Others += n
		return
	}
	t.Counts[address] += n
}

// Merge adds the counts of another Top.
func (t *Top) Merge(o *Top) {
	for _, c := range o.Most(len(o.Counts)) { // the commonest first, if there is not room for all
		t.add(c.Address, c.N)
	}
	t.Total += o.Others
	t.Others += o.Others
}

// Count is an address with its requests.
type Count struct {
	Address string
	N       int64
}

// Most gives the n commonest addresses, in a settled order.
func (t *Top) Most(n int) []Count {
	var out []Count
	for a, c := range t.Counts {
		out = append(out, Count{a, c})
	}
	slices.SortFunc(out, func(a, b Count) int {
		return cmp.Or(cmp.Compare(b.N, a.N), strings.Compare(a.Address, b.Address))
	})
	return out[:min(n, len(out))]
}
