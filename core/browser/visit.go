// Package browser is about what browsers do with answers: they follow redirects, change the
// method as they go (WHATWG Fetch, HTTP-redirect fetch), and remember.
package browser

import (
	"cmp"
	"errors"
	"net/http"
	"slices"
	"strings"

	"kibitz/core/engine"
	"kibitz/core/request"
)

// An Ending is how a visit ends.
type Ending string

const (
	Arrived   Ending = "arrived"
	Loop      Ending = "loop"                   // an address comes back with the same method, cookies and referrer
	TooLong   Ending = "too-long"               // the twenty-first redirect, or one of which the address cannot grow further
	Left      Ending = "left"                   // an address of no site of the rulebook
	ToApp     Ending = Ending(engine.WordApp)   // an application answers
	ToFiles   Ending = Ending(engine.WordFiles) // the site's files decide, and are not known
	BadEnding Ending = "bad-location"
)

// A Hop is one request of a visit and the answer to it.
type Hop struct {
	Request  *request.Request
	Response *engine.Response
}

// Endings are all of them.
var Endings = []Ending{Arrived, Loop, TooLong, Left, ToApp, ToFiles, BadEnding}

// A Visit is what becomes of a request once its redirects are followed.
type Visit struct {
	Ending Ending
	Hops   []Hop           // not empty
	Left   request.Address // where a visit that left goes
	Again  int             // of a loop: the hop whose address comes back
}

// Last is the last answer of a visit.
func (v *Visit) Last() *engine.Response { return v.Hops[len(v.Hops)-1].Response }

// Redirects is the number of redirects that were followed or met.
func (v *Visit) Redirects() int {
	n := len(v.Hops)
	if !Follows(v.Last()) {
		n--
	}
	return n
}

// Crosses reports whether the visit asks another origin, which browsers tell less of the
// page that they come from.
func (v *Visit) Crosses() bool {
	return slices.ContainsFunc(v.Hops, func(h Hop) bool { return h.Request.Address.Origin() != v.Hops[0].Request.Address.Origin() })
}

// Follows reports whether a browser follows the answer.
func Follows(r *engine.Response) bool {
	switch r.Status {
	case 301, 302, 303, 307, 308:
		return r.Location != ""
	}
	return false
}

// A Server answers requests, as an engine does.
type Server interface {
	Predict(*request.Request) *engine.Response
	Outcome(*request.Request, *engine.Response)
	Serves(host string) bool
	Instructs() bool // some answer tells browsers what to send on, which Outcome does not tell
}

// Open follows a request to its end.
func Open(s Server, req *request.Request) *Visit { return OpenFrom(s, req, s.Predict(req)) }

// OpenFrom is Open for a request whose answer is known already.
func OpenFrom(s Server, req *request.Request, r *engine.Response) *Visit {
	return visit(s, req, r, engine.MaxRedirects, &jar{}, s.Predict)
}

// OpenFor is Open for a browser that follows up to limit redirects.
func OpenFor(s Server, req *request.Request, limit int) *Visit {
	return visit(s, req, s.Predict(req), limit, &jar{}, s.Predict)
}

// OpenWith is Open with some answers that the browser has stored: stored gives
// them, or nil where it has to ask. What they set was set when they came.
func OpenWith(s Server, req *request.Request, stored func(*request.Request) *engine.Response) *Visit {
	cookies := &jar{stored: map[*engine.Response]bool{}}
	predict := func(req *request.Request) *engine.Response {
		if r := stored(req); r != nil {
			cookies.stored[r] = true
			return r
		}
		return s.Predict(req)
	}
	return visit(s, req, predict(req), engine.MaxRedirects, cookies, predict)
}

// OpenWithout is Open for one that keeps no cookies.
func OpenWithout(s Server, req *request.Request) *Visit {
	return visit(s, req, s.Predict(req), engine.MaxRedirects, nil, s.Predict)
}

// OpenOutcome is OpenFrom with answers as Outcome gives them, where no more is needed.
func OpenOutcome(s Server, req *request.Request, r *engine.Response) *Visit {
	if s.Instructs() {
		return Open(s, req)
	}
	return visit(s, req, r, engine.MaxRedirects, nil, func(req *request.Request) *engine.Response {
		r := &engine.Response{}
		s.Outcome(req, r)
		return r
	})
}

// visit follows redirects; cookies is nil where none are kept.
func visit(s Server, req *request.Request, r *engine.Response, limit int, cookies *jar, predict func(*request.Request) *engine.Response) *Visit {
	v := &Visit{}
	if cookies != nil {
		cookies.from = req
	}
	policy := ""
	var states []string // of jar and policy, as each request was made
	state := func() string {
		if cookies == nil {
			return policy
		}
		return policy + " " + cookies.state()
	}
	for {
		v.Hops = append(v.Hops, Hop{req, r})
		states = append(states, state())
		switch {
		case r.Word() != "":
			v.Ending = Ending(r.Word())
			return v
		case !Follows(r):
			if v.Ending = Arrived; v.Outgrown() {
				v.Ending = TooLong
			}
			return v
		}
		next, said, err := follow(req, r, policy)
		if errors.Is(err, request.ErrForeign) {
			v.Ending = Left
			return v
		}
		if err != nil {
			v.Ending = BadEnding
			return v
		}
		if policy = said; cookies != nil {
			cookies.take(req, r)
			cookies.send(next)
		}
		now := state()
		for i, h := range v.Hops {
			if h.Request.Verb() == next.Verb() && sameResource(h.Request.Address, next.Address) && states[i] == now && (!s.Instructs() || sameReferrer(h.Request, next)) {
				v.Ending, v.Again = Loop, i
				return v
			}
		}
		if len(v.Hops) > limit {
			v.Ending = TooLong
			return v
		}
		if !s.Serves(next.Address.Host) {
			v.Ending, v.Left = Left, next.Address
			return v
		}
		req, r = next, predict(next)
	}
}

