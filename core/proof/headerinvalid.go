package proof

import (
	"fmt"
	"strings"

	"kibitz/core/request"
	"kibitz/core/rulebook"
)

func init() {
	register(26, Kind{
		Name: "header-invalid", Severity: Warning,
		Summary: "a header value is not of the form that browsers read, so they pass it over",
		Before:  "header safe set Strict-Transport-Security max-age=1y",
		After:   "header safe set Strict-Transport-Security max-age=31536000",
		find: func(c *checker) {
			c.headerValues(func(s *rulebook.Site, r *rulebook.Rule, change rulebook.HeaderChange) {
				req, value := c.showing(s, r, change)
				if req == nil {
					return
				}
				for _, f := range checkValue(change.Name, value) {
					place, width := headerClause(r, change.Name)
					c.add(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: req,
						Message: fmt.Sprintf("%s: %s.", change.Name, f.what), Advice: "write it like   " + f.right})
				}
			})
			c.conclusions("values as requests of each entry's own selectors make them")
		},
	})
}

// headerValues calls each for every value that a header entry of a site sets.
func (c *checker) headerValues(each func(*rulebook.Site, *rulebook.Rule, rulebook.HeaderChange)) {
	for _, s := range c.Book.Sites {
		for _, r := range s.Rules {
			a, ok := r.Action.(*rulebook.Header)
			if !ok {
				continue
			}
			c.note(Tried, r, "")
			for _, change := range a.Changes {
				if change.Do != "drop" {
					each(s, r, change)
				}
			}
		}
	}
}

func headerClause(r *rulebook.Rule, name string) (rulebook.Place, int) {
	for _, cl := range r.Entry.Clauses {
		if len(cl.Values) > 0 && strings.EqualFold(strings.TrimSuffix(cl.Values[0].Text, ":"), name) {
			last := cl.Values[len(cl.Values)-1]
			if last.Place.Line == cl.Keyword.Place.Line {
				return cl.Keyword.Place, last.Place.Col + last.Width - cl.Keyword.Place.Col
			}
			return cl.Keyword.Place, cl.Keyword.Width
		}
	}
	return r.Place, len(r.Kind)
}

// showing gives a request whose answer has the value that a change makes.
func (c *checker) showing(s *rulebook.Site, r *rulebook.Rule, change rulebook.HeaderChange) (*request.Request, string) {
	for _, req := range c.headerProbes(s, r) {
		c.tried++
		resp := c.Predict(req)
		for _, h := range resp.Headers {
			if strings.EqualFold(h.Name, change.Name) && mayExpandTo(change.Value, h.Value) {
				return req, h.Value
			}
		}
	}
	return nil, ""
}

// mayExpandTo reports whether a value can be what a template made.
func mayExpandTo(t *rulebook.Template, value string) bool {
	text, constant := rulebook.Constant(t.Body)
	return !constant || text == value
}

// headerProbes are requests that a header entry takes, and files of the tree
// that it takes beside them.
func (c *checker) headerProbes(s *rulebook.Site, r *rulebook.Rule) []*request.Request {
	out := c.probes(s, r)
	var more []*request.Request
	for _, req := range out {
		for _, path := range c.samplePaths(s) {
			p := *req
			p.Address.Path = path
			more = append(more, &p)
		}
		if len(more) > 200 {
			break
		}
	}
	return append(out, more...)
}

// samplePaths gives some addresses of the tree: the first file of each folder.
func (c *checker) samplePaths(s *rulebook.Site) []string {
	if paths, ok := c.samples[s]; ok {
		return paths
	}
	seen := map[string]bool{}
	var paths []string
	c.eachFile(s, func(path string) {
		folder := path[:strings.LastIndexByte(path, '/')]
		if !seen[folder] && len(paths) < 100 {
			seen[folder] = true
			paths = append(paths, path)
		}
	})
	c.samples[s] = paths
	return paths
}
