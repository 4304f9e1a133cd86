package rulebook

// Templates: text with values in braces.

import (
	"net/url"
	"slices"
	"strings"
	"unicode/utf8"

	"kibitz/core/request"
)

// A Template is text with values in it. Of a `to` the parts are told apart;
// any other text is all Body.
type Template struct {
	Text string
	Body []Piece

	// Of an address: Scheme and Host are nil for a path of this site.
	Scheme, Host, Path, Query, Fragment []Piece
	HasQuery, HasFragment               bool
}

// A Piece is literal text, or a value.
type Piece struct {
	Text    string
	Value   bool
	Field   Field
	Capture string   // the name of a capture; "" for a field
	Filters []string // lower, upper, dashes
}

// Meant reports whether a name in braces means a value of every request, or of its folder, so
// that no capture can have it.
func Meant(name string) bool {
	_, field := parseField(name)
	return field || name == Below
}

// Below is the name of a value that entries with a folder have, as if it were a
// capture: what the path has below the folder, without the slash between; empty at
// the folder itself.
const Below = "below"

// Filters are what can be done to a value.
var Filters = []string{"lower", "upper", "dashes"}

// IsPath reports whether an address template leads to a path of the site that
// was asked.
func (t *Template) IsPath() bool { return t.Scheme == nil }

// Pieces are all pieces of a template, of whatever part.
func (t *Template) Pieces(yield func(*Piece) bool) {
	for _, pieces := range [...][]Piece{t.Body, t.Scheme, t.Host, t.Path, t.Query, t.Fragment} {
		for i := range pieces {
			if !yield(&pieces[i]) {
				return
			}
		}
	}
}

// Constant gives the text of pieces without values.
func Constant(pieces []Piece) (string, bool) {
	for i := range pieces {
		if pieces[i].Value {
			return "", false
		}
	}
	if len(pieces) == 1 {
		return pieces[0].Text, true
	}
	var b strings.Builder
	for i := range pieces {
		b.WriteString(pieces[i].Text)
	}
	return b.String(), true
}

// pieces splits a text at its values. captures are the names that the entry's
// patterns give.
func (b *builder) pieces(w Word, captures []string) []Piece {
	var out []Piece
	literal := func(s string) {
		if n := len(out); n > 0 && !out[n-1].Value {
			out[n-1].Text += s
		} else if s != "" {
			out = append(out, Piece{Text: s})
		}
	}
	rest := w.Text
	for {
		i := strings.IndexByte(rest, '{')
		if i < 0 {
			literal(rest)
			return out
		}
		literal(rest[:i])
		if strings.HasPrefix(rest[i:], "{{") {
			literal("{")
			rest = rest[i+2:]
			continue
		}
		end := strings.IndexByte(rest[i:], '}')
		at := w
		at.Width = 1
		at.Place.Col += utf8.RuneCountInString(w.Text[:len(w.Text)-len(rest)+i])
		if end < 0 {
			b.errs.at(at, "the { opened here is not closed: write {{ for a plain brace")
			return out
		}
		at.Width = utf8.RuneCountInString(rest[i : i+end+1])
		if p, ok := b.piece(at, rest[i+1:i+end], captures); ok {
			out = append(out, p)
		}
		rest = rest[i+end+1:]
	}
}

// piece reads what stands in braces.
func (b *builder) piece(at Word, s string, captures []string) (Piece, bool) {
	words := strings.Split(s, "|")
	p := Piece{Value: true, Filters: words[1:]}
	for _, f := range p.Filters {
		if !slices.Contains(Filters, f) {
			b.errs.at(at, "`%s` is nothing that can be done to a value%s", shorten(f), orNearest(f, Filters))
			return p, false
		}
	}
	if slices.Contains(captures, words[0]) {
		p.Capture = words[0]
		return p, true
	}
	var ok bool
	if p.Field, ok = parseField(words[0]); ok {
		return p, true
	}
	known := "no pattern of this entry has it"
	if words[0] == Below {
		known = "it is what the path has below the folder of `in`, and this entry has none"
	}
	if len(captures) > 0 {
		known = "the entry's patterns give {" + strings.Join(captures, "}, {") + "}"
	}
	b.errs.at(at, "there is no value {%s}: %s; a plain brace is written {{", shorten(words[0]), known)
	return p, false
}

// text reads a template that is all text.
func (b *builder) text(words []Word, captures []string) *Template {
	t := &Template{}
	for i, w := range words {
		if i > 0 {
			t.Text += " "
			t.Body = append(t.Body, Piece{Text: " "})
		}
		t.Text += w.Text
		t.Body = append(t.Body, b.pieces(w, captures)...)
	}
	return t
}

