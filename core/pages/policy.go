package pages

// What a page's own policy keeps it from loading, running and showing (W3C Content
// Security Policy Level 3).

import (
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"kibitz/core/request"
)

// A policy is what one Content-Security-Policy says: the sources of each directive.
type policy map[string][]string

// policiesOf reads a list of policies (CSP, 2.2.2): commas part them, and of directives with
// one name the first counts.
func policiesOf(text string) (out []policy) {
	for one := range strings.SplitSeq(text, ",") {
		p := policy{}
		for directive := range strings.SplitSeq(one, ";") {
			words := strings.Fields(directive)
			if len(words) == 0 {
				continue
			}
			if name := strings.ToLower(words[0]); p[name] == nil {
				p[name] = append([]string{}, words[1:]...)
			}
		}
		if len(p) > 0 {
			out = append(out, p)
		}
	}
	return out
}

// directives are those that decide about a use, the first that a policy has (CSP, 6.8.3).
func directives(use Use, attribute bool) []string {
	switch use {
	case Script, Module:
		if attribute {
			return []string{"script-src-attr", "script-src", "default-src"}
		}
		return []string{"script-src-elem", "script-src", "default-src"}
	case Style:
		if attribute {
			return []string{"style-src-attr", "style-src", "default-src"}
		}
		return []string{"style-src-elem", "style-src", "default-src"}
	case Image:
		return []string{"img-src", "default-src"}
	case Font:
		return []string{"font-src", "default-src"}
	case Media, Track:
		return []string{"media-src", "default-src"}
	case Object:
		return []string{"object-src", "default-src"}
	case Manifest:
		return []string{"manifest-src", "default-src"}
	case Frame:
		return []string{"frame-src", "child-src", "default-src"}
	case Fetch:
		return []string{"connect-src", "default-src"}
	case Form:
		return []string{"form-action"}
	}
	return nil
}

// of gives the directive that decides about a use, with its sources.
func (p policy) of(use Use, attribute bool) (name string, sources []string, ok bool) {
	for _, name := range directives(use, attribute) {
		if sources, ok := p[name]; ok {
			return name, sources, true
		}
	}
	return "", nil, false
}

// A Blocked is something that a policy keeps from being loaded, run or used.
type Blocked struct {
	Link      *Link   // what is not loaded; nil for what the page itself holds
	Inline    *Inline // that
	Field     string  // the header field that forbids it
	Meta      *Policy // or the page's own element
	Directive string  // of a Content-Security-Policy
	Sources   []string
	Add       string // the source with which it would be allowed; "" where there is none
	Why       string
}

// Blocked gives what the policies of a page keep from being shown, in the order of the
// file.
func (p *Page) Blocked() (out []Blocked) {
	type held struct {
		policy
		meta *Policy
	}
	var all []held
	for _, h := range p.Response.Headers {
		if strings.EqualFold(h.Name, "Content-Security-Policy") {
			for _, one := range policiesOf(h.Value) {
				all = append(all, held{one, nil})
			}
		}
	}
	for i := range p.File.Policies {
		for _, one := range policiesOf(p.File.Policies[i].Text) {
			for _, ignored := range []string{"sandbox", "frame-ancestors", "report-uri"} { // in a page (CSP, 3.3)
				delete(one, ignored)
			}
			all = append(all, held{one, &p.File.Policies[i]})
		}
	}
	const field = "Content-Security-Policy"
	for _, one := range all {
		behind := func(offset int) bool { return one.meta == nil || offset > one.meta.Offset }
		if sandbox, ok := one.policy["sandbox"]; ok && !slices.Contains(sandbox, "allow-scripts") && p.File.Scripted {
			out = append(out, Blocked{Field: field, Directive: "sandbox", Sources: sandbox, Add: "allow-scripts", Why: "none of its scripts runs"})
		}
		for i := range p.File.Inline {
			in := &p.File.Inline[i]
			if !behind(in.Offset) {
				continue
			}
			name, sources, ok := one.of(in.Use, in.Kind == "attribute")
			if ok && !allowsInline(sources, in) {
				out = append(out, Blocked{Inline: in, Field: field, Meta: one.meta, Directive: name, Sources: sources, Add: hashOf(in)})
			}
		}
		for _, l := range p.Links {
			if !behind(l.Offset) || l.Wrong || l.Header {
				continue
			}
			name, sources, ok := one.of(l.Use, false)
			if !ok || strings.HasPrefix(l.Text, "#") {
				continue
			}
			if to := one.forbids(p.Address, l, sources); to != "" {
				out = append(out, Blocked{Link: l, Field: field, Meta: one.meta, Directive: name, Sources: sources, Add: to})
			}
		}
	}
	for _, l := range p.Links {
		if b, ok := p.kept(l); ok {
			out = append(out, b)
		}
	}
	return out
}

