package replay

// Clients of logs: their classes are found from the text of an address, mostly without
// parsing it. How an address begins tells whether any tested network is near, and for most
// it tells that none is. The simpler way, netip.ParseAddr and a search for each line, takes
// nine times as long (BenchmarkClients).

import (
	"encoding/binary"
	"fmt"
	"math"
	"math/bits"
	"net/netip"
	"slices"
	"sort"
	"unsafe"

	"kibitz/core/engine"
	"kibitz/core/request/list"
)

// A clientReader gives the classes of clients as a log names them. How an address begins
// tells whether networks are there, and where none are, which is so of most, it is read no
// further. It is for one goroutine.
type clientReader struct {
	*clientRuns
	beginnings [1 << 10]beginning // where networks are, by a hash
	always     uint64             // 1: what begins like an address must be read on, for what is none is of another class
	begins     [together]uint64   // of the lines at hand, as in a beginning
}

func newClientReader(runs *clientRuns) *clientReader {
	r := &clientReader{clientRuns: runs}
	if r.none.ID != r.nobody.ID {
		r.always = 1
	}
	return r
}

// clientRuns are runs of addresses that no test of any site tells apart. They are not
// changed once they are made.
type clientRuns struct {
	none, nobody engine.Class
	v4           ipv4Runs
	v6           []netip.Addr // the first address of each run
	class6       []engine.Class
}

// runsOf joins the runs of several sites: a run ends where one of any of them does, and its
// class is made of those that it has there.
func runsOf(sites []*engine.ClientClasses) *clientRuns {
	ids := map[string]uint32{}
	joint := func(of func(i int) engine.Class) (out engine.Class) {
		if len(sites) == 1 && sites[0].Base {
			return of(0)
		}
		var key []byte
		for i, s := range sites {
			c := of(i)
			key = binary.LittleEndian.AppendUint32(key, c.ID)
			if s.Base {
				out.Entry = c.Entry
			} else {
				key = binary.LittleEndian.AppendUint32(key, c.Entry)
			}
		}
		if ids[string(key)] == 0 {
			ids[string(key)] = uint32(len(ids)) + 1
		}
		out.ID = ids[string(key)]
		return out
	}
	var starts []netip.Addr
	for _, s := range sites {
		starts = append(starts, s.First...)
	}
	slices.SortFunc(starts, netip.Addr.Compare)
	r := &clientRuns{
		none:   joint(func(i int) engine.Class { return sites[i].None }),
		nobody: joint(func(i int) engine.Class { return sites[i].Nobody }),
	}
	at := make([]int, len(sites)) // the run of each site
	for _, start := range slices.Compact(starts) {
		for i, s := range sites {
			for at[i]+1 < len(s.First) && !start.Less(s.First[at[i]+1]) {
				at[i]++
			}
		}
		of := joint(func(i int) engine.Class { return sites[i].Class[at[i]] })
		if start.Is4() {
			r.v4.first, r.v4.class = append(r.v4.first, number4(start)), append(r.v4.class, of)
		} else {
			r.v6, r.class6 = append(r.v6, start), append(r.class6, of)
		}
	}
	r.v4.index(r.nobody)
	return r
}

// of gives the class of a client.
func (r *clientRuns) of(client netip.Addr) engine.Class {
	switch {
	case !client.IsValid():
		return r.none
	case client.Is4():
		return r.v4.class[r.v4.find(number4(client))]
	case client.Zone() != "": // no network has zones
		return r.nobody
	}
	behind := sort.Search(len(r.v6), func(i int) bool { return client.Less(r.v6[i]) })
	return r.class6[behind-1]
}

// A beginning is what addresses have in common.
type beginning struct {
	text   uint64 // two numbers with their dots, and zeros behind them
	number uint32 // the two numbers, as they begin an address
	marks  uint16 // the map that tells where networks are
	length uint16 // of the text
}

func (c *clientReader) beginning(text uint64) *beginning { return &c.beginnings[text*spread>>(64-10)] }

