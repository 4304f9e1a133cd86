package list

// Tables of requests, RFC 4180.

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math/bits"
	"slices"
	"strings"

	"kibitz/core/request"
)

const FormatCSV Format = "csv"

func init() {
	register(form{name: FormatCSV, rank: rankTable, read: readCSV, lines: true, layout: csvLayout, detect: func(head []byte) bool {
		first, _, _ := bytes.Cut(head, []byte("\n"))
		return csvComma(string(first)) != 0
	}})
}

// readCSV reads RFC 4180 with a heading: url, method, client, time, body,
// status, location, header.NAME. A table of moves can be read, too: old, new and
// status say what is expected. Semicolons and tabs part columns, too, as spreadsheets
// write them. What replay writes of each request is read again.
func readCSV(in *bufio.Reader, o Options, each func(*Item)) (Counts, error) {
	r := &csvReader{in: in}
	t, err := newCSVTable(r, o.Base)
	for more := err == nil; more; {
		more, err = t.row(r, each)
	}
	return r.counts, err
}

// A csvTable is what the heading says of the rows below it.
type csvTable struct {
	base    request.Address
	comma   byte
	heading []string
	moves   bool // the columns are old, new, status, and others that tell people something
}

// newCSVTable reads the heading.
func newCSVTable(r *csvReader, base request.Address) (*csvTable, error) {
	first, err := r.line()
	if err != nil {
		return nil, fmt.Errorf("the CSV has no heading: %w", err)
	}
	r.comma = byte(cmp.Or(csvComma(first), ','))
	r.again(first)
	heading, lines, problem := r.row()
	if problem != nil {
		return nil, fmt.Errorf("the heading of the CSV cannot be read: %w", problem)
	}
	r.counts.Comments += lines
	if err := csvHeading(heading); err != nil {
		return nil, err
	}
	t := &csvTable{base: base, comma: r.comma, heading: heading, moves: heading[0] == "old"}
	if t.moves && len(heading) == 2 { // as in a table, where a status may follow
		t.heading = append(heading, "status")
	}
	return t, nil
}

// row reads the next row, and reports whether there was one.
func (t *csvTable) row(r *csvReader, each func(*Item)) (bool, error) {
	number := r.number + 1
	row, lines, problem := r.row()
	switch {
	case problem == io.EOF:
		return false, nil
	case problem != nil && lines == 0:
		return false, problem
	case problem != nil:
		r.counts.skip(number, lines, "%v", problem)
		return true, nil
	case len(row) == 1 && row[0] == "":
		r.counts.Comments += lines
		return true, nil
	case len(row) > len(t.heading):
		r.counts.skip(number, lines, "the row has %d fields, and the heading %d", len(row), len(t.heading))
		return true, nil
	}
	read := itemOf
	if t.moves {
		read, row = moveOf, row[:min(len(row), 3)]
		if len(row) == 3 && strings.TrimSpace(row[2]) == undecided {
			r.counts.Comments += lines
			return true, nil
		}
	}
	var told texts
	for i, v := range row {
		if v != "" {
			told.tell(t.heading[i], v)
		}
	}
	item, err := read(&told, t.base)
	if err == nil {
		r.counts.Details += lines - 1
	} else {
		r.counts.Skipped += lines - 1
	}
	r.counts.take(number, item, err, each)
	return true, nil
}

// csvLayout is that of a table whose heading has not been read yet.
func csvLayout(o Options) *Layout {
	return &Layout{start: func(text []byte) (*Layout, error) {
		r := &csvReader{in: bufio.NewReader(bytes.NewReader(text))}
		t, err := newCSVTable(r, o.Base)
		if err != nil {
			return nil, err
		}
		l := t.layout(o.Matters)
		l.Heading = lengthOf(text, r.number)
		return l, nil
	}}
}

// layout reads rows of one line in place, and others with care.
func (t *csvTable) layout(matters func(name string) bool) *Layout {
	columns := t.quickColumns(matters)
	l := &Layout{cut: t.cut, Comment: func([]byte) bool { return false }}
	l.Read = func(line, _ []byte, l *Line) (*Item, error) {
		if columns == nil || !t.quick(line, columns, l) {
			return nil, ErrRecord
		}
		return nil, nil
	}
	l.record = func(text []byte, each func(*Item)) (int, Counts) {
		r := &csvReader{in: bufio.NewReader(bytes.NewReader(text)), comma: t.comma, below: true}
		t.row(r, each)
		return lengthOf(text, r.number), r.counts
	}
	return l
}

