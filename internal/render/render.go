// Package render lays results out for people: columns, numbers, colours, and
// text from outside made harmless.
package render

import (
	"fmt"
	"io"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/rivo/uniseg"
	"golang.org/x/term"
)

// An Output is where people's text goes: how wide it is, and whether it has
// colour. Colour only says how serious a thing is, and never alone.
type Output struct {
	io.Writer
	Width    int
	Height   int
	Color    bool
	Terminal bool
	Bounded  bool // what is wider than Width is cut where nothing is lost by it: somebody looks at it
}

// NewOutput looks at what w is. mode is auto, always or never; NO_COLOR in the
// environment, or a TERM that is dumb, turns auto into never.
func NewOutput(w io.Writer, mode string) *Output {
	out := &Output{Writer: w, Width: 120, Height: 30}
	terminal := false
	if f, ok := w.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		terminal = true
		if width, height, err := term.GetSize(int(f.Fd())); err == nil {
			out.Width, out.Height = min(max(width, 70), 140), height
		}
		out.Bounded = true
	} else if width, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil {
		out.Width, out.Bounded = min(max(width, 70), 140), true
	}
	out.Terminal = terminal
	out.Color = mode == "always" || mode == "auto" && terminal && os.Getenv("NO_COLOR") == "" && !plainTerminal()
	return out
}

// plainTerminal reports whether nothing says that the terminal shows colours.
func plainTerminal() bool {
	name := os.Getenv("TERM")
	return (name == "" || name == "dumb") && runtime.GOOS != "windows"
}

// Printf writes formatted text. Whatever is in it, and from wherever: a terminal acts on
// nothing but line ends and the colours that are ours.
func (o *Output) Printf(format string, args ...any) {
	io.WriteString(o, clean(fmt.Sprintf(format, args...), func(rest string) int {
		if rest[0] == '\n' {
			return 1
		}
		return o.colour(rest)
	}))
}

var colours = strings.NewReplacer(reset, "", red, "", green, "", yellow, "", faint, "")

// Uncoloured is a text without the codes of its colours.
func Uncoloured(s string) string { return colours.Replace(s) }

// columns gives how many columns of the screen a text takes.
func (o *Output) columns(s string) int {
	if o.Color {
		s = Uncoloured(s)
	}
	return uniseg.StringWidth(s)
}

// colour gives the length of the code of a colour at the beginning of a text, if colours
// are shown.
func (o *Output) colour(text string) int {
	if !o.Color || text == "" || text[0] != '\x1b' {
		return 0
	}
	for _, code := range []string{reset, red, yellow, green, faint} {
		if strings.HasPrefix(text, code) {
			return len(code)
		}
	}
	return 0
}

// The colours (ECMA-48, SGR).
const (
	reset  = "\x1b[0m"
	red    = "\x1b[31m"
	green  = "\x1b[32m"
	yellow = "\x1b[33m"
	faint  = "\x1b[2m"
)

func (o *Output) paint(code, s string) string {
	if !o.Color || s == "" || code == "" {
		return s
	}
	return code + s + reset
}

// Bad, Doubtful, Well and Quiet colour a text by how serious it is.
func (o *Output) Bad(s string) string      { return o.paint(red, s) }
func (o *Output) Doubtful(s string) string { return o.paint(yellow, s) }
func (o *Output) Well(s string) string     { return o.paint(green, s) }
func (o *Output) Quiet(s string) string    { return o.paint(faint, s) }

// Severity colours a text by the name of a severity.
func (o *Output) Severity(severity, s string) string {
	switch severity {
	case "error":
		return o.Bad(s)
	case "warning":
		return o.Doubtful(s)
	}
	return o.Quiet(s)
}

// Status colours a status by its class.
func (o *Output) Status(s string) string {
	switch {
	case strings.HasPrefix(s, "5"):
		return o.Bad(s)
	case strings.HasPrefix(s, "4"):
		return o.Doubtful(s)
	}
	return s
}

// Lines is how many lines of the screen a text takes, which ends in a line end or not.
func (o *Output) Lines(s string) (n int) {
	for line := range strings.SplitSeq(strings.TrimSuffix(s, "\n"), "\n") {
		n += 1 + max(0, o.columns(line)-1)/o.Width
	}
	return n
}

