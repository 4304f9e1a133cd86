package browser

// The cookies that answers set on a visit, which a browser sends with the requests that follow
// (RFC 6265bis, 5).

import (
	"cmp"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/net/publicsuffix"

	"kibitz/core/engine"
	"kibitz/core/request"
)

// A jar has the cookies of one visit. Of those that the first request brings nobody knows for
// which addresses they are: they go along to all, until an answer sets one of the same name.
// The zero jar is that of a visit on which nothing has been set.
type jar struct {
	set     bool
	from    *request.Request // the first of the visit: its Referer tells the page that it comes from
	brought []string         // name=value
	kept    []cookie
	stored  map[*engine.Response]bool // answers that came before the visit
}

// A cookie is one that an answer has set.
type cookie struct {
	name, value  string
	domain, path string
	alone        bool // it is for that host, and not for those below it
	secure       bool
	apart        bool // it is partitioned: no other cookie, whatever its name
	sameSite     string
}

// is reports whether two cookies are one, of which the later value counts.
func (c *cookie) is(o *cookie) bool {
	return c.name == o.name && c.domain == o.domain && c.path == o.path && c.alone == o.alone && c.apart == o.apart
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
		set, ok := readSetCookie(h.Value)
		if !ok {
			continue
		}
		c, ok := set.cookie(req.Address)
		if !ok || req.Address.Scheme != "https" && slices.ContainsFunc(j.kept, c.hides) {
			continue
		}
		j.open(req)
		j.brought = slices.DeleteFunc(j.brought, func(pair string) bool {
			name, _, _ := strings.Cut(pair, "=")
			return name == c.name
		})
		at := slices.IndexFunc(j.kept, func(o cookie) bool { return c.is(&o) })
		switch ended := set.past(req.Time); {
		case at < 0 && !ended:
			j.kept = append(j.kept, c)
		case at >= 0 && !ended:
			j.kept[at] = c
		case at >= 0:
			j.kept = slices.Delete(j.kept, at, at+1)
		}
	}
}

// open begins to keep cookies beside those that a request brings.
func (j *jar) open(req *request.Request) {
	if j.set {
		return
	}
	j.set = true
	for _, h := range req.Headers {
		if http.CanonicalHeaderKey(h.Name) == "Cookie" {
			for pair := range strings.SplitSeq(h.Value, ";") {
				j.brought = append(j.brought, strings.TrimSpace(pair))
			}
		}
	}
}

// hides reports whether a secure cookie is left alone by one that an answer over http sets.
func (c *cookie) hides(secure cookie) bool {
	return secure.secure && !c.secure && secure.name == c.name && secure.apart == c.apart && (below(c.domain, secure.domain) || below(secure.domain, c.domain)) && inPath(c.path, secure.path)
}

// A setCookie is what Set-Cookie says.
type setCookie struct {
	name, value  string
	domain, path string // "" where it says none, or none that can be
	root         bool   // it says the path /
	secure       bool
	apart        bool
	sameSite     string // strict, lax or none; "" where it does not say
	lasts        bool   // it says for how long
	seconds      int    // if so; none or less: it ends at once
	ends         time.Time
}

// maxCookie bounds a cookie's name and value together, in bytes, and maxAttribute what else is
// said of it.
const (
	maxCookie    = 4096
	maxAttribute = 1024
)

