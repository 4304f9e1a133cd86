package list

// The W3C extended log file format, with whatever #Fields.

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"math/bits"
	"net/netip"
	"slices"
	"strings"
	"time"

	"kibitz/core/request"
)

const FormatW3C Format = "w3c"

func init() {
	register(form{name: FormatW3C, rank: rankHeading, read: readW3C, lines: true, layout: func(o Options) *Layout { return newW3C(nil, o.Base, o.Matters).layout() }, detect: func(head []byte) bool {
		return slices.ContainsFunc([]string{"#Version:", "#Software:", "#Fields:", "#Date:", "#Start-Date:"}, func(s string) bool { return bytes.HasPrefix(head, []byte(s)) })
	}})
}

// readW3C reads a log line by line.
func readW3C(in *bufio.Reader, o Options, each func(*Item)) (Counts, error) {
	var c Counts
	w := w3cReader{base: o.Base}
	err := eachLine(in, &c, func(number int, line []byte) {
		if Comment(line) {
			c.Comments++
			if fields, ok := w3cFields(line); ok {
				w.fields = fields
			}
			return
		}
		item, err := w.item(strings.Trim(string(line), " \t"))
		c.take(number, item, err, each)
	})
	return c, err
}

// w3cFields gives the fields that a line names for those below it, if it does.
func w3cFields(line []byte) (fields []string, ok bool) {
	rest, ok := strings.CutPrefix(strings.TrimSpace(string(line)), "#Fields:")
	return strings.Fields(rest), ok
}

// A w3cReader reads lines that have the same fields.
type w3cReader struct {
	base    request.Address
	matters func(name string) bool
	fields  []string
	columns []column // of the fields; nil where each line must be read with care
}

// layout is for lines with the fields of the reader, up to where others are named.
func (w *w3cReader) layout() *Layout {
	l := &Layout{Read: func(line, _ []byte, l *Line) (*Item, error) { return w.read(line, l) }, Comment: Comment}
	l.next = func(text []byte) (int, *Layout) {
		for from := 0; ; {
			i := bytes.Index(text[from:], []byte("#Fields:"))
			if i < 0 {
				return -1, nil
			}
			i += from
			from = i + 1
			start := bytes.LastIndexByte(text[:i], '\n') + 1
			line, _, _ := bytes.Cut(text[i:], []byte("\n"))
			fields, _ := w3cFields(line)
			if len(bytes.Trim(text[start:i], " \t\ufeff")) == 0 && (w.fields == nil || !slices.Equal(fields, w.fields)) {
				return start, newW3C(fields, w.base, w.matters).layout()
			}
		}
	}
	return l
}

// A column is what a field tells.
type column uint8

const (
	columnDate column = iota
	columnClock
	columnMethod
	columnURI
	columnStem
	columnQuery
	columnHost
	columnStatus
	columnClient
	columnAgent
	columnReferrer
	columns
	columnOther = columns // tells nothing
)

// newW3C makes a reader of lines with these fields; nil for none. matters says whether a
// header field that is neither agent nor referrer can change an answer.
func newW3C(fields []string, base request.Address, matters func(name string) bool) *w3cReader {
	w := &w3cReader{base: base, matters: matters, fields: fields}
	var of []column
	known := map[string]column{"date": columnDate, "time": columnClock, "cs-method": columnMethod, "cs-uri": columnURI, "cs-uri-stem": columnStem,
		"cs-uri-query": columnQuery, "cs-host": columnHost, "cs(host)": columnHost, "sc-status": columnStatus, "c-ip": columnClient}
	for _, name := range fields {
		name = strings.ToLower(name)
		c, ok := known[name]
		if !ok {
			c = columnOther
		}
		if header, ok := strings.CutPrefix(name, "cs("); ok && c != columnHost {
			switch header = strings.TrimSuffix(header, ")"); {
			case header == "user-agent":
				c = columnAgent
			case header == "referer":
				c = columnReferrer
			case header == "host" || matters == nil || matters(header):
				return w
			}
		}
		if c != columnOther && slices.Contains(of, c) {
			return w
		}
		of = append(of, c)
	}
	if slices.Contains(of, columnURI) && (slices.Contains(of, columnStem) || slices.Contains(of, columnQuery)) {
		return w
	}
	if len(of) <= maxColumns {
		w.columns = of
	}
	return w
}

