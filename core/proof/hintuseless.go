package proof

import (
	"fmt"
	"net/http"
	"strings"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

func init() {
	register(28, Kind{
		Name: "hint-useless", Severity: Warning,
		Summary: "an early hint names what is not there, or calls it what it is not, so browsers fetch it for nothing",
		Before:  "hint paint preload /styles/site.css as script",
		After:   "hint paint preload /styles/site.css as style",
		find: func(c *checker) {
			for _, s := range c.treeSites() {
				for _, r := range s.Rules {
					a, ok := r.Action.(*rulebook.Hint)
					if !ok {
						continue
					}
					c.note(Proved, r, "")
					for _, p := range a.Preloads {
						req := &request.Request{}
						var err error
						if req.Address, err = request.Parse(p.Path, s.Address); err != nil {
							continue
						}
						c.tried++
						what := useless(browser.Open(c, req), p)
						if what == "" {
							continue
						}
						place, width := preloadClause(r, p)
						c.add(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: req,
							Message: fmt.Sprintf("The hint for %s is useless: %s.", p.Path, what), Advice: "name a file of the tree, and what it is: style, script, image, font, …",
							Fixes: []Fix{writeAt(place, width, ""), takeOut(r)}})
					}
				}
			}
			c.conclusions("each announced address was asked for, for the tree as it is")
		},
	})
}

// preloadClause gives the place of one preload.
func preloadClause(r *rulebook.Rule, p rulebook.Preload) (rulebook.Place, int) {
	for _, cl := range r.Entry.Clauses {
		if len(cl.Values) == 3 && cl.Values[0].Text == p.Path && cl.Values[2].Text == p.As {
			return cl.Keyword.Place, cl.Values[2].Place.Col + cl.Values[2].Width - cl.Keyword.Place.Col
		}
	}
	return r.Place, len(r.Kind)
}

// destinations are the media types that each destination takes (WHATWG Fetch,
// "potential destination"); those not named take any.
var destinations = map[string][]string{
	"style": {"text/css"}, "script": {"text/javascript", "application/wasm"}, "worker": {"text/javascript"}, "image": {"image/"}, "font": {"font/", "application/vnd.ms-fontobject"},
	"audio": {"audio/"}, "video": {"video/"}, "track": {"text/vtt"}, "document": {"text/html", "application/xhtml+xml"},
}

func useless(v *browser.Visit, p rulebook.Preload) string {
	last := v.Last()
	if v.Redirects() > 0 {
		return "it is redirected to " + v.Hops[0].Response.Location
	}
	if last.Status != http.StatusOK || last.File == nil {
		return "it answers " + engine.StatusText(last)
	}
	types, known := destinations[p.As]
	for _, t := range types {
		if strings.HasPrefix(last.Type, t) {
			return ""
		}
	}
	if known {
		return fmt.Sprintf("it is %s, and not what `as %s` takes", last.Type, p.As)
	}
	return ""
}