// target reads a `to`. With pathOnly it must be a path.
func (b *builder) target(w Word, captures []string, pathOnly bool) *Template {
	before := len(b.errs)
	t := &Template{Text: w.Text}
	all := b.pieces(w, captures)
	if len(b.errs) > before {
		return nil
	}
	first := Piece{}
	if len(all) > 0 {
		first = all[0]
	}
	switch {
	case first.Value && isPathField(first) || strings.HasPrefix(first.Text, "/"):
		if strings.HasPrefix(first.Text, "//") {
			b.errs.at(w, "an address begins with one slash or with a scheme: write /%s or https:%s", strings.TrimLeft(w.Text, "/"), shorten(w.Text))
			return nil
		}
	default:
		scheme, rest, ok := cutScheme(all)
		if !ok {
			if host, path, ok := hostAndPath(w.Text); ok && !pathOnly {
				b.errs.at(w, "an address on another host begins with its scheme: write https://%s%s", host, path)
				return nil
			}
			b.errs.at(w, "an address begins with /, {path}, {asked} or a scheme: write /%s or https://…", shorten(w.Text))
			return nil
		}
		if pathOnly {
			b.errs.at(w, "this leads to a path inside the site: begin it with a slash")
			return nil
		}
		t.Scheme = scheme
		t.Host, all = cutHost(rest)
		if len(t.Host) == 0 {
			b.errs.at(w, "the host is missing: write it behind the ://")
			return nil
		}
		if len(all) == 0 {
			all = []Piece{{Text: "/"}}
		}
	}
	var ok bool
	if all, t.Fragment, t.HasFragment = cutPieces(all, "#"); t.HasFragment && pathOnly {
		b.errs.at(w, "a fragment (#…) never reaches the server: leave it out")
		return nil
	}
	if t.Path, t.Query, ok = cutPieces(all, "?"); ok {
		t.HasQuery = true
	}
	if !b.checkTarget(w, t) {
		return nil
	}
	return t
}

// PagePiece reads what stands in braces in a page that is filled: a field of
// the request, perhaps with filters. Anything else is not meant.
func PagePiece(s string) (Piece, bool) {
	words := strings.Split(s, "|")
	field, ok := parseField(words[0])
	for _, f := range words[1:] {
		ok = ok && slices.Contains(Filters, f)
	}
	return Piece{Value: true, Field: field, Filters: words[1:]}, ok
}

func isPathField(p Piece) bool {
	return p.Value && p.Capture == "" && (p.Field.Kind == FieldPath || p.Field.Kind == FieldAsked)
}

// cutScheme splits off `https://` or `{scheme}://`.
func cutScheme(all []Piece) (scheme, rest []Piece, ok bool) {
	if len(all) == 0 {
		return nil, nil, false
	}
	if all[0].Value {
		if all[0].Field.Kind != FieldScheme || all[0].Capture != "" || len(all) < 2 || !strings.HasPrefix(all[1].Text, "://") {
			return nil, nil, false
		}
		rest = append([]Piece{{Text: all[1].Text[3:]}}, all[2:]...)
		return all[:1], rest, true
	}
	name, after, ok := strings.Cut(all[0].Text, "://")
	if !ok || name == "" || strings.Trim(strings.ToLower(name), "abcdefghijklmnopqrstuvwxyz0123456789+.-") != "" {
		return nil, nil, false
	}
	return []Piece{{Text: strings.ToLower(name)}}, append([]Piece{{Text: after}}, all[1:]...), true
}

// cutHost splits off what stands before the path begins.
func cutHost(all []Piece) (host, rest []Piece) {
	for i, p := range all {
		if isPathField(p) {
			return host, all[i:]
		}
		if j := strings.IndexAny(p.Text, "/?#"); !p.Value && j >= 0 {
			if j > 0 {
				host = append(host, Piece{Text: p.Text[:j]})
			}
			rest = append([]Piece{{Text: p.Text[j:]}}, all[i+1:]...)
			if p.Text[j] != '/' {
				rest = append([]Piece{{Text: "/"}}, rest...)
			}
			return host, rest
		}
		if p.Value || p.Text != "" {
			host = append(host, p)
		}
	}
	return host, nil
}

// cutPieces splits at the first mark in literal text.
func cutPieces(all []Piece, mark string) (before, after []Piece, found bool) {
	for i, p := range all {
		j := strings.Index(p.Text, mark)
		if p.Value || j < 0 {
			continue
		}
		if j > 0 {
			before = append(before, Piece{Text: p.Text[:j]})
		}
		if p.Text[j+1:] != "" {
			after = append(after, Piece{Text: p.Text[j+1:]})
		}
		return append(slices.Clone(all[:i]), before...), append(after, all[i+1:]...), true
	}
	return all, nil, false
}

// checkTarget refuses what no request can make right.
func (b *builder) checkTarget(w Word, t *Template) bool {
	path := ""
	for _, p := range t.Path {
		if p.Value {
			path += "x"
		} else {
			path += p.Text
		}
	}
	for _, s := range strings.Split(path, "/") {
		if s == "." || s == ".." {
			b.errs.at(w, "the target has a %s segment: write the path that it leads to", s)
			return false
		}
	}
	for i := 0; i < len(path); i++ {
		if path[i] == '%' {
			if _, err := url.PathUnescape(path[i:min(i+3, len(path))]); err != nil {
				b.errs.at(w, "a %% stands without two hexadecimal digits behind it: write a plain %% as %%25")
				return false
			}
		}
	}
	if t.Scheme == nil {
		return true
	}
	scheme, _ := Constant(t.Scheme)
	host := ""
	for _, p := range t.Host { // with a stand-in for each value
		switch {
		case !p.Value:
			host += p.Text
		case strings.HasSuffix(host, ":"):
			host += "1"
		default:
			host += "x"
		}
	}
	ascii, err := request.Authority(scheme, host)
	if err != nil {
		constant, _ := Constant(t.Host)
		if constant == "" {
			constant = w.Text
		}
		b.errs.at(w, "%q is not a host that a browser takes", constant)
		return false
	}
	if _, constant := Constant(t.Host); constant {
		t.Host = []Piece{{Text: ascii}}
	}
	return true
}
