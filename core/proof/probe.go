package proof

import (
	"cmp"
	"math"
	"net/netip"
	"slices"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/pattern"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

// probes makes requests that a rule takes, if nothing above it does: one for
// each path that can be thought of, over each scheme and host of the site.
func (c *shared) probes(s *rulebook.Site, r *rulebook.Rule) []*request.Request {
	if len(r.Tests) > maxTests {
		return nil
	}
	base := request.Request{Address: s.Address}
	base.Address.Path = "/"
	requests := []request.Request{base}
	if !hasTest(r, rulebook.FieldScheme) {
		other := base
		other.Address.Scheme = map[string]string{"http": "https", "https": "http"}[base.Address.Scheme]
		other.Address.Port = request.DefaultPort(other.Address.Scheme)
		requests = append(requests, other)
	}
	if !hasTest(r, rulebook.FieldHost) {
		for _, h := range s.Hosts[1:] {
			if name := specimen(h); name != "" {
				other := base
				other.Address.Host = name
				requests = append(requests, other)
			}
		}
	}
	for _, t := range r.Tests {
		for i := range requests {
			satisfy(&requests[i], t)
		}
	}
	var out []*request.Request
	for _, path := range c.paths(r) {
		for _, req := range requests {
			p := req
			p.Address.Path = path.path
			if path.query != "" {
				p.Address.Query, p.Address.HasQuery = path.query, true
			}
			out = append(out, &p)
		}
	}
	return out
}

func hasTest(r *rulebook.Rule, k rulebook.FieldKind) bool {
	for _, t := range r.Tests {
		if t.Field.Kind == k {
			return true
		}
	}
	return false
}

// homeRequest is a request for the home page of a site, by the scheme and the host to
// which all others are sent, if there are such.
func (c *shared) homeRequest(s *rulebook.Site) *request.Request {
	for _, f := range c.fronts().of[s] {
		if f.last == math.MaxInt {
			return f.request()
		}
	}
	return &request.Request{Address: s.Address}
}

// maxTests is how many conditions of an entry are met one by one.
const maxTests = 200

type probePath struct{ path, query string }

const maxRowProbes = 1000

// paths gives addresses that a rule's path selectors take.
func (c *shared) paths(r *rulebook.Rule) []probePath {
	var out []probePath
	add := func(p string) {
		if canonical.Is(p, true) {
			out = append(out, probePath{path: p})
		}
	}
	for _, e := range r.Examples {
		if a, err := request.Parse(e.URL, request.Address{}); err == nil {
			add(a.Path)
		}
	}
	if m, ok := r.Action.(*rulebook.Moves); ok && m.Table != nil {
		for i, row := range m.Table.Rows {
			if i == maxRowProbes {
				break
			}
			out = append(out, probePath{row.Path, row.Query})
		}
		return out
	}
	for _, p := range r.On {
		for _, word := range p.Words(4) {
			add(word)
		}
	}
	if len(r.On) == 0 {
		for _, f := range r.In {
			add(f + "/")
			add(f + "/a")
		}
	}
	if len(r.On) == 0 && len(r.In) == 0 {
		for _, t := range r.Tests {
			if t.Field.Kind != rulebook.FieldPath && t.Field.Kind != rulebook.FieldAsked {
				continue
			}
			for _, v := range t.Values {
				if v.Kind == rulebook.ValueText {
					add(v.Text)
				} else if v.Pattern != nil {
					for _, word := range v.Pattern.Words(2) {
						add(word)
					}
				}
			}
		}
		if !hasTest(r, rulebook.FieldPath) && !hasTest(r, rulebook.FieldAsked) {
			add("/")
			add("/a")
		}
	}
	return out
}

// specimen gives a text that a pattern takes: a name that a host can have, if it is
// one of hosts.
func specimen(p *pattern.Pattern) string {
	if s, ok := p.Literal(); ok {
		return s
	}
	words := p.Words(4)
	for _, word := range words {
		if !slices.ContainsFunc(strings.Split(word, "."), func(label string) bool { return label == "" || strings.Trim(label, "-") != label }) {
			return word
		}
	}
	if len(words) > 0 {
		return strings.Trim(words[0], ".")
	}
	return ""
}

// satisfy makes a request pass a test, as far as that is easily done.
func satisfy(req *request.Request, t *rulebook.Test) {
	if t.Unless {
		avoid(req, t)
		return
	}
	v := t.Values[0]
	row := t.Field.Row()
	switch row.Vary.(type) {
	case rulebook.VaryWords, rulebook.VaryHosts:
		if text := textOf(v); text != "" {
			row.Put(req, t.Field.Name, text, true)
		}
	case rulebook.VaryTexts:
		text := textOf(v)
		if v.Kind == rulebook.ValuePresent {
			text = "a"
		}
		row.Put(req, t.Field.Name, text, v.Kind != rulebook.ValueAbsent)
	case rulebook.VaryClients:
		switch v.Kind {
		case rulebook.ValueNetwork:
			req.Client = v.Network.Addr()
		case rulebook.ValuePresent:
			req.Client = stranger
		}
	case rulebook.VaryNumbers:
		switch v.Kind {
		case rulebook.ValuePresent:
			row.Set(req, bounds(nil)[0])
		case rulebook.ValueSpan:
			at := v.Span.Low
			if at < 0 { // it has no beginning
				at = v.Span.High
			}
			row.Set(req, at)
		}
	}
}

// stranger is a client that no network is likely to hold (RFC 5737).
var stranger = netip.MustParseAddr("203.0.113.77")

// avoid makes a request pass an `unless`.
func avoid(req *request.Request, t *rulebook.Test) {
	row := t.Field.Row()
	switch row.Vary.(type) {
	case rulebook.VaryWords:
		for _, word := range row.Words {
			if word != t.Values[0].Text {
				row.Put(req, t.Field.Name, word, true)
			}
		}
	case rulebook.VaryClients:
		req.Client = stranger
	case rulebook.VaryTexts:
		if t.Field.Kind == rulebook.FieldMethod {
			req.Method = "PATCH"
		}
	}
}

// textOf gives a text that a value takes.
func textOf(v rulebook.Value) string {
	switch v.Kind {
	case rulebook.ValueText:
		return v.Text
	case rulebook.ValueGlob:
		return cmp.Or(strings.ReplaceAll(v.Text, "*", ""), "x")
	case rulebook.ValuePattern:
		return specimen(v.Pattern)
	case rulebook.ValueRegexp:
		return pattern.Word(strings.TrimPrefix(v.Text, "~"), func(s string) bool { return v.Regexp.MatchString(s) })
	}
	return ""
}
