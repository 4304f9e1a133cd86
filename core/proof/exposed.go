package proof

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

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
		find: func(c *checker) {
			c.looseFiles(func(kind string, files []*site.Node, s *rulebook.Site) {
				var first *request.Request
				count := 0
				var by *rulebook.Rule
				for _, n := range files {
					req := c.plain(s)
					req.Address.Path = n.Path
					c.tried++
					if resp := c.Predict(req); resp.Status == 200 && resp.File == n {
						if count++; count == 1 {
							first, by = req, resp.By
						}
					}
				}
				if count == 0 {
					return
				}
				f := Finding{Request: first, Count: count, Place: s.Place, Width: len("site"),
					Message: fmt.Sprintf("Everybody can fetch %s, %s.", first.Address.Path, kind) + further(count-1, "There is one more like it.", "There are %d more like it."),
					Advice:  "take it out of the folder, or refuse it:   access leftovers on ~.*\\" + strings.ReplaceAll(path.Ext(first.Address.Path), "~", `\~`) + " refuse 404"}
				if by != nil {
					f.Rules = append(f.Rules, by)
				}
				c.siteFinding(f)
			})
		},
	})
}

// looseFiles yields the files of each tree that nobody means to publish, by what
// they are, and makes the claim.
func (c *checker) looseFiles(yield func(kind string, files []*site.Node, s *rulebook.Site)) {
	found := map[*rulebook.Site]bool{}
	total := 0
	for _, s := range c.treeSites() {
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
			before := len(c.report.Findings)
			if yield(kind, files, s); len(c.report.Findings) > before {
				found[s] = true
			}
		}
	}
	c.concludeSites(found, Proved, fmt.Sprintf("for the tree as it is: %d files and folders, by their names", total))
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

// siteFinding reports what belongs to a site and no entry.
func (c *checker) siteFinding(f Finding) {
	if len(f.Rules) > 0 {
		c.add(f)
		return
	}
	f.Name, f.Severity = c.kind.Name, c.kind.Severity
	f.Count = max(f.Count, 1)
	c.report.Findings = append(c.report.Findings, &f)
}
