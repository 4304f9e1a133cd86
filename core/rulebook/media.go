package rulebook

// Media types and charsets by extension.

import (
	"maps"
	"slices"
	"strings"

	"golang.org/x/net/http/httpguts"
)

const KindMedia Kind = "media"

func init() {
	register(kindRow{kind: KindMedia, order: 14, read: readMedia, setting: true, clauses: map[string]clauseForm{
		"type":    {must: 2, more: true, repeat: true, needs: "extensions and a media type, like `type webmanifest application/manifest+json`"},
		"charset": {must: 1, needs: "a name, like `charset utf-8`"},
	}})
}

// Media gives extensions their media types.
type Media struct {
	Types   map[string]string // by extension, lower case, no dot
	Charset string
}

// Templates are those that are filled in for an answer.
func (*Media) Templates() []*Template { return nil }

// Points are the extensions, and the charset.
func (a *Media) Points() []string {
	out := slices.Sorted(maps.Keys(a.Types))
	if a.Charset != "" {
		out = append(out, " charset")
	}
	return out
}

func readMedia(b *builder, r *Rule, _ []string) Action {
	e := r.Entry
	a := &Media{Types: map[string]string{}}
	for _, c := range e.Clauses {
		switch c.Keyword.Text {
		case "type":
			last := c.Values[len(c.Values)-1]
			major, minor, ok := strings.Cut(last.Text, "/")
			if !ok || !httpguts.ValidHeaderFieldName(major) || !httpguts.ValidHeaderFieldName(minor) {
				b.errs.at(last, "%s is not a media type: the last word is one like text/html", last.Quote())
				continue
			}
			for _, w := range c.Values[:len(c.Values)-1] {
				ext := strings.ToLower(strings.TrimPrefix(w.Text, "."))
				if ext == "" || strings.ContainsAny(ext, "./*") {
					b.errs.at(w, "%s is not an extension: write one like html", w.Quote())
					continue
				}
				a.Types[ext] = strings.ToLower(last.Text)
			}
		case "charset":
			if w := c.Values[0]; !httpguts.ValidHeaderFieldName(w.Text) {
				b.errs.at(w, "%s is not a charset: write a name like utf-8", w.Quote())
			} else {
				a.Charset = w.Text
			}
		}
	}
	return a
}
