package proof

// Values of the fields that say what a page may do: Content-Security-Policy and
// Permissions-Policy.

import (
	"encoding/base64"
	"regexp"
	"slices"
	"strings"
)

// permission is one member of the field, which is a structured dictionary (RFC 9651, 3.2):
// a feature, where it is allowed, and perhaps parameters.
var permission = regexp.MustCompile(`^[a-z][a-z0-9_.*-]*=(\*|\(\s*((self|src|\*|"[^"]*")(\s+(self|src|\*|"[^"]*"))*)?\s*\)|self|src|"[^"]*")(\s*;\s*[a-z*][a-z0-9_.*-]*(=("[^"]*"|[A-Za-z*][^\s";,]*|-?[0-9.]+|\?[01]))?)*$`)

// checkPermissions: W3C Permissions Policy, 5.2.
func checkPermissions(value string) []fault {
	right := `camera=(), geolocation=(self "https://maps.saltmarsh-ferries.example")`
	for _, item := range splitOutside(value, ',') {
		item = strings.TrimSpace(item)
		switch {
		case permission.MatchString(item):
		case strings.Contains(item, "'"), strings.Contains(item, ";"):
			return faultf(right, "%q is not of the form FEATURE=(ORIGIN …): features are separated by commas, and origins stand in double quotes", item)
		default:
			return faultf(right, "%q is not of the form FEATURE=(ORIGIN …)", item)
		}
	}
	return nil
}

// A directiveForm is what a directive of a policy takes.
type directiveForm uint8

const (
	takesSources directiveForm = iota
	takesAncestors
	takesSandbox
	takesNothing
	takesWords // that are not looked at
	takesWebRTC
)

// directives are those of Content Security Policy (W3C, level 3, 6) and what adds to it.
var directives = map[string]directiveForm{
	"default-src": takesSources, "script-src": takesSources, "script-src-elem": takesSources, "script-src-attr": takesSources, "style-src": takesSources, "style-src-elem": takesSources, "style-src-attr": takesSources,
	"img-src": takesSources, "font-src": takesSources, "connect-src": takesSources, "media-src": takesSources, "object-src": takesSources, "frame-src": takesSources, "child-src": takesSources, "worker-src": takesSources,
	"manifest-src": takesSources, "prefetch-src": takesSources, "fenced-frame-src": takesSources, "base-uri": takesSources, "form-action": takesSources, "frame-ancestors": takesAncestors,
	"sandbox": takesSandbox, "report-uri": takesWords, "report-to": takesWords, "upgrade-insecure-requests": takesNothing, "block-all-mixed-content": takesNothing,
	"require-trusted-types-for": takesWords, "trusted-types": takesWords, "webrtc": takesWebRTC, "plugin-types": takesWords, "require-sri-for": takesWords,
}

// sandboxWords are the tokens of a sandbox (HTML, "parse a sandboxing directive").
var sandboxWords = []string{"allow-downloads", "allow-forms", "allow-modals", "allow-orientation-lock", "allow-pointer-lock", "allow-popups", "allow-popups-to-escape-sandbox", "allow-presentation", "allow-same-origin", "allow-scripts", "allow-storage-access-by-user-activation", "allow-top-navigation", "allow-top-navigation-by-user-activation", "allow-top-navigation-to-custom-protocols"}

// policyWords are those that stand in single quotes.
var policyWords = []string{"none", "self", "unsafe-inline", "unsafe-eval", "wasm-unsafe-eval", "unsafe-hashes", "strict-dynamic", "report-sample", "inline-speculation-rules", "unsafe-allow-redirects", "trusted-types-eval", "unsafe-webtransport-hashes", "report-sha256", "report-sha384", "report-sha512"}

