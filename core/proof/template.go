package proof

import (
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/pattern"
	"kibitz/core/rulebook"
)

// sentInto gives at most the paths that a rule takes and its target sends into
// a set; nil stands for none.
func (sp *space) sentInto(r *rulebook.Rule, to []rulebook.Piece, into pattern.Machine) (pattern.Machine, error) {
	if len(to) > 0 && !to[0].Value && !begins(into, to[0].Text, sp.site.KeepSlashes) {
		return nil, nil
	}
	var parts []pattern.Machine
	add := func(source string, names []string) error {
		l, err := pattern.Pre(source, copies(to, names, sp.rewrites), into, sp.site.KeepSlashes, maxSolid*sp.effort)
		if err == nil && l.Any() {
			parts = append(parts, l)
		}
		return err
	}
	for _, p := range r.On {
		source, err := p.Source()
		if err == nil {
			err = add(source, p.Names())
		}
		if err != nil {
			return nil, err
		}
	}
	if len(r.On) == 0 {
		folders := r.In
		if len(folders) == 0 {
			folders = []string{""}
		}
		for _, f := range folders {
			if err := add(pattern.FolderSource(f, r.Fold), []string{rulebook.Below}); err != nil {
				return nil, err
			}
		}
	}
	if len(parts) == 0 {
		return nil, nil
	}
	out := pattern.And(pattern.Paths(sp.site.KeepSlashes), pattern.Or(parts...))
	if over := sp.of(r).over; over != nil {
		out = pattern.And(out, over)
	}
	return out, nil
}

// begins reports whether a path of a set may begin with a literal text, where runs of slashes
// count as one, and where they are kept the first of them.
func begins(set pattern.Machine, literal string, keepSlashes bool) bool {
	text, err := canonical.Text(literal)
	if err != nil {
		return true
	}
	state, slash := set.Start(), false
	text = canonical.Marked(text)
	for i := 0; i < len(text) && state != 0; i++ {
		if !slash || text[i] != '/' {
			state = set.Step(state, text[i])
		}
		slash = text[i] == '/' && (i == 0 || slash || !keepSlashes)
	}
	return state != 0
}

// copies says what the pieces of a target's path are made of.
func copies(to []rulebook.Piece, names []string, rewritten bool) []pattern.Copy {
	var out []pattern.Copy
	for _, p := range to {
		if !p.Value {
			text, err := canonical.Text(p.Text)
			if err != nil {
				text = p.Text
			}
			out = append(out, pattern.Copy{Text: canonical.Marked(text), Group: pattern.Literal})
			continue
		}
		c := pattern.Copy{Group: pattern.Anything}
		switch {
		case p.Capture == "" && (p.Field.Kind == rulebook.FieldPath || p.Field.Kind == rulebook.FieldAsked && !rewritten):
			c.Group = pattern.Whole
		case p.Capture != "":
			for i, name := range names {
				if name == p.Capture {
					c.Group = i + 1
				}
			}
		}
		for _, f := range p.Filters {
			switch {
			case c.Group == pattern.Anything:
			case f == "lower": // the Kelvin sign and the dotted I become these
				c = changed(c, func(b byte) byte { return change(b, 'A', 'Z', 'a'-'A') }, "ki")
			case f == "upper": // the dotless i and the long s do
				c = changed(c, func(b byte) byte { return change(b, 'a', 'z', 256+'A'-'a') }, "IS")
			default:
				c = pattern.Copy{Group: pattern.Anything}
			}
		}
		out = append(out, c)
	}
	return out
}

func change(b, from, to byte, by int) byte {
	if from <= b && b <= to {
		return byte(int(b) + by)
	}
	return b
}

// changed adds a change of letters to a copy; become are the bare letters that encoded
// ones can become.
func changed(c pattern.Copy, by func(byte) byte, become string) pattern.Copy {
	first := c.Change
	c.Become = strings.Map(func(r rune) rune { return rune(by(byte(r))) }, c.Become) + become
	c.Change = func(b byte) byte {
		if first != nil {
			b = first(b)
		}
		return by(b)
	}
	return c
}

// literalStart gives the literal text that every result of pieces begins with,
// and whether it is all of it.
func literalStart(to []rulebook.Piece) (text string, whole bool) {
	var b strings.Builder
	for _, p := range to {
		if p.Value {
			return b.String(), false
		}
		b.WriteString(p.Text)
	}
	return b.String(), true
}
