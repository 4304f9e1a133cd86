package rulebook

// Moves: a table of redirects.

import (
	"fmt"
	"slices"
	"strings"

	"kibitz/core/request"
)

const KindMoves Kind = "moves"

func init() {
	register(kindRow{kind: KindMoves, order: 5, leads: true, read: readMoves, clauses: map[string]clauseForm{
		"table": {must: 1, needed: true, needs: "a CSV file of old and new addresses"},
		"as":    {must: 1, needs: "a status, like `as permanent`"},
		"query": {must: 1, more: true, needs: "`keep`, `merge`, `only NAME…` or `drop`"},
	}})
}

// Moves is a table of redirects.
type Moves struct {
	Table *Table
	Query Query
}

// Sends gives what becomes of the query.
func (m *Moves) Sends() (q Query, own bool) {
	return m.Query, slices.ContainsFunc(m.Table.Rows, func(row Row) bool { return strings.IndexByte(row.New, '?') >= 0 })
}

// QueryOf is what becomes of the request's query where a row takes it: one that the row itself
// names is used up, and a new one takes its place.
func (m *Moves) QueryOf(row *Row) Query {
	q := m.Query
	if _, has := row.NewQuery(); q.Mode == QueryKeep && (has || row.HasQuery) {
		q.Mode = QueryDrop
	}
	return q
}

// NewQuery gives the query of a row's new address, and whether it has one.
func (r *Row) NewQuery() (query string, has bool) {
	address, _, _ := strings.Cut(r.New, "#")
	_, query, has = strings.Cut(address, "?")
	return query, has
}

// Size is how many entries a rulebook has, with the rows of its tables.
func (b *Book) Size() int {
	n := len(b.Rules)
	for _, r := range b.Rules {
		if a, ok := r.Action.(*Moves); ok && a.Table != nil {
			n += len(a.Table.Rows)
		}
	}
	return n
}

// Templates are none: a new address is taken as it stands.
func (*Moves) Templates() []*Template { return nil }

// Points are none: it is read in order.
func (*Moves) Points() []string { return nil }

// Ends reports whether every request that it takes is answered by it.
func (*Moves) Ends() bool { return true }

// Does writes what it does.
func (a *Moves) Does() string { return fmt.Sprint("moves ", a.Table.Name, a.Query) }

func readMoves(b *builder, r *Rule, _ []string) Action {
	e := r.Entry
	a := &Moves{Query: b.query(e, nil)}
	def := 0
	if c := e.clause("as"); c != nil {
		def = b.redirectStatus(c.Values[0])
	}
	c := e.clause("table")
	if c == nil {
		return a
	}
	w := c.Values[0]
	text, err := b.load(b.path(w))
	if err != nil {
		b.errs.at(w, "the table cannot be read: %v", err)
		return a
	}
	base := request.Address{Scheme: "https", Host: "site.example", Port: 443}
	keep := false
	if r.Site != nil {
		base, keep = r.Site.Address, r.Site.KeepSlashes
	}
	table, problems := readTable(b.path(w), text, rowReader{def: def, fold: r.Fold, base: base, keep: keep, query: a.Query})
	for _, p := range problems {
		b.errs.at(w, "%s: %v", table.Name, p)
	}
	a.Table = table
	return a
}
