package engine

// What a browser does with an answer: it follows redirects, and changes the
// method as it goes (WHATWG Fetch, HTTP-redirect fetch).

import (
	"errors"
	"net/http"
	"slices"

	"kibitz/core/request"
)

// An Ending is how a visit ends.
type Ending string

const (
	Arrived   Ending = "arrived"
	Loop      Ending = "loop"            // an address comes back with the same method
	TooLong   Ending = "too-long"        // the twenty-first redirect
	Left      Ending = "left"            // an address of no site of the rulebook
	ToApp     Ending = Ending(WordApp)   // an application answers
	ToFiles   Ending = Ending(WordFiles) // the site's files decide, and are not known
	BadEnding Ending = "bad-location"
)

// MaxRedirects is how many redirects a browser follows.
const MaxRedirects = 20

// A Hop is one request of a visit and the answer to it.
type Hop struct {
	Request  *request.Request
	Response *Response
}

// A Visit is what becomes of a request once its redirects are followed.
type Visit struct {
	Ending Ending
	Hops   []Hop           // not empty
	Left   request.Address // where a visit that left goes
	Again  int             // of a loop: the hop whose address comes back
}

// Last is the last answer of a visit.
func (v *Visit) Last() *Response { return v.Hops[len(v.Hops)-1].Response }

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
func Follows(r *Response) bool {
	switch r.Status {
	case 301, 302, 303, 307, 308:
		return r.Location != ""
	}
	return false
}

// Visit follows a request to its end.
func (e *Engine) Visit(req *request.Request) *Visit {
	return e.VisitFrom(req, e.Predict(req))
}

// VisitFrom is Visit for a request whose answer is known already.
func (e *Engine) VisitFrom(req *request.Request, r *Response) *Visit {
	return e.visit(req, r, MaxRedirects, e.Predict)
}

// VisitFor is Visit for a browser that follows up to limit redirects.
func (e *Engine) VisitFor(req *request.Request, limit int) *Visit {
	return e.visit(req, e.Predict(req), limit, e.Predict)
}

// VisitWith is Visit with some answers that the browser has stored: stored gives
// them, or nil where it has to ask.
func (e *Engine) VisitWith(req *request.Request, stored func(*request.Request) *Response) *Visit {
	predict := func(req *request.Request) *Response {
		if r := stored(req); r != nil {
			return r
		}
		return e.Predict(req)
	}
	return e.visit(req, predict(req), MaxRedirects, predict)
}

// OutcomeVisit is VisitFrom with answers as Outcome gives them.
func (e *Engine) OutcomeVisit(req *request.Request, r *Response) *Visit {
	return e.visit(req, r, MaxRedirects, func(req *request.Request) *Response {
		r := &Response{}
		e.Outcome(req, r)
		return r
	})
}

func (e *Engine) visit(req *request.Request, r *Response, limit int, predict func(*request.Request) *Response) *Visit {
	v := &Visit{}
	for {
		v.Hops = append(v.Hops, Hop{req, r})
		switch {
		case r.Word() != "":
			v.Ending = Ending(r.Word())
			return v
		case !Follows(r):
			v.Ending = Arrived
			return v
		}
		next, err := Follow(req, r)
		if errors.Is(err, request.ErrForeign) {
			v.Ending = Left
			return v
		}
		if err != nil {
			v.Ending = BadEnding
			return v
		}
		for i, h := range v.Hops {
			if h.Request.Verb() == next.Verb() && sameResource(h.Request.Address, next.Address) {
				v.Ending, v.Again = Loop, i
				return v
			}
		}
		if len(v.Hops) > limit {
			v.Ending = TooLong
			return v
		}
		if !e.Serves(next.Address.Host) {
			v.Ending, v.Left = Left, next.Address
			return v
		}
		req, r = next, predict(next)
	}
}

// sameResource compares addresses without their fragments.
func sameResource(a, b request.Address) bool {
	a.Fragment, b.Fragment = "", ""
	return a == b
}

// Follow gives the request that a browser makes when it follows a redirect.
func Follow(req *request.Request, r *Response) (*request.Request, error) {
	to, err := req.Address.Resolve(r.Location)
	if err != nil {
		return nil, err
	}
	next := &request.Request{Method: req.Method, Address: to, Headers: req.Headers, Client: req.Client, Time: req.Time, Body: req.Body}
	switch verb := req.Verb(); {
	case (r.Status == http.StatusMovedPermanently || r.Status == http.StatusFound) && verb == "POST",
		r.Status == http.StatusSeeOther && verb != "GET" && verb != "HEAD":
		next.Method, next.Body = "GET", 0
		next.Headers = without(next.Headers, aboutBody)
	}
	if to.Origin() != req.Address.Origin() {
		next.Headers = without(next.Headers, []string{"Authorization"})
		for i, h := range next.Headers {
			if http.CanonicalHeaderKey(h.Name) != "Referer" {
				continue
			}
			if from, err := request.Parse(h.Value, request.Address{}); err == nil {
				next.Headers[i].Value = from.Origin() + "/"
			}
		}
	}
	return next, nil
}

// aboutBody are the fields that go with a body when it is dropped (WHATWG Fetch,
// request-body-header name).
var aboutBody = []string{"Content-Encoding", "Content-Language", "Content-Length", "Content-Location", "Content-Type"}

// without gives a copy of header fields, without those of some names.
func without(headers []request.Header, names []string) []request.Header {
	return slices.DeleteFunc(slices.Clone(headers), func(h request.Header) bool { return slices.Contains(names, http.CanonicalHeaderKey(h.Name)) })
}
