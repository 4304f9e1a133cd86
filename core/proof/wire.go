package proof

import (
	"fmt"
	"maps"
	"net/http"
	"slices"
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
			place, width := clause(r, "types")
			types := c.compressed(s, a)
			if len(types) == 0 {
				report(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width,
					Message: "The tree has no file of these media types: the entry compresses nothing.", Advice: "name media types that the tree has, or take the entry out"})
			}
			for _, name := range slices.Sorted(maps.Keys(types)) {
				if t := types[name]; t.files > 0 && !t.shrinks {
					report(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: t.request,
						Message: fmt.Sprintf("No file of type %s is sent smaller: such files would only grow, or another entry keeps them as they are.", name),
						Advice:  "take the type out, and leave those that shrink, like text/* or image/svg+xml"})
				}
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

// compressed is what becomes of the files of one media type.
type compressed struct {
	shrinks bool             // a file is sent smaller
	files   int              // that are large enough to be worth it
	request *request.Request // for one of them
}

// worthwhile is the size from which a file should shrink, in bytes.
const worthwhile = 512

// filesOfType bounds how many files of one type are encoded to find out.
const filesOfType = 50

// compressed tells of the files whose types a compress entry names.
func (c *checker) compressed(s *rulebook.Site, a *rulebook.Compress) map[string]*compressed {
	out := map[string]*compressed{}
	c.eachFile(s, func(path string) {
		req := &request.Request{Address: s.Address}
		req.Address.Path = path
		plain := &engine.Response{}
		c.Outcome(req, plain)
		if plain.Status != http.StatusOK || !engine.TypeListed(plain.Type, a.Types) {
			return
		}
		t := out[plain.Type]
		if t == nil {
			t = &compressed{}
			out[plain.Type] = t
		}
		if plain.Size < worthwhile {
			return
		}
		if t.files++; t.shrinks || t.files > filesOfType {
			return
		}
		req.Headers = []request.Header{{Name: "Accept-Encoding", Value: "br, zstd, gzip"}}
		c.tried++
		t.request = req
		t.shrinks = c.Predict(req).Encoding != ""
	})
	return out
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
