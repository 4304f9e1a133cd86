package proof

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/pattern"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

func init() {
	register(38, Kind{
		Name: "cached-too-long", Severity: Warning,
		Summary: "errors, temporary redirects or guarded pages are cached for long, or by shared caches",
		Before:  "header keep set Cache-Control \"public, max-age=31536000, immutable\"",
		After:   "header keep in /styles/ for 200 set Cache-Control \"public, max-age=31536000, immutable\"",
		find:    findKeptTooLong,
	})
}

// longest is how many seconds what is not a page may be kept.
const longestKept = 24 * 60 * 60

var maxAge = regexp.MustCompile(`(?i)\b(?:s-maxage|max-age)=(\d+)`)

// keptLong reports whether a Cache-Control keeps an answer for long (RFC 9111, 5.2.2; RFC
// 8246).
func keptLong(value string) bool {
	if strings.Contains(strings.ToLower(value), "immutable") {
		return true
	}
	m := maxAge.FindStringSubmatch(value)
	if m == nil {
		return false
	}
	n, err := strconv.Atoi(m[1])
	return err != nil || n > longestKept
}

// findKeptTooLong asks for what is missing, redirected and guarded where each entry sets how
// long answers are kept.
func findKeptTooLong(c *checker) {
	for _, s := range c.Book.Sites {
		for _, r := range s.Rules {
			a, ok := r.Action.(*rulebook.Header)
			if !ok {
				continue
			}
			for _, change := range a.Changes {
				if strings.EqualFold(change.Name, "Cache-Control") && change.Do != "drop" {
					c.note(Tried, r, "")
					c.keptTooLong(s, r, change)
				}
			}
		}
	}
	c.conclusions("what is missing, redirected for a time, or guarded was asked for where each of them applies")
}

func (c *checker) keptTooLong(s *rulebook.Site, r *rulebook.Rule, change rulebook.HeaderChange) {
	sp := c.space(s)
	var probes []*request.Request
	for _, req := range c.probes(s, r) {
		gone := *req
		gone.Address.Path = strings.TrimSuffix(req.Address.Path, lastSegment(req.Address.Path)) + improbable
		probes = append(probes, req, &gone)
	}
	for _, other := range s.Rules {
		if other.Kind == rulebook.KindRedirect {
			probes = append(probes, sp.typicalRequest(other))
		}
	}
	for _, guard := range s.Rules {
		if a, ok := guard.Action.(*rulebook.Access); ok && a.Do == rulebook.Refuse && len(guard.Tests) > 0 && len(guard.In)+len(guard.On) > 0 {
			probes = append(probes, c.insiders(s, guard)...)
		}
	}
	for _, req := range probes {
		c.tried++
		resp := c.Predict(req)
		value, ok := resp.Get("Cache-Control")
		if !ok || !mayExpandTo(change.Value, value) || !c.Takes(r, req) {
			continue
		}
		what := ""
		switch guard := c.guardOf(s, req); {
		case resp.Status >= 400 && resp.Status != 410 && keptLong(value):
			what = fmt.Sprintf("%s answers %d, and browsers keep that as `%s` says: when the page is there, they do not see it", req.Address.Target(), resp.Status, value)
		case (resp.Status == 302 || resp.Status == 303 || resp.Status == 307) && keptLong(value):
			what = fmt.Sprintf("%s is a redirect for a time (%d), and browsers keep it as `%s` says", req.Address.Target(), resp.Status, value)
		case resp.Status == 200 && guard != nil && strings.Contains(strings.ToLower(value), "public"):
			what = fmt.Sprintf("%s is guarded by %s (%s), and `%s` lets every cache on the way keep it for others", req.Address.Target(), guard.Name, guard.Place, value)
		default:
			continue
		}
		place, width := headerClause(r, change.Name)
		c.add(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: req, Message: what + ".",
			Advice: "say for what it is meant:   for 200   and leave out what is guarded, which has   Cache-Control private"})
		return
	}
}

// maxInsiders is how many guarded files are asked for to find one that somebody gets.
const maxInsiders = 20

// insiders are requests for guarded files of those whom a guard lets in.
func (c *checker) insiders(s *rulebook.Site, guard *rulebook.Rule) (out []*request.Request) {
	sp := c.space(s)
	over := sp.of(guard).over
	tried := 0
	c.Tree(s).Each(func(n *site.Node) {
		if len(out) > 0 || tried == maxInsiders || n.Folder || over != nil && !pattern.Matches(over, canonical.Marked(n.Path)) {
			return
		}
		tried++
		if req, _ := sp.past(question{out: []*rulebook.Rule{guard}, path: pattern.Words([]string{canonical.Marked(n.Path)})}, func(req *request.Request) bool { return c.Predict(req).File == n }); req != nil {
			out = append(out, req)
		}
	})
	return out
}

// guardOf gives the guard that keeps a stranger from what a request asks for; nil for none.
func (c *checker) guardOf(s *rulebook.Site, req *request.Request) *rulebook.Rule {
	direct := c.homeRequest(s)
	direct.Address = req.Address
	if resp := c.Predict(direct); resp.By != nil && resp.By.Kind == rulebook.KindAccess {
		return resp.By
	}
	return nil
}
