package replay

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sort"
)

// saved is a tally as it is kept in a file.
type saved struct {
	Kibitz   string `json:"kibitz"` // what the file is
	Requests int64
	Expected int64
	Unmets   int64
	Partial  bool
	Lists    []ListCounts
	Outcomes []savedOutcome
	Entries  map[string]int64
	Loops    Top
	TooLong  Top
	Chains   Top
	Missing  Top
	Plain    Top
	Referrer map[string][]Count
	Recorded []savedPair
	Unmet    []Unmet
	Types    map[string]*Bytes
}

type savedOutcome struct {
	Outcome
	N int64
}

type savedPair struct {
	Pair
	N       int64
	Differs *Top `json:",omitempty"`
}

const savedAs = "replay tally 2"

// Save writes a tally as LoadTally reads it.
func (t *Tally) Save(w io.Writer) error {
	s := saved{savedAs, t.Requests, t.Expected, t.Unmets, t.Partial, t.Lists, nil, t.Entries, t.Loops, t.TooLong, t.Chains, t.Missing, t.Plain, map[string][]Count{}, nil, t.Unmet, t.Types}
	for target, pages := range t.Referrer {
		s.Referrer[target] = pages.Most()
	}
	for o, n := range t.Outcomes {
		s.Outcomes = append(s.Outcomes, savedOutcome{o, n})
	}
	sort.Slice(s.Outcomes, func(i, j int) bool { return fmt.Sprint(s.Outcomes[i]) < fmt.Sprint(s.Outcomes[j]) })
	for p, n := range t.Recorded {
		s.Recorded = append(s.Recorded, savedPair{p, n, t.Differs[p]})
	}
	sort.Slice(s.Recorded, func(i, j int) bool { return fmt.Sprint(s.Recorded[i].Pair) < fmt.Sprint(s.Recorded[j].Pair) })
	return json.NewEncoder(w).Encode(s)
}

// LoadTally reads a tally that was saved.
func LoadTally(r io.Reader) (*Tally, error) {
	var s saved
	if err := json.NewDecoder(r).Decode(&s); err != nil {
		return nil, err
	}
	if s.Kibitz != savedAs {
		return nil, errors.New("it is of another kind or version")
	}
	t := NewTally()
	t.Merge(&Tally{Requests: s.Requests, Expected: s.Expected, Unmets: s.Unmets, Partial: s.Partial, Lists: s.Lists, Entries: s.Entries,
		Loops: s.Loops, TooLong: s.TooLong, Chains: s.Chains, Missing: s.Missing, Plain: s.Plain, Unmet: s.Unmet, Types: s.Types})
	for target, from := range s.Referrer {
		var pages Pages
		for _, c := range from {
			pages.add([]byte(c.Address), c.N)
		}
		t.refer(target, pages)
	}
	for _, o := range s.Outcomes {
		t.Outcomes[o.Outcome] = o.N
	}
	for _, p := range s.Recorded {
		t.Recorded[p.Pair] = p.N
		if p.Differs != nil {
			t.Differs[p.Pair] = p.Differs
		}
	}
	return t, nil
}
