package pages

// What a browser refuses of what it has been answered: by its type, by where it comes
// from, or because it is sent in clear.

import (
	"fmt"
	"net/http"
	"strings"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/request"
)

func field(r *engine.Response, name string) string {
	value, _ := r.Get(name)
	return strings.ToLower(strings.TrimSpace(value))
}

// Refused says why a browser does not use what a page loads, although it is there; "" if
// it does. It may be of the wrong type (WHATWG Fetch, "should response to request be
// blocked due to its MIME type", and "nosniff"; HTML, link type stylesheet), or another
// origin's that does not say that it may be used (Fetch, CORS check).
func (l *Link) Refused() string {
	if !l.Use.Loads() || l.Target == nil || !l.Target.Decided() || l.Target.Visit.Ending != browser.Arrived || l.Target.Last().Status != http.StatusOK {
		return ""
	}
	r := l.Target.Last()
	kind := r.Type
	if kind == "" {
		kind = "no media type"
	}
	nosniff := field(r, "X-Content-Type-Options") == "nosniff"
	another := l.end().Origin() != l.Page.Address.Origin()
	switch l.Use {
	case Script:
		top, _, _ := strings.Cut(r.Type, "/")
		if !isScript(r.Type) && (nosniff || top == "image" || top == "audio" || top == "video" || r.Type == "text/csv") {
			return fmt.Sprintf("it is answered as %s, which browsers do not run as a script", kind)
		}
		if r.Type == "text/html" {
			return "a page is answered in place of a script (text/html): browsers stop at its first character"
		}
	case Module:
		if !isScript(r.Type) {
			return fmt.Sprintf("it is answered as %s, and a module must be a script", kind)
		}
	case Style:
		if r.Type != "text/css" && (nosniff || another || !l.Page.File.Quirks || r.Type == "text/html") {
			return fmt.Sprintf("it is answered as %s, which browsers do not take for a style sheet", kind)
		}
	case Image, Font, Media, Manifest:
		if r.Type == "text/html" {
			return fmt.Sprintf("a page is answered in place of the %s (text/html)", l.Use.Says())
		}
	}
	if another && (l.Use == Font || l.Use == Module || l.CORS) {
		if allowed := field(r, "Access-Control-Allow-Origin"); allowed != "*" && allowed != l.Page.Address.Origin() {
			return fmt.Sprintf("it comes from another origin (%s), whose answer does not allow that: it lacks Access-Control-Allow-Origin", l.end().Origin())
		}
	}
	return ""
}

// end is the address that answers for a link in the end.
func (l *Link) end() request.Address {
	return l.Target.Visit.Hops[len(l.Target.Visit.Hops)-1].Request.Address
}

// A Mix is how a page that came over https asks for something in clear (W3C Mixed
// Content).
type Mix int

const (
	Unmixed  Mix = iota
	Blocks       // the browser does not ask
	Upgrades     // it asks over https instead
	Warns        // it asks the visitor
)

// Mixed says what becomes of a link of a page that came over https, and leads over http.
func (l *Link) Mixed() Mix {
	if l.Page.Address.Scheme != "https" || !l.asked || !l.Use.Loads() && l.Use != Form {
		return Unmixed
	}
	clear := l.To.Scheme == "http"
	if l.Target != nil && l.Target.Visit != nil {
		for _, h := range l.Target.Visit.Hops[1:] {
			clear = clear || h.Request.Address.Scheme == "http"
		}
	}
	if !clear || l.Page.upgrades() {
		return Unmixed
	}
	switch {
	case l.Use == Form:
		return Warns
	case l.To.Scheme == "http" && (l.Use == Image && !l.Set && l.Escape == InMarkup || l.Use == Media):
		return Upgrades
	}
	return Blocks
}

// upgrades reports whether a page has all that it loads asked for over https (W3C Upgrade
// Insecure Requests).
func (p *Page) upgrades() bool {
	texts := []string{}
	for _, h := range p.Response.Headers {
		if strings.EqualFold(h.Name, "Content-Security-Policy") {
			texts = append(texts, h.Value)
		}
	}
	for _, m := range p.File.Policies {
		texts = append(texts, m.Text)
	}
	for _, text := range texts {
		for _, one := range policiesOf(text) {
			if _, ok := one["upgrade-insecure-requests"]; ok {
				return true
			}
		}
	}
	return false
}

// kept tells whether the answer to what a page loads forbids that page to use it: by
// Cross-Origin-Resource-Policy and Cross-Origin-Embedder-Policy (WHATWG Fetch and HTML),
// X-Frame-Options, or frame-ancestors.
func (p *Page) kept(l *Link) (b Blocked, ok bool) {
	if !l.Use.Loads() || l.Target == nil || !l.Target.Decided() || l.Target.Visit.Ending != browser.Arrived {
		return b, false
	}
	r, at := l.Target.Last(), l.end()
	another := at.Origin() != p.Address.Origin()
	embedder := field(p.Response, "Cross-Origin-Embedder-Policy")
	requires := strings.HasPrefix(embedder, "require-corp")
	b.Link = l
	if l.Use == Frame {
		for _, one := range policiesOf(fieldText(r, "Content-Security-Policy")) {
			if sources, has := one["frame-ancestors"]; has {
				if !listed(sources, at, p.Address, false) {
					b.Field, b.Directive, b.Sources = "Content-Security-Policy", "frame-ancestors", sources
					b.Why = "the page in the frame does not let itself be framed here"
					return b, true
				}
				return b, false // it stands above X-Frame-Options
			}
		}
		if options := field(r, "X-Frame-Options"); options == "deny" || options == "sameorigin" && another {
			b.Field, b.Why = "X-Frame-Options", "the page in the frame does not let itself be framed here: it sends "+strings.ToUpper(options)
			return b, true
		}
		inner := field(r, "Cross-Origin-Embedder-Policy")
		if requires && !strings.HasPrefix(inner, "require-corp") && !strings.HasPrefix(inner, "credentialless") {
			b.Field, b.Why = "Cross-Origin-Embedder-Policy", "the page in the frame must send it, too: "+embedder
			return b, true
		}
	}
	if !another || l.CORS || l.Use == Font || l.Use == Module || l.Use == Manifest {
		return b, false
	}
	switch corp := field(r, "Cross-Origin-Resource-Policy"); {
	case l.Use == Frame && !requires:
	case corp == "same-origin", corp == "same-site" && !sameSite(at, p.Address), corp != "cross-origin" && corp != "same-site" && requires:
		b.Field, b.Why = "Cross-Origin-Resource-Policy", "its answer does not let pages of "+p.Address.Origin()+" use it"
		return b, true
	}
	return b, false
}

func fieldText(r *engine.Response, name string) string {
	value, _ := r.Get(name)
	return value
}

// sameSite reports whether two addresses have one owner, as Fetch asks for it (cross-origin
// resource policy check).
func sameSite(a, b request.Address) bool {
	return a.Registrable() == b.Registrable() && !(a.Host != b.Host && a.Scheme == "http" && b.Scheme == "https")
}
