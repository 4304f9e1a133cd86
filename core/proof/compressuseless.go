package proof

import (
	"fmt"
	"maps"
	"net/http"
	"slices"

	"kibitz/core/engine"
	"kibitz/core/representation"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

func init() {
	register(29, Kind{
		Name: "compress-useless", Severity: Warning,
		Summary: "a compress entry has nothing to compress, or a stored sibling is older or larger than its file",
		Before:  "compress pictures types image/png",
		After:   "compress text types text/* image/svg+xml",
		find:    findUselessCompression,
	})
}

func findUselessCompression(c *checker) {
	for _, s := range c.treeSites() {
		var first *rulebook.Rule
		for _, r := range s.Rules {
			a, ok := r.Action.(*rulebook.Compress)
			if !ok {
				continue
			}
			c.note(Proved, r, "")
			if first == nil {
				first = r
			}
			if a.Types == nil {
				continue
			}
			place, width := clause(r, "types")
			types := c.compressed(s, a)
			if len(types) == 0 {
				c.add(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: c.homeRequest(s),
					Message: "The tree has no file of these media types: the entry compresses nothing.", Advice: "name media types that the tree has, or take the entry out"})
			}
			for _, name := range slices.Sorted(maps.Keys(types)) {
				if t := types[name]; t.files > 0 && !t.shrinks {
					c.add(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: t.request,
						Message: fmt.Sprintf("No file of type %s is sent smaller: such files would only grow, or another entry keeps them as they are.", name),
						Advice:  "take the type out, and leave those that shrink, like text/* or image/svg+xml",
						Fixes:   withoutValue(r, "types", name)})
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
					what = "is as large as its file or larger, and is never sent"
				case stored.Modified.Before(n.Modified):
					what = "is older than its file, so visitors may get what was there before"
				default:
					continue
				}
				req := &request.Request{Address: s.Address, Headers: []request.Header{{Name: "Accept-Encoding", Value: map[string]string{".br": "br", ".zst": "zstd", ".gz": "gzip"}[ext]}}}
				req.Address.Path = n.Path
				c.add(Finding{Rules: []*rulebook.Rule{first}, Request: req, Message: fmt.Sprintf("The stored %s %s.", stored.Path, what), Advice: "make it again, or remove it"})
			}
		})
	}
	c.conclusions("for the tree as it is")
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
		unencoded := &engine.Response{}
		c.Outcome(req, unencoded)
		if unencoded.Status != http.StatusOK || !representation.TypeListed(unencoded.Type, a.Types) {
			return
		}
		t := out[unencoded.Type]
		if t == nil {
			t = &compressed{}
			out[unencoded.Type] = t
		}
		if unencoded.Size < worthwhile {
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
