package proof

import (
	"fmt"
	"regexp"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

var splitAddress = Kind{
	Name: "split-address", Severity: Note,
	Summary: "two addresses answer 200 with the same file: by its document name, a slash, letter case, or another host",
	Before:  "site saltmarsh address https://saltmarsh-ferries.example hosts www.saltmarsh-ferries.example",
	After:   "redirect secure   when scheme http to https://{host}{path} as permanent\nredirect one-name when host www.saltmarsh-ferries.example to https://saltmarsh-ferries.example{path} as permanent\nredirect plain    on ~/(.*/)?index\\.html to /{1} as permanent",
	find:    findSplits,
}

// findSplits tells once for each way in which addresses of a site are split.
func findSplits(c *checker) {
	found := map[*rulebook.Site]bool{}
	for _, s := range c.Book.Sites {
		splits := map[string]*Finding{}
		var order []string
		note := func(way, advice string, a, b *request.Request) {
			f := splits[way]
			if f == nil {
				f = &Finding{Place: s.Place, Width: len("site"), Request: a, Other: b, Advice: advice,
					Message: fmt.Sprintf("%s and %s are one page under two addresses.", a.Address, b.Address)}
				splits[way] = f
				order = append(order, way)
			}
			f.Count++
		}
		names := c.names(s)
		c.Tree(s).Each(func(n *site.Node) {
			if !n.Folder || n.Hidden {
				return
			}
			at := c.plain(s)
			at.Address.Path = n.Path + "/"
			folder := c.Predict(at)
			c.tried++
			if folder.Cause != engine.CauseDocument {
				return
			}
			for _, path := range []string{folder.File.Path, n.Path} {
				other := *at
				other.Address.Path = path
				if path == "" {
					continue
				}
				if resp := c.Predict(&other); resp.Status == 200 && resp.File == folder.File {
					way := "document"
					advice := `send the longer one on:   redirect plain on ~/(.*/)?` + regexp.QuoteMeta(folder.File.Name()) + ` to /{1} as permanent`
					if path == n.Path {
						way, advice = "slash", "let the folder answer at one of them:   slash add   or   slash drop"
					}
					note(way, advice, at, &other)
				}
			}
			for _, name := range names {
				other := *at
				other.Address.Host = name.host
				setScheme(&other, name.scheme)
				if other.Address == at.Address {
					continue
				}
				if resp := c.Predict(&other); resp.Status == 200 && resp.File == folder.File {
					advice := "send all on to https:   redirect secure when scheme http to https://{host}{path} as permanent"
					if name.host != s.Address.Host {
						advice = "send one on to the other:   redirect one-name when host " + name.host + " to " + s.Address.Origin() + "{path} as permanent"
					}
					note("host "+name.scheme+name.host, advice, at, &other)
				}
			}
		})
		for _, way := range order {
			f := splits[way]
			found[s] = true
			f.Message += further(f.Count-1, "So is one more page in the same way.", "So are %d more pages in the same way.")
			c.siteFinding(*f)
		}
	}
	c.concludeSites(found, Tried, "the folders of the tree were asked for, by their documents, without their slash, and by every host")
}

// names gives the schemes and hosts by which a site can be asked.
func (c *checker) names(s *rulebook.Site) []frontKey {
	var out []frontKey
	known := map[frontKey]bool{}
	add := func(name frontKey) {
		if !known[name] {
			known[name] = true
			out = append(out, name)
		}
	}
	for _, f := range c.graph().fronts {
		if f.space.site == s {
			add(frontKey{f.scheme, f.host})
		}
	}
	for _, p := range s.Hosts {
		if host, literal := p.Literal(); literal {
			add(frontKey{"https", host})
			add(frontKey{"http", host})
		}
	}
	return out
}
