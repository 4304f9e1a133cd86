package proof

import (
	"slices"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/pages"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

// Settled gives the address that may stand in the place of one that is referred to, and
// whether there is one: every visitor who asks for it and is not refused, whoever he is
// and whenever he does, is led on for good, to the same page of the sites.
func Settled(e *engine.Engine, t *pages.Target) (request.Address, bool) {
	end, ok := t.End()
	if !ok {
		return end, false
	}
	for i, h := range t.Visit.Hops {
		last := i == len(t.Visit.Hops)-1
		if !last && !browser.Permanent(h.Response.Status) || h.Response.Copied() || !sameForAll(e, h) {
			return end, false
		}
	}
	return end, true
}

// sameForAll reports whether where an address leads hangs on nothing but the address: no
// entry that can take it, as it is asked for or as others have rewritten it, looks at
// anything else, or copies it.
func sameForAll(e *engine.Engine, h browser.Hop) bool {
	s := e.SiteFor(h.Request.Address.Host)
	if s == nil {
		return false
	}
	rewritten := &request.Request{Address: h.Request.Address}
	rewritten.Address.Path = h.Response.Path
	for _, r := range s.Rules {
		if !r.Kind.Leads() {
			continue
		}
		tests := slices.DeleteFunc(slices.Clone(r.Tests), func(t *rulebook.Test) bool { return t.Field.Row().Beside })
		copies := slices.ContainsFunc(copiedFields(r), func(f rulebook.Field) bool { return f.Row().Beside })
		if len(tests) == len(r.Tests) && !copies {
			continue
		}
		bare := *r
		bare.Tests = tests
		if r.Kind == rulebook.KindMoves || e.Takes(&bare, h.Request) || e.Takes(&bare, rewritten) {
			return false
		}
	}
	return true
}
