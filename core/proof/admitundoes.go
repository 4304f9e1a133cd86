package proof

import (
	"fmt"

	"kibitz/core/request"
	"kibitz/core/rulebook"
)

func init() {
	register(34, Kind{
		Name: "admit-undoes-guard", Severity: Warning,
		Summary: "an entry above a guard admits everybody, also those whom the guard would refuse",
		Before:  "access open in / admit\naccess crew in /crew/ unless client {crew-net} refuse",
		After:   "access open on /crew/help.html admit\naccess crew in /crew/ unless client {crew-net} refuse",
		find: func(c *checker) {
			for _, s := range c.Book.Sites {
				for i, admit := range s.Rules {
					a, ok := admit.Action.(*rulebook.Access)
					if !ok || a.Do != rulebook.Admit {
						continue
					}
					c.note(Tried, admit, "")
					for _, guard := range s.Rules[i:] {
						if g, ok := guard.Action.(*rulebook.Access); ok && g.Do != rulebook.Admit && c.undoes(c.space(s), admit, guard) {
							break
						}
					}
				}
			}
			c.conclusions("each looks at who asks, or is plainly an exception to the entries below")
		},
	})
}

// undoes reports an admit that says nothing of who asks, and is no narrower than the guard
// below it.
func (c *checker) undoes(sp *space, admit, guard *rulebook.Rule) bool {
	for _, t := range admit.Tests {
		if t.Field.Row().Beside || onPath(t) {
			return false
		}
	}
	if special(admit, guard) {
		return false
	}
	req, err := sp.find(question{in: []*rulebook.Rule{admit, guard}, fix: func(req *request.Request) bool {
		c.tried++
		return c.PredictWithout(req, admit).By == guard && c.Predict(req).By != guard
	}})
	if err != nil {
		return false
	}
	f := Finding{Rules: []*rulebook.Rule{admit, guard}, Request: req,
		Message: fmt.Sprintf("%s would be kept from this client by %s (%s), but this entry admits everybody there first.", req.Address.Target(), guard.Name, guard.Place),
		Advice:  "put it below the guard, or say who is admitted:   when client {office}"}
	f.Place, f.Width = clause(admit, "in", "on", "admit")
	c.add(f)
	return true
}
