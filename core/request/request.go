// Package request holds what a visitor asks for: an address, a method, header
// fields, and what an answer to it is expected to be.
package request

import (
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/nlnwa/whatwg-url/url"
	"golang.org/x/net/publicsuffix"
)

// An Address is an http or https URL. Its path and query are as they were
// asked for; the engine makes the path canonical.
type Address struct {
	Scheme   string // http or https
	Host     string // lower case, IDNs in ASCII, no port, no final dot; IPv6 in brackets
	Port     int    // the scheme's own where the URL has none
	Path     string // begins with a slash, but for what no browser sends
	Query    string // without its ?
	HasQuery bool   // there is a ?, perhaps with nothing behind it
	Fragment string // with its #; empty where there is none
}

// A Header is one header field line.
type Header struct{ Name, Value string }

// A Request is what one client sends.
type Request struct {
	Method  string // empty is GET
	Address Address
	Headers []Header
	Client  netip.Addr // the zero Addr where it is not known
	Time    time.Time  // zero where it is not said
	Body    int64      // size in bytes
}

// AddMissing adds those of some header fields that the request does not have.
func (r *Request) AddMissing(fields []Header) {
	for _, h := range fields {
		if _, ok := r.Get(h.Name); !ok {
			r.Headers = append(r.Headers, h)
		}
	}
}

// Get gives the value of a header field, repeated ones joined by a comma, or, of
// cookies, by a semicolon (RFC 9113, 8.2.3), and whether there is any. The name's case
// does not count.
func (r *Request) Get(name string) (string, bool) {
	value, found := "", false
	for _, h := range r.Headers {
		if !strings.EqualFold(h.Name, name) {
			continue
		}
		if found {
			if strings.EqualFold(name, "Cookie") {
				value += "; " + h.Value
			} else {
				value += ", " + h.Value
			}
		} else {
			value, found = h.Value, true
		}
	}
	return value, found
}

// Verb is the request's method, GET where none is named.
func (r *Request) Verb() string {
	if r.Method == "" {
		return "GET"
	}
	return r.Method
}

// DefaultPort is the port of a scheme.
func DefaultPort(scheme string) int {
	if scheme == "https" {
		return 443
	}
	return 80
}

// Origin is the address up to its path: scheme, host, and the port where it is
// not the scheme's own (RFC 6454).
func (a Address) Origin() string { return a.Scheme + "://" + a.Host + a.port() }

// port is the port as it is written; "" for the scheme's own.
func (a *Address) port() string {
	if a.Port == DefaultPort(a.Scheme) {
		return ""
	}
	return ":" + strconv.Itoa(a.Port)
}

// IsIP reports whether a host is the address of a machine, and no name.
func IsIP(host string) bool {
	_, err := netip.ParseAddr(strings.Trim(host, "[]"))
	return err == nil
}

// Registrable is the part of the host that one owner has registered; the host itself where
// there is none (WHATWG URL, registrable domain).
func (a Address) Registrable() string {
	if !IsIP(a.Host) {
		if domain, err := publicsuffix.EffectiveTLDPlusOne(a.Host); err == nil {
			return domain
		}
	}
	return a.Host
}

// Target is the path and query, as they stand in a request line.
func (a Address) Target() string {
	if a.HasQuery {
		return a.Path + "?" + a.Query
	}
	return a.Path
}

// SetScheme gives the address another scheme, and its port with it, where that was the
// default.
func (a *Address) SetScheme(scheme string) {
	if a.Port == DefaultPort(a.Scheme) {
		a.Port = DefaultPort(scheme)
	}
	a.Scheme = scheme
}

// Sent is the length of the target as a browser sends it: what may not stand in a path
// or a query goes over the wire as %XX (WHATWG URL, path and query percent-encode sets).
func (a Address) Sent() int {
	n := len(a.Target())
	for i := range len(a.Path) {
		if strayInPath(a.Path[i]) {
			n += 2
		}
	}
	for i := range len(a.Query) {
		if strayInQuery(a.Query[i]) {
			n += 2
		}
	}
	return n
}

