package browser

// The cookies that answers set on a visit, which a browser sends with the requests that follow
// (RFC 6265bis, 5).

import (
	"cmp"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"kibitz/core/engine"
	"kibitz/core/request"
)

// A jar has the cookies of one visit. Of those that the first request brings nobody knows for
// which addresses they are: they go along to all, until an answer sets one of the same name.
// The zero jar is that of a visit on which nothing has been set.
type jar struct {
	set     bool
	brought []string // name=value
	kept    []cookie
	stored  map[*engine.Response]bool // answers that came before the visit
}

// A cookie is one that an answer has set.
type cookie struct {
	name, value  string
	domain, path string
	alone        bool // it is for that host, and not for those below it
	secure       bool
}

// take keeps what an answer sets.
func (j *jar) take(req *request.Request, r *engine.Response) {
	if j.stored[r] {
		return
	}
	for _, h := range r.Headers {
		if http.CanonicalHeaderKey(h.Name) != "Set-Cookie" {
			continue
		}
		set, err := http.ParseSetCookie(h.Value)
		if err != nil {
			continue
		}
		c, ok := cookieOf(set, req.Address)
		if !ok {
			continue
		}
		if !j.set {
			j.set = true
			for _, h := range req.Headers {
				if http.CanonicalHeaderKey(h.Name) == "Cookie" {
					for pair := range strings.SplitSeq(h.Value, ";") {
						j.brought = append(j.brought, strings.TrimSpace(pair))
					}
				}
			}
		}
		j.brought = slices.DeleteFunc(j.brought, func(pair string) bool {
			name, _, _ := strings.Cut(pair, "=")
			return name == c.name
		})
		j.kept = slices.DeleteFunc(slices.Clone(j.kept), func(o cookie) bool {
			return o.name == c.name && o.domain == c.domain && o.path == c.path && o.alone == c.alone
		})
		if !past(set, req.Time) {
			j.kept = append(j.kept, c)
		}
	}
}

// cookieOf gives a cookie with the addresses that it is for; not ok where a browser refuses it
// (RFC 6265bis, 5.7).
func cookieOf(set *http.Cookie, from request.Address) (c cookie, ok bool) {
	c = cookie{name: set.Name, value: set.Value, domain: from.Host, path: set.Path, alone: true, secure: set.Secure}
	if domain := strings.ToLower(strings.TrimPrefix(set.Domain, ".")); domain != "" {
		if !below(from.Host, domain) {
			return c, false
		}
		c.domain, c.alone = domain, false
	}
	if !strings.HasPrefix(c.path, "/") {
		c.path = cmp.Or(from.Path[:max(0, strings.LastIndexByte(from.Path, '/'))], "/")
	}
	name := strings.ToLower(set.Name)
	switch {
	case c.secure && from.Scheme != "https",
		strings.HasPrefix(name, "__secure-") && !c.secure,
		strings.HasPrefix(name, "__host-") && !(c.secure && c.alone && set.Path == "/"):
		return c, false
	}
	return c, true
}

// past reports whether a cookie ends at once, as one does that is taken away. Of a request
// that tells no time nobody knows when it is: a date before 2020 is past.
func past(set *http.Cookie, now time.Time) bool {
	if now.IsZero() {
		now = time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	return set.MaxAge < 0 || set.MaxAge == 0 && !set.Expires.IsZero() && !set.Expires.After(now)
}

// below reports whether a host is a domain, or one below it (RFC 6265bis, 5.1.3).
func below(host, domain string) bool {
	if host == domain {
		return true
	}
	_, err := netip.ParseAddr(strings.Trim(host, "[]"))
	return err != nil && strings.HasSuffix(host, "."+domain)
}

// goes reports whether a cookie is sent with a request for an address (RFC 6265bis, 5.8.3).
func (c *cookie) goes(to request.Address) bool {
	inPath := to.Path == c.path || strings.HasPrefix(to.Path, c.path) && (strings.HasSuffix(c.path, "/") || to.Path[len(c.path)] == '/')
	return inPath && (to.Host == c.domain || !c.alone && below(to.Host, c.domain)) && (!c.secure || to.Scheme == "https")
}

// send gives a request the cookies that go with it, if an answer has set any.
func (j *jar) send(req *request.Request) {
	if !j.set {
		return
	}
	pairs := slices.Clone(j.brought)
	kept := slices.SortedStableFunc(slices.Values(j.kept), func(a, b cookie) int { return cmp.Compare(len(b.path), len(a.path)) })
	for _, c := range kept {
		if c.goes(req.Address) {
			pairs = append(pairs, c.name+"="+c.value)
		}
	}
	req.Headers = without(req.Headers, []string{"Cookie"})
	if len(pairs) > 0 {
		req.Headers = append(req.Headers, request.Header{Name: "Cookie", Value: strings.Join(pairs, "; ")})
	}
}

// state is all that is in the jar: two requests for one address are the same where it is.
func (j *jar) state() string {
	if !j.set {
		return ""
	}
	return fmt.Sprintf("%q%+v", j.brought, j.kept)
}
