package request

// Queries as forms write them (WHATWG URL, application/x-www-form-urlencoded).

import (
	"regexp"
	"strings"

	"kibitz/core/canonical"
)

// Parameter gives the first value of a name in a query, and whether there is one.
func Parameter(query, name string) (string, bool) {
	for query != "" {
		var pair string
		pair, query, _ = strings.Cut(query, "&")
		if pair == "" {
			continue
		}
		key, value, _ := strings.Cut(pair, "=")
		if key == name || FormText(key) == name {
			return FormText(value), true
		}
	}
	return "", false
}

// FormText decodes a name or a value of a query.
func FormText(s string) string {
	if strings.IndexByte(s, '%') < 0 && strings.IndexByte(s, '+') < 0 {
		return s
	}
	return canonical.Decode(strings.ReplaceAll(s, "+", " "))
}

var needsEncoding = regexp.MustCompile(`[^A-Za-z0-9._~-]`)

// ParameterText writes a name or a value as it stands in a query.
func ParameterText(s string) string {
	return needsEncoding.ReplaceAllStringFunc(s, func(c string) string { return canonical.Spell(strings.ReplaceAll(c, "+", "%2B")) })
}
