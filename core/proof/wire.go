package proof

import (
	"fmt"
	"net/http"
	"strings"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

var hintUseless = Kind{
	Name: "hint-useless", Severity: Warning,
	Summary: "an early hint names what is not there, or calls it what it is not, so browsers fetch it in vain",
	Before:  "hint paint preload /styles/site.css as script",
	After:   "hint paint preload /styles/site.css as style",
	find: func(c *checker) {
		entries, found := 0, false
		for _, s := range c.Book.Sites {
			for _, r := range s.Rules {
				a, ok := r.Action.(*rulebook.Hint)
				if !ok {
					continue
				}
				entries++
				for _, p := range a.Preloads {
					req := &request.Request{}
					var err error
					if req.Address, err = request.Parse(p.Path, s.Address); err != nil {
						continue
					}
					c.tried++
					what := useless(c.Visit(req), p)
					if what == "" {
						continue
					}
					found = true
					place, width := preloadClause(r, p)
					c.add(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: req,
						Message: fmt.Sprintf("The hint for %s is useless: %s.", p.Path, what), Advice: "name a file of the tree, and what it is: style, script, image, font, …"})
				}
			}
		}
		c.conclude(found, Proved, entries, "each announced address was asked for, for the tree as it is")
	},
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

func useless(v *engine.Visit, p rulebook.Preload) string {
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

var compressUseless = Kind{
	Name: "compress-useless", Severity: Warning,
	Summary: "a compress entry has nothing to compress, or a stored sibling is older or larger than its file",
	Before:  "compress pictures types image/png",
	After:   "compress text types text/* image/svg+xml",
	find:    findUselessCompression,
}

func findUselessCompression(c *checker) {
	entries, found := 0, false
	report := func(f Finding) {
		found = true
		c.add(f)
	}
	for _, s := range c.Book.Sites {
		var first *rulebook.Rule
		for _, r := range s.Rules {
			a, ok := r.Action.(*rulebook.Compress)
			if !ok {
				continue
			}
			entries++
			if first == nil {
				first = r
			}
			if a.Types == nil {
				continue
			}
			shrinks, grows := c.compressed(s, r)
			if shrinks == nil {
				place, width := clause(r, "types")
				f := Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: grows,
					Message: "No file of the tree is sent smaller by this entry.", Advice: "name media types that shrink, like text/* or image/svg+xml, or take the entry out"}
				if grows != nil {
					f.Message += " Files of these types are compressed already, and would only grow."
				}
				report(f)
			}
		}
		if first == nil {
			continue
		}
		c.Tree(s).Each(func(n *site.Node) {
			for _, ext := range []string{".br", ".zst", ".gz"} {
				stored := c.Tree(s).Find(n.Path + ext)
				if n.Folder || stored == nil || stored.Folder {
					continue
				}
				what := ""
				switch {
				case stored.Size >= n.Size:
					what = "is no smaller than its file, and is never sent"
				case stored.Modified.Before(n.Modified):
					what = "is older than its file, so visitors may get what was there before"
				default:
					continue
				}
				req := &request.Request{Address: s.Address, Headers: []request.Header{{Name: "Accept-Encoding", Value: map[string]string{".br": "br", ".zst": "zstd", ".gz": "gzip"}[ext]}}}
				req.Address.Path = n.Path
				report(Finding{Rules: []*rulebook.Rule{first}, Request: req, Message: fmt.Sprintf("The stored %s %s.", stored.Path, what), Advice: "make it again, or remove it"})
			}
		})
	}
	c.conclude(found, Proved, entries, "for the tree as it is")
}

// compressed looks for a file that is sent smaller because of a compress entry,
// and for one of its types that is not.
func (c *checker) compressed(s *rulebook.Site, r *rulebook.Rule) (shrinks, grows *request.Request) {
	a := r.Action.(*rulebook.Compress)
	c.eachFile(s, func(path string) {
		if shrinks != nil {
			return
		}
		req := &request.Request{Address: s.Address, Headers: []request.Header{{Name: "Accept-Encoding", Value: "br, zstd, gzip"}}}
		req.Address.Path = path
		resp := c.Predict(req)
		if resp.Status != http.StatusOK || !engine.TypeListed(resp.Type, a.Types) {
			return
		}
		c.tried++
		if resp.Encoding != "" {
			shrinks = req
		} else {
			grows = req
		}
	})
	return shrinks, grows
}

// eachFile calls yield with the address of every file of a site that is not
// hidden.
func (c *checker) eachFile(s *rulebook.Site, yield func(path string)) {
	c.Tree(s).Each(func(n *site.Node) {
		if !n.Folder && !n.Hidden {
			yield(n.Path)
		}
	})
}
