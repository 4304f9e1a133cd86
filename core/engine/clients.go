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
	none   *class       // of what is no address
	nobody *class       // of a client in no network
	first  []netip.Addr // the first address of each run, IPv4 before IPv6
	class  []*class
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
	cut.first, cut.class = make([]netip.Addr, 0, 2*len(networks)+2), make([]*class, 0, 2*len(networks)+2)

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
	six := false
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
		if n.Addr().Is6() && !six {
			six = true
			cut.begin(netip.IPv6Unspecified(), cut.nobody)
		}
		n.of = inside(outer(), bits)
		cut.begin(n.Addr(), n.of)
		open = append(open, n)
	}
	for len(open) > 0 {
		leave()
	}
	if !six {
		cut.begin(netip.IPv6Unspecified(), cut.nobody)
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
