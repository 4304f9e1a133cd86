package proof

import (
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

// strangers gives requests for a rule in which a given text stands wherever its
// templates copy something of the request. Not all of them are taken by it.
func (c *shared) strangers(s *rulebook.Site, r *rulebook.Rule, text string) []*request.Request {
	base := c.probes(s, r)
	var out []*request.Request
	with := func(req *request.Request, change func(*request.Request)) {
		next := *req
		next.Headers = append([]request.Header(nil), req.Headers...)
		change(&next)
		out = append(out, &next)
	}
	for i, req := range base {
		if i == maxStrangers {
			break
		}
		spelled := canonical.Spell(text)
		if s.UnknownHosts && !strings.ContainsAny(text, " /%\n.") {
			with(req, func(r *request.Request) { r.Address.Host = text + ".example" })
		}
		for _, h := range s.Hosts {
			if name := h.String(); strings.HasPrefix(name, "*.") && !strings.ContainsAny(text, " /%\n") {
				with(req, func(r *request.Request) { r.Address.Host = text + name[1:] })
			}
		}
		for _, p := range r.On {
			for _, path := range p.Filled(spelled) {
				with(req, func(r *request.Request) { r.Address.Path = path })
			}
		}
		for _, f := range copiedFields(r) {
			vary, texts := f.Row().Vary.(rulebook.VaryTexts)
			switch {
			case f.Kind == rulebook.FieldQuery:
				with(req, func(r *request.Request) { addQuery(r, f.Name, text) })
			case texts && f.Row().Beside && vary.All(f).Match(text):
				with(req, func(r *request.Request) { f.Row().Put(r, f.Name, text, true) })
			}
		}
		for _, t := range r.Tests { // expressions whose groups are copied
			if t.Field.Kind == rulebook.FieldQuery && t.Field.Name != "" {
				with(req, func(r *request.Request) {
					r.Address.Query, r.Address.HasQuery = "", false
					addQuery(r, t.Field.Name, text)
				})
			}
		}
	}
	return out
}

const maxStrangers = 1

// copiedFields are the fields of the request that a rule's templates copy.
func copiedFields(r *rulebook.Rule) []rulebook.Field {
	var out []rulebook.Field
	for _, t := range templatesOf(r) {
		for p := range t.Pieces {
			if p.Value && p.Capture == "" {
				out = append(out, p.Field)
			}
		}
	}
	return out
}

// templatesOf are the templates of a rule whose results must be valid: a text is shown as
// it is.
func templatesOf(r *rulebook.Rule) []*rulebook.Template {
	switch r.Action.(type) {
	case *rulebook.Reply, *rulebook.ErrorPage:
		return nil
	}
	return r.Action.Templates()
}
