package replay

// The commonest addresses. All are counted: those for which there is no room in memory lie
// in a temporary file (room.go) until somebody asks which are the commonest. So what is told
// does not depend on the order in which they come.

import (
	"cmp"
	"hash/crc32"
	"iter"
	"math"
	"slices"
	"strings"
	"unsafe"
)

// A Top counts addresses, the commonest of which are shown. The zero Top is empty, and
// keeps all of them. It is for one goroutine while it counts; then any number of them may
// ask what it has.
type Top struct {
	Total int64

	room   *room  // that it shares with the others of its tally
	number uint64 // in the room
	minor  bool   // it is one of any number, which share what is listed
	into   *Top   // with which it was merged

	few   []held // the addresses, while there are no more than maxFew of them
	many  map[string]int64
	asked map[string]*Asked // of those in many of which it is known
	bytes int               // of the texts
}

// held is what is known of an address.
type held struct {
	Count
	asked *Asked // nil where nobody looks for it
}

// Asked is by whom and when an address was asked for.
type Asked struct {
	From        Pages
	Robots      int64 // requests of programs that ask by themselves
	First, Last int64 // in seconds since 1970; 0 where no request tells its time
}

// at notes the time of a request, 0 for one that does not tell it.
func (a *Asked) at(seconds int64) {
	if seconds == 0 {
		return
	}
	if a.First == 0 || seconds < a.First {
		a.First = seconds
	}
	a.Last = max(a.Last, seconds)
}

// merge adds what is known of other requests.
func (a *Asked) merge(o *Asked) {
	for _, p := range o.From {
		a.From.add([]byte(p.Address), p.N)
	}
	a.Robots += o.Robots
	a.at(o.First)
	a.at(o.Last)
}

// size is that of the texts, in bytes.
func (a *Asked) size() int {
	if a == nil {
		return 0
	}
	return a.From.size()
}

// Count is an address with its requests.
type Count struct {
	Address string
	N       int64
}

// The memory that a Top takes is bounded. Many have few addresses, which take less than a
// map.
const (
	maxFew       = 8
	maxInMemory  = 1 << 13 // while addresses are counted
	maxAddresses = 1 << 16 // that are listed
	maxBytes     = 1 << 20 // of their texts, while they are counted
	maxListed    = 4 << 20 // of the texts of those that are listed
)

// Len is the number of addresses that are listed.
func (t *Top) Len() int {
	t.settle()
	return t.size()
}

// Others is the number of requests for addresses that are not listed: there are more common
// ones than are kept.
func (t *Top) Others() int64 {
	others := t.Total
	for h := range t.all {
		others -= h.N
	}
	return others
}

func (t *Top) size() int { return len(t.few) + len(t.many) }

// Asked gives by whom and when an address was asked for, as far as that is counted.
func (t *Top) Asked(address string) Asked {
	t.settle()
	for _, h := range t.few {
		if h.Address == address && h.asked != nil {
			return *h.asked
		}
	}
	if a := t.asked[address]; a != nil {
		return *a
	}
	return Asked{}
}

// Add counts an address.
func (t *Top) Add(address string) { t.add(address, 1, nil) }

// add counts n requests for an address, and by whom and when, which is not to be used any
// more.
func (t *Top) add(address string, n int64, asked *Asked) {
	t.Total += n
	t.hold(held{Count{kept(address), n}, asked})
}

func (t *Top) hold(more held) {
	for i := range t.few {
		if t.few[i].Address == more.Address {
			t.grow(more.asked.size())
			t.few[i].merge(more)
			return
		}
	}
	n, known := t.many[more.Address]
	switch {
	case t.full() && !(known && more.asked.size() == 0):
		t.room.spill(t, more)
	case known:
		h := held{Count{more.Address, n}, t.asked[more.Address]}
		t.grow(-h.asked.size())
		h.merge(more)
		t.put(h)
	default:
		t.put(more)
	}
}

// full reports whether there is no room in memory for another address.
func (t *Top) full() bool {
	return t.room != nil && (len(t.many) >= maxInMemory || t.bytes > maxBytes || t.room.bytes.Load() > maxTogether)
}

// grow counts how many bytes more, or less, the texts take.
func (t *Top) grow(n int) {
	t.bytes += n
	if t.room != nil && n != 0 {
		t.room.bytes.Add(int64(n))
	}
}

// put keeps an address in memory.
func (t *Top) put(h held) {
	switch {
	case t.many == nil && len(t.few) < maxFew:
		if t.few == nil {
			t.few = make([]held, 0, maxFew/2)
		}
		t.few = append(t.few, h)
		t.grow(h.size() + heldSize)
		return
	case t.many == nil:
		few := t.few
		t.empty(2 * maxFew)
		for _, h := range few {
			t.put(h)
		}
	}
	if _, ok := t.many[h.Address]; !ok {
		t.grow(len(h.Address) + heldSize)
	}
	t.many[h.Address] = h.N
	if h.asked != nil {
		t.grow(h.asked.size())
		t.asked[h.Address] = h.asked
	}
}

