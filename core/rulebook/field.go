package rulebook

// Fields of a request, and the values that they are tested against.

import (
	"math"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"kibitz/core/pattern"
	"kibitz/core/request"
)

// A FieldKind is a field of a request, or a family of them.
type FieldKind uint8

const (
	FieldScheme FieldKind = iota
	FieldHost
	FieldPort
	FieldMethod
	FieldPath
	FieldAsked
	FieldQuery  // the raw query, or one parameter of it
	FieldHeader // a request header, by its lower-case name
	FieldCookie // a cookie by its name
	FieldClient // the address that the request comes from
	FieldUser   // who was let in
	FieldTime   // in microseconds since 1970, which hold every year of RFC 3339
	FieldBody   // bytes
	FieldFile   // what the tree has at the path
)

// A Field is one field: its kind and, in a family, its name ("" is the raw
// query). Fields are comparable.
type Field struct {
	Kind FieldKind
	Name string
}

// fieldNames are the plain fields, as they are written.
var fieldNames = map[string]Field{
	"scheme": {Kind: FieldScheme}, "host": {Kind: FieldHost}, "port": {Kind: FieldPort}, "method": {Kind: FieldMethod},
	"path": {Kind: FieldPath}, "asked": {Kind: FieldAsked}, "query": {Kind: FieldQuery},
	"agent": {FieldHeader, "user-agent"}, "referrer": {FieldHeader, "referer"},
	"client": {Kind: FieldClient}, "user": {Kind: FieldUser}, "time": {Kind: FieldTime}, "body": {Kind: FieldBody}, "file": {Kind: FieldFile},
}

// String is the field as a rulebook writes it.
func (f Field) String() string {
	for name, field := range fieldNames {
		if field == f {
			return name
		}
	}
	return [...]string{FieldQuery: "query.", FieldHeader: "header.", FieldCookie: "cookie."}[f.Kind] + f.Name
}

// Encoded reports whether the field's value is percent-encoded.
func (f Field) Encoded() bool {
	return f.Kind == FieldPath || f.Kind == FieldAsked || f.Kind == FieldQuery && f.Name == ""
}

// parseField reads a field's name; ok is false for one that is unknown.
func parseField(s string) (Field, bool) {
	if f, ok := fieldNames[s]; ok {
		return f, true
	}
	family, name, ok := strings.Cut(s, ".")
	if !ok || name == "" {
		return Field{}, false
	}
	switch family {
	case "query":
		return Field{FieldQuery, name}, true
	case "cookie":
		return Field{FieldCookie, name}, true
	case "header":
		return Field{FieldHeader, strings.ToLower(name)}, true
	}
	return Field{}, false
}

// FieldWords are the fields as they are written, in the order in which they
// are explained.
var FieldWords = []string{"scheme", "host", "port", "method", "path", "asked", "query", "query.NAME", "header.NAME", "cookie.NAME", "agent", "referrer", "client", "user", "time", "body", "file"}

// A Span is a run of numbers, both ends in it.
type Span struct{ Low, High int64 }

// A Network is a block of client addresses.
type Network = netip.Prefix

// LastOf is the last address of a network.
func LastOf(block Network) netip.Addr {
	b := block.Addr().AsSlice()
	for i := block.Bits(); i < len(b)*8; i++ {
		b[i/8] |= 1 << (7 - i%8)
	}
	last, _ := netip.AddrFromSlice(b)
	return last
}

// test reads the values of a `when` or `unless`.
func (b *builder) test(c *Clause) *Test {
	word := c.Values[0]
	t := &Test{Place: c.Keyword.Place, Unless: c.Keyword.Text == "unless"}
	t.Width = c.end().Col - t.Place.Col
	if c.end().Line != t.Place.Line {
		t.Width = c.Keyword.Width
	}
	var ok bool
	if t.Field, ok = parseField(word.Text); !ok || word.Quoted {
		b.errs.at(word, "`%s` is no field of a request%s", shorten(word.Text), orNearest(word.Text, FieldWords))
		return nil
	}
	values := b.expand(c.Values[1:])
	t.Values, t.Plain = make([]Value, 0, len(values)), true
	for i := 0; i < len(values); {
		t.Values = append(t.Values, Value{Text: values[i].Text, Word: values[i].Quote()})
		v, used := b.value(t, values[i:], &t.Values[len(t.Values)-1])
		if v == nil { // a mistake
			t.Values = t.Values[:len(t.Values)-1]
		} else {
			t.Takes = t.Takes || v.Regexp != nil || v.Pattern != nil
			t.Plain = t.Plain && v.Kind == ValueText
		}
		i += used
	}
	b.checkSense(t, c)
	return t
}

