package proof

import (
	"fmt"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

func init() {
	register(7, Kind{
		Name: "bad-target", Severity: Error,
		Summary: "some value makes the result invalid, and the visitor gets a 500",
		Before:  "redirect branch on /office/:town          to https://{town}.saltmarsh-ferries.example/ as permanent      # and /office/a_b ?",
		After:   "redirect branch on /office/:town([a-z]+)  to https://{town}.saltmarsh-ferries.example/ as permanent",
		Proves:  true,
		find:    findBadTargets,
	})
}

// nasty gives values that break out of where a rule's templates put them, if
// anything lets them. In a path and a query everything is encoded; a whole segment of dots
// makes an invalid path, but nobody asks for that who does not try doors.
func nasty(r *rulebook.Rule) []string {
	var out []string
	copied := func(pieces []rulebook.Piece) bool {
		_, constant := rulebook.Constant(pieces)
		return !constant
	}
	for _, t := range templatesOf(r) {
		if copied(t.Host) {
			out = append(out, "_", "a.b", "a b", "/", "ä", "")
		}
		if copied(t.Body) {
			out = append(out, "a\nb", "ä")
		}
		if copied(t.Path) {
			out = append(out, "a/../b")
		}
	}
	return out
}

func findBadTargets(c *checker) {
	for _, r := range c.Book.Rules {
		values := false
		for _, t := range templatesOf(r) {
			for _, pieces := range [][]rulebook.Piece{t.Body, t.Scheme, t.Host, t.Path, t.Query, t.Fragment} {
				_, constant := rulebook.Constant(pieces)
				values = values || !constant
			}
		}
		if len(templatesOf(r)) == 0 {
			continue
		}
		if !values {
			c.note(Proved, r, "")
			continue
		}
		c.note(Tried, r, "what breaks out of its place was put into what they copy")
		for _, s := range c.sitesOf(r) {
			if c.badTarget(s, r) {
				break
			}
		}
	}
	c.conclusions("they copy nothing of the request")
}

// badTargetAdvice says how a rule is held to valid results, of which a request has the text of
// another: by a test of the field that it copies, or else by its pattern.
func badTargetAdvice(r *rulebook.Rule, req *request.Request, text string) string {
	for _, t := range templatesOf(r) {
		for p := range t.Pieces {
			if !p.Value || p.Capture != "" || p.Field.Name == "" {
				continue
			}
			if has, _ := p.Field.Row().Text(rulebook.Before{Asks: req}, p.Field.Name); has == text {
				return fmt.Sprintf("take only what makes a valid result, as in   when %s ~[a-z-]+", p.Field)
			}
		}
	}
	return "let the pattern take only what makes a valid result, as in :name([a-z-]+)"
}

func (c *checker) badTarget(s *rulebook.Site, r *rulebook.Rule) bool {
	for _, text := range nasty(r) {
		for _, req := range c.strangers(s, r, text) {
			c.tried++
			resp := &engine.Response{}
			c.Outcome(req, resp)
			if resp.Cause != engine.CauseBadTarget || resp.By != r {
				continue
			}
			_, trace := c.Trace(req)
			why := ""
			for _, step := range trace.Steps {
				if step.Rule == r && step.Fits {
					why = step.Text
				}
			}
			place, width := clause(r, "to", "set", "add", "default")
			c.note(Found, r, "")
			f := Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: req,
				Message: fmt.Sprintf("%s gets a 500: %s.", whoAsks(req), why),
				Advice:  badTargetAdvice(r, req, text)}
			c.add(f)
			return true
		}
	}
	return false
}
