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
// status say what is expected. Its lines are rows. Semicolons and tabs part columns,
// too, as spreadsheets write them.
func readCSV(in *bufio.Reader, base request.Address, each func(*Item)) (Counts, error) {
	var c Counts
	if head, _ := in.Peek(3); bytes.Equal(head, []byte("\ufeff")) {
		in.Discard(3)
	}
	head, _ := in.Peek(detectSize)
	first, _, _ := bytes.Cut(head, []byte("\n"))
	rows := csv.NewReader(in)
	rows.Comma = cmp.Or(csvComma(string(first)), ',')
	rows.FieldsPerRecord = -1
	heading, err := rows.Read()
	if err != nil {
		return c, fmt.Errorf("the CSV has no heading: %w", err)
	}
	c.Lines, c.Comments = 1, 1
	for i, name := range heading {
		heading[i] = strings.TrimSpace(name)
		if kind, field, ok := strings.Cut(heading[i], "."); ok {
			heading[i] = strings.ToLower(kind) + "." + field
		} else {
			heading[i] = strings.ToLower(heading[i])
		}
		switch name := heading[i]; {
		case name == "url" || name == "method" || name == "client" || name == "time" || name == "body" || name == "status" || name == "location":
		case strings.HasPrefix(name, "header."):
		case i > 0 && heading[0] == "old" && name == "new", i == 0 && name == "old":
		default:
			return c, fmt.Errorf("the column %q is not known: there are url, method, client, time, body, status, location and header.NAME; or old, new and status", name)
		}
	}
	read := itemOf
	if heading[0] == "old" {
		read = moveOf
	}
	for {
		row, err := rows.Read()
		if err == io.EOF {
			return c, nil
		}
		c.Lines++
		if bad, ok := errors.AsType[*csv.ParseError](err); ok {
			c.skip(bad.Line, 1, "%v", bad.Err)
			continue
		}
		if err != nil {
			return c, err
		}
		line, _ := rows.FieldPos(0)
		if len(row) > len(heading) {
			c.skip(line, 1, "the row has %d fields, and the heading %d", len(row), len(heading))
			continue
		}
		var t texts
		for i, v := range row {
			if v != "" {
				t.tell(heading[i], v)
			}
		}
		item, err := read(&t, base)
		c.take(line, item, err, each)
	}
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
	if s := t.status; s != "" {
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

// JSONL reads a line of the JSON form, which is asked of base.
func JSONL(base request.Address) LineReader {
	return func(line []byte, _ *Line) (*Item, error) {
		var o struct {
			URL, Method, Client, Time, Location string
			Body, Status                        json.Number
			Headers                             map[string]string
		}
		if err := json.Unmarshal(line, &o); err != nil {
			return nil, errors.New(jsonProblem(line, err))
		}
		t := texts{url: o.URL, method: o.Method, client: o.Client, time: o.Time, location: o.Location, body: o.Body.String(), status: o.Status.String()}
		for _, name := range slices.Sorted(maps.Keys(o.Headers)) {
			t.headers = append(t.headers, request.Header{Name: name, Value: o.Headers[name]})
		}
		return itemOf(&t, base)
	}
}

// jsonProblem says in plain words why a line is no request.
func jsonProblem(line []byte, err error) string {
	if wrong, ok := errors.AsType[*json.UnmarshalTypeError](err); ok && wrong.Field != "" {
		want := "a text"
		switch wrong.Type {
		case reflect.TypeFor[json.Number]():
			want = "a number"
		case reflect.TypeFor[map[string]string]():
			want = "an object"
		}
		return fmt.Sprintf("its %q is of the kind %s, and should be %s", strings.ToLower(wrong.Field), wrong.Value, want)
	}
	if bytes.HasPrefix(bytes.TrimSpace(line), []byte("[")) {
		return "it is a JSON array: write one object a line, without brackets and commas around them"
	}
	return fmt.Sprintf("it is no JSON object of a request: %v", err)
}

// readHAR reads an HTTP Archive (1.2). Its lines are entries.
func readHAR(in *bufio.Reader, each func(*Item)) (Counts, error) {
	c := Counts{Of: "entry"}
	d := json.NewDecoder(in)
	for { // up to the entries
		t, err := d.Token()
		if err != nil {
			return c, fmt.Errorf("the HTTP archive holds no entries: %w", err)
		}
		if name, ok := t.(string); ok && name == "entries" {
			break
		}
	}
	if _, err := d.Token(); err != nil {
		return c, err
	}
	for d.More() {
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
		c.Lines++
		if err := d.Decode(&e); err != nil {
			c.skip(c.Lines, 1, "the entry cannot be read: %v", err)
			return c, nil
		}
		item := &Item{Request: &request.Request{Method: strings.ToUpper(e.Request.Method), Body: max(0, e.Request.BodySize)}, Line: c.Lines, Recorded: e.Response.Status, Location: e.Response.RedirectURL}
		var err error
		if item.Request.Address, err = request.Parse(e.Request.URL, request.Address{}); err != nil || !strings.Contains(e.Request.URL, "://") {
			c.skip(c.Lines, 1, "%q is no http address", e.Request.URL)
			continue
		}
		if t, err := time.Parse(time.RFC3339, e.Started); err == nil {
			item.Request.Time = t.UTC()
		}
		for _, h := range e.Request.Headers {
			if !strings.HasPrefix(h.Name, ":") && !strings.EqualFold(h.Name, "host") {
				item.Request.Headers = append(item.Request.Headers, request.Header{Name: h.Name, Value: h.Value})
			}
		}
		c.Requests++
		each(item)
	}
	return c, nil
}

const maxSitemaps = 1000

// readSitemap reads sitemaps.org XML: every address is expected to answer 200
// itself. Of an index the sitemaps beside it are read. Its lines are addresses.
func readSitemap(in *bufio.Reader, o Options, each func(*Item)) (Counts, error) {
	c := Counts{Of: "address"}
	maps, err := sitemap(in, o.Base, &c, each)
	for i := 0; i < len(maps) && err == nil; i++ {
		c.Comments++ // the line that names it
		name := maps[i]
		if u, err := url.Parse(name); err == nil {
			name = path.Base(u.Path)
		}
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
			_, err = sitemap(unpacked, o.Base, &c, each)
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
