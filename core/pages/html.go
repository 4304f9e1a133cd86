package pages

// Pages, as browsers read them. The tokenizer is that of the standard; what it does not
// tell, where an attribute stands, is read again of the tag.

import (
	"bytes"
	"strings"

	"golang.org/x/net/html"
)

// An attribute is one of a tag, and where its value stands in the file.
type attribute struct {
	name, value string
	raw         string
	at          int // of the raw value
}

// where gives the place of a part of the value.
func (a attribute) where(from, to int) (offset, length int) {
	if a.raw == a.value {
		return a.at + from, to - from
	}
	start, end := rawPlace(a.raw, from), rawPlace(a.raw, to)
	return a.at + start, end - start
}

// rawPlace gives where a place of a value stands in the text that it was read of.
func rawPlace(raw string, place int) int {
	read := 0
	for i := 0; i < len(raw); {
		if read >= place {
			return i
		}
		n, length := 1, 1
		switch {
		case raw[i] == '&':
			n, length = reference(raw[i:])
		case raw[i] == '\r' && i+1 < len(raw) && raw[i+1] == '\n':
			n = 2
		case raw[i] == 0: // read as U+FFFD
			length = 3
		}
		i, read = i+n, read+length
	}
	return len(raw)
}

// reference gives the length of what begins with &, and of what it stands for: in an
// attribute letters and digits are a name as a whole, or none (HTML, 13.2.5.73).
func reference(raw string) (n, length int) {
	const digits, letters = "0123456789", "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789"
	end, set := 1, letters
	if strings.HasPrefix(raw, "&#") {
		if end, set = 2, digits; len(raw) > 2 && (raw[2] == 'x' || raw[2] == 'X') {
			end, set = 3, "0123456789abcdefABCDEF"
		}
	}
	for end < len(raw) && strings.IndexByte(set, raw[end]) >= 0 {
		end++
	}
	next := ""
	if end < len(raw) {
		if raw[end] == ';' {
			end++
		} else {
			next = raw[end : end+1]
		}
	}
	if value := strings.TrimSuffix(unescape(raw[:end]+next), unescape(next)); value != raw[:end] {
		return end, len(value)
	}
	return 1, 1
}

// unescape reads the value of an attribute.
func unescape(raw string) string {
	z := html.NewTokenizer(strings.NewReader(`<a x="` + strings.ReplaceAll(raw, `"`, "&quot;") + `">`))
	z.Next()
	z.TagName()
	_, value, _ := z.TagAttr()
	return string(value)
}

// attributesOf reads the attributes of a start tag, which stands at a place of the file:
// the first of each name.
func attributesOf(z *html.Tokenizer, tag []byte, at int, more bool) []attribute {
	spans := valuesOf(tag)
	var out []attribute
	for more {
		var key, value []byte
		key, value, more = z.TagAttr()
		if len(out) == len(spans) {
			return nil
		}
		s := spans[len(out)]
		if !bytes.EqualFold(s.name, key) {
			return nil // it cannot be told where it stands
		}
		out = append(out, attribute{name: string(key), value: string(value), raw: string(s.value), at: at + s.at})
	}
	return out
}

// A span is an attribute as it stands in a tag.
type span struct {
	name, value []byte
	at          int
}

// valuesOf finds the attributes of a start tag (HTML, 13.2.5.32 and on), the first of each
// name.
func valuesOf(tag []byte) (out []span) {
	i, n := 1, len(tag)
	blank := func() bool { return strings.IndexByte(blanks, tag[i]) >= 0 }
	for i < n && !blank() && tag[i] != '/' && tag[i] != '>' {
		i++
	}
	seen := map[string]bool{}
	for {
		for i < n && (blank() || tag[i] == '/') {
			i++
		}
		if i >= n || tag[i] == '>' {
			return out
		}
		name := i
		for i < n && !blank() && tag[i] != '/' && tag[i] != '>' && (tag[i] != '=' || i == name) {
			i++
		}
		s := span{name: tag[name:i], at: i}
		for i < n && blank() {
			i++
		}
		if i < n && tag[i] == '=' {
			i++
			for i < n && blank() {
				i++
			}
			switch {
			case i >= n || tag[i] == '>':
				s.at = i
			case tag[i] == '"' || tag[i] == '\'':
				end := bytes.IndexByte(tag[i+1:], tag[i])
				if end < 0 {
					end = n - i - 1
				}
				s.at, s.value = i+1, tag[i+1:i+1+end]
				i += end + 2
			default:
				s.at = i
				for i < n && !blank() && tag[i] != '>' {
					i++
				}
				s.value = tag[s.at:i]
			}
		}
		if key := strings.ToLower(string(s.name)); !seen[key] {
			seen[key] = true
			out = append(out, s)
		}
	}
}

