package proof

// The well-known header values, held to what their standards say. Each field has a check
// of its own, by its own grammar: what browsers and caches read is not a fault, however it
// is written.

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/net/http/httpguts"

	"kibitz/core/browser"
	"kibitz/core/request"
)

// A fault is what is wrong with a header value, and the right form.
type fault struct{ what, right string }

func faultf(right, format string, args ...any) []fault {
	return []fault{{fmt.Sprintf(format, args...), right}}
}

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
	"strict-transport-security":           quotesClosed(checkTransport),
	"content-security-policy":             checkPolicy,
	"content-security-policy-report-only": checkPolicy,
	"cache-control":                       quotesClosed(checkCacheControl),
	"link":                                quotesClosed(checkLink),
	"referrer-policy":                     checkReferrerPolicy,
	"permissions-policy":                  quotesClosed(checkPermissions),
	"x-content-type-options":              words(anyCase, alone, "nosniff"),
	"x-frame-options":                     words(anyCase, alone, "DENY", "SAMEORIGIN"),
	"cross-origin-opener-policy":          words(exactCase, withParameters, "unsafe-none", "same-origin-allow-popups", "same-origin", "noopener-allow-popups"),
	"cross-origin-embedder-policy":        words(exactCase, withParameters, "unsafe-none", "require-corp", "credentialless"),
	"cross-origin-resource-policy":        words(exactCase, alone, "same-site", "same-origin", "cross-origin"),
	"content-type":                        quotesClosed(checkContentType),
	"access-control-allow-origin":         checkAllowOrigin,
	"access-control-allow-credentials":    words(exactCase, alone, "true"),
	"access-control-allow-methods":        tokens("GET, HEAD, POST", checkMethod),
	"access-control-allow-headers":        tokens("Content-Type, X-Requested-With", nil),
	"access-control-expose-headers":       tokens("Content-Length, X-Request-Id", nil),
	"access-control-max-age":              checkMaxAge,
	"vary":                                tokens("Accept-Encoding, Cookie", nil),
	"expires":                             checkExpires,
	"last-modified":                       checkDate,
	"retry-after":                         checkRetryAfter,
	"set-cookie":                          checkSetCookie,
}

// quotesClosed lets a check look only at values whose quotes are closed.
func quotesClosed(check func(string) []fault) func(string) []fault {
	return func(value string) []fault {
		quoted := false
		for i := 0; i < len(value); i++ {
			switch {
			case quoted && value[i] == '\\':
				i++
			case value[i] == '"':
				quoted = !quoted
			}
		}
		if quoted {
			return faultf(value+`"`, "a quote is opened and never closed, so the rest is passed over")
		}
		return check(value)
	}
}

// How the words of a field are compared, and what may follow them.
const (
	anyCase = iota
	exactCase
)
const (
	alone = iota
	withParameters
)

// words wants one of a few words.
func words(compare, follows int, known ...string) func(string) []fault {
	return func(value string) []fault {
		word := strings.TrimSpace(value)
		if follows == withParameters {
			word, _, _ = strings.Cut(word, ";")
			word = strings.TrimSpace(word)
		}
		for _, w := range known {
			switch {
			case w == word, compare == anyCase && strings.EqualFold(w, word):
				return nil
			case strings.EqualFold(w, word):
				return faultf(w, "%q is compared with case, so browsers do not know it", word)
			}
		}
		if before, _, more := strings.Cut(word, ";"); more && follows == alone && slices.ContainsFunc(known, func(w string) bool { return strings.EqualFold(w, strings.TrimSpace(before)) }) {
			return faultf(strings.TrimSpace(before), "nothing may stand behind %s: with it browsers do not know the value", strings.TrimSpace(before))
		}
		return faultf(strings.Join(known, " or "), "%q is not a value that browsers know", value)
	}
}

// tokens wants a list of names (RFC 9110, 5.6.2), or a star alone; check looks at each.
func tokens(right string, check func(string) []fault) func(string) []fault {
	return func(value string) []fault {
		var out []fault
		for _, w := range request.List(value) {
			switch {
			case w == "*":
			case !httpguts.ValidHeaderFieldName(w):
				out = append(out, fault{fmt.Sprintf("%q is not a name: names are separated by commas, without quotes", w), right})
			case check != nil:
				out = append(out, check(w)...)
			}
		}
		return out
	}
}