// lengthOf gives how long the first lines of a text are.
func lengthOf(text []byte, lines int) int {
	at := 0
	for range lines {
		line, _, more := bytes.Cut(text[at:], []byte("\n"))
		if at += len(line); more {
			at++
		}
	}
	return at
}

// cut gives the end of the last row that is whole. Only a line with an odd number of quotes
// can be other than a row by itself.
func (t *csvTable) cut(text []byte, last bool) int {
	if bytes.IndexByte(text, '"') < 0 {
		return len(text)
	}
	at := 0
	for at < len(text) {
		end := at + bytes.IndexByte(text[at:], '\n') + 1
		if bytes.Count(text[at:end], []byte(`"`))%2 == 1 {
			r := &csvReader{in: bufio.NewReader(bytes.NewReader(text[at:])), comma: t.comma, below: true}
			if r.row(); r.ended != nil { // nothing closes it; what does may follow
				if at == 0 && last {
					return end
				}
				return at
			}
			end += lengthOf(text[end:], r.number-1)
		}
		at = end
	}
	return at
}

// quickColumns gives what the columns tell. It is nil for a table of moves.
func (t *csvTable) quickColumns(matters func(name string) bool) []quickPart {
	if t.moves {
		return nil
	}
	columns := make([]quickPart, len(t.heading))
	for i, name := range t.heading {
		header, isHeader := strings.CutPrefix(strings.ToLower(name), "header.")
		switch {
		case isHeader && header == "user-agent":
			columns[i] = theAgent
		case isHeader && header == "referer":
			columns[i] = theReferrer
		case isHeader && matters != nil && !matters(header), name != "recorded" && name != "requests" && slices.Contains(writtenColumns, name):
			columns[i] = nothing
		case !isHeader && slices.Contains(csvColumns, name):
			columns[i] = quickPartOf[name]
		}
	}
	return columns
}

// quick fills l, if the row is as nearly all are: of one line, without a quote in a value.
func (t *csvTable) quick(line []byte, columns []quickPart, l *Line) bool {
	var j quickParts
	from := 0
	for i := 0; ; i++ {
		if i == len(columns) {
			return false
		}
		value, end := span{uint32(from), 0}, 0
		if from < len(line) && line[from] == '"' {
			n := bytes.IndexByte(line[from+1:], '"')
			if n < 0 {
				return false
			}
			end = from + n + 2
			value = span{uint32(from + 1), uint32(end - 1)}
			if end < len(line) && line[end] != t.comma {
				return false
			}
		} else {
			if end = t.endOfValue(line, from); end < len(line) && line[end] == '"' {
				return false
			}
			value.to = uint32(end)
		}
		if value.len() > 0 && !j.tell(columns[i], jsonString, line, value) {
			return false
		}
		if end == len(line) {
			return j.line(line, t.base, l)
		}
		from = end + 1
	}
}

// endOfValue gives the place of the first comma or quote from i on, or the length of the line.
func (t *csvTable) endOfValue(line []byte, i int) int {
	for ; i <= len(line)-8; i += 8 {
		w := word(line, i)
		if ends := equal(w, t.comma) | equal(w, '"'); ends != 0 {
			return i + bits.TrailingZeros64(ends)/8
		}
	}
	for i < len(line) && line[i] != t.comma && line[i] != '"' {
		i++
	}
	return i
}

// csvHeading makes the names of columns plain, and refuses one that is not known.
func csvHeading(heading []string) error {
	for i, name := range heading {
		heading[i] = strings.TrimSpace(name)
		if kind, field, ok := strings.Cut(heading[i], "."); ok {
			heading[i] = strings.ToLower(kind) + "." + field
		} else {
			heading[i] = strings.ToLower(heading[i])
		}
		switch name := heading[i]; {
		case slices.Contains(csvColumns, name), slices.Contains(writtenColumns, name):
		case strings.HasPrefix(name, "header."):
		case i > 0 && heading[0] == "old" && (name == "new" || i > 2), i == 0 && name == "old":
		default:
			return fmt.Errorf("the column %q is not known: there are %s and header.NAME; or old, new and status", name, strings.Join(csvColumns, ", "))
		}
	}
	return nil
}

// csvColumns are those of requests; writtenColumns stand beside them in what replay
// writes, and tell of its answers.
var (
	csvColumns     = []string{"url", "method", "client", "time", "body", "status", "location"}
	writtenColumns = []string{"requests", "list", "line", "cause", "by", "at", "ends", "recorded", "met", "outcome", "robots", "first", "last", "referrers", "likeliest"}
)

