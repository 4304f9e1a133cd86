package engine

// Replies, the bodies that entries show, and applications.

import (
	"strconv"

	"kibitz/core/request"
	"kibitz/core/rulebook"
)

func init() {
	does(rulebook.KindReply, groupReading, (*state).reply)
	does(rulebook.KindHandoff, groupReading, func(s *state, r *Response, e *entry) step {
		r.Cause, r.By = CauseHandoff, e.Rule
		s.note(e.Rule, "an application answers here")
		return answered
	})
}

func (s *state) reply(r *Response, e *entry) step {
	rule, a := e.Rule, e.Action.(*rulebook.Reply)
	r.Status, r.Cause, r.By = a.Status, CauseReply, rule
	if a.Retry > 0 {
		seconds := int64((a.Retry.Milliseconds() + 999) / 1000)
		r.Headers = append(r.Headers, request.Header{Name: "Retry-After", Value: strconv.FormatInt(seconds, 10)})
	}
	s.note(rule, "answers %d", a.Status)
	s.body(r, rule, a.Body, false)
	return answered
}

// body puts a rule's file or text into the answer.
func (s *state) body(r *Response, rule *rulebook.Rule, b rulebook.Body, fill bool) {
	switch {
	case b.Text != nil:
		text, _ := s.valuesOf(rule).fill(b.Text.Body, forText)
		r.content, r.Type = []byte(text), "text/plain"
		s.note(rule, "shows its text")
	case b.Show != "":
		n, _ := s.node(b.Show)
		if n == nil || n.Folder {
			s.note(rule, "the page %s is not in the tree: the plain page is shown", b.Show)
			return
		}
		r.File = n
		if s.trace != nil {
			s.note(rule, "shows %s", n.Path)
		}
		if !fill {
			return
		}
		page, err := n.Read()
		if err != nil {
			s.note(rule, "the page cannot be filled: %v", err)
			return
		}
		r.content = []byte(s.valuesOf(rule).fillPage(string(page)))
	}
}