// checkMethod: methods are compared with case (Fetch, "method").
func checkMethod(w string) []fault {
	if upper := strings.ToUpper(w); upper != w {
		return faultf(upper, "%s is compared with case, and methods are written in capitals", w)
	}
	return nil
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
			out = append(out, checkSeconds(name, request.Unquote(strings.TrimSpace(n)), right)...)
		case "includesubdomains", "preload":
			if has {
				out = append(out, fault{name + " takes no value", right})
			}
		default:
			out = append(out, fault{fmt.Sprintf("%q is not a directive of this field", name), right})
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
	if _, ok := browser.Seconds(n); !ok {
		return faultf(right, "%s=%s is not a number of seconds", name, n)
	}
	switch seconds, err := strconv.ParseUint(n, 10, 64); {
	case err != nil:
		return faultf(right, "%s=%s is more years than anybody counts: it counts seconds, not milliseconds", name, n)
	case seconds > manyYears*year:
		return faultf(right, "%s=%s is %d years: it counts seconds, not milliseconds", name, n, seconds/year)
	}
	return nil
}

var cacheFlags = []string{"no-cache", "no-store", "no-transform", "must-revalidate", "must-understand", "private", "proxy-revalidate", "public", "immutable"}
var cacheSeconds = []string{"max-age", "s-maxage", "stale-while-revalidate", "stale-if-error"}

// checkCacheControl: RFC 9111, 5.2.2; RFC 5861; RFC 8246.
func checkCacheControl(value string) []fault {
	right := "public, max-age=604800"
	seen := map[string]bool{}
	kept := false // for some time
	var out []fault
	if request.ListEnd(value, ';') < len(value) {
		return []fault{{"directives are separated by commas, not by semicolons", right}}
	}
	for rest := value; ; {
		end := request.ListEnd(rest, ',')
		name, n, has := strings.Cut(strings.TrimSpace(rest[:end]), "=")
		name = strings.ToLower(name)
		switch {
		case name == "":
			out = append(out, fault{"a directive is missing between the commas", right})
		case seen[name]:
			out = append(out, fault{name + " stands twice", right})
		case slices.Contains(cacheSeconds, name):
			bare := request.Unquote(n)
			kept = kept || strings.Trim(bare, "0") != ""
			if bare != n {
				out = append(out, fault{name + " stands with quotes, which not all browsers read", name + "=" + bare})
			}
			out = append(out, checkSeconds(name, bare, name+"=604800")...)
		case slices.Contains(cacheFlags, name):
			if has && name != "no-cache" && name != "private" {
				out = append(out, fault{name + " takes no value", name})
			}
		default:
			out = append(out, fault{fmt.Sprintf("%q is not a directive that caches know", name), strings.Join(cacheFlags, ", ") + ", max-age=SECONDS"})
		}
		seen[name] = true
		if end == len(rest) {
			break
		}
		rest = rest[end+1:]
	}
	switch {
	case seen["public"] && seen["private"]:
		out = append(out, fault{"public and private contradict each other", "one of them"})
	case seen["private"] && seen["s-maxage"]:
		out = append(out, fault{"s-maxage speaks to shared caches, which private forbids to keep the answer", "private, max-age=3600"})
	case seen["no-store"] && !seen["must-understand"] && (kept || seen["public"] || seen["immutable"]): // with must-understand the rest is for those who do (RFC 9111, 5.2.2.3)
		out = append(out, fault{"no-store forbids what the rest allows", "no-store, alone"})
	}
	return out
}

// checkLink: RFC 8288, 3; what is announced says what it is for (HTML, "preload").
func checkLink(value string) []fault {
	right := "</styles/site.css>; rel=preload; as=style"
	for _, item := range splitOutside(value, ',') {
		item = strings.TrimSpace(item)
		end := strings.IndexByte(item, '>')
		if !strings.HasPrefix(item, "<") || end < 0 || strings.ContainsAny(item[1:end], "< \t") {
			return faultf(right, "%q is not a link: the address stands in <…>, its parameters behind semicolons", item)
		}
		if _, err := url.Parse(item[1:end]); err != nil {
			return faultf(right, "%q is not an address", item[1:end])
		}
		parameters, ok := parametersOf(item[end+1:])
		rel, hasRel := parameters["rel"]
		switch {
		case !ok:
			return faultf(right, "%q is not a link: the address stands in <…>, its parameters behind semicolons", item)
		case !hasRel:
			return faultf(right, "rel is missing, so nobody knows what the link is for")
		case slices.Contains(strings.Fields(strings.ToLower(rel)), "preload") && parameters["as"] == "":
			return faultf(right, "as is missing, so browsers do not preload %s", item[1:end])
		}
	}
	return nil
}

