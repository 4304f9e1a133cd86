package proof

import (
	"fmt"
	"slices"
	"strings"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

func init() {
	register(27, Kind{
		Name: "header-conflict", Severity: Warning,
		Summary: "what one header entry sets, another always changes, or a field that may appear once is sent twice",
		Before:  "header a set X-Frame-Options DENY\nheader b set X-Frame-Options SAMEORIGIN",
		After:   "header b set X-Frame-Options SAMEORIGIN",
		find: func(c *checker) {
			for _, s := range c.Book.Sites {
				for _, r := range s.Rules {
					c.varyDropped(s, r)
				}
			}
			c.headerValues(func(s *rulebook.Site, r *rulebook.Rule, change rulebook.HeaderChange) {
				c.conflict(s, r, change)
			})
			c.conclusions("requests made from each entry's own selectors")
		},
	})
}

// single are fields that an answer has once at most.
var single = []string{"strict-transport-security", "x-frame-options", "x-content-type-options", "content-type", "referrer-policy", "cross-origin-opener-policy", "cross-origin-embedder-policy", "cross-origin-resource-policy", "access-control-allow-origin", "expires", "etag", "last-modified", "retry-after"}

// conflict reports a change that never survives, or that doubles a field.
func (c *checker) conflict(s *rulebook.Site, r *rulebook.Rule, change rulebook.HeaderChange) {
	var shown *request.Request
	what, other := "", (*rulebook.Rule)(nil)
	for _, req := range c.headerProbes(s, r) {
		c.tried++
		resp := c.Predict(req)
		if change.Do != "add" && slices.ContainsFunc(resp.Headers, func(h request.Header) bool {
			return strings.EqualFold(h.Name, change.Name) && mayExpandTo(change.Value, h.Value)
		}) {
			return
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
				survives = survives || mayExpandTo(change.Value, h.Value)
			}
		}
		if len(values) > 1 && slices.Contains(single, strings.ToLower(change.Name)) && change.Do == "add" {
			c.reportConflict(r, nil, change, req, fmt.Sprintf("%s is sent %d times, and may appear once: browsers ignore it or choose one.", change.Name, len(values)))
			return
		}
		if survives {
			return
		}
		if shown == nil {
			shown, what, other = req, strings.Join(values, ", "), overruler(trace, r, change)
		}
	}
	if shown == nil || other == nil {
		return
	}
	if what == "" {
		what = "nothing"
	}
	why := "has the last word"
	if change.Do == "default" && other.Number < r.Number {
		why = "comes before, and leaves the default nothing to fill"
	}
	c.reportConflict(r, other, change, shown, fmt.Sprintf("What this entry says of %s never reaches anybody: %s (%s) %s. Sent is %s.", change.Name, other.Name, other.Place, why, what))
}

// overruler finds the entry that keeps a change from being seen, on the way of a
// request: a later one that sets or drops the field, or for a default an earlier
// one, after which there is a value.
func overruler(trace *engine.Trace, r *rulebook.Rule, change rulebook.HeaderChange) *rulebook.Rule {
	var before, behind *rulebook.Rule
	passed := false
	for _, st := range trace.Steps {
		if !st.Fits || st.Rule == nil || st.Rule.Kind != rulebook.KindHeader {
			continue
		}
		passed = passed || st.Rule == r
		for _, other := range st.Rule.Action.(*rulebook.Header).Changes {
			switch {
			case st.Rule == r || !strings.EqualFold(other.Name, change.Name):
			case !passed && other.Do != "drop":
				before = st.Rule
			case passed && (other.Do == "set" || other.Do == "drop"):
				behind = st.Rule
			}
		}
	}
	if change.Do == "default" && before != nil {
		return before
	}
	return behind
}

func (c *checker) reportConflict(r, other *rulebook.Rule, change rulebook.HeaderChange, req *request.Request, message string) {
	place, width := headerClause(r, change.Name)
	f := Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: req, Message: message, Advice: "say it in one of the entries, or narrow the other"}
	if other != nil {
		f.Rules = append(f.Rules, other)
	}
	c.add(f)
}

// varyDropped reports an entry that takes away Vary where an answer can be encoded.
func (c *checker) varyDropped(s *rulebook.Site, r *rulebook.Rule) {
	a, ok := r.Action.(*rulebook.Header)
	if !ok || !slices.ContainsFunc(a.Changes, func(change rulebook.HeaderChange) bool {
		return change.Do == "drop" && strings.EqualFold(change.Name, "Vary")
	}) {
		return
	}
	for _, req := range c.headerProbes(s, r) {
		c.tried++
		resp, trace := c.Trace(req)
		if _, varies := resp.Get("Vary"); varies || !resp.Varies() || !slices.ContainsFunc(trace.Steps, func(st engine.Step) bool { return st.Rule == r && st.Fits }) {
			continue
		}
		place, width := headerClause(r, "Vary")
		c.add(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: req,
			Message: "Vary is dropped from an answer that can be encoded: a cache on the way gives one visitor's encoding to others, who may not be able to read it.",
			Advice:  "leave Vary as it is, or drop what else is in it with   set Vary Accept-Encoding"})
		return
	}
}
