package rulebook

// Header fields of the answer.

import (
	"slices"
	"strings"

	"golang.org/x/net/http/httpguts"
)

const KindHeader Kind = "header"

func init() {
	register(kindRow{kind: KindHeader, order: 13, read: readHeader, setting: true, clauses: map[string]clauseForm{
		"set":     {must: 2, more: true, repeat: true, needs: "a header field and its value, like `set X-Frame-Options SAMEORIGIN`"},
		"add":     {must: 2, more: true, repeat: true, needs: "a header field and its value"},
		"default": {must: 2, more: true, repeat: true, needs: "a header field and its value"},
		"drop":    {must: 1, repeat: true, needs: "the name of a header field"},
		"for":     {must: 1, more: true, needs: "a status, like `for 404` or `for 5xx`"},
	}})
}

// Header changes response headers, in order.
type Header struct {
	Changes []HeaderChange
	For     Statuses // empty: every status
}

// Templates are those that are filled in for an answer.
func (a *Header) Templates() []*Template {
	var out []*Template
	for _, c := range a.Changes {
		if c.Value != nil {
			out = append(out, c.Value)
		}
	}
	return out
}

// Points are none: all entries count.
func (*Header) Points() []string { return nil }

// Constant reports whether the values hold nothing of the request.
func (h *Header) Constant() bool {
	for _, c := range h.Changes {
		if c.Value == nil {
			continue
		}
		if _, ok := Constant(c.Value.Body); !ok {
			return false
		}
	}
	return true
}

// A HeaderChange is one `set`, `add`, `default` or `drop`.
type HeaderChange struct {
	Do    string
	Name  string
	Value *Template // nil for drop
}

// Sets gives what header entries set a field to.
func (b *Book) Sets(field string) (values []*Template) {
	for _, r := range b.Rules {
		if a, ok := r.Action.(*Header); ok {
			for _, c := range a.Changes {
				if c.Value != nil && strings.EqualFold(c.Name, field) {
					values = append(values, c.Value)
				}
			}
		}
	}
	return values
}

// Cookies are the names of the cookies that header entries set, "" for one that is not known
// before there is a request; nil where they set none.
func (b *Book) Cookies() (names map[string]bool) {
	for _, value := range b.Sets("Set-Cookie") {
		name := ""
		if body := value.Body; len(body) > 0 && !body[0].Value {
			if before, _, ok := strings.Cut(body[0].Text, "="); ok {
				name = strings.TrimSpace(before)
			}
		}
		if names == nil {
			names = map[string]bool{}
		}
		names[name] = true
	}
	return names
}

// ownHeaders are the fields that the answer itself decides.
var ownHeaders = []string{"content-length", "transfer-encoding", "connection", "date", "location", "allow"}

func readHeader(b *builder, r *Rule, captures []string) Action {
	e := r.Entry
	a := &Header{}
	for _, c := range e.Clauses {
		do := c.Keyword.Text
		switch do {
		case "set", "add", "default", "drop":
		case "for":
			a.For = b.statuses(c.Values, 1)
			continue
		default:
			continue
		}
		w := c.Values[0]
		name := strings.TrimSuffix(w.Text, ":")
		if !httpguts.ValidHeaderFieldName(name) {
			b.errs.at(w, "%s is not a name of a header field", w.Quote())
			continue
		}
		if slices.Contains(ownHeaders, strings.ToLower(name)) {
			b.errs.at(w, "%s is decided by the answer itself, and no `header` entry changes it", name)
			continue
		}
		change := HeaderChange{Do: do, Name: name}
		if do != "drop" {
			change.Value = b.text(c.Values[1:], captures)
			if s, ok := Constant(change.Value.Body); ok && !httpguts.ValidHeaderFieldValue(s) {
				b.errs.at(c.Values[1], "a header value holds no control characters")
			}
		}
		a.Changes = append(a.Changes, change)
	}
	if len(e.Clauses) > 0 && !slices.ContainsFunc(e.Clauses, func(c Clause) bool { return rowOf(KindHeader).clauses[c.Keyword.Text].repeat }) {
		b.errs.at(e.Kind, "this `header` changes nothing: add `set NAME VALUE`, `add`, `default` or `drop NAME`")
	}
	return a
}
