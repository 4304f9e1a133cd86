package engine

// Clients. Their addresses are cut into runs where networks begin and end, so that
// no test tells the addresses of a run apart. A client of a log is looked up among
// the runs as its address is written.

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"math"
	"math/bits"
	"net/netip"
	"slices"
	"sort"
	"unsafe"

	"kibitz/core/request/list"
	"kibitz/core/rulebook"
)

// clients are the classes of client addresses.
type clients struct {
	none   *class // of what is no address
	nobody *class // of a client in no network
	v4     ipv4Runs
	v6     []netip.Addr // the first address of each run
	class6 []*class
}

// cutClients cuts the addresses at the ends of the networks that are tested.
func (c *classes) cutClients() *clients {
	cut := &clients{none: c.none, nobody: c.ask("", true, netip.Addr{})}
	if slices.Equal(cut.none.holds, cut.nobody.holds) {
		cut.none = cut.nobody
	}
	type network struct {
		netip.Prefix
		bit int    // a test that holds otherwise in it
		of  *class // of those of its clients that are in no network inside it
	}
	most := 0
	for _, t := range c.tests {
		most += len(t.Values)
	}
	networks := make([]network, 0, most)
	for bit, t := range c.tests {
		for i := range t.Values {
			if t.Values[i].Kind == rulebook.ValueNetwork && cut.nobody.holds[bit] == t.Unless {
				networks = append(networks, network{Prefix: t.Values[i].Network, bit: bit})
			}
		}
	}
	slices.SortFunc(networks, func(a, b network) int { return cmp.Or(a.Compare(b.Prefix), cmp.Compare(a.bit, b.bit)) }) // those inside follow
	cut.v4.first, cut.v4.class = make([]uint32, 0, 2*len(networks)+1), make([]*class, 0, 2*len(networks)+1)

	// Most classes are those for which one test holds otherwise. They lie side by side,
	// as do the tests and their owners.
	alone, flips, owners := make([]class, len(c.tests)), make([]int, len(c.tests)), make([]int32, len(c.tests))
	for bit := range c.tests { // tests are in the order of their entries
		flips[bit], owners[bit] = bit, int32(c.owners[bit])
	}
	several := map[string]*class{} // those for which more than one does
	var key []byte
	inside := func(outer *class, more []int) *class {
		if len(outer.flips) == 0 && len(more) == 1 {
			bit := more[0]
			if alone[bit].ID == 0 {
				alone[bit].ID, alone[bit].holds, alone[bit].flips, alone[bit].owners = classIDs.Add(1), cut.nobody.holds, flips[bit:bit+1:bit+1], owners[bit:bit+1:bit+1]
			}
			return &alone[bit]
		}
		both := append(slices.Clip(outer.flips), more...)
		slices.Sort(both)
		both = slices.Compact(both)
		if len(both) == 1 { // the network that holds this one is of the same test
			return outer
		}
		key = key[:0]
		for _, bit := range both {
			key = binary.LittleEndian.AppendUint32(key, uint32(bit))
		}
		of := several[string(key)]
		if of == nil {
			of = &class{Class: Class{ID: classIDs.Add(1)}, holds: cut.nobody.holds, flips: both}
			for _, bit := range both {
				of.owners = append(of.owners, owners[bit])
			}
			several[string(key)] = of
		}
		return of
	}
	var open []network // those that hold the address at hand, each inside the one before
	outer := func() *class {
		if len(open) == 0 {
			return cut.nobody
		}
		return open[len(open)-1].of
	}
	leave := func() {
		last := rulebook.LastOf(open[len(open)-1].Prefix)
		open = open[:len(open)-1]
		if next := last.Next(); next.IsValid() {
			cut.begin(next, outer())
		}
	}
	cut.begin(netip.IPv4Unspecified(), cut.nobody)
	cut.begin(netip.IPv6Unspecified(), cut.nobody)
	var bits []int // of the network at hand
	for i := 0; i < len(networks); {
		n := networks[i]
		for bits = bits[:0]; i < len(networks) && networks[i].Prefix == n.Prefix; i++ { // it may be tested again
			if len(bits) == 0 || bits[len(bits)-1] != networks[i].bit {
				bits = append(bits, networks[i].bit)
			}
		}
		for len(open) > 0 && !open[len(open)-1].Contains(n.Addr()) {
			leave()
		}
		n.of = inside(outer(), bits)
		cut.begin(n.Addr(), n.of)
		open = append(open, n)
	}
	for len(open) > 0 {
		leave()
	}
	return cut
}

// Clients gives an address of each set of clients that tests tell apart, a plain one
// first.
func Clients(tests []*rulebook.Test) []netip.Addr {
	c := &classes{tests: tests, owners: make([]int, len(tests))}
	c.none = c.ask("", false, netip.Addr{})
	cut := c.cutClients()
	out := []netip.Addr{netip.AddrFrom4([4]byte{203, 0, 113, 9})}
	at, found := slices.BinarySearch(cut.v4.first, number4(out[0]))
	if !found {
		at--
	}
	seen := map[*class]bool{cut.v4.class[at]: true}
	add := func(at netip.Addr, of *class) {
		if !seen[of] {
			seen[of] = true
			out = append(out, at)
		}
	}
	for i, of := range cut.v4.class {
		add(netip.AddrFrom4([4]byte(binary.BigEndian.AppendUint32(nil, cut.v4.first[i]))), of)
	}
	for i, of := range cut.class6 {
		add(cut.v6[i], of)
	}
	return out
}

