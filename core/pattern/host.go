package pattern

import (
	"net/netip"
	"strings"
	"sync"

	"golang.org/x/net/idna"
)

// Host reads a host pattern: names in lower case, internationalised labels in
// their ASCII form. A pattern that takes no host is an error.
func Host(source string) (*Pattern, error) {
	p := &Pattern{text: source, host: true, doubled: -1}
	if i := strings.IndexByte(source, '/'); i >= 0 {
		return nil, errorf(i, "a host holds no slash: the path is tested with `on` or `in`")
	}
	if strings.HasPrefix(source, "[") {
		addr, err := netip.ParseAddr(strings.TrimSuffix(source[1:], "]"))
		if err != nil || !addr.Is6() || addr.Zone() != "" || !strings.HasSuffix(source, "]") {
			return nil, errorf(0, "%s is not an IPv6 address: write one like [2001:db8::7]", source)
		}
		p.parts = []part{{kind: text, text: "[" + addr.String() + "]"}}
		return p, nil
	}
	parts, err := parse(source, hostSyntax)
	if err != nil {
		return nil, err
	}
	p.parts = parts
	literals, groups := "", false
	for i := range p.parts {
		part := &p.parts[i]
		groups = groups || part.kind != text
		for _, s := range part.literals() {
			literals += *s
		}
		if part.kind != text {
			p.names = append(p.names, part.name)
		}
	}
	if groups && strings.ContainsAny(literals, "0123456789") && strings.Trim(literals, "0123456789.") == "" {
		return nil, errorf(0, "addresses are tested with `when client 10.0.0.0/24`, hosts by name")
	}
	for i := range p.parts {
		if p.splitsLabel(i) {
			return nil, errorf(p.parts[i].offset, "a group may not split a label with letters beyond ASCII: write the label out")
		}
	}
	for i := range p.parts {
		for _, s := range p.parts[i].literals() {
			if *s, err = asciiLabels(*s); err != nil {
				return nil, errorf(p.parts[i].offset, "%v", err)
			}
		}
	}
	p.prefix, p.suffix = partEnds(p.parts)
	takes := false
	if host, ok := p.Literal(); ok {
		takes = allHosts().Match(host)
	} else {
		takes = p.takesSome(allHosts())
	}
	if !takes {
		if bare := strings.TrimRight(source, ",;"); bare != source {
			return nil, errorf(0, "hosts are separated by spaces alone: write %s", bare)
		}
		return nil, errorf(0, "%s takes no host: a host is letters, digits, - and dots, without a port, or an address like 192.0.2.7", source)
	}
	return p, nil
}

// literals are the fixed texts of a part.
func (p *part) literals() []*string {
	if p.kind == text {
		return []*string{&p.text}
	}
	return []*string{&p.prefix, &p.suffix}
}

// splitsLabel reports whether a label of part i that is not ASCII goes on in what
// stands before or behind its text, where its ASCII form could not be told.
func (p *Pattern) splitsLabel(i int) bool {
	part := &p.parts[i]
	for n, s := range part.literals() {
		labels := strings.Split(*s, ".")
		inner := part.kind != text // a group stands on one side of it
		again := part.modifier == '+' || part.modifier == '*'
		before := inner && n == 1 || p.open(i, -1) || again && p.openEnd(i, -1)
		behind := inner && n == 0 || p.open(i, +1) || again && p.openEnd(i, +1)
		if before && !isASCII(labels[0]) || behind && !isASCII(labels[len(labels)-1]) {
			return true
		}
	}
	return false
}

// open reports whether what stands next to part i, on the side of step, can leave
// a label open there. A host begins and ends with whole labels.
func (p *Pattern) open(i, step int) bool {
	for j := i + step; j >= 0 && j < len(p.parts); j += step {
		if p.openEnd(j, step) {
			return true
		}
		if m := p.parts[j].modifier; m == 0 || m == '+' {
			return false // it is always there
		}
	}
	return false
}

// openEnd reports whether the end of part j that comes first on the way of step
// is not a dot.
func (p *Pattern) openEnd(j, step int) bool {
	part := &p.parts[j]
	switch {
	case part.kind == text && step > 0:
		return !strings.HasPrefix(part.text, ".")
	case part.kind == text:
		return !strings.HasSuffix(part.text, ".")
	case step > 0:
		return !strings.HasPrefix(part.prefix, ".")
	}
	return !strings.HasSuffix(part.suffix, ".")
}

func isASCII(s string) bool {
	return strings.IndexFunc(s, func(r rune) bool { return r >= 128 }) < 0
}

// asciiLabels writes the text of a host pattern as hosts are compared.
func asciiLabels(s string) (string, error) {
	s = strings.ToLower(s)
	if isASCII(s) {
		return s, nil
	}
	labels := strings.Split(s, ".")
	for i, label := range labels {
		if isASCII(label) {
			continue
		}
		ascii, err := idna.Lookup.ToASCII(label)
		if err != nil {
			return "", err
		}
		labels[i] = ascii
	}
	return strings.Join(labels, "."), nil
}

// allHosts is the set of all hosts but IPv6 addresses: names of which the last
// label is not a number, and IPv4 addresses (WHATWG URL, host parsing).
var allHosts = sync.OnceValue(func() *Lang {
	const last = `(?:[0-9]+[a-z_-]|[a-z_-])[a-z0-9_-]*` // 0x7 is a number, too, but nobody has such a label
	const number = `(?:25[0-5]|2[0-4][0-9]|1[0-9][0-9]|[1-9]?[0-9])`
	return mustCompile(`(?:[a-z0-9_-]+\.)*` + last + `|` + number + `(?:\.` + number + `){3}`)
})
