package pattern

import (
	"strings"

	"golang.org/x/net/idna"
)

// Host reads a host pattern: names in lower case, internationalised labels in
// their ASCII form.
func Host(source string) (*Pattern, error) {
	p := &Pattern{text: source, host: true, doubled: -1}
	if i := strings.IndexByte(source, '/'); i >= 0 {
		return nil, errorf(i, "a host holds no slash: the path is tested with `on` or `in`")
	}
	if strings.HasPrefix(source, "[") {
		p.parts = []part{{kind: text, text: strings.ToLower(source)}}
	} else {
		parts, err := parse(source, hostSyntax)
		if err != nil {
			return nil, err
		}
		p.parts = parts
	}
	digits, groups := true, false
	for i := range p.parts {
		part := &p.parts[i]
		groups = groups || part.kind != text
		for _, s := range []*string{&part.prefix, &part.suffix, &part.text} {
			if part.kind == custom && s == &part.text {
				continue
			}
			if splitsLabel(*s, i > 0 || part.kind != text, i < len(p.parts)-1 || part.kind != text) {
				return nil, errorf(part.offset, "a group may not split a label with letters beyond ASCII: write the label out")
			}
			t, err := asciiLabels(*s)
			if err != nil {
				return nil, errorf(part.offset, "%v", err)
			}
			*s = t
			digits = digits && strings.Trim(t, "0123456789.") == ""
		}
	}
	if digits && groups {
		return nil, errorf(0, "addresses are tested with `when client 10.0.0.0/24`, hosts by name")
	}
	for _, part := range p.parts {
		if part.kind != text {
			p.names = append(p.names, part.name)
		}
	}
	p.prefix, p.suffix = partEnds(p.parts)
	return p, nil
}

// splitsLabel reports whether a group stands right at a label that is not ASCII.
func splitsLabel(s string, groupBefore, groupBehind bool) bool {
	labels := strings.Split(s, ".")
	beyond := func(s string) bool { return strings.IndexFunc(s, func(r rune) bool { return r >= 128 }) >= 0 }
	return groupBefore && beyond(labels[0]) || groupBehind && beyond(labels[len(labels)-1])
}

// asciiLabels writes the text of a host pattern as hosts are compared.
func asciiLabels(s string) (string, error) {
	s = strings.ToLower(s)
	if strings.IndexFunc(s, func(r rune) bool { return r >= 128 }) < 0 {
		return s, nil
	}
	labels := strings.Split(s, ".")
	for i, label := range labels {
		if strings.IndexFunc(label, func(r rune) bool { return r >= 128 }) < 0 {
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
