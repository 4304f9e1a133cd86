package list

// HTTP Archives, and what else is one JSON document.

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"kibitz/core/request"
)

const (
	FormatHAR     Format = "har"
	FormatResults Format = "results" // what verify writes as JSON
)

func init() {
	register(form{name: FormatHAR, rank: rankObject, read: readHAR, detect: func(head []byte) bool {
		names := topNames(head)
		return names["url"] == 0 && (names["log"] == '{' || names["entries"] == '[')
	}})
	register(form{name: FormatResults, rank: rankObject + 1, read: readResults, detect: func(head []byte) bool {
		names := topNames(head)
		return names["url"] == 0 && names["results"] == '['
	}})
}

// readHAR reads an HTTP Archive (1.2), whose lines are its entries.
func readHAR(in *bufio.Reader, _ Options, each func(*Item)) (Counts, error) {
	c := Counts{Of: "entry"}
	err := jsonList(in, &c, [][]string{{"log", "entries"}, {"entries"}}, "the HTTP archive holds no entries", func(entry []byte) (*Item, error) { return harItem(entry) }, each)
	return c, err
}

// readResults reads what verify writes as JSON, whose lines are its results.
func readResults(in *bufio.Reader, o Options, each func(*Item)) (Counts, error) {
	c := Counts{Of: "result"}
	parse := readObject(o)
	err := jsonList(in, &c, [][]string{{"results"}}, "there are no results in it", func(one []byte) (*Item, error) { return parse(one, nil) }, each)
	return c, err
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
		return nil, fmt.Errorf("%q is not an http address", e.Request.URL)
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

// jsonList reads the elements of the list in a JSON document that lies at one of some
// paths of names. What is not a request is skipped, and the next is read.
func jsonList(in *bufio.Reader, c *Counts, paths [][]string, none string, parse func([]byte) (*Item, error), each func(*Item)) error {
	if head, _ := in.Peek(3); bytes.Equal(head, []byte("\ufeff")) {
		in.Discard(3)
	}
	j := &jsonReader{in: in}
	if ok, err := j.descend(paths, 0); err != nil {
		return fmt.Errorf("%s: %w", none, err)
	} else if !ok {
		return errors.New(none)
	}
	for j.more(']') {
		c.Lines++
		one, err := j.value(MaxLine)
		switch {
		case err == errLong:
			c.skip(c.Lines, 1, "it is longer than %d MiB", MaxLine>>20)
		case err != nil:
			c.skip(c.Lines, 1, "it cannot be read any further: %v", err)
			return &Damaged{Err: err}
		default:
			item, err := parse(one)
			c.take(c.Lines, item, err, each)
		}
	}
	if j.err != nil {
		return &Damaged{Err: j.err}
	}
	return nil
}

// A jsonReader cuts a JSON document into its values, of which it holds one at a time, and
// none that is too long: what stands in a document may be of any size, and is unpacked.
type jsonReader struct {
	in    *bufio.Reader
	began bool // a value of the list or object at hand has been read
	err   error
}

// next gives the next byte that is not a blank, without taking it; 0 behind the last one.
func (j *jsonReader) next() byte {
	for j.err == nil {
		b, err := j.in.ReadByte()
		if err == io.EOF {
			err = io.ErrUnexpectedEOF
		}
		if j.err = err; err == nil && strings.IndexByte(" \t\r\n", b) < 0 {
			j.in.UnreadByte()
			return b
		}
	}
	return 0
}

// take takes a byte that must stand here.
func (j *jsonReader) take(b byte) bool {
	if got := j.next(); j.err == nil && got != b {
		j.err = fmt.Errorf("%q stands where %q is missing", got, b)
	}
	if j.err == nil {
		j.in.ReadByte()
	}
	return j.err == nil
}

// more reports whether another value follows before the end of a list or object, which it
// takes.
func (j *jsonReader) more(end byte) bool {
	b := j.next()
	if b == end {
		j.in.ReadByte()
		return false
	}
	if j.began && !j.take(',') {
		return false
	}
	j.began = true
	return j.err == nil
}

// value takes a value, of up to so many bytes. The error is errLong for one that is
// longer, which is passed over.
func (j *jsonReader) value(most int) ([]byte, error) {
	var b []byte
	depth, quoted, escaped, size := 0, false, false, 0
	for first := j.next(); j.err == nil; {
		c, err := j.in.ReadByte()
		switch {
		case err == io.EOF:
			j.err = io.ErrUnexpectedEOF
			return nil, j.err
		case err != nil:
			j.err = err
			return nil, err
		case escaped:
			escaped = false
		case quoted:
			quoted, escaped = c != '"', c == '\\'
		case c == '"':
			quoted = true
		case c == '{' || c == '[':
			depth++
		case c == '}' || c == ']':
			depth--
		}
		ended := depth == 0 && !quoted && !escaped && (first == '"' || first == '{' || first == '[') && size > 0
		if plain := first != '"' && first != '{' && first != '['; plain && (depth < 0 || strings.IndexByte(", \t\r\n", c) >= 0) {
			j.in.UnreadByte()
			break
		}
		if size++; size <= most {
			b = append(b, c)
		}
		if ended {
			break
		}
	}
	if j.err != nil {
		return nil, j.err
	}
	if size > most {
		return nil, errLong
	}
	return b, nil
}

// maxDepth is how deep lists and objects may lie in each other.
const maxDepth = 100

// descend reads a document up to the first value of the list at one of some paths.
func (j *jsonReader) descend(paths [][]string, depth int) (found bool, err error) {
	j.began = false
	if j.next() == '[' && slices.ContainsFunc(paths, func(p []string) bool { return len(p) == 0 }) {
		return j.take('['), j.err
	}
	if j.next() != '{' || depth > maxDepth {
		_, err := j.value(0)
		return false, passed(err)
	}
	j.take('{')
	for j.more('}') {
		text, err := j.value(MaxLine)
		var name string
		if passed(err) == nil {
			err = json.Unmarshal(text, &name)
		}
		if err != nil || !j.take(':') {
			return false, cmp.Or(j.err, err)
		}
		var below [][]string
		for _, p := range paths {
			if len(p) > 0 && p[0] == name {
				below = append(below, p[1:])
			}
		}
		if found, err = j.descend(below, depth+1); found || err != nil {
			return found, err
		}
		j.began = true
	}
	return false, j.err
}

// passed is the error of a value that nobody wants: none, where it is only too long.
func passed(err error) error {
	if err == errLong {
		return nil
	}
	return err
}
