package proof

import (
	"fmt"
	"time"

	"kibitz/core/rulebook"
)

// now is when a rulebook is looked at.
var now = time.Now

func init() {
	register(46, Kind{
		Name: "never-again", Severity: Note,
		Summary: "an entry holds only until a time that is over",
		Before:  "reply closed in /fares/ when time before 2020-01-06 with 503",
		After:   "reply closed in /fares/ when time after 2020-01-06 with 503",
		find: func(c *checker) {
			for _, r := range c.Book.Rules {
				for _, t := range r.Tests {
					if t.Field.Kind != rulebook.FieldTime {
						continue
					}
					c.note(Tried, r, "")
					end, over := overAt(t)
					if !over {
						continue
					}
					req := c.space(c.sitesOf(r)[0]).typicalRequest(r)
					c.tried++
					c.add(Finding{Rules: []*rulebook.Rule{r}, Place: t.Place, Width: t.Width, Request: req,
						Message: fmt.Sprintf("No request reaches this entry any more: its time ended on %s.", end.UTC().Format(time.DateOnly)),
						Advice:  "take it out, or write when it is next",
						Fixes:   []Fix{takeOut(r)}})
					break
				}
			}
			c.conclusions("the times that they name are not over")
		},
	})
}

// overAt reports whether all spans of a test are over, and when the last was.
func overAt(t *rulebook.Test) (end time.Time, over bool) {
	if t.Unless || len(t.Values) == 0 {
		return end, false
	}
	for _, v := range t.Values {
		if v.Kind != rulebook.ValueSpan || v.Span.High >= now().UnixMicro() {
			return end, false
		}
		if last := time.UnixMicro(v.Span.High); last.After(end) {
			end = last
		}
	}
	return end, true
}
