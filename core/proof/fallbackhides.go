package proof

import (
	"fmt"
	"slices"
	"strings"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

func init() {
	register(17, Kind{
		Name: "fallback-hides-missing", Severity: Warning,
		Summary: "nothing below a folder can be not-found any more: wrong addresses answer 200",
		Before:  "fallback planner in /planner/             to /planner/index.html",
		After:   "fallback planner on /planner/:from([a-z]+)/:to([a-z]+) to /planner/index.html",
		find:    findHidingFallbacks,
	})
}

// improbable is a name that no tree has.
const improbable = "kibitz-no-such-page"

func findHidingFallbacks(c *checker) {
	for _, r := range c.Book.Rules {
		a, ok := r.Action.(*rulebook.Fallback)
		if !ok {
			c.sendsMissing(r)
			continue
		}
		c.note(Proved, r, "")
		if a.Status != 200 {
			continue
		}
		folders := slices.Clone(r.In)
		if len(r.On)+len(r.In) == 0 {
			folders = []string{""}
		}
		for _, p := range r.On {
			for _, path := range p.Filled(improbable + "/" + improbable) {
				folders = append(folders, path[:len(path)-len("/"+improbable+"/"+improbable)])
			}
		}
		for _, s := range c.sitesOf(r) {
			if !c.hides(s, r, folders) {
				c.pageForAsset(s, r)
			}
		}
	}
	c.conclusions("below each of them some wrong addresses are not found, or the tree has no file for them")
}

// hides asks for names that cannot be there.
func (c *checker) hides(s *rulebook.Site, r *rulebook.Rule, folders []string) bool {
	like, err := c.space(s).find(question{in: []*rulebook.Rule{r}, template: c.homeRequest(s)})
	if err != nil {
		return false
	}
	for _, folder := range folders {
		var shown *request.Request
		for _, path := range []string{folder + "/" + improbable, folder + "/" + improbable + "/" + improbable} {
			req := *like
			req.Address.Path = path
			c.tried++
			resp := c.Predict(&req)
			if resp.Cause != engine.CauseFallback || resp.By != r {
				shown = nil
				break
			}
			shown = &req
		}
		if shown == nil {
			continue
		}
		place, width := clause(r, "in", "on", "to")
		where := ""
		if len(r.Tests) > 0 {
			where = ", where the entry's conditions hold"
		}
		c.note(Found, r, "")
		c.add(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: shown,
			Message: fmt.Sprintf("Below %s/ every wrong address answers 200%s: whoever mistypes one, and every search engine, is told that the page exists.", folder, where),
			Advice:  "name the addresses that are meant, as in /planner/:from([a-z]+), or accept it where the page itself says so"})
		return true
	}
	return false
}

// pageForAsset asks for a style that is missing, where a page is shown for whatever is.
func (c *checker) pageForAsset(s *rulebook.Site, r *rulebook.Rule) {
	for _, p := range r.On {
		for _, path := range p.Filled(improbable + ".css") {
			req := *c.space(s).typicalRequest(r)
			req.Address.Path = path
			c.tried++
			resp := c.Predict(&req)
			if resp.Cause != engine.CauseFallback || resp.By != r || !strings.HasPrefix(resp.Type, "text/html") || !strings.HasSuffix(path, ".css") {
				continue
			}
			place, width := clause(r, "on", "to")
			c.note(Found, r, "")
			c.add(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: &req,
				Message: fmt.Sprintf("A style, script or picture that is missing here is answered 200 with %s: browsers refuse it, and nobody learns that it is gone.", resp.File.Path),
				Advice:  "let the pattern take no dots, as in /planner/:from([a-z-]+), or accept it"})
			return
		}
	}
}

// sendsMissing looks at a redirect, rewrite or reply for what the tree does not
// have: it must not end at a page that answers 200.
func (c *checker) sendsMissing(r *rulebook.Rule) {
	asksForMissing := func(t *rulebook.Test) bool {
		return t.Field.Kind == rulebook.FieldFile && !t.Unless && len(t.Values) == 1 && t.Values[0].Text == "missing"
	}
	switch r.Kind {
	case rulebook.KindRedirect, rulebook.KindRewrite, rulebook.KindReply:
	default:
		return
	}
	if !slices.ContainsFunc(r.Tests, asksForMissing) {
		return
	}
	for _, s := range c.sitesOf(r) {
		like := c.space(s).typicalRequest(r)
		nowhere := *like
		nowhere.Address.Path = "/" + improbable
		for _, req := range slices.Concat(c.firstProbes(s, r), []*request.Request{like, &nowhere}) {
			c.tried++
			v := browser.Open(c, req)
			last := v.Last()
			if !slices.Contains(c.Met(req), r) || v.Ending != browser.Arrived || last.Status != 200 || last.File == nil && r.Kind != rulebook.KindReply {
				continue
			}
			what := fmt.Sprintf("ends at %s, which answers 200", v.Hops[len(v.Hops)-1].Request.Address)
			if len(v.Hops) == 1 {
				what = "is answered 200"
			}
			advice := "answer them   with 404"
			if last.File != nil {
				what += " with " + last.File.Path
				advice = "show the page with its status:   error not-found for 404 show " + last.File.Path
			}
			place, width := clause(r, "when", "to")
			c.note(Found, r, "")
			c.add(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: req, Advice: advice,
				Message: "Whoever asks for what is not there " + what + ": visitors, and every search engine, are told that the page exists."})
			return
		}
	}
	c.note(Tried, r, "no missing address was found that ends at a page")
}
