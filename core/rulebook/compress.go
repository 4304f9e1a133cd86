package rulebook

// How what is sent is compressed.

import (
	"strconv"
	"strings"
)

const KindCompress Kind = "compress"

func init() {
	register(kindRow{kind: KindCompress, order: 15, read: readCompress, clauses: map[string]clauseForm{
		"using":  {must: 1, more: true, needs: "encodings: some of `br zstd gzip`"},
		"types":  {must: 1, more: true, needs: "media types, like `types text/*`"},
		"over":   {must: 1, needs: "a size, like `over 1KiB`"},
		"level":  {must: 1, needs: "a number"},
		"stored": {must: 1, needs: "`on` or `off`"},
	}})
}

// Compress chooses encodings.
type Compress struct {
	Using  []string
	Types  []string
	Over   int64 // bytes; -1 where nothing is said
	Level  int   // 0 where nothing is said
	Stored *bool
}

// Templates are those that are filled in for an answer.
func (*Compress) Templates() []*Template { return nil }

// Points are none: what decides is told by compress-useless.
func (*Compress) Points() []string { return nil }

func readCompress(b *builder, r *Rule, _ []string) Action {
	e := r.Entry
	a := &Compress{Over: -1, Stored: b.onOff(e, "stored")}
	for _, c := range e.Clauses {
		w := c.Values[0]
		switch c.Keyword.Text {
		case "using":
			for _, w := range c.Values {
				if name := b.choice(w, "br", "zstd", "gzip"); name != "" {
					a.Using = append(a.Using, name)
				}
			}
		case "types":
			for _, w := range c.Values {
				if !strings.Contains(w.Text, "/") {
					b.errs.at(w, "%s is not a media type: write one like text/css or text/*", w.Quote())
				}
				a.Types = append(a.Types, strings.ToLower(w.Text))
			}
		case "over":
			if n, ok := b.size(w); ok {
				a.Over = n
			}
		case "level":
			n, err := strconv.Atoi(w.Text)
			if err != nil || n < 1 || n > 11 {
				b.errs.at(w, "a level is a number from 1 (quick) to 11 (small)")
			}
			a.Level = n
		}
	}
	return a
}