// An htmlReader is in the middle of a page.
type htmlReader struct {
	*File
	content   []byte
	templates int    // that it is within: they show nothing
	foreign   []bool // elements that lead into SVG or MathML, and out of it
	within    string // style, script or title
	body      bool   // the head is over
	opened    []attribute
}

func readHTML(f *File, content []byte) {
	r := &htmlReader{File: f, content: content}
	z := html.NewTokenizer(bytes.NewReader(content))
	z.SetMaxBuf(MaxFile + 1)
	f.Quirks = true
	for at := 0; ; {
		z.AllowCDATA(r.isForeign())
		kind := z.Next()
		if kind == html.ErrorToken {
			return
		}
		begin := at
		at += len(z.Raw())
		switch kind {
		case html.DoctypeToken:
			f.Quirks = false
		case html.TextToken:
			r.text(z, begin, at)
		case html.StartTagToken, html.SelfClosingTagToken:
			name, more := z.TagName()
			r.start(string(name), attributesOf(z, content[begin:at], begin, more), kind == html.SelfClosingTagToken)
			if r.isForeign() {
				z.NextIsNotRawText()
			}
		case html.EndTagToken:
			name, _ := z.TagName()
			r.end(string(name))
		}
	}
}

func (r *htmlReader) isForeign() bool {
	return len(r.foreign) > 0 && r.foreign[len(r.foreign)-1]
}

// text reads a text: of a style, a script, or the title.
func (r *htmlReader) text(z *html.Tokenizer, begin, end int) {
	if r.templates > 0 {
		return
	}
	r.body = r.body || r.within == "" && strings.Trim(string(r.content[begin:end]), blanks) != ""
	raw := r.content[begin:end]
	switch r.within {
	case "title":
		if r.Title == "" {
			r.Title = strings.Join(strings.Fields(string(z.Text())), " ")
		}
	case "style":
		r.readCSS(raw, plainMap(begin), InStyle)
		r.inline(Style, "element", string(bytes.ReplaceAll(raw, []byte("\r\n"), []byte("\n"))), begin)
	case "script":
		kind, has := value(r.opened, "type")
		kind = strings.ToLower(strings.Trim(kind, blanks))
		if _, src := value(r.opened, "src"); !src && (!has || kind == "" || kind == "module" || kind == "importmap" || kind == "speculationrules" || isScript(kind)) {
			r.inline(Script, "element", string(bytes.ReplaceAll(raw, []byte("\r\n"), []byte("\n"))), begin)
			r.Inline[len(r.Inline)-1].Module = kind == "module"
		}
	}
}

func (r *htmlReader) inline(use Use, kind, content string, at int) {
	nonce, _ := value(r.opened, "nonce")
	if kind == "attribute" {
		nonce = ""
	}
	r.Inline = append(r.Inline, Inline{Use: use, Kind: kind, Content: content, Nonce: nonce, Offset: at})
}

func value(attributes []attribute, name string) (string, bool) {
	for _, a := range attributes {
		if a.name == name {
			return a.value, true
		}
	}
	return "", false
}

func (r *htmlReader) end(name string) {
	switch name {
	case "template":
		r.templates = max(0, r.templates-1)
	case "svg", "math", "foreignobject", "desc", "annotation-xml":
		if len(r.foreign) > 0 && (name == "svg" || name == "math") == r.foreign[len(r.foreign)-1] {
			r.foreign = r.foreign[:len(r.foreign)-1]
		}
	}
	if name == r.within {
		r.within = ""
	}
}