// begin makes a run of a class begin at an address, behind the other runs.
func (c *clients) begin(at netip.Addr, of *class) {
	if at.Is4() {
		c.v4.begin(number4(at), of)
		return
	}
	if n := len(c.v6); n > 0 && c.v6[n-1] == at {
		c.class6[n-1] = of
		return
	}
	c.v6, c.class6 = append(c.v6, at), append(c.class6, of)
}

// of gives the class of a client.
func (c *clients) of(client netip.Addr) *class {
	switch {
	case !client.IsValid():
		return c.none
	case client.Is4():
		return c.v4.class[c.v4.find(number4(client))]
	case client.Zone() != "": // no network has zones
		return c.nobody
	}
	behind := sort.Search(len(c.v6), func(i int) bool { return client.Less(c.v6[i]) })
	return c.class6[behind-1]
}

// A clientReader gives the classes of clients as a log names them. How an address begins
// tells whether networks are there, and where none are, which is so of most, it is read no
// further. It is for one goroutine.
type clientReader struct {
	*clients
	known  [1 << 10]beginning // where networks are, by a hash
	always uint64             // 1: what begins like an address must be read on, for what is none is of another class
	begins [MaxLines]uint64   // of the lines at hand, as in a beginning
}

func newClientReader(c *clients) *clientReader {
	r := &clientReader{clients: c}
	if c.none != c.nobody {
		r.always = 1
	}
	return r
}

// A beginning is what addresses have in common.
type beginning struct {
	text   uint64 // two numbers with their dots, and zeros behind them
	number uint32 // the two numbers, as they begin an address
	marks  uint16 // the map that tells where networks are
	length uint16 // of the text
}

func (c *clientReader) beginning(text uint64) *beginning { return &c.known[text*spread>>(64-10)] }

// classes gives the classes of the clients of lines, of which there are no more than
// MaxLines. Each step leaves fewer of them, and none has a branch that could not be
// foretold.
func (c *clientReader) classes(lines []list.Line, out []Class) {
	nobody, starts, always, begins := c.nobody.Class, c.v4.starts, c.always, &c.begins
	near := uint64(0) // a bit for each of those whose client may be in a network
	for i := range lines {
		begin := twoNumbers(lines[i].ClientWord(0))
		at := uint(i) % MaxLines
		near |= (starts.with(begin) | always) << at
		begins[at], out[i] = begin, nobody
	}
	nearer := uint64(0)
	for ; near != 0; near &= near - 1 {
		i := uint(bits.TrailingZeros64(near)) % MaxLines
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
		i := uint(bits.TrailingZeros64(nearer)) % MaxLines
		known := c.beginning(begins[i])
		low, ok := lastNumbers(lines[i].ClientWord(uint32(known.length)), len(lines[i].Client())-int(known.length))
		switch {
		case !ok:
			out[i] = c.read(lines[i].Client(), known.text)
		case c.v4.near(known.marks, low) != 0: // else it is nobody's, without a search
			out[i] = c.v4.told[c.v4.find(known.number|low)]
		}
	}
}

// read gives the class of a client, and remembers how it begins.
func (c *clientReader) read(text []byte, begins uint64) Class {
	client, _ := netip.ParseAddr(unsafe.String(unsafe.SliceData(text), len(text)))
	client = client.Unmap()
	if client.Is4() && begins != 0 {
		address := number4(client)
		*c.beginning(begins) = beginning{begins, address &^ 0xffff, c.v4.mapped[address>>16], uint16(bits.Len64(begins)+7) / 8}
	}
	return c.clients.of(client).Class
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
	with := &missing[third&3][fourth&3]
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

// missing is what two numbers of so many digits lack to have three each, and the least
// that they are, since no zero stands before another digit.
var missing = func() (m [4][4]struct{ digits, least uint64 }) {
	digits, least := [4]uint64{0, 0x3030, 0x30, 0}, [4]uint64{0, 0, 10, 100}
	for i := range m {
		for j := range m {
			m[i][j].digits, m[i][j].least = digits[i]|digits[j]<<32, least[i]|least[j]<<32
		}
	}
	return m
}()

// spread makes hashes differ in their high bits (2⁶⁴ divided by the golden ratio).
const spread = 0x9E3779B97F4A7C15

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
	class []*class
	told  []Class            // what a log's reader is told of them, side by side
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

func (r *ipv4Runs) begin(at uint32, of *class) {
	if n := len(r.first); n > 0 && r.first[n-1] == at {
		r.class[n-1] = of
		return
	}
	r.first, r.class = append(r.first, at), append(r.class, of)
}

// index makes what finds the runs quickly, once all have begun.
func (r *ipv4Runs) index(nobody *class) {
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
	r.told = make([]Class, len(r.class))
	for i, of := range r.class {
		r.told[i] = of.Class
	}
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

// find gives the number of an address's run. It halves what is left without a branch,
// since none could be foretold.
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
