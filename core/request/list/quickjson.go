package list

// Lines of JSON that are as nearly all are: flat, without escapes, of a request for a path.
// They are read in place, without a tree of values; anything else is left to the careful way.

import (
	"bytes"
	"encoding/binary"
	"net/netip"
	"slices"
	"unicode/utf8"
	"unsafe"

	"kibitz/core/request"
)

// A jsonScanner walks over the values of one JSON object.
type jsonScanner struct {
	line []byte
	i    int
	path []byte // of the value at hand: the names down to it, with dots between
}

// A jsonKind is what a value is.
type jsonValue uint8

const (
	jsonString jsonValue = iota
	jsonNumber
	jsonLiteral // true, false, null
)

// object calls each for all values of the object at hand, also in objects inside it. It is
// not ok where something is not plain, or each says so.
func (s *jsonScanner) object(depth int, each func(path []byte, kind jsonValue, value span) bool) bool {
	if depth > 3 || !s.take('{') {
		return false
	}
	if s.blanks(); s.take('}') {
		return true
	}
	base := len(s.path)
	for {
		name, ok := s.text()
		if !ok || name.len() == 0 {
			return false
		}
		if s.path = s.path[:base]; base > 0 {
			s.path = append(s.path, '.')
		}
		s.path = append(s.path, s.line[name.from:name.to]...)
		if s.blanks(); !s.take(':') {
			return false
		}
		if s.blanks(); !s.value(depth, each) {
			return false
		}
		if s.blanks(); s.take('}') {
			s.path = s.path[:base]
			return true
		}
		if !s.take(',') {
			return false
		}
		s.blanks()
	}
}

func (s *jsonScanner) value(depth int, each func(path []byte, kind jsonValue, value span) bool) bool {
	if s.i == len(s.line) {
		return false
	}
	from := s.i
	switch c := s.line[s.i]; {
	case c == '{':
		return s.object(depth+1, each)
	case c == '"':
		value, ok := s.text()
		return ok && each(s.path, jsonString, value)
	case '1' <= c && c <= '9' || c == '0':
		for s.i < len(s.line) && isDigit(s.line[s.i]) {
			s.i++
		}
		return (c != '0' || s.i == from+1) && each(s.path, jsonNumber, span{uint32(from), uint32(s.i)})
	}
	for _, word := range []string{"true", "false", "null"} {
		if bytes.HasPrefix(s.line[s.i:], []byte(word)) {
			s.i += len(word)
			return each(s.path, jsonLiteral, span{uint32(from), uint32(s.i)})
		}
	}
	return false
}

// text reads a string, and gives what stands between its quotes.
func (s *jsonScanner) text() (span, bool) {
	if !s.take('"') {
		return span{}, false
	}
	from := s.i
	end := bytes.IndexByte(s.line[from:], '"')
	if end < 0 || !unescaped(s.line[from:from+end]) {
		return span{}, false
	}
	s.i += end + 1
	return span{uint32(from), uint32(from + end)}, true
}

// unescaped reports whether a text has neither a backslash nor a control character.
func unescaped(text []byte) bool {
	for ; len(text) >= 8; text = text[8:] {
		if w := binary.LittleEndian.Uint64(text); under(w, ' ')|equal(w, '\\') != 0 {
			return false
		}
	}
	return !slices.ContainsFunc(text, func(c byte) bool { return c < ' ' || c == '\\' })
}

func (s *jsonScanner) take(c byte) bool {
	if s.i < len(s.line) && s.line[s.i] == c {
		s.i++
		return true
	}
	return false
}

func (s *jsonScanner) blanks() {
	for s.i < len(s.line) && (s.line[s.i] == ' ' || s.line[s.i] == '\t') {
		s.i++
	}
}

// quickParts are what such a line tells, by where it stands; zero for what it does not tell.
type quickParts struct {
	url, query, method, client, time, status, agent, referrer span
}

