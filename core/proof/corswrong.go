package proof

import (
	"strings"

	"kibitz/core/request"
	"kibitz/core/rulebook"
)

// What other sites' scripts may read (Fetch standard, 3.3).
func init() {
	register(41, Kind{
		Name: "cors-wrong", Severity: Warning,
		Summary: "an Access-Control field lets everybody in together with credentials, which browsers refuse, or copies the origin and does not say that it varies",
		Before:  "header share set Access-Control-Allow-Origin * set Access-Control-Allow-Credentials true",
		After:   "header share set Access-Control-Allow-Origin https://saltmarsh-ferries.example set Access-Control-Allow-Credentials true",
		find: func(c *checker) {
			c.headerValues(func(s *rulebook.Site, r *rulebook.Rule, change rulebook.HeaderChange) {
				if !strings.HasPrefix(strings.ToLower(change.Name), "access-control-allow-") {
					return
				}
				req, value := c.showing(s, r, change)
				if req == nil {
					return
				}
				if what, advice := c.wrongCORS(req, strings.ToLower(change.Name), value, change.Value); what != "" {
					place, width := headerClause(r, change.Name)
					c.add(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: req, Message: what, Advice: advice})
				}
			})
			c.conclusions("values as requests of each entry's own selectors make them")
		},
	})
}

func (c *checker) wrongCORS(req *request.Request, name, value string, t *rulebook.Template) (what, advice string) {
	resp := c.Predict(req)
	credentials, _ := resp.Get("Access-Control-Allow-Credentials")
	_, constant := rulebook.Constant(t.Body)
	vary, _ := resp.Get("Vary")
	switch {
	case name != "access-control-allow-origin":
	case value == "*" && credentials == "true":
		return "Browsers refuse `*` together with credentials: nothing can be read that needs them.", "name the one origin that may, or take Access-Control-Allow-Credentials out"
	case !constant && !strings.Contains(strings.ToLower(vary), "origin"):
		return "The origin is copied from the request, and the answer has no Vary: Origin: a cache on the way gives the one site's answer to the others.", "add   add Vary Origin   and copy only origins that are meant"
	}
	return "", ""
}
