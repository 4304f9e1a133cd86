package cli

// Saved tallies side by side: replay -merge -by tally.

import (
	"encoding/csv"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"kibitz/core/engine"
	"kibitz/core/replay"
	"kibitz/internal/render"
)

// sideBySide are tallies with their names, and what they counted.
type sideBySide struct {
	names             []string
	tallies           []*replay.Tally
	outcomes, missing []*replay.Row
}

// byTally is what -by says for that.
const byTally = "tally"

// talliesSideBySide loads saved tallies and shows them. They may be of several states of a
// rulebook: what that changed is seen.
func (r *run) talliesSideBySide(e *engine.Engine, names []string) (int, error) {
	r.origin = e.Book.BaseAddress().Origin()
	s := sideBySide{}
	for _, name := range names {
		t, _, err := r.loadTally(name)
		if err != nil {
			return 0, err
		}
		short := filepath.Base(name)
		if slices.ContainsFunc(names, func(o string) bool { return o != name && filepath.Base(o) == short }) {
			short = name
		}
		s.names, s.tallies = append(s.names, short), append(s.tallies, t)
	}
	s.outcomes, s.missing = replay.SideBySide(s.tallies)
	return exitWell, r.form.sides(r, s)
}

// totals are the requests of each tally.
func (s *sideBySide) totals() *replay.Row {
	out := &replay.Row{}
	for _, t := range s.tallies {
		out.Requests = append(out.Requests, t.Requests)
	}
	return out
}

// decides names what decides an outcome.
func decides(o replay.Outcome) string {
	if o.By != "" {
		return o.By
	}
	return "(" + string(o.Cause) + ")"
}

// changeText says by how much something grew or shrank, or that it came or went.
func changeText(row *replay.Row) string {
	first, last := row.Requests[0], row.Requests[len(row.Requests)-1]
	switch {
	case first == last:
		return ""
	case first == 0:
		return "new"
	case last == 0:
		return "gone"
	}
	return fmt.Sprintf("%+d", last-first)
}

func (r *run) sidesText(s sideBySide) error {
	out := r.out
	out.Printf("%s side by side\n\n", render.Count(len(s.names), "tally"))
	head := func(what ...string) []string {
		row := what
		for _, name := range s.names {
			row = append(row, render.Short(name, 24))
		}
		row = append(row, "change")
		for i := range row {
			row[i] = out.Quiet(row[i])
		}
		return row
	}
	cells := func(row *replay.Row) (cells []string) {
		for _, n := range row.Requests {
			cells = append(cells, someNumber(n))
		}
		return append(cells, changeText(row))
	}
	var right []int
	for i := range len(s.names) + 1 {
		right = append(right, 2+i)
	}
	rows := [][]string{head("", "")}
	rows = append(rows, append([]string{"", "requests"}, cells(s.totals())...))
	for i, o := range s.outcomes {
		if i == r.most {
			break
		}
		rows = append(rows, append([]string{out.Status(o.Status), render.Clean(decides(o.Outcome))}, cells(o)...))
	}
	out.Rows("  ", rows, right...)
	r.moreRows(len(s.outcomes))
	if len(s.missing) == 0 {
		return nil
	}
	r.heading("Not found", "answered 404, what changed most first", false)
	if !slices.ContainsFunc(s.missing, func(m *replay.Row) bool { return len(slices.Compact(slices.Clone(m.Requests))) > 1 }) {
		out.Printf("  nothing changed: %s as often as before\n", render.Count(len(s.missing), "address"))
		return nil
	}
	rows = [][]string{head("")}
	for i, m := range s.missing {
		if i == r.most {
			break
		}
		rows = append(rows, append([]string{render.Short(r.near(m.Address), max(20, out.Width-12*(len(s.names)+1)-8))}, cells(m)...))
	}
	for i := range right {
		right[i]--
	}
	out.Rows("  ", rows, right...)
	r.moreRows(len(s.missing))
	return nil
}

// moreRows says how many rows of a table are not shown.
func (r *run) moreRows(all int) {
	if more := all - r.most; more > 0 {
		r.out.Printf("  %s\n", r.out.Quiet("… and "+render.Number(more)+" more; all of them: -top 0"))
	}
}