// leastCell is how much of a cell is left at least where it is cut, in columns of the screen.
const leastCell = 12

// fitting gives how wide each column of rows may be, so that a line has so many columns of the
// screen: the widest are cut first. Where that is not to be had, all are as wide as they are.
func (o *Output) fitting(rows [][]string, room int) []int {
	var widths []int
	for _, row := range rows {
		for i, cell := range row {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], o.columns(cell))
		}
	}
	most := slices.Clone(widths)
	for _, w := range widths {
		room -= w + len(between)
	}
	for room += len(between); room < 0; room++ {
		widest := slices.Index(most, slices.Max(most))
		if most[widest] <= leastCell {
			return widths
		}
		most[widest]--
	}
	return most
}

// cut is a cell with no more than so many columns, in its colour.
func (o *Output) cut(cell string, most int) string {
	if o.columns(cell) <= most {
		return cell
	}
	return o.paint(cell[:o.colour(cell)], Short(Uncoloured(cell), most))
}

// between stands between two columns.
const between = "   "

// Rows writes rows in columns, indented. A column named in right is set to the
// right. The last column is not padded.
func (o *Output) Rows(indent string, rows [][]string, right ...int) {
	if len(rows) == 0 {
		return
	}
	var most []int
	if o.Bounded {
		most = o.fitting(rows, o.Width-len(indent))
	}
	t := table.NewWriter()
	style := table.StyleDefault
	style.Options = table.Options{}
	style.Box.PaddingLeft, style.Box.PaddingRight = "", between
	t.SetStyle(style)
	var configs []table.ColumnConfig
	for _, n := range right {
		configs = append(configs, table.ColumnConfig{Number: n + 1, Align: text.AlignRight})
	}
	t.SetColumnConfigs(configs)
	for _, row := range rows {
		var r table.Row
		for i, cell := range row {
			if o.Bounded {
				cell = o.cut(cell, most[i])
			}
			r = append(r, clean(cell, o.colour))
		}
		t.AppendRow(r)
	}
	for _, line := range strings.Split(t.Render(), "\n") {
		io.WriteString(o, strings.TrimRight(indent+line, " ")+"\n")
	}
}

// Wrapped writes text in lines of the output's width, each indented.
func (o *Output) Wrapped(indent, s string) {
	line := indent
	for _, word := range strings.Fields(s) {
		if o.columns(line)+1+o.columns(word) > o.Width && line != indent {
			o.Printf("%s\n", line)
			indent = strings.Repeat(" ", o.columns(indent))
			line = indent
		}
		if line != indent {
			line += " "
		}
		line += word
	}
	o.Printf("%s\n", line)
}

// Advice prints an advice, wrapped behind its indent as Wrapped does; what stands
// between three blanks is to be written as it is, and stays in one piece.
func (o *Output) Advice(indent, s string) {
	line, begun := indent, false
	put := func(text, gap string) {
		if begun && o.columns(line+gap+text) > o.Width {
			o.Printf("%s\n", line)
			indent = strings.Repeat(" ", o.columns(indent))
			line, begun = indent, false
		}
		if begun {
			line += gap
		}
		line, begun = line+text, true
	}
	const apart = "   "
	for i, part := range strings.Split(s, apart) {
		if i%2 == 1 {
			put(part, apart)
			continue
		}
		gap := apart
		for _, word := range strings.Fields(part) {
			put(word, gap)
			gap = " "
		}
	}
	o.Printf("%s\n", line)
}

