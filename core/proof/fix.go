package proof

// How findings are mended: as edits of the rulebook's text, which are run before anybody is
// told to make them.

import (
	"fmt"
	"strings"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

// A Fix is a way to mend a finding.
type Fix struct {
	Says  string // what is done, in a few words
	Edits []rulebook.Edit
	About func(*request.Request) bool // requests that it may answer differently, beside those of the finding and its entries; nil for none
}

// setClause gives an entry another value of a clause that takes one, or the clause where it
// has none.
func setClause(r *rulebook.Rule, word, value string) Fix {
	says := fmt.Sprintf("%s: %s %s", r.Name, word, value)
	if c, _, _, ok := r.Entry.Clause(word); ok && len(c.Values) > 0 {
		return Fix{Says: says, Edits: []rulebook.Edit{rulebook.Replace(c.Values[0].Place, c.Values[0].Width, value)}}
	}
	return addClause(r, word+" "+value)
}

// addClause gives an entry one more clause.
func addClause(r *rulebook.Rule, text string) Fix {
	return Fix{Says: r.Name + ": " + text, Edits: []rulebook.Edit{r.With(text)}}
}

// addEntry gives a site one more entry, above its others.
func addEntry(s *rulebook.Site, text string) Fix {
	return Fix{Says: text, Edits: []rulebook.Edit{s.Added(text)}}
}

// takeOut takes an entry out.
func takeOut(r *rulebook.Rule) Fix {
	return Fix{Says: "without " + r.Name, Edits: []rulebook.Edit{rulebook.Removed(r.Place)}}
}

// putAbove puts an entry above another one; nothing where they stand apart.
func putAbove(r, other *rulebook.Rule) []Fix {
	edits := r.Above(other)
	if edits == nil {
		return nil
	}
	return []Fix{{Says: fmt.Sprintf("%s above %s", r.Name, other.Name), Edits: edits}}
}

// writeAt puts another text in the place of what is marked.
func writeAt(at rulebook.Place, width int, text string) Fix {
	says := "write " + text
	if text == "" {
		line := []rune(at.Source.Lines[at.Line-1])
		says = "without " + strings.TrimSpace(string(line[at.Col-1:min(at.Col-1+width, len(line))]))
	}
	return Fix{Says: says, Edits: []rulebook.Edit{rulebook.Replace(at, width, text)}}
}

// setTarget gives an entry another target.
func setTarget(r *rulebook.Rule, to string) Fix { return setClause(r, "to", to) }

// replaceIn puts another text in the place of one that the entry's clauses of a keyword have.
func replaceIn(r *rulebook.Rule, keyword, old, text string) (out []Fix) {
	for _, c := range r.Entry.Clauses {
		for _, v := range c.Values {
			line := []rune(v.Place.Source.Lines[v.Place.Line-1])
			written := string(line[v.Place.Col-1 : v.Place.Col-1+v.Width])
			if (c.Keyword.Text == keyword || keyword == "when" && c.Keyword.Text == "unless") && strings.Contains(written, old) {
				out = append(out, writeAt(v.Place, v.Width, strings.Replace(written, old, text, 1)))
			}
		}
	}
	return out
}

// withoutValue takes one of several values out of a clause.
func withoutValue(r *rulebook.Rule, keyword, value string) []Fix {
	if c, _, _, ok := r.Entry.Clause(keyword); ok && len(c.Values) > 1 {
		for _, v := range c.Values {
			if v.Text == value {
				return []Fix{writeAt(v.Place, v.Width, "")}
			}
		}
	}
	return nil
}

// Known are requests that show what a rulebook does: its examples, and a few that each of
// its entries takes.
func Known(e *engine.Engine) (out []*request.Request) {
	c := newShared(e, 1)
	for _, s := range e.Book.Sites {
		out = append(out, c.homeRequest(s))
		for _, r := range s.Rules {
			out = append(append(out, c.space(s).typicalRequest(r)), c.firstProbes(s, r)...)
			for i := range r.Examples {
				if req, err := e.Book.ExampleRequest(r, &r.Examples[i]); err == nil {
					out = append(out, req)
				}
			}
		}
	}
	return out
}

// Sample is a request that an entry decides, as plain as there is; nil where none was found.
func Sample(e *engine.Engine, r *rulebook.Rule) *request.Request {
	c := newShared(e, 1)
	for _, s := range e.Book.Sites {
		if r.Site != nil && r.Site != s {
			continue
		}
		for _, req := range append([]*request.Request{c.space(s).typicalRequest(r)}, c.firstProbes(s, r)...) {
			if e.Takes(r, req) && (!r.Kind.Leads() || e.Predict(req).By == r) {
				return req
			}
		}
	}
	return nil
}
