package replay

// The room that the addresses of a tally take. What does not fit into memory lies in one
// temporary file, in parts by the checksums of the addresses, so that each part can be added
// up by itself in memory.

import (
	"cmp"
	"encoding/binary"
	"errors"
	"math"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/errgroup"
)

// A room is shared by the Tops of a tally. It is for any number of goroutines.
type room struct {
	bytes atomic.Int64 // that the addresses take in memory

	mu      sync.Mutex
	tops    []*Top // by their numbers in the file
	settled int64  // how many bytes they took when the commonest were picked

	opened atomic.Bool
	file   *os.File // nil where all are in memory
	end    atomic.Int64
	parts  []spillPart
}

// A spillPart is a part of the file, a chain of blocks.
type spillPart struct {
	mu     sync.Mutex
	last   []byte // what is not in the file yet
	blocks []spillAt
}

// size is how long the part is, in bytes.
func (p *spillPart) size() int {
	n := len(p.last)
	for _, at := range p.blocks {
		n += int(at.size)
	}
	return n
}

type spillAt struct{ start, size int64 }

const (
	maxTogether = 24 << 20 // bytes that the addresses of all Tops take, while they are counted
	spillParts  = 1 << 9
	spillBlock  = 1 << 13
	maxMinor    = 4 // how many times as many addresses all minor Tops list as another does
	leastMinor  = 1.0 / 128
)

func partOf(address string) uint32 { return checksumOf(address) % spillParts }

// top gives a new Top, of those that share the room.
func (r *room) top(minor bool) *Top {
	t := &Top{minor: minor}
	if r != nil {
		r.add(t)
	}
	return t
}

func (r *room) add(all ...*Top) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, t := range all {
		t.room = r
		t.number = uint64(len(r.tops))
		r.tops = append(r.tops, t)
	}
}

// spill writes down an address for which there is no room in memory.
func (r *room) spill(t *Top, h held) {
	if !r.opened.Load() && !r.open() { // there is no room anywhere, and the report says how many are not listed
		return
	}
	p := &r.parts[partOf(h.Address)]
	p.mu.Lock()
	defer p.mu.Unlock()
	p.last = h.append(binary.AppendUvarint(p.last, t.number))
	if len(p.last) < spillBlock {
		return
	}
	size := int64(len(p.last))
	start := r.end.Add(size) - size
	if _, err := r.file.WriteAt(p.last, start); err == nil { // else the block is told as not listed: memory stays bounded
		p.blocks = append(p.blocks, spillAt{start, size})
	}
	p.last = p.last[:0]
}

// open makes the file, and reports whether there is one.
func (r *room) open() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.opened.Load() {
		return true
	}
	file, err := os.CreateTemp("", "kibitz-*")
	if err != nil {
		return false
	}
	_ = os.Remove(file.Name()) // where a file in use has a name until it is closed, close removes it
	r.file, r.parts = file, make([]spillPart, spillParts)
	r.opened.Store(true)
	return true
}

// spilled gives what lies in a part of the file. A block that cannot be read is not listed.
func (r *room) spilled(part int, each func(*Top, held)) {
	var text strings.Builder
	p := &r.parts[part]
	text.Grow(p.size())
	for _, at := range p.blocks {
		block := make([]byte, at.size)
		if _, err := r.file.ReadAt(block, at.start); err == nil {
			text.Write(block)
		}
	}
	text.Write(p.last)
	for rest := text.String(); rest != ""; {
		var number uint64
		var h held
		number, rest = readNumber(rest)
		rest = h.read(rest)
		each(r.tops[number].last(), h)
	}
}

// last gives the Top that has the counts of t, with which it was merged.
func (t *Top) last() *Top {
	for t.into != nil {
		t = t.into
	}
	return t
}

// close forgets the file.
func (r *room) close() {
	if r.file != nil {
		_ = errors.Join(r.file.Close(), os.Remove(r.file.Name()))
	}
	r.file, r.parts = nil, nil
	r.end.Store(0)
	r.opened.Store(false)
}

// absorb adds what lies in the file of another room, whose Tops have been merged with those of
// this one.
func (r *room) absorb(o *room) {
	if o == nil || o == r || o.file == nil {
		return
	}
	for i := range o.parts {
		o.spilled(i, func(t *Top, h held) {
			h.Address = strings.Clone(h.Address) // not the whole part
			t.hold(h)
		})
	}
	o.close()
}

func (t *Top) settle() {
	if t.room != nil {
		t.room.settle()
	}
}

