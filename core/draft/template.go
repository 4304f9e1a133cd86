package draft

// Templates: of two addresses, an old and a new one, the ways in which the one may have come
// from the other; and of many such, those that explain the most.

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"kibitz/core/rulebook"
)

// A template is a pattern of old paths, and the new address that it makes.
type template struct {
	old    []piece
	new    []piece
	status int
	lower  bool // the new address has the values in small letters
}

// A piece is a text, or a value that the old path and the new one have in common.
type piece struct {
	text  string // of one that is not a value
	value int    // its number, from 1 on; 0 for a text
	tail  bool   // of the rest of a path, with its slashes
}

// key tells templates apart.
func (t *template) key() string {
	var b strings.Builder
	for i, pieces := range [][]piece{t.old, t.new} {
		for _, p := range pieces {
			if p.value > 0 {
				fmt.Fprintf(&b, "\x00%d%v", p.value, p.tail)
			} else {
				b.WriteString(p.text)
			}
		}
		if i == 0 {
			fmt.Fprintf(&b, "\x01%d%v\x01", t.status, t.lower)
		}
	}
	return b.String()
}

// values is how many values there are.
func (t *template) values() (n int) {
	for _, p := range t.old {
		n = max(n, p.value)
	}
	return n
}

// A span is a part of an old path that may be a value.
type span struct {
	from, to int
	tail     bool
	left     bool // it is left out of the new address, as a number is that only the old site knew
}