func strayInPath(c byte) bool {
	return c <= ' ' || c >= 0x7f || strings.IndexByte("\"#<>?^`{}", c) >= 0
}

func strayInQuery(c byte) bool { return c <= ' ' || c >= 0x7f || strings.IndexByte(`"#<>'`, c) >= 0 }

func (a Address) String() string {
	if a.Path == "*" { // the server itself (RFC 9112, 3.3)
		return a.Origin()
	}
	mark, query := "", ""
	if a.HasQuery {
		mark, query = "?", a.Query
	}
	return a.Scheme + "://" + a.Host + a.port() + a.Path + mark + query + a.Fragment // at once: many are written
}

// Printable is the address with each byte written %XX that nobody can read or copy: no
// part of a character, or of one that is not printed. It asks for the same.
func (a Address) Printable() string {
	a.Path, a.Fragment = printable(a.Path), printable(a.Fragment)
	return a.String()
}

func printable(s string) string {
	if strings.IndexFunc(s, func(r rune) bool { return r <= ' ' || r > '~' }) < 0 {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		if r > ' ' && unicode.IsPrint(r) && (r != utf8.RuneError || n > 1) {
			b.WriteString(s[i : i+n])
		} else {
			for _, c := range []byte(s[i : i+n]) {
				fmt.Fprintf(&b, "%%%02X", c)
			}
		}
		i += n
	}
	return b.String()
}

var noBreaks = strings.NewReplacer("\t", "", "\n", "", "\r", "")

