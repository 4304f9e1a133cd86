package replay

// The commonest addresses. All are counted: those for which there is no room in memory lie
// in a temporary file until somebody asks which are the commonest. So what is told does not
// depend on the order in which they come.

import (
	"cmp"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"iter"
	"math"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"unsafe"

	"golang.org/x/sync/errgroup"
)

// A Top counts addresses, the commonest of which are shown. The zero Top is empty. It is for
// one goroutine while it counts; then any number of them may ask what it has.
type Top struct {
	Total int64

	settling sync.Mutex
	others   int64  // requests for addresses that are not listed
	few      []held // the addresses, while there are no more than maxFew of them
	many     map[string]int64
	asked    map[string]*Asked // of those in many of which it is known
	bytes    int               // of the texts in many and asked
	none     bool              // all are counted, and none is listed
	spill    []*spill          // addresses that came when many was full; the first is written to
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
	t.settle()
	return t.others
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
	if t.none {
		t.others += more.N
		return
	}
	if t.many == nil {
		for i := range t.few {
			if t.few[i].Address == more.Address {
				t.few[i].merge(more)
				return
			}
		}
		if len(t.few) < maxFew {
			if t.few == nil {
				t.few = make([]held, 0, maxFew/2)
			}
			t.few = append(t.few, more)
			return
		}
		t.many, t.asked = make(map[string]int64, 2*maxFew), map[string]*Asked{}
		for _, h := range t.few {
			t.put(h)
		}
		t.few = nil
	}
	n, ok := t.many[more.Address]
	if !ok && (len(t.many) >= maxInMemory || t.bytes > maxBytes) || ok && more.asked.size() > 0 && t.bytes > maxBytes {
		t.overflow(more)
		return
	}
	if ok {
		h := held{Count{more.Address, n}, t.asked[more.Address]}
		t.bytes -= h.asked.size()
		h.merge(more)
		more = h
	}
	t.put(more)
}