func (r *run) sidesCSV(s sideBySide) error {
	out := csv.NewWriter(r.stdout)
	write := func(cells []string, row *replay.Row) {
		for _, n := range row.Requests {
			cells = append(cells, strconv.FormatInt(n, 10))
		}
		out.Write(cells)
	}
	head := []string{"status", "cause", "by", "not_found"}
	for _, name := range s.names {
		head = append(head, render.Cell(name))
	}
	out.Write(head)
	write([]string{"", "", "", ""}, s.totals())
	for _, o := range s.outcomes {
		write([]string{o.Status, string(o.Cause), render.Cell(o.By), ""}, o)
	}
	for _, m := range s.missing {
		write([]string{"404", "", "", render.Cell(m.Address)}, m)
	}
	out.Flush()
	return out.Error()
}

func (r *run) sidesJSON(s sideBySide) error {
	type outcome struct {
		Status   any     `json:"status"`
		Cause    string  `json:"cause"`
		By       string  `json:"by,omitempty"`
		Requests []int64 `json:"requests"`
	}
	type address struct {
		Address  string  `json:"address"`
		Requests []int64 `json:"requests"`
	}
	result := struct {
		Tallies  []string  `json:"tallies"`
		Requests []int64   `json:"requests"`
		Outcomes []outcome `json:"outcomes"`
		Missing  []address `json:"not_found"`
	}{s.names, s.totals().Requests, []outcome{}, []address{}}
	for _, o := range s.outcomes {
		result.Outcomes = append(result.Outcomes, outcome{render.StatusValue(o.Status), string(o.Cause), o.By, o.Requests})
	}
	for _, m := range s.missing {
		result.Missing = append(result.Missing, address{m.Address, m.Requests})
	}
	return r.writeJSON(result)
}

// sidesHTML is the page of tallies side by side.
func (r *run) sidesHTML(s sideBySide) error {
	total := s.totals()
	p := webPage{Title: fmt.Sprintf("From %s to %s: %s", render.Clean(s.names[0]), render.Clean(s.names[len(s.names)-1]), sidesTitle(s)), Says: render.Count(len(s.names), "saved tally") + " side by side"}
	for i, name := range s.names {
		p.Tiles = append(p.Tiles, tile{render.Number(total.Requests[i]), "requests, " + render.Clean(name), ""})
	}
	head := func(what ...string) []cell {
		for _, name := range s.names {
			what = append(what, "#"+render.Clean(name))
		}
		return heads(append(what, "#change")...)
	}
	cells := func(row *replay.Row, first ...cell) []cell {
		for _, n := range row.Requests {
			first = append(first, number(n))
		}
		return append(first, cell{Text: changeText(row), Class: "n", Value: strconv.FormatInt(row.Change(), 10)})
	}
	section := pageSection{Title: "Answers", Note: "by status and what decides, what changed most first", Head: head("status", "decided by")}
	for _, o := range s.outcomes {
		section.Rows = append(section.Rows, cells(o, cell{Text: o.Status, Class: statusClass(o.Status)}, code(decides(o.Outcome))))
	}
	p.Sections = append(p.Sections, section)
	if len(s.missing) > 0 {
		section := pageSection{Title: "Not found", Note: "answered 404, what changed most first", Head: head("address")}
		for i, m := range s.missing {
			if i == r.most {
				section.More = "… and " + render.Number(len(s.missing)-i) + " more: -top 0 has them"
				break
			}
			section.Rows = append(section.Rows, cells(m, code(r.near(m.Address))))
		}
		p.Sections = append(p.Sections, section)
	}
	return r.writePage(p)
}

// sidesTitle says in a few words what changed most.
func sidesTitle(s sideBySide) string {
	if len(s.outcomes) == 0 || s.outcomes[0].Change() == 0 {
		return "nothing changed"
	}
	o := s.outcomes[0]
	word := "more"
	if o.Change() < 0 {
		word = "fewer"
	}
	n := max(o.Change(), -o.Change())
	verb := "are"
	if n == 1 {
		verb = "is"
	}
	return fmt.Sprintf("%s %s %s answered %s, %s", render.Number(n), word, verb, o.Status, render.Clean(strings.Trim(decides(o.Outcome), "()")))
}
