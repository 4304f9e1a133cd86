package rulebook

// Tables of redirects: many thousand rows, read in one go.

import (
	"bytes"
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

const maxRowErrors = 20

// readTable reads the rows of a table. def is the status of rows that name
// none, 0 if each must. The errors name the line.
func readTable(name string, text []byte, def int, fold bool, base request.Address, keep bool) (*Table, []error) {
	t := &Table{Name: name}
	text = bytes.TrimPrefix(text, []byte("\ufeff"))
	rows := csv.NewReader(bytes.NewReader(text))
	rows.Comma = commaOf(text)
	rows.FieldsPerRecord = -1
	rows.ReuseRecord = true
	var problems []error
	more := 0
	problem := func(line int, format string, args ...any) {
		if len(problems) == maxRowErrors {
			more++
			return
		}
		problems = append(problems, fmt.Errorf("line %d: %s", line, fmt.Sprintf(format, args...)))
	}
	size := bytes.Count(text, []byte("\n")) + 1
	seen := make(map[string]int32, size)
	t.Rows = make([]Row, 0, size)
	for first := true; ; first = false {
		row, err := rows.Read()
		if err == io.EOF {
			break
		}
		if bad, ok := errors.AsType[*csv.ParseError](err); ok {
			problem(bad.Line, "%v", bad.Err)
			continue
		}
		line, _ := rows.FieldPos(0)
		if first && len(row) >= 2 && strings.EqualFold(row[0], "old") && strings.EqualFold(row[1], "new") {
			continue
		}
		r, err := readRow(row, def, fold, base, keep)
		if err != nil {
			problem(line, "%v", err)
			continue
		}
		r.Line = int32(line)
		k := r.Path
		if r.Origin != "" {
			k = r.Origin + k
		}
		if r.HasQuery {
			k += "?" + r.Query
		}
		if old, ok := seen[k]; ok {
			problem(line, "%s is on line %d already", row[0], old)
			continue
		}
		seen[k] = int32(line)
		t.Rows = append(t.Rows, r)
	}
	if more > 0 {
		problems = append(problems, fmt.Errorf("and %d more lines", more))
	}
	return t, problems
}

// commaOf gives what parts the columns of a table: a comma, or where its first row
// has none, what spreadsheets write in its place.
func commaOf(text []byte) rune {
	first, _, _ := bytes.Cut(text, []byte("\n"))
	for _, comma := range []byte(",\t;") {
		if bytes.IndexByte(first, comma) >= 0 {
			return rune(comma)
		}
	}
	return ','
}

func readRow(row []string, def int, fold bool, base request.Address, keep bool) (Row, error) {
	if len(row) < 2 || len(row) > 3 {
		return Row{}, fmt.Errorf("a row has two or three fields (old, new, status), not %d", len(row))
	}
	r := Row{Status: int16(def), New: strings.TrimSpace(row[1])}
	if len(row) == 3 && row[2] != "" {
		n, err := strconv.Atoi(strings.TrimSpace(row[2]))
		if err != nil || !slices.Contains([]int{301, 302, 303, 307, 308, 404, 410}, n) {
			return r, fmt.Errorf("the status %q is not one of 301 302 303 307 308 404 410", row[2])
		}
		r.Status = int16(n)
	}
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
	a, err := request.Parse(old, base)
	if err != nil {
		return r, err
	}
	if a.Fragment != "" {
		return r, errors.New("a fragment (#…) never reaches the server: leave it out of the old address")
	}
	if !strings.HasPrefix(old, "/") {
		r.Origin = a.Origin()
	}
	if r.Path, err = canonical.Path(a.Path, keep); err != nil {
		return r, err
	}
	r.Query, r.HasQuery = a.Query, a.HasQuery && a.Query != ""
	if gone {
		return r, nil
	}
	if err := checkNew(r.New); err != nil {
		return r, err
	}
	if r.selfPointing(a, base, keep, fold) {
		return r, fmt.Errorf("%s points at itself", old)
	}
	if fold {
		r.Path = canonical.Fold(r.Path)
	}
	return r, nil
}

// checkNew holds a new address to the rules of `to`, without values.
func checkNew(s string) error {
	switch {
	case strings.HasPrefix(s, "//"):
		return fmt.Errorf("the new address begins with one slash or with a scheme: write https:%s", s)
	case strings.HasPrefix(s, "/"):
		return nil
	case strings.Contains(s, "://"):
		var a request.Address
		_, err := request.Parse(s, a)
		return err
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