// readSetCookie reads a value of Set-Cookie as browsers do (RFC 6265bis, 5.6); not ok where
// they do not understand it.
func readSetCookie(text string) (set setCookie, ok bool) {
	if strings.IndexFunc(text, func(r rune) bool { return r < ' ' && r != '\t' || r == 0x7f }) >= 0 {
		return set, false
	}
	blank := func(text string) string { return strings.Trim(text, " \t") }
	pair, rest, _ := strings.Cut(text, ";")
	name, value, named := strings.Cut(pair, "=")
	if !named {
		name, value = "", pair
	}
	set.name, set.value = blank(name), blank(value)
	if size := len(set.name) + len(set.value); size == 0 || size > maxCookie {
		return set, false
	}
	for rest != "" {
		pair, rest, _ = strings.Cut(rest, ";")
		attribute, value, _ := strings.Cut(pair, "=")
		if value = blank(value); len(value) > maxAttribute {
			continue
		}
		switch strings.ToLower(blank(attribute)) {
		case "domain":
			set.domain = strings.ToLower(strings.TrimPrefix(value, "."))
		case "path":
			if set.path, set.root = value, value == "/"; !strings.HasPrefix(value, "/") {
				set.path = ""
			}
		case "secure":
			set.secure = true
		case "samesite":
			if set.sameSite = strings.ToLower(value); !slices.Contains([]string{"strict", "lax", "none"}, set.sameSite) {
				set.sameSite = ""
			}
		case "partitioned":
			set.apart = true
		case "expires":
			if at, ok := cookieDate(value); ok {
				set.ends = at
			}
		case "max-age":
			digits := strings.TrimPrefix(value, "-")
			if digits == "" || strings.Trim(digits, "0123456789") != "" {
				continue
			}
			set.lasts = true
			if seconds, err := strconv.Atoi(value); err == nil {
				set.seconds = seconds
			} else if set.seconds = 1; value[0] == '-' { // beyond all bounds
				set.seconds = -1
			}
		}
	}
	return set, true
}

// cookie gives the cookie with the addresses that it is for; not ok where a browser refuses it
// (RFC 6265bis, 5.7).
func (set *setCookie) cookie(from request.Address) (c cookie, ok bool) {
	c = cookie{name: set.name, value: set.value, domain: from.Host, path: set.path, alone: true, secure: set.secure, apart: set.apart, sameSite: set.sameSite}
	suffix, _ := publicsuffix.PublicSuffix(set.domain)
	switch many := suffix == set.domain; { // what has many owners can be for itself alone
	case set.domain == "", many && set.domain == from.Host:
	case many, !below(from.Host, set.domain):
		return c, false
	default:
		c.domain, c.alone = set.domain, false
	}
	if c.path == "" {
		c.path = cmp.Or(from.Path[:max(0, strings.LastIndexByte(from.Path, '/'))], "/")
	}
	begins := func(prefix string) bool {
		text := cmp.Or(c.name, c.value)
		return len(text) >= len(prefix) && strings.EqualFold(text[:len(prefix)], prefix)
	}
	secure, host := begins("__Secure-"), begins("__Host-")
	switch {
	case c.secure && from.Scheme != "https", (set.sameSite == "none" || set.apart) && !c.secure,
		(secure || host) && (c.name == "" || !c.secure),
		host && !(c.alone && set.root):
		return c, false
	}
	return c, true
}