// plainPath reports whether a path has no character that means something in a pattern.
func plainPath(path string) bool {
	return strings.Trim(path, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_./~") == ""
}

var words = regexp.MustCompile(`[A-Za-z]+|[0-9]+`)

// spansOf gives the parts of a path that may be values: whole segments, their stems, their
// words and numbers, the rest from any segment on, and all before the last one.
func spansOf(path string) (all []span) {
	add := func(s span) {
		if s.from < s.to && !slices.Contains(all, s) {
			all = append(all, s)
		}
	}
	for at := 1; at < len(path); {
		end := len(path)
		if i := strings.IndexByte(path[at:], '/'); i >= 0 {
			end = at + i
		}
		segment := path[at:end]
		add(span{from: at, to: end})
		if at > 1 || end+1 < len(path) {
			add(span{from: at, to: len(path), tail: true})
		}
		if dot := strings.LastIndexByte(segment, '.'); dot > 0 {
			add(span{from: at, to: at + dot})
			if end == len(path) && strings.Count(path, "/") > 1 {
				for from := 1; from < at; { // a rest of several segments, without its extension
					add(span{from: from, to: at + dot, tail: true})
					next := strings.IndexByte(path[from:], '/')
					if next < 0 {
						break
					}
					from += next + 1
				}
			}
		}
		for _, w := range words.FindAllStringIndex(segment, -1) {
			add(span{from: at + w[0], to: at + w[1]})
		}
		at = end + 1
	}
	if last := strings.LastIndexByte(path, '/'); last > 1 { // before the last segment, with its slash and without
		add(span{from: 1, to: last + 1, tail: true})
		add(span{from: 1, to: last, tail: true})
	} else if last == len(path)-1 {
		add(span{from: 1, to: last, tail: true})
	}
	return all
}

// most is how many values a template has, and how many spans of a path are looked at.
const (
	mostValues = 4
	mostSpans  = 12
	mostOfOne  = 100 // templates of one pair of addresses
)

// templatesOf gives the templates that a pair of addresses is an instance of.
func templatesOf(f *fact) (all []*template) {
	if !plainPath(f.path) || f.back == f.path {
		return nil
	}
	target := f.to
	if f.toQuery != "" && f.toQuery != f.query { // what is kept is not part of a target
		target += "?" + f.toQuery
	}
	for _, lower := range []bool{false, true} {
		if lower && strings.ToLower(f.path) == f.path {
			break
		}
		var spans []span
		for _, s := range spansOf(f.path) {
			if s.left = place(target, value(f.path, s, lower), 0) < 0; s.left && (s.tail || strings.Trim(f.path[s.from:s.to], "0123456789") != "") {
				continue // only numbers are left out
			}
			if len(spans) < mostSpans {
				spans = append(spans, s)
			}
		}
		var choose func(from int, chosen []span)
		choose = func(from int, chosen []span) {
			if len(all) >= mostOfOne {
				return
			}
			if slices.ContainsFunc(chosen, func(s span) bool { return !s.left }) {
				if t := templateOf(f, target, chosen, lower); t != nil {
					all = append(all, t)
				}
			}
			if len(chosen) == mostValues {
				return
			}
			for i := from; i < len(spans); i++ {
				if !slices.ContainsFunc(chosen, func(s span) bool { return s.from < spans[i].to && spans[i].from < s.to }) {
					choose(i+1, append(slices.Clone(chosen), spans[i]))
				}
			}
		}
		choose(0, nil)
	}
	return all
}

func value(path string, s span, lower bool) string {
	if v := path[s.from:s.to]; !lower {
		return v
	} else {
		return strings.ToLower(v)
	}
}

// place gives where a value stands in a text, whole: not within a word or a number.
func place(text, value string, from int) int {
	letter := func(i int) bool {
		return i >= 0 && i < len(text) && (text[i] >= '0' && text[i] <= '9' || text[i]|0x20 >= 'a' && text[i]|0x20 <= 'z')
	}
	for {
		i := strings.Index(text[from:], value)
		if i < 0 {
			return -1
		}
		i += from
		first, last := letter(i-1) && letter(i), letter(i+len(value)) && letter(i+len(value)-1)
		if !first && !last {
			return i
		}
		from = i + 1
	}
}

// templateOf makes the template in which some parts are values; nil where the new address
// does not have them all.
func templateOf(f *fact, target string, chosen []span, lower bool) *template {
	chosen = slices.Clone(chosen)
	slices.SortFunc(chosen, func(a, b span) int { return a.from - b.from })
	t := &template{status: f.Status, lower: lower}
	at := 0
	type use struct{ from, to, value int }
	var uses []use
	for i, s := range chosen {
		if at < s.from {
			t.old = append(t.old, piece{text: f.path[at:s.from]})
		} else if i > 0 {
			return nil // two values side by side
		}
		t.old = append(t.old, piece{value: i + 1, tail: s.tail})
		at = s.to
		v := value(f.path, s, lower)
		found := s.left
		for from := 0; !found; {
			i2 := place(target, v, from)
			if i2 < 0 {
				break
			}
			if !slices.ContainsFunc(uses, func(u use) bool { return u.from < i2+len(v) && i2 < u.to }) {
				uses = append(uses, use{i2, i2 + len(v), i + 1})
				found = true
				break
			}
			from = i2 + 1
		}
		if !found {
			return nil
		}
	}
	if at < len(f.path) {
		t.old = append(t.old, piece{text: f.path[at:]})
	}
	slices.SortFunc(uses, func(a, b use) int { return a.from - b.from })
	at = 0
	for _, u := range uses {
		if at < u.from {
			t.new = append(t.new, piece{text: target[at:u.from]})
		}
		t.new = append(t.new, piece{value: u.value, tail: chosen[u.value-1].tail})
		at = u.to
	}
	if at < len(target) {
		t.new = append(t.new, piece{text: target[at:]})
	}
	return t
}

// A width is what values of a sort take: as an expression, and as a rulebook writes it.
type width struct{ expression, written string }

// widths are those of a value within a segment, the widest first.
var widths = []width{
	{`[^/]+`, ""},
	{`[^/.]+`, `([^/.]+)`},
	{`[A-Za-z0-9-]+`, `([A-Za-z0-9-]+)`},
	{`[a-z0-9-]+`, `([a-z0-9-]+)`},
	{`[A-Za-z]+`, `([A-Za-z]+)`},
	{`[a-z]+`, `([a-z]+)`},
	{`\d+`, `(\d+)`},
}

var digits = width{`\d+`, `(\d+)`}

// tails are the widths of a rest of a path, the widest first. Those without a slash at their
// end are for paths that get one, and those with a capital for paths in small letters: they do
// not take where they lead.
var (
	tails        = []width{{`.*`, `(.*)`}, {`.*[^/]`, `(.*[^/])`}, {`[^.]*[^/.]`, `([^.]*[^/.])`}, capitals}
	capitals     = width{`.*[A-Z].*`, `(.*[A-Z].*)`}
	wholeFolders = width{`(?:.*/)?`, `((?:.*/)?)`} // with their slash, or none
)

// compiled is a template with the widths of its values.
type compiled struct {
	*template
	widths  []width // by value
	matches *regexp.Regexp
}

func (t *template) compile(widths []width) *compiled {
	var b strings.Builder
	b.WriteString("^")
	for _, p := range t.old {
		switch {
		case p.value == 0:
			b.WriteString(regexp.QuoteMeta(p.text))
		default:
			b.WriteString("(" + widths[p.value-1].expression + ")")
		}
	}
	b.WriteString("$")
	return &compiled{t, widths, regexp.MustCompile(b.String())}
}

// of gives the address that a path leads to; false where the pattern does not take it.
func (c *compiled) of(path string) (string, bool) {
	m := c.matches.FindStringSubmatch(path)
	if m == nil {
		return "", false
	}
	var b strings.Builder
	for _, p := range c.new {
		switch {
		case p.value == 0:
			b.WriteString(p.text)
		case c.lower:
			b.WriteString(strings.ToLower(m[p.value]))
		default:
			b.WriteString(m[p.value])
		}
	}
	return b.String(), true
}

// folder gives the folder that a pattern takes all of; "" for one of another form.
func (c *compiled) folder() string {
	if len(c.old) != 2 || !c.old[1].tail || c.widths[0] != tails[0] || len(c.old[0].text) < 2 || !strings.HasSuffix(c.old[0].text, "/") {
		return ""
	}
	return c.old[0].text
}

// pattern writes the old path for a rulebook, and target the new one.
func (c *compiled) pattern() string {
	var b strings.Builder
	for i, p := range c.old {
		switch {
		case p.value == 0:
			b.WriteString(p.text)
		default:
			b.WriteString(":" + c.name(p.value))
			w := c.widths[p.value-1].written
			if w == "" && i+1 < len(c.old) && startsName(c.old[i+1].text) {
				w = "([^/]+)"
			}
			b.WriteString(w)
		}
	}
	return b.String()
}

// startsName reports whether a text behind a name would be taken for more of it.
func startsName(s string) bool {
	return s != "" && (s[0] == '_' || s[0] >= '0' && s[0] <= '9' || s[0]|0x20 >= 'a' && s[0]|0x20 <= 'z')
}

// name is that of a value: what it is, and which of several.
func (c *compiled) name(value int) string {
	kind := func(value int) string {
		for _, p := range c.old {
			if p.value == value && p.tail {
				return "rest"
			}
		}
		if strings.HasPrefix(c.widths[value-1].expression, `\d`) {
			return "number"
		}
		return "name"
	}
	n := 1
	for v := 1; v < value; v++ {
		if kind(v) == kind(value) {
			n++
		}
	}
	if n == 1 {
		return kind(value)
	}
	return fmt.Sprint(kind(value), n)
}

func (c *compiled) target() string { return c.targetOf(c.name) }

// targetOf is target, with the names that values have.
func (c *compiled) targetOf(name func(value int) string) string {
	var b strings.Builder
	for _, p := range c.new {
		switch {
		case p.value == 0:
			b.WriteString(rulebook.Literal(p.text))
		case c.lower:
			fmt.Fprintf(&b, "{%s|lower}", name(p.value))
		default:
			fmt.Fprintf(&b, "{%s}", name(p.value))
		}
	}
	return b.String()
}

// called names an entry by the first words of its pattern, since values say nothing of it.
func (c *compiled) called() string {
	for _, p := range c.old {
		if words := strings.Trim(p.text, "/.-_~"); words != "" {
			return nameOf("/" + words)
		}
	}
	if c.lower {
		return "lower"
	}
	return "old"
}

// weight is the length of what is fixed in the pattern: the longer, the narrower.
func (c *compiled) weight() (n int) {
	for _, p := range c.old {
		n += len(p.text)
	}
	return n
}
