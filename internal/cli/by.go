package cli

// Requests counted by what they have in common: -by.

import (
	"encoding/csv"
	"fmt"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // a machine may have no table of time zones

	"kibitz/core/replay"
	"kibitz/internal/render"
)

// breakdown gives what -by counts into; nil without it.
func (f *replayFlags) breakdown() (*replay.Breakdown, error) {
	if f.by == "" {
		return nil, nil
	}
	zone, err := time.LoadLocation(f.zone)
	if err != nil {
		return nil, usagef("-local: there is no time zone %s here: write one like UTC or Europe/Lisbon", f.zone)
	}
	return &replay.Breakdown{By: f.by, Zone: zone, Robots: f.robotWords()}, nil
}

// robotWords are those of -robots, in small letters.
func (f *replayFlags) robotWords() []string {
	var words []string
	for _, word := range f.robots {
		words = append(words, strings.ToLower(word))
	}
	return words
}

// partClasses are the columns of statuses.
var partClasses = []string{"app", "1xx", "2xx", "3xx", "4xx", "5xx"}

// classOrder is the order of their parts in a bar: what is well, and then what is less.
var classOrder = []int{2, 3, 1, 0, 4, 5}

// partColours and partMeans are what classes of statuses look like in a bar, and what they say.
var (
	partColours = []string{"other", "other", isWell, "", isDoubt, isBad}
	partMeans   = []string{"an application or the files", "1xx", "2xx: answered", "3xx: sent on", "4xx: refused, or nothing there", "5xx: failed"}
)

func (r *run) partsText(b *replay.Breakdown, s summed) error {
	out := r.out
	by := b.By
	if by == "day" || by == "hour" {
		by += " (" + b.Zone.String() + ")"
	}
	out.Printf("%s by %s in %s\n\n", render.Count(s.tally.Requests, "request"), by, render.Time(s.took))
	all := b.Sorted()
	var used [6]bool // columns that have something
	loops := false
	for _, p := range all {
		for i, n := range p.Classes {
			used[i] = used[i] || n > 0
		}
		loops = loops || p.Loops > 0
	}
	head := []string{b.By, "requests", "share"}
	for i, class := range partClasses {
		if used[i] {
			head = append(head, class)
		}
	}
	if loops {
		head = append(head, "loops")
	}
	for i := range head {
		head[i] = out.Quiet(head[i])
	}
	rows := [][]string{head}
	most := r.most
	if b.By == "day" || b.By == "hour" {
		most = max(most, 100) // a curve is to be seen whole
	}
	for i, p := range all {
		if i == most {
			break
		}
		row := []string{render.Clean(p.Name), render.Number(p.Requests), render.Share(p.Requests, s.tally.Requests)}
		for i := range partClasses {
			if used[i] {
				row = append(row, someNumber(p.Classes[i]))
			}
		}
		if loops {
			row = append(row, someNumber(p.Loops))
		}
		rows = append(rows, row)
	}
	var right []int
	for i := 1; i < len(head); i++ {
		right = append(right, i)
	}
	out.Rows("  ", rows, right...)
	if more := len(all) - most; more > 0 {
		out.Printf("  %s\n", out.Quiet("… and "+render.Number(more)+" more; all of them: -top 0"))
	}
	if b.Others > 0 {
		out.Printf("  %s\n", out.Quiet(fmt.Sprintf("… and %s of others: there are too many to be counted one by one", render.Count(b.Others, "request"))))
	}
	return nil
}

// someNumber leaves out what is nothing, so that what is something is seen.
func someNumber(n int64) string {
	if n == 0 {
		return "."
	}
	return render.Number(n)
}

func (r *run) partsCSV(b *replay.Breakdown, _ summed) error {
	out := csv.NewWriter(r.stdout)
	out.Write(append(append([]string{b.By, "requests"}, partClasses...), "loops", "first", "last"))
	for _, p := range b.Sorted() {
		row := []string{render.Cell(p.Name), strconv.FormatInt(p.Requests, 10)}
		for _, n := range append(p.Classes[:], p.Loops) {
			row = append(row, strconv.FormatInt(n, 10))
		}
		out.Write(append(row, timeText(p.First), timeText(p.Last)))
	}
	out.Flush()
	return out.Error()
}

func timeText(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}

