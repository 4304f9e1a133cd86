package excerpt

// Small harms to a rulebook: what a slip of the hand makes of it. A list that notices each
// of them holds the rulebook to what it means.

import (
	"fmt"
	"slices"
	"strings"

	"kibitz/core/engine"
	"kibitz/core/pattern"
	"kibitz/core/rulebook"
)

// A Harm is one small change of a rulebook's text.
type Harm struct {
	Rule  *rulebook.Rule // the entry that is changed
	Says  string         // what is done, like "without `when scheme http`"
	edits []rulebook.Edit
	nth   int // of its entry
}

// withoutEntry is what is done where the whole entry goes.
const withoutEntry = "without the entry"

// If says of what becomes of the entry, like "old is without `when scheme http`".
func (h *Harm) If() string {
	switch {
	case h.Says == withoutEntry:
		return h.Rule.Name + " is taken out"
	case strings.HasPrefix(h.Says, "without "):
		return h.Rule.Name + " is " + h.Says
	case strings.HasPrefix(h.Says, "below "):
		return h.Rule.Name + " is moved " + h.Says
	}
	return h.Rule.Name + " has " + h.Says
}

// Harms gives the small changes of every entry of a rulebook: without the entry, without
// one of its clauses or one of several values, with a wider pattern, another target or
// status, and with the entry below it in its place. Not all of them can be read, or change
// anything.
func Harms(b *rulebook.Book) (out []Harm) {
	firsts := map[*rulebook.Source][]*rulebook.Rule{} // in the order of their lines
	for _, r := range b.Rules {
		firsts[r.Place.Source] = append(firsts[r.Place.Source], r)
	}
	for _, rules := range firsts {
		slices.SortFunc(rules, func(a, b *rulebook.Rule) int { return a.Place.Line - b.Place.Line })
	}
	for _, r := range b.Rules {
		h := harmer{rule: r}
		h.add(withoutEntry, r.Replaced(nil))
		h.clauses()
		rules := firsts[r.Place.Source]
		if i := slices.Index(rules, r); i+1 < len(rules) && rules[i+1].Site == r.Site && meet(r, rules[i+1]) {
			if edits := rules[i+1].Above(r); edits != nil {
				h.add("below "+rules[i+1].Name, edits...)
			}
		}
		out = append(out, h.out...)
	}
	return out
}

// meet reports whether it can matter which of two entries stands first: both are read from
// top to bottom until one answers, or both are of one kind; and some path is for both, unless
// one of them puts another in its place.
func meet(a, b *rulebook.Rule) bool {
	_, first := a.Action.(rulebook.Reading)
	_, second := b.Action.(rulebook.Reading)
	return (a.Kind == b.Kind || first && second) && (goesOn(a) || goesOn(b) || !apart(a, b))
}

// apart reports whether surely no path is for both of two entries.
func apart(a, b *rulebook.Rule) bool {
	of, others := paths(a), paths(b)
	return of != nil && others != nil && !slices.ContainsFunc(of, func(x *pattern.Lang) bool {
		return slices.ContainsFunc(others, func(y *pattern.Lang) bool {
			_, ok := pattern.Meet(x, y)
			return ok
		})
	})
}

// paths are sets that together have every path that an entry can take; nil where they are not
// known.
func paths(r *rulebook.Rule) (out []*pattern.Lang) {
	for _, on := range r.On {
		l, err := on.Lang()
		if err != nil {
			return nil
		}
		out = append(out, l)
	}
	if len(r.On) == 0 {
		for _, folder := range r.In {
			out = append(out, pattern.Folder(folder, r.Fold))
		}
	}
	return out
}

// A harmer makes the harms of one entry.
type harmer struct {
	rule *rulebook.Rule
	out  []Harm
}

func (h *harmer) add(says string, edits ...rulebook.Edit) {
	h.out = append(h.out, Harm{h.rule, says, edits, len(h.out)})
}

