package engine

// Clients. Their addresses are cut into runs where networks begin and end, so that
// no test tells the addresses of a run apart.

import (
	"cmp"
	"encoding/binary"
	"net/netip"
	"slices"
	"sort"

	"kibitz/core/rulebook"
)

// clients are the classes of client addresses.
type clients struct {
	none   *class       // of what is not an address
	nobody *class       // of a client in no network
	first  []netip.Addr // the first address of each run, IPv4 before IPv6
	class  []*class
}

// A network is one that is tested.
type network struct {
	netip.Prefix
	bit int    // a test that holds otherwise in it
	of  *class // of those of its clients that are in no network inside it
}

// networks gives those that tests name, each in front of those inside it.
func (c *classes) networks(nobody *class) []network {
	most := 0
	for _, t := range c.tests {
		most += len(t.Values)
	}
	out := make([]network, 0, most)
	for bit, t := range c.tests {
		for i := range t.Values {
			if t.Values[i].Kind == rulebook.ValueNetwork && nobody.holds[bit] == t.Unless {
				out = append(out, network{Prefix: t.Values[i].Network, bit: bit})
			}
		}
	}
	slices.SortFunc(out, func(a, b network) int { return cmp.Or(a.Compare(b.Prefix), cmp.Compare(a.bit, b.bit)) })
	return out
}

// A clientCutter makes the classes of networks. Most are those for which one test holds
// otherwise than for a client in no network: they lie side by side, as do their tests and
// owners.
type clientCutter struct {
	*clients
	open    []network // those that hold the address at hand, each inside the one before
	single  []class   // by bit
	flips   []int
	owners  []int32
	several map[string]*class // those for which more than one test holds otherwise, by these
	key     []byte
}

// cutClients cuts the addresses at the ends of the networks that are tested.
func (c *classes) cutClients() *clients {
	cut := &clients{none: c.none, nobody: c.ask("", true, netip.Addr{})}
	if slices.Equal(cut.none.holds, cut.nobody.holds) {
		cut.none = cut.nobody
	}
	networks := c.networks(cut.nobody)
	cut.first, cut.class = make([]netip.Addr, 0, 2*len(networks)+2), make([]*class, 0, 2*len(networks)+2)
	k := &clientCutter{clients: cut, single: make([]class, len(c.tests)), flips: make([]int, len(c.tests)), owners: make([]int32, len(c.tests)), several: map[string]*class{}}
	for bit := range c.tests { // tests are in the order of their entries
		k.flips[bit], k.owners[bit] = bit, int32(c.owners[bit])
	}
	cut.begin(netip.IPv4Unspecified(), cut.nobody)
	six := slices.IndexFunc(networks, func(n network) bool { return n.Addr().Is6() })
	if six < 0 {
		six = len(networks)
	}
	k.cut(networks[:six])
	cut.begin(netip.IPv6Unspecified(), cut.nobody)
	k.cut(networks[six:])
	return cut
}

// cut begins a run at the first address of each network, and behind its last one.
func (k *clientCutter) cut(networks []network) {
	var bits []int // of the network at hand
	for i := 0; i < len(networks); {
		n := networks[i]
		for bits = bits[:0]; i < len(networks) && networks[i].Prefix == n.Prefix; i++ { // it may be tested again
			if len(bits) == 0 || bits[len(bits)-1] != networks[i].bit {
				bits = append(bits, networks[i].bit)
			}
		}
		for len(k.open) > 0 && !k.open[len(k.open)-1].Contains(n.Addr()) {
			k.leave()
		}
		n.of = k.inside(k.outer(), bits)
		k.begin(n.Addr(), n.of)
		k.open = append(k.open, n)
	}
	for len(k.open) > 0 {
		k.leave()
	}
}

// outer is the class of the innermost network that is open.
func (k *clientCutter) outer() *class {
	if len(k.open) == 0 {
		return k.nobody
	}
	return k.open[len(k.open)-1].of
}

// leave ends the innermost network.
func (k *clientCutter) leave() {
	last := rulebook.LastOf(k.open[len(k.open)-1].Prefix)
	k.open = k.open[:len(k.open)-1]
	if next := last.Next(); next.IsValid() {
		k.begin(next, k.outer())
	}
}

// inside gives the class of a network inside another one, for which more tests hold
// otherwise.
func (k *clientCutter) inside(outer *class, more []int) *class {
	if len(outer.flips) == 0 && len(more) == 1 {
		bit := more[0]
		of := &k.single[bit]
		if of.ID == 0 {
			of.ID, of.holds, of.flips, of.owners = classIDs.Add(1), k.nobody.holds, k.flips[bit:bit+1:bit+1], k.owners[bit:bit+1:bit+1]
		}
		return of
	}
	both := append(slices.Clip(outer.flips), more...)
	slices.Sort(both)
	both = slices.Compact(both)
	if len(both) == 1 { // the network that holds this one is of the same test
		return outer
	}
	k.key = k.key[:0]
	for _, bit := range both {
		k.key = binary.LittleEndian.AppendUint32(k.key, uint32(bit))
	}
	of := k.several[string(k.key)]
	if of == nil {
		of = &class{Class: Class{ID: classIDs.Add(1)}, holds: k.nobody.holds, flips: both}
		for _, bit := range both {
			of.owners = append(of.owners, k.owners[bit])
		}
		k.several[string(k.key)] = of
	}
	return of
}

// Clients gives an address of each set of clients that tests tell apart, a plain one
// first.
func Clients(tests []*rulebook.Test) []netip.Addr {
	c := &classes{tests: tests, owners: make([]int, len(tests))}
	c.none = c.ask("", false, netip.Addr{})
	cut := c.cutClients()
	out := []netip.Addr{netip.AddrFrom4([4]byte{203, 0, 113, 9})}
	seen := map[*class]bool{cut.of(out[0]): true}
	for i, of := range cut.class {
		if !seen[of] {
			seen[of] = true
			out = append(out, cut.first[i])
		}
	}
	return out
}

// begin makes a run of a class begin at an address, behind the other runs.
func (c *clients) begin(at netip.Addr, of *class) {
	if n := len(c.first); n > 0 && c.first[n-1] == at {
		c.class[n-1] = of
		return
	}
	c.first, c.class = append(c.first, at), append(c.class, of)
}

// of gives the class of a client.
func (c *clients) of(client netip.Addr) *class {
	switch {
	case !client.IsValid():
		return c.none
	case client.Zone() != "": // no network has zones
		return c.nobody
	}
	behind := sort.Search(len(c.first), func(i int) bool { return client.Less(c.first[i]) })
	return c.class[behind-1]
}
