package rulebook

// A rewrite: the request is read on with another path.

import "fmt"

const KindRewrite Kind = "rewrite"

func init() {
	register(kindRow{kind: KindRewrite, order: 6, leads: true, read: readRewrite, clauses: map[string]clauseForm{
		"to":    {must: 1, needed: true, needs: "an address, like `to /fares/`"},
		"query": {must: 1, more: true, needs: "`keep`, `merge`, `only NAME…` or `drop`"},
		"then":  {must: 1, needs: "`next`, `finish` or `again`"},
	}})
}

// Rewrite gives the request another path inside the site.
type Rewrite struct {
	To    *Template
	Query Query
	Then  Then
}

// Templates are those that are filled in for an answer.
func (a *Rewrite) Templates() []*Template { return []*Template{a.To} }

// Points are none: it is read in order.
func (*Rewrite) Points() []string { return nil }

// Ends reports whether every request that it takes is answered by it.
func (*Rewrite) Ends() bool { return false }

// Sends gives what becomes of the query.
func (a *Rewrite) Sends() (q Query, own bool) { return a.Query, a.To.HasQuery }

// Does writes what it does.
func (a *Rewrite) Does() string { return fmt.Sprint("rewrite ", a.To.Text, a.Query, a.Then) }

// Then is what follows a rewrite.
type Then uint8

const (
	Next   Then = iota // the entries below are read with the new path
	Finish             // the reading ends
	Again              // the reading starts from the top
)

func readRewrite(b *builder, r *Rule, captures []string) Action {
	e := r.Entry
	a := &Rewrite{}
	if c := e.clause("to"); c != nil {
		a.To = b.target(c.Values[0], captures, true)
	}
	a.Query = b.query(e, a.To)
	if c := e.clause("then"); c != nil {
		a.Then = map[string]Then{"next": Next, "finish": Finish, "again": Again}[b.choice(c.Values[0], "next", "finish", "again")]
	}
	return a
}