// put notes a value; each may be told once.
func put(to *span, value span) bool {
	if to.to != 0 || value.len() == 0 {
		return false
	}
	*to = value
	return true
}

// line fills l, if what is told is plain, too: of a path at base.
func (j *quickParts) line(text []byte, base request.Address, l *Line) bool {
	part := func(s span) []byte { return text[s.from:s.to] }
	url, query, method := part(j.url), part(j.query), part(j.method)
	if len(url) > 0 && url[0] != '/' {
		if origin := base.Origin(); bytes.HasPrefix(url, []byte(origin)) {
			url = url[len(origin):]
		}
	}
	if len(url) == 0 || url[0] != '/' || len(url) > 1 && url[1] == '/' || !plainTarget(url) || !plainTarget(query) || j.query.to != 0 && bytes.IndexByte(url, '?') >= 0 {
		return false
	}
	if j.method.to == 0 {
		method = []byte("GET")
	}
	for _, c := range method {
		if c < 'A' || c > 'Z' {
			return false
		}
	}
	client := part(j.client)
	if j.client.to != 0 {
		if _, err := netip.ParseAddr(unsafe.String(unsafe.SliceData(client), len(client))); err != nil {
			return false
		}
	}
	at, form := part(j.time), noTime
	if j.time.to != 0 {
		if form = jsonTime; len(at) != len(timeForms[jsonTime].layout) || at[len(at)-1] != 'Z' {
			return false
		}
	}
	agent, referrer := part(j.agent), part(j.referrer)
	if !utf8.Valid(agent) || !utf8.Valid(referrer) || string(referrer) == "-" {
		return false
	}
	status := part(j.status)
	if len(status) != 0 && (!isStatus(status) || status[0] < '1' || status[0] > '5') {
		return false
	}
	// All parts stand behind each other in memory of the line's own, which is used again.
	own := l.buffer[:0]
	add := func(texts ...[]byte) span {
		from := uint32(len(own))
		for _, t := range texts {
			own = append(own, t...)
		}
		return span{from, uint32(len(own))}
	}
	*l = Line{form: form}
	l.method = add(method)
	add([]byte{' '})
	l.path = uint32(len(url))
	if i := bytes.IndexByte(url, '?'); i >= 0 {
		l.path = uint32(i)
	}
	if l.target = add(url); len(query) > 0 {
		l.target.to = add([]byte{'?'}, query).to
	}
	l.client, l.time, l.referrer, l.agent = add(client), add(at), add(referrer), add(agent)
	add(make([]byte, 16)) // ClientWord and others read whole words
	l.text, l.buffer = own, own
	if len(status) > 0 {
		l.Status = threeDigits(status)
	}
	return form == noTime || plainTime(at) || !l.At().IsZero()
}

// plainTime reports whether 2026-03-01T08:00:00Z is a time, as far as that is seen at once: of
// a day that no month lacks.
func plainTime(at []byte) bool {
	const form = "0000-00-00T00:00:00Z"
	for i := range len(form) {
		if c := at[i]; form[i] == '0' && !isDigit(c) || form[i] != '0' && c != form[i] {
			return false
		}
	}
	two := func(i int) int { return int(at[i]-'0')*10 + int(at[i+1]-'0') }
	month, day := two(5), two(8)
	return month >= 1 && month <= 12 && day >= 1 && day <= 28 && two(11) < 24 && two(14) < 60 && two(17) < 60
}

// tell notes a part of what a line tells; not ok where it is not plain.
func (j *quickParts) tell(part string, kind jsonValue, line []byte, value span) bool {
	text := kind == jsonString
	switch part {
	case "url", "path":
		return text && put(&j.url, value)
	case "query":
		return text && (value.len() == 0 || line[value.from] != '?' && put(&j.query, value))
	case "method":
		return text && put(&j.method, value)
	case "client":
		return text && put(&j.client, value)
	case "time":
		return text && put(&j.time, value)
	case "agent":
		return text && string(line[value.from:value.to]) != "-" && put(&j.agent, value)
	case "referrer":
		return text && put(&j.referrer, value)
	case "status":
		return kind != jsonLiteral && put(&j.status, value)
	case "location":
		return text
	case "body":
		return string(line[value.from:value.to]) == "0"
	}
	return false // of a host, a scheme or a port
}

