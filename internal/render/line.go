package render

import (
	"bytes"
	"encoding/json"
	"slices"
	"strconv"
	"strings"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/replay"
	"kibitz/core/request"
)

// A Line is one request of a replayed list in the machine formats.
type Line struct {
	List string `json:"list"`
	Line int    `json:"line"`
	Answer
	Asked
	Way
	Expected *bool    `json:"expected,omitempty"`
	Met      *bool    `json:"met,omitempty"`
	Unmet    []string `json:"unmet,omitempty"`
	Recorded int      `json:"recorded,omitempty"`
}

// A Way is what becomes of a visit.
type Way struct {
	Ends browser.Ending `json:"ends,omitempty"`
	Hops [][2]any       `json:"hops,omitempty"`
}

// NewLine gives a result in that form.
func NewLine(r *replay.Result) Line {
	l := Line{List: r.List, Line: r.Item.Line, Answer: NewAnswer(r.Item.Request, r.Response), Asked: NewAsked(r.Item.Request), Way: NewWay(r), Recorded: r.Item.Recorded, Unmet: r.Unmet}
	if r.Item.Expects != nil {
		yes, met := true, len(r.Unmet) == 0
		l.Expected, l.Met = &yes, &met
	}
	return l
}

// NewWay gives what becomes of the visit that a result begins.
func NewWay(r *replay.Result) (w Way) {
	switch {
	case r.Visit != nil:
		w.Ends = r.Visit.Ending
		for _, h := range r.Visit.Hops {
			w.Hops = append(w.Hops, [2]any{Status(h.Response), h.Request.Address.Printable()})
		}
	case r.Response.Word() != "":
		w.Ends = browser.Ending(r.Response.Word())
	default:
		w.Ends = browser.Arrived
	}
	return w
}

// maxNames bounds how many names of header fields are remembered.
const maxNames = 1 << 12

// Lines writes results as JSON, each on a line: what JSON writes of NewLine. What is said of
// an answer that was remembered is made once.
type Lines struct {
	out     *bytes.Buffer
	enc     *json.Encoder // writes to out
	clock   Clock
	inSmall map[string]string // names of header fields
	list    string            // that was written last
	quoted  []byte            // as JSON
	headers []request.Header
}

// saidJSON is what is said of an answer, behind what was asked for, and of what becomes of the
// visit.
type saidJSON struct{ answer, way []byte }

// NewLines gives one that writes to a buffer, which may be emptied between results.
func NewLines(out *bytes.Buffer) *Lines {
	return &Lines{out: out, enc: JSON(out), inSmall: map[string]string{}}
}

// Write writes a result.
func (w *Lines) Write(r *replay.Result) {
	if r.Item.Expects != nil {
		w.enc.Encode(NewLine(r))
		return
	}
	said := Said(r, func() saidJSON {
		return saidJSON{w.answer(r.Response), w.inside(NewWay(r))}
	})
	if w.list != r.List || w.quoted == nil {
		start := w.out.Len()
		w.text(r.List)
		w.list, w.quoted = r.List, bytes.Clone(w.out.Bytes()[start:])
		w.out.Truncate(start)
	}
	w.raw(`{"list":`)
	w.out.Write(w.quoted)
	w.number(`,"line":`, int64(r.Item.Line))
	req := r.Item.Request
	w.raw(`,"method":`)
	w.text(req.Verb())
	w.raw(`,"url":`)
	w.text(req.Address.Printable())
	w.out.Write(said.answer)
	if client := Client(req); client != "" {
		w.raw(`,"client":`)
		w.text(client)
	}
	if at := w.clock.When(req); at != "" {
		w.raw(`,"time":`)
		w.text(at)
	}
	if req.Body != 0 {
		w.number(`,"body":`, req.Body)
	}
	w.asked(req)
	w.raw(",")
	w.out.Write(said.way)
	if r.Item.Recorded != 0 {
		w.number(`,"recorded":`, int64(r.Item.Recorded))
	}
	w.raw("}\n")
}

func (w *Lines) raw(s string) { w.out.WriteString(s) }

func (w *Lines) number(name string, n int64) {
	w.raw(name)
	w.out.Write(strconv.AppendInt(w.out.AvailableBuffer(), n, 10))
}

// text writes a text, most often one in which nothing must be escaped.
func (w *Lines) text(s string) {
	for i := range len(s) {
		if c := s[i]; c < ' ' || c > '~' || c == '"' || c == '\\' {
			w.enc.Encode(s)
			w.out.Truncate(w.out.Len() - 1) // the end of the line
			return
		}
	}
	w.out.WriteByte('"')
	w.out.WriteString(s)
	w.out.WriteByte('"')
}

// inside gives the fields of an object.
func (w *Lines) inside(object any) []byte {
	start := w.out.Len()
	w.enc.Encode(object)
	text := bytes.Clone(w.out.Bytes()[start:])
	w.out.Truncate(start)
	return text[1 : len(text)-2]
}

// answer gives the fields of an answer, behind method and url.
func (w *Lines) answer(r *engine.Response) []byte {
	start := w.out.Len()
	w.out.Write(bytes.TrimPrefix(w.inside(bareAnswer(r)), []byte(`"method":"","url":""`)))
	w.headers = w.headers[:0]
	for _, h := range r.Headers {
		w.headers = append(w.headers, request.Header{Name: w.small(h.Name), Value: h.Value})
	}
	if len(w.headers) > 0 {
		w.raw(`,"headers":`)
		w.fields()
	}
	if len(r.Hints) > 0 {
		w.raw(",")
		w.out.Write(w.inside(struct {
			Hints []string `json:"hints"`
		}{r.Hints}))
	}
	text := bytes.Clone(w.out.Bytes()[start:])
	w.out.Truncate(start)
	return text
}

// asked writes the header fields of a request, by their names.
func (w *Lines) asked(req *request.Request) {
	w.headers = w.headers[:0]
	for _, h := range req.Headers {
		if name := w.small(h.Name); name != unwritten {
			w.headers = append(w.headers, request.Header{Name: name, Value: h.Value})
		}
	}
	if len(w.headers) > 0 {
		w.raw(`,"request":{"headers":`)
		w.fields()
		w.raw("}")
	}
}

// small is a name in small letters.
func (w *Lines) small(name string) string {
	small, ok := w.inSmall[name]
	if !ok {
		small = strings.ToLower(name)
		if len(w.inSmall) < maxNames {
			w.inSmall[name] = small
		}
	}
	return small
}

// fields writes the header fields at hand as an object, in the order of their names, those of
// one name together.
func (w *Lines) fields() {
	slices.SortStableFunc(w.headers, func(a, b request.Header) int { return strings.Compare(a.Name, b.Name) })
	for i, h := range w.headers {
		switch {
		case i == 0:
			w.raw("{")
		case h.Name == w.headers[i-1].Name:
			w.raw(",")
			w.text(h.Value)
			continue
		default:
			w.raw("],")
		}
		w.text(h.Name)
		w.raw(":[")
		w.text(h.Value)
	}
	w.raw("]}")
}

// Said gives what is said of the answer of a result, which like requests have in common; those
// that differ in their queries alone may, too. say says it the first time.
func Said[T any](r *replay.Result, say func() T) T {
	if r.Said == nil {
		return say()
	}
	said, ok := (*r.Said).(T)
	if !ok {
		said = say()
		*r.Said = said
	}
	return said
}