// settle picks the commonest addresses of each Top. Of those that are as common as each
// other the ones with the least checksums are taken.
func (r *room) settle() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.file == nil && r.bytes.Load() == r.settled {
		return
	}
	all := map[*Top]*listing{}
	for _, t := range r.tops {
		if t.into == nil {
			all[t] = &listing{cut: math.MaxUint64}
		}
	}
	portion(all)
	if r.file == nil {
		for t, l := range all {
			if l.fits(t.size(), t.bytes) {
				continue
			}
			for h := range t.inMemory {
				l.add(h)
			}
			t.keep(l)
		}
	} else {
		r.addUp(all)
		for t, l := range all {
			t.keep(l)
		}
		r.close()
	}
	r.settled = r.bytes.Load()
}

// addUp fills the listings from memory and the file.
func (r *room) addUp(all map[*Top]*listing) {
	type place struct {
		of      *Top
		address string
	}
	inMemory := make([][]held, spillParts)
	of := make([][]*Top, spillParts)
	for t := range all {
		for h := range t.inMemory {
			p := partOf(h.Address)
			inMemory[p], of[p] = append(inMemory[p], h), append(of[p], t)
		}
	}
	var pool errgroup.Group
	pool.SetLimit(runtime.GOMAXPROCS(0))
	for i := range r.parts {
		pool.Go(func() error {
			sum := make(map[place]held, len(inMemory[i])+r.parts[i].size()/shortLine)
			add := func(t *Top, h held) {
				at := place{t, h.Address}
				if known, ok := sum[at]; ok {
					known.merge(h)
					h = known
				}
				sum[at] = h
			}
			for n, h := range inMemory[i] {
				add(of[i][n], h)
			}
			r.spilled(i, add)
			found := map[*listing][]held{}
			for at, h := range sum {
				l := all[at.of]
				found[l] = append(found[l], h)
			}
			for l, some := range found {
				l.mu.Lock()
				for _, h := range some {
					if h.rank() <= l.cut {
						h.Address = strings.Clone(h.Address) // not the whole part
						l.add(h)
					}
				}
				l.mu.Unlock()
			}
			return nil
		})
	}
	_ = pool.Wait()
}

// A listing is the commonest addresses of a Top.
type listing struct {
	mu        sync.Mutex
	addresses int // how many are kept
	bytes     int // of their texts
	best      []held
	size      int    // of the texts of best
	cut       uint64 // the rank of the last that can be among them
}

// portion says how many addresses each Top lists. A minor one has its share by its requests of
// what they have together, so that many of them do not take more than a few.
func portion(all map[*Top]*listing) {
	total := 0.0
	for t := range all {
		if t.minor {
			total += float64(t.Total)
		}
	}
	for t, l := range all {
		part := 1.0
		if t.minor && t.Total > 0 {
			part = min(1, max(leastMinor, maxMinor*float64(t.Total)/total))
		}
		l.addresses, l.bytes = int(part*maxAddresses), int(part*maxListed)
	}
}

func (l *listing) fits(n, bytes int) bool {
	return n <= l.addresses && bytes-n*heldSize <= l.bytes
}

// add adds an address. Now and then those that are not among the commonest are forgotten.
func (l *listing) add(h held) {
	l.best = append(l.best, h)
	if l.size += h.size(); len(l.best) > 2*l.addresses || l.size > 2*l.bytes {
		l.forget()
	}
}

// forget keeps those that are the commonest, in no order.
func (l *listing) forget() {
	if len(l.best) <= l.addresses && l.size <= l.bytes {
		return
	}
	type place struct {
		rank uint64
		at   int
	}
	places := make([]place, len(l.best))
	for i := range l.best {
		places[i] = place{l.best[i].rank(), i}
	}
	slices.SortFunc(places, func(a, b place) int { return cmp.Compare(a.rank, b.rank) })
	most := make([]held, 0, min(2*l.addresses, len(places)))
	l.size = 0
	for _, p := range places {
		h := l.best[p.at]
		full := len(most) >= l.addresses || l.size+h.size() > l.bytes
		if full && p.rank != l.cut { // those that are alike stay together, in whatever order they came
			break
		}
		l.cut = p.rank
		l.size += h.size()
		most = append(most, h)
	}
	l.best = most
}

// keep makes the addresses those of a listing.
func (t *Top) keep(l *listing) {
	l.forget()
	t.empty(len(l.best))
	for _, h := range l.best {
		t.put(h)
	}
	l.best = nil
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
		n, in = readNumber(in)
		return n
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

// readNumber reads what binary.AppendUvarint writes.
func readNumber(in string) (n uint64, rest string) {
	for i := 0; ; i++ {
		n |= uint64(in[i]&0x7f) << (7 * i)
		if in[i] < 0x80 {
			return n, in[i+1:]
		}
	}
}