func (w *w3cReader) read(line []byte, l *Line) (*Item, error) {
	if w.quick(line, l) {
		return nil, nil
	}
	return w.item(strings.Trim(string(line), " \t"))
}

// maxColumns is how many fields a line may have that is read quickly.
const maxColumns = 32

// quick fills l, if the line is as nearly all are: fields parted by single blanks, none of
// them quoted, that ask the host of base for a path.
func (w *w3cReader) quick(line []byte, l *Line) bool {
	var ends [maxColumns]uint32 // of fields
	n, i := 0, 0
	for ; i <= len(line)-8; i += 8 {
		for marks := blank(word(line, i)); marks != 0; marks &= marks - 1 {
			if n == maxColumns-1 {
				return false
			}
			ends[n] = uint32(i + bits.TrailingZeros64(marks)/8)
			n++
		}
	}
	for ; i < len(line) && n < maxColumns-1; i++ {
		if line[i] <= ' ' {
			ends[n] = uint32(i)
			n++
		}
	}
	ends[n] = uint32(len(line))
	if n+1 != len(w.columns) {
		return false
	}
	var at [columns + 1]span // from 0 to 0: not told
	from := uint32(0)
	for i, c := range w.columns {
		to := ends[i&(maxColumns-1)]
		if to == from || line[from] == '"' || int(to) < len(line) && line[to] != ' ' {
			return false
		}
		if to-from > 1 || line[from] != '-' {
			at[c] = span{from, to}
		}
		from = to + 1
	}
	text := func(c column) []byte { return line[at[c].from:at[c].to] }

	status := text(columnStatus)
	if len(status) != 0 && !isStatus(status) {
		return false
	}
	if host := text(columnHost); len(host) > 0 && (string(host) != w.base.Host || w.base.Origin() != w.base.Scheme+"://"+w.base.Host) {
		return false
	}
	method, path, query := at[columnMethod], at[columnStem], at[columnQuery]
	if at[columnURI].to > 0 {
		path = at[columnURI]
	}
	stem := line[path.from:path.to]
	if len(stem) == 0 || stem[0] != '/' || method.to == 0 {
		return false
	}
	l.text, l.target, l.path = line, path, uint32(len(stem))
	switch i, c := bytes.IndexByte(stem, '?'), at[columnURI].to > 0; {
	case i >= 0 && c:
		l.path = uint32(i)
	case i >= 0, !c && bytes.IndexByte(stem, '+') >= 0:
		return false
	}
	switch {
	case query.to > 0 && query.from == path.to+1:
		line[path.to] = '?'
		l.target.to = query.to
	case query.to > 0:
		l.target = l.add(path, '?', query)
	}
	if l.method = method; method.to+1 != l.target.from { // they are to stand side by side
		both, n := l.add(method, ' ', l.target), uint32(method.len())
		l.method, l.target = span{both.from, both.from + n}, span{both.from + n + 1, both.to}
	}

	l.quickTime(at[columnDate], at[columnClock])
	l.quickClient(at[columnClient])
	l.Status = 0
	if len(status) > 0 {
		l.Status = threeDigits(status)
	}
	l.agent, l.referrer, l.rest = at[columnAgent], at[columnReferrer], span{}
	return true
}

// quickTime puts date and time side by side.
func (l *Line) quickTime(date, clock span) {
	l.form, l.time = w3cTime, span{}
	switch {
	case date.to == 0 || clock.to == 0:
	case clock.from == date.to+1:
		l.time = span{date.from, clock.to}
	default:
		l.time = l.add(date, ' ', clock)
	}
}

