package pages

// Addresses are put in the place of others, in the files themselves.

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// An Edit puts an address in the place of a link's.
type Edit struct {
	Link *Link
	To   string // the address
}

// Writable reports whether another address can be put in the place of a link's: it stands
// in the page's own file, in one piece, and in UTF-8.
func (l *Link) Writable() bool {
	return !l.Header && l.Length > 0 && !l.Page.File.Foreign
}

// Rewrite gives the content of a file with some of its addresses replaced. No byte outside
// of these is changed.
func Rewrite(content []byte, edits []Edit) ([]byte, error) {
	edits = slices.Clone(edits)
	slices.SortStableFunc(edits, func(a, b Edit) int { return cmp.Compare(a.Link.Offset, b.Link.Offset) })
	var out []byte
	at := 0
	for _, e := range edits {
		if !e.Link.Writable() || e.Link.Offset < at || e.Link.Offset+e.Link.Length > len(content) {
			return nil, fmt.Errorf("%s:%d:%d: nothing can be put in the place of %s", e.Link.Page.Name(), e.Link.Line, e.Link.Col, e.Link.Text)
		}
		out = append(out, content[at:e.Link.Offset]...)
		out = append(out, e.Link.written(e.To)...)
		at = e.Link.Offset + e.Link.Length
	}
	return append(out, content[at:]...), nil
}

// written gives an address as it must stand where a reference stands.
func (r *Reference) written(address string) string {
	switch r.Escape {
	case InJSON:
		text, _ := json.Marshal(address) // a string always can be
		return strings.ReplaceAll(string(text[1:len(text)-1]), `\u0026`, "&")
	case InStyle, InBoth:
		address = styleEscapes.Replace(address)
	}
	if r.Set { // blanks and commas part the addresses
		address = strings.NewReplacer(" ", "%20", ",", "%2C").Replace(address)
	}
	if r.Escape == InMarkup || r.Escape == InBoth {
		address = markupEscapes.Replace(address)
	}
	return address
}

var (
	styleEscapes  = strings.NewReplacer(`\`, `\\`, `"`, `\"`, `'`, `\'`, `(`, `\(`, `)`, `\)`, " ", `\ `)
	markupEscapes = strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;", "'", "&#39;", " ", "&#32;", "`", "&#96;")
)
