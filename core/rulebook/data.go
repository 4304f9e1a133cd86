package rulebook

// A rulebook as data: what deploys to a server reads, in any language; and back to text.

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
)

// DataName is what a file of this form says that it is, with its version.
const DataName = "rulebook 1"

// Data is a whole rulebook, what it includes too, in the order in which it is read.
type Data struct {
	Kibitz  string      `json:"kibitz"` // DataName
	Entries []DataEntry `json:"entries"`
}

// A DataEntry is one entry.
type DataEntry struct {
	Kind      string         `json:"kind"`
	Name      string         `json:"name,omitempty"`   // where it has none, it is called by its kind and line
	Site      string         `json:"site,omitempty"`   // that it belongs to; "" for all, and for sites and lists
	At        string         `json:"at,omitempty"`     // FILE:LINE
	Values    []DataValue    `json:"values,omitempty"` // of a list
	Clauses   []DataClause   `json:"clauses,omitempty"`
	Templates []DataTemplate `json:"templates,omitempty"` // what its targets and texts are made of
}

// A DataClause is a keyword with its values.
type DataClause struct {
	Keyword string      `json:"keyword"`
	Values  []DataValue `json:"values,omitempty"`
}

// A DataValue is one word: never a keyword, a wildcard or a list where it is quoted.
type DataValue struct {
	Text   string `json:"text"`
	Quoted bool   `json:"quoted,omitempty"`
}

// A DataTemplate is a text with values in it, and its parts.
type DataTemplate struct {
	Text  string     `json:"text"`
	Parts []DataPart `json:"parts"`
}

// A DataPart is a text, or the value of a capture or of a field.
type DataPart struct {
	Text    string   `json:"text,omitempty"`
	Capture string   `json:"capture,omitempty"`
	Field   string   `json:"field,omitempty"`
	Filters []string `json:"filters,omitempty"`
}

// Data gives the rulebook as data.
func (b *Book) Data() Data {
	rules := map[*Entry]*Rule{}
	for _, r := range b.Rules {
		rules[r.Entry] = r
	}
	d := Data{Kibitz: DataName, Entries: []DataEntry{}}
	site := ""
	for _, e := range b.Entries {
		out := DataEntry{Kind: e.Kind.Text, At: e.Kind.Place.String(), Values: valuesOf(e.Values)}
		if e.Name != nil {
			out.Name = e.Name.Text
		}
		switch Kind(e.Kind.Text) {
		case KindSite:
			site = out.Name
		case KindList:
		default:
			out.Site = site
		}
		for _, c := range e.Clauses {
			out.Clauses = append(out.Clauses, DataClause{c.Keyword.Text, valuesOf(c.Values)})
		}
		if r := rules[e]; r != nil {
			for _, t := range r.Action.Templates() {
				if t != nil {
					out.Templates = append(out.Templates, dataOf(t))
				}
			}
		}
		d.Entries = append(d.Entries, out)
	}
	return d
}

func valuesOf(words []Word) (out []DataValue) {
	for _, w := range words {
		out = append(out, DataValue{w.Text, w.Quoted})
	}
	return out
}

func dataOf(t *Template) DataTemplate {
	d := DataTemplate{Text: t.Text, Parts: []DataPart{}}
	for _, p := range t.Body {
		switch {
		case !p.Value:
			d.Parts = append(d.Parts, DataPart{Text: p.Text})
		case p.Capture != "":
			d.Parts = append(d.Parts, DataPart{Capture: p.Capture, Filters: p.Filters})
		default:
			d.Parts = append(d.Parts, DataPart{Field: p.Field.String(), Filters: p.Filters})
		}
	}
	return d
}

// FromData reads a rulebook that is written as data, and gives its text. Places and parts
// are not looked at: the clauses say all.
func FromData(r io.Reader) ([]byte, error) {
	d := json.NewDecoder(r)
	d.DisallowUnknownFields()
	var data Data
	if err := d.Decode(&data); err != nil {
		return nil, fmt.Errorf("it is not a rulebook as data: %w", err)
	}
	if data.Kibitz != DataName {
		return nil, fmt.Errorf("it is of another kind or version (%q, and not %q)", data.Kibitz, DataName)
	}
	if _, err := d.Token(); err != io.EOF {
		return nil, errors.New("something follows behind its end")
	}
	var b strings.Builder
	for i, e := range data.Entries {
		if k := Kind(e.Kind); rowOf(k) == nil || !k.IsRule() && k != KindSite && k != KindList {
			return nil, fmt.Errorf("entry %d: %q is not a kind of entry", i+1, e.Kind)
		}
		words := []string{e.Name}
		for _, c := range e.Clauses {
			words = append(words, c.Keyword)
		}
		for _, w := range words {
			if strings.ContainsAny(w, " \t\r\n\"#") {
				return nil, fmt.Errorf("entry %d: %q is neither a name nor a keyword", i+1, w)
			}
		}
		if i > 0 && (e.Kind == string(KindSite) || data.Entries[i-1].Kind == string(KindSite)) {
			b.WriteString("\n")
		}
		line := e.Kind
		if e.Name != "" {
			line += " " + e.Name
		}
		for _, v := range e.Values {
			line += " " + v.word()
		}
		b.WriteString(line)
		for _, c := range e.Clauses {
			lead := " "
			if c.Keyword == "example" || c.Keyword == "accept" || e.Kind == string(KindSite) {
				lead = "\n    "
			}
			b.WriteString(lead + c.Keyword)
			for _, v := range c.Values {
				b.WriteString(" " + v.word())
			}
		}
		b.WriteString("\n")
	}
	return Format("rulebook", []byte(b.String()))
}

// word writes a value as a word of a rulebook.
func (v DataValue) word() string {
	if !v.Quoted && v.Text != "" && !strings.ContainsAny(v.Text, " \t\r\n\"") && v.Text[0] != '#' {
		return v.Text
	}
	return inQuotes(v.Text)
}