// replace adds a harm: a part of a line becomes another.
func (h *harmer) replace(says string, at rulebook.Place, width int, by string) {
	if at.Source == h.rule.Place.Source {
		h.add(says, rulebook.Replace(at, width, by))
	}
}

// clauses harms the clauses of the entry, one by one.
func (h *harmer) clauses() {
	for _, c := range h.rule.Entry.Clauses {
		word := c.Keyword.Text
		if word == "example" || word == "accept" {
			continue
		}
		end := c.Keyword
		text := word
		for _, v := range c.Values {
			if v.Place.Line == c.Keyword.Place.Line {
				end = v
			}
			text += " " + v.Text
		}
		if len(c.Values) == 0 || c.Values[len(c.Values)-1].Place.Line == c.Keyword.Place.Line {
			h.replace("without `"+text+"`", c.Keyword.Place, end.Place.Col+end.Width-c.Keyword.Place.Col, "")
		}
		many := len(c.Values) > 1
		for i, v := range c.Values {
			if many && !(i == 0 && (word == "when" || word == "unless")) {
				h.replace(fmt.Sprintf("`%s` without %s", word, v.Text), v.Place, v.Width, "")
			}
			switch {
			case word == "on" && !strings.HasPrefix(v.Text, "~") && !v.Quoted:
				h.replace(fmt.Sprintf("`%s %s*`", word, v.Text), v.Place, v.Width, v.Text+"*")
				if last := strings.LastIndexByte(strings.TrimSuffix(v.Text, "/"), '/'); last > 0 {
					h.replace(fmt.Sprintf("`%s %s/*`", word, v.Text[:last]), v.Place, v.Width, v.Text[:last]+"/*")
				}
			case word == "in" && strings.Count(v.Text, "/") > 2:
				last := strings.LastIndexByte(strings.TrimSuffix(v.Text, "/"), '/')
				h.replace(fmt.Sprintf("`%s %s`", word, v.Text[:last+1]), v.Place, v.Width, v.Text[:last+1])
			case word == "to" && !v.Quoted:
				end := strings.IndexAny(v.Text+"?", "?#")
				for _, other := range []string{strings.TrimSuffix(v.Text[:end], "/") + "x" + v.Text[end:], strings.TrimSuffix(v.Text[:end], "/") + v.Text[end:]} {
					if other != v.Text {
						h.replace(fmt.Sprintf("`to %s`", other), v.Place, v.Width, other)
					}
				}
			case word == "when" && i == 0 && len(c.Values) > 0:
				h.replace("`unless` for `when "+v.Text+"`", c.Keyword.Place, c.Keyword.Width, "unless")
			case word == "unless" && i == 0:
				h.replace("`when` for `unless "+v.Text+"`", c.Keyword.Place, c.Keyword.Width, "when")
			default:
				if other := otherWord(v.Text); other != "" {
					h.replace(fmt.Sprintf("`%s %s`", word, other), v.Place, v.Width, other)
				}
			}
		}
	}
}

// others are words that are taken for each other.
var others = [][2]string{{"permanent", "temporary"}, {"301", "302"}, {"308", "307"}, {"303", "302"}, {"404", "410"}, {"403", "404"}, {"503", "200"}, {"on", "off"}, {"finish", "next"}, {"add", "drop"}, {"keep", "drop"}, {"merge", "drop"}}

func otherWord(word string) string {
	for _, pair := range others {
		switch word {
		case pair[0]:
			return pair[1]
		case pair[1]:
			return pair[0]
		}
	}
	return ""
}

// Engine compiles the rulebook with the harm. load gives the content of the files that it
// names beside its own sources. It fails where the changed text cannot be read.
func (h Harm) Engine(e *engine.Engine, load func(name string) ([]byte, error)) (*engine.Engine, error) {
	book, err := e.Book.Edited(h.edits, load)
	if err != nil {
		return nil, err
	}
	return e.With(book), nil
}
