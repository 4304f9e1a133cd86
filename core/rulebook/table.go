package rulebook

// Tables of redirects: many thousand rows, read in one go.

import (
	"cmp"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/request"
)

// A Table is what a `moves` entry reads.
type Table struct {
	Name string
	Rows []Row

	Undecided      int    // rows that are passed over
	FirstUndecided int    // the line of the first of them
	FirstOld       string // and its old address, as written
}

// A Row is one old address and what became of it.
type Row struct {
	Path     string // canonical (folded where case does not count)
	Query    string
	Origin   string // scheme, host and port of a full URL; "" for any
	New      string // as written; "" for 404 and 410
	HasQuery bool   // the row takes just this raw query
	Status   int16
	Line     int32
}

// Undecided stands in the place of a row's status where nobody has said yet what becomes of
// it: the row is passed over.
const Undecided = "?"

// maxRowErrors is how many rows are told of one by one that cannot be read.
const maxRowErrors = 10

// readTable reads the rows of a table. The errors name the line.
func readTable(name string, text []byte, r rowReader) (*Table, []error) {
	all := r.read(strings.TrimPrefix(string(text), "\ufeff"))
	seen := NewRowIndex(len(all.rows))
	row := func(n int32) *Row { return &all.rows[n] }
	for i := range all.rows {
		if same := seen.Add(int32(i), row); same >= 0 {
			all.problem(all.rows[i].Line, "%s is on line %d already", all.rows[i].address(), all.rows[same].Line)
		}
	}
	slices.SortStableFunc(all.problems, func(a, b rowProblem) int { return cmp.Compare(a.line, b.line) })
	var errs []error
	for _, p := range all.problems[:min(len(all.problems), maxRowErrors)] {
		errs = append(errs, fmt.Errorf("line %d: %s", p.line, p.text))
	}
	if more := all.more + len(all.problems) - len(errs); more > 0 {
		errs = append(errs, fmt.Errorf("and %d more rows cannot be read", more))
	}
	return &Table{Name: name, Rows: all.rows, Undecided: all.undecided, FirstUndecided: int(all.firstUndecided), FirstOld: all.firstOld}, errs
}

// A rowReader reads the rows of a table.
type rowReader struct {
	def   int // the status of rows that name none; 0 if each must
	fold  bool
	base  request.Address
	keep  bool
	query Query // as the entry says it
	more  bool  // the heading has further columns
}

// someRows are those of a table or a part of it, and what is wrong with others.
type someRows struct {
	rows     []Row
	problems []rowProblem // the first of them
	more     int

	undecided      int
	firstUndecided int32 // its line
	firstOld       string
}

type rowProblem struct {
	line int32
	text string
}

func (s *someRows) problem(line int32, format string, args ...any) {
	if len(s.problems) == maxRowErrors {
		s.more++
		return
	}
	s.problems = append(s.problems, rowProblem{line, fmt.Sprintf(format, args...)})
}

// add adds the row of a line.
func (s *someRows) add(r *rowReader, line int32, fields []string) {
	if r.more && len(fields) > 3 { // further columns tell people something
		fields = fields[:3]
	}
	if len(fields) == 3 && strings.TrimSpace(fields[2]) == Undecided {
		if s.undecided++; s.firstUndecided == 0 {
			s.firstUndecided, s.firstOld = line, strings.Clone(strings.TrimSpace(fields[0]))
		}
		return
	}
	row, err := r.row(fields)
	if err != nil {
		s.problem(line, "%v", err)
		return
	}
	row.Line = line
	s.rows = append(s.rows, row)
}

// read reads a table's rows.
func (r *rowReader) read(text string) *someRows {
	comma := commaOf(text)
	if strings.IndexByte(text, '"') >= 0 {
		return r.quoted(text, comma)
	}
	return r.lines(text, comma)
}