// hashOf is the source that allows what a page itself holds.
func hashOf(in *Inline) string {
	sum := sha256.Sum256([]byte(in.Content))
	hash := "'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) + "'"
	if in.Kind == "attribute" {
		return "'unsafe-hashes' " + hash
	}
	return hash
}

// hasFold reports whether a word is among sources, however it is written.
func hasFold(sources []string, word string) bool {
	return slices.ContainsFunc(sources, func(s string) bool { return strings.EqualFold(s, word) })
}

// isHash reports whether a source is one of content, and gives its parts.
func isHash(source string) (algorithm, sum string, ok bool) {
	if len(source) < 2 || source[0] != '\'' || source[len(source)-1] != '\'' {
		return "", "", false
	}
	algorithm, sum, ok = strings.Cut(source[1:len(source)-1], "-")
	algorithm = strings.ToLower(algorithm)
	return algorithm, sum, ok && (algorithm == "sha256" || algorithm == "sha384" || algorithm == "sha512")
}

// nonceFits reports whether a source names the nonce of an element.
func nonceFits(sources []string, nonce string) bool {
	return nonce != "" && slices.ContainsFunc(sources, func(s string) bool {
		return len(s) > 8 && strings.EqualFold(s[:7], "'nonce-") && s[7:len(s)-1] == nonce && s[len(s)-1] == '\''
	})
}

// allowsInline is CSP, 6.7.3.3: whether sources allow what a page itself holds.
func allowsInline(sources []string, in *Inline) bool {
	strict := in.Use == Script && hasFold(sources, "'strict-dynamic'")
	picky := slices.ContainsFunc(sources, func(s string) bool {
		_, _, hash := isHash(s)
		return hash || len(s) > 7 && strings.EqualFold(s[:7], "'nonce-")
	})
	if hasFold(sources, "'unsafe-inline'") && !picky && !strict {
		return true
	}
	if in.Kind == "element" && nonceFits(sources, in.Nonce) {
		return true
	}
	if in.Kind == "attribute" && !hasFold(sources, "'unsafe-hashes'") {
		return false
	}
	return slices.ContainsFunc(sources, func(s string) bool {
		algorithm, sum, ok := isHash(s)
		return ok && sameSum(sum, sumOf(algorithm, in.Content))
	})
}

// sumOf is the hash of a content as a policy writes it.
func sumOf(algorithm, content string) string {
	switch algorithm {
	case "sha256":
		sum := sha256.Sum256([]byte(content))
		return base64.StdEncoding.EncodeToString(sum[:])
	case "sha384":
		sum := sha512.Sum384([]byte(content))
		return base64.StdEncoding.EncodeToString(sum[:])
	}
	sum := sha512.Sum512([]byte(content))
	return base64.StdEncoding.EncodeToString(sum[:])
}

// sameSum compares two hashes: with the alphabet for addresses, and without padding, too.
func sameSum(a, b string) bool {
	plain := strings.NewReplacer("-", "+", "_", "/", "=", "").Replace
	return plain(a) == plain(b)
}

