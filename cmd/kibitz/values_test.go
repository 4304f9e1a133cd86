package main

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
)

// What administrators write into header entries: check says what browsers and
// caches would pass over, and nothing about the rest.
func TestHeaderValues(t *testing.T) {
	rows := []struct{ name, value, says string }{
		// RFC 6797: the field is passed over as a whole if it is not well formed.
		{"Strict-Transport-Security", "max-age=31536000", ""},
		{"Strict-Transport-Security", "max-age=31536000; includeSubDomains", ""},
		{"Strict-Transport-Security", "max-age=31536000; includeSubDomains; preload", ""},
		{"strict-transport-security", "MAX-AGE=0", ""},
		{"Strict-Transport-Security", `max-age="86400"`, ""},
		{"Strict-Transport-Security", "max-age=31536000;", ""},
		{"Strict-Transport-Security", "max-age=1y", "not a number of seconds"},
		{"Strict-Transport-Security", "max-age=31536000000", "max-age=31536000000 is 1000 years: it counts seconds, not milliseconds"},
		{"Strict-Transport-Security", "max-age=63072000", ""},
		{"Strict-Transport-Security", "max-age=365 days", "not a number of seconds"},
		{"Strict-Transport-Security", "max-age=-1", "not a number of seconds"},
		{"Strict-Transport-Security", "max-age", "not a number of seconds"},
		{"Strict-Transport-Security", "includeSubDomains", "max-age is missing"},
		{"Strict-Transport-Security", "max-age=300, includeSubDomains", "not a number of seconds"},
		{"Strict-Transport-Security", "max-age=300; includeSubdomain", `"includesubdomain" is not a directive`},
		{"Strict-Transport-Security", "max-age=300; max-age=400", "max-age stands twice"},
		{"Strict-Transport-Security", "max-age=300; preload=yes", "preload takes no value"},

		// RFC 9111, RFC 5861, RFC 8246
		{"Cache-Control", "no-cache", ""},
		{"Cache-Control", "no-store", ""},
		{"Cache-Control", "public, max-age=604800", ""},
		{"Cache-Control", "public,max-age=31536000,immutable", ""},
		{"Cache-Control", "private, no-cache", ""},
		{"Cache-Control", `private="set-cookie", max-age=60`, ""},
		{"Cache-Control", "max-age=600, stale-while-revalidate=30, stale-if-error=86400", ""},
		{"Cache-Control", "s-maxage=3600, proxy-revalidate, must-revalidate, no-transform", ""},
		{"Cache-Control", "No-Cache, Max-Age=0", ""},
		{"Cache-Control", "max-age=604800000000", "is 19178 years"},
		{"Cache-Control", "public, s-maxage=86400, stale-if-error=3153600000", "stale-if-error=3153600000 is 100 years"},
		{"Cache-Control", "max-age=315360000", ""},
		{"Cache-Control", "max-age=1w", "max-age=1w is not a number of seconds"},
		{"Cache-Control", "max-age=7 days", "max-age=7 days is not a number of seconds"},
		{"Cache-Control", "max-age: 600", "not a directive that caches know"},
		{"Cache-Control", "maxage=600", `"maxage" is not a directive`},
		{"Cache-Control", "nocache", `"nocache" is not a directive`},
		{"Cache-Control", "public; max-age=600", "separated by commas"},
		{"Cache-Control", "public max-age=600", "is not a directive"},
		{"Cache-Control", "public, private", "contradict each other"},
		{"Cache-Control", "no-store, max-age=600", "no-store forbids what the rest allows"},
		{"Cache-Control", "max-age=600, max-age=60", "max-age stands twice"},
		{"Cache-Control", "public,, max-age=60", "missing between the commas"},
		{"Cache-Control", "must-revalidate=1", "must-revalidate takes no value"},

		// W3C Referrer Policy: of several the last known one counts.
		{"Referrer-Policy", "no-referrer", ""},
		{"Referrer-Policy", "strict-origin-when-cross-origin", ""},
		{"Referrer-Policy", "no-referrer, strict-origin-when-cross-origin", ""},
		{"Referrer-Policy", "Same-Origin", ""},
		{"Referrer-Policy", "no-referer", `"no-referer" is not a policy`},
		{"Referrer-Policy", "none", `"none" is not a policy`},
		{"Referrer-Policy", "no-referrer; same-origin", "is not a policy"},

		// W3C Permissions Policy
		{"Permissions-Policy", "camera=()", ""},
		{"Permissions-Policy", "camera=(), microphone=(), geolocation=(self)", ""},
		{"Permissions-Policy", `geolocation=(self "https://maps.example")`, ""},
		{"Permissions-Policy", "fullscreen=*", ""},
		{"Permissions-Policy", "camera 'none'", "origins stand in double quotes"},
		{"Permissions-Policy", "camera=(); microphone=()", "separated by commas"},
		{"Permissions-Policy", "camera=none", "is not of the form"},
		{"Permissions-Policy", "geolocation=(self https://maps.example)", "is not of the form"},

		// W3C Content Security Policy
		{"Content-Security-Policy", "default-src 'self'", ""},
		{"Content-Security-Policy", "default-src 'none'; img-src 'self' data: https:; style-src 'self' 'unsafe-inline'", ""},
		{"Content-Security-Policy", "script-src 'nonce-b64ABC==' 'strict-dynamic'; object-src 'none'; base-uri 'none'", ""},
		{"Content-Security-Policy", "frame-ancestors 'self' https://*.partner.example; upgrade-insecure-requests", ""},
		{"Content-Security-Policy-Report-Only", "default-src 'self'; report-uri /reports", ""},
		{"Content-Security-Policy", "default-src self", "self without single quotes is taken for a host"},
		{"Content-Security-Policy", `default-src "self"`, "without single quotes"},
		{"Content-Security-Policy", "script-src unsafe-inline", "unsafe-inline without single quotes"},
		{"Content-Security-Policy", "default-scr 'self'", `"default-scr" is not a directive`},
		{"Content-Security-Policy", "default-src: 'self'", `"default-src:" is not a directive`},
		{"Content-Security-Policy", "default-src 'self', img-src *", "commas"},
		{"Content-Security-Policy", "img-src a.example, b.example", "not by commas"},
		{"Content-Security-Policy", "img-src 'self'; img-src *", "img-src stands twice"},
		{"Content-Security-Policy", "default-src 'selv'", "'selv' is not a keyword"},
		{"Content-Security-Policy", "object-src 'none' https://cdn.example", "'none' stands alone"},

		// RFC 8288
		{"Link", "</styles/site.css>; rel=preload; as=style", ""},
		{"Link", `<https://s.example/fares/>; rel="canonical"`, ""},
		{"Link", "</a.css>; rel=preload; as=style, </b.js>; rel=preload; as=script", ""},
		{"Link", "</fonts/a.woff2>; rel=preload; as=font; type=\"font/woff2\"; crossorigin", ""},
		{"Link", "/styles/site.css; rel=preload", "is not a link: the address stands in <…>"},
		{"Link", "</styles/site.css> rel=preload", "is not a link"},
		{"Link", "</styles/site.css>; as=style", "rel is missing"},
		{"Link", "</a.css>; rel=preload </b.css>; rel=preload", "is not a link"},

		// words
		{"X-Content-Type-Options", "nosniff", ""},
		{"X-Content-Type-Options", "NoSniff", ""},
		{"X-Content-Type-Options", "no-sniff", `"no-sniff" is not a value that browsers know`},
		{"X-Frame-Options", "DENY", ""},
		{"X-Frame-Options", "SAMEORIGIN", ""},
		{"X-Frame-Options", "SAME-ORIGIN", "is not a value that browsers know"},
		{"X-Frame-Options", "ALLOW-FROM https://partner.example", "is not a value that browsers know"},
		{"Cross-Origin-Opener-Policy", "same-origin", ""},
		{"Cross-Origin-Opener-Policy", `same-origin; report-to="coop"`, ""},
		{"Cross-Origin-Opener-Policy", "sameorigin", "is not a value that browsers know"},
		{"Cross-Origin-Embedder-Policy", "require-corp", ""},
		{"Cross-Origin-Embedder-Policy", "same-origin", "is not a value that browsers know"},
		{"Cross-Origin-Resource-Policy", "same-site", ""},
		{"Cross-Origin-Resource-Policy", "none", "is not a value that browsers know"},
		{"X-Harbour", "anything; at, all", ""}, // nobody knows its form

		// what is right in ways that look wrong
		{"Cache-Control", "no-store, max-age=0", ""},
		{"Cache-Control", "no-cache, no-store, must-revalidate, max-age=0", ""},
		{"Cache-Control", "must-understand, no-store, max-age=60", ""},
		{"Cache-Control", `private="set-cookie, x-harbour", no-cache="a;b"`, ""},
		{"Strict-Transport-Security", "max-age = 31536000 ; includeSubDomains", ""},
		{"Permissions-Policy", "camera=();report-to=group, geolocation=(self);x=\"y\", fullscreen=self", ""},
		{"Permissions-Policy", "interest-cohort=(), ch-ua=(*)", ""},
		{"Content-Security-Policy", "webrtc 'block'; sandbox allow-scripts allow-forms; script-src-elem 'self'", ""},
		{"Content-Security-Policy", "script-src 'sha256-47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU='; report-uri /a https://r.example/x", ""},
		{"Content-Security-Policy", "img-src * data: blob: http://*.a.example:* ws://b.example/path [2001:db8::1]; form-action https:", ""},
		{"Content-Security-Policy", "frame-ancestors 'none'; trusted-types default 'allow-duplicates'", ""},
		{"Content-Type", "text/html", ""},
		{"Content-Type", "text/html; charset=utf-8", ""},
		{"Content-Type", `multipart/x-mixed-replace; boundary="a b;c"`, ""},
		{"Content-Type", "application/vnd.harbour+json;version=1;", ""},
		{"Access-Control-Allow-Origin", "*", ""},
		{"Access-Control-Allow-Origin", "null", ""},
		{"Access-Control-Allow-Origin", "https://a.example:8443", ""},
		{"Access-Control-Allow-Credentials", "true", ""},
		{"Access-Control-Allow-Methods", "GET, PUT,DELETE", ""},
		{"Access-Control-Allow-Methods", "*", ""},
		{"Access-Control-Allow-Headers", "content-type, X-Harbour", ""},
		{"Access-Control-Expose-Headers", "*", ""},
		{"Access-Control-Max-Age", "86400", ""},
		{"Vary", "Accept-Encoding, Cookie", ""},
		{"Vary", "*", ""},
		{"Expires", "0", ""},
		{"Expires", "Sun, 01 Mar 2026 08:00:00 GMT", ""},
		{"Retry-After", "120", ""},
		{"Retry-After", "Sun, 01 Mar 2026 08:00:00 GMT", ""},
		{"Set-Cookie", "a=b; Path=/; Secure; HttpOnly; SameSite=None; Partitioned", ""},
		{"Set-Cookie", "__Host-a=b; Path=/; Secure", ""},
		{"Set-Cookie", "a=; Expires=Thu, 01 Jan 1970 00:00:00 GMT; Max-Age=-1", ""},
		{"Set-Cookie", "a=b", ""},
		{"Link", "</a.js>; rel=\"preload modulepreload\"; as=script", ""},
		{"Link", "<https://b.example>; rel=preconnect", ""},

		// and what is wrong
		{"Cache-Control", `private="set-cookie`, "a quote is opened and never closed"},
		{"Cache-Control", "private, s-maxage=60", "s-maxage speaks to shared caches"},
		{"Cache-Control", "no-store, immutable", "no-store forbids"},
		{"Cache-Control", "max-age=99999999999999999999999", "more years than anybody counts"},
		{"Content-Security-Policy", "default-src 'self' img-src *", "img-src stands among what belongs to default-src: a semicolon is missing"},
		{"Content-Security-Policy", "upgrade-insecure-requests default-src 'self'", "a semicolon is missing"},
		{"Content-Security-Policy", "frame-ancestors self", "self without single quotes"},
		{"Content-Security-Policy", "script-src-elem unsafe-inline", "unsafe-inline without single quotes"},
		{"Content-Security-Policy", "style-src-attr unsafe-inline", "unsafe-inline without single quotes"},
		{"Content-Security-Policy", "base-uri none", "none without single quotes"},
		{"Content-Security-Policy", "img-src https//a.example", "https//a.example lacks its colon"},
		{"Content-Security-Policy", "sandbox allow-script", "allow-script is not a word of a sandbox"},
		{"Content-Security-Policy", "script-src 'sha256-abc='", "is not a whole hash: sha256 has 32 bytes"},
		{"Content-Security-Policy", "script-src sha256-47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU=", "without single quotes"},
		{"Content-Security-Policy", "script-src nonce-abc", "without single quotes"},
		{"Content-Security-Policy", "img-src data", ""}, // a host may be called so
		{"Content-Security-Policy", "webrtc block", "is neither 'allow' nor 'block'"},
		{"Content-Security-Policy", "img-src ‘self’", "without single quotes"},
		{"Permissions-Policy", "Camera=()", "is not of the form"},
		{"Permissions-Policy", `geolocation=(self "https://maps.example)`, "a quote is opened and never closed"},
		{"Content-Type", "utf-8", "is not a media type"},
		{"Content-Type", "text/html charset=utf-8", "is not a media type"},
		{"Content-Type", "text/html; utf-8", "says nothing"},
		{"Content-Type", "text/html; charset", "says nothing"},
		{"Content-Type", "text/html, charset=utf-8", "is not a media type"},
		{"Content-Type", "text\\html", "is not a media type"},
		{"Access-Control-Allow-Origin", "https://a.example, https://b.example", "only one origin"},
		{"Access-Control-Allow-Origin", "https://a.example/", "ends with its host"},
		{"Access-Control-Allow-Origin", "https://*.a.example", "holds no *"},
		{"Access-Control-Allow-Origin", "a.example", "is not an origin"},
		{"Access-Control-Allow-Origin", "HTTPS://a.example", "browsers"},
		{"Access-Control-Allow-Origin", "https://A.example", "small letters"},
		{"Access-Control-Allow-Credentials", "True", "compared with case"},
		{"Access-Control-Allow-Credentials", "1", "is not a value that browsers know"},
		{"Access-Control-Allow-Methods", "get, PUT", "written in capitals"},
		{"Access-Control-Allow-Methods", "GET; PUT", "is not a name"},
		{"Access-Control-Allow-Methods", "GET PUT", "is not a name"},
		{"Access-Control-Allow-Headers", `"X-Harbour"`, "is not a name"},
		{"Access-Control-Max-Age", "1d", "is not a number of seconds"},
		{"Vary", "Accept-Encoding; Cookie", "is not a name"},
		{"Cache-Control", `max-age="600"`, "max-age stands with quotes, which not all browsers read"}, // RFC 9111, 5.2.2.1: it must not
		{"Expires", "-1", "some browsers take it for past, and others for nothing"},
		{"Expires", "2026-03-01", "is not a date of HTTP"},
		{"Expires", "Sun, 01 Mar 2026 08:00:00 CET", "is not a date of HTTP"},
		{"Last-Modified", "0", "is not a date of HTTP"},
		{"Retry-After", "2h", "neither a number of seconds nor a date"},
		{"Set-Cookie", "a=b; SameSite=None", "SameSite=None without Secure"},
		{"Set-Cookie", "a=b; SameSite=off", "is not one that browsers know"},
		{"Set-Cookie", "a=b; Same-Site=Lax", "is not an attribute that browsers know"},
		{"Set-Cookie", "a=b; Secure=1", "secure takes no value"},
		{"Set-Cookie", "a=b; Max-Age=1h", "is not a number of seconds"},
		{"Set-Cookie", "a=b; Expires=tomorrow", "is not a date of HTTP"},
		{"Set-Cookie", "__Host-a=b; Secure; Path=/x", "needs Path=/ and no Domain"},
		{"Set-Cookie", "__Secure-a=b", "without Secure"},
		{"Set-Cookie", "a", "is not a cookie"},
		{"X-Content-Type-Options", "nosniff; x", "nothing may stand behind nosniff"},
		{"X-Frame-Options", "DENY; x", "nothing may stand behind DENY"},
		{"Cross-Origin-Resource-Policy", "same-site; report-to=x", "nothing may stand behind same-site"},
		{"Cross-Origin-Opener-Policy", "Same-Origin", "compared with case"},
		{"Link", "</a.css>; rel=preload", "as is missing"},
		{"Link", `</a.css>; rel="next`, "a quote is opened and never closed"},
	}
	rules := harbour
	for i, r := range rows {
		rules += fmt.Sprintf("header h%d on /%d set %s \"%s\"\n", i, i, r.name, strings.ReplaceAll(r.value, `"`, `\"`))
	}
	dir := write(t, map[string]string{"site.kibitz": rules, "public/index.html": "home"})
	out, errs, status := kibitz(t, dir, "", "check", "-as", "json")
	var report struct {
		Findings []struct {
			Finding, Message, Advice string
			Entries                  []struct{ Name string }
		}
	}
	if err := json.Unmarshal([]byte(out), &report); err != nil || status > 1 {
		t.Fatal(status, err, errs)
	}
	said := map[string]string{}
	for _, f := range report.Findings {
		if f.Finding == "header-invalid" {
			said[f.Entries[0].Name] += f.Message
		}
		if f.Finding == "header-invalid" && f.Advice == "" {
			t.Errorf("%s: no advice", f.Message)
		}
	}
	for i, r := range rows {
		got := said[fmt.Sprint("h", i)]
		if (got != "") != (r.says != "") || !strings.Contains(got, r.says) {
			t.Errorf("%s: %s\n\tcheck says %q, want %q", r.name, r.value, got, r.says)
		}
	}
}
