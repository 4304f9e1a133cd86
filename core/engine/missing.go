package engine

// What is shown where the tree has nothing: fallbacks, and the pages of errors.

import "kibitz/core/rulebook"

func init() {
	does(rulebook.KindFallback, groupFallback, nil)
	does(rulebook.KindError, groupError, nil)
}

// missing tries the fallbacks for what the tree does not have.
func (s *state) missing(r *Response, status int, cause Cause, what string) {
	if s.trace != nil {
		s.note(nil, "%s", what)
	}
	for pos := s.find.next(s, groupFallback, -1); pos >= 0; pos = s.find.next(s, groupFallback, pos) {
		rule := s.site.entries[pos].Rule
		a := rule.Action.(*rulebook.Fallback)
		v := s.valuesOf(rule)
		for _, t := range a.To {
			path, err := v.path(t)
			if err != nil {
				s.bad(r, rule, err)
				return
			}
			n, slash := s.node(path)
			if n == nil || n.Folder || slash || n.Hidden && !s.showsHidden() {
				s.note(rule, "%s is not a file of the tree", path)
				continue
			}
			r.Status, r.Cause, r.By, r.File = a.Status, CauseFallback, rule, n
			s.note(rule, "%s is served", n.Path)
			return
		}
	}
	r.Status, r.Cause = status, cause
}

// errorPage finds the page for a status (step 5).
func (s *state) errorPage(r *Response) {
	e := s.first(groupError, func(rule *rulebook.Rule) bool { return rule.Action.(*rulebook.ErrorPage).For.Has(r.Status) })
	if e == nil {
		return
	}
	a := e.Action.(*rulebook.ErrorPage)
	s.body(r, e.Rule, a.Body, a.Fill)
}
