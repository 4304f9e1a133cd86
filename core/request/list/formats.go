package list

// The other formats: CSV, JSON lines, HTTP Archive, W3C extended logs, sitemaps.

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/netip"
	"net/url"
	"path"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"kibitz/core/request"
)

// readCSV reads RFC 4180 with a heading: url, method, client, time, body,
// status, location, header.NAME. A table of moves can be read, too: old, new and
// status say what is expected. Semicolons and tabs part columns, too, as spreadsheets
// write them. What replay writes of each request is read again.
func readCSV(in *bufio.Reader, base request.Address, each func(*Item)) (Counts, error) {
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
			var t texts
			for i, v := range row {
				if v != "" {
					t.tell(heading[i], v)
				}
			}
			item, err := read(&t, base)
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
		case i > 0 && heading[0] == "old" && name == "new", i == 0 && name == "old":
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
	writtenColumns = []string{"list", "line", "cause", "by", "ends", "recorded", "met"}
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

// texts are what a list tells of a request, as it is written there.
type texts struct {
	url, method, client, time, body, status, location string
	old, new                                          string // of a table of moves
	headers                                           []request.Header
}

// tell takes what stands in a column.
func (t *texts) tell(column, value string) {
	switch column {
	case "url":
		t.url = value
	case "method":
		t.method = value
	case "client":
		t.client = value
	case "time":
		t.time = value
	case "body":
		t.body = value
	case "status":
		t.status = value
	case "location":
		t.location = value
	case "recorded": // stands behind the predicted status, and counts more
		t.status, t.location = value, ""
	case "list", "line", "cause", "by", "ends", "met": // of an answer
	case "old":
		t.old = value
	case "new":
		t.new = value
	default:
		t.headers = append(t.headers, request.Header{Name: strings.TrimPrefix(column, "header."), Value: value})
	}
}

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

// itemOf makes a request.
func itemOf(t *texts, base request.Address) (*Item, error) {
	item := &Item{Request: &request.Request{Method: strings.ToUpper(t.method), Headers: t.headers}, Location: t.location}
	var err error
	if t.url == "" {
		return nil, errors.New("the url is missing")
	}
	if item.Request.Address, err = request.Parse(t.url, base); err != nil {
		return nil, err
	}
	if s := t.client; s != "" {
		if item.Request.Client, err = netip.ParseAddr(s); err != nil {
			return nil, fmt.Errorf("%q is no address of a client", s)
		}
	}
	if s := t.time; s != "" {
		if item.Request.Time, err = time.Parse(time.RFC3339, s); err != nil {
			return nil, fmt.Errorf("%q is no time: write it like 2026-03-01T08:00:00Z", s)
		}
	}
	if s := t.body; s != "" {
		if item.Request.Body, err = strconv.ParseInt(s, 10, 64); err != nil || item.Request.Body < 0 {
			return nil, fmt.Errorf("the body %q is no number of bytes", s)
		}
	}
	if s := t.status; s != "" && s != request.StatusApp && s != request.StatusFiles {
		if item.Recorded, err = strconv.Atoi(s); err != nil || item.Recorded < 100 || item.Recorded > 599 {
			return nil, fmt.Errorf("the status %q is none", s)
		}
	}
	return item, nil
}

// readJSONL reads one JSON object a line.
func readJSONL(in *bufio.Reader, base request.Address, each func(*Item)) (Counts, error) {
	var c Counts
	parse := JSONL(base)
	err := eachLine(in, &c, func(number int, line []byte) {
		if len(bytes.TrimSpace(line)) == 0 {
			c.Comments++
			return
		}
		item, err := parse(line, nil)
		c.take(number, item, err, each)
	})
	return c, err
}

// JSONL reads a line of the JSON form, which is asked of base. What replay and verify
// write of each request is read again: there the header is that of the answer, and the
// request's stands apart.
func JSONL(base request.Address) LineReader {
	return func(line []byte, _ *Line) (*Item, error) {
		var o struct {
			URL, Method, Client, Time, Location string
			Body                                json.Number
			Status                              statusText
			Headers                             fieldLines
		}
		if err := json.Unmarshal(line, &o); err != nil {
			return nil, errors.New(jsonProblem(line, err))
		}
		t := texts{url: o.URL, method: o.Method, client: o.Client, time: o.Time, location: o.Location, body: o.Body.String(), status: string(o.Status), headers: o.Headers}
		if bytes.Contains(line, []byte(`"cause"`)) || bytes.Contains(line, []byte(`"got"`)) {
			t.written(line)
		}
		return itemOf(&t, base)
	}
}

// written looks whether a line is one that replay or verify has written, and takes from
// it what it tells of the request, and the status that a server gave.
func (t *texts) written(line []byte) {
	var o struct {
		Cause         string
		Got, Recorded int
		Request       struct{ Headers fieldLines }
	}
	if json.Unmarshal(line, &o) != nil || o.Cause == "" && o.Got == 0 {
		return
	}
	t.headers = o.Request.Headers
	if n := max(o.Got, o.Recorded); n > 0 {
		t.status, t.location = strconv.Itoa(n), ""
	}
}

// fieldLines are header fields of a JSON object: texts, or lists of texts for fields that
// stand several times. They are sorted by name.
type fieldLines []request.Header

func (f *fieldLines) UnmarshalJSON(b []byte) error {
	var all map[string]json.RawMessage
	if err := json.Unmarshal(b, &all); err != nil {
		return &json.UnmarshalTypeError{Value: jsonKind(b), Type: reflect.TypeFor[fieldLines]()}
	}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		var values []string
		if err := json.Unmarshal(all[name], &values); err != nil {
			var one string
			if err := json.Unmarshal(all[name], &one); err != nil {
				return &json.UnmarshalTypeError{Value: jsonKind(all[name]), Type: reflect.TypeFor[string](), Field: name}
			}
			values = []string{one}
		}
		for _, v := range values {
			*f = append(*f, request.Header{Name: name, Value: v})
		}
	}
	return nil
}