// past reports whether a cookie ends at once, as one does that is taken away. Of a request
// that tells no time nobody knows when it is: a date before 2020 is past.
func (set *setCookie) past(now time.Time) bool {
	if now.IsZero() {
		now = time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	if set.lasts {
		return set.seconds <= 0
	}
	return !set.ends.IsZero() && !set.ends.After(now)
}

// cookieDate reads a date as browsers do: a time, a day, a month and a year, in any order
// (RFC 6265bis, 5.1.1).
func cookieDate(text string) (at time.Time, ok bool) {
	var hour, minute, second, day, year int
	var month time.Month
	timed := false
	for _, word := range strings.FieldsFunc(text, isDateDelimiter) {
		switch {
		case !timed && clockTime.MatchString(word):
			parts := clockTime.FindStringSubmatch(word)
			hour, minute, second, timed = number(parts[1]), number(parts[2]), number(parts[3]), true
		case day == 0 && shortNumber.MatchString(word):
			day = number(shortNumber.FindStringSubmatch(word)[1])
		case month == 0 && len(word) >= 3 && monthOf(word) > 0:
			month = monthOf(word)
		case year == 0 && yearNumber.MatchString(word):
			switch year = number(yearNumber.FindStringSubmatch(word)[1]); {
			case year < 70:
				year += 2000
			case year < 100:
				year += 1900
			}
		}
	}
	if !timed || month == 0 || year < 1601 || hour > 23 || minute > 59 || second > 59 {
		return at, false
	}
	at = time.Date(year, month, day, hour, minute, second, 0, time.UTC)
	return at, at.Day() == day
}

var (
	clockTime   = regexp.MustCompile(`^(\d{1,2}):(\d{1,2}):(\d{1,2})(?:\D|$)`)
	shortNumber = regexp.MustCompile(`^(\d{1,2})(?:\D|$)`)
	yearNumber  = regexp.MustCompile(`^(\d{2,4})(?:\D|$)`)
)

func isDateDelimiter(r rune) bool {
	return r == '\t' || r >= ' ' && r <= '/' || r >= ';' && r <= '@' || r >= '[' && r <= '`' || r >= '{' && r <= '~'
}

// monthOf gives the month that a word begins with; 0 for none.
func monthOf(word string) time.Month {
	for m := time.January; m <= time.December; m++ {
		if strings.EqualFold(word[:3], m.String()[:3]) {
			return m
		}
	}
	return 0
}

// number reads a few digits.
func number(digits string) int {
	n, _ := strconv.Atoi(digits)
	return n
}

// below reports whether a host is a domain, or one below it (RFC 6265bis, 5.1.3).
func below(host, domain string) bool {
	return host == domain || strings.HasSuffix(host, "."+domain) && !request.IsIP(host)
}

// goes reports whether a cookie is sent with a request for an address (RFC 6265bis, 5.8.3).
func (c *cookie) goes(to request.Address) bool {
	return inPath(to.Path, c.path) && (to.Host == c.domain || !c.alone && below(to.Host, c.domain)) && (!c.secure || to.Scheme == "https")
}

// goesFrom reports whether a cookie is sent with a request on a visit that a page begins, which
// the first request tells in its Referer (RFC 6265bis, 5.2 and 5.8.3). Without one the address
// was typed. A cookie that says nothing of other sites is sent with a POST, too, while it is
// new, and all those of a visit are.
func (c *cookie) goesFrom(first, req *request.Request) bool {
	if c.sameSite != "strict" && (c.sameSite != "lax" || isSafe(req.Verb())) {
		return true
	}
	page, _ := first.Get("Referer")
	from, err := request.Parse(page, request.Address{})
	return page == "" || err != nil || sameSite(from, req.Address)
}

// FromElsewhere is a request as whoever makes it who follows a link of another site: browsers
// send fewer cookies with it. One that tells its page stays as it is, and one that no link makes.
func FromElsewhere(req *request.Request) *request.Request {
	if _, told := req.Get("Referer"); told || req.Verb() != http.MethodGet {
		return req
	}
	from := *req
	from.Headers = append(slices.Clone(req.Headers), request.Header{Name: "Referer", Value: "https://elsewhere.example/"})
	return &from
}

func isSafe(verb string) bool {
	return slices.Contains([]string{http.MethodGet, http.MethodHead, http.MethodOptions, http.MethodTrace}, verb)
}

// sameSite reports whether two addresses are of one site (WHATWG HTML, 7.1.1.1).
func sameSite(a, b request.Address) bool {
	return a.Scheme == b.Scheme && a.Registrable() == b.Registrable()
}

// inPath reports whether a path is that of a cookie, or one below it (RFC 6265bis, 5.1.4).
func inPath(path, of string) bool {
	return path == of || strings.HasPrefix(path, of) && (strings.HasSuffix(of, "/") || path[len(of)] == '/')
}

// send gives a request the cookies that go with it, if an answer has set any.
func (j *jar) send(req *request.Request) {
	if !j.set {
		return
	}
	pairs := slices.Clone(j.brought)
	kept := slices.SortedStableFunc(slices.Values(j.kept), func(a, b cookie) int { return cmp.Compare(len(b.path), len(a.path)) })
	for _, c := range kept {
		if c.goes(req.Address) && c.goesFrom(j.from, req) {
			pairs = append(pairs, c.pair())
		}
	}
	req.Headers = without(req.Headers, []string{"Cookie"})
	if len(pairs) > 0 {
		req.Headers = append(req.Headers, request.Header{Name: "Cookie", Value: strings.Join(pairs, "; ")})
	}
}

// pair is the cookie as it is sent.
func (c *cookie) pair() string {
	if c.name == "" {
		return c.value
	}
	return c.name + "=" + c.value
}

// state is all that is in the jar: two requests for one address are the same where it is.
func (j *jar) state() string {
	if !j.set {
		return ""
	}
	return fmt.Sprintf("%q%+v", j.brought, j.kept)
}
