package rulebook

// A redirect: the visitor is sent to another address.

import "fmt"

const KindRedirect Kind = "redirect"

func init() {
	register(kindRow{kind: KindRedirect, order: 4, leads: true, read: readRedirect, clauses: map[string]clauseForm{
		"to":    {must: 1, needed: true, needs: "an address, like `to /fares/`"},
		"as":    {must: 1, needed: true, needs: "a status, like `as permanent`"},
		"query": {must: 1, more: true, needs: "`keep`, `merge`, `only NAME…` or `drop`"},
	}})
}

// Redirect answers with a Location.
type Redirect struct {
	To     *Template
	Status int
	Query  Query
}

// Templates are those that are filled in for an answer.
func (a *Redirect) Templates() []*Template { return []*Template{a.To} }

// Points are none: it is read in order.
func (*Redirect) Points() []string { return nil }

// Ends reports whether every request that it takes is answered by it.
func (*Redirect) Ends() bool { return true }

// Sends gives what becomes of the query.
func (a *Redirect) Sends() (q Query, own bool) { return a.Query, a.To.HasQuery }

// Does writes what it does.
func (a *Redirect) Does() string { return fmt.Sprint("redirect ", a.Status, a.To.Text, a.Query) }

func readRedirect(b *builder, r *Rule, captures []string) Action {
	e := r.Entry
	a := &Redirect{}
	if c := e.clause("to"); c != nil {
		a.To = b.target(c.Values[0], captures, false)
	}
	if c := e.clause("as"); c != nil {
		a.Status = b.redirectStatus(c.Values[0])
	}
	a.Query = b.query(e, a.To)
	return a
}
