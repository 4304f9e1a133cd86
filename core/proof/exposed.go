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
				f := Finding{}
				var served []*site.Node
				for _, n := range files {
					req, why := c.anybodys(s, n.Path, func(r *engine.Response) bool { return r.Status == 200 && r.File == n })
					if why != "" {
						c.noteSite(Tried, s, why)
					}
					if req == nil {
						continue
					}
					if served = append(served, n); f.Request == nil {
						f.Request = req
					}
					f.Files = append(f.Files, n.Path)
				}
				if f.Count = len(served); f.Count == 0 {
					return
				}
				at := ""
				if f.Request.Address.Path != served[0].Path {
					at = ", at " + f.Request.Address.Target()
				}
				f.Message = fmt.Sprintf("Everybody can fetch %s, %s%s.", served[0].Path, kind, at) + further(f.Count-1, "There is one more like it.", "There are %d more like it.")
				entry := fmt.Sprintf("access %s on %s refuse 404", c.freeName(s, "leftovers"), pathsFor(served))
				f.Advice = "take it out of the folder, or refuse it:   " + entry
				f.Fixes = []Fix{addEntry(s, entry)}
				c.addOf(s, f)
			})
		},
	})
}

// freeName gives a name that no entry of a site has.
func (c *checker) freeName(s *rulebook.Site, name string) string {
	free := name
	for n := 2; slices.ContainsFunc(s.Rules, func(r *rulebook.Rule) bool { return r.Name == free }); n++ {
		free = fmt.Sprintf("%s-%d", name, n)
	}
	return free
}

// pathsFor writes selectors that take files that nobody means to publish: by their ends,
// where these say what they are, or as they stand.
func pathsFor(files []*site.Node) string {
	var ends, out []string
	add := func(selector string) {
		if !slices.Contains(out, selector) {
			out = append(out, selector)
		}
	}
	hidden, upper := false, false
	for _, n := range files {
		name := strings.ToLower(n.Name())
		end := strings.TrimPrefix(path.Ext(name), ".")
		switch {
		case looseKind(n) == hiddenFile:
			hidden = true
		case strings.HasSuffix(name, "~"):
			add("~.*~")
			continue
		case end == "" || looseNames[name] != "" || strings.Trim(end, "abcdefghijklmnopqrstuvwxyz0123456789") != "":
			add(rulebook.Quote(canonical.Decode(n.Path)))
		default:
			if !slices.Contains(ends, end) {
				ends = append(ends, end)
			}
		}
		upper = upper || name != n.Name()
	}
	slices.Sort(ends)
	if len(ends) == 1 {
		add(`~.*\.` + ends[0])
	} else if len(ends) > 1 {
		add(`~.*\.(` + strings.Join(ends, "|") + ")")
	}
	if hidden {
		add(`~(.*/)?\..*`)
	}
	said := strings.Join(out, " ")
	if hidden {
		said += " unless path /.well-known/*"
	}
	if upper {
		said += " ignoring case"
	}
	return said
}

// anybodys gives a request that anybody can make, and whose answer is as wanted: for a path,
// or for what leads there. Where none is found, why says what keeps it from being proved that
// there is none.
func (c *checker) anybodys(s *rulebook.Site, path string, wanted func(*engine.Response) bool) (found *request.Request, why string) {
	gets := func(req *request.Request) bool {
		if req.Verb() != "GET" || len(req.Headers) > 0 || req.Client.IsValid() || !req.Time.IsZero() || req.Body > 0 {
			return false // not everybody sends that
		}
		c.tried++
		return wanted(c.Predict(req))
	}
	req := c.homeRequest(s)
	req.Address.Path = path
	if gets(req) {
		return req, ""
	}
	by := cmp.Or(takerOf(c.Met(req)), c.Predict(req).By) // who asks for a name answers, too
	if by == nil {
		return nil, ""
	}
	sp, at := c.space(s), pattern.Words([]string{canonical.Marked(path)})
	for _, r := range s.Rules { // who is admitted is refused no more
		if a, ok := r.Action.(*rulebook.Access); ok && a.Do == rulebook.Admit {
			if req, _ := sp.past(question{in: []*rulebook.Rule{r}, path: at}, gets); req != nil {
				return req, ""
			}
		}
	}
	return sp.way(path, by, gets)
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

const hiddenFile = "a hidden file"

// looseEnds are the ends of the names of files that nobody means to publish, by what they
// are.
var looseEnds = []struct {
	kind string
	ends []string
}{
	{"a backup file", []string{".bak", ".old", ".orig", ".swp", ".save", ".tmp", "~"}},
	{"a dump of a database", []string{".sql", ".sql.gz", ".sql.zip", ".dump", ".sqlite", ".sqlite3", ".mdb"}},
	{"a key", []string{".key", ".pem", ".p12", ".pfx", ".kdbx", ".ppk"}},
	{"a file with rules or passwords", []string{".kibitz", ".accounts"}},
	{"a file of settings", []string{".ini", ".yml", ".yaml", ".toml", ".conf", ".cfg"}},
	{"a log", []string{".log", ".log.gz"}},
	{"the source of a program", []string{".php", ".phps", ".inc", ".asp", ".aspx", ".jsp", ".pl", ".py", ".rb", ".sh", ".go"}},
}

// looseNames are whole names.
var looseNames = map[string]string{
	"id_rsa": "a key", "id_dsa": "a key", "id_ecdsa": "a key", "id_ed25519": "a key",
	"composer.json": "a file of settings", "package-lock.json": "a file of settings", "dockerfile": "a file of settings", "makefile": "a file of settings",
}

// looseKind says what a file is that nobody means to publish; "" for any other.
func looseKind(n *site.Node) string {
	if n.Folder || strings.HasPrefix(n.Path, "/.well-known/") {
		return ""
	}
	name := strings.ToLower(n.Name())
	for _, loose := range looseEnds {
		if slices.ContainsFunc(loose.ends, func(end string) bool { return len(name) > len(end) && strings.HasSuffix(name, end) }) {
			return loose.kind
		}
	}
	if kind := looseNames[name]; kind != "" {
		return kind
	}
	if strings.HasPrefix(name, ".") || strings.Contains(n.Path, "/.") {
		return hiddenFile
	}
	return ""
}