// A csvReader reads rows, and counts the lines that they take.
type csvReader struct {
	in     *bufio.Reader
	comma  byte
	counts Counts
	number int      // of the last line that was taken
	next   []string // lines that were read, and are to be taken again
	long   bool     // behind those a line stands that is too long
	ended  error    // of in
	below  bool     // it does not begin at the start of the list
}

// line takes a line without its end. The error is io.EOF behind the last one, and
// errLong for one that is too long.
func (r *csvReader) line() (string, error) {
	if len(r.next) > 0 {
		line := r.next[0]
		r.next = r.next[1:]
		r.number++
		return line, nil
	}
	if r.long {
		r.long = false
		r.number++
		return "", errLong
	}
	if r.ended != nil {
		return "", r.ended
	}
	line, tooLong, err := readLine(r.in)
	if err != nil {
		r.ended = err
	}
	if line == "" && !tooLong && err != nil {
		return "", err
	}
	r.number++
	if tooLong {
		return "", errLong
	}
	if r.number == 1 && !r.below {
		line = strings.TrimPrefix(line, "\ufeff")
	}
	return strings.TrimSuffix(strings.TrimSuffix(line, "\n"), "\r"), nil
}

// again puts lines back that are to be taken once more.
func (r *csvReader) again(lines ...string) {
	r.next = append(slices.Clip(lines), r.next...)
	r.number -= len(lines)
}

var (
	errLong  = fmt.Errorf("the line is longer than %d MiB", MaxLine>>20)
	errQuote = errors.New("a quote that opens in this line is never closed: the line is left out, and the next one is read by itself")
)

// row takes a row, and says how many lines it has, which it counts. Of a row that cannot
// be read only its first line is taken: what follows may be rows by themselves. The
// error is io.EOF where there are no more, or, with no line, that of reading.
func (r *csvReader) row() (fields []string, lines int, err error) {
	first, err := r.line()
	if err == errLong {
		r.counts.Lines++
		return nil, 1, err
	}
	if err != nil {
		return nil, 0, err
	}
	r.counts.Lines++
	if strings.IndexByte(first, '"') < 0 {
		return strings.Split(first, string(r.comma)), 1, nil
	}
	more, size := []string(nil), len(first)
	for odd := strings.Count(first, `"`)%2 == 1; odd; {
		line, err := r.line()
		if err == nil {
			more = append(more, line)
			size += len(line) + 1
			odd = odd != (strings.Count(line, `"`)%2 == 1)
		}
		if err != nil || size > MaxLine {
			if r.again(more...); err == errLong {
				r.long, r.number = true, r.number-1
			}
			return nil, 1, errQuote
		}
	}
	one := csv.NewReader(strings.NewReader(strings.Join(append([]string{first}, more...), "\n")))
	one.Comma, one.FieldsPerRecord = rune(r.comma), -1
	fields, err = one.Read()
	if err != nil {
		r.again(more...)
		if bad, ok := errors.AsType[*csv.ParseError](err); ok {
			err = bad.Err
		}
		return nil, 1, err
	}
	r.counts.Lines += len(more)
	return fields, 1 + len(more), nil
}

// undecided stands in the place of a status in a table of moves where nobody has said yet
// what becomes of an address (rulebook.Undecided).
const undecided = "?"

// moveOf makes a request of a row of a table of moves, and expects what it says.
func moveOf(t *texts, base request.Address) (*Item, error) {
	address, err := request.Parse(t.old, base)
	if err != nil {
		return nil, err
	}
	x := &request.Expectation{Status: cmp.Or(strings.TrimSpace(t.status), "3xx"), Location: strings.TrimSpace(t.new)}
	switch {
	case !request.IsStatus(x.Status):
		return nil, fmt.Errorf("the status %q is none", x.Status)
	case x.Location == "" && x.Status[0] == '3':
		return nil, errors.New("neither a new address nor a status says what becomes of it")
	}
	return &Item{Request: &request.Request{Address: address}, Expects: x}, nil
}

// csvComma gives what parts the columns of a heading; 0 where none of them is
// called url, and they do not begin with old and new.
func csvComma(heading string) rune {
	for _, comma := range ",;\t" {
		old := false
		for i, name := range strings.Split(strings.TrimRight(heading, "\r"), string(comma)) {
			switch name = strings.ToLower(strings.Trim(name, `" `)); {
			case name == "url", old && i == 1 && name == "new":
				return comma
			}
			old = i == 0 && name == "old"
		}
	}
	return 0
}