// Number writes a count with its thousands parted.
func Number[N int | int64 | uint64](n N) string {
	s := strconv.FormatInt(int64(n), 10)
	start := 0
	if n < 0 {
		start = 1
	}
	for i := len(s) - 3; i > start; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// Bytes writes a size.
func Bytes(n int64) string {
	switch {
	case n == 1:
		return "1 byte"
	case n < 0:
		return "size not known"
	case n >= 1<<20:
		return Size(n)
	}
	return Number(n) + " bytes"
}

// Size is a number of bytes, from a MiB on with its unit.
func Size(n int64) string {
	units := []string{"MiB", "GiB", "TiB", "PiB", "EiB"}
	if n < 1<<20 {
		return Number(n)
	}
	of := float64(n) / (1 << 20)
	for of >= 1024 && len(units) > 1 {
		of, units = of/1024, units[1:]
	}
	return fmt.Sprintf("%.1f %s", of, units[0])
}

// Time is how long something took, as people say it.
func Time(d time.Duration) string {
	switch {
	case d < time.Millisecond:
		return fmt.Sprintf("%d µs", d.Microseconds())
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < 2*time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
}

// Count writes a number with its noun, in the plural where that is right.
func Count[N int | int64 | uint64](n N, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	switch {
	case strings.HasSuffix(noun, "y"):
		return Number(n) + " " + noun[:len(noun)-1] + "ies"
	case strings.HasSuffix(noun, "s"), strings.HasSuffix(noun, "x"):
		return Number(n) + " " + noun + "es"
	}
	return Number(n) + " " + noun + "s"
}

// Share writes a part of a whole in percent.
func Share[N int | int64 | uint64](part, whole N) string {
	if whole == 0 {
		return "-"
	}
	return fmt.Sprintf("%.1f%%", 100*float64(part)/float64(whole))
}

// Saved writes what share of a size a smaller one saves; where it is larger, by how much.
func Saved(size, now int64) string {
	switch {
	case size == 0:
		return "-"
	case now > size:
		return "larger by " + Bytes(now-size)
	}
	return Share(size-now, size)
}

// Clean makes text from outside harmless: control and formatting characters
// are written as escapes, so that no terminal acts on them.
func Clean(s string) string { return clean(s, func(string) int { return 0 }) }

// clean is Clean, but for what pass gives the length of, at the beginning of the rest.
func clean(s string, pass func(rest string) int) string {
	ok := func(r rune) bool { return r >= ' ' && r < 0x7f || r >= 0xa0 && unicode.IsGraphic(r) }
	if utf8.ValidString(s) && strings.IndexFunc(s, func(r rune) bool { return !ok(r) }) < 0 {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, size := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, `\x%02X`, s[i])
		case ok(r):
			b.WriteRune(r)
		default:
			switch n := pass(s[i:]); {
			case n > 0:
				b.WriteString(s[i : i+n])
				size = n
			case r < 0x100:
				fmt.Fprintf(&b, `\x%02X`, r)
			default:
				fmt.Fprintf(&b, `\u{%X}`, r)
			}
		}
		i += size
	}
	return b.String()
}

// Cell makes text from outside harmless in a spreadsheet: a cell that would be
// read as a formula begins with a quote.
func Cell(s string) string {
	s = Clean(s)
	if s != "" && strings.ContainsRune("=+-@", rune(s[0])) && s != "-" {
		return "'" + s
	}
	return s
}

// Short is Clean, cut at the end to so many columns; the cut says so.
func Short(s string, most int) string {
	s = Clean(s)
	if uniseg.StringWidth(s) <= most {
		return s
	}
	end, width := 0, 0
	for g := uniseg.NewGraphemes(s); g.Next() && width+g.Width() < most; {
		width += g.Width()
		_, end = g.Positions()
	}
	return s[:end] + "…"
}

// octal writes text for the printf of a POSIX shell, within single quotes: each byte that
// Clean would not let through as \ddd.
func octal(s string) string {
	var b strings.Builder
	for s != "" {
		_, n := utf8.DecodeRuneInString(s)
		switch c := s[:n]; {
		case c == "%":
			b.WriteString("%%")
		case Clean(c) == c && c != "'" && c != `\`:
			b.WriteString(c)
		default:
			for _, byte := range []byte(c) {
				fmt.Fprintf(&b, `\%03o`, byte)
			}
		}
		s = s[n:]
	}
	return b.String()
}

// Shell quotes a word for a POSIX shell where that is needed. Line ends at its end get
// lost.
func Shell(s string) string {
	plain := func(r rune) bool {
		return strings.ContainsRune("-_./:=@%+,", r) || r < utf8.RuneSelf && (unicode.IsLetter(r) || unicode.IsDigit(r))
	}
	if s != "" && strings.IndexFunc(s, func(r rune) bool { return !plain(r) }) < 0 {
		return s
	}
	if Clean(s) != s {
		return `"$(printf '` + octal(s) + `')"`
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}
