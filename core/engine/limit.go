package engine

// Limits of what is sent.

import (
	"net/http"

	"kibitz/core/rulebook"
)

func init() { does(rulebook.KindLimit, groupLimit, nil) }

// limits refuses what is too large (step 1).
func (s *state) limits(r *Response) bool {
	if s.site.groups[groupLimit] == nil {
		return false
	}
	headers := int64(0)
	for _, h := range s.req.Headers {
		headers += int64(len(h.Name) + len(h.Value) + 4)
	}
	for _, part := range []struct {
		size   int64
		bound  func(*rulebook.Limit) int64
		status int
		what   string
	}{
		{int64(s.req.Address.Sent()), func(l *rulebook.Limit) int64 { return l.URL }, http.StatusRequestURITooLong, "URL"},
		{headers, func(l *rulebook.Limit) int64 { return l.Headers }, http.StatusRequestHeaderFieldsTooLarge, "header"},
		{s.req.Body, func(l *rulebook.Limit) int64 { return l.Body }, http.StatusRequestEntityTooLarge, "body"},
	} {
		e := s.first(groupLimit, func(r *rulebook.Rule) bool { return part.bound(r.Action.(*rulebook.Limit)) >= 0 })
		if e == nil {
			continue
		}
		if bound := part.bound(e.Action.(*rulebook.Limit)); part.size > bound {
			r.Status, r.Cause, r.By = part.status, CauseTooLarge, e.Rule
			s.note(e.Rule, "the %s has %d bytes, and %d are allowed", part.what, part.size, bound)
			return true
		}
	}
	return false
}