// heldSize is what an address takes in memory beside its text, in bytes.
const heldSize = 64

// empty forgets all addresses, and makes room for n.
func (t *Top) empty(n int) {
	t.grow(-t.bytes)
	t.few, t.many, t.asked = nil, nil, nil
	if n > maxFew {
		t.many, t.asked = make(map[string]int64, n), map[string]*Asked{}
	}
}

// size is that of the texts, in bytes.
func (h *held) size() int { return len(h.Address) + h.asked.size() }

// merge adds what is known of the same address.
func (h *held) merge(o held) {
	h.N += o.N
	switch {
	case h.asked == nil:
		h.asked = o.asked
	case o.asked != nil:
		h.asked.merge(o.asked)
	}
}

// all gives what is known of each address that is listed, in no order.
func (t *Top) all(yield func(held) bool) {
	t.settle()
	t.inMemory(yield)
}

func (t *Top) inMemory(yield func(held) bool) {
	for _, h := range t.few {
		if !yield(h) {
			return
		}
	}
	for address, n := range t.many {
		if !yield(held{Count{address, n}, t.asked[address]}) {
			return
		}
	}
}

// counts gives the counts, in no order.
func (t *Top) counts(yield func(Count) bool) {
	for h := range t.all {
		if !yield(h.Count) {
			return
		}
	}
}

// Merge adds the counts of another Top, which is not to be used any more. What a Top of
// another room has in its file, Tally.Merge adds.
func (t *Top) Merge(o *Top) {
	t.Total += o.Total
	o.into = t
	if t.size() == 0 && t.room == o.room {
		t.few, t.many, t.asked, t.bytes = o.few, o.many, o.asked, o.bytes
		o.few, o.many, o.asked, o.bytes = nil, nil, nil, 0
		return
	}
	for h := range o.inMemory {
		t.hold(h)
	}
	o.empty(0)
}

// Most gives the n commonest addresses, in the order of their counts and letters.
func (t *Top) Most(n int) []Count { return First(n, t.counts, compareCounts) }

// First gives the n first of some things, in their order.
func First[T any](n int, all iter.Seq[T], compare func(a, b T) int) []T {
	var out []T
	sorted := 0 // how many of them are, and are the first so far
	for one := range all {
		if sorted > 0 && compare(one, out[sorted-1]) >= 0 {
			continue
		}
		if out = append(out, one); len(out) >= 2*n+64 { // what is behind the first n is no more of use
			slices.SortFunc(out, compare)
			out, sorted = out[:n], n
		}
	}
	slices.SortFunc(out, compare)
	return out[:min(n, len(out))]
}

// compareCounts puts the higher count first. Few are alike, so that addresses, which lie
// all over the memory, are hardly looked at.
func compareCounts(a, b Count) int {
	if a.N != b.N {
		return cmp.Compare(b.N, a.N)
	}
	return strings.Compare(a.Address, b.Address)
}

// rank is lower for an address that is more common.
func (h *held) rank() uint64 {
	return uint64(math.MaxUint32-min(h.N, math.MaxUint32))<<32 | uint64(checksumOf(h.Address))
}

// maxPages bounds what is kept of the pages that an address was asked from.
const maxPages = 16

// Pages are those that an address was asked from: all of them, or, of more than
// maxPages, the ones with the least checksums. So which are kept does not depend
// on the order of the requests, and each count is whole.
type Pages []Page

// Page is one of them.
type Page struct {
	Count
	sum uint32
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

func checksum(text []byte) uint32 { return crc32.Checksum(text, castagnoli) }

func checksumOf(text string) uint32 {
	return checksum(unsafe.Slice(unsafe.StringData(text), len(text)))
}

// size is that of the texts, in bytes.
func (p Pages) size() (n int) {
	for i := range p {
		n += len(p[i].Address)
	}
	return n
}

// add counts n requests from a page, and gives by how many bytes that takes more memory.
func (p *Pages) add(address []byte, n int64) int {
	if len(address) > maxKept {
		address = []byte(kept(string(address)))
	}
	sum := checksum(address)
	for i := range *p {
		if known := &(*p)[i]; known.sum == sum && known.Address == string(address) {
			known.N += n
			return 0
		}
	}
	if len(*p) < maxPages {
		*p = append(*p, Page{Count{string(address), n}, sum})
		return len(address)
	}
	most := &(*p)[0]
	for i := range *p {
		if page := &(*p)[i]; page.sum > most.sum || page.sum == most.sum && page.Address > most.Address {
			most = page
		}
	}
	if sum < most.sum || sum == most.sum && string(address) < most.Address {
		more := len(address) - len(most.Address)
		*most = Page{Count{string(address), n}, sum}
		return more
	}
	return 0
}

// Most gives the pages by the number of requests, and their letters.
func (p Pages) Most() []Count {
	var out []Count
	for _, page := range p {
		out = append(out, page.Count)
	}
	slices.SortFunc(out, compareCounts)
	return out
}