// parametersOf reads `; name=value` one after the other (RFC 9110, 5.6.6); ok is false
// where something else stands there. Names are in lower case.
func parametersOf(s string) (all map[string]string, ok bool) {
	all = map[string]string{}
	for s = strings.TrimSpace(s); s != ""; {
		if s[0] != ';' {
			return all, false
		}
		s = s[1:]
		end := request.ListEnd(s, ';')
		name, value, has := strings.Cut(strings.TrimSpace(s[:end]), "=")
		name, value = strings.TrimSpace(name), strings.TrimSpace(value)
		s = s[end:]
		if name == "" && !has {
			continue // nothing between two semicolons
		}
		unquoted := request.Unquote(value)
		if !httpguts.ValidHeaderFieldName(name) || unquoted == value && strings.ContainsAny(value, " \t\"<>") || has && value == "" {
			return all, false
		}
		if name = strings.ToLower(name); all[name] == "" {
			all[name] = unquoted
		}
	}
	return all, true
}

// splitOutside splits at a byte that stands outside quotes and brackets.
func splitOutside(s string, sep byte) []string {
	var out []string
	start, quoted, depth := 0, false, 0
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '<' || c == '(':
			depth++
		case c == '>' || c == ')':
			depth--
		case c == sep && depth == 0:
			out = append(out, s[start:i])
			start = i + 1
		}
	}
	return append(out, s[start:])
}

// checkReferrerPolicy: W3C Referrer Policy, 4.1; the last known word counts.
func checkReferrerPolicy(value string) []fault {
	var out []fault
	for _, w := range strings.Split(value, ",") {
		if w = strings.TrimSpace(w); !slices.Contains(browser.ReferrerPolicies, strings.ToLower(w)) {
			out = append(out, fault{fmt.Sprintf("%q is not a policy", w), strings.Join(browser.ReferrerPolicies, ", ")})
		}
	}
	return out
}

// checkContentType: what browsers take for a media type (WHATWG MIME Sniffing, "parse a
// MIME type"), and no other.
func checkContentType(value string) []fault {
	right := "text/html; charset=utf-8"
	essence, rest, _ := strings.Cut(value, ";")
	major, minor, slash := strings.Cut(strings.TrimSpace(essence), "/")
	switch {
	case !slash || !httpguts.ValidHeaderFieldName(major) || !httpguts.ValidHeaderFieldName(minor):
		return faultf(right, "%q is not a media type, so browsers guess", strings.TrimSpace(essence))
	case strings.TrimSpace(rest) == "":
		return nil
	}
	parameters, ok := parametersOf(";" + rest)
	for name := range parameters {
		if !strings.Contains(strings.ToLower(rest), name+"=") {
			return faultf(right, "%q behind the media type says nothing: write   charset=%s", name, name)
		}
	}
	if !ok {
		return faultf(right, "%q is not a parameter of a media type: it is a name, = and a value", strings.TrimSpace(rest))
	}
	return nil
}

// checkAllowOrigin: a star, null, or one origin, byte for byte (Fetch, "CORS check").
func checkAllowOrigin(value string) []fault {
	right := "https://maps.saltmarsh-ferries.example"
	if value == "*" || value == "null" {
		return nil
	}
	u, err := url.Parse(value)
	switch {
	case strings.ContainsAny(value, ", "):
		return faultf(right, "only one origin may stand here: with several, browsers let none in")
	case err != nil || u.Scheme == "" || u.Host == "":
		return faultf(right, "%q is not an origin: it is a scheme and a host, or * for all", value)
	case strings.Contains(u.Host, "*"):
		return faultf(right, "an origin holds no *: browsers compare it as it stands, and let none in")
	case u.Scheme+"://"+u.Host != value:
		return faultf(u.Scheme+"://"+u.Host, "an origin ends with its host: browsers compare it as it stands, and let none in")
	case strings.ToLower(value) != value:
		return faultf(strings.ToLower(value), "browsers write origins in small letters, and compare them as they stand")
	}
	return nil
}