// partSum is a part as JSON.
type partSum struct {
	Name     string           `json:"name"`
	Requests int64            `json:"requests"`
	Statuses map[string]int64 `json:"statuses"`
	Loops    int64            `json:"loops"`
	First    string           `json:"first,omitempty"`
	Last     string           `json:"last,omitempty"`
}

func (r *run) partsJSON(b *replay.Breakdown, s summed) error {
	result := struct {
		By       string    `json:"by"`
		Zone     string    `json:"zone,omitempty"`
		Requests int64     `json:"requests"`
		Partial  bool      `json:"partial"`
		Parts    []partSum `json:"parts"`
		Others   int64     `json:"others"` // requests of parts that are not told apart
	}{b.By, "", s.tally.Requests, s.tally.Partial, []partSum{}, b.Others}
	if b.By == "day" || b.By == "hour" {
		result.Zone = b.Zone.String()
	}
	for _, p := range b.Sorted() {
		sum := partSum{p.Name, p.Requests, map[string]int64{}, p.Loops, timeText(p.First), timeText(p.Last)}
		for i, n := range p.Classes {
			if n > 0 {
				sum.Statuses[partClasses[i]] = n
			}
		}
		result.Parts = append(result.Parts, sum)
	}
	return r.writeJSON(result)
}

// partsHTML is the page of requests by what they have in common: a bar for each, those of
// times in their order.
func (r *run) partsHTML(b *replay.Breakdown, s summed) error {
	all := b.Sorted()
	p := webPage{Title: "Nothing was asked", Says: render.Count(s.tally.Requests, "request") + " by " + b.By}
	section := pageSection{Title: "By " + b.By, Head: heads(b.By, "#requests", "#share", "#app", "#1xx", "#2xx", "#3xx", "#4xx", "#5xx", "#loops", "first", "last")}
	if b.By == "day" || b.By == "hour" {
		section.Note = "in the time of " + b.Zone.String()
	}
	inTime := b.By == "day" || b.By == "hour"
	var most, worst *replay.Part
	var all4 int64
	for _, part := range all {
		if most == nil || part.Requests > most.Requests {
			most = part
		}
		if worst == nil || part.Classes[4] > worst.Classes[4] {
			worst = part
		}
		all4 += part.Classes[4]
	}
	switch {
	case inTime && all4 > 0:
		p.Title = fmt.Sprintf("%s of %s are refused or find nothing; the worst %s is %s, with %s of %s", render.Number(all4), render.Count(s.tally.Requests, "request"), b.By, render.Clean(worst.Name), render.Number(worst.Classes[4]), render.Number(worst.Requests))
	case most != nil:
		p.Title = fmt.Sprintf("%s of %s are of one %s: %s", render.Share(most.Requests, s.tally.Requests), render.Count(s.tally.Requests, "request"), b.By, render.Clean(most.Name))
	}
	var used [6]bool
	for i, part := range all {
		if i < mostBars {
			one := bar{Label: render.Short(part.Name, 40), Text: render.Number(part.Requests)}
			from := int64(0)
			for _, class := range classOrder {
				if n := part.Classes[class]; n > 0 {
					used[class] = true
					one.Parts = append(one.Parts, barPart{partColours[class], shareOf(from, most.Requests), shareOf(n, most.Requests)})
					from += n
				}
			}
			section.Bars = append(section.Bars, one)
		}
		row := []cell{code(part.Name), number(part.Requests), {Text: render.Share(part.Requests, s.tally.Requests), Class: "n", Value: strconv.FormatInt(part.Requests, 10)}}
		for _, n := range append(part.Classes[:], part.Loops) {
			row = append(row, number(n))
		}
		section.Rows = append(section.Rows, append(row, when(timeText(part.First)), when(timeText(part.Last))))
	}
	for _, class := range classOrder {
		if used[class] {
			section.Legend = append(section.Legend, legend{partColours[class], partMeans[class]})
		}
	}
	if b.Others > 0 {
		section.More = fmt.Sprintf("… and %s of others: there are too many to be counted one by one", render.Count(b.Others, "request"))
	}
	p.Sections = append(p.Sections, section)
	return r.writePage(p)
}

// mostBars is how many bars a chart has: three months of days, or four days of hours.
const mostBars = 96