// quickClient takes the brackets off an address.
func (l *Line) quickClient(client span) {
	l.client = client
	for l.client.len() > 0 && bracket(l.text[l.client.from]) {
		l.client.from++
	}
	for l.client.len() > 0 && bracket(l.text[l.client.to-1]) {
		l.client.to--
	}
	if int(l.client.to)+8 > len(l.text) { // ClientWord reads more
		l.text = slices.Concat(l.text, make([]byte, 8))
	}
}

func bracket(c byte) bool { return c == '[' || c == ']' }

// add puts two parts side by side behind a copy of the line, with a byte between them.
func (l *Line) add(a span, between byte, b span) span {
	n := uint32(len(l.text))
	l.text = slices.Concat(l.text, l.part(a), []byte{between}, l.part(b))
	return span{n, uint32(len(l.text))}
}

// blanks puts blanks in the place of what is written for them.
func blanks(value []byte) {
	for i := bytes.IndexByte(value, '+'); i >= 0 && i < len(value); i++ {
		if value[i] == '+' {
			value[i] = ' '
		}
	}
}

// item reads a line with care.
func (w *w3cReader) item(line string) (*Item, error) {
	if w.fields == nil {
		return nil, errors.New("no #Fields line comes before it")
	}
	words := w3cWords(line)
	if len(words) != len(w.fields) {
		return nil, fmt.Errorf("it has %d fields, and #Fields names %d", len(words), len(w.fields))
	}
	return w3cItem(w.fields, words, w.base)
}

// w3cWords splits at blanks; a quoted field may hold some, and "" is a quote.
func w3cWords(s string) []string {
	var out []string
	for s = strings.TrimLeft(s, " \t"); s != ""; s = strings.TrimLeft(s, " \t") {
		if s[0] != '"' {
			end := strings.IndexAny(s, " \t")
			if end < 0 {
				end = len(s)
			}
			out, s = append(out, s[:end]), s[end:]
			continue
		}
		var b strings.Builder
		i := 1
		for ; i < len(s); i++ {
			if s[i] == '"' {
				if i+1 < len(s) && s[i+1] == '"' {
					i++
				} else {
					break
				}
			}
			b.WriteByte(s[i])
		}
		out, s = append(out, b.String()), s[min(i+1, len(s)):]
	}
	return out
}

func w3cItem(fields, words []string, base request.Address) (*Item, error) {
	item := &Item{Request: &request.Request{Address: base}}
	date, clock := "", ""
	a := &item.Request.Address
	a.Path = ""
	for i, name := range fields {
		v := words[i]
		if v == "-" || v == "" {
			continue
		}
		switch strings.ToLower(name) {
		case "date":
			date = v
		case "time":
			clock = v
		case "cs-method":
			item.Request.Method = v
		case "cs-uri":
			full, err := TargetAddress(v, base)
			if err != nil {
				return nil, err
			}
			*a = full
		case "cs-uri-stem":
			a.Path = strings.ReplaceAll(v, "+", "%20")
		case "cs-uri-query":
			a.Query, a.HasQuery = v, true
		case "cs-host", "cs(host)":
			if err := a.SetHost(v); err != nil {
				return nil, err
			}
		case "c-ip":
			if ip, err := netip.ParseAddr(strings.Trim(v, "[]")); err == nil {
				item.Request.Client = ip
			}
		case "sc-status":
			if !isStatus([]byte(v)) {
				return nil, fmt.Errorf("the status %q is none", v)
			}
			item.Recorded = threeDigits([]byte(v))
		case "cs-bytes":
		default:
			if len(name) > 3 && strings.EqualFold(name[:3], "cs(") {
				header := strings.TrimSuffix(name[3:], ")")
				item.Request.Headers = append(item.Request.Headers, request.Header{Name: header, Value: strings.ReplaceAll(v, "+", " ")})
			}
		}
	}
	if a.Path == "" {
		return nil, errors.New("it names no address: #Fields has no cs-uri or cs-uri-stem, or the line has none")
	}
	if t, err := time.Parse("2006-01-02 15:04:05", strings.TrimSpace(date+" "+clock)); err == nil {
		item.Request.Time = t
	}
	return item, nil
}
