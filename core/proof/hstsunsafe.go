package proof

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"kibitz/core/browser"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

// Strict-Transport-Security holds for as long as it says, whatever the site does then (RFC
// 6797, 8.1 and 14.4); the list that browsers are shipped with asks for a year at least,
// all subdomains, and a redirect from http.
func init() {
	register(40, Kind{
		Name: "hsts-unsafe", Severity: Warning,
		Summary: "Strict-Transport-Security asks for the browsers' list without its conditions, or shuts off a host that is served over http",
		Before:  "header safe set Strict-Transport-Security \"max-age=86400; preload\"",
		After:   "header safe set Strict-Transport-Security \"max-age=86400\"",
		find: func(c *checker) {
			c.headerValues(func(s *rulebook.Site, r *rulebook.Rule, change rulebook.HeaderChange) {
				if !strings.EqualFold(change.Name, "Strict-Transport-Security") {
					return
				}
				req, value := c.showing(s, r, change)
				if req == nil {
					return
				}
				if what, advice, other := c.unsafeHSTS(s, strings.ToLower(value)); what != "" {
					place, width := headerClause(r, change.Name)
					c.add(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: req, Other: other, Message: what, Advice: advice})
				}
			})
			c.conclusions("values as requests of each entry's own selectors make them")
		},
	})
}

var hstsAge = regexp.MustCompile(`max-age="?(\d+)`)

const yearOfSeconds = 365 * 24 * 60 * 60

func (c *checker) unsafeHSTS(s *rulebook.Site, value string) (what, advice string, other *request.Request) {
	age := 0
	if m := hstsAge.FindStringSubmatch(value); m != nil {
		age, _ = strconv.Atoi(m[1])
	}
	all := strings.Contains(value, "includesubdomains")
	if strings.Contains(value, "preload") {
		const right = `write   "max-age=63072000; includeSubDomains; preload"   once all hosts below answer over https, or take preload out`
		switch {
		case age < yearOfSeconds:
			return fmt.Sprintf("preload asks to be put on the list that browsers are shipped with, which wants a max-age of a year at least: this is %d seconds.", age), right, nil
		case !all:
			return "preload asks to be put on the list that browsers are shipped with, which wants includeSubDomains, too.", right, nil
		}
	}
	if !all || age == 0 {
		return "", "", nil
	}
	for _, below := range c.Book.Sites {
		for _, o := range c.fronts().of[below] {
			if o.scheme != "http" || !strings.HasSuffix(o.host, "."+s.Address.Host) {
				continue
			}
			req := o.request()
			c.tried++
			if v := browser.Open(c, req); v.Ending == browser.Arrived && v.Hops[len(v.Hops)-1].Request.Address.Scheme == "http" && v.Last().Status < 400 {
				return fmt.Sprintf("includeSubDomains holds for %s, too, which is served over http: browsers that have seen this do not ask for it there any more.", o.host), "serve that host over https first, or take includeSubDomains out", req
			}
		}
	}
	return "", "", nil
}
