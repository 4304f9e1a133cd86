package engine

// Entries that are alike: lists of networks are often written as one entry each. To
// which of them a client comes makes no difference to an answer, but for the name of
// the entry.

import "kibitz/core/rulebook"

// findAlike gives one number to the classes of clients that come to one of several
// entries in a row that are alike, and to no other.
func (s *siteEngine) findAlike(clients *clients) {
	number := make([]uint32, len(s.entries)) // for each entry; 0 for those without their like
	var before *entry
	for _, e := range s.entries {
		if e.group != groupReading {
			continue
		}
		if before != nil && e.like(before) {
			if number[before.pos] == 0 {
				number[before.pos] = classIDs.Add(1)
			}
			number[e.pos] = number[before.pos]
		}
		before = e
	}
	for _, c := range clients.class {
		if len(c.owners) == 1 && number[c.owners[0]] > 0 {
			c.Class = Class{number[c.owners[0]], uint32(s.entries[c.owners[0]].Number) + 1}
		}
	}
}

// like reports whether entries do the same to clients of networks, and test nothing
// else.
func (e *entry) like(other *entry) bool {
	if !e.ofNetworks() || !other.ofNetworks() {
		return false
	}
	a, b := e.Action.(*rulebook.Access), other.Action.(*rulebook.Access)
	return a.Do == b.Do && a.Status == b.Status
}

// ofNetworks reports whether an entry admits clients of networks, or refuses them,
// and tests nothing else.
func (e *entry) ofNetworks() bool {
	a, ok := e.Action.(*rulebook.Access)
	if !ok || a.Do == rulebook.Ask || !e.free || len(e.Tests) != 1 || e.Tests[0].Unless {
		return false
	}
	for i := range e.Tests[0].Values {
		if e.Tests[0].Values[i].Kind != rulebook.ValueNetwork {
			return false
		}
	}
	return true
}