// start reads a start tag.
func (r *htmlReader) start(name string, attributes []attribute, closed bool) {
	switch name {
	case "template":
		r.templates++
	case "svg", "math":
		if !closed {
			r.foreign = append(r.foreign, true)
		}
	case "foreignobject", "desc", "annotation-xml":
		if !closed && r.isForeign() {
			r.foreign = append(r.foreign, false)
		}
	case "style", "script", "title":
		if r.opened = attributes; !closed || !r.isForeign() {
			r.within = name
		}
	}
	if r.templates > 0 {
		return
	}
	r.body = r.body || !inHead[name]
	get := func(name string) string { v, _ := value(attributes, name); return v }
	first := len(r.References)
	for _, a := range attributes {
		r.attribute(name, a, get)
	}
	_, cors := value(attributes, "crossorigin")
	for i := first; i < len(r.References); i++ {
		ref := &r.References[i]
		ref.Nonce, ref.CORS = get("nonce"), cors
		if name == "script" || name == "link" {
			ref.Integrity = get("integrity")
		}
	}
	if name == "meta" {
		r.meta(attributes, get)
	}
	if name == "script" {
		r.Scripted = true
	}
}

// inHead are the elements that do not end the head of a page (HTML, 13.2.6.4.4).
var inHead = map[string]bool{"html": true, "head": true, "base": true, "basefont": true, "bgsound": true, "link": true, "meta": true, "title": true, "noscript": true, "noframes": true, "style": true, "script": true, "template": true}

// attribute reads one attribute of an element.
func (r *htmlReader) attribute(element string, a attribute, get func(string) string) {
	add := func(use Use) { r.addAll(use, a.value, a.where, InMarkup) }
	switch a.name {
	case "id":
		r.IDs[a.value] = true
	case "name":
		if element == "a" {
			r.IDs[a.value] = true
		}
	case "style":
		r.readCSS([]byte(a.value), a.where, InBoth)
		r.inline(Style, "attribute", a.value, a.at)
	case "href", "xlink:href":
		switch element {
		case "a", "area":
			add(Hyperlink)
		case "base":
			if r.Base == "" {
				r.Base = strings.Trim(a.value, blanks)
			}
		case "link":
			if use := useOfLink(get); use != "" {
				add(use)
				r.References[len(r.References)-1].Lang = get("hreflang")
			}
		case "image", "feimage", "use":
			if !strings.HasPrefix(a.value, "#") {
				add(Image)
			}
		case "script":
			add(Script)
		}
	case "src":
		if use, ok := sources[element]; ok {
			switch {
			case element == "script" && strings.EqualFold(strings.Trim(get("type"), blanks), "module"):
				use = Module
			case element == "script" && get("type") != "" && !isScript(strings.ToLower(strings.Trim(get("type"), blanks))):
				return
			case element == "input" && !strings.EqualFold(get("type"), "image"):
				return
			}
			if strings.Trim(a.value, blanks) != "" {
				add(use)
			}
		}
	case "srcset":
		if element == "img" || element == "source" {
			r.srcset(a)
		}
	case "imagesrcset":
		if element == "link" {
			r.srcset(a)
		}
	case "poster":
		if element == "video" {
			add(Image)
		}
	case "data":
		if element == "object" {
			add(Object)
		}
	case "action":
		if element == "form" {
			add(Form)
		}
	case "formaction":
		if element == "button" || element == "input" {
			add(Form)
		}
	case "background":
		if element == "body" || element == "table" || element == "td" || element == "th" {
			add(Image)
		}
	default:
		if strings.HasPrefix(a.name, "on") && len(a.name) > 3 {
			r.inline(Script, "attribute", a.value, a.at)
		}
	}
}

// sources are what the src attributes of elements are.
var sources = map[string]Use{"img": Image, "script": Script, "iframe": Frame, "frame": Frame, "embed": Object, "audio": Media, "video": Media, "source": Media, "track": Track, "input": Image}

// useOfLink gives what a link element refers to, by its rel; "" where nothing is asked for.
func useOfLink(get func(string) string) Use {
	rels := strings.Fields(strings.ToLower(get("rel")))
	use := Use("")
	for _, rel := range rels {
		switch rel {
		case "stylesheet":
			return Style
		case "icon", "apple-touch-icon", "apple-touch-icon-precomposed", "mask-icon":
			use = Image
		case "manifest":
			use = Manifest
		case "canonical":
			use = Canonical
		case "alternate":
			if get("hreflang") != "" {
				use = Alternate
			} else {
				use = Hyperlink
			}
		case "modulepreload":
			use = Module
		case "preload":
			use = ahead[strings.ToLower(get("as"))]
		case "prefetch":
			use = Fetch
		case "next", "prev", "help", "license", "author", "search", "privacy-policy", "terms-of-service":
			use = Hyperlink
		}
	}
	return use
}

