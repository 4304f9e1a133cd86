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
	Loops    *Top
	TooLong  *Top
	Chains   *Top
	Missing  *Top
	Plain    *Top
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
	From   map[string][]Count `json:",omitempty"`
	Total  int64
	Others int64
}

// MarshalJSON writes a Top for a saved tally.
func (t *Top) MarshalJSON() ([]byte, error) {
	s := savedTop{Counts: map[string]int64{}, From: map[string][]Count{}}
	for h := range t.all {
		s.Counts[h.Address] = h.N
		if h.from != nil {
			s.From[h.Address] = h.from.Most()
		}
	}
	s.Total, s.Others = t.Total, t.Others
	return json.Marshal(s)
}

// UnmarshalJSON reads what MarshalJSON writes.
func (t *Top) UnmarshalJSON(text []byte) error {
	var s savedTop
	if err := json.Unmarshal(text, &s); err != nil {
		return err
	}
	for address, n := range s.Counts {
		var from Pages
		for _, c := range s.From[address] {
			from.add([]byte(c.Address), c.N)
		}
		t.add(address, n, from)
	}
	t.Total, t.Others = s.Total, s.Others
	return nil
}

const savedAs = "replay tally 4"

// Save writes a tally as LoadTally reads it.
func (t *Tally) Save(w io.Writer) error {
	s := saved{savedAs, t.Requests, t.Expected, t.Unmets, t.Partial, t.Lists, nil, &t.Loops, &t.TooLong, &t.Chains, &t.Missing, &t.Plain, t.Unmet, t.Types}
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
	t.Merge(&Tally{Requests: s.Requests, Expected: s.Expected, Unmets: s.Unmets, Partial: s.Partial, Lists: s.Lists, Unmet: s.Unmet, Types: s.Types})
	for to, from := range map[*Top]*Top{&t.Loops: s.Loops, &t.TooLong: s.TooLong, &t.Chains: s.Chains, &t.Missing: s.Missing, &t.Plain: s.Plain} {
		if from != nil {
			to.Merge(from)
		}
	}
	for _, o := range s.Outcomes {
		t.countOf(o.Outcome).add(&o.OutcomeCount, (*Top).Merge)
	}
	return t, nil
}
