package engine

// One request on its way: the fields that tests and templates read.

import (
	"net/netip"
	"strconv"
	"strings"
	"time"

	"kibitz/core/canonical"
	"kibitz/core/pattern"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

// state is what is known of a request while the rulebook is read.
type state struct {
	engine  *Engine
	site    *siteEngine
	req     *request.Request
	find    finder
	trace   *Trace            // nil but for a trace
	light   bool              // the header is not wanted
	met     *[]*rulebook.Rule // the entries that the reading comes to, where they are wanted
	inside  bool              // whoever is asked for a name is let in
	looking bool              // for what is hidden

	path     string // canonical, as it stands
	asked    string // canonical, as it was asked for
	query    string // as it stands
	user     string
	admitted bool
	copied   bool // a value beside the address was put into something

	key     frontKey
	front   *front
	classed []*class  // by field of the site; nil where not looked up yet
	taken   []capture // of the rule at hand
	texts   []string  // of a pattern's captures
	filled  []byte    // of a template
}

// A finder gives the position of the first entry of a group, after floor, that
// fits the state as it stands; -1 if none does.
type finder interface {
	next(s *state, g group, floor int) int
}

// value gives a field of the request, and whether the request has it.
func (s *state) value(f rulebook.Field) (string, bool) {
	switch f.Kind {
	case rulebook.FieldScheme:
		return s.req.Address.Scheme, true
	case rulebook.FieldHost:
		return s.req.Address.Host, true
	case rulebook.FieldPort:
		return strconv.Itoa(s.req.Address.Port), true
	case rulebook.FieldMethod:
		return s.req.Verb(), true
	case rulebook.FieldPath:
		return s.path, true
	case rulebook.FieldAsked:
		return s.asked, true
	case rulebook.FieldQuery:
		if f.Name == "" {
			return s.query, s.query != ""
		}
		return parameter(s.query, f.Name)
	case rulebook.FieldHeader:
		return s.req.Get(f.Name)
	case rulebook.FieldCookie:
		cookies, _ := s.req.Get("cookie")
		return cookie(cookies, f.Name)
	case rulebook.FieldClient:
		if !s.req.Client.IsValid() {
			return "", false
		}
		return s.req.Client.Unmap().String(), true
	case rulebook.FieldUser:
		return s.user, s.user != ""
	case rulebook.FieldTime:
		if s.req.Time.IsZero() {
			return "", false
		}
		return s.req.Time.UTC().Format(time.RFC3339), true
	case rulebook.FieldBody:
		return strconv.FormatInt(s.req.Body, 10), true
	case rulebook.FieldFile:
		return s.atPath(), s.site.known
	}
	return "", false
}

// number gives a field that is compared as a number.
func (s *state) number(f rulebook.FieldKind) (int64, bool) {
	switch f {
	case rulebook.FieldPort:
		return int64(s.req.Address.Port), true
	case rulebook.FieldTime:
		return s.req.Time.UnixMicro(), !s.req.Time.IsZero()
	}
	return s.req.Body, true
}

// atPath says what the tree has at the path as it stands. What is hidden there is
// missing, so that nobody learns of it.
func (s *state) atPath() string {
	n, _ := s.node(s.path)
	if n != nil && n.Hidden {
		// Entries that say what is hidden do not test this; what others find meanwhile
		// does not count.
		if s.looking {
			return "missing"
		}
		s.looking = true
		shown := s.showsHidden()
		s.looking = false
		if !shown {
			return "missing"
		}
	}
	switch {
	case n == nil || !n.Folder && strings.HasSuffix(s.path, "/"):
		return "missing"
	case n.Folder:
		return "folder"
	}
	return "exists"
}

// parameter gives the first value of a name in a query, read as form data
// (WHATWG URL, application/x-www-form-urlencoded parsing).
func parameter(query, name string) (string, bool) {
	for query != "" {
		var pair string
		pair, query, _ = strings.Cut(query, "&")
		if pair == "" {
			continue
		}
		key, value, _ := strings.Cut(pair, "=")
		if key == name || formText(key) == name {
			return formText(value), true
		}
	}
	return "", false
}

func formText(s string) string {
	if strings.IndexByte(s, '%') < 0 && strings.IndexByte(s, '+') < 0 {
		return s
	}
	return canonical.Decode(strings.ReplaceAll(s, "+", " "))
}

// cookie gives the first cookie of a name, as it was sent (RFC 6265, 4.2.1).
func cookie(header, name string) (string, bool) {
	for header != "" {
		var pair string
		pair, header, _ = strings.Cut(header, ";")
		key, value, ok := strings.Cut(strings.TrimSpace(pair), "=")
		if ok && key == name {
			return value, true
		}
	}
	return "", false
}

// holds reports whether a test holds for a value of its field. The number is
// read only where the test compares numbers.
func holds(t *rulebook.Test, value string, present bool, number int64, client netip.Addr) bool {
	for i := range t.Values {
		if valueHolds(&t.Values[i], value, present, number, client) {
			return !t.Unless
		}
	}
	return t.Unless
}

func valueHolds(v *rulebook.Value, value string, present bool, number int64, client netip.Addr) bool {
	if !present {
		return v.Kind == rulebook.ValueAbsent
	}
	switch v.Kind {
	case rulebook.ValueText:
		return v.Text == value
	case rulebook.ValueGlob:
		return v.Glob.Match(value)
	case rulebook.ValueRegexp:
		return v.Regexp.MatchString(value)
	case rulebook.ValuePattern:
		return v.Pattern.Match(value)
	case rulebook.ValueNetwork:
		return v.Network.Contains(client)
	case rulebook.ValueSpan:
		return v.Span.Low <= number && number <= v.Span.High
	}
	return v.Kind == rulebook.ValuePresent
}

// test evaluates one test as it stands.
func (s *state) test(t *rulebook.Test) bool {
	switch t.Field.Kind {
	case rulebook.FieldClient:
		return holds(t, "", s.req.Client.IsValid(), 0, s.req.Client.Unmap())
	case rulebook.FieldPort, rulebook.FieldTime, rulebook.FieldBody:
		n, ok := s.number(t.Field.Kind)
		return holds(t, "", ok, n, netip.Addr{})
	}
	value, ok := s.value(t.Field)
	return holds(t, value, ok, 0, netip.Addr{})
}

// beside reports whether a field is of a request beside its method and address.
func beside(f rulebook.Field) bool {
	switch f.Kind {
	case rulebook.FieldClient, rulebook.FieldHeader, rulebook.FieldCookie, rulebook.FieldTime, rulebook.FieldUser, rulebook.FieldBody:
		return true
	}
	return false
}

// A capture is text that a pattern took out of a field.
type capture struct {
	name, text string
	encoded    bool // percent-encoded
}

// captures gives the values that a fitting rule's patterns take; of one name the
// first counts.
func (s *state) captures(r *rulebook.Rule) []capture {
	out := s.taken[:0]
	add := func(names, values []string, of rulebook.Field, numbers bool) {
		for i, name := range names {
			if name != "" && (numbers || name[0] < '0' || name[0] > '9') {
				out = append(out, capture{name, values[i], of.Encoded()})
			}
		}
	}
	addPattern := func(p *pattern.Pattern, value string, of rulebook.Field, numbers bool) bool {
		values := p.Captures(value, s.texts)
		if values == nil {
			return false
		}
		if cap(values) > cap(s.texts) {
			s.texts = values
		}
		add(p.Names(), values, of, numbers)
		return true
	}
	for _, p := range r.On {
		if addPattern(p, s.path, rulebook.Field{Kind: rulebook.FieldPath}, true) {
			break
		}
	}
	for _, f := range r.In {
		if text, ok := s.below(f, r.Fold); ok {
			out = append(out, capture{name: rulebook.Below, text: text, encoded: true})
			break
		}
	}
	for _, t := range r.Tests {
		if t.Unless || !t.Takes {
			continue
		}
		value, present := s.value(t.Field)
		for i := range t.Values {
			v := &t.Values[i]
			if v.Pattern != nil && present {
				if addPattern(v.Pattern, value, t.Field, false) {
					break
				}
				continue
			}
			if v.Kind == rulebook.ValueRegexp && present {
				if found := v.Regexp.FindStringSubmatch(value); found != nil {
					add(v.Regexp.SubexpNames()[1:], found[1:], t.Field, false)
					break
				}
				continue
			}
			if n, ok := s.number(t.Field.Kind); v.Kind != rulebook.ValueSpan && v.Kind != rulebook.ValueNetwork &&
				valueHolds(v, value, present, n, s.req.Client) || v.Kind == rulebook.ValueSpan && ok && valueHolds(v, "", true, n, s.req.Client) {
				break
			}
		}
	}
	s.taken = out
	return out
}

// below gives what the path has below a folder, which is told by how many segments
// the folder has: where case does not count its length may be another.
func (s *state) below(folder string, fold bool) (text string, ok bool) {
	path := s.path
	if fold {
		path = canonical.Fold(path)
	}
	if !inFolder(path, []string{folder}) {
		return "", false
	}
	rest := s.path
	for range strings.Count(folder, "/") + 1 { // up to the slash behind it
		_, after, slash := strings.Cut(rest, "/")
		if !slash {
			return "", true
		}
		rest = after
	}
	return rest, true
}

// inFolder reports whether the path is one of the folders, or below one.
func inFolder(path string, folders []string) bool {
	for _, f := range folders {
		if strings.HasPrefix(path, f) && (len(path) == len(f) || path[len(f)] == '/') {
			return true
		}
	}
	return false
}
