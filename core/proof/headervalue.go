package proof

// The well-known header values, held to what their standards say.

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// A fault is what is wrong with a header value, and the right form.
type fault struct{ what, right string }

// checkValue looks for mistakes in the value of a response header. Names that
// it does not know have none.
func checkValue(name, value string) []fault {
	check, ok := valueChecks[strings.ToLower(name)]
	if !ok {
		return nil
	}
	return check(value)
}

var valueChecks = map[string]func(string) []fault{
	"strict-transport-security":           checkTransport,
	"content-security-policy":             checkPolicy,
	"content-security-policy-report-only": checkPolicy,
	"cache-control":                       checkCacheControl,
	"link":                                checkLink,
	"referrer-policy":                     checkReferrerPolicy,
	"permissions-policy":                  checkPermissions,
	"x-content-type-options":              oneOf("nosniff"),
	"x-frame-options":                     oneOf("DENY", "SAMEORIGIN"),
	"cross-origin-opener-policy":          oneOf("unsafe-none", "same-origin-allow-popups", "same-origin", "noopener-allow-popups"),
	"cross-origin-embedder-policy":        oneOf("unsafe-none", "require-corp", "credentialless"),
	"cross-origin-resource-policy":        oneOf("same-site", "same-origin", "cross-origin"),
}

// oneOf wants one of a few words; the first parameter of a value may follow.
func oneOf(words ...string) func(string) []fault {
	return func(value string) []fault {
		word, _, _ := strings.Cut(value, ";")
		for _, w := range words {
			if strings.EqualFold(strings.TrimSpace(word), w) {
				return nil
			}
		}
		return []fault{{fmt.Sprintf("%q is not a value that browsers know", value), strings.Join(words, " or ")}}
	}
}

// checkTransport: RFC 6797, 6.1.
func checkTransport(value string) []fault {
	right := "max-age=31536000; includeSubDomains"
	seen := map[string]bool{}
	var out []fault
	for _, d := range strings.Split(value, ";") {
		name, n, has := strings.Cut(strings.TrimSpace(d), "=")
		name = strings.ToLower(strings.TrimSpace(name))
		if name == "" {
			continue
		}
		if seen[name] {
			out = append(out, fault{name + " stands twice", right})
		}
		seen[name] = true
		switch name {
		case "max-age":
			out = append(out, checkSeconds(name, strings.Trim(n, `"`), right)...)
		case "includesubdomains", "preload":
			if has {
				out = append(out, fault{name + " takes no value", right})
			}
		default:
			out = append(out, fault{fmt.Sprintf("%q is no directive of this field", name), right})
		}
	}
	if !seen["max-age"] {
		out = append(out, fault{"max-age is missing, so browsers pass the whole field over", right})
	}
	return out
}

const (
	year      = 365 * 24 * 60 * 60
	manyYears = 50
)

// checkSeconds looks at a span, which is always in seconds: many years of them were
// meant to be milliseconds.
func checkSeconds(name, n, right string) []fault {
	seconds, err := strconv.ParseUint(n, 10, 63)
	switch {
	case err != nil:
		return []fault{{fmt.Sprintf("%s=%s is no number of seconds", name, n), right}}
	case seconds > manyYears*year:
		return []fault{{fmt.Sprintf("%s=%s is %d years: it counts seconds, not milliseconds", name, n, seconds/year), right}}
	}
	return nil
}

var cacheFlags = []string{"no-cache", "no-store", "no-transform", "must-revalidate", "must-understand", "private", "proxy-revalidate", "public", "immutable"}
var cacheSeconds = []string{"max-age", "s-maxage", "stale-while-revalidate", "stale-if-error"}

// checkCacheControl: RFC 9111, 5.2.2; RFC 5861; RFC 8246.
func checkCacheControl(value string) []fault {
	right := "public, max-age=604800"
	seen := map[string]bool{}
	var out []fault
	if strings.Contains(value, ";") {
		return []fault{{"directives are parted by commas, not by semicolons", right}}
	}
	for _, d := range strings.Split(value, ",") {
		name, n, has := strings.Cut(strings.TrimSpace(d), "=")
		name = strings.ToLower(name)
		switch {
		case name == "":
			out = append(out, fault{"a directive is missing between the commas", right})
		case seen[name]:
			out = append(out, fault{name + " stands twice", right})
		case slices.Contains(cacheSeconds, name):
			out = append(out, checkSeconds(name, n, name+"=604800")...)
		case slices.Contains(cacheFlags, name):
			if has && name != "no-cache" && name != "private" {
				out = append(out, fault{name + " takes no value", name})
			}
		default:
			out = append(out, fault{fmt.Sprintf("%q is no directive that caches know", name), strings.Join(cacheFlags, ", ") + ", max-age=SECONDS"})
		}
		seen[name] = true
	}
	switch {
	case seen["public"] && seen["private"]:
		out = append(out, fault{"public and private contradict each other", "one of them"})
	case seen["no-store"] && (seen["max-age"] || seen["public"] || seen["immutable"]):
		out = append(out, fault{"no-store forbids what the rest allows", "no-store, alone"})
	}
	return out
}

var linkForm = regexp.MustCompile(`^\s*<([^<>\s]*)>\s*((?:;\s*[A-Za-z*-]+(?:\s*=\s*(?:"[^"]*"|[^\s",;]+))?\s*)*)$`)