func (t *Top) put(h held) {
	if _, ok := t.many[h.Address]; !ok {
		t.bytes += len(h.Address)
	}
	t.many[h.Address] = h.N
	if h.asked != nil {
		t.bytes += h.asked.size()
		t.asked[h.Address] = h.asked
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

// all gives what is known of each address, in no order.
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

// Merge adds the counts of another Top, which is not to be used any more.
func (t *Top) Merge(o *Top) {
	t.Total += o.Total
	t.others += o.others
	if t.none {
		t.others = t.Total
		return
	}
	t.spill = append(t.spill, o.spill...)
	if t.size() == 0 {
		t.few, t.many, t.asked, t.bytes = o.few, o.many, o.asked, o.bytes
		return
	}
	for h := range o.inMemory {
		t.hold(h)
	}
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

// A spill is a temporary file of addresses, in parts by their checksums, so that each part
// can be added up by itself in memory. Each part is a chain of blocks.
type spill struct {
	file  *os.File
	end   int64
	parts [spillParts]spillPart
}

type spillPart struct {
	last   []byte // what is not in the file yet
	blocks []spillAt
}

type spillAt struct{ start, size int64 }

const (
	spillParts = 1 << 6
	spillBlock = 1 << 13
)

func partOf(address string) uint32 { return checksumOf(address) % spillParts }

// overflow writes down an address for which there is no room.
func (t *Top) overflow(h held) {
	if len(t.spill) == 0 {
		file, err := os.CreateTemp("", "kibitz-*")
		if err != nil { // there is no room anywhere, and the report says how many are not listed
			t.others += h.N
			return
		}
		_ = os.Remove(file.Name()) // where a file in use has a name until it is closed, settle removes it
		t.spill = append(t.spill, &spill{file: file})
	}
	s := t.spill[0]
	p := &s.parts[partOf(h.Address)]
	p.last = h.append(p.last)
	if len(p.last) < spillBlock {
		return
	}
	if _, err := s.file.WriteAt(p.last, s.end); err == nil { // else the block is told as not listed: memory stays bounded
		p.blocks = append(p.blocks, spillAt{s.end, int64(len(p.last))})
		s.end += int64(len(p.last))
	}
	p.last = p.last[:0]
}

// append writes what is known of an address as read reads it.
func (h *held) append(out []byte) []byte {
	count := func(c *Count) {
		out = binary.AppendUvarint(out, uint64(c.N))
		out = binary.AppendUvarint(out, uint64(len(c.Address)))
		out = append(out, c.Address...)
	}
	count(&h.Count)
	if h.asked == nil {
		return append(out, 0)
	}
	out = append(out, 1)
	for _, n := range []int64{h.asked.Robots, h.asked.First, h.asked.Last, int64(len(h.asked.From))} {
		out = binary.AppendUvarint(out, uint64(n))
	}
	for i := range h.asked.From {
		count(&h.asked.From[i].Count)
	}
	return out
}

// read reads what append writes, and gives what follows it.
func (h *held) read(in string) (rest string) {
	number := func() (n uint64) {
		for shift := 0; ; shift += 7 {
			c := in[0]
			in = in[1:]
			n |= uint64(c&0x7f) << shift
			if c < 0x80 {
				return n
			}
		}
	}
	count := func() (c Count) {
		c.N = int64(number())
		n := number()
		c.Address, in = in[:n], in[n:]
		return c
	}
	h.Count, h.asked = count(), nil
	if number() == 0 {
		return in
	}
	h.asked = &Asked{}
	for _, n := range []*int64{&h.asked.Robots, &h.asked.First, &h.asked.Last} {
		*n = int64(number())
	}
	for range number() {
		c := count()
		h.asked.From.add([]byte(c.Address), c.N)
	}
	return in
}

// settle picks the commonest of all addresses, if some lie in files. Of those that are as
// common as each other the ones with the least checksums are taken.
func (t *Top) settle() {
	t.settling.Lock()
	defer t.settling.Unlock()
	if len(t.spill) == 0 {
		return
	}
	var inMemory [spillParts][]held
	for h := range t.inMemory {
		p := partOf(h.Address)
		inMemory[p] = append(inMemory[p], h)
	}
	var mu sync.Mutex
	var best []held               // the commonest of the parts that have been added up, and some more
	size := 0                     // of their texts
	cut := uint64(math.MaxUint64) // the rank of the last that can be among them
	var pool errgroup.Group
	pool.SetLimit(runtime.GOMAXPROCS(0))
	for i := range inMemory {
		pool.Go(func() error {
			sum := t.sumPart(i, inMemory[i])
			mu.Lock()
			defer mu.Unlock()
			for address, h := range sum {
				if h.rank() <= cut {
					h.Address = strings.Clone(address) // not the whole part
					best = append(best, h)
					if size += h.size(); len(best) > 2*maxAddresses || size > 2*maxListed {
						best, cut, size = commonest(best)
					}
				}
			}
			return nil
		})
	}
	_ = pool.Wait()
	t.few, t.many, t.asked, t.bytes, t.others = nil, make(map[string]int64, maxAddresses), map[string]*Asked{}, 0, t.Total
	best, _, _ = commonest(best)
	for _, h := range best {
		t.put(h)
		t.others -= h.N
	}
	for _, s := range t.spill {
		_ = errors.Join(s.file.Close(), os.Remove(s.file.Name()))
	}
	t.spill = nil
}

// commonest keeps those of a list that are the commonest, in no order, and gives the rank of
// the last of them, and the size of their texts.
func commonest(list []held) (_ []held, cut uint64, size int) {
	for i := range list {
		size += list[i].size()
	}
	if len(list) <= maxAddresses && size <= maxListed {
		return list, math.MaxUint64, size
	}
	type place struct {
		rank uint64
		at   int
	}
	places := make([]place, len(list))
	for i := range list {
		places[i] = place{list[i].rank(), i}
	}
	slices.SortFunc(places, func(a, b place) int { return cmp.Compare(a.rank, b.rank) })
	var most []held
	size = 0
	for _, p := range places {
		full := len(most) >= maxAddresses || size+list[p.at].size() > maxListed
		if full && p.rank != cut { // those that are alike stay together, in whatever order they came
			break
		}
		cut = p.rank
		size += list[p.at].size()
		most = append(most, list[p.at])
	}
	return most, cut, size
}

// rank is lower for an address that is more common.
func (h *held) rank() uint64 {
	return uint64(math.MaxUint32-min(h.N, math.MaxUint32))<<32 | uint64(checksumOf(h.Address))
}

// sumPart adds up a part of the addresses. A block that cannot be read is not listed.
func (t *Top) sumPart(part int, inMemory []held) map[string]held {
	var text strings.Builder
	for _, s := range t.spill {
		for _, at := range s.parts[part].blocks {
			block := make([]byte, at.size)
			if _, err := s.file.ReadAt(block, at.start); err == nil {
				text.Write(block)
			}
		}
		text.Write(s.parts[part].last)
	}
	sum := make(map[string]held, len(inMemory)+text.Len()/shortLine)
	add := func(h held) {
		if known, ok := sum[h.Address]; ok {
			known.merge(h)
			h = known
		}
		sum[h.Address] = h
	}
	for _, h := range inMemory {
		add(h)
	}
	for rest := text.String(); rest != ""; {
		var h held
		rest = h.read(rest)
		add(h)
	}
	return sum
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
