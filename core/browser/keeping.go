package browser

// What browsers keep, and for how long (RFC 9111).

import (
	"cmp"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"kibitz/core/engine"
	"kibitz/core/request"
)

// directives are those of a Cache-Control field (RFC 9111, 5.2), by their lower-case names,
// with what stands behind the =.
type directives map[string]string

// cacheControl reads a Cache-Control field. Of a directive that stands twice the first
// counts (RFC 9111, 4.2.1).
func cacheControl(field string) directives {
	d := directives{}
	for _, item := range request.List(field) {
		name, value, _ := strings.Cut(item, "=")
		name = strings.ToLower(strings.TrimSpace(name))
		if _, twice := d[name]; !twice && name != "" {
			d[name] = value
		}
	}
	return d
}

func (d directives) has(name string) bool {
	_, ok := d[name]
	return ok
}

// heuristic are the statuses that may be kept although nothing says so (RFC
// 9110, 15.1).
var heuristic = map[int]bool{200: true, 203: true, 204: true, 206: true, 300: true, 301: true, 308: true, 404: true, 405: true, 410: true, 414: true, 501: true}

// A manner is how a browser keeps an answer.
type manner uint8

const (
	keptNot       manner = iota
	keptStale            // cached, but checked again each time
	keptFor              // for some seconds
	keptUntil            // a time
	keptForever          // a permanent redirect, of which no header limits it
	keptByGuess          // as each browser sees fit
	keptOnceAgain        // it says that what was kept is good
)

// keeping is how a browser keeps an answer, and what says so.
type keeping struct {
	manner  manner
	why     string
	doubt   string // what some browsers take for nothing said, and others for an answer that is checked again
	seconds int64  // for keptFor: what is left
	until   string
	private bool // kept by the browser alone
	said    bool // there is a Cache-Control
}

// keep reads an answer's header fields as a private cache does (RFC 9111, 3, 4.2 and
// 5.2) at the time now, or where now is not known. Of what is not valid some browsers make
// nothing, and keep a permanent redirect for good, whatever the RFC says (4.2.1 and 5.3).
func keep(req *request.Request, r *engine.Response, now time.Time) keeping {
	if !keepable(req) {
		return keeping{manner: keptNot, why: "only answers to GET and HEAD are"}
	}
	if r.Status == http.StatusNotModified {
		return keeping{manner: keptOnceAgain}
	}
	field, said := r.Get("Cache-Control")
	d := cacheControl(field)
	k := keeping{private: d.has("private"), said: said}
	stale := func(why string) keeping {
		k.manner, k.why = keptStale, why
		return k
	}
	switch {
	case d.has("no-store"):
		return keeping{manner: keptNot, why: "no-store"}
	case varies(r):
		return keeping{manner: keptNot, why: "Vary: *"}
	case d.has("no-cache") && d["no-cache"] == "": // else it is for some fields of the header alone
		return stale("no-cache")
	case d.has("max-age"):
		bare := request.Unquote(strings.TrimSpace(d["max-age"]))
		seconds, ok := Seconds(bare)
		age, _ := r.Get("Age")
		old, _ := Seconds(age)
		switch {
		case !ok:
			k.doubt = "max-age is not a number of seconds"
		case bare != d["max-age"]:
			k.doubt = "max-age is not a bare number"
		case seconds == 0:
			return stale("max-age=0")
		case seconds <= old:
			return stale(fmt.Sprintf("max-age=%d, of which %d seconds have passed (Age)", seconds, old))
		}
		if k.doubt == "" || seconds > old && !Permanent(r.Status) {
			k.manner, k.seconds = keptFor, seconds-old
			return k
		}
	}
	if pragma, _ := r.Get("Pragma"); !said && slices.ContainsFunc(request.List(pragma), func(s string) bool { return strings.EqualFold(s, "no-cache") }) {
		return stale("Pragma: no-cache, which browsers heed where there is no Cache-Control")
	}
	if expires, ok := r.Get("Expires"); ok {
		t, ok := request.Date(expires)
		switch {
		case !ok && expires != "0":
			k.doubt = cmp.Or(k.doubt, "Expires is not a date")
		case !ok || !t.After(now):
			return stale("Expires is past")
		default:
			k.manner, k.until = keptUntil, expires
			return k
		}
	}
	switch {
	case Permanent(r.Status):
		k.manner = keptForever
	case heuristic[r.Status]:
		k.manner = keptByGuess
	case k.doubt != "":
		return stale(k.doubt)
	}
	return k
}

