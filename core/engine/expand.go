package engine

// Templates filled in: each value encoded for the place where it lands.

import (
	"errors"
	"fmt"
	"html"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/net/http/httpguts"

	"kibitz/core/canonical"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

// values gives the text of a template's values.
type values struct {
	*state
	rule     *rulebook.Rule
	captures []capture
}

// valuesOf gives the values of a rule that fits; they hold until it is called
// again.
func (s *state) valuesOf(r *rulebook.Rule) *values { return &values{s, r, s.captures(r)} }

// text gives one value, changed as its filters say, and whether it is
// percent-encoded.
func (v *values) text(p *rulebook.Piece) (text string, encoded bool) {
	v.copied = v.copied || copiesBeside(v.rule, p)
	if p.Capture != "" {
		for i := range v.captures {
			if c := &v.captures[i]; c.name == p.Capture {
				text, encoded = c.text, c.encoded
				break
			}
		}
	} else {
		text, _ = v.value(p.Field)
		encoded = p.Field.Encoded()
	}
	for _, f := range p.Filters {
		text = filter(f, text, encoded)
	}
	return text, encoded
}

// filter changes a value: its letters, by Unicode's simple case mapping, one for
// one; or its blanks.
func filter(name, s string, encoded bool) string {
	change := unicode.ToLower
	switch name {
	case "dashes":
		return strings.NewReplacer("%20", "-", " ", "-", "_", "-").Replace(s)
	case "upper":
		change = unicode.ToUpper
	}
	if encoded {
		return canonical.Map(s, change)
	}
	var b strings.Builder
	for s != "" {
		r, n := utf8.DecodeRuneInString(s)
		if r == utf8.RuneError { // what is not a character stays
			b.WriteString(s[:n])
		} else {
			b.WriteRune(change(r))
		}
		s = s[n:]
	}
	return b.String()
}

func isHex(c byte) bool {
	return '0' <= c && c <= '9' || 'a' <= c|32 && c|32 <= 'f'
}

// fill writes pieces with each value encoded by enc.
func (v *values) fill(pieces []rulebook.Piece, enc func(p *rulebook.Piece, text string, encoded bool) (string, error)) (string, error) {
	if s, ok := rulebook.Constant(pieces); ok {
		return s, nil
	}
	v.filled = v.filled[:0]
	for i := range pieces {
		p := &pieces[i]
		if !p.Value {
			v.filled = append(v.filled, p.Text...)
			continue
		}
		text, encoded := v.text(p)
		s, err := enc(p, text, encoded)
		if err != nil {
			return "", err
		}
		if len(v.filled)+len(s) > maxResult {
			return "", fmt.Errorf("the result is longer than %d KiB", maxResult>>10)
		}
		v.filled = append(v.filled, s...)
	}
	return string(v.filled), nil
}

// maxResult keeps an entry that copies a value several times from growing
// without bound when its result comes back to it.
const maxResult = 64 << 10

// forHost lets a host and a port in as they are, and of anything else only
// what can be one label of a host.
func forHost(p *rulebook.Piece, text string, _ bool) (string, error) {
	if p.Capture == "" && (p.Field.Kind == rulebook.FieldHost || p.Field.Kind == rulebook.FieldPort) {
		return text, nil
	}
	bad := func(r rune) bool {
		return !(r == '-' || '0' <= r && r <= '9' || 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z')
	}
	if text == "" || strings.IndexFunc(text, bad) >= 0 {
		return "", fmt.Errorf("the value %q is not part of a host", text)
	}
	return strings.ToLower(text), nil
}

func forPath(_ *rulebook.Piece, text string, encoded bool) (string, error) {
	if encoded {
		return text, nil
	}
	return canonical.Spell(text), nil
}

func forQuery(p *rulebook.Piece, text string, encoded bool) (string, error) {
	if p.Capture == "" && p.Field == (rulebook.Field{Kind: rulebook.FieldQuery}) && len(p.Filters) == 0 {
		return text, nil
	}
	if encoded {
		text = canonical.Decode(text)
	}
	return escapeComponent(text), nil
}

// escapeComponent encodes all but the unreserved characters of RFC 3986.
func escapeComponent(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		c := s[i]
		if isHex(c) || 'g' <= c|32 && c|32 <= 'z' || strings.IndexByte("-._~", c) >= 0 {
			b.WriteByte(c)
		} else {
			fmt.Fprintf(&b, "%%%02X", c)
		}
	}
	return b.String()
}

func forHeader(_ *rulebook.Piece, text string, _ bool) (string, error) {
	if !httpguts.ValidHeaderFieldValue(text) {
		return "", errors.New("the value holds a control character")
	}
	return text, nil
}

// forText shows a value to people.
func forText(_ *rulebook.Piece, text string, encoded bool) (string, error) {
	if encoded {
		text = canonical.Readable(text)
	}
	return text, nil
}

// path fills the path of a target and makes it canonical.
func (v *values) path(t *rulebook.Template) (string, error) {
	path, err := v.fill(t.Path, forPath)
	if err != nil {
		return "", err
	}
	return canonical.Target(path, v.site.KeepSlashes)
}

// queryOf gives the query of a result, without its ?.
func (v *values) queryOf(t *rulebook.Template, q rulebook.Query) (string, error) {
	written := ""
	if t != nil {
		var err error
		if written, err = v.fill(t.Query, forQuery); err != nil {
			return "", err
		}
		written = encodeStray(written)
	}
	sent := ""
	switch q.Mode {
	case rulebook.QueryKeep:
		sent = v.query
	case rulebook.QueryMerge:
		sent = parameters(v.query, func(name string) bool {
			_, named := request.Parameter(written, name)
			return !named
		})
	case rulebook.QueryOnly:
		sent = parameters(v.query, func(name string) bool { return slices.Contains(q.Only, name) })
	}
	switch {
	case written == "":
		return encodeStray(sent), nil
	case sent == "":
		return written, nil
	}
	return written + "&" + encodeStray(sent), nil
}

// parameters keeps those whose name passes, as they were sent.
func parameters(query string, keep func(name string) bool) string {
	var out []string
	for _, pair := range strings.Split(query, "&") {
		name, _, _ := strings.Cut(pair, "=")
		if pair != "" && keep(request.FormText(name)) {
			out = append(out, pair)
		}
	}
	return strings.Join(out, "&")
}

// encodeStray encodes what may stand in no URL.
func encodeStray(s string) string {
	stray := func(r rune) bool { return r <= ' ' || r >= 0x7f || strings.IndexByte(`"<>#`, byte(r)) >= 0 }
	if strings.IndexFunc(s, stray) < 0 {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if c := s[i]; stray(rune(c)) {
			fmt.Fprintf(&b, "%%%02X", c)
		} else {
			b.WriteByte(c)
		}
	}
	return b.String()
}

// location fills a redirect's target.
func (v *values) location(t *rulebook.Template, q rulebook.Query) (string, error) {
	path, err := v.path(t)
	if err != nil {
		return "", err
	}
	query, err := v.queryOf(t, q)
	if err != nil {
		return "", err
	}
	out := path
	if !t.IsPath() {
		scheme, err := v.fill(t.Scheme, forText)
		if err != nil {
			return "", err
		}
		host, err := v.fill(t.Host, forHost)
		if err == nil {
			host, err = request.Authority(scheme, host)
		}
		if err != nil {
			return "", err
		}
		out = scheme + "://" + host + path
	}
	if query != "" {
		out += "?" + query
	}
	if t.HasFragment {
		fragment, err := v.fill(t.Fragment, forPath)
		if err != nil {
			return "", err
		}
		out += "#" + encodeStray(fragment)
	}
	return out, nil
}

// fillPage puts values into a page wherever a known one stands in braces.
func (v *values) fillPage(page string) string {
	readable := utf8.ValidString(page) // letters of another charset would be garbled
	var b strings.Builder
	for {
		i := strings.IndexByte(page, '{')
		if i < 0 {
			b.WriteString(page)
			return b.String()
		}
		b.WriteString(page[:i])
		end := strings.IndexByte(page[i:], '}')
		p, ok := rulebook.Piece{}, false
		if end > 0 {
			p, ok = rulebook.PagePiece(page[i+1 : i+end])
		}
		if !ok {
			b.WriteByte('{')
			page = page[i+1:]
			continue
		}
		text, encoded := v.text(&p)
		if readable {
			text, _ = forText(&p, text, encoded)
		}
		b.WriteString(html.EscapeString(text))
		page = page[i+end+1:]
	}
}
