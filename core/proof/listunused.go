package proof

import (
	"fmt"

	"kibitz/core/rulebook"
)

func init() {
	register(43, Kind{
		Name: "list-unused", Severity: Note,
		Summary: "a list that no entry uses",
		Before:  "site saltmarsh address https://saltmarsh-ferries.example files public\nlist office 203.0.113.0/28\naccess crew in /crew/ unless client 192.0.2.0/24 refuse",
		After:   "site saltmarsh address https://saltmarsh-ferries.example files public\nlist office 203.0.113.0/28\naccess crew in /crew/ unless client {office} refuse",
		find: func(c *checker) {
			for _, l := range c.Book.Lists {
				if l.Used {
					continue
				}
				c.addOf(c.Book.Sites[0], Finding{Place: l.Place, Width: len(rulebook.KindList), Request: c.homeRequest(c.Book.Sites[0]),
					Message: fmt.Sprintf("Nothing uses the list %s.", l.Name), Advice: "take it out, or write   {" + l.Name + "}   where it is meant",
					Fixes: []Fix{{Says: "without the list " + l.Name, Edits: []rulebook.Edit{rulebook.Removed(l.Place)}}}})
			}
		},
	})
}
