package rulebook

// An error page: what is shown with a status.

import "strconv"

const KindError Kind = "error"

func init() {
	register(kindRow{kind: KindError, order: 11, read: readError, clauses: map[string]clauseForm{
		"for":  {must: 1, more: true, needed: true, needs: "a status, like `for 404` or `for 5xx`"},
		"show": {must: 1, needs: "a path in the site's tree, like /errors/gone.html"},
		"text": {must: 1, more: true, needs: "a text"},
		"fill": {must: 1, needs: "`on`"},
	}})
}

// ErrorPage is the page for statuses.
type ErrorPage struct {
	For  Statuses
	Body Body
	Fill bool
}

// Templates are those that are filled in for an answer.
func (a *ErrorPage) Templates() []*Template { return a.Body.templates() }

func (a *ErrorPage) shows() string { return a.Body.Show }

// Points are the statuses.
func (a *ErrorPage) Points() []string {
	var out []string
	for status := 400; status < 600; status++ {
		if a.For.Has(status) {
			out = append(out, strconv.Itoa(status))
		}
	}
	return out
}

func readError(b *builder, r *Rule, captures []string) Action {
	e := r.Entry
	a := &ErrorPage{Body: b.body(e, captures)}
	if c := e.clause("for"); c != nil {
		a.For = b.statuses(c.Values, 4)
	}
	if c := e.clause("fill"); c != nil {
		a.Fill = b.choice(c.Values[0], "on") == "on"
		if a.Body.Show == "" {
			b.errs.at(c.Keyword, "`fill` puts values into the page that `show` names; a `text` has them already")
		}
	}
	if a.Body.Empty() && e.clause("show") == nil && e.clause("text") == nil {
		b.errs.at(e.Kind, "this `error` says for which status, but not what to show: add `show /errors/page.html` or `text …`")
	}
	return a
}
