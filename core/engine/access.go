package engine

// Access entries, and the methods that a refusal leaves.

import (
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"kibitz/core/request"
	"kibitz/core/rulebook"
)

func init() { does(rulebook.KindAccess, groupReading, (*state).access) }

// access lets a request pass, or refuses it, or asks for a name.
func (s *state) access(r *Response, e *entry) step {
	a := e.Action.(*rulebook.Access)
	if s.admitted {
		s.note(e.Rule, "passed over: the request has been admitted")
		return goOn
	}
	switch a.Do {
	case rulebook.Admit:
		s.admitted = true
		s.note(e.Rule, "admits the request past all later access entries")
		return goOn
	case rulebook.Ask:
		if s.inside {
			return goOn
		}
		if name, ok := s.engine.passwords.check(s.req, a.Accounts); ok {
			s.user = name
			s.note(e.Rule, "lets %s in", name)
			return goOn
		}
		r.Status, r.Cause, r.By = http.StatusUnauthorized, CauseAsked, e.Rule
		realm := strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(a.Realm)
		r.Headers = append(r.Headers, request.Header{Name: "WWW-Authenticate", Value: fmt.Sprintf(`Basic realm="%s", charset="UTF-8"`, realm)})
		if _, tried := s.req.Get("authorization"); tried {
			s.note(e.Rule, "asks again: no account has the name and password that are sent")
		} else {
			s.note(e.Rule, "asks for a name and password")
		}
		return answered
	}
	r.Status, r.Cause, r.By = a.Status, CauseRefused, e.Rule
	if a.Status == http.StatusMethodNotAllowed {
		r.Headers = append(r.Headers, request.Header{Name: "Allow", Value: allowedBy(e.Rule)})
	}
	s.note(e.Rule, "refuses with %d", a.Status)
	return answered
}

// methods are those that are registered for more than one purpose (RFC 9110, 9.3;
// RFC 5789).
var methods = []string{"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "CONNECT", "TRACE"}

// allowedBy gives the methods that a refusal of methods leaves (RFC 9110, 10.2.1):
// those that its tests name, or take of the registered ones; where they only name
// what is refused, what is left of those that files take.
func allowedBy(r *rulebook.Rule) string {
	candidates := fileMethods
	var named []string
	for _, t := range r.Tests {
		if t.Field.Kind != rulebook.FieldMethod || !t.Unless {
			continue
		}
		for _, v := range t.Values {
			if v.Kind == rulebook.ValueText {
				named = append(named, v.Text)
			}
		}
		candidates = methods
	}
	candidates = slices.Concat(named, candidates)
	var allowed []string
	for _, m := range candidates {
		refused := true
		for _, t := range r.Tests {
			refused = refused && (t.Field.Kind != rulebook.FieldMethod || holds(t, m, true, 0, netip.Addr{}))
		}
		if !refused && !slices.Contains(allowed, m) {
			allowed = append(allowed, m)
		}
	}
	return strings.Join(allowed, ", ")
}
