package proof

import (
	"math"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"time"

	"kibitz/core/canonical"
	"kibitz/core/pattern"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

// probes makes requests that a rule takes, if nothing above it does: one for
// each path that can be thought of, over each scheme and host of the site.
func (c *checker) probes(s *rulebook.Site, r *rulebook.Rule) []*request.Request {
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

// plain is a request for the home page of a site, by the scheme and the host to
// which all others are sent, if there are such.
func (c *checker) plain(s *rulebook.Site) *request.Request {
	for _, f := range c.graph().fronts {
		if f.space.site == s && f.last == math.MaxInt {
			return f.request()
		}
	}
	return &request.Request{Address: s.Address}
}

type probePath struct{ path, query string }

const maxRowProbes = 1000

// paths gives addresses that a rule's path selectors take.
func (c *checker) paths(r *rulebook.Rule) []probePath {
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
	switch t.Field.Kind {
	case rulebook.FieldScheme:
		setScheme(req, v.Text)
	case rulebook.FieldHost:
		if text := textOf(v); text != "" {
			req.Address.Host = text
		}
	case rulebook.FieldPort:
		if v.Kind == rulebook.ValueSpan {
			req.Address.Port = int(v.Span.Low)
		}
	case rulebook.FieldMethod, rulebook.FieldQuery, rulebook.FieldHeader, rulebook.FieldCookie:
		text := textOf(v)
		if v.Kind == rulebook.ValuePresent {
			text = "a"
		}
		put(req, t.Field, text, v.Kind != rulebook.ValueAbsent)
	case rulebook.FieldClient:
		if v.Kind == rulebook.ValueNetwork {
			req.Client = v.Network.Addr()
		}
	case rulebook.FieldTime:
		if v.Kind == rulebook.ValueSpan {
			at := v.Span.Low
			if at < 0 {
				at = v.Span.High
			}
			req.Time = time.UnixMicro(at).UTC()
		}
	case rulebook.FieldBody:
		if v.Kind == rulebook.ValueSpan {
			req.Body = v.Span.Low
		}
	}
}

// avoid makes a request pass an `unless`.
func avoid(req *request.Request, t *rulebook.Test) {
	switch t.Field.Kind {
	case rulebook.FieldScheme:
		setScheme(req, map[string]string{"http": "https", "https": "http"}[t.Values[0].Text])
	case rulebook.FieldClient:
		req.Client = netip.MustParseAddr("203.0.113.77")
	case rulebook.FieldMethod:
		req.Method = "PATCH"
	}
}

func setScheme(req *request.Request, scheme string) {
	if req.Address.Port == request.DefaultPort(req.Address.Scheme) {
		req.Address.Port = request.DefaultPort(scheme)
	}
	req.Address.Scheme = scheme
}

// textOf gives a text that a value takes.
func textOf(v rulebook.Value) string {
	switch v.Kind {
	case rulebook.ValueText:
		return v.Text
	case rulebook.ValueGlob:
		return strings.ReplaceAll(v.Text, "*", "x")
	case rulebook.ValuePattern:
		return specimen(v.Pattern)
	case rulebook.ValueRegexp:
		return pattern.Word(strings.TrimPrefix(v.Text, "~"), func(s string) bool { return v.Regexp.MatchString(s) })
	}
	return ""
}

var needsEncoding = regexp.MustCompile(`[^A-Za-z0-9._~-]`)

func queryText(s string) string {
	return needsEncoding.ReplaceAllStringFunc(s, func(c string) string { return canonical.Spell(strings.ReplaceAll(c, "+", "%2B")) })
}