// Seconds reads a number of seconds: digits alone. One beyond 2147483648 counts as
// that (RFC 9111, 1.2.2).
func Seconds(s string) (n int64, ok bool) {
	const large = 1 << 31
	for _, c := range []byte(s) {
		if c < '0' || c > '9' {
			return 0, false
		}
		n = min(large, 10*n+int64(c-'0'))
	}
	return n, s != ""
}

// Keeping says in a sentence how long a browser keeps the answer to a request. now is
// when it is asked, where the request tells no time.
func Keeping(req *request.Request, r *engine.Response, now time.Time) string {
	if !req.Time.IsZero() {
		now = req.Time
	}
	k := keep(req, r, now)
	what := "cached"
	if Follows(r) {
		what = "cached by browsers"
	}
	who := ""
	if k.private {
		who = ", by the browser alone"
	}
	switch k.manner {
	case keptOnceAgain:
		return "the browser's cached copy is fresh again (RFC 9111, 4.3.4)"
	case keptStale:
		return what + ", but checked again each time (" + k.why + ")" + who
	case keptFor:
		return what + " for " + duration(k.seconds) + who + inDoubt(k.doubt)
	case keptUntil:
		return what + " until " + k.until + who + inDoubt(k.doubt)
	case keptForever:
		s := what + " for good"
		if !k.said && k.doubt == "" {
			s += ": no header limits it"
		}
		return s + inDoubt(k.doubt)
	case keptByGuess:
		return guess(req, r) + inDoubt(k.doubt)
	}
	switch {
	case !keepable(req):
		return "not cached: " + k.why
	case k.why != "":
		return "not " + what + " (" + k.why + ")"
	}
	return "not " + what
}

// inDoubt says that browsers differ, and why; "" where they do not.
func inDoubt(why string) string {
	if why == "" {
		return ""
	}
	return "; but " + why + ", and browsers differ in what they make of that"
}

// guess says how long an answer may be kept of which nothing says it (RFC 9111, 4.2.2).
func guess(req *request.Request, r *engine.Response) string {
	modified, ok := r.Get("Last-Modified")
	t, known := request.Date(modified)
	if !ok || !known {
		return "cached as each browser sees fit: nothing says how long"
	}
	if req.Time.IsZero() || req.Time.Before(t) {
		return "cached as each browser sees fit, often a tenth of its age: nothing says how long (RFC 9111, 4.2.2)"
	}
	return fmt.Sprintf("cached as each browser sees fit, often a tenth of its age, here %s (RFC 9111, 4.2.2)", duration(int64(req.Time.Sub(t).Seconds())/10))
}

// keepable reports whether answers to a request are kept at all: others than GET
// and HEAD would need more than browsers heed (RFC 9110, 9.3.3).
func keepable(req *request.Request) bool {
	verb := req.Verb()
	return verb == http.MethodGet || verb == http.MethodHead
}

// Stored reports whether a browser, or some of them, goes on using a redirect at the time now,
// without asking for it again (RFC 9111, 3 and 4.2).
func Stored(req *request.Request, r *engine.Response, now time.Time) bool {
	if !Follows(r) {
		return false
	}
	switch keep(req, r, now).manner {
	case keptFor, keptUntil, keptForever:
		return true
	}
	return false
}

// Permanent reports whether a redirect of this status is stored although nothing
// says so (RFC 9110, 15.4.2 and 15.4.9).
func Permanent(status int) bool {
	return status == http.StatusMovedPermanently || status == http.StatusPermanentRedirect
}

// varies reports whether an answer is for one request alone (RFC 9110, 12.5.5).
func varies(r *engine.Response) bool {
	v, _ := r.Get("Vary")
	return slices.Contains(request.List(v), "*")
}

// duration writes seconds in the largest unit that fits.
func duration(seconds int64) string {
	for _, u := range []struct {
		name string
		n    int64
	}{{"year", 365 * 86400}, {"day", 86400}, {"hour", 3600}, {"minute", 60}} {
		if seconds >= u.n {
			n := seconds / u.n
			if n == 1 {
				return "1 " + u.name
			}
			return fmt.Sprintf("%d %ss", n, u.name)
		}
	}
	return fmt.Sprintf("%d seconds", seconds)
}
