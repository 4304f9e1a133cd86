package list

// Lines of JSON that are as nearly all are: flat, without escapes, of a request for a path.
// They are read in place, without a tree of values.

import (
	"bytes"
	"encoding/binary"
	"math/bits"
	"slices"
	"sync/atomic"

	"kibitz/core/request"
)

// A jsonScanner walks over the values of one JSON object.
type jsonScanner struct {
	line []byte
	i    int
	path []byte // of the value at hand: the names down to it, with dots between
}

// A valueKind is what a value is.
type valueKind uint8

const (
	jsonString valueKind = iota
	jsonNumber
	jsonLiteral // true, false, null
)

// object calls each for all values of the object at hand, also in objects inside it. It is
// not ok where something is not plain, or each says so.
func (s *jsonScanner) object(depth int, each func(path []byte, kind valueKind, value span) bool) bool {
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

func (s *jsonScanner) value(depth int, each func(path []byte, kind valueKind, value span) bool) bool {
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

// A quickJSON reads the lines of one list. It is for any number of goroutines.
type quickJSON struct {
	base request.Address
	// names says what a value of this name tells, as quickParts.tell knows it; not ok where it
	// must be read with care.
	names  func(path []byte) (part quickPart, ok bool)
	shapes atomic.Pointer[[]jsonShape] // of lines that were read
}

// A jsonShape is what lines have in common that tell the same: all but their values. Most
// lines of a list have one of few shapes, and what stands between the values of such a line
// need not be looked at letter by letter, nor its names looked up.
//
//	{"url":"/fares/","status":200}
//
// is `{"url":"`, a text that tells the url, `","status":`, a number that tells the status, and
// `}`.
type jsonShape struct {
	values []jsonValue
	end    []byte // behind the last value
}

// A jsonValue is one of them. What is neither text nor number is a part of the shape.
type jsonValue struct {
	before []byte // what stands behind the last value, and before this one
	kind   valueKind
	part   quickPart // that it tells
}

// maxShapes bounds how many are tried.
const maxShapes = 8

// line reads a line, if it is plain.
func (q *quickJSON) line(text []byte, l *Line) bool {
	shapes := q.shapes.Load()
	if shapes != nil {
		for i := range *shapes {
			var j quickParts
			if fits, plain := (*shapes)[i].read(text, &j); fits {
				return plain && j.line(text, q.base, l)
			}
		}
	}
	var j quickParts
	var shape jsonShape
	last := 0
	s := jsonScanner{line: text, path: make([]byte, 0, 64)}
	s.blanks()
	ok := s.object(0, func(path []byte, kind valueKind, value span) bool {
		part, ok := q.names(path)
		if kind != jsonLiteral {
			shape.values = append(shape.values, jsonValue{bytes.Clone(text[last:value.from]), kind, part})
			last = int(value.to)
		}
		return ok && j.tell(part, kind, text, value)
	})
	if !ok || !s.end() || !j.line(text, q.base, l) {
		return false
	}
	var more []jsonShape
	if shapes != nil {
		more = slices.Clip(*shapes)
	}
	if len(more) < maxShapes {
		shape.end = bytes.Clone(text[last:])
		more = append(more, shape)
		q.shapes.CompareAndSwap(shapes, &more)
	}
	return true
}

// read takes the values of a line that has the shape; plain is false where one of them must
// be read with care.
func (s *jsonShape) read(line []byte, j *quickParts) (fits, plain bool) {
	i := 0
	for k := range s.values {
		v := &s.values[k]
		if !bytes.HasPrefix(line[i:], v.before) {
			return false, false
		}
		i += len(v.before)
		from := i
		if v.kind == jsonString {
			i = endOfText(line, i)
		} else {
			for i < len(line) && isDigit(line[i]) {
				i++
			}
			if i > from+1 && line[from] == '0' {
				return false, false
			}
		}
		if i < 0 || i == from && v.kind == jsonNumber {
			return false, false
		}
		if !j.tell(v.part, v.kind, line, span{uint32(from), uint32(i)}) {
			return true, false
		}
	}
	return bytes.Equal(line[i:], s.end), true
}

// endOfText gives the place of the quote that ends a text; -1 where an escape or a control
// character comes first.
func endOfText(line []byte, i int) int {
	for ; i <= len(line)-8; i += 8 {
		w := word(line, i)
		if ends := under(w, ' ') | equal(w, '"') | equal(w, '\\'); ends != 0 {
			i += bits.TrailingZeros64(ends) / 8
			break
		}
	}
	for ; i < len(line); i++ {
		if c := line[i]; c == '"' {
			return i
		} else if c < ' ' || c == '\\' {
			break
		}
	}
	return -1
}

// objectName says what is told by a name of JSON lines; matters tells the header fields that
// can change an answer, beside agent and referrer.
func objectName(path []byte, matters func(string) bool) (part quickPart, ok bool) {
	if name, header := bytes.CutPrefix(path, []byte("headers.")); header {
		switch {
		case bytes.IndexByte(name, '.') >= 0:
			return careful, false
		case bytes.EqualFold(name, []byte("user-agent")):
			return theAgent, true
		case bytes.EqualFold(name, []byte("referer")):
			return theReferrer, true
		}
		return theField, !matters(string(bytes.ToLower(name)))
	}
	switch string(path) {
	case "url", "method", "client", "time", "status", "location", "body":
		return quickPartOf[string(path)], true
	case "cause", "got", "recorded", "request", "headers": // of a line that was written
		return careful, false
	}
	return nothing, plainName(path)
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

// eventName says what is told by a name of a JSON log; parts are what is told by which.
func eventName(path []byte, parts map[string]quickPart, matters func(string) bool) (part quickPart, ok bool) {
	path = bytes.TrimPrefix(path, []byte("attributes."))
	if name, header := bytes.CutPrefix(path, []byte(headerName)); header && string(name) != "referer" && string(name) != "content-length" {
		field := string(bytes.ReplaceAll(bytes.ToLower(name), []byte("_"), []byte("-")))
		return nothing, field != "user-agent" && !matters(field) && bytes.IndexByte(name, '.') < 0
	}
	if part, known := parts[string(path)]; known {
		return part, true
	}
	return nothing, !bytes.HasPrefix(path, []byte("Attributes."))
}
