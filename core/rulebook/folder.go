package rulebook

// What a folder answers: its documents, its listing, its slash, what is hidden.

import "strings"

const KindFolder Kind = "folder"

func init() {
	register(kindRow{kind: KindFolder, order: 12, leads: true, read: readFolder, setting: true, clauses: map[string]clauseForm{
		"documents": {must: 1, more: true, needs: "names, like `documents index.html`, or `none`"},
		"listing":   {must: 1, needs: "`on` or `off`"},
		"columns":   {must: 1, more: true, needs: "some of `name size date`"},
		"slash":     {must: 1, needs: "`add`, `drop` or `leave`"},
		"hidden":    {must: 1, needs: "`on` or `off`"},
	}})
}

// Folder says what a folder answers. Points that an entry does not speak
// UsualDocument is the name of a folder's document where no entry says which it has.
const UsualDocument = "index.html"

// of are nil or empty.
type Folder struct {
	Documents []string // names; empty but not nil for none
	Listing   *bool
	Columns   []string
	Slash     Slash
	Hidden    *bool
}

// Templates are those that are filled in for an answer.
func (*Folder) Templates() []*Template { return nil }

// Points are what it speaks of.
func (a *Folder) Points() []string {
	return points(map[string]bool{"documents": a.Documents != nil, "listing": a.Listing != nil, "columns": a.Columns != nil, "slash": a.Slash != "", "hidden": a.Hidden != nil})
}

// Slash is what becomes of the slash at the end of a folder's address.
type Slash string

const (
	SlashAdd   Slash = "add"
	SlashDrop  Slash = "drop"
	SlashLeave Slash = "leave"
)

func readFolder(b *builder, r *Rule, _ []string) Action {
	a := b.folderAction(r.Entry)
	for _, t := range r.Tests {
		if a.Hidden != nil && t.Field.Kind == FieldFile {
			b.errs.add(t.Place, t.Width, "`hidden` decides what `file` can see, so an entry that says it cannot test `file`: test `path`, or leave it to `in`")
		}
	}
	return a
}

func (b *builder) folderAction(e *Entry) *Folder {
	a := &Folder{Listing: b.onOff(e, "listing"), Hidden: b.onOff(e, "hidden")}
	if c := e.clause("documents"); c != nil {
		a.Documents = []string{}
		for _, w := range c.Values {
			if w.Text == "none" && !w.Quoted {
				if len(c.Values) > 1 {
					b.errs.at(w, "`documents none` stands alone")
				}
				continue
			}
			if strings.ContainsAny(w.Text, "/*") {
				b.errs.at(w, "a folder's document is a plain name, like index.html")
				continue
			}
			a.Documents = append(a.Documents, w.Text)
		}
	}
	if c := e.clause("columns"); c != nil {
		for _, w := range c.Values {
			if col := b.choice(w, "name", "size", "date"); col != "" {
				a.Columns = append(a.Columns, col)
			}
		}
	}
	if c := e.clause("slash"); c != nil {
		a.Slash = Slash(b.choice(c.Values[0], "add", "drop", "leave"))
	}
	return a
}