// classes gives the classes of the clients of lines, of which there are no more than
// together. Each step leaves fewer of them, and the loops are branch-free.
func (c *clientReader) classes(lines []list.Line, out []engine.Class) {
	nobody, starts, always, begins := c.nobody, c.v4.starts, c.always, &c.begins
	near := uint64(0) // a bit for each of those whose client may be in a network
	for i := range lines {
		begin := twoNumbers(lines[i].ClientWord(0))
		at := uint(i) % together
		near |= (starts.with(begin) | always) << at
		begins[at], out[i] = begin, nobody
	}
	nearer := uint64(0)
	for ; near != 0; near &= near - 1 {
		i := uint(bits.TrailingZeros64(near)) % together
		begin := begins[i]
		known := c.beginning(begin)
		if known.text != begin || begin == 0 {
			out[i] = c.read(lines[i].Client(), begin)
			continue
		}
		low := aboutNumbers(lines[i].ClientWord(uint32(known.length)))
		nearer |= (c.v4.near(known.marks, low) | always) << i
	}
	for ; nearer != 0; nearer &= nearer - 1 {
		i := uint(bits.TrailingZeros64(nearer)) % together
		known := c.beginning(begins[i])
		low, ok := lastNumbers(lines[i].ClientWord(uint32(known.length)), len(lines[i].Client())-int(known.length))
		switch {
		case !ok:
			out[i] = c.read(lines[i].Client(), known.text)
		case c.v4.near(known.marks, low) != 0: // else it is nobody's, without a search
			out[i] = c.v4.class[c.v4.find(known.number|low)]
		}
	}
}

// read gives the class of a client, and remembers how it begins.
func (c *clientReader) read(text []byte, begins uint64) engine.Class {
	client, _ := netip.ParseAddr(unsafe.String(unsafe.SliceData(text), len(text)))
	client = client.Unmap()
	if client.Is4() && begins != 0 {
		address := number4(client)
		*c.beginning(begins) = beginning{begins, address &^ 0xffff, c.v4.mapped[address>>16], uint16(bits.Len64(begins)+7) / 8}
	}
	return c.of(client)
}

// lastNumbers reads the two last numbers of an IPv4 address, which have so many bytes, as a
// word.
func lastNumbers(text uint64, length int) (low uint32, ok bool) {
	dot := firstDot(text)
	third := dot / 8 // how long it is
	fourth := length - third - 1
	if uint(third-1) > 2 || uint(fourth-1) > 2 {
		return 0, false
	}
	with := &lacking[third&3][fourth&3]
	s := halves(text, dot, 8*length) | with.digits
	const high, zero, each = 0x00f0f0f0_00f0f0f0, 0x00303030_00303030, 0x00060606_00060606
	bad := (s&high ^ zero) | ((s+each)&high ^ zero)
	const borrow = 1<<63 | 1<<31
	two := twoValues(s)
	bad |= two&^0x000000ff_000000ff | ^(two|borrow-with.least)&borrow
	return lowOf(two), bad == 0
}

// aboutNumbers is lastNumbers for what is known to be such.
func aboutNumbers(text uint64) (low uint32) {
	return lowOf(twoValues(halves(text, firstDot(text), (bits.Len64(text)+7)&^7)))
}

// firstDot gives the place of the high bit of the first dot in a text.
func firstDot(text uint64) int {
	dots := text ^ '.'*eachByte
	return bits.TrailingZeros64((dots - eachByte) &^ dots & (0x80 * eachByte))
}

// halves puts two numbers that a dot parts into the halves of a word, each with zeros
// before it to three digits. The text has so many bits.
func halves(text uint64, dot, size int) uint64 {
	s := text << ((31 - dot) & 63)
	return s&0xffffff | s>>32<<((57+dot-size)&63)
}

// twoValues reads three digits in each half of a word, the first of them lowest.
func twoValues(s uint64) uint64 {
	s &= 0x000f0f0f_000f0f0f
	tens := (s*10 + s>>8) & 0x000000ff_000000ff
	return tens*10 + s>>16&0x000000ff_000000ff
}

func lowOf(values uint64) uint32 { return uint32(values<<8 | values>>32) }

// lacking is what two numbers of so many digits lack to have three each, and the least
// that they are, since no zero stands before another digit.
var lacking = func() (m [4][4]struct{ digits, least uint64 }) {
	digits, least := [4]uint64{0, 0x3030, 0x30, 0}, [4]uint64{0, 0, 10, 100}
	for i := range m {
		for j := range m {
			m[i][j].digits, m[i][j].least = digits[i]|digits[j]<<32, least[i]|least[j]<<32
		}
	}
	return m
}()

// twoNumbers gives the bytes of a word up to its second dot, with zeros behind them; 0
// where it has no two dots.
func twoNumbers(s uint64) uint64 {
	dots := s ^ '.'*eachByte
	dots = (dots - eachByte) &^ dots & (0x80 * eachByte) // the first two are true
	second := dots & (dots - 1)
	if second == 0 {
		return 0
	}
	return s & (second ^ (second - 1))
}