// heading reports whether the fields of the first line are no row.
func heading(fields []string) bool {
	return len(fields) >= 2 && strings.EqualFold(fields[0], "old") && strings.EqualFold(fields[1], "new")
}

// quoted reads rows of which some have quotes.
func (r *rowReader) quoted(text string, comma byte) *someRows {
	all := &someRows{}
	rows := csv.NewReader(strings.NewReader(text))
	rows.Comma, rows.FieldsPerRecord, rows.ReuseRecord = rune(comma), -1, true
	for first := true; ; first = false {
		fields, err := rows.Read()
		if err == io.EOF {
			return all
		}
		if bad, ok := errors.AsType[*csv.ParseError](err); ok {
			all.problem(int32(bad.Line), "%v", bad.Err)
			continue
		}
		if line, _ := rows.FieldPos(0); !first || !heading(fields) {
			all.add(r, int32(line), fields)
		} else {
			r.more = len(fields) > 3
		}
	}
}

// lines reads rows without quotes, each of which is a line, several parts of the table
// at once.
func (r *rowReader) lines(text string, comma byte) *someRows {
	const partSize = 1 << 16
	type part struct {
		text   string
		before int32 // lines
		someRows
	}
	number := int32(0)
	first, rest, _ := strings.Cut(text, "\n")
	if fields := strings.Split(strings.TrimSuffix(first, "\r"), string(comma)); heading(fields) {
		text, number, r.more = rest, 1, len(fields) > 3
	}
	rows := make([]Row, 0, strings.Count(text, "\n")+1)
	var parts []part
	for text != "" {
		end := len(text)
		if end > partSize {
			if i := strings.IndexByte(text[partSize:], '\n'); i >= 0 {
				end = partSize + i + 1
			}
		}
		lines := strings.Count(text[:end], "\n")
		if end == len(text) {
			lines++
		}
		from := len(rows)
		rows = rows[:from+lines]
		parts = append(parts, part{text: text[:end], before: number, someRows: someRows{rows: rows[from:from:len(rows)]}})
		text, number = text[end:], number+int32(lines)
	}
	inParts(len(parts), func(i int) {
		p := &parts[i]
		var fields []string
		for line, rest := p.before+1, p.text; rest != ""; line++ {
			row, after, _ := strings.Cut(rest, "\n")
			if rest = after; row == "" || row == "\r" {
				continue
			}
			fields = cut(fields[:0], strings.TrimSuffix(row, "\r"), comma)
			p.add(r, line, fields)
		}
	})
	all := &someRows{rows: rows[:0]}
	for i := range parts {
		all.rows = append(all.rows, parts[i].rows...) // to where they are, but behind lines that are no rows
		all.problems = append(all.problems, parts[i].problems...)
		all.more += parts[i].more
		all.undecided += parts[i].undecided
		if all.firstUndecided == 0 {
			all.firstUndecided, all.firstOld = parts[i].firstUndecided, parts[i].firstOld
		}
	}
	return all
}

// cut adds the fields of a line to others.
func cut(fields []string, line string, comma byte) []string {
	for {
		i := strings.IndexByte(line, comma)
		if i < 0 {
			return append(fields, line)
		}
		fields, line = append(fields, line[:i]), line[i+1:]
	}
}

// commaOf gives what parts the columns of a table: a comma, or where its first row
// has none, what spreadsheets write in its place.
func commaOf(text string) byte {
	first, _, _ := strings.Cut(text, "\n")
	for _, comma := range []byte(",\t;") {
		if strings.IndexByte(first, comma) >= 0 {
			return comma
		}
	}
	return ','
}

