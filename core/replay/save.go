package replay

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
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
	Loops    Top
	TooLong  Top
	Chains   Top
	Missing  Top
	Plain    Top
	Referrer map[string][]Count
	Unmet    []Unmet
	Types    map[string]*Bytes
}

type savedOutcome struct {
	Outcome
	OutcomeCount
}

// savedTop is a Top as it is kept.
type savedTop struct {
	Counts map[string]int64
	Total  int64
	Others int64
}

// MarshalJSON writes a Top for a saved tally.
func (t Top) MarshalJSON() ([]byte, error) {
	s := savedTop{map[string]int64{}, t.Total, t.Others}
	for c := range t.all {
		s.Counts[c.Address] = c.N
	}
	return json.Marshal(s)
}

// UnmarshalJSON reads what MarshalJSON writes.
func (t *Top) UnmarshalJSON(text []byte) error {
	var s savedTop
	if err := json.Unmarshal(text, &s); err != nil {
		return err
	}
	for address, n := range s.Counts {
		t.add(address, n)
	}
	t.Total, t.Others = s.Total, s.Others
	return nil
}

const savedAs = "replay tally 3"

// Save writes a tally as LoadTally reads it.
func (t *Tally) Save(w io.Writer) error {
	s := saved{savedAs, t.Requests, t.Expected, t.Unmets, t.Partial, t.Lists, nil, t.Loops, t.TooLong, t.Chains, t.Missing, t.Plain, map[string][]Count{}, t.Unmet, t.Types}
	for target, pages := range t.Referrer {
		s.Referrer[target] = pages.Most()
	}
	for o, c := range t.Outcomes {
		s.Outcomes = append(s.Outcomes, savedOutcome{o, *c})
	}
	sort.Slice(s.Outcomes, func(i, j int) bool { return fmt.Sprint(s.Outcomes[i].Outcome) < fmt.Sprint(s.Outcomes[j].Outcome) })
	for _, o := range s.Outcomes {
		slices.SortFunc(o.Recorded, func(a, b RecordedCount) int { return a.Status - b.Status })
	}
	return json.NewEncoder(w).Encode(s)
}

// LoadTally reads a tally that was saved.
func LoadTally(r io.Reader) (*Tally, error) {
	var s saved
	if err := json.NewDecoder(r).Decode(&s); err != nil {
		return nil, errors.New("it is not of the form that -save writes")
	}
	if s.Kibitz != savedAs {
		return nil, errors.New("it is of another kind or version")
	}
	t := NewTally()
	t.Merge(&Tally{Requests: s.Requests, Expected: s.Expected, Unmets: s.Unmets, Partial: s.Partial, Lists: s.Lists,
		Loops: s.Loops, TooLong: s.TooLong, Chains: s.Chains, Missing: s.Missing, Plain: s.Plain, Unmet: s.Unmet, Types: s.Types})
	for target, from := range s.Referrer {
		var pages Pages
		for _, c := range from {
			pages.add([]byte(c.Address), c.N)
		}
		t.refer(target, pages)
	}
	for _, o := range s.Outcomes {
		t.countOf(o.Outcome).add(&o.OutcomeCount, (*Top).Merge)
	}
	return t, nil
}