// checkPolicy: W3C Content Security Policy, 2.2 and 2.3.
func checkPolicy(value string) []fault {
	right := "default-src 'self'; img-src 'self' https://tiles.saltmarsh-ferries.example"
	seen := map[string]bool{}
	var out []fault
	add := func(right, format string, args ...any) { out = append(out, faultf(right, format, args...)...) }
	for _, d := range strings.Split(value, ";") {
		words := strings.Fields(d)
		if len(words) == 0 {
			continue
		}
		name := strings.ToLower(words[0])
		form, known := directives[name]
		switch {
		case !known:
			add(right, "%q is not a directive", words[0])
			continue
		case seen[name]:
			add(right, "%s stands twice: browsers read the first alone", name)
		}
		seen[name] = true
		for i, w := range words[1:] {
			if _, next := directives[strings.ToLower(w)]; next && form != takesWords {
				before := strings.Join(words[:i+1], " ")
				add(before+"; "+strings.Join(words[i+1:], " "), "%s stands among what belongs to %s: a semicolon is missing before it", w, name)
				break
			}
			switch form {
			case takesSources, takesAncestors:
				out = append(out, checkSource(name, w, len(words) == 2, right)...)
			case takesSandbox:
				if !slices.Contains(sandboxWords, strings.ToLower(w)) {
					add(strings.Join(sandboxWords, ", "), "%s is not a word of a sandbox", w)
				}
			case takesNothing:
				add(name, "%s takes no value", name)
			case takesWebRTC:
				if w != "'allow'" && w != "'block'" {
					add("webrtc 'block'", "%s is neither 'allow' nor 'block'", w)
				}
			}
		}
	}
	return out
}

var (
	hash   = regexp.MustCompile(`^'(?i:sha(256|384|512))-([A-Za-z0-9+/_-]+={0,2})'$`)
	nonce  = regexp.MustCompile(`^'(?i:nonce)-[A-Za-z0-9+/_-]+={0,2}'$`)
	scheme = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9+.-]*:$`)
	host   = regexp.MustCompile(`^([A-Za-z][A-Za-z0-9+.-]*://)?(\*|(\*\.)?[A-Za-z0-9_-]+(\.[A-Za-z0-9_-]+)*\.?|\[[0-9A-Fa-f:.]+\])(:([0-9]+|\*))?(/[^\s;,]*)?$`)
)

// checkSource looks at one source of a directive.
func checkSource(directive, w string, only bool, right string) []fault {
	bare := strings.ToLower(strings.Trim(w, `'"‘’“”`))
	quoted := strings.HasPrefix(w, "'") && strings.HasSuffix(w, "'") && len(w) > 1
	isKeyword := slices.Contains(policyWords, bare)
	switch {
	case strings.Contains(w, ","):
		return faultf(right, "sources are separated by spaces, not by commas")
	case quoted && bare == "none" && !only:
		return faultf(directive+" 'none'", "'none' stands alone in its directive")
	case quoted && isKeyword, nonce.MatchString(w):
		return nil
	case isKeyword, nonce.MatchString("'" + bare + "'"), hash.MatchString("'" + strings.Trim(w, `"`) + "'"):
		return faultf("'"+strings.Trim(w, `'"‘’“”`)+"'", "%s without single quotes is taken for a host", w)
	case quoted:
		m := hash.FindStringSubmatch(w)
		if m == nil {
			return faultf(right, "%s is not a keyword", w)
		}
		text := strings.NewReplacer("-", "+", "_", "/").Replace(strings.TrimRight(m[2], "="))
		digest, err := base64.RawStdEncoding.DecodeString(text)
		if want := map[string]int{"256": 32, "384": 48, "512": 64}[m[1]]; err != nil || len(digest) != want {
			return faultf("'sha"+m[1]+"-…'", "%s is not a whole hash: sha%s has %d bytes", w, m[1], want)
		}
		return nil
	case scheme.MatchString(w), host.MatchString(w):
		if name, _, ok := strings.Cut(w, "//"); ok && (strings.EqualFold(name, "https") || strings.EqualFold(name, "http")) {
			return faultf(strings.Replace(w, "//", "://", 1), "%s lacks its colon", w)
		}
		return nil
	}
	if name, _, ok := strings.Cut(w, "//"); ok && !strings.HasSuffix(name, ":") {
		return faultf(strings.Replace(w, "//", "://", 1), "%s lacks its colon", w)
	}
	return faultf(right, "%s is neither a host, nor a scheme with its colon, nor a keyword in single quotes", w)
}
