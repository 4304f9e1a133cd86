package proof

import (
	"strings"

	"kibitz/core/browser"
	"kibitz/core/rulebook"
)

func init() {
	register(8, Kind{
		Name: "example-fails", Severity: Error,
		Summary: "an entry's own example does not hold",
		Before:  "redirect old on /timetable/:season.php to /timetables/{season} as permanent\n    example /timetable/winter.php => 301 /timetables/winter/",
		After:   "redirect old on /timetable/:season.php to /timetables/{season}/ as permanent\n    example /timetable/winter.php => 301 /timetables/winter/",
		Proves:  true,
		find: func(c *checker) {
			for _, r := range c.Book.Rules {
				if len(r.Examples) > 0 {
					c.note(Proved, r, "")
				}
				for _, ex := range r.Examples {
					req, err := c.Book.ExampleRequest(r, &ex)
					if err != nil {
						continue // the rulebook was read with it, so this cannot be
					}
					c.tried++
					unmet := browser.Unmet(&ex.Expects, browser.Open(c, req))
					if len(unmet) == 0 {
						continue
					}
					c.add(Finding{Rules: []*rulebook.Rule{r}, Place: ex.Place, Width: ex.Width, Request: req,
						Message: "The example does not hold: " + strings.Join(unmet, "; ") + ".",
						Advice:  "correct the entry, or what the example expects"})
				}
			}
			c.conclusions("each example was run")
		},
	})
}
