package rulebook

// How large requests may be.

const KindLimit Kind = "limit"

func init() {
	register(kindRow{kind: KindLimit, order: 17, read: readLimit, setting: true, clauses: map[string]clauseForm{
		"body":    {must: 1, needs: "a size, like `body 2MiB`"},
		"url":     {must: 1, needs: "a size, like `url 8KiB`"},
		"headers": {must: 1, needs: "a size, like `headers 16KiB`"},
	}})
}

// Limit bounds the size of requests, in bytes; -1 where nothing is said.
type Limit struct{ Body, URL, Headers int64 }

// Templates are those that are filled in for an answer.
func (*Limit) Templates() []*Template { return nil }

// Points are what it bounds.
func (a *Limit) Points() []string {
	return points(map[string]bool{"body": a.Body >= 0, "url": a.URL >= 0, "headers": a.Headers >= 0})
}

func readLimit(b *builder, r *Rule, _ []string) Action {
	e := r.Entry
	a := &Limit{-1, -1, -1}
	for word, field := range map[string]*int64{"body": &a.Body, "url": &a.URL, "headers": &a.Headers} {
		if c := e.clause(word); c != nil {
			if n, ok := b.size(c.Values[0]); ok {
				*field = n
			}
		}
	}
	return a
}
