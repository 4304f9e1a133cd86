package engine

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"kibitz/core/request"
)

// Directives are those of a Cache-Control field (RFC 9111, 5.2), by their
// lower-case names.
type Directives map[string]string

// CacheControl reads a Cache-Control field.
func CacheControl(field string) Directives {
	d := Directives{}
	for _, item := range strings.Split(field, ",") {
		name, value, _ := strings.Cut(strings.TrimSpace(item), "=")
		if name != "" {
			d[strings.ToLower(strings.TrimSpace(name))] = strings.Trim(strings.TrimSpace(value), `"`)
		}
	}
	return d
}

func (d Directives) has(name string) bool {
	_, ok := d[name]
	return ok
}

// heuristic are the statuses that may be kept although nothing says so (RFC
// 9110, 15.1).
var heuristic = map[int]bool{200: true, 203: true, 204: true, 206: true, 300: true, 301: true, 308: true, 404: true, 405: true, 410: true, 414: true, 501: true}

// Keeping says in a sentence how long a browser keeps the answer to a request.
func Keeping(req *request.Request, r *Response) string {
	if !keepable(req) {
		return "not kept: only answers to GET and HEAD are"
	}
	if r.Status == http.StatusNotModified {
		return "what the browser has kept is good once more (RFC 9111, 4.3.4)"
	}
	now := req.Time
	field, said := r.Get("Cache-Control")
	d := CacheControl(field)
	redirect := Follows(r)
	what := "kept"
	if redirect {
		what = "remembered by browsers"
	}
	who := ""
	if d.has("private") {
		who = ", by the browser alone"
	}
	seconds, err := strconv.ParseInt(d["max-age"], 10, 64)
	switch {
	case d.has("no-store"):
		return "not " + what + " (no-store)"
	case varies(r):
		return "not " + what + " (Vary: *)"
	case d.has("no-cache"):
		return what + ", but asked for again each time (no-cache)" + who
	case d.has("max-age") && (err != nil || seconds < 0):
		return "not " + what + ": max-age is no number of seconds"
	case d.has("max-age") && seconds == 0:
		return what + ", but asked for again each time (max-age=0)" + who
	case d.has("max-age"):
		return what + " for " + duration(seconds) + who
	}
	if expires, ok := r.Get("Expires"); ok {
		t, err := http.ParseTime(expires)
		switch {
		case err != nil || !now.IsZero() && !t.After(now):
			return what + ", but asked for again each time (Expires is past)"
		default:
			return what + " until " + expires
		}
	}
	switch {
	case Permanent(r.Status):
		s := "remembered by browsers without end"
		if !said {
			s += ": nothing says otherwise"
		}
		return s
	case !heuristic[r.Status]:
		return "not " + what
	}
	modified, ok := r.Get("Last-Modified")
	t, err := http.ParseTime(modified)
	if !ok || err != nil {
		return "kept as each browser sees fit: nothing says how long"
	}
	if now.IsZero() || now.Before(t) {
		return "kept as each browser sees fit, often a tenth of its age: nothing says how long (RFC 9111, 4.2.2)"
	}
	return fmt.Sprintf("kept as each browser sees fit, often a tenth of its age, here %s (RFC 9111, 4.2.2)", duration(int64(now.Sub(t).Seconds())/10))
}

// keepable reports whether answers to a request are kept at all: others than GET
// and HEAD would need more than browsers heed (RFC 9110, 9.3.3).
func keepable(req *request.Request) bool {
	verb := req.Verb()
	return verb == http.MethodGet || verb == http.MethodHead
}

// Stored reports whether a browser goes on using a redirect at the time now, without
// asking for it again (RFC 9111, 3 and 4.2).
func Stored(req *request.Request, r *Response, now time.Time) bool {
	if !keepable(req) || !Follows(r) || varies(r) {
		return false
	}
	field, _ := r.Get("Cache-Control")
	d := CacheControl(field)
	if d.has("no-store") || d.has("no-cache") {
		return false
	}
	if d.has("max-age") {
		seconds, err := strconv.ParseInt(d["max-age"], 10, 64)
		return err == nil && seconds > 0
	}
	if expires, ok := r.Get("Expires"); ok {
		t, err := http.ParseTime(expires)
		return err == nil && t.After(now)
	}
	return Permanent(r.Status)
}

// Permanent reports whether a redirect of this status is stored although nothing
// says so (RFC 9110, 15.4.2 and 15.4.9).
func Permanent(status int) bool {
	return status == http.StatusMovedPermanently || status == http.StatusPermanentRedirect
}

func varies(r *Response) bool {
	v, _ := r.Get("Vary")
	return strings.TrimSpace(v) == "*"
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

// Compressible reports whether files of a media type usually shrink.
func Compressible(mediaType string) bool { return TypeListed(mediaType, compressible) }
