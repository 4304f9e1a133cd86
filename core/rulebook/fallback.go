package rulebook

// A fallback: files that are served where the tree has nothing.

const KindFallback Kind = "fallback"

func init() {
	register(kindRow{kind: KindFallback, order: 10, leads: true, read: readFallback, clauses: map[string]clauseForm{
		"to": {must: 1, more: true, needed: true, needs: "an address, like `to /fares/`"},
		"as": {must: 1, needs: "a status, like `as permanent`"},
	}})
}

// Fallback is served where the tree has nothing.
type Fallback struct {
	To     []*Template
	Status int
}

// Templates are those that are filled in for an answer.
func (a *Fallback) Templates() []*Template { return a.To }

// Points are none: all fallbacks are tried.
func (*Fallback) Points() []string { return nil }

func readFallback(b *builder, r *Rule, captures []string) Action {
	e := r.Entry
	a := &Fallback{Status: 200}
	if c := e.clause("to"); c != nil {
		for _, w := range c.Values {
			if t := b.target(w, captures, true); t != nil {
				if t.HasQuery {
					b.errs.at(w, "a fallback is a file of the tree, and has no query")
				}
				a.To = append(a.To, t)
			}
		}
	}
	if c := e.clause("as"); c != nil {
		if a.Status = b.status(c.Values[0], 200, 599); a.Status != 200 && a.Status/100 < 4 {
			b.errs.at(c.Values[0], "a fallback is served as 200, or as an error from 400 on")
		}
	}
	return a
}
