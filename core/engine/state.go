package engine

// One request on its way: the fields that tests and templates read.

import (
	"net/netip"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/pattern"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

// state is what is known of a request while the rulebook is read.
type state struct {
	engine      *Engine
	site        *siteEngine
	req         *request.Request
	find        finder
	trace       *Trace            // nil but for a trace
	light       bool              // the header is not wanted
	entriesRead *[]*rulebook.Rule // the entries that the reading comes to, where they are wanted
	inside      bool              // whoever is asked for a name is let in
	looking     bool              // for what is hidden

	path     string // canonical, as it stands
	asked    string // canonical, as it was asked for
	query    string // as it stands
	user     string
	admitted bool
	copied   bool // a value beside the address was put into something
	queried  bool // the query was looked at

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

// The state is what fields are read from.
func (s *state) Request() *request.Request { return s.req }
func (s *state) Path() string              { return s.path }
func (s *state) Asked() string             { return s.asked }
func (s *state) Query() string             { s.queried = true; return s.query }
func (s *state) User() string              { return s.user }
func (s *state) InTree() (string, bool)    { return s.atPath(), s.site.hasTree }

// value gives a field of the request, and whether the request has it.
func (s *state) value(f rulebook.Field) (string, bool) { return f.Row().Text(s, f.Name) }

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
	if t.Field.Kind == rulebook.FieldClient {
		return holds(t, "", s.req.Client.IsValid(), 0, s.req.Client.Unmap())
	}
	if number := t.Field.Row().Number; number != nil {
		n, ok := number(s)
		return holds(t, "", ok, n, netip.Addr{})
	}
	value, ok := s.value(t.Field)
	return holds(t, value, ok, 0, netip.Addr{})
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
			if v.Kind != rulebook.ValueSpan && v.Kind != rulebook.ValueNetwork && valueHolds(v, value, present, 0, netip.Addr{}) {
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
	if !rulebook.InFolder(path, folder) {
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