const eachByte = 0x0101010101010101

// ipv4Runs are the runs of IPv4 addresses, as numbers.
type ipv4Runs struct {
	first []uint32 // of each run
	class []engine.Class
	from  *[1<<16 + 1]uint32 // the run of the first address that begins with two given bytes

	starts beginnings // of addresses that may be in a network

	// Most addresses are near no network, which a bit for sixteen of them tells
	// without a search.
	maps   [][1 << 12 / 64]uint64
	mapped *[1 << 16]uint16 // the map for two given first bytes
}

// beginnings are how addresses begin, and perhaps more: a bit for each, by a hash of the
// text of two numbers. They are few bits, which stay at hand.
type beginnings struct {
	bits *[1 << 10]uint64
	mask uint64 // of the words in use
}

// beginningsOf are those for which a map tells where networks are, and 0.
func beginningsOf(mapped *[1 << 16]uint16) beginnings {
	var texts []uint64
	for begins, marks := range mapped {
		if marks != noNetwork {
			texts = append(texts, twoNumbers(binary.LittleEndian.Uint64(fmt.Appendf(nil, "%d.%d.0.0.", begins>>8, begins&0xff))))
		}
	}
	b := beginnings{&[1 << 10]uint64{1}, 3}
	for b.mask < 1<<10-1 && b.mask < uint64(len(texts)) { // few bits of each word are set
		b.mask = 2*b.mask + 1
	}
	for _, text := range texts {
		h := text * spread >> (64 - 16)
		b.bits[h/64&b.mask] |= 1 << (h % 64)
	}
	return b
}

// with is 1 where an address with this beginning may be in a network.
func (b beginnings) with(text uint64) uint64 {
	h := text * spread >> (64 - 16)
	return b.bits[h/64&b.mask] >> (h % 64) & 1
}

// The first two maps, of no bits and of all.
const (
	noNetwork = iota
	allNetworks
	maxMaps = 1 << 12 // a map takes 512 bytes
)

func number4(a netip.Addr) uint32 {
	b := a.As4()
	return binary.BigEndian.Uint32(b[:])
}

// index makes what finds the runs quickly, once all have begun.
func (r *ipv4Runs) index(nobody engine.Class) {
	r.from, r.mapped, r.maps = &[1<<16 + 1]uint32{}, &[1 << 16]uint16{}, make([][64]uint64, 2)
	for i := range r.maps[allNetworks] {
		r.maps[allNetworks][i] = math.MaxUint64
	}
	for i, first := range r.first {
		last := uint32(math.MaxUint32)
		if i+1 < len(r.first) {
			last = r.first[i+1] - 1
		}
		for begins := first >> 16; begins <= last>>16; begins++ {
			if begins<<16 >= first {
				r.from[begins] = uint32(i)
			}
			if r.class[i] != nobody {
				r.mark(begins, max(first, begins<<16), min(last, begins<<16|0xffff))
			}
		}
	}
	r.from[1<<16] = uint32(len(r.first) - 1)
	r.starts = beginningsOf(r.mapped)
}

// mark notes that addresses that begin with two bytes are in networks.
func (r *ipv4Runs) mark(begins, first, last uint32) {
	if first&0xffff == 0 && last&0xffff == 0xffff || len(r.maps) == maxMaps {
		r.mapped[begins] = allNetworks
	}
	if r.mapped[begins] == allNetworks {
		return
	}
	if r.mapped[begins] == noNetwork {
		r.mapped[begins] = uint16(len(r.maps))
		r.maps = append(r.maps, r.maps[noNetwork])
	}
	marks := &r.maps[r.mapped[begins]]
	for at := first >> 4; at <= last>>4; at++ {
		marks[at>>6&63] |= 1 << (at & 63)
	}
}

// near is 1 where an address or one of its neighbours is in a network; marks is the map
// for how it begins.
func (r *ipv4Runs) near(marks uint16, address uint32) uint64 {
	return r.maps[marks][address>>10&63] >> (address >> 4 & 63) & 1
}

// find gives the number of an address's run. The binary search is branch-free, since its
// branches would be mispredicted.
func (r *ipv4Runs) find(address uint32) uint32 {
	at := r.from[address>>16]
	for n := r.from[address>>16+1] - at + 1; n > 1; {
		half := n / 2
		below := (uint64(address) - uint64(r.first[at+half])) >> 63 // 1: it is below the middle
		at += half & (uint32(below) - 1)
		n -= half
	}
	return at
}
