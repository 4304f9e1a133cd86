package request

import (
	"iter"
	"net/http"
	"strconv"
	"strings"
	"time"
)

// List gives the members of a field whose value is a list (RFC 9110, 5.6.1): commas
// part them, but not within quotes; blanks around them and empty ones are left out.
func List(value string) []string {
	var out []string
	for value != "" {
		end := ListEnd(value, ',')
		if member := strings.Trim(value[:end], " \t"); member != "" {
			out = append(out, member)
		}
		value = value[min(end+1, len(value)):]
	}
	return out
}

// ListEnd is where the first mark stands in a value that is outside a quoted string
// (RFC 9110, 5.6.4); its length where there is none.
func ListEnd(value string, mark byte) int {
	quoted := false
	for i := 0; i < len(value); i++ {
		switch c := value[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case c == mark && !quoted:
			return i
		}
	}
	return len(value)
}

// Unquote gives the text of a quoted string, or of a token as it is.
func Unquote(s string) string {
	if len(s) < 2 || s[0] != '"' || s[len(s)-1] != '"' {
		return s
	}
	var b strings.Builder
	for i := 1; i < len(s)-1; i++ {
		if s[i] == '\\' && i+2 < len(s) {
			i++
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// Date reads a date of a field (RFC 9110, 5.6.7), which is always in GMT.
func Date(s string) (time.Time, bool) {
	t, err := http.ParseTime(s)
	if err != nil || !strings.HasSuffix(s, " GMT") && strings.Contains(s, ",") { // asctime has neither
		return time.Time{}, false
	}
	return t, true
}

// Weighted gives the members of a field that lists what is accepted, in small letters, each
// with its weight (RFC 9110, 12.4.2): 1 where none is said, 0 where it is none.
func Weighted(value string) iter.Seq2[string, float64] {
	return func(yield func(string, float64) bool) {
		for _, item := range List(value) {
			name, params, _ := strings.Cut(item, ";")
			q := 1.0
			for _, param := range strings.Split(params, ";") {
				if key, value, ok := strings.Cut(param, "="); ok && strings.EqualFold(strings.TrimSpace(key), "q") {
					q = weight(strings.TrimSpace(value))
				}
			}
			if name = strings.ToLower(strings.TrimSpace(name)); name != "" && !yield(name, q) {
				return
			}
		}
	}
}

// weight reads a weight: up to 1, with up to three digits behind the point.
func weight(s string) float64 {
	whole, digits, _ := strings.Cut(s, ".")
	if whole != "0" && whole != "1" || len(digits) > 3 || strings.Trim(digits, "0123456789") != "" {
		return 0
	}
	q, _ := strconv.ParseFloat(whole+"."+digits+"0", 64)
	if q > 1 {
		return 0
	}
	return q
}