// plainTarget reports whether a path with its query is read as it stands: it has nothing
// that the URL standard encodes, cuts off or resolves.
func plainTarget(target []byte) bool {
	for i, c := range target {
		switch {
		case 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9':
		case c == '/' || c == '-' || c == '_' || c == '?' || c == '=' || c == '&' || c == '+' || c == ',' || c == ':' || c == ';' || c == '@' || c == '~' || c == '*' || c == '!' || c == '(' || c == ')':
		case c == '.' && (i == 0 || target[i-1] != '/'):
		case c == '%' && i+2 < len(target) && isHexDigit(target[i+1]) && isHexDigit(target[i+2]) && target[i+1] != '2':
		default:
			return false
		}
	}
	return true
}

func isHexDigit(c byte) bool { _, ok := hexDigit(c); return ok }

// objectParts are what a line of JSON lines tells by these names.
var objectParts = []string{"url", "method", "client", "time", "status", "location", "body"}

// quickObject reads a line of JSON lines; matters tells the header fields that can change an
// answer, beside agent and referrer.
func quickObject(line []byte, base request.Address, matters func(string) bool, l *Line) bool {
	if matters == nil {
		return false
	}
	var j quickParts
	s := jsonScanner{line: line, path: make([]byte, 0, 64)}
	s.blanks()
	ok := s.object(0, func(path []byte, kind jsonValue, value span) bool {
		text := kind == jsonString
		if name, header := bytes.CutPrefix(path, []byte("headers.")); header {
			switch {
			case !text || bytes.IndexByte(name, '.') >= 0:
				return false
			case bytes.EqualFold(name, []byte("user-agent")):
				return j.tell("agent", kind, line, value)
			case bytes.EqualFold(name, []byte("referer")):
				return j.tell("referrer", kind, line, value)
			default:
				return !matters(string(bytes.ToLower(name)))
			}
		}
		for _, part := range objectParts {
			if string(path) == part {
				return j.tell(part, kind, line, value)
			}
		}
		return plainName(path) && !slices.Contains([]string{"cause", "got", "recorded", "request", "headers"}, string(path))
	})
	return ok && s.end() && j.line(line, base, l)
}

// plainName reports whether a name is another than all that are known, however they are
// written.
func plainName(path []byte) bool {
	for _, c := range path {
		if !('a' <= c && c <= 'z' || '0' <= c && c <= '9' || c == '_') {
			return false
		}
	}
	return true
}

// end reports whether nothing follows.
func (s *jsonScanner) end() bool {
	s.blanks()
	return s.i == len(s.line)
}

// quickEvent reads a line of a JSON log; parts are what is told by which name.
func quickEvent(line []byte, base request.Address, parts map[string]string, matters func(string) bool, l *Line) bool {
	if matters == nil {
		return false
	}
	var j quickParts
	s := jsonScanner{line: line, path: make([]byte, 0, 64)}
	s.blanks()
	ok := s.object(0, func(path []byte, kind jsonValue, value span) bool {
		path = bytes.TrimPrefix(path, []byte("attributes."))
		if name, header := bytes.CutPrefix(path, []byte(headerName)); header && string(name) != "referer" && string(name) != "content-length" {
			field := string(bytes.ReplaceAll(bytes.ToLower(name), []byte("_"), []byte("-")))
			return field != "user-agent" && !matters(field) && bytes.IndexByte(name, '.') < 0
		}
		part, known := parts[string(path)]
		if !known {
			return !bytes.HasPrefix(path, []byte("Attributes."))
		}
		return j.tell(part, kind, line, value)
	})
	return ok && s.end() && j.line(line, base, l)
}
