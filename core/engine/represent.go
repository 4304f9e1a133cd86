package engine

// What goes over the wire: media type, validators, encoding, conditions,
// header entries, hints (steps 6 to 8).

import (
	"fmt"
	"html"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"golang.org/x/net/http/httpguts"

	"kibitz/core/canonical"
	"kibitz/core/representation"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

func (r *Response) set(name, value string) {
	r.drop(name)
	r.Headers = append(r.Headers, request.Header{Name: name, Value: value})
}

func (r *Response) drop(name string) {
	r.Headers = slices.DeleteFunc(r.Headers, func(h request.Header) bool { return strings.EqualFold(h.Name, name) })
}

// bodiless reports whether answers of a status have no body.
func bodiless(status int) bool {
	return status/100 == 3 || status == http.StatusNoContent || status == http.StatusResetContent
}

// represent gives the answer its body, with the fields that describe it.
func (s *state) represent(r *Response) {
	if r.Location != "" && !s.light {
		r.set("Location", r.Location)
	}
	if bodiless(r.Status) {
		r.File, r.content, r.Type = nil, nil, ""
		return
	}
	r.stored = nil
	charset := ""
	switch {
	case r.File != nil && s.site != nil:
		r.Type = s.mediaType(r.File)
		r.Size = r.File.Size
		if r.content != nil {
			r.Size = int64(len(r.content))
		}
	case r.content != nil:
		charset = "utf-8"
		r.Size = int64(len(r.content))
	case r.Status >= 400:
		text := http.StatusText(r.Status)
		r.Type, charset = "text/plain", "utf-8"
		r.Size = int64(len("404 \n") + len(text))
		if !s.light {
			r.content = fmt.Appendf(nil, "%d %s\n", r.Status, text)
		}
	default:
		r.Size = 0
	}
	r.Encoded = r.Size
	if s.light && !s.conditional() {
		if r.File != nil {
			s.encode(r)
		}
		return
	}
	if r.File != nil && s.site != nil {
		charset = s.charset(r)
	}
	if r.Type != "" {
		full := r.Type
		if charset != "" {
			full += "; charset=" + charset
		}
		r.set("Content-Type", full)
	}
	validates := r.File != nil && r.content == nil && r.Status == http.StatusOK
	if validates && !r.File.Modified.IsZero() {
		r.set("Last-Modified", r.File.Modified.UTC().Format(http.TimeFormat))
		r.set("ETag", etag(r.File, ""))
	}
	if r.File != nil {
		s.encode(r)
	}
	if r.File != nil && r.content == nil && extension(r.File) == representation.PackedText {
		r.set("Content-Encoding", "gzip")
	}
	r.set("Content-Length", strconv.FormatInt(r.Encoded, 10))
	if r.Encoded < 0 {
		r.drop("Content-Length")
	}
	if validates {
		s.conditions(r)
	}
}

// conditional reports whether the request has a header field that can change
// the answer to it.
func (s *state) conditional() bool {
	for _, h := range s.req.Headers {
		if len(h.Name) > 3 && (strings.EqualFold(h.Name[:3], "if-") || strings.EqualFold(h.Name, "range")) {
			return true
		}
	}
	return false
}

// FromFileTime reports whether a field of the answer has the value that the time of its file
// makes, as another copy of the file has another.
func (r *Response) FromFileTime(name string) bool {
	value, ok := r.Get(name)
	if !ok || r.File == nil {
		return false
	}
	switch {
	case strings.EqualFold(name, "Last-Modified"):
		return value == r.File.Modified.UTC().Format(http.TimeFormat)
	case strings.EqualFold(name, "ETag"):
		encoding, _ := r.Get("Content-Encoding")
		return value == etag(r.File, encoding) || value == etag(r.File, "")
	}
	return false
}

// etag is a strong validator of a file in one encoding.
func etag(n *site.Node, encoding string) string {
	tag := fmt.Sprintf("%x-%x", n.Modified.UnixMicro(), n.Size)
	if encoding != "" {
		tag += "-" + encoding
	}
	return `"` + tag + `"`
}

// charset gives the charset of a file that is a text: what an entry says, or UTF-8,
// unless it is seen not to be that.
func (s *state) charset(r *Response) string {
	if !strings.HasPrefix(r.Type, "text/") {
		return ""
	}
	e := s.first(groupMedia, func(r *rulebook.Rule) bool { return r.Action.(*rulebook.Media).Charset != "" })
	if e != nil {
		return e.Action.(*rulebook.Media).Charset
	}
	if !s.site.isUTF8(r.File) {
		s.note(nil, "%s is not UTF-8: it is sent without a charset", r.File.Path)
		return ""
	}
	return "utf-8"
}

// looked is how much of a file is looked at, to see whether it is UTF-8.
const looked = 64 << 10

// isUTF8 reports whether a file begins as UTF-8 does; one whose content is not known is
// taken for it.
func (s *siteEngine) isUTF8(n *site.Node) bool {
	if known, ok := s.texts.Load(n); ok {
		return known.(bool)
	}
	text, _ := n.Beginning(looked) // nothing, where it cannot be read
	if len(text) == looked {       // the last character may be cut
		for i := 1; i < utf8.UTFMax; i++ {
			if utf8.RuneStart(text[len(text)-i]) {
				if !utf8.FullRune(text[len(text)-i:]) {
					text = text[:len(text)-i]
				}
				break
			}
		}
	}
	valid := utf8.Valid(text)
	s.texts.Store(n, valid)
	return valid
}

// extension is that of a file, in lower case, without its dot.
func extension(n *site.Node) string {
	return strings.ToLower(strings.TrimPrefix(path.Ext(n.Name()), "."))
}

// mediaType gives a file's media type, by its extension.
func (s *state) mediaType(n *site.Node) (mediaType string) {
	ext := extension(n)
	mediaType = representation.Extensions[ext]
	e := s.first(groupMedia, func(r *rulebook.Rule) bool { return r.Action.(*rulebook.Media).Types[ext] != "" })
	if e != nil && ext != "" {
		mediaType = e.Action.(*rulebook.Media).Types[ext]
		if s.trace != nil {
			s.note(e.Rule, ".%s is %s", ext, mediaType)
		}
	}
	if mediaType == "" {
		mediaType = "application/octet-stream"
	}
	return mediaType
}

// list makes the listing of a folder.
func (s *state) list(r *Response, n *site.Node, at string) {
	columns := []string{"name", "size", "date"}
	if e := s.first(groupFolder, func(r *rulebook.Rule) bool { return r.Action.(*rulebook.Folder).Columns != nil }); e != nil {
		columns = e.Action.(*rulebook.Folder).Columns
	}
	hidden := s.showsHidden()
	title := html.EscapeString("Folder " + canonical.Decode(at))
	var b strings.Builder
	fmt.Fprintf(&b, "<!DOCTYPE html>\n<html lang=\"en\">\n<meta charset=\"utf-8\">\n<title>%s</title>\n<h1>%s</h1>\n<table>\n<tr>", title, title)
	for _, c := range columns {
		fmt.Fprintf(&b, "<th>%s", map[string]string{"name": "Name", "size": "Size", "date": "Changed"}[c])
	}
	b.WriteString("\n")
	if at != "/" {
		b.WriteString("<tr><td><a href=\"../\">one folder up</a>\n")
	}
	for _, child := range n.Children {
		if child.Hidden && !hidden {
			continue
		}
		name, slash := child.Name(), ""
		if child.Folder {
			slash = "/"
		}
		b.WriteString("<tr>")
		for _, c := range columns {
			switch c {
			case "name":
				fmt.Fprintf(&b, "<td><a href=\"./%s%s\">%s%s</a>", url.PathEscape(name), slash, html.EscapeString(name), slash)
			case "size":
				size := ""
				if !child.Folder {
					size = strconv.FormatInt(child.Size, 10)
				}
				fmt.Fprintf(&b, "<td>%s", size)
			case "date":
				date := ""
				if !child.Modified.IsZero() && !child.Folder {
					date = child.Modified.Format("2006-01-02 15:04")
				}
				fmt.Fprintf(&b, "<td>%s", date)
			}
		}
		b.WriteString("\n")
	}
	b.WriteString("</table>\n</html>\n")
	r.content, r.Type = []byte(b.String()), "text/html"
}

func init() {
	does(rulebook.KindHeader, groupHeader, nil)
	does(rulebook.KindMedia, groupMedia, nil)
	does(rulebook.KindCompress, groupCompress, nil)
	does(rulebook.KindHint, groupHint, nil)
}

// headers applies the header entries (step 7); it reports whether their values
// were valid.
func (s *state) headers(r *Response) bool {
	if s.light && s.site.fixed {
		return true
	}
	for pos := s.find.next(s, groupHeader, -1); pos >= 0; pos = s.find.next(s, groupHeader, pos) {
		rule := s.site.entries[pos].Rule
		a := rule.Action.(*rulebook.Header)
		if s.light && a.Constant() {
			continue // it is valid, and nobody looks at it
		}
		if !a.For.Empty() && !a.For.Has(r.Status) {
			if s.trace != nil {
				s.trace.Steps = append(s.trace.Steps, Step{Rule: rule, Text: fmt.Sprintf("for %s: the status is %d", strings.Join(a.For.Words(), " "), r.Status)})
			}
			continue
		}
		v := s.valuesOf(rule)
		for _, c := range a.Changes {
			copied := s.copied
			if !s.change(r, v, rule, c) {
				return false
			}
			if s.light && takesPlain(c.Value) {
				s.copied = copied // it is valid, and so are other plain texts in its place
			}
		}
	}
	return true
}

// PlainText is the length up to which a text without control characters is plain.
const PlainText = 1 << 10

// takesPlain reports whether plain texts for all values make a value that is not too
// long (a character can become three).
func takesPlain(t *rulebook.Template) bool {
	if t == nil {
		return true
	}
	length := 0
	for _, p := range t.Body {
		length += len(p.Text)
		if p.Value {
			length += 3 * PlainText
		}
	}
	return length <= maxResult
}

// change makes one change to the header.
func (s *state) change(r *Response, v *values, rule *rulebook.Rule, c rulebook.HeaderChange) bool {
	if c.Do == "drop" {
		_, had := r.Get(c.Name)
		r.drop(c.Name)
		if had {
			s.note(rule, "drops %s", c.Name)
		}
		return true
	}
	value, err := v.fill(c.Value.Body, forHeader)
	value = strings.Trim(value, " \t") // blanks at its ends are no part of it (RFC 9110, 5.5)
	if err == nil && !httpguts.ValidHeaderFieldValue(value) {
		err = fmt.Errorf("the value holds a control character")
	}
	if err != nil {
		s.bad(r, rule, fmt.Errorf("%s: %w", c.Name, err))
		return false
	}
	switch _, has := r.Get(c.Name); {
	case c.Do == "set":
		if r.varies && strings.EqualFold(c.Name, "Vary") && !namesField(value, acceptEncoding) {
			value = strings.TrimPrefix(value+", "+acceptEncoding, ", ") // whatever is said: a cache would mix encodings
			s.note(rule, "%s stays in Vary, since the answer can be encoded", acceptEncoding)
		}
		r.set(c.Name, value)
	case c.Do == "add" || !has:
		r.Headers = append(r.Headers, request.Header{Name: c.Name, Value: value})
	default:
		s.note(rule, "%s is there already", c.Name)
		return true
	}
	s.note(rule, "%ss %s: %s", map[string]string{"set": "set", "add": "add", "default": "set"}[c.Do], c.Name, value)
	return true
}

// namesField reports whether a Vary field names another one, or all.
func namesField(vary, name string) bool {
	return slices.ContainsFunc(request.List(vary), func(s string) bool { return s == "*" || strings.EqualFold(s, name) })
}

// hints gives the early hints ahead of a page (step 8).
func (s *state) hints(r *Response) {
	if r.Status != http.StatusOK || r.Type != "text/html" {
		return
	}
	e := s.first(groupHint, func(*rulebook.Rule) bool { return true })
	if e == nil {
		return
	}
	a := e.Action.(*rulebook.Hint)
	for _, p := range a.Preloads {
		link := fmt.Sprintf("<%s>; rel=preload; as=%s", encodeStray(p.Path), p.As)
		if p.As == "font" || p.As == "fetch" {
			link += "; crossorigin"
		}
		r.Hints = append(r.Hints, link)
	}
	for _, o := range a.Preconnects {
		r.Hints = append(r.Hints, fmt.Sprintf("<%s>; rel=preconnect", o))
	}
	s.note(e.Rule, "announces %d in an early hint (103)", len(r.Hints))
}
