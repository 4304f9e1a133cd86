package browser

// What lists expect of a visit.

import (
	"fmt"
	"strconv"

	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/request"
)

// Unmet says what of an expectation a visit does not meet, one sentence each;
// nothing if it meets all of it.
func Unmet(x *request.Expectation, v *Visit) []string {
	r := v.Hops[0].Response
	var out []string
	unmet := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	if x.Status != "" && !engine.StatusFits(x.Status, r) {
		unmet("status %s expected, %s predicted", x.Status, engine.StatusText(r))
	}
	if x.Location != "" && !sameLocation(v.Hops[0].Request.Address, x.Location, r.Location) {
		unmet("Location %s expected, %s predicted", x.Location, orNone(r.Location))
	}
	if x.By != "" {
		by := "none"
		if r.By != nil {
			by = r.By.Name
		}
		if by != x.By {
			unmet("decided by %s expected, by %s predicted", x.By, by)
		}
	}
	if x.Cause != "" && x.Cause != string(r.Cause) {
		unmet("cause %s expected, %s predicted", x.Cause, r.Cause)
	}
	if x.File != "" {
		file := ""
		if r.File != nil {
			file = canonical.Decode(r.File.Path)
		}
		if file != x.File && (r.File == nil || r.File.Path != x.File) {
			unmet("file %s expected, %s predicted", x.File, orNone(file))
		}
	}
	for _, h := range x.Headers {
		if value, ok := r.Get(h.Name); !ok || value != h.Value {
			unmet("%s: %s expected, %s predicted", h.Name, h.Value, orNone(value))
		}
	}
	for _, name := range x.Without {
		if value, ok := r.Get(name); ok {
			unmet("no %s expected, %q predicted", name, value)
		}
	}
	if x.Loop && v.Ending != Loop && v.Ending != TooLong {
		unmet("a loop expected, the visit %s", v.Summary())
	}
	if x.Ends != "" && !endsAt(x.Ends, v) {
		unmet("the visit should end with %s, and %s", x.Ends, v.Summary())
	}
	return out
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

func sameLocation(from request.Address, want, got string) bool {
	if got == "" {
		return false
	}
	a, err1 := from.Resolve(want)
	b, err2 := from.Resolve(got)
	if err1 != nil || err2 != nil {
		return want == got
	}
	return a == b
}

func endsAt(want string, v *Visit) bool {
	last := v.Hops[len(v.Hops)-1]
	if request.IsStatus(want) {
		return v.arrives() && engine.StatusFits(want, last.Response)
	}
	end := last.Request.Address
	if v.Ending == Left {
		end = v.Left
	} else if !v.arrives() {
		return false
	}
	to, err := v.Hops[0].Request.Address.Resolve(want)
	return err == nil && sameResource(to, end)
}

// arrives reports whether a visit comes to an answer of a site, or to what decides it.
func (v *Visit) arrives() bool {
	return v.Ending == Arrived || v.Ending == ToApp || v.Ending == ToFiles
}

// Summary says in a few words how the visit ends.
func (v *Visit) Summary() string {
	last := v.Hops[len(v.Hops)-1]
	switch v.Ending {
	case Loop:
		return "is an endless loop"
	case TooLong:
		return "is given up after " + strconv.Itoa(engine.MaxRedirects) + " redirects"
	case Left:
		if v.Left.Host == "" {
			return "leaves the site for " + last.Response.Location
		}
		return "leaves the site for " + v.Left.String()
	case BadEnding:
		return "ends at a Location that is not a valid URL: " + last.Response.Location
	}
	return "ends with " + engine.StatusText(last.Response) + " at " + last.Request.Address.String()
}
