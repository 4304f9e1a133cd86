package replay

// Tallies in files, so that those of many machines or days are added up.
//
// A file has two lines of JSON: what it is, with the SHA-256 of the second; and the tally.

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"sort"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"kibitz/core/browser"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

// savedAs is what a file is, and which version.
const savedAs = "replay tally 7"

type savedHead struct {
	Kibitz string `json:"kibitz"`
	Sum    string `json:"sha256"` // of the second line, without its end
}

// saved is a tally as it is kept.
type saved struct {
	Rules    Rules
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

// Rules are what tells one rulebook from another.
type Rules struct {
	Hash  string   // SHA-256 of its files, as they are included, and of its tables
	Sites []string // their names
}

// RulesOf gives what tells a rulebook from others.
func RulesOf(b *rulebook.Book) Rules {
	sum := sha256.New()
	for _, src := range b.Sources {
		fmt.Fprintf(sum, "%d\n%s\n", len(src.Lines), strings.Join(src.Lines, "\n"))
	}
	for _, rule := range b.Rules {
		if m, ok := rule.Action.(*rulebook.Moves); ok && m.Table != nil {
			fmt.Fprintf(sum, "%d\n", len(m.Table.Rows))
			for _, row := range m.Table.Rows {
				fmt.Fprintln(sum, row)
			}
		}
	}
	r := Rules{Hash: hex.EncodeToString(sum.Sum(nil))}
	for _, s := range b.Sites {
		r.Sites = append(r.Sites, s.Name)
	}
	return r
}

// Is reports whether it is the same rulebook.
func (r Rules) Is(o Rules) bool { return r.Hash == o.Hash && slices.Equal(r.Sites, o.Sites) }

// savedTop is a Top as it is kept.
type savedTop struct {
	Counts map[string]int64
	Asked  map[string]savedAsked `json:",omitempty"`
	Total  int64
	Others int64
}

// savedAsked is by whom and when an address was asked for, as it is kept.
type savedAsked struct {
	From        []Count `json:",omitempty"`
	Robots      int64   `json:",omitempty"`
	First, Last int64   `json:",omitempty"`
}

// MarshalJSON writes a Top for a saved tally.
func (t *Top) MarshalJSON() ([]byte, error) {
	s := savedTop{Counts: map[string]int64{}, Asked: map[string]savedAsked{}}
	for h := range t.all {
		s.Counts[h.Address] = h.N
		if a := h.asked; a != nil {
			s.Asked[h.Address] = savedAsked{a.From.Most(), a.Robots, a.First, a.Last}
		}
	}
	s.Total, s.Others = t.Total, t.Others()
	return json.Marshal(s)
}

// UnmarshalJSON reads what MarshalJSON writes, and nothing that does not add up.
func (t *Top) UnmarshalJSON(text []byte) error {
	var s savedTop
	if err := json.Unmarshal(text, &s); err != nil {
		return err
	}
	total, ok := sumOfCounts(s.Others, 0)
	if !ok {
		return errCounts
	}
	for address, n := range s.Counts {
		var asked *Asked
		if saved, known := s.Asked[address]; known {
			if asked, ok = saved.asked(n); !ok {
				return errCounts
			}
		}
		if total, ok = sumOfCounts(n, total); !ok || n == 0 {
			return errCounts
		}
		t.add(address, n, asked)
	}
	if total, ok = sumOfCounts(s.Others, total-s.Others); !ok || total != s.Total {
		return errCounts
	}
	t.Total = s.Total
	return nil
}

// asked gives what was saved of n requests; not ok where it does not add up.
func (s *savedAsked) asked(n int64) (*Asked, bool) {
	a := &Asked{Robots: s.Robots, First: s.First, Last: s.Last}
	pages := int64(0)
	for _, c := range s.From {
		var ok bool
		if pages, ok = sumOfCounts(c.N, pages); !ok || pages > n {
			return nil, false
		}
		a.From.add([]byte(c.Address), c.N)
	}
	return a, 0 <= a.Robots && a.Robots <= n && 0 <= a.First && a.First <= a.Last && (a.First > 0) == (a.Last > 0)
}

// maxCount is more than can be counted.
const maxCount = math.MaxInt64 / 1024

var errCounts = errors.New("its counts do not add up")

// sumOfCounts adds counts; false where they are none, or too large.
func sumOfCounts(n, to int64) (int64, bool) {
	if n < 0 || n > maxCount || to > maxCount {
		return 0, false
	}
	return to + n, true
}

// Save writes a tally, of a rulebook, as LoadTally reads it.
func (t *Tally) Save(w io.Writer, of Rules) error {
	s := saved{of, t.Requests, t.Expected, t.Unmets, t.Partial, t.Lists, nil, &t.Loops, &t.TooLong, &t.Chains, &t.Missing, &t.Plain, t.Unmet, t.Types}
	for o, c := range t.Outcomes {
		s.Outcomes = append(s.Outcomes, savedOutcome{o, *c})
	}
	sort.Slice(s.Outcomes, func(i, j int) bool { return fmt.Sprint(s.Outcomes[i].Outcome) < fmt.Sprint(s.Outcomes[j].Outcome) })
	for _, o := range s.Outcomes {
		slices.SortFunc(o.Recorded, func(a, b RecordedCount) int { return a.Status - b.Status })
	}
	body, err := json.Marshal(s)
	if err != nil {
		return err
	}
	sum := sha256.Sum256(body)
	head, err := json.Marshal(savedHead{savedAs, hex.EncodeToString(sum[:])})
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(w, "%s\n%s\n", head, body)
	return err
}

// maxSaved is the size in bytes up to which a saved tally is read.
const maxSaved = 1 << 30

// LoadTally reads a tally that was saved, with what it is of. One that is not as it was
// written is an error, and so is one whose counts do not add up.
func LoadTally(r io.Reader) (*Tally, Rules, error) {
	text, err := io.ReadAll(io.LimitReader(r, maxSaved+1))
	if err != nil {
		return nil, Rules{}, err
	}
	first, body, _ := bytes.Cut(text, []byte("\n"))
	var head savedHead
	if json.Unmarshal(first, &head) != nil || head.Kibitz == "" {
		return nil, Rules{}, errors.New("it is not of the form that -save writes")
	}
	if head.Kibitz != savedAs {
		return nil, Rules{}, fmt.Errorf("it is of another kind or version (%q, and not %q)", head.Kibitz, savedAs)
	}
	body, whole := bytes.CutSuffix(body, []byte("\n"))
	if sum := sha256.Sum256(body); !whole || len(text) > maxSaved || hex.EncodeToString(sum[:]) != head.Sum {
		return nil, Rules{}, errors.New("it is not as it was written: its checksum differs; save it again")
	}
	var s saved
	d := json.NewDecoder(bytes.NewReader(body))
	d.DisallowUnknownFields()
	if err := d.Decode(&s); err != nil {
		return nil, Rules{}, fmt.Errorf("it cannot be read: %w", err)
	}
	t, err := s.tally()
	return t, s.Rules, err
}

// can reports whether something can end so.
func (o *Outcome) can() bool {
	word := o.Cause.Word()
	status, err := strconv.Atoi(o.Status)
	return (word != "" && o.Status == string(word) || word == "" && err == nil && status >= 100 && status <= 999) &&
		!strings.ContainsFunc(string(o.Cause), func(r rune) bool { return r != '-' && (r < 'a' || r > 'z') }) &&
		!strings.ContainsFunc(o.By, func(r rune) bool { return !unicode.IsGraphic(r) || r == utf8.RuneError })
}

// isEnd reports whether visitors can have something at the end.
func isEnd(with string) bool {
	return slices.Contains(browser.Endings, browser.Ending(with)) || request.IsStatus(with) && with[1] != 'x'
}

// tally gives the tally, if it can be one.
func (s *saved) tally() (*Tally, error) {
	for _, n := range []int64{s.Requests, s.Expected, s.Unmets} {
		if _, ok := sumOfCounts(n, 0); !ok {
			return nil, errCounts
		}
	}
	if s.Expected > s.Requests || s.Unmets > s.Expected || int64(len(s.Unmet)) > s.Unmets {
		return nil, errCounts
	}
	for _, top := range []*Top{s.Loops, s.TooLong, s.Chains, s.Missing, s.Plain} {
		if top == nil || top != s.Plain && top.Total > s.Requests {
			return nil, errCounts
		}
	}
	t := NewTally()
	requests, ok := int64(0), true
	for _, o := range s.Outcomes {
		if requests, ok = sumOfCounts(o.N, requests); !ok || t.Outcomes[o.Outcome] != nil {
			return nil, errCounts
		}
		if !o.can() {
			return nil, fmt.Errorf("nothing ends with the status %.20q by %.40q, for the cause %.20q", o.Status, o.By, o.Cause)
		}
		recorded := int64(0)
		for _, r := range o.Recorded {
			if recorded, ok = sumOfCounts(r.N, recorded); !ok || r.Status < 0 || r.Status > 999 || r.Differs != nil && r.Differs.Total > r.N {
				return nil, errCounts
			}
		}
		ended := int64(0)
		for with, n := range o.Ends {
			if ended, ok = sumOfCounts(n, ended); !ok || !isEnd(with) {
				return nil, errCounts
			}
		}
		if recorded > o.N || ended > o.N || ended > 0 && o.Status[0] != '3' {
			return nil, errCounts
		}
		t.countOf(o.Outcome).add(&o.OutcomeCount, (*Top).Merge)
	}
	if requests != s.Requests {
		return nil, errCounts
	}
	read := int64(0)
	for _, l := range s.Lists {
		if p := l.Part; p != nil && (p.Of < 1 || p.Number < 1 || p.Number > p.Of || p.Size < 0) {
			return nil, errCounts
		}
		for _, n := range []int{l.Lines, l.Requests, l.Details, l.Comments, l.Skipped} {
			if _, ok := sumOfCounts(int64(n), 0); !ok {
				return nil, errCounts
			}
		}
		if read, ok = sumOfCounts(int64(l.Counts.Requests), read); !ok || l.Counts.Requests+l.Details+l.Comments+l.Skipped != l.Lines && !s.Partial {
			return nil, errCounts
		}
	}
	for _, b := range s.Types {
		if b == nil || min(b.Requests, b.Plain, b.Wire, b.Unknown) < 0 || b.Requests > s.Requests || b.Unknown > b.Requests || max(b.Plain, b.Wire) > maxCount {
			return nil, errCounts
		}
	}
	t.Merge(&Tally{Requests: s.Requests, Expected: s.Expected, Unmets: s.Unmets, Partial: s.Partial, Lists: s.Lists, Unmet: s.Unmet, Types: s.Types})
	for to, from := range map[*Top]*Top{&t.Loops: s.Loops, &t.TooLong: s.TooLong, &t.Chains: s.Chains, &t.Missing: s.Missing, &t.Plain: s.Plain} {
		to.Merge(from)
	}
	return t, nil
}