// Outgrown reports whether an entry sends its own results on, each longer than the one
// before, until the address is too long for it.
func (v *Visit) Outgrown() bool {
	n := len(v.Hops) - 1
	if n < 2 {
		return false
	}
	last, before := v.Hops[n], v.Hops[n-1]
	switch last.Response.Cause {
	case engine.CauseBadTarget:
		if last.Response.By != before.Response.By {
			return false
		}
	case engine.CauseTooLarge:
	default:
		return false
	}
	length := func(h Hop) int { return len(h.Request.Address.Target()) }
	return before.Response.By == v.Hops[n-2].Response.By && length(v.Hops[n-2]) < length(before) && length(before) < length(last)
}

func sameReferrer(a, b *request.Request) bool {
	one, told := a.Get("Referer")
	other, also := b.Get("Referer")
	return one == other && told == also
}

// sameResource compares addresses without their fragments.
func sameResource(a, b request.Address) bool {
	a.Fragment, b.Fragment = "", ""
	return a == b
}

// Follow gives the request that a browser makes when it follows a redirect, the first on its
// way.
func Follow(req *request.Request, r *engine.Response) (*request.Request, error) {
	next, _, err := follow(req, r, "")
	return next, err
}

// follow is Follow with the referrer policy that redirects have told on the way, "" for none; it
// gives the one that holds from now on (WHATWG Fetch, HTTP-redirect fetch).
func follow(req *request.Request, r *engine.Response, policy string) (*request.Request, string, error) {
	to, err := req.Address.Resolve(r.Location)
	if err != nil {
		return nil, "", err
	}
	next := &request.Request{Method: req.Method, Address: to, Headers: req.Headers, Client: req.Client, Time: req.Time, Body: req.Body}
	switch verb := req.Verb(); {
	case (r.Status == http.StatusMovedPermanently || r.Status == http.StatusFound) && verb == "POST",
		r.Status == http.StatusSeeOther && verb != "GET" && verb != "HEAD":
		next.Method, next.Body = "GET", 0
		next.Headers = without(next.Headers, aboutBody)
	}
	policy = cmp.Or(policyOf(r), policy)
	by := policy
	if to.Origin() != req.Address.Origin() {
		next.Headers = without(next.Headers, []string{"Authorization"})
		by = cmp.Or(by, usualPolicy)
	}
	if page, ok := req.Get("Referer"); ok && by != "" {
		if from, err := request.Parse(page, request.Address{}); err == nil {
			next.Headers = without(next.Headers, []string{"Referer"})
			if told := referrer(from, to, by); told != "" {
				next.Headers = append(next.Headers, request.Header{Name: "Referer", Value: told})
			}
		}
	}
	return next, policy, nil
}

// usualPolicy holds where nothing says another.
const usualPolicy = "strict-origin-when-cross-origin"

// ReferrerPolicies are those of W3C Referrer Policy, 3.
var ReferrerPolicies = []string{"no-referrer", "no-referrer-when-downgrade", "origin", "origin-when-cross-origin", "same-origin", "strict-origin", usualPolicy, "unsafe-url"}

// policyOf gives the referrer policy that an answer tells, the last that is one; "" for none
// (W3C Referrer Policy, 8.1).
func policyOf(r *engine.Response) (policy string) {
	for _, h := range r.Headers {
		if http.CanonicalHeaderKey(h.Name) != "Referrer-Policy" {
			continue
		}
		for _, word := range request.List(h.Value) {
			if word = strings.ToLower(word); slices.Contains(ReferrerPolicies, word) {
				policy = word
			}
		}
	}
	return policy
}

// Referrer gives what a browser tells in its Referer field when a page has it ask for an
// address, if the page says nothing of that; "" for none.
func Referrer(page, to request.Address) string { return referrer(page, to, usualPolicy) }

// referrer is Referrer by a policy (W3C Referrer Policy, 8.3).
func referrer(page, to request.Address, policy string) string {
	page.Fragment = ""
	same, origin := page.Origin() == to.Origin(), page.Origin()+"/"
	downgrade := page.Scheme == "https" && to.Scheme == "http"
	switch policy {
	case "no-referrer":
		return ""
	case "unsafe-url":
		return page.String()
	case "origin":
		return origin
	}
	switch {
	case downgrade && policy != "same-origin" && policy != "origin-when-cross-origin":
		return ""
	case policy == "no-referrer-when-downgrade", same && policy != "strict-origin":
		return page.String()
	case policy == "same-origin":
		return ""
	}
	return origin
}

// aboutBody are the fields that go with a body when it is dropped (WHATWG Fetch,
// request-body-header name).
var aboutBody = []string{"Content-Encoding", "Content-Language", "Content-Length", "Content-Location", "Content-Type"}

// without gives a copy of header fields, without those of some names.
func without(headers []request.Header, names []string) []request.Header {
	return slices.DeleteFunc(slices.Clone(headers), func(h request.Header) bool { return slices.Contains(names, http.CanonicalHeaderKey(h.Name)) })
}