// ahead are the uses of what is loaded ahead, by their `as` (WHATWG HTML, preload).
var ahead = map[string]Use{"image": Image, "style": Style, "script": Script, "font": Font, "track": Track, "fetch": Fetch, "audio": Media, "video": Media}

// meta reads what a meta element says in the place of a header field.
func (r *htmlReader) meta(attributes []attribute, get func(string) string) {
	for _, a := range attributes {
		if a.name != "content" {
			continue
		}
		switch strings.ToLower(strings.Trim(get("http-equiv"), blanks)) {
		case "refresh":
			if from, to, ok := refreshAddress(a.value); ok {
				r.add(Refresh, a.value, from, to, a.where, InMarkup)
			}
		case "content-security-policy":
			if r.body { // browsers take none there (CSP, 3.3)
				continue
			}
			r.Policies = append(r.Policies, Policy{Text: a.value, Offset: a.at})
		}
	}
}

// refreshAddress finds the address in the text of a refresh (HTML, shared declarative
// refresh steps).
func refreshAddress(s string) (from, to int, ok bool) {
	i := 0
	skip := func(set string) {
		for i < len(s) && strings.IndexByte(set, s[i]) >= 0 {
			i++
		}
	}
	skip(blanks)
	begin := i
	skip("0123456789")
	if i == begin && (i >= len(s) || s[i] != '.') {
		return 0, 0, false
	}
	skip("0123456789.")
	if i < len(s) && strings.IndexByte(blanks+";,", s[i]) < 0 {
		return 0, 0, false
	}
	skip(blanks)
	if i < len(s) && (s[i] == ';' || s[i] == ',') {
		i++
	}
	skip(blanks)
	if i >= len(s) {
		return 0, 0, false
	}
	if len(s) >= i+3 && strings.EqualFold(s[i:i+3], "url") {
		was := i
		i += 3
		skip(blanks)
		if i < len(s) && s[i] == '=' {
			i++
			skip(blanks)
		} else {
			i = was
		}
	}
	if i < len(s) && (s[i] == '"' || s[i] == '\'') {
		quote := s[i]
		i++
		if end := strings.IndexByte(s[i:], quote); end >= 0 {
			return i, i + end, true
		}
	}
	return i, len(s), true
}

// srcset reads a set of images (HTML, parse a srcset attribute).
func (r *htmlReader) srcset(a attribute) {
	s := a.value
	for i := 0; i < len(s); {
		for i < len(s) && strings.IndexByte(blanks+",", s[i]) >= 0 {
			i++
		}
		from := i
		for i < len(s) && strings.IndexByte(blanks, s[i]) < 0 {
			i++
		}
		if to := len(strings.TrimRight(s[:i], ",")); to > from {
			r.add(Image, s, from, to, a.where, InMarkup)
			r.References[len(r.References)-1].Set = true
			if to < i {
				continue // a comma ends it, with no descriptor
			}
		}
		for depth := 0; i < len(s) && (s[i] != ',' || depth > 0); i++ { // its descriptors
			switch s[i] {
			case '(':
				depth++
			case ')':
				depth--
			}
		}
	}
}

// isScript reports whether a media type is one of scripts (WHATWG MIME Sniffing).
func isScript(mediaType string) bool {
	essence, _, _ := strings.Cut(mediaType, ";")
	switch strings.TrimSpace(strings.ToLower(essence)) {
	case "application/ecmascript", "application/javascript", "application/x-ecmascript", "application/x-javascript",
		"text/ecmascript", "text/javascript", "text/javascript1.0", "text/javascript1.1", "text/javascript1.2", "text/javascript1.3", "text/javascript1.4", "text/javascript1.5",
		"text/jscript", "text/livescript", "text/x-ecmascript", "text/x-javascript":
		return true
	}
	return false
}