// checkLink: RFC 8288, 3.
func checkLink(value string) []fault {
	right := "</styles/site.css>; rel=preload; as=style"
	for _, item := range splitOutside(value, ',') {
		m := linkForm.FindStringSubmatch(item)
		if m == nil {
			return []fault{{fmt.Sprintf("%q is no link: the address stands in <…>, its parameters behind semicolons", strings.TrimSpace(item)), right}}
		}
		if _, err := url.Parse(m[1]); err != nil {
			return []fault{{fmt.Sprintf("%q is no address", m[1]), right}}
		}
		if !regexp.MustCompile(`(?i);\s*rel\s*=`).MatchString(m[2]) {
			return []fault{{"rel is missing, so nobody knows what the link is for", right}}
		}
	}
	return nil
}

// splitOutside splits at a byte that stands outside quotes and angle brackets.
func splitOutside(s string, sep byte) []string {
	var out []string
	start, quoted, angle := 0, false, false
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c == '"':
			quoted = !quoted
		case c == '<' && !quoted:
			angle = true
		case c == '>' && !quoted:
			angle = false
		case c == sep && !quoted && !angle:
			out = append(out, s[start:i])
			start = i + 1
		}
	}
	return append(out, s[start:])
}

var referrerPolicies = []string{"no-referrer", "no-referrer-when-downgrade", "origin", "origin-when-cross-origin", "same-origin", "strict-origin", "strict-origin-when-cross-origin", "unsafe-url"}

// checkReferrerPolicy: W3C Referrer Policy, 4.1; the last known word counts.
func checkReferrerPolicy(value string) []fault {
	var out []fault
	for _, w := range strings.Split(value, ",") {
		if w = strings.TrimSpace(w); !slices.Contains(referrerPolicies, strings.ToLower(w)) {
			out = append(out, fault{fmt.Sprintf("%q is no policy", w), strings.Join(referrerPolicies, ", ")})
		}
	}
	return out
}

var permission = regexp.MustCompile(`^[a-z][a-z0-9-]*=(\*|\(\s*((self|src|\*|"[^"]+")(\s+(self|src|"[^"]+"))*)?\s*\)|self|"[^"]+")$`)

// checkPermissions: W3C Permissions Policy, 5.2, a structured dictionary.
func checkPermissions(value string) []fault {
	right := `camera=(), geolocation=(self "https://maps.saltmarsh-ferries.example")`
	if strings.Contains(value, ";") || strings.Contains(value, "'") {
		return []fault{{"features are parted by commas, and origins stand in double quotes", right}}
	}
	for _, item := range splitOutside(value, ',') {
		if item = strings.TrimSpace(item); !permission.MatchString(item) {
			return []fault{{fmt.Sprintf("%q is not of the form FEATURE=(ORIGIN …)", item), right}}
		}
	}
	return nil
}

var directives = []string{"default-src", "script-src", "script-src-elem", "script-src-attr", "style-src", "style-src-elem", "style-src-attr", "img-src", "font-src", "connect-src", "media-src", "object-src", "frame-src", "child-src", "worker-src", "manifest-src", "prefetch-src", "base-uri", "form-action", "frame-ancestors", "sandbox", "report-uri", "report-to", "upgrade-insecure-requests", "block-all-mixed-content", "require-trusted-types-for", "trusted-types", "fenced-frame-src"}

var quotedSource = regexp.MustCompile(`^'(none|self|unsafe-inline|unsafe-eval|wasm-unsafe-eval|unsafe-hashes|strict-dynamic|report-sample|inline-speculation-rules|nonce-[A-Za-z0-9+/_=-]+|sha(256|384|512)-[A-Za-z0-9+/_=-]+)'$`)

// checkPolicy: W3C Content Security Policy, 2.3, at the level of its grammar.
func checkPolicy(value string) []fault {
	right := "default-src 'self'; img-src 'self' https://tiles.saltmarsh-ferries.example"
	seen := map[string]bool{}
	var out []fault
	for _, d := range strings.Split(value, ";") {
		words := strings.Fields(d)
		if len(words) == 0 {
			continue
		}
		name := strings.ToLower(words[0])
		switch {
		case !slices.Contains(directives, name):
			out = append(out, fault{fmt.Sprintf("%q is no directive", words[0]), right})
			continue
		case seen[name]:
			out = append(out, fault{name + " stands twice: browsers read the first alone", right})
		}
		seen[name] = true
		if !strings.HasSuffix(name, "-src") && name != "frame-ancestors" && name != "form-action" && name != "base-uri" {
			continue
		}
		for _, w := range words[1:] {
			bare := strings.ToLower(strings.Trim(w, `'"`))
			switch {
			case strings.Contains(w, ","):
				out = append(out, fault{"sources are parted by blanks, not by commas", right})
			case w != "'"+bare+"'" && quotedSource.MatchString("'"+bare+"'") && !strings.HasPrefix(w, "'"):
				out = append(out, fault{fmt.Sprintf("%s without single quotes is taken for a host", w), "'" + bare + "'"})
			case strings.HasPrefix(w, "'") && !quotedSource.MatchString(w) && !quotedSource.MatchString(strings.ToLower(w)):
				out = append(out, fault{fmt.Sprintf("%s is no keyword", w), right})
			case bare == "none" && len(words) > 2:
				out = append(out, fault{"'none' stands alone in its directive", name + " 'none'"})
			}
		}
	}
	return out
}