// statusText is a status in JSON: a number, a number in quotes, or a word.
type statusText string

func (s *statusText) UnmarshalJSON(b []byte) error {
	var text string
	var number json.Number
	switch {
	case json.Unmarshal(b, &text) == nil:
		*s = statusText(text)
	case json.Unmarshal(b, &number) == nil:
		*s = statusText(number)
	default:
		return &json.UnmarshalTypeError{Value: jsonKind(b), Type: reflect.TypeFor[statusText]()}
	}
	return nil
}

// jsonKind names the kind of a JSON value.
func jsonKind(b []byte) string {
	switch bytes.TrimSpace(b)[0] {
	case '{':
		return "object"
	case '[':
		return "array"
	case '"':
		return "string"
	case 't', 'f':
		return "bool"
	}
	return "number"
}

// jsonProblem says in plain words why a line is no request.
func jsonProblem(line []byte, err error) string {
	if wrong, ok := errors.AsType[*json.UnmarshalTypeError](err); ok && wrong.Field != "" {
		want := "a text"
		switch wrong.Type {
		case reflect.TypeFor[json.Number](), reflect.TypeFor[statusText]():
			want = "a number"
		case reflect.TypeFor[fieldLines]():
			want = "an object"
		}
		return fmt.Sprintf("its %q is of the kind %s, and should be %s", strings.ToLower(wrong.Field), wrong.Value, want)
	}
	if bytes.HasPrefix(bytes.TrimSpace(line), []byte("[")) {
		return "it is a JSON array: write one object a line, without brackets and commas around them"
	}
	return fmt.Sprintf("it is no JSON object of a request: %v", err)
}

// readHAR reads an HTTP Archive (1.2), whose lines are its entries.
func readHAR(in *bufio.Reader, each func(*Item)) (Counts, error) {
	c := Counts{Of: "entry"}
	err := jsonList(in, &c, [][]string{{"log", "entries"}, {"entries"}}, "the HTTP archive holds no entries", func(entry []byte) (*Item, error) { return harItem(entry) }, each)
	return c, err
}

// readResults reads what verify writes as JSON, whose lines are its results.
func readResults(in *bufio.Reader, base request.Address, each func(*Item)) (Counts, error) {
	c := Counts{Of: "result"}
	parse := JSONL(base)
	err := jsonList(in, &c, [][]string{{"results"}}, "there are no results in it", func(one []byte) (*Item, error) { return parse(one, nil) }, each)
	return c, err
}

// jsonList reads the elements of the list in a JSON document that lies at one of some
// paths of names. What is no request is skipped, and the next is read.
func jsonList(in *bufio.Reader, c *Counts, paths [][]string, none string, parse func([]byte) (*Item, error), each func(*Item)) error {
	if head, _ := in.Peek(3); bytes.Equal(head, []byte("\ufeff")) {
		in.Discard(3)
	}
	d := json.NewDecoder(in)
	if ok, err := descend(d, paths); err != nil {
		return fmt.Errorf("%s: %w", none, err)
	} else if !ok {
		return errors.New(none)
	}
	for d.More() {
		c.Lines++
		var one json.RawMessage
		if err := d.Decode(&one); err != nil {
			c.skip(c.Lines, 1, "it cannot be read any further: %v", err)
			return &Damaged{Err: err}
		}
		item, err := parse(one)
		c.take(c.Lines, item, err, each)
	}
	if _, err := d.Token(); err != nil {
		return &Damaged{Err: err}
	}
	return nil
}

