package list

// JSON lines: one object a request.

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"kibitz/core/request"
)

const FormatJSONL Format = "jsonl"

func init() {
	register(form{name: FormatJSONL, rank: rankObject + 3, line: readObject, lines: true, parts: true, comment: isBlank, detect: func(head []byte) bool {
		return bytes.HasPrefix(head, []byte("{")) || bytes.HasPrefix(head, []byte("[")) && bytes.Contains(head, []byte(`"url"`))
	}})
}

// readEach reads a list whose lines stand for themselves.
func readEach(f *form) func(in *bufio.Reader, o Options, each func(*Item)) (Counts, error) {
	return func(in *bufio.Reader, o Options, each func(*Item)) (Counts, error) {
		var c Counts
		parse := f.line(o)
		err := eachLine(in, &c, func(number int, line []byte) {
			if f.comment(line) {
				c.Comments++
				return
			}
			item, err := parse(line, nil)
			c.take(number, item, err, each)
		})
		return c, err
	}
}

func isBlank(line []byte) bool { return len(bytes.TrimSpace(line)) == 0 }

// readObject reads a line. What replay, verify and record
// write of each request is read again: there the header is that of the answer, and the
// request's stands apart.
func readObject(o Options) lineReader {
	quick := quickJSON{base: o.Base, names: func(path []byte) (quickPart, bool) { return objectName(path, o.Matters) }}
	return func(line []byte, l *Line) (*Item, error) {
		if l != nil && o.Matters != nil && quick.line(line, l) {
			return nil, nil
		}
		var told struct {
			URL, Method, Client, Time, Location string
			Body                                json.Number
			Status                              statusText
			Headers                             fieldLines
		}
		if err := json.Unmarshal(line, &told); err != nil {
			return nil, errors.New(jsonProblem(line, err))
		}
		t := texts{url: told.URL, method: told.Method, client: told.Client, time: told.Time, location: told.Location, body: told.Body.String(), status: string(told.Status), headers: told.Headers}
		if bytes.Contains(line, []byte(`"cause"`)) || bytes.Contains(line, []byte(`"got"`)) || bytes.Contains(line, []byte(`"sha256"`)) {
			t.written(line)
		}
		if t.url == "" {
			return nil, errors.New("the url is missing (of a log with other names, -fields url=NAME says where it is)")
		}
		return itemOf(&t, o.Base)
	}
}

// written looks whether a line is one that replay, verify or record has written, and takes
// from it what it tells of the request, and the status that a server gave.
func (t *texts) written(line []byte) {
	var o struct {
		Cause, Sha256 string
		Got, Recorded int
		Hints         []string
		Request       struct{ Headers fieldLines }
	}
	if json.Unmarshal(line, &o) != nil || o.Cause == "" && o.Got == 0 && o.Sha256 == "" {
		return
	}
	if o.Sha256 != "" {
		t.answer, t.sum, t.hints = t.headers, o.Sha256, o.Hints
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

// jsonProblem says in plain words why a line is not a request.
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
	return fmt.Sprintf("it is not a JSON object of a request: %v", err)
}
