package proof

import (
	"fmt"
	"slices"
	"strings"

	"kibitz/core/request"
	"kibitz/core/rulebook"
)

var headerInvalid = Kind{
	Name: "header-invalid", Severity: Warning,
	Summary: "a header value is not of the form that browsers read, so they pass it over",
	Before:  "header safe set Strict-Transport-Security max-age=1y",
	After:   "header safe set Strict-Transport-Security max-age=31536000",
	find: func(c *checker) {
		found := false
		entries := c.headerValues(func(s *rulebook.Site, r *rulebook.Rule, change rulebook.HeaderChange) {
			req, value := c.showing(s, r, change)
			if req == nil {
				return
			}
			for _, f := range checkValue(change.Name, value) {
				found = true
				place, width := headerClause(r, change.Name)
				c.add(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: req,
					Message: fmt.Sprintf("%s: %s.", change.Name, f.what), Advice: "write it like   " + f.right})
			}
		})
		c.conclude(found, Tried, entries, "values as requests of each entry's own selectors make them")
	},
}

var headerConflict = Kind{
	Name: "header-conflict", Severity: Warning,
	Summary: "what one header entry sets, another always changes, or a field that may stand once is sent twice",
	Before:  "header a set X-Frame-Options DENY\nheader b set X-Frame-Options SAMEORIGIN",
	After:   "header b set X-Frame-Options SAMEORIGIN",
	find: func(c *checker) {
		found := false
		entries := c.headerValues(func(s *rulebook.Site, r *rulebook.Rule, change rulebook.HeaderChange) {
			found = c.conflict(s, r, change) || found
		})
		c.conclude(found, Tried, entries, "requests made from each entry's own selectors")
	},
}

// headerValues calls each for every value that a header entry of a site sets,
// and gives the number of those entries.
func (c *checker) headerValues(each func(*rulebook.Site, *rulebook.Rule, rulebook.HeaderChange)) (entries int) {
	for _, s := range c.Book.Sites {
		for _, r := range s.Rules {
			a, ok := r.Action.(*rulebook.Header)
			if !ok {
				continue
			}
			entries++
			for _, change := range a.Changes {
				if change.Do != "drop" {
					each(s, r, change)
				}
			}
		}
	}
	return entries
}

func headerClause(r *rulebook.Rule, name string) (rulebook.Place, int) {
	for _, cl := range r.Entry.Clauses {
		if len(cl.Values) > 1 && strings.EqualFold(strings.TrimSuffix(cl.Values[0].Text, ":"), name) {
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
			if strings.EqualFold(h.Name, change.Name) && like(change.Value, h.Value) {
				return req, h.Value
			}
		}
	}
	return nil, ""
}

// like reports whether a value can be what a template made.
func like(t *rulebook.Template, value string) bool {
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

// single are fields that an answer has once at most.
var single = []string{"strict-transport-security", "x-frame-options", "x-content-type-options", "content-type", "referrer-policy", "cross-origin-opener-policy", "cross-origin-embedder-policy", "cross-origin-resource-policy", "access-control-allow-origin", "expires", "etag", "last-modified", "retry-after"}

// conflict reports a change that never survives, or that doubles a field.
func (c *checker) conflict(s *rulebook.Site, r *rulebook.Rule, change rulebook.HeaderChange) bool {
	var shown *request.Request
	what, other := "", (*rulebook.Rule)(nil)
	for _, req := range c.headerProbes(s, r) {
		c.tried++
		resp := c.Predict(req)
		if change.Do != "add" && slices.ContainsFunc(resp.Headers, func(h request.Header) bool {
			return strings.EqualFold(h.Name, change.Name) && like(change.Value, h.Value)
		}) {
			return false
		}
		resp, trace := c.Trace(req)
		applied := false
		for _, st := range trace.Steps {
			applied = applied || st.Rule == r && st.Fits
		}
		if !applied {
			continue
		}
		var values []string
		survives := false
		for _, h := range resp.Headers {
			if strings.EqualFold(h.Name, change.Name) {
				values = append(values, h.Value)
				survives = survives || like(change.Value, h.Value)
			}
		}
		if len(values) > 1 && slices.Contains(single, strings.ToLower(change.Name)) && change.Do == "add" {
			c.reportConflict(r, nil, change, req, fmt.Sprintf("%s is sent %d times, and may stand once: browsers pass it over or choose.", change.Name, len(values)))
			return true
		}
		if survives {
			return false
		}
		if shown == nil {
			shown, what, other = req, strings.Join(values, ", "), c.changer(s, r, change.Name)
		}
	}
	if shown == nil || other == nil {
		return false
	}
	if what == "" {
		what = "nothing"
	}
	c.reportConflict(r, other, change, shown, fmt.Sprintf("What this entry says of %s never reaches anybody: %s (%s) has the last word, and sends %s.", change.Name, other.Name, other.Place, what))
	return true
}

// changer finds another entry that speaks of the same field.
func (c *checker) changer(s *rulebook.Site, r *rulebook.Rule, name string) *rulebook.Rule {
	var found *rulebook.Rule
	for _, other := range s.Rules {
		a, ok := other.Action.(*rulebook.Header)
		if ok && other != r && slices.ContainsFunc(a.Changes, func(ch rulebook.HeaderChange) bool { return strings.EqualFold(ch.Name, name) }) {
			found = other
		}
	}
	return found
}

func (c *checker) reportConflict(r, other *rulebook.Rule, change rulebook.HeaderChange, req *request.Request, message string) {
	place, width := headerClause(r, change.Name)
	f := Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: req, Message: message, Advice: "say it in one of the entries, or narrow the other"}
	if other != nil {
		f.Rules = append(f.Rules, other)
	}
	c.add(f)
}