// Parse reads an address as it is typed or listed: a full http or https URL,
// or a path that is asked of base. It is lenient where browsers are (WHATWG
// URL), but leaves dot segments and percent-encoding as they are, since not
// every client is a browser. `*` is the server itself (RFC 9112, 3.2.4).
func Parse(s string, base Address) (Address, error) {
	s = strings.TrimFunc(s, func(r rune) bool { return r <= ' ' })
	if strings.ContainsAny(s, "\t\n\r") {
		s = noBreaks.Replace(s)
	}
	if s == "" {
		return Address{}, errors.New("the address is empty: write a path like /fares/ or a full URL")
	}
	a := base
	rest := s
	scheme, after, hasScheme := strings.Cut(s, ":")
	switch {
	case s == "*", s[0] == '/' && !strings.HasPrefix(s, "//"):
	case hasScheme && (strings.EqualFold(scheme, "http") || strings.EqualFold(scheme, "https")):
		a = Address{Scheme: strings.ToLower(scheme)}
		rest = strings.TrimLeft(after, `/\`)
		end := strings.IndexAny(rest, `/\?#`)
		if end < 0 {
			end = len(rest)
		}
		if err := a.setAuthority(rest[:end]); err != nil {
			return Address{}, err
		}
		rest = rest[end:]
	case strings.HasPrefix(s, "//"):
		return Address{}, errors.New("an address begins with a scheme or with one slash: write https:" + s + " or /" + strings.TrimLeft(s, "/"))
	case hasScheme && !strings.ContainsAny(scheme, "/.?#"):
		return Address{}, fmt.Errorf("%s: addresses are not of this site's kind: write one that begins with http, https or a slash", scheme)
	default:
		return Address{}, fmt.Errorf("an address begins with a slash or with https://: write /%s", s)
	}
	a.Fragment = ""
	if i := strings.IndexByte(rest, '#'); i >= 0 {
		rest, a.Fragment = rest[:i], rest[i:]
	}
	a.Path, a.Query, a.HasQuery = strings.Cut(rest, "?")
	a.Query = encodeQuery(a.Query)
	a.Path = strings.ReplaceAll(a.Path, `\`, "/")
	if a.Path == "" {
		a.Path = "/"
	}
	return a, nil
}

// setAuthority reads a host with its port; a name and password are passed over.
func (a *Address) setAuthority(authority string) error {
	if isPlainName(authority) {
		a.Host, a.Port = authority, DefaultPort(a.Scheme)
		return nil
	}
	u, err := url.Parse(a.Scheme + "://" + authority + "/")
	if err != nil || u.Hostname() == "" {
		return fmt.Errorf("%q is not a host", authority)
	}
	if a.Host = strings.TrimSuffix(u.Hostname(), "."); a.Host == "" {
		return fmt.Errorf("%q is not a host", authority)
	}
	a.Port = DefaultPort(a.Scheme)
	if port := u.Port(); port != "" {
		a.Port, _ = strconv.Atoi(port)
	}
	return nil
}

// Authority gives a host with its port, if there is one, as it stands in a URL of a
// scheme: in ASCII, in lower case, without the scheme's own port (WHATWG URL). With
// no scheme the port stays. It fails where no browser takes the host.
func Authority(scheme, s string) (string, error) {
	if strings.ContainsAny(s, `@/\?#`) {
		return "", fmt.Errorf("%q is not a host", s)
	}
	switch scheme {
	case "http", "https":
		a := Address{Scheme: scheme}
		if err := a.setAuthority(s); err != nil {
			return "", err
		}
		return strings.TrimPrefix(a.Origin(), scheme+"://"), nil
	case "":
		a := Address{Scheme: "https"}
		if err := a.setAuthority(s); err != nil {
			return "", err
		}
		if i := strings.LastIndexByte(s, ':'); i > strings.LastIndexByte(s, ']') && s[i+1:] != "" {
			return a.Host + ":" + strconv.Itoa(a.Port), nil
		}
		return a.Host, nil
	}
	u, err := url.Parse(scheme + "://" + s + "/")
	if err != nil || u.Host() == "" {
		return "", fmt.Errorf("%q is not a host", s)
	}
	return u.Host(), nil
}

// IsMethod reports whether a word is written as methods are: in capitals (RFC 9110, 9.1).
func IsMethod(s string) bool {
	return s != "" && strings.Trim(s, "ABCDEFGHIJKLMNOPQRSTUVWXYZ-") == ""
}

// SetHost gives the address another host and port, as a Host header field
// names them.
func (a *Address) SetHost(host string) error { return a.setAuthority(host) }

// encodeQuery encodes what browsers encode in a query (WHATWG URL, special-query
// percent-encode set).
func encodeQuery(q string) string {
	clean := true
	for i := 0; i < len(q) && clean; i++ {
		clean = !strayInQuery(q[i])
	}
	if clean {
		return q
	}
	var b strings.Builder
	for i := 0; i < len(q); i++ {
		if strayInQuery(q[i]) {
			fmt.Fprintf(&b, "%%%02X", q[i])
		} else {
			b.WriteByte(q[i])
		}
	}
	return b.String()
}

// ErrForeign is the error of Resolve for a Location that is neither http nor
// https.
var ErrForeign = errors.New("the address is neither http nor https")

// Resolve gives the address that a Location leads to from here, by the WHATWG
// URL standard. A Location without a fragment inherits the one of a (RFC 9110,
// 10.2.2).
func (a Address) Resolve(location string) (Address, error) {
	if next, ok := a.resolvePath(location); ok {
		return next, nil
	}
	if next, ok := a.resolvePlain(location); ok {
		return next, nil
	}
	return a.resolveAny(location)
}

// resolveAny is Resolve for whatever a Location may be. The parser takes long for a path of
// many segments.
func (a Address) resolveAny(location string) (Address, error) {
	u, err := url.ParseRef(a.String(), location)
	if err != nil {
		return Address{}, fmt.Errorf("%q is not a valid URL", location)
	}
	scheme := u.Scheme()
	if scheme != "http" && scheme != "https" {
		return Address{}, ErrForeign
	}
	// Browsers write ^ and | in a path encoded (the first by the standard of today).
	path := strings.NewReplacer("^", "%5E", "|", "%7C").Replace(u.Pathname())
	next := Address{Scheme: scheme, Host: strings.TrimSuffix(u.Hostname(), "."), Port: DefaultPort(scheme), Path: path}
	if next.Host == "" {
		return Address{}, fmt.Errorf("%q names no host", location)
	}
	if port := u.Port(); port != "" {
		next.Port, _ = strconv.Atoi(port)
	}
	next.Query = strings.TrimPrefix(u.Search(), "?")
	beforeFragment, _, hasFragment := strings.Cut(location, "#")
	inherits := strings.Trim(beforeFragment, " \t\n\r\f\v") == "" // the whole address but for the fragment
	next.HasQuery = next.Query != "" || strings.Contains(beforeFragment, "?") || inherits && a.HasQuery
	switch next.Fragment = u.Hash(); {
	case !hasFragment:
		next.Fragment = a.Fragment
	case next.Fragment == "":
		next.Fragment = "#"
	}
	return next, nil
}

// resolvePath resolves what nearly every Location is: a path, with no fragment.
func (a Address) resolvePath(location string) (Address, bool) {
	if len(location) == 0 || location[0] != '/' || len(location) > 1 && (location[1] == '/' || location[1] == '\\') {
		return a, false
	}
	plain := true
	for i := 0; i < len(location); i++ {
		c := location[i]
		if c <= ' ' || c >= 0x7f || strings.IndexByte("\\\"#<>'`{}^|", c) >= 0 || c == '.' && location[i-1] == '/' || c == '%' && i+2 < len(location) && location[i+1] == '2' && location[i+2]|32 == 'e' {
			plain = false
			break
		}
	}
	if plain {
		a.Path, a.Query, a.HasQuery = strings.Cut(location, "?")
		return a, true
	}
	if strings.ContainsAny(location, "#\t\n\r") || location[len(location)-1] <= ' ' || !utf8.ValidString(location) {
		return a, false
	}
	path, query, has := strings.Cut(location, "?")
	a.Path, a.Query, a.HasQuery = cleanPath(path), encodeQuery(query), has
	return a, true
}

// cleanPath resolves the dot segments of a path that begins with a slash, and encodes what
// browsers encode in it (WHATWG URL, path state and path percent-encode set).
func cleanPath(path string) string {
	var segments []string
	rest, more := path[1:], true
	for more {
		var segment string
		if i := strings.IndexAny(rest, "/\\"); i >= 0 {
			segment, rest = rest[:i], rest[i+1:]
		} else {
			segment, more = rest, false
		}
		switch strings.ReplaceAll(strings.ToLower(segment), "%2e", ".") {
		case ".":
			segment = ""
		case "..":
			segment, segments = "", segments[:max(0, len(segments)-1)]
		default:
			segments = append(segments, segment)
			continue
		}
		if !more {
			segments = append(segments, segment)
		}
	}
	var b strings.Builder
	for _, segment := range segments {
		b.WriteByte('/')
		for i := 0; i < len(segment); i++ {
			if c := segment[i]; c <= ' ' || c >= 0x7f || strings.IndexByte("\"<>^`{}|", c) >= 0 {
				fmt.Fprintf(&b, "%%%02X", c)
			} else {
				b.WriteByte(c)
			}
		}
	}
	return b.String()
}

// resolvePlain resolves a full URL with a plain name for a host and a plain path:
// what is read at once needs no parser, which can take long for a long path.
func (a Address) resolvePlain(location string) (Address, bool) {
	scheme, rest, ok := strings.Cut(location, "://")
	if !ok || scheme != "http" && scheme != "https" {
		return a, false
	}
	end := strings.IndexByte(rest, '/')
	if end < 0 {
		return a, false
	}
	host, port, hasPort := strings.Cut(rest[:end], ":")
	a.Scheme, a.Host, a.Port = scheme, host, DefaultPort(scheme)
	if hasPort {
		n, err := strconv.ParseUint(port, 10, 16)
		if err != nil {
			return a, false
		}
		a.Port = int(n)
	}
	if !isPlainName(host) {
		return a, false
	}
	return a.resolvePath(rest[end:])
}

// isPlainName reports whether a host is a name that stands in an Address as it is, as
// nearly all do.
func isPlainName(host string) bool {
	last := byte('.')
	for i := range len(host) {
		c := host[i]
		switch {
		case 'a' <= c && c <= 'z', '0' <= c && c <= '9', c == '-':
		case c != '.' || last == '.':
			return false
		}
		last = c
	}
	label := host[strings.LastIndexByte(host, '.')+1:] // of digits, it would be an IPv4 address
	return label != "" && label[0] >= 'a' && len(host) <= 253 && !strings.Contains(host, "xn--")
}