// checkMaxAge: a number of seconds (Fetch, "Access-Control-Max-Age").
func checkMaxAge(value string) []fault {
	if _, ok := browser.Seconds(strings.TrimSpace(value)); !ok {
		return faultf("600", "%q is not a number of seconds", value)
	}
	return nil
}

const rightDate = "Sun, 01 Mar 2026 08:00:00 GMT"

// checkDate: RFC 9110, 5.6.7.
func checkDate(value string) []fault {
	if _, ok := request.Date(value); !ok {
		return faultf(rightDate, "%q is not a date of HTTP, so it is passed over", value)
	}
	return nil
}

// checkExpires: RFC 9111, 5.3, where 0 is written for what is past. That all else which is not
// a date counts as past, too, not all browsers know.
func checkExpires(value string) []fault {
	if value == "0" {
		return nil
	}
	if _, ok := request.Date(value); !ok {
		right := rightDate
		if value == "-1" {
			right = "0"
		}
		return faultf(right, "%q is not a date of HTTP: some browsers take it for past, and others for nothing", value)
	}
	return nil
}

// checkRetryAfter: RFC 9110, 10.2.3.
func checkRetryAfter(value string) []fault {
	_, date := request.Date(value)
	if _, seconds := browser.Seconds(value); !date && !seconds {
		return faultf("3600", "%q is neither a number of seconds nor a date of HTTP", value)
	}
	return nil
}

// cookieAttributes are those that browsers know (RFC 6265bis, 5.6), and whether they have
// a value.
var cookieAttributes = map[string]bool{"expires": true, "max-age": true, "domain": true, "path": true, "samesite": true, "priority": true, "secure": false, "httponly": false, "partitioned": false}

// checkSetCookie: RFC 6265bis, 4.1 and 5.6.
func checkSetCookie(value string) []fault {
	right := "name=value; Path=/; Secure; HttpOnly; SameSite=Lax"
	parts := strings.Split(value, ";")
	name, _, has := strings.Cut(strings.TrimSpace(parts[0]), "=")
	if !has || name == "" {
		return faultf(right, "%q is not a cookie: it is a name, = and a value", strings.TrimSpace(parts[0]))
	}
	var out []fault
	attribute := map[string]string{}
	for _, part := range parts[1:] {
		key, v, valued := strings.Cut(strings.TrimSpace(part), "=")
		key, v = strings.ToLower(strings.TrimSpace(key)), strings.TrimSpace(v)
		if key == "" {
			continue
		}
		needsValue, known := cookieAttributes[key]
		switch {
		case !known:
			out = append(out, faultf(right, "%q is not an attribute that browsers know", strings.TrimSpace(part))...)
		case needsValue && v == "":
			out = append(out, faultf(right, "%s needs a value", key)...)
		case !needsValue && valued:
			out = append(out, faultf(right, "%s takes no value", key)...)
		case key == "expires":
			if _, ok := request.Date(v); !ok {
				out = append(out, faultf("Expires="+rightDate, "%q is not a date of HTTP", v)...)
			}
		case key == "max-age":
			if _, ok := browser.Seconds(strings.TrimPrefix(v, "-")); !ok {
				out = append(out, faultf("Max-Age=3600", "%q is not a number of seconds", v)...)
			}
		case key == "samesite":
			if !slices.ContainsFunc([]string{"Strict", "Lax", "None"}, func(w string) bool { return strings.EqualFold(w, v) }) {
				out = append(out, faultf("SameSite=Strict, Lax or None", "SameSite=%s is not one that browsers know", v)...)
			}
		}
		attribute[key] = v
	}
	_, secure := attribute["secure"]
	_, domain := attribute["domain"]
	_, partitioned := attribute["partitioned"]
	switch {
	case secure:
	case strings.EqualFold(attribute["samesite"], "none"):
		out = append(out, fault{"SameSite=None without Secure is refused by browsers", right})
	case partitioned:
		out = append(out, fault{"Partitioned without Secure is refused by browsers", right})
	case strings.HasPrefix(strings.ToLower(name), "__secure-"), strings.HasPrefix(strings.ToLower(name), "__host-"):
		out = append(out, fault{name + " without Secure is refused by browsers", right})
	}
	if strings.HasPrefix(strings.ToLower(name), "__host-") && (domain || attribute["path"] != "/") {
		out = append(out, fault{name + " needs Path=/ and no Domain, else browsers refuse it", name + "=value; Path=/; Secure"})
	}
	return out
}
