package cli

// The flow of redirected requests, as a drawing: what the server answered then, the entry that
// sends them on, and what visitors have at the end. The bands are as wide as the requests are
// many.

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"kibitz/core/browser"
	"kibitz/internal/render"
)

// A flow is a drawing in columns of nodes.
type flow struct {
	Width, Height int
	Nodes         []flowNode
	Bands         []flowBand
}

type flowNode struct {
	X, Y, High     float64
	Wide           int
	Class          string
	Label          string
	LabelX, LabelY float64
	Anchor         string
}

type flowBand struct {
	Path, Class, Title string
	Wide               float64
}

// The sizes of a drawing, in pixels.
const (
	flowWide   = 900
	flowHigh   = 300 // what all requests take of a column
	flowNodes  = 12  // in a column
	flowNode0  = 12  // how wide a node is
	flowLabels = 120 // left and right
	flowGap    = 24  // between nodes: a label must fit
)

// A flowCount is requests that go from one node to one of the next column.
type flowCount struct {
	from, to string
	n        int64
}

// drawFlow draws requests through columns; the counts of each step stand between two of them.
// class gives the colour of a node by its column and name.
func drawFlow(steps [][]flowCount, class func(column int, name string) string) *flow {
	columns := make([]map[string]int64, len(steps)+1)
	for i := range columns {
		columns[i] = map[string]int64{}
	}
	total := int64(0)
	for i, step := range steps {
		sum := int64(0)
		for _, c := range step {
			if i == 0 {
				columns[0][c.from] += c.n
			}
			columns[i+1][c.to] += c.n
			sum += c.n
		}
		total = max(total, sum)
	}
	if total == 0 {
		return nil
	}
	f := &flow{Width: flowWide}
	scale := float64(flowHigh) / float64(total)
	wide := func(n int64) float64 { return max(1, float64(n)*scale) }
	type place struct{ x, y, out, in float64 } // where the next band leaves, and arrives
	places := make([]map[string]*place, len(columns))
	for i, column := range columns {
		places[i] = map[string]*place{}
		var names []string
		for name := range column {
			names = append(names, name)
		}
		slices.SortFunc(names, func(a, b string) int {
			return cmp.Or(cmp.Compare(column[b], column[a]), strings.Compare(a, b))
		})
		x := flowLabels + float64(i)*(flowWide-2*flowLabels-flowNode0)/float64(len(columns)-1)
		y := 8.0
		for _, name := range names {
			high := wide(column[name])
			n := flowNode{X: x, Y: y, High: high, Wide: flowNode0, Class: class(i, name), Label: render.Short(name, 30) + "  " + render.Number(column[name]), LabelX: x + flowNode0 + 6, LabelY: y + high/2, Anchor: "start"}
			if i == 0 {
				n.LabelX, n.Anchor = x-6, "end"
			}
			f.Nodes = append(f.Nodes, n)
			places[i][name] = &place{x, y, y, y}
			y += max(high+4, flowGap)
		}
		f.Height = max(f.Height, int(y)+8)
	}
	for i, step := range steps {
		order := slices.Clone(step)
		slices.SortFunc(order, func(a, b flowCount) int {
			return cmp.Or(cmp.Compare(places[i][a.from].y, places[i][b.from].y), cmp.Compare(places[i+1][a.to].y, places[i+1][b.to].y))
		})
		for _, c := range order {
			a, b, w := places[i][c.from], places[i+1][c.to], wide(c.n)
			x0, x1 := a.x+flowNode0, b.x
			y0, y1 := a.out+w/2, b.in+w/2
			a.out, b.in = a.out+w, b.in+w
			f.Bands = append(f.Bands, flowBand{
				Path:  fmt.Sprintf("M%.1f %.1fC%.1f %.1f %.1f %.1f %.1f %.1f", x0, y0, (x0+x1)/2, y0, (x0+x1)/2, y1, x1, y1),
				Class: class(i+1, c.to), Title: fmt.Sprintf("%s, %s: %s", c.from, c.to, render.Count(c.n, "request")), Wide: w,
			})
		}
	}
	return f
}

// endWords are what visitors have at the end of a redirect, for people.
var endWords = map[string]string{
	string(browser.Loop):      "a loop",
	string(browser.TooLong):   "too many redirects",
	string(browser.Left):      "another site",
	string(browser.ToApp):     "an application",
	string(browser.ToFiles):   "the site's files",
	string(browser.BadEnding): "no address",
}

// endClass says whether an end is good.
func endClass(end string) string {
	switch end {
	case endWords[string(browser.Loop)], endWords[string(browser.TooLong)], endWords[string(browser.BadEnding)]:
		return isBad
	}
	return statusClass(end)
}

// flowSection shows where redirects send people.
func flowSection(t tallySums) pageSection {
	section := pageSection{Note: "what the server answered then, what sends the visitors on, and what they have at the end", Head: heads("sent on by", "at", "#requests", "at the end", "#of these")}
	var sent []outcomeRow
	total, arrived := int64(0), int64(0)
	for _, o := range t.Outcomes {
		if len(o.Ends) > 0 {
			sent = append(sent, o)
		}
	}
	slices.SortStableFunc(sent, func(a, b outcomeRow) int { return cmp.Compare(b.Requests, a.Requests) })
	named := map[string]string{} // what an outcome is called in the drawing
	key := func(status any, cause, by, at string) string { return fmt.Sprint(status, " ", cause, " ", by, " ", at) }
	var before, after []flowCount
	count := func(counts []flowCount, from, to string, n int64) []flowCount {
		at := slices.IndexFunc(counts, func(c flowCount) bool { return c.from == from && c.to == to })
		if at < 0 {
			return append(counts, flowCount{from, to, n})
		}
		counts[at].n += n
		return counts
	}
	for i, o := range sent {
		name := cmp.Or(render.Clean(o.By), "("+o.Cause+")")
		node := name
		if len(sent) > flowNodes && i >= flowNodes-1 {
			node = "all others"
		}
		named[key(o.Status, o.Cause, o.By, o.At)] = node
		for _, end := range sortedKeys(o.Ends) {
			n := o.Ends[end]
			word := cmp.Or(endWords[end], end)
			after = count(after, node, word, n)
			section.Rows = append(section.Rows, []cell{code(name), code(o.At), number(o.Requests), {Text: word, Class: endClass(word)}, number(n)})
			if total += n; endClass(word) == isWell {
				arrived += n
			}
		}
	}
	if total == 0 {
		return section
	}
	for _, c := range t.Recorded {
		if name, ok := named[key(c.Predicted, c.Cause, c.By, c.At)]; ok {
			before = count(before, fmt.Sprint(c.Recorded), name, c.Requests)
		}
	}
	class := func(column int, name string) string {
		switch {
		case column == 2 || column == 1 && len(before) == 0:
			return endClass(name)
		case column == 0 && len(before) > 0:
			return statusClass(name)
		}
		return ""
	}
	steps := [][]flowCount{after}
	if len(before) > 0 {
		steps = [][]flowCount{before, after}
	}
	section.Flow = drawFlow(steps, class)
	section.Title = fmt.Sprintf("%s of the %s that are sent on arrive at a page", render.Share(arrived, total), render.Count(total, "request"))
	return section
}
