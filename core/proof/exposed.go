package proof

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/pattern"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

func init() {
	register(22, Kind{
		Name: "exposed", Severity: Warning,
		Summary: "backup files, keys, dumps or hidden folders can be fetched",
		Before:  "site saltmarsh address https://saltmarsh-ferries.example files public      # public/fares.sql is a dump",
		After:   "access leftovers on ~.*\\.(sql|bak|old|orig) refuse 404",
		Proves:  true,
		find: func(c *checker) {
			c.looseFiles(func(kind string, files []*site.Node, s *rulebook.Site) {
				var first *request.Request
				count := 0
				for _, n := range files {
					if req := c.anybodys(s, n, n.Path, func(r *engine.Response) bool { return r.Status == 200 && r.File == n }); req != nil {
						if count++; count == 1 {
							first = req
						}
					}
				}
				if count == 0 {
					return
				}
				f := Finding{Request: first, Count: count,
					Message: fmt.Sprintf("Everybody can fetch %s, %s.", first.Address.Path, kind) + further(count-1, "There is one more like it.", "There are %d more like it."),
					Advice:  "take it out of the folder, or refuse it:   access leftovers on ~.*\\" + strings.ReplaceAll(path.Ext(first.Address.Path), "~", `\~`) + " refuse 404"}
				c.addOf(s, f)
			})
		},
	})
}

// anybodys gives a request that anybody can make, and whose answer is as wanted: for a path,
// or for whatever leads to a file. nil stands for none that was found.
func (c *checker) anybodys(s *rulebook.Site, n *site.Node, path string, wanted func(*engine.Response) bool) *request.Request {
	gets := func(req *request.Request) bool {
		if req.Verb() != "GET" || len(req.Headers) > 0 || req.Client.IsValid() || !req.Time.IsZero() || req.Body > 0 {
			return false // not everybody sends that
		}
		c.tried++
		return wanted(c.Predict(req))
	}
	req := c.plain(s)
	req.Address.Path = path
	if gets(req) {
		return req
	}
	by := takerOf(c.Met(req))
	switch {
	case by == nil:
		return nil
	case n != nil:
		return c.space(s).way(n, by, gets)
	}
	return c.space(s).past(question{out: []*rulebook.Rule{by}, path: pattern.Words([]string{canonical.Marked(path)})}, gets)
}

// looseFiles yields the files of each tree that nobody means to publish, by what
// they are, and makes the claim.
func (c *checker) looseFiles(yield func(kind string, files []*site.Node, s *rulebook.Site)) {
	total := 0
	for _, s := range c.treeSites() {
		c.noteSite(Proved, s, "")
		kinds := map[string][]*site.Node{}
		c.Tree(s).Each(func(n *site.Node) {
			total++
			if kind := looseKind(n); kind != "" {
				kinds[kind] = append(kinds[kind], n)
			}
		})
		for _, kind := range slices.Sorted(maps.Keys(kinds)) {
			files := kinds[kind]
			slices.SortFunc(files, func(a, b *site.Node) int { return cmp.Compare(a.Path, b.Path) })
			yield(kind, files, s)
		}
	}
	c.conclusions(fmt.Sprintf("for the tree as it is, and a visitor of whom nothing is known: %d files and folders, by their names", total))
}

// looseKind says what a file is that nobody means to publish; "" for any other.
func looseKind(n *site.Node) string {
	if n.Folder {
		return ""
	}
	name := strings.ToLower(n.Name())
	switch ext := path.Ext(name); {
	case strings.HasPrefix(n.Path, "/.well-known/"):
		return ""
	case slices.Contains([]string{".bak", ".old", ".orig", ".swp", ".save", ".tmp"}, ext) || strings.HasSuffix(name, "~"):
		return "a backup file"
	case slices.Contains([]string{".sql", ".dump", ".sqlite", ".mdb"}, ext) || strings.Contains(name, ".sql."):
		return "a dump of a database"
	case slices.Contains([]string{".key", ".pem", ".p12", ".pfx", ".kdbx"}, ext):
		return "a key"
	case strings.HasPrefix(name, ".") || strings.Contains(n.Path, "/."):
		return "a hidden file"
	case slices.Contains([]string{".kibitz", ".accounts"}, ext):
		return "a file with rules or passwords"
	}
	return ""
}
