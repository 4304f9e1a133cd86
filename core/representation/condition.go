package representation

// Conditional and range requests (RFC 9110, 13 and 14).

import (
	"math"
	"net/http"
	"strconv"
	"strings"
	"time"

	"kibitz/core/request"
)

// Validators are what conditions are held against (RFC 9110, 8.8).
type Validators struct {
	Tag      string // with its quotes; "" for none
	Modified time.Time
	Dated    bool // Modified is known
}

// Condition decides a request by its conditions, in the order of RFC 9110, 13.2.2: the
// status is 304 or 412, and field the one that decides; 0 where nothing keeps the
// representation from being sent. get gives the request's fields.
func (v *Validators) Condition(get func(name string) (string, bool)) (status int, field string) {
	if text, ok := get("If-Match"); ok {
		if !tagListed(text, v.Tag, true) {
			return http.StatusPreconditionFailed, "If-Match"
		}
	} else if text, ok := get("If-Unmodified-Since"); ok {
		if t, ok := request.Date(text); ok && v.Dated && v.Modified.After(t) {
			return http.StatusPreconditionFailed, "If-Unmodified-Since"
		}
	}
	if text, ok := get("If-None-Match"); ok {
		if tagListed(text, v.Tag, false) {
			return http.StatusNotModified, "If-None-Match"
		}
	} else if text, ok := get("If-Modified-Since"); ok {
		if t, ok := request.Date(text); ok && v.Dated && !v.Modified.After(t) {
			return http.StatusNotModified, "If-Modified-Since"
		}
	}
	return 0, ""
}

// IfRange reports whether a part may be sent (RFC 9110, 13.1.5).
func (v *Validators) IfRange(text string) bool {
	if t, ok := request.Date(text); ok {
		return v.Dated && v.Modified.Equal(t)
	}
	return text == v.Tag && v.Tag != "" && !strings.HasPrefix(v.Tag, "W/")
}

// tagListed compares entity tags (RFC 9110, 8.8.3.2).
func tagListed(field, tag string, strong bool) bool {
	if strings.TrimSpace(field) == "*" {
		return true
	}
	weak := strings.HasPrefix(tag, "W/")
	tag = strings.TrimPrefix(tag, "W/")
	for _, item := range request.List(field) {
		opaque := strings.TrimPrefix(item, "W/")
		if opaque == tag && tag != "" && (!strong || !weak && opaque == item) {
			return true
		}
	}
	return false
}

// Range gives the first and the last byte that a Range field asks for of a representation
// of a size (RFC 9110, 14.1.2). A first one that is not below the size cannot be sent. It is
// not ok where the whole is sent: the field asks for no range of bytes, or for several, of
// which none is answered, as RFC 9110, 14.2 permits.
func Range(field string, size int64) (first, last int64, ok bool) {
	unit, spec, ok := strings.Cut(field, "=")
	if !ok || !strings.EqualFold(strings.TrimSpace(unit), "bytes") || strings.Contains(spec, ",") {
		return 0, 0, false
	}
	from, to, ok := strings.Cut(strings.TrimSpace(spec), "-")
	if !ok {
		return 0, 0, false
	}
	first, ok1 := position(from)
	last, ok2 := position(to)
	switch {
	case from == "" && ok2: // the last bytes
		first, last = max(0, size-last), size-1
	case !ok1 || to != "" && (!ok2 || last < first):
		return 0, 0, false
	case to == "" || last >= size:
		last = size - 1
	}
	return first, last, true
}

// position reads a number of a range: digits alone. One beyond any size is as large as
// can be.
func position(s string) (n int64, ok bool) {
	if s == "" || strings.Trim(s, "0123456789") != "" {
		return 0, false
	}
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil {
		n = math.MaxInt64
	}
	return n, true
}
