package rulebook

// Changes of a rulebook's text, line by line, which leave all else as it was written:
// comments, blanks, the order of clauses.

import (
	"slices"
	"strings"
	"unicode/utf8"
)

// An Edit puts other lines in the place of some of a source.
type Edit struct {
	Source   *Source
	From, To int // lines, counted from 0; To is the first that stays. From = To puts lines between
	Lines    []string
}

// Edited gives a source's lines with edits, of which no two change the same line.
func (s *Source) Edited(edits []Edit) []string {
	here := slices.DeleteFunc(slices.Clone(edits), func(e Edit) bool { return e.Source != s })
	slices.SortStableFunc(here, func(a, b Edit) int { return a.From - b.From })
	var out []string
	done := 0
	for _, e := range here {
		out = append(append(out, s.Lines[done:max(e.From, done)]...), e.Lines...)
		done = max(e.To, done)
	}
	return append(out, s.Lines[done:]...)
}

// Edited reads the rulebook again with edits. load gives the content of the files that it
// names beside its own sources. It fails with Errors where the changed text cannot be read.
func (b *Book) Edited(edits []Edit, load func(name string) ([]byte, error)) (*Book, error) {
	texts := map[string][]byte{}
	for _, s := range b.Sources {
		changed := slices.ContainsFunc(edits, func(e Edit) bool { return e.Source == s })
		if _, there := texts[s.Name]; !there || changed { // a file may be included twice
			texts[s.Name] = []byte(strings.Join(s.Edited(edits), "\n"))
		}
	}
	main := b.Sources[0].Name
	book, err := readWith(main, texts[main], func(name string) ([]byte, error) {
		if text, ok := texts[name]; ok {
			return text, nil
		}
		return load(name)
	}, b.made())
	if err != nil {
		return nil, err
	}
	for i, s := range book.Sites { // as the command line may have set them
		if i < len(b.Sites) {
			s.Files, s.Inventory = b.Sites[i].Files, b.Sites[i].Inventory
		}
	}
	return book, nil
}

// extent gives the lines of an entry that begins at a place: up to the first behind it that
// is not indented.
func extent(at Place) (from, to int) {
	lines := at.Source.Lines
	from, to = at.Line-1, at.Line
	for to < len(lines) && (strings.HasPrefix(lines[to], " ") || strings.HasPrefix(lines[to], "\t")) {
		to++
	}
	for to > from+1 && strings.TrimSpace(lines[to-1]) == "" {
		to--
	}
	return from, to
}

// Replaced is the edit that writes the entry in other lines; none takes it out.
func (r *Rule) Replaced(lines []string) Edit {
	from, to := extent(r.Place)
	return Edit{r.Place.Source, from, to, lines}
}

// Removed are the lines of an entry at a place taken out, with the comment that stands
// right above it.
func Removed(at Place) Edit {
	_, to := extent(at)
	from := comments(at)
	lines := at.Source.Lines
	if blank(lines, from-1) && blank(lines, to) { // one blank line is enough
		to++
	}
	return Edit{at.Source, from, min(to, len(lines)), nil}
}

// comments is the line where the comment begins that stands right above an entry, or the
// entry itself.
func comments(at Place) int {
	from := at.Line - 1
	for from > 0 && strings.HasPrefix(at.Source.Lines[from-1], "#") {
		from--
	}
	return from
}

// Note is the comment that stands right above an entry, without its marks; "" for none.
func (r *Rule) Note() string {
	var out []string
	for _, line := range r.Place.Source.Lines[comments(r.Place) : r.Place.Line-1] {
		if text := strings.TrimSpace(strings.TrimLeft(line, "#")); text != "" {
			out = append(out, text)
		}
	}
	return strings.Join(out, " ")
}

func blank(lines []string, i int) bool {
	return i < 0 || i >= len(lines) || strings.TrimSpace(lines[i]) == ""
}

// Above are the edits that put an entry right above another one, with its comment; nil
// where they do not stand in one file and for the same sites.
func (r *Rule) Above(other *Rule) []Edit {
	if r.Place.Source != other.Place.Source || r.Site != other.Site {
		return nil
	}
	_, to := extent(r.Place)
	lines := r.Place.Source.Lines
	at := comments(other.Place)
	return []Edit{{r.Place.Source, at, at, slices.Clone(lines[comments(r.Place):to])}, Removed(r.Place)}
}

// Added is the edit that puts an entry at the head of a site's own.
func (s *Site) Added(text string) Edit {
	_, to := extent(s.Place)
	lines := s.Place.Source.Lines
	own := []string{text}
	if blank(lines, to) {
		own = []string{"", text}
	}
	return Edit{s.Place.Source, to, to, own}
}

// longLine is up to how many characters a line grows before a clause gets one of its own.
const longLine = 100

// With is the edit that adds a clause at the end of an entry.
func (r *Rule) With(clause string) Edit {
	from, to := extent(r.Place)
	lines := slices.Clone(r.Place.Source.Lines[from:to])
	if first := lines[0]; len(lines) == 1 && !strings.Contains(first, "#") && utf8.RuneCountInString(first+clause) < longLine {
		lines[0] = strings.TrimRight(first, " \t") + " " + clause
		return Edit{r.Place.Source, from, to, lines}
	}
	indent := "    "
	if len(lines) > 1 {
		indent = lines[1][:len(lines[1])-len(strings.TrimLeft(lines[1], " \t"))]
	}
	last := len(lines) // a comment at the end speaks of what stands below it
	for last > 1 && strings.HasPrefix(strings.TrimSpace(lines[last-1]), "#") {
		last--
	}
	return Edit{r.Place.Source, from, to, slices.Insert(lines, last, indent+clause)}
}

// Replace is the edit that writes another text in the place of a part of a line, which is
// width characters wide. Where nothing is left of the line but a comment on it, the line goes.
func Replace(at Place, width int, text string) Edit {
	line := []rune(at.Source.Lines[at.Line-1])
	before, after := string(line[:at.Col-1]), string(line[min(at.Col-1+width, len(line)):])
	if text == "" {
		before = strings.TrimRight(before, " \t")
		if rest := strings.TrimLeft(after, " \t"); before == "" && rest != "" {
			before, after = string(line[:at.Col-1]), rest
		}
	}
	e := Edit{at.Source, at.Line - 1, at.Line, []string{before + text + after}}
	if rest := strings.TrimSpace(e.Lines[0]); rest == "" || text == "" && strings.HasPrefix(rest, "#") {
		e.Lines = nil
	}
	return e
}

// Clause gives the entry's first clause of one of some keywords, with its place and width;
// ok is false where there is none.
func (e *Entry) Clause(words ...string) (c *Clause, at Place, width int, ok bool) {
	for _, word := range words {
		if c := e.clause(word); c != nil {
			return c, c.Keyword.Place, c.width(), true
		}
	}
	return nil, Place{}, 0, false
}

// width is that of the clause, as far as it stands in the keyword's line.
func (c *Clause) width() int {
	last := c.Keyword
	for _, v := range c.Values {
		if v.Place.Line == c.Keyword.Place.Line {
			last = v
		}
	}
	return last.Place.Col + last.Width - c.Keyword.Place.Col
}
