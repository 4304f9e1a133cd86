package rulebook

// A reply: a fixed answer.

import (
	"fmt"
	"time"

	"kibitz/core/units"
)

const KindReply Kind = "reply"

func init() {
	register(kindRow{kind: KindReply, order: 7, leads: true, read: readReply, clauses: map[string]clauseForm{
		"with":  {must: 1, needed: true, needs: "a status, like `with 410`"},
		"show":  {must: 1, needs: "a path in the site's tree, like /errors/gone.html"},
		"text":  {must: 1, more: true, needs: "a text"},
		"retry": {must: 1, needs: "a duration, like `retry 2h`"},
	}})
}

// Reply is a fixed answer.
type Reply struct {
	Status int
	Body   Body
	Retry  time.Duration // 0: no Retry-After
}

// Templates are those that are filled in for an answer.
func (a *Reply) Templates() []*Template { return a.Body.templates() }

func (a *Reply) shows() string { return a.Body.Show }

// Points are none: it is read in order.
func (*Reply) Points() []string { return nil }

// Ends reports whether every request that it takes is answered by it.
func (*Reply) Ends() bool { return true }

// Does writes what it does.
func (a *Reply) Does() string {
	text := ""
	if a.Body.Text != nil {
		text = a.Body.Text.Text
	}
	return fmt.Sprint("reply ", a.Status, a.Body.Show, text, a.Retry)
}

func readReply(b *builder, r *Rule, captures []string) Action {
	e := r.Entry
	a := &Reply{Body: b.body(e, captures)}
	if c := e.clause("with"); c != nil {
		a.Status = b.status(c.Values[0], 200, 599)
		if a.Status/100 == 3 {
			b.errs.at(c.Values[0], "a reply does not redirect: write a `redirect` entry")
		}
	}
	if c := e.clause("retry"); c != nil {
		d, problem := units.Duration(c.Values[0].Text)
		if problem != "" {
			b.errs.at(c.Values[0], "%s", problem)
		}
		a.Retry = d
	}
	return a
}
