package replay

import (
	"maps"
	"slices"
	"time"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/request"
)

// A Choice is of requests: by when they were made, and by what becomes of them. The zero
// Choice is all of them.
type Choice struct {
	Since, Until time.Time // made at Since or later, and before Until; zero is no bound
	Only         []string  // of one of these outcomes, as Is knows them; none is any
}

// spans reports whether a request that was made at a time is meant; a zero time is none.
func (c *Choice) spans(at time.Time) bool {
	return (c.Since.IsZero() || !at.IsZero() && !at.Before(c.Since)) && (c.Until.IsZero() || !at.IsZero() && at.Before(c.Until))
}

// Of reports whether a result is of an outcome that is meant.
func (c *Choice) Of(r *Result) bool { return c.Only == nil || slices.ContainsFunc(c.Only, r.Is) }

// named gives the names of entries among the outcomes that are meant.
func (c *Choice) named() []string {
	var names []string
	for _, word := range c.Only {
		if outcomes[word] == nil && !request.IsStatus(word) {
			names = append(names, word)
		}
	}
	return names
}

// outcomes are the words that name what can happen to a request, beside statuses
// and entries. Those that check knows, too, are called as there.
var outcomes = map[string]func(*Result) bool{
	"loop":  func(r *Result) bool { return r.ends(browser.Loop) || r.ends(browser.TooLong) },
	"unmet": func(r *Result) bool { return len(r.Unmet) > 0 },
	"differs": func(r *Result) bool {
		return r.Item.Recorded != 0 && differs(r.Item.Recorded, r.Response.Status, r.Response.Cause)
	},
	"chain":         func(r *Result) bool { return r.Redirects() > 1 },
	"redirect-loop": func(r *Result) bool { return r.ends(browser.Loop) },
	"runaway":       func(r *Result) bool { return r.ends(browser.TooLong) },
	"rewrite-loop":  func(r *Result) bool { return r.Response.Cause == engine.CauseRewriteLoop },
	"bad-target":    func(r *Result) bool { return r.Response.Cause == engine.CauseBadTarget || r.ends(browser.BadEnding) },
	"missing-target": func(r *Result) bool {
		return r.Redirects() > 0 && r.ends(browser.Arrived) && r.Visit.Last().Status == 404
	},
	"downgrade": func(r *Result) bool {
		return r.hops(func(from, to *request.Request) bool {
			return from.Address.Scheme == "https" && to.Address.Scheme == "http"
		})
	},
	"method-lost": func(r *Result) bool {
		return r.hops(func(from, to *request.Request) bool { return from.Verb() != to.Verb() })
	},
}

// Outcomes are the words for outcomes that Is knows, beside statuses and entries, sorted.
var Outcomes = slices.Sorted(maps.Keys(outcomes))

// Is reports whether a result is of an outcome that a word names: a status, an
// entry, or one of Outcomes.
func (r *Result) Is(word string) bool {
	if is := outcomes[word]; is != nil {
		return is(r)
	}
	if request.IsStatus(word) {
		return engine.StatusFits(word, r.Response)
	}
	return r.Response.By != nil && r.Response.By.IsCalled(word)
}

func (r *Result) ends(ending browser.Ending) bool { return r.Visit != nil && r.Visit.Ending == ending }

// hops reports whether something is so of one request of the visit and the next.
func (r *Result) hops(so func(from, to *request.Request) bool) bool {
	if r.Visit == nil {
		return false
	}
	for i, hop := range r.Visit.Hops[1:] {
		if so(r.Visit.Hops[i].Request, hop.Request) {
			return true
		}
	}
	return false
}