// descend reads a document up to the first element of the list at one of some paths.
func descend(d *json.Decoder, paths [][]string) (found bool, err error) {
	t, err := d.Token()
	if err != nil {
		return false, err
	}
	if slices.ContainsFunc(paths, func(p []string) bool { return len(p) == 0 }) && t == json.Delim('[') {
		return true, nil
	}
	if t != json.Delim('{') {
		return false, skipRest(d, t)
	}
	for d.More() {
		name, err := d.Token()
		if err != nil {
			return false, err
		}
		var below [][]string
		for _, p := range paths {
			if len(p) > 0 && p[0] == name {
				below = append(below, p[1:])
			}
		}
		if len(below) == 0 {
			var other json.RawMessage
			err = d.Decode(&other)
		} else {
			found, err = descend(d, below)
		}
		if found || err != nil {
			return found, err
		}
	}
	_, err = d.Token()
	return false, err
}

// skipRest reads what is left of a value that begins with a token.
func skipRest(d *json.Decoder, t json.Token) error {
	if _, opens := t.(json.Delim); !opens {
		return nil
	}
	for d.More() {
		var other json.RawMessage
		if err := d.Decode(&other); err != nil {
			return err
		}
	}
	_, err := d.Token()
	return err
}

// harItem reads one entry.
func harItem(entry []byte) (*Item, error) {
	var e struct {
		Started string `json:"startedDateTime"`
		Request struct {
			Method, URL string
			Headers     []struct{ Name, Value string }
			BodySize    int64
		}
		Response struct {
			Status      int
			RedirectURL string
		}
	}
	if err := json.Unmarshal(entry, &e); err != nil {
		return nil, fmt.Errorf("the entry cannot be read: %w", err)
	}
	item := &Item{Request: &request.Request{Method: strings.ToUpper(e.Request.Method), Body: max(0, e.Request.BodySize)}, Recorded: e.Response.Status, Location: e.Response.RedirectURL}
	var err error
	if item.Request.Address, err = request.Parse(e.Request.URL, request.Address{}); err != nil || !strings.Contains(e.Request.URL, "://") {
		return nil, fmt.Errorf("%q is no http address", e.Request.URL)
	}
	if t, err := time.Parse(time.RFC3339, e.Started); err == nil {
		item.Request.Time = t.UTC()
	}
	for _, h := range e.Request.Headers {
		if !strings.HasPrefix(h.Name, ":") && !strings.EqualFold(h.Name, "host") {
			item.Request.Headers = append(item.Request.Headers, request.Header{Name: h.Name, Value: h.Value})
		}
	}
	return item, nil
}

const maxSitemaps = 1000

// readSitemap reads sitemaps.org XML: every address is expected to answer 200
// itself. Of an index the sitemaps beside it are read. Its lines are addresses.
func readSitemap(in *bufio.Reader, o Options, each func(*Item)) (Counts, error) {
	c := Counts{Of: "address"}
	maps, err := sitemap(in, o.Base, &c, each)
	seen := map[string]bool{}
	for i := 0; i < len(maps) && err == nil; i++ {
		c.Comments++ // the line that names it
		name := maps[i]
		if u, err := url.Parse(name); err == nil {
			name = path.Base(u.Path)
		}
		if seen[name] {
			continue
		}
		seen[name] = true
		if o.Open == nil || i >= maxSitemaps {
			c.Comments--
			c.skip(c.Lines, 1, "the sitemap %s is not read", name)
			continue
		}
		other, err := o.Open(name)
		if err != nil {
			c.Comments--
			c.skip(c.Lines, 1, "the sitemap %s cannot be read beside its index: %v", name, err)
			continue
		}
		unpacked, err := Unpack(other)
		if err == nil {
			var more []string
			more, err = sitemap(unpacked, o.Base, &c, each)
			maps = append(maps, more...)
		}
		other.Close()
		if err != nil {
			return c, err
		}
	}
	return c, err
}

// sitemap reads one file, and gives the sitemaps that it names.
func sitemap(in io.Reader, base request.Address, c *Counts, each func(*Item)) (maps []string, err error) {
	d := xml.NewDecoder(in)
	inIndex := false
	for {
		t, err := d.Token()
		if err == io.EOF {
			return maps, nil
		}
		if err != nil {
			line, _ := d.InputPos()
			c.Lines++
			c.skip(line, 1, "the XML cannot be read any further: %v", err)
			return maps, nil
		}
		start, ok := t.(xml.StartElement)
		if !ok {
			continue
		}
		switch start.Name.Local {
		case "sitemapindex":
			inIndex = true
		case "loc":
			line, _ := d.InputPos()
			var loc string
			if err := d.DecodeElement(&loc, &start); err != nil {
				continue // the next token tells
			}
			loc = strings.TrimSpace(loc)
			c.Lines++
			if inIndex {
				maps = append(maps, loc)
				continue
			}
			item := &Item{Request: &request.Request{}, Line: line, Expects: &request.Expectation{Status: "200"}}
			item.Request.Address, err = request.Parse(loc, base)
			c.take(line, item, err, each)
		}
	}
}
