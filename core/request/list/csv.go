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
	"slices"
	"strings"

	"kibitz/core/request"
)

const FormatCSV Format = "csv"

func init() {
	register(form{name: FormatCSV, rank: rankTable, read: readCSV, detect: func(head []byte) bool {
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
	first, err := r.line()
	if err != nil {
		return r.counts, fmt.Errorf("the CSV has no heading: %w", err)
	}
	r.comma = byte(cmp.Or(csvComma(first), ','))
	r.again(first)
	heading, lines, problem := r.row()
	if problem != nil {
		return r.counts, fmt.Errorf("the heading of the CSV cannot be read: %w", problem)
	}
	r.counts.Comments += lines
	if err := csvHeading(heading); err != nil {
		return r.counts, err
	}
	read := itemOf
	if heading[0] == "old" {
		read = moveOf
		if len(heading) == 2 { // as in a table, where a status may follow
			heading = append(heading, "status")
		}
	}
	for {
		number := r.number + 1
		row, lines, problem := r.row()
		switch {
		case problem == io.EOF:
			return r.counts, nil
		case problem != nil && lines == 0:
			return r.counts, problem
		case problem != nil:
			r.counts.skip(number, lines, "%v", problem)
		case len(row) == 1 && row[0] == "":
			r.counts.Comments += lines
		case len(row) > len(heading):
			r.counts.skip(number, lines, "the row has %d fields, and the heading %d", len(row), len(heading))
		default:
			if heading[0] == "old" { // further columns tell people something
				row = row[:min(len(row), 3)]
				if len(row) == 3 && strings.TrimSpace(row[2]) == undecided {
					r.counts.Comments += lines
					continue
				}
			}
			var t texts
			for i, v := range row {
				if v != "" {
					t.tell(heading[i], v)
				}
			}
			item, err := read(&t, o.Base)
			if err == nil {
				r.counts.Details += lines - 1
			} else {
				r.counts.Skipped += lines - 1
			}
			r.counts.take(number, item, err, each)
		}
	}
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
	writtenColumns = []string{"requests", "list", "line", "cause", "by", "ends", "recorded", "met"}
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
	if r.number == 1 {
		line = strings.TrimPrefix(line, "\ufeff")
	}
	return strings.TrimSuffix(strings.TrimSuffix(line, "\n"), "\r"), nil
}

// again puts lines back that are to be taken once more.
func (r *csvReader) again(lines ...string) {
	r.next = append(slices.Clip(lines), r.next...)
	r.number -= len(lines)
}

var errLong = fmt.Errorf("the line is longer than %d MiB", MaxLine>>20)

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
	opens := r.number
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
			return nil, 1, fmt.Errorf("the quote that opens in line %d is never closed: this line is left out, and the next one is read by itself", opens)
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
