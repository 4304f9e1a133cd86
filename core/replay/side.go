package replay

// Tallies side by side: what grew, what came and what went, from one to the next.

import (
	"cmp"
	"slices"
	"strings"
)

// A Row is something that was counted in each of several tallies.
type Row struct {
	Outcome         // without its place, which may be another in each rulebook; zero for an address
	Address  string // that was not found; "" for an outcome
	Requests []int64
}

// Change is how many requests there are more in the last tally than in the first.
func (r *Row) Change() int64 { return r.Requests[len(r.Requests)-1] - r.Requests[0] }

// SideBySide puts tallies side by side: their outcomes, and the addresses that were not
// found, those first that changed most.
func SideBySide(tallies []*Tally) (outcomes, missing []*Row) {
	byOutcome, byAddress := map[Outcome]*Row{}, map[string]*Row{}
	row := func() *Row { return &Row{Requests: make([]int64, len(tallies))} }
	for i, t := range tallies {
		for o, c := range t.Outcomes {
			o.At = ""
			r := byOutcome[o]
			if r == nil {
				r = row()
				r.Outcome = o
				byOutcome[o] = r
				outcomes = append(outcomes, r)
			}
			r.Requests[i] += c.N
		}
		for c := range t.Missing.counts {
			r := byAddress[c.Address]
			if r == nil {
				r = row()
				r.Address = c.Address
				byAddress[c.Address] = r
				missing = append(missing, r)
			}
			r.Requests[i] += c.N
		}
	}
	first := func(a, b *Row) int {
		return cmp.Or(cmp.Compare(abs(b.Change()), abs(a.Change())), cmp.Compare(slices.Max(b.Requests), slices.Max(a.Requests)),
			strings.Compare(a.Status, b.Status), strings.Compare(string(a.Cause), string(b.Cause)), strings.Compare(a.By, b.By), strings.Compare(a.Address, b.Address))
	}
	slices.SortFunc(outcomes, first)
	slices.SortFunc(missing, first)
	return outcomes, missing
}

func abs(n int64) int64 { return max(n, -n) }
