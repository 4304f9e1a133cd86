package engine

// Interchangeable entries: blocklists are often written as one entry for each network. Which
// of them takes a client makes no difference to the answer, but for the name of the entry.

import "kibitz/core/rulebook"

// groupInterchangeable gives one number to all classes of clients that exactly one entry
// takes, of several interchangeable ones in a row.
func (s *siteEngine) groupInterchangeable(clients *clients) {
	number := make([]uint32, len(s.entries)) // for each entry; 0 for those that are not interchangeable with another
	var before *entry
	for _, e := range s.entries {
		if e.group != groupReading {
			continue
		}
		if before != nil && e.interchangeable(before) {
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

// interchangeable reports whether entries do the same to clients of networks, and test nothing
// else.
func (e *entry) interchangeable(other *entry) bool {
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