// row reads one row.
func (t *rowReader) row(row []string) (Row, error) {
	if len(row) < 2 || len(row) > 3 {
		return Row{}, fmt.Errorf("a row has two or three fields (old, new, status), not %d", len(row))
	}
	r := Row{Status: int16(t.def), New: strings.TrimSpace(row[1])}
	if len(row) == 3 && row[2] != "" {
		n, err := strconv.Atoi(strings.TrimSpace(row[2]))
		if err != nil || !slices.Contains([]int{301, 302, 303, 307, 308, 404, 410}, n) {
			return r, fmt.Errorf("the status %q is not one of 301 302 303 307 308 404 410", row[2])
		}
		r.Status = int16(n)
	}
	var err error
	gone := r.Status == 404 || r.Status == 410
	switch {
	case r.Status == 0:
		return r, errors.New("the row has no status: write one in its third column, or `as permanent` in the entry")
	case gone && r.New != "":
		return r, fmt.Errorf("a row with status %d has no new address", r.Status)
	case !gone && r.New == "":
		return r, errors.New("the new address is missing: write it, or the status 410 for what is gone")
	}
	old := strings.TrimSpace(row[0])
	a := t.base
	if canonical.Is(old, t.keep) && !strings.HasPrefix(old, "//") { // as nearly always
		a.Path, a.Query, a.HasQuery = old, "", false
	} else if a, err = request.Parse(old, t.base); err != nil {
		return r, err
	}
	if a.Fragment != "" {
		return r, errors.New("a fragment (#…) never reaches the server: leave it out of the old address")
	}
	if !strings.HasPrefix(old, "/") {
		r.Origin = a.Origin()
	}
	if r.Path, err = canonical.Path(a.Path, t.keep); err != nil {
		return r, err
	}
	r.Query, r.HasQuery = a.Query, a.HasQuery && a.Query != ""
	if !gone {
		if err := t.checkNew(r.New); err != nil {
			return r, err
		}
		if r.selfPointing(a, t.base, t.keep, t.fold) {
			return r, fmt.Errorf("%s points at itself", old)
		}
	}
	if t.fold {
		r.Path = canonical.Fold(r.Path)
	}
	return r, nil
}

// address is what the row takes, as text.
func (r *Row) address() string {
	address := r.Origin + r.Path
	if r.HasQuery {
		address += "?" + r.Query
	}
	return address
}

// checkNew holds a new address to the rules of `to`, without values.
func (t *rowReader) checkNew(s string) error {
	if strings.IndexByte(s, '?') >= 0 {
		_, query, _ := strings.Cut(s, "?")
		query, _, _ = strings.Cut(query, "#")
		if problem := t.query.beside(query); problem != "" {
			return errors.New(strings.ReplaceAll(problem, "`to`", "the new address"))
		}
	}
	switch {
	case strings.HasPrefix(s, "//"):
		return fmt.Errorf("the new address begins with one slash or with a scheme: write https:%s", s)
	case strings.HasPrefix(s, "/"):
		return nil
	case strings.Contains(s, "://"):
		var a request.Address
		if a, err := request.Parse(s, a); err != nil {
			return err
		} else if authority, _, _ := strings.Cut(s[strings.Index(s, "://")+3:], "/"); strings.Contains(authority, "@") {
			return fmt.Errorf("a name and password have no place in an address: write %s", a.Origin())
		}
		return nil
	}
	return fmt.Errorf("the new address begins with a slash or with https://: write /%s", s)
}

// selfPointing reports whether the new address is one that the row takes.
func (r *Row) selfPointing(old, base request.Address, keep, fold bool) bool {
	if r.Origin == "" && !fold && strings.HasPrefix(r.New, "/") {
		if path, _, _ := strings.Cut(r.New, "?"); path != r.Path && canonical.Is(path, keep) {
			return false // as nearly always
		}
	}
	to, err := old.Resolve(r.New)
	if err != nil {
		return false
	}
	if r.Origin != "" && to.Origin() != r.Origin || r.Origin == "" && to.Host != base.Host {
		return false
	}
	path, err := canonical.Path(to.Path, keep)
	if err != nil {
		return false
	}
	same := path == r.Path || fold && canonical.Fold(path) == canonical.Fold(r.Path)
	return same && (!r.HasQuery || to.Query == r.Query)
}
