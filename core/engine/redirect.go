package engine

// Redirects, by an entry each and by tables.

import (
	"strings"

	"kibitz/core/rulebook"
)

func init() {
	does(rulebook.KindRedirect, groupReading, func(s *state, r *Response, e *entry) step {
		a := e.Action.(*rulebook.Redirect)
		return s.redirect(r, e.Rule, a.To, a.Query, a.Status)
	})
	does(rulebook.KindMoves, groupReading, func(s *state, r *Response, e *entry) step {
		return s.moved(r, e, e.Action.(*rulebook.Moves))
	})
}

// redirect answers with the address that a template gives.
func (s *state) redirect(r *Response, rule *rulebook.Rule, to *rulebook.Template, q rulebook.Query, status int) step {
	location, err := s.valuesOf(rule).location(to, q)
	if err != nil {
		return s.bad(r, rule, err)
	}
	r.Status, r.Cause, r.By, r.Location = status, CauseRedirect, rule, location
	if s.trace != nil {
		s.note(rule, "answers %d to %s", status, location)
	}
	return answered
}

// moved answers as the row says that takes the request.
func (s *state) moved(r *Response, e *entry, a *rulebook.Moves) step {
	row := s.row(e)
	r.Row = row
	if row.New == "" {
		r.Status, r.Cause, r.By = int(row.Status), CauseReply, e.Rule
		s.note(e.Rule, "%s:%d says %d", a.Table.Name, row.Line, row.Status)
		return answered
	}
	s.note(e.Rule, "%s:%d has this address", a.Table.Name, row.Line)
	return s.redirect(r, e.Rule, rowTarget(row.New), a.QueryOf(row), int(row.Status))
}

// rowTarget reads a new address, in which nothing is a value.
func rowTarget(s string) *rulebook.Template {
	t := &rulebook.Template{Text: s}
	literal := func(s string) []rulebook.Piece { return []rulebook.Piece{{Text: s}} }
	rest := s
	if scheme, after, ok := strings.Cut(s, "://"); ok && !strings.HasPrefix(s, "/") {
		end := strings.IndexAny(after, "/?#")
		if end < 0 {
			end = len(after)
		}
		t.Scheme, t.Host, rest = literal(strings.ToLower(scheme)), literal(after[:end]), after[end:]
	}
	if before, fragment, ok := strings.Cut(rest, "#"); ok {
		rest, t.Fragment, t.HasFragment = before, literal(fragment), true
	}
	path, query, ok := strings.Cut(rest, "?")
	t.Path = literal(path)
	if ok {
		t.Query, t.HasQuery = literal(query), true
	}
	return t
}
