package engine

// Rewrites: the request goes on with another path and query.

import (
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

func init() { does(rulebook.KindRewrite, groupReading, (*state).rewrite) }

// rewrite puts a new path and query in place.
func (s *state) rewrite(r *Response, e *entry) step {
	rule, a := e.Rule, e.Action.(*rulebook.Rewrite)
	v := s.valuesOf(rule)
	path, err := v.path(a.To)
	if err != nil {
		return s.bad(r, rule, err)
	}
	query, err := v.queryOf(a.To, a.Query)
	if err != nil {
		return s.bad(r, rule, err)
	}
	s.path, s.query = path, query
	if s.trace != nil {
		s.note(rule, "the path becomes %s", request.Address{Path: path, Query: query, HasQuery: query != ""}.Target())
	}
	switch a.Then {
	case rulebook.Finish:
		return settled
	case rulebook.Again:
		return again
	}
	return goOn
}