// expand puts the values of lists in the place of their names.
func (b *builder) expand(words []Word) []Word {
	isList := func(w Word) bool {
		return !w.Quoted && strings.HasPrefix(w.Text, "{") && strings.HasSuffix(w.Text, "}")
	}
	if !slices.ContainsFunc(words, isList) {
		return words
	}
	var out []Word
	for _, w := range words {
		if !isList(w) {
			out = append(out, w)
			continue
		}
		name := w.Text[1 : len(w.Text)-1]
		list, ok := b.lists[name]
		if !ok {
			var names []string
			for n := range b.lists {
				names = append(names, n)
			}
			slices.Sort(names)
			hint := ": write `list " + name + " VALUE…` above the sites"
			if len(names) > 0 {
				hint = orNearest(name, names)
			}
			b.errs.at(w, "there is no list `%s`%s", shorten(name), hint)
			continue
		}
		out = append(out, list...)
	}
	return out
}

// value reads one value into v, and gives it and the number of words that it took; nil
// where there is a mistake.
func (b *builder) value(t *Test, words []Word, v *Value) (*Value, int) {
	w := words[0]
	if !w.Quoted && (w.Text == "present" || w.Text == "absent") {
		v.Kind = ValuePresent
		if w.Text == "absent" {
			v.Kind = ValueAbsent
		}
		return v, 1
	}
	switch t.Field.Kind {
	case FieldClient:
		return b.network(w, v), 1
	case FieldPort, FieldTime, FieldBody:
		return b.span(t.Field.Kind, words, v)
	case FieldFile:
		if w.Quoted || !slices.Contains([]string{"exists", "folder", "missing"}, w.Text) {
			b.errs.at(w, "the tree is asked for `exists`, `folder` or `missing`, not %s", w.Quote())
			return nil, 1
		}
		return v, 1
	case FieldPath, FieldAsked, FieldHost:
		return b.patternValue(t.Field, w, v), 1
	case FieldScheme:
		v.Text = strings.ToLower(v.Text)
		if v.Text != "http" && v.Text != "https" {
			b.errs.at(w, "a scheme is `http` or `https`, not %s", w.Quote())
			return nil, 1
		}
		return v, 1
	case FieldMethod:
		if upper := strings.ToUpper(w.Text); upper != w.Text && !strings.HasPrefix(w.Text, "~") {
			b.errs.at(w, "methods are written in capitals: %s", upper)
			return nil, 1
		}
	}
	return b.textValue(w, v), 1
}

func (b *builder) textValue(w Word, v *Value) *Value {
	switch {
	case w.Quoted:
	case strings.HasPrefix(w.Text, "~"):
		re, err := pattern.TextRegexp(w.Text[1:])
		if err != nil {
			b.errs.pattern(w, err, 1)
			return nil
		}
		v.Kind, v.Regexp = ValueRegexp, re
	case strings.Contains(w.Text, "*"):
		v.Kind, v.Glob = ValueGlob, strings.Split(w.Text, "*")
	}
	return v
}

