package rulebook

// Tests of fields, and the values that fields are tested against.

import (
	"math"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"kibitz/core/pattern"
	"kibitz/core/request"
	"kibitz/core/units"
)

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
		b.errs.at(word, "`%s` is not a field of a request%s", shorten(word.Text), orNearest(word.Text, FieldWords()))
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
		if at := slices.IndexFunc(b.Lists, func(l List) bool { return l.Name == name }); at >= 0 {
			b.Lists[at].Used = true
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
	return t.Field.Row().read(b, t, words, v)
}

func (b *builder) schemeValue(_ *Test, words []Word, v *Value) (*Value, int) {
	v.Text = strings.ToLower(v.Text)
	if v.Text != "http" && v.Text != "https" {
		b.errs.at(words[0], "a scheme is `http` or `https`, not %s", words[0].Quote())
		return nil, 1
	}
	return v, 1
}

func (b *builder) methodValue(t *Test, words []Word, v *Value) (*Value, int) {
	if w := words[0]; strings.ToUpper(w.Text) != w.Text && !strings.HasPrefix(w.Text, "~") {
		b.errs.at(w, "methods are written in capitals: %s", strings.ToUpper(w.Text))
		return nil, 1
	}
	return b.textValue(t, words, v)
}

func (b *builder) treeValue(_ *Test, words []Word, v *Value) (*Value, int) {
	if w := words[0]; w.Quoted || !slices.Contains([]string{"exists", "folder", "missing"}, w.Text) {
		b.errs.at(w, "the tree is asked for `exists`, `folder` or `missing`, not %s", w.Quote())
		return nil, 1
	}
	return v, 1
}

func (b *builder) textValue(_ *Test, words []Word, v *Value) (*Value, int) {
	switch w := words[0]; {
	case w.Quoted:
	case strings.HasPrefix(w.Text, "~"):
		re, err := pattern.TextRegexp(w.Text[1:])
		if err != nil {
			b.errs.pattern(w, err, 1)
			return nil, 1
		}
		v.Kind, v.Regexp = ValueRegexp, re
	case strings.Contains(w.Text, "*"):
		v.Kind, v.Glob = ValueGlob, strings.Split(w.Text, "*")
	}
	return v, 1
}

func (b *builder) patternValue(t *Test, words []Word, v *Value) (*Value, int) {
	f, w := t.Field, words[0]
	text := w.Text
	switch {
	case w.Quoted: // plain text
		text = pattern.Escape(text)
	case strings.HasPrefix(w.Text, "~"):
		if f.Kind == FieldHost {
			return b.textValue(t, words, v)
		}
		p, err := pattern.PathRegexp(w.Text[1:], false)
		if err != nil {
			b.errs.pattern(w, err, 0)
			return nil, 1
		}
		v.Kind, v.Pattern = ValuePattern, p
		return v, 1
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
		return nil, 1
	}
	v.Kind, v.Pattern = ValuePattern, p
	if literal, ok := p.Literal(); ok {
		v.Kind, v.Text = ValueText, literal
	}
	return v, 1
}

func (b *builder) networkValue(_ *Test, words []Word, v *Value) (*Value, int) {
	w := words[0]
	v.Kind = ValueNetwork
	if !strings.Contains(w.Text, "/") {
		if addr, err := netip.ParseAddr(w.Text); err == nil && addr.Zone() == "" {
			addr = addr.Unmap()
			v.Network = netip.PrefixFrom(addr, addr.BitLen())
			return v, 1
		}
	}
	block, err := netip.ParsePrefix(w.Text)
	if err != nil {
		b.errs.at(w, "%s is neither an address like 192.0.2.7 or 2001:db8::7 nor a network like 192.0.2.0/24", w.Quote())
		return nil, 1
	}
	if block.Masked() != block {
		b.errs.at(w, "%s has bits beyond its length: write %s", w.Text, block.Masked())
		return nil, 1
	}
	if block.Addr().Is4In6() && block.Bits() >= 96 {
		block = netip.PrefixFrom(block.Addr().Unmap(), block.Bits()-96)
	}
	v.Network = block
	return v, 1
}

// A unit says how the numbers of a field are written.
type unit struct {
	all   Span
	timed bool // bounds are called after and before
	read  func(b *builder, w Word) (int64, bool)
}

var (
	portUnit = unit{all: Span{0, 65535}, read: func(b *builder, w Word) (int64, bool) {
		n, err := strconv.ParseInt(w.Text, 10, 64)
		if err != nil || n < 0 || n > 65535 {
			b.errs.at(w, "%s is not a port: write a number up to 65535", w.Quote())
			return 0, false
		}
		return n, true
	}}
	timeUnit = unit{all: Span{math.MinInt64, math.MaxInt64}, timed: true, read: func(b *builder, w Word) (int64, bool) {
		for _, form := range []string{time.RFC3339, time.DateOnly} {
			if t, err := time.Parse(form, w.Text); err == nil {
				if t.Nanosecond()%1000 != 0 {
					b.errs.at(w, "%s is finer than a microsecond: leave the last digits out", w.Quote())
				}
				return t.UnixMicro(), true
			}
		}
		b.errs.at(w, "%s is not a time: write 2026-03-01 or 2026-03-01T08:00:00Z", w.Quote())
		return 0, false
	}}
	bodyUnit = unit{all: Span{0, math.MaxInt64}, read: (*builder).size}
)

// spanOf gives what reads a number of a unit, or bounds of one.
func spanOf(u unit) func(b *builder, t *Test, words []Word, v *Value) (*Value, int) {
	return func(b *builder, _ *Test, words []Word, v *Value) (*Value, int) { return b.span(u, words, v) }
}

func (b *builder) span(u unit, words []Word, v *Value) (*Value, int) {
	v.Kind, v.Span = ValueSpan, u.all
	used, low, high := 0, false, false
	for used+1 < len(words) && !words[used].Quoted {
		word := words[used]
		lower := word.Text == "over" || word.Text == "after"
		upper := word.Text == "below" || word.Text == "before"
		if !lower && !upper || lower && low || upper && high {
			break
		}
		if timed := word.Text == "after" || word.Text == "before"; timed != u.timed {
			right := map[string]string{"over": "after", "below": "before", "after": "over", "before": "below"}[word.Text]
			b.errs.at(word, "`%s` does not go with this field: write `%s`", word.Text, right)
			return nil, used + 2
		}
		n, ok := u.read(b, words[used+1])
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
		n, ok := u.read(b, words[0])
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
	case v.Span.Low <= u.all.Low && v.Span.High >= u.all.High:
		b.errs.at(words[0], "`%s` always holds: leave it out", v.Word)
		return nil, used
	}
	return v, used
}

// size reads a number of bytes with its unit.
func (b *builder) size(w Word) (int64, bool) {
	n, problem := units.Size(w.Text)
	if problem != "" {
		b.errs.at(w, "%s", problem)
		return 0, false
	}
	return n, true
}

// checkSense refuses a clause that can never or must always hold.
func (b *builder) checkSense(t *Test, c *Clause) {
	has := func(kind ValueKind) bool {
		return slices.ContainsFunc(t.Values, func(v Value) bool { return v.Kind == kind })
	}
	hasText := func(s string) bool {
		return slices.ContainsFunc(t.Values, func(v Value) bool { return v.Kind == ValueText && v.Text == s })
	}
	row := t.Field.Row()
	everything := has(ValuePresent) && (has(ValueAbsent) || row.Always) || len(row.Words) > 0 && !slices.ContainsFunc(row.Words, func(s string) bool { return !hasText(s) })
	nothing := row.Always && len(t.Values) == 1 && has(ValueAbsent)
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
