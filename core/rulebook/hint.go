package rulebook

// Hints of what a page needs, ahead of it.

import (
	"strings"

	"kibitz/core/request"
)

const KindHint Kind = "hint"

func init() {
	register(kindRow{kind: KindHint, order: 16, read: readHint, setting: true, clauses: map[string]clauseForm{
		"preload":    {must: 3, repeat: true, needs: "a path, `as` and a destination, like `preload /site.css as style`"},
		"preconnect": {must: 1, repeat: true, needs: "an origin, like https://maps.saltmarsh-ferries.example"},
	}})
}

// Hint announces resources ahead of a page.
type Hint struct {
	Preloads    []Preload
	Preconnects []string
}

// Templates are those that are filled in for an answer.
func (*Hint) Templates() []*Template { return nil }

// Points are all hints at once.
func (*Hint) Points() []string { return []string{"hints"} }

// A Preload is a resource that a page will need.
type Preload struct {
	Path string // canonical, with its query
	As   string
}

func readHint(b *builder, r *Rule, _ []string) Action {
	e := r.Entry
	a := &Hint{}
	for _, c := range e.Clauses {
		w := c.Values[0]
		switch c.Keyword.Text {
		case "preload":
			if !strings.HasPrefix(w.Text, "/") {
				b.errs.at(w, "a hint names a path of the site: write /%s", shorten(w.Text))
				continue
			}
			if c.Values[1].Text != "as" {
				b.errs.at(c.Values[1], "a hint says what the file is for: preload %s as style", w.Text)
				continue
			}
			as := b.choice(c.Values[2], "audio", "document", "embed", "fetch", "font", "image", "object", "script", "style", "track", "video", "worker")
			a.Preloads = append(a.Preloads, Preload{w.Text, as})
		case "preconnect":
			if o, err := request.Parse(w.Text, request.Address{}); err != nil || strings.HasPrefix(w.Text, "/") || o.Path != "/" {
				b.errs.at(w, "an origin is a scheme and a host, like https://maps.saltmarsh-ferries.example")
				continue
			}
			a.Preconnects = append(a.Preconnects, strings.TrimSuffix(w.Text, "/"))
		}
	}
	return a
}
