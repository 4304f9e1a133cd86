package proof

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"kibitz/core/rulebook"
)

// slowCost is the bcrypt cost above which a password takes longer to try than people wait:
// each step doubles it.
const slowCost = 14

// guessAt14 is about what one password takes at that cost.
const guessAt14 = time.Second

func init() {
	register(47, Kind{
		Name: "password-slow", Severity: Warning,
		Summary: "a password is so slow to try that a few wrong ones at once keep the server busy",
		Before:  "access crew in /crew/ ask \"Crew\" accounts slow.accounts    # with hashes like $2b$16$…",
		After:   "access crew in /crew/ ask \"Crew\" accounts crew.accounts    # with hashes like $2b$12$…",
		find: func(c *checker) {
			for _, r := range c.Book.Rules {
				a, ok := r.Action.(*rulebook.Access)
				if !ok || a.Do != rulebook.Ask {
					continue
				}
				c.note(Tried, r, "")
				for _, name := range slices.Sorted(maps.Keys(a.Accounts)) {
					cost := rulebook.HashCost(a.Accounts[name])
					if cost <= slowCost {
						continue
					}
					f := Finding{Rules: []*rulebook.Rule{r}, Request: c.space(c.sitesOf(r)[0]).typicalRequest(r),
						Message: fmt.Sprintf("The hash of %q has the cost %d: every password that is tried, right or wrong, takes a processor about %s.", name, cost, guessAt14<<(cost-slowCost)),
						Advice:  fmt.Sprintf("create it again with a cost from 10 to %d", slowCost)}
					f.Place, f.Width = clause(r, "accounts")
					c.add(f)
					break
				}
			}
			c.conclusions("the hashes of their accounts have a cost that is usual")
		},
	})
}