func (b *builder) patternValue(f Field, w Word, v *Value) *Value {
	text := w.Text
	switch {
	case w.Quoted: // plain text
		text = pattern.Escape(text)
	case strings.HasPrefix(w.Text, "~"):
		if f.Kind == FieldHost {
			return b.textValue(w, v)
		}
		p, err := pattern.PathRegexp(w.Text[1:], false)
		if err != nil {
			b.errs.pattern(w, err, 0)
			return nil
		}
		v.Kind, v.Pattern = ValuePattern, p
		return v
	}
	read := pattern.Host
	if f.Kind != FieldHost {
		read = func(s string) (*pattern.Pattern, error) { return pattern.Path(s, false) }
	}
	p, err := read(text)
	if err == nil && f.Kind != FieldHost && !b.keepsSlashes() {
		err = p.Merged()
	}
	if err != nil {
		b.errs.pattern(w, err, 0)
		return nil
	}
	v.Kind, v.Pattern = ValuePattern, p
	if literal, ok := p.Literal(); ok {
		v.Kind, v.Text = ValueText, literal
	}
	return v
}

func (b *builder) network(w Word, v *Value) *Value {
	v.Kind = ValueNetwork
	if !strings.Contains(w.Text, "/") {
		if addr, err := netip.ParseAddr(w.Text); err == nil && addr.Zone() == "" {
			addr = addr.Unmap()
			v.Network = netip.PrefixFrom(addr, addr.BitLen())
			return v
		}
	}
	block, err := netip.ParsePrefix(w.Text)
	if err != nil {
		b.errs.at(w, "%s is neither an address like 192.0.2.7 or 2001:db8::7 nor a network like 192.0.2.0/24", w.Quote())
		return nil
	}
	if block.Masked() != block {
		b.errs.at(w, "%s has bits beyond its length: write %s", w.Text, block.Masked())
		return nil
	}
	if block.Addr().Is4In6() && block.Bits() >= 96 {
		block = netip.PrefixFrom(block.Addr().Unmap(), block.Bits()-96)
	}
	v.Network = block
	return v
}

// span reads a number, or bounds of one.
func (b *builder) span(f FieldKind, words []Word, v *Value) (*Value, int) {
	v.Kind, v.Span = ValueSpan, Span{0, math.MaxInt64}
	if f == FieldTime {
		v.Span.Low = math.MinInt64
	}
	if f == FieldPort {
		v.Span = Span{0, 65535}
	}
	all := v.Span
	used, low, high := 0, false, false
	for used+1 < len(words) && !words[used].Quoted {
		word := words[used]
		lower := word.Text == "over" || word.Text == "after"
		upper := word.Text == "below" || word.Text == "before"
		if !lower && !upper || lower && low || upper && high {
			break
		}
		if timed := word.Text == "after" || word.Text == "before"; timed != (f == FieldTime) {
			right := map[string]string{"over": "after", "below": "before", "after": "over", "before": "below"}[word.Text]
			b.errs.at(word, "`%s` does not go with this field: write `%s`", word.Text, right)
			return nil, used + 2
		}
		n, ok := b.number(f, words[used+1])
		if !ok {
			return nil, used + 2
		}
		switch word.Text {
		case "over":
			v.Span.Low, low = n+1, true
		case "after":
			v.Span.Low, low = n, true
		default:
			v.Span.High, high = n-1, true
		}
		used += 2
	}
	if used == 0 {
		n, ok := b.number(f, words[0])
		if !ok {
			return nil, 1
		}
		v.Span = Span{n, n}
		return v, 1
	}
	v.Word = ""
	for i, w := range words[:used] {
		if i > 0 {
			v.Word += " "
		}
		v.Word += w.Text
	}
	switch {
	case v.Span.Low > v.Span.High:
		b.errs.at(words[0], "`%s` can never hold: the bounds leave nothing between them", v.Word)
		return nil, used
	case v.Span.Low <= all.Low && v.Span.High >= all.High:
		b.errs.at(words[0], "`%s` always holds: leave it out", v.Word)
		return nil, used
	}
	return v, used
}

// number reads a port, an instant or a size.
func (b *builder) number(f FieldKind, w Word) (int64, bool) {
	switch f {
	case FieldTime:
		for _, form := range []string{time.RFC3339, time.DateOnly} {
			if t, err := time.Parse(form, w.Text); err == nil {
				if t.Nanosecond()%1000 != 0 {
					b.errs.at(w, "%s is finer than a microsecond: leave the last digits out", w.Quote())
				}
				return t.UnixMicro(), true
			}
		}
		b.errs.at(w, "%s is no time: write 2026-03-01 or 2026-03-01T08:00:00Z", w.Quote())
		return 0, false
	case FieldBody:
		return b.size(w)
	}
	n, err := strconv.ParseInt(w.Text, 10, 64)
	if err != nil || n < 0 || n > 65535 {
		b.errs.at(w, "%s is no port: write a number up to 65535", w.Quote())
		return 0, false
	}
	return n, true
}

