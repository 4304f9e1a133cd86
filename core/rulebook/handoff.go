package rulebook

// A handoff: an application answers.

import "net/url"

const KindHandoff Kind = "handoff"

func init() {
	register(kindRow{kind: KindHandoff, order: 8, leads: true, read: readHandoff, clauses: map[string]clauseForm{
		"to": {must: 1, needs: "an address, like `to /fares/`"},
	}})
}

// Handoff leaves the answer to an application.
type Handoff struct{ To string }

// Templates are those that are filled in for an answer.
func (*Handoff) Templates() []*Template { return nil }

// Points are none: it is read in order.
func (*Handoff) Points() []string { return nil }

// Ends reports whether every request that it takes is answered by it.
func (*Handoff) Ends() bool { return true }

// Does writes what it does.
func (a *Handoff) Does() string { return "handoff " + a.To }

func readHandoff(b *builder, r *Rule, _ []string) Action {
	e := r.Entry
	a := &Handoff{}
	if c := e.clause("to"); c != nil {
		a.To = c.Values[0].Text
		if u, err := url.Parse(a.To); err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
			b.errs.at(c.Values[0], "an application is named by a full URL, like http://127.0.0.1:8080")
		}
	}
	return a
}
