package engine

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/pattern"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

// A Trace is how an answer came about: every entry looked at, every change of
// the path, and every point decided, in order.
type Trace struct{ Steps []Step }

// A Step is an entry looked at, or something that happened.
type Step struct {
	Rule *rulebook.Rule // nil for what no entry does
	Fits bool
	Text string // why the entry does not fit, or what happened
}

// A Contradiction is a mistake of this program: the compiled rulebook and its
// entries read one by one give different answers to one request.
type Contradiction struct {
	Request          *request.Request
	Compiled, Traced *Response
}

func (c *Contradiction) Error() string {
	return fmt.Sprintf("this is a mistake of Kibitz, not of the rulebook: for %s %s the compiled rulebook answers %s, and its entries, read one by one, %s. Believe neither, and report both answers with the rulebook and this address",
		c.Request.Verb(), c.Request.Address, c.Compiled.brief(), c.Traced.brief())
}

// brief is an answer in a few words.
func (r *Response) brief() string {
	s := StatusText(r) + " (" + string(r.Cause)
	if r.By != nil {
		s += " by " + r.By.Name
	}
	s += ")"
	if r.Location != "" {
		s += " to " + r.Location
	}
	return s
}

// Confirm gives the trace of a request, and an error, a *Contradiction, if it does
// not lead to the answer that was predicted for it.
func (e *Engine) Confirm(req *request.Request, predicted *Response) (*Trace, error) {
	traced, t := e.Trace(req)
	if predicted.Status == traced.Status && predicted.Cause == traced.Cause && predicted.By == traced.By && predicted.Row == traced.Row &&
		predicted.Location == traced.Location && predicted.File == traced.File && predicted.Type == traced.Type && predicted.Encoded == traced.Encoded &&
		slices.Equal(predicted.Headers, traced.Headers) && slices.Equal(predicted.Hints, traced.Hints) {
		return t, nil
	}
	return t, &Contradiction{req, predicted, traced}
}

func (s *state) note(r *rulebook.Rule, format string, args ...any) {
	if s.trace != nil {
		s.trace.Steps = append(s.trace.Steps, Step{r, true, fmt.Sprintf(format, args...)})
	}
}

// inOrder is the finder that looks at each entry in turn: the rule about order,
// word for word.
type inOrder struct{}

func (inOrder) next(s *state, g group, floor int) int {
	for pos := floor + 1; pos < len(s.site.entries); pos++ {
		e := s.site.entries[pos]
		if e.group != g {
			continue
		}
		why := s.misfit(e.Rule)
		if why == "" {
			return pos
		}
		if s.trace != nil {
			s.trace.Steps = append(s.trace.Steps, Step{Rule: e.Rule, Text: why})
		}
	}
	return -1
}

// PredictWithout is Predict, as if an entry were not there.
func (e *Engine) PredictWithout(req *request.Request, r *rulebook.Rule) *Response {
	return e.answer(req, without{r}, nil)
}

// without is a finder that passes by one entry.
type without struct{ rule *rulebook.Rule }

func (w without) next(s *state, g group, floor int) int {
	pos := compiled{}.next(s, g, floor)
	for pos >= 0 && s.site.entries[pos].Rule == w.rule {
		pos = compiled{}.next(s, g, pos)
	}
	return pos
}

// misfit says which selector of a rule does not hold, and what it saw; "" if
// the rule fits.
func (s *state) misfit(r *rulebook.Rule) string {
	if len(r.On) > 0 {
		fits := false
		for _, p := range r.On {
			fits = fits || p.Match(s.path)
		}
		if !fits {
			return "on " + patternTexts(r.On) + ": the path is another"
		}
	}
	if len(r.In) > 0 && !r.Within(s.path) {
		names := make([]string, len(r.In))
		for i, f := range r.In {
			names[i] = f + "/"
		}
		return "in " + strings.Join(names, " ") + ": the path is not below it"
	}
	if m, ok := r.Action.(*rulebook.Moves); ok {
		if why := s.missesRows(s.site.entries[s.position(r)], m.Table); why != "" {
			return why
		}
	}
	for _, t := range r.Tests {
		if s.test(t) {
			continue
		}
		word := "when "
		if t.Unless {
			word = "unless "
		}
		value, ok := s.value(t.Field)
		saw := "there is none"
		if ok {
			saw = "it is " + value
			if value == "" {
				saw = "it is empty"
			}
		}
		shown := len(t.Values)
		if shown > manyValues {
			shown = fewValues
		}
		return word + t.Brief(shown) + ": " + saw
	}
	return ""
}

// A test of more than manyValues is told by a few, which leave room for what it saw.
const (
	manyValues = 8
	fewValues  = 3
)

// missesRows says why no row of a table takes the request; "" if one does.
func (s *state) missesRows(e *entry, table *rulebook.Table) string {
	if s.row(e) != nil {
		return ""
	}
	path := s.path
	if e.Fold {
		path = canonical.Fold(path)
	}
	for i := range table.Rows {
		switch row := &table.Rows[i]; {
		case row.Path != path:
		case row.Origin != "" && row.Origin != s.req.Address.Origin():
			return fmt.Sprintf("%s:%d has this path, but of %s", table.Name, row.Line, row.Origin)
		case row.Query == "":
			return fmt.Sprintf("%s:%d has this path, but with no query", table.Name, row.Line)
		default:
			return fmt.Sprintf("%s:%d has this path, but with the query %s", table.Name, row.Line, row.Query)
		}
	}
	return fmt.Sprintf("none of the %d rows of %s has this address", len(table.Rows), table.Name)
}

func (s *state) position(r *rulebook.Rule) int {
	for pos, e := range s.site.entries {
		if e.Rule == r {
			return pos
		}
	}
	return -1
}

func patternTexts(list []*pattern.Pattern) string {
	var out []string
	for _, p := range list {
		out = append(out, p.String())
	}
	return strings.Join(out, " ")
}

// Taking gives the rules whose selectors take a request as it is asked, in
// order, whether or not the reading would come to them. The error says why no
// site reads the request.
func (e *Engine) Taking(req *request.Request) ([]*rulebook.Rule, error) {
	s := &state{engine: e, req: req, find: inOrder{}, trace: &Trace{}}
	if !s.receive(&Response{}) {
		return nil, errors.New(s.trace.Steps[len(s.trace.Steps)-1].Text)
	}
	var out []*rulebook.Rule
	for _, entry := range s.site.entries {
		if s.misfit(entry.Rule) == "" {
			out = append(out, entry.Rule)
		}
	}
	return out, nil
}
