package proof

import (
	"fmt"

	"kibitz/core/request"
	"kibitz/core/rulebook"
)

func init() {
	register(48, Kind{
		Name: "moves-undecided", Severity: Note,
		Summary: "rows of a table say with ? that nobody has decided yet what becomes of an address",
		Before:  "moves old table undecided.csv as permanent    # has a row  /spring,,?",
		After:   "moves old table moves.csv as permanent",
		find: func(c *checker) {
			for _, r := range c.Book.Rules {
				m, ok := r.Action.(*rulebook.Moves)
				if !ok || m.Table == nil {
					continue
				}
				c.note(Tried, r, "")
				if m.Table.Undecided == 0 {
					continue
				}
				said := "One row is"
				if m.Table.Undecided > 1 {
					said = fmt.Sprintf("%d rows are", m.Table.Undecided)
				}
				f := Finding{Rules: []*rulebook.Rule{r},
					Message: fmt.Sprintf("%s undecided, the first on line %d of %s: for such an address the table does nothing.", said, m.Table.FirstUndecided, m.Table.Name),
					Advice:  "write a new address and a status in place of the ?, or 410 where nothing takes its place"}
				f.Request = c.space(c.sitesOf(r)[0]).typicalRequest(r)
				if a, err := request.Parse(m.Table.FirstOld, c.sitesOf(r)[0].Address); err == nil {
					f.Request = &request.Request{Address: a}
				}
				f.Place, f.Width = clause(r, "table")
				c.add(f)
			}
			c.conclusions("each row of their tables says what becomes of its address")
		},
	})
}