// forbids gives the source with which a link would be allowed by others; "" if it is.
func (one policy) forbids(page request.Address, l *Link, sources []string) string {
	if l.Use == Script || l.Use == Module || l.Use == Style {
		if nonceFits(sources, l.Nonce) {
			return ""
		}
	}
	if l.Use == Script || l.Use == Module {
		if integrityFits(sources, l.Integrity) {
			return ""
		}
		if hasFold(sources, "'strict-dynamic'") {
			return "'nonce-…'"
		}
	}
	if !l.asked {
		scheme, _, ok := strings.Cut(strings.ToLower(l.Text), ":")
		if !ok || scheme == "javascript" || scheme == "about" || slices.ContainsFunc(sources, func(s string) bool { return strings.EqualFold(s, scheme+":") }) {
			return ""
		}
		return scheme + ":"
	}
	steps := []request.Address{l.To}
	if l.Target != nil && l.Target.Visit != nil {
		for _, h := range l.Target.Visit.Hops[1:] {
			steps = append(steps, h.Request.Address)
		}
		if l.Target.Elsewhere() && l.Target.Visit.Left.Host != "" {
			steps = append(steps, l.Target.Visit.Left)
		}
	}
	_, upgrades := one["upgrade-insecure-requests"]
	for i, to := range steps {
		if upgrades && to.Scheme == "http" {
			to.SetScheme("https")
		}
		if !listed(sources, page, to, i > 0) {
			if to.Origin() == page.Origin() {
				return "'self'"
			}
			return to.Origin()
		}
	}
	return ""
}

// integrityFits reports whether sources name every hash of an integrity attribute (CSP,
// 6.7.1.1).
func integrityFits(sources []string, integrity string) bool {
	hashes := strings.Fields(integrity)
	for _, h := range hashes {
		hash, _, _ := strings.Cut(h, "?")
		algorithm, sum, ok := isHash("'" + hash + "'")
		if !ok || !slices.ContainsFunc(sources, func(s string) bool {
			a, listed, ok := isHash(s)
			return ok && a == algorithm && sameSum(listed, sum)
		}) {
			return false
		}
	}
	return len(hashes) > 0
}

// listed is CSP, 6.7.2.7: whether an address is among sources.
func listed(sources []string, page, to request.Address, redirected bool) bool {
	if len(sources) == 1 && strings.EqualFold(sources[0], "'none'") {
		return false
	}
	return slices.ContainsFunc(sources, func(s string) bool { return sourceFits(s, page, to, redirected) })
}

// sourceFits is CSP, 6.7.2.8.
func sourceFits(source string, page, to request.Address, redirected bool) bool {
	if source == "*" {
		return to.Scheme == "http" || to.Scheme == "https"
	}
	if strings.EqualFold(source, "'self'") {
		defaults := func(a request.Address) bool { return a.Port == request.DefaultPort(a.Scheme) }
		return page.Origin() == to.Origin() ||
			page.Host == to.Host && (page.Port == to.Port || defaults(page) && defaults(to)) && (to.Scheme == "https" || page.Scheme == "http" && to.Scheme == "http")
	}
	if strings.HasPrefix(source, "'") {
		return false
	}
	scheme := ""
	if s, rest, ok := strings.Cut(source, "://"); ok {
		scheme, source = strings.ToLower(s), rest
	} else if s, ok := strings.CutSuffix(source, ":"); ok {
		return schemeFits(strings.ToLower(s), to.Scheme)
	}
	if scheme == "" {
		scheme = page.Scheme
	}
	if !schemeFits(scheme, to.Scheme) {
		return false
	}
	host, at, hasPath := strings.Cut(source, "/")
	host, port, hasPort := strings.Cut(host, ":")
	host = strings.ToLower(host)
	if end, ok := strings.CutPrefix(host, "*"); ok {
		if !strings.HasSuffix(to.Host, end) || end != "" && end[0] != '.' {
			return false
		}
	} else if host != to.Host {
		return false
	}
	switch given := (request.Address{Scheme: to.Scheme, Port: to.Port}); {
	case !hasPort && given.Port != request.DefaultPort(to.Scheme):
		return false
	case hasPort && port != "*" && port != strconv.Itoa(to.Port) && (port != "80" || to.Port != 443 || to.Scheme != "https"):
		return false
	}
	return !hasPath || redirected || at == "" || pathFits("/"+at, to.Path)
}

// schemeFits is CSP, 6.7.2.9: what is listed without encryption may be had with it.
func schemeFits(listed, scheme string) bool {
	return listed == scheme || listed == "http" && scheme == "https"
}

// pathFits is CSP, 6.7.2.12.
func pathFits(listed, path string) bool {
	plain := func(s string) string {
		if out, err := url.PathUnescape(s); err == nil {
			return out
		}
		return s
	}
	if strings.HasSuffix(listed, "/") {
		return strings.HasPrefix(plain(path), plain(listed))
	}
	return plain(path) == plain(listed)
}