// size reads a number of bytes with its unit.
func (b *builder) size(w Word) (int64, bool) {
	n, problem := ParseSize(w.Text)
	if problem != "" {
		b.errs.at(w, "%s", problem)
		return 0, false
	}
	return n, true
}

// ParseSize reads a size like 512KiB; problem says what is wrong with it.
func ParseSize(s string) (n int64, problem string) {
	n, unit, ok := cutNumber(s)
	shift, known := map[string]uint{"B": 0, "KiB": 10, "MiB": 20, "GiB": 30}[unit]
	switch {
	case !ok || n > math.MaxInt64>>30:
		return 0, shorten(s) + " is no size: write a number and its unit, like 512KiB"
	case unit == "" && n == 0:
		return 0, ""
	case unit == "":
		return 0, s + " lacks its unit: write " + s + "B, " + s + "KiB or " + s + "MiB"
	case !known:
		return 0, "the unit `" + shorten(unit) + "` is not one of B, KiB, MiB, GiB"
	}
	return n << shift, ""
}

// parseDuration reads a duration like 2h.
func parseDuration(s string) (d time.Duration, problem string) {
	n, unit, ok := cutNumber(s)
	step, known := map[string]time.Duration{"ms": time.Millisecond, "s": time.Second, "m": time.Minute, "h": time.Hour, "d": 24 * time.Hour}[unit]
	switch {
	case !ok || n > 36500:
		return 0, shorten(s) + " is no duration: write a number up to 36500 and its unit, like 90s"
	case unit == "":
		return 0, s + " lacks its unit: write " + s + "s, " + s + "m, " + s + "h or " + s + "d"
	case !known:
		return 0, "the unit `" + shorten(unit) + "` is not one of ms, s, m, h, d"
	}
	return time.Duration(n) * step, ""
}

func cutNumber(s string) (n int64, unit string, ok bool) {
	i := 0
	for i < len(s) && '0' <= s[i] && s[i] <= '9' {
		i++
	}
	n, err := strconv.ParseInt(s[:i], 10, 64)
	return n, s[i:], err == nil
}

// checkSense refuses a clause that can never or must always hold.
func (b *builder) checkSense(t *Test, c *Clause) {
	has := func(kind ValueKind) bool {
		return slices.ContainsFunc(t.Values, func(v Value) bool { return v.Kind == kind })
	}
	hasText := func(s string) bool {
		return slices.ContainsFunc(t.Values, func(v Value) bool { return v.Kind == ValueText && v.Text == s })
	}
	everything := has(ValuePresent) && has(ValueAbsent)
	nothing := false
	switch t.Field.Kind {
	case FieldScheme:
		everything = everything || hasText("http") && hasText("https")
		fallthrough
	case FieldHost, FieldPort, FieldMethod, FieldPath, FieldAsked, FieldBody:
		everything = everything || has(ValuePresent)
		nothing = len(t.Values) == 1 && has(ValueAbsent)
	case FieldFile:
		everything = everything || has(ValuePresent) || hasText("exists") && hasText("folder") && hasText("missing")
		nothing = len(t.Values) == 1 && has(ValueAbsent)
	}
	if t.Unless {
		everything, nothing = nothing, everything
	}
	switch {
	case everything:
		b.errs.at(c.Keyword, "`%s %s` always holds: leave it out", c.Keyword.Text, t)
	case nothing:
		b.errs.at(c.Keyword, "`%s %s` can never hold, so the entry would do nothing: leave one of them out", c.Keyword.Text, t)
	}
}

// BaseAddress is what relative addresses are asked of.
func (b *Book) BaseAddress() request.Address {
	if len(b.Sites) == 0 {
		return request.Address{}
	}
	return b.Sites[0].Address
}
