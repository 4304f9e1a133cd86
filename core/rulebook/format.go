package rulebook

// Laying out: columns lined up, every comment and line break kept.

import (
	"bytes"
	"strings"

	"github.com/rivo/uniseg"
)

// Format lays out a rulebook's text: the clauses of neighbouring entries stand
// in columns, indented lines are indented alike. Lines, comments and blank lines
// stay where they are, and so does the meaning. A text with errors is not laid
// out; they come as Errors.
func Format(name string, text []byte) ([]byte, error) {
	var errs Errors
	_, lines := scan(name, text, &errs)
	list := entries(lines, &errs)
	if len(errs) > 0 {
		errs.sort()
		return nil, errs
	}
	f := &formatter{lines: lines, begins: map[int]*Entry{}}
	for _, e := range list {
		f.begins[e.Kind.Place.Line] = e
	}
	end := "\n"
	if bytes.Contains(text, []byte("\r\n")) {
		end = "\r\n"
	}
	var out strings.Builder
	for _, s := range f.format() {
		out.WriteString(s)
		out.WriteString(end)
	}
	return []byte(strings.TrimRight(out.String(), "\r\n") + end), nil
}

type formatter struct {
	lines  []line
	begins map[int]*Entry // by the line where they begin
}

// widest is the width beyond which a cell does not push its neighbours aside.
const widest = 56

func (f *formatter) format() []string {
	out := make([]string, len(f.lines))
	for i := 0; i < len(f.lines); {
		l := f.lines[i]
		if len(l.words) == 0 {
			out[i] = l.comment
			if l.indented && l.comment != "" {
				out[i] = "    " + l.comment
			}
			i++
			continue
		}
		end := i // of the block of lines without a gap
		for end < len(f.lines) && len(f.lines[end].words) > 0 {
			end++
		}
		f.block(out[i:end], f.lines[i:end])
		i = end
	}
	return out
}

// block lays out neighbouring lines.
func (f *formatter) block(out []string, lines []line) {
	cells := make([][]string, len(lines))
	var widths []int
	site := false
	siteWidth := 0
	for i, l := range lines {
		e := f.begins[l.number]
		if e == nil {
			if site {
				siteWidth = max(siteWidth, uniseg.StringWidth(l.words[0].Text))
			}
			continue
		}
		site = Kind(e.Kind.Text) == KindSite
		cells[i] = cellsOf(e, l)
		for n, c := range cells[i] {
			if n == len(widths) {
				widths = append(widths, 0)
			}
			if w := uniseg.StringWidth(c); w <= widest && n < len(cells[i])-1 {
				widths[n] = max(widths[n], w)
			}
		}
	}
	for i, l := range lines {
		e := f.begins[l.number]
		switch {
		case e != nil:
			site = Kind(e.Kind.Text) == KindSite
			out[i] = row(cells[i], widths)
		case site:
			out[i] = "    " + pad(l.words[0].Quote(), siteWidth) + " " + join(l.words[1:])
		default:
			out[i] = "    " + join(l.words)
		}
		out[i] = strings.TrimRight(out[i], " ")
		if l.comment != "" {
			out[i] += "  " + l.comment
		}
	}
}

// cellsOf cuts the first line of an entry: kind, name, selectors, and each
// clause of its own.
func cellsOf(e *Entry, l line) []string {
	starts := map[int]bool{} // columns where a cell begins
	selecting := false
	for _, c := range e.Clauses {
		if c.Keyword.Place.Line != l.number {
			break
		}
		_, selector := selectors[c.Keyword.Text]
		if !selector || !selecting {
			starts[c.Keyword.Place.Col] = true
		}
		selecting = selector
	}
	words := l.words[1:]
	cells := []string{e.Kind.Text, ""}
	if len(words) > 0 && e.Name != nil && e.Name.Place == words[0].Place {
		cells[1] = words[0].Quote()
		words = words[1:]
	}
	first := len(e.Clauses) > 0 && e.Clauses[0].Keyword.Place.Line == l.number
	if _, selector := selectors[clauseWord(e)]; !first || !selector {
		cells = append(cells, "") // no selectors
	}
	from := 0
	for i := 1; i <= len(words); i++ {
		if i == len(words) || starts[words[i].Place.Col] {
			cells = append(cells, join(words[from:i]))
			from = i
		}
	}
	return cells
}

func clauseWord(e *Entry) string {
	if len(e.Clauses) == 0 {
		return ""
	}
	return e.Clauses[0].Keyword.Text
}

func row(cells []string, widths []int) string {
	var b strings.Builder
	for n, c := range cells {
		if c == "" && widths[n] == 0 {
			continue
		}
		if n > 0 && b.Len() > 0 {
			b.WriteString(" ")
			if n > 1 {
				b.WriteString(" ")
			}
		}
		if n == len(cells)-1 {
			b.WriteString(c)
		} else {
			b.WriteString(pad(c, widths[n]))
		}
	}
	return b.String()
}

func pad(s string, width int) string {
	return s + strings.Repeat(" ", max(0, width-uniseg.StringWidth(s)))
}

func join(words []Word) string {
	var out []string
	for _, w := range words {
		out = append(out, w.Quote())
	}
	return strings.Join(out, " ")
}
