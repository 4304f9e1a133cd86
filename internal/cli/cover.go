package cli

// How much of the rulebook the lists hold fast: -cover.

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"kibitz/core/engine"
	"kibitz/core/excerpt"
	"kibitz/core/rulebook"
	"kibitz/internal/render"
)

// checkCover reads -cover-min.
func (f *replayFlags) checkCover() error {
	if f.coverMin == "" {
		return nil
	}
	share, err := strconv.ParseFloat(strings.TrimSuffix(f.coverMin, "%"), 64)
	if err != nil || !strings.HasSuffix(f.coverMin, "%") || !(share >= 0 && share <= 100) {
		return usagef("-cover-min is a share like 90%%, not %s", f.coverMin)
	}
	f.cover, f.coverLeast = true, share/100
	return nil
}

// covered harms the rulebook, and tells what the lists notice; nil without -cover.
func (f *replayFlags) covered(e *engine.Engine) (*excerpt.Strength, error) {
	if !f.cover {
		return nil, nil
	}
	if len(f.held) == 0 {
		return nil, errors.New("-cover: the lists expect nothing of their requests: write it behind =>, or let kibitz excerpt do so")
	}
	s := excerpt.StrengthOf(e, f.held, rulebook.ReadFile)
	return &s, nil
}

// coverText is the table of entries by what is held of them, those with the least first.
func (r *run) coverText(s *excerpt.Strength) {
	if s == nil {
		return
	}
	r.heading("Held", fmt.Sprintf("of small slips in an entry, how many the lists notice: %s of %s in all (%s)", render.Number(s.Noticed), render.Number(s.Harms), render.Share(int64(s.Noticed), int64(s.Harms))), false)
	entries := slices.Clone(s.Entries)
	entries = slices.DeleteFunc(entries, func(h excerpt.Held) bool { return len(h.Not) == 0 })
	slices.SortStableFunc(entries, func(a, b excerpt.Held) int { return a.Noticed*b.Harms - b.Noticed*a.Harms })
	var rows [][]string
	for i, h := range entries {
		if i == r.most {
			break
		}
		var not []string
		for _, u := range h.Not {
			not = append(not, render.Clean(u.Says))
		}
		rows = append(rows, []string{fmt.Sprintf("%d of %d", h.Noticed, h.Harms), render.Clean(h.Rule.Name), r.out.Quiet(place(h.Rule)), render.Short("not noticed: "+strings.Join(not, ", "), r.out.Width-60)})
	}
	if rows == nil {
		r.out.Printf("  all of every entry\n")
	}
	r.out.Rows("  ", rows)
	if more := len(entries) - r.most; more > 0 {
		r.out.Printf("  %s\n", r.out.Quiet("… and "+render.Number(more)+" more"))
	}
	if len(entries) > 0 {
		r.out.Printf("\n  %s\n", r.out.Quiet("The requests that would notice them: kibitz excerpt -strength LIST"))
	}
	if s.Left > 0 {
		r.out.Printf("  %s\n", r.out.Quiet(render.Number(s.Left)+" slips more were not tried, since there are many entries"))
	}
}

// heldSums are the shares as JSON.
type (
	heldSums struct {
		Noticed int         `json:"noticed"`
		Of      int         `json:"of"`
		Entries []heldEntry `json:"entries"`
	}
	heldEntry struct {
		Entry   string   `json:"entry"`
		At      string   `json:"at"`
		Noticed int      `json:"noticed"`
		Of      int      `json:"of"`
		Not     []string `json:"not_noticed,omitempty"`
	}
)

func heldOf(s *excerpt.Strength) *heldSums {
	if s == nil {
		return nil
	}
	out := &heldSums{Noticed: s.Noticed, Of: s.Harms, Entries: []heldEntry{}}
	for _, h := range s.Entries {
		one := heldEntry{Entry: h.Rule.Name, At: place(h.Rule), Noticed: h.Noticed, Of: h.Harms}
		for _, u := range h.Not {
			one.Not = append(one.Not, u.Says)
		}
		out.Entries = append(out.Entries, one)
	}
	return out
}
