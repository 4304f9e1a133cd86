package proof

import (
	"fmt"
	"regexp"
	"strings"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

func init() {
	register(24, Kind{
		Name: "split-address", Severity: Note,
		Summary: "two addresses answer 200 with the same file: by its document name, a slash, letter case, or another host",
		Before:  "site saltmarsh address https://saltmarsh-ferries.example hosts www.saltmarsh-ferries.example",
		After:   "redirect secure   when scheme http to https://{host}{path} as permanent\nredirect one-name when host www.saltmarsh-ferries.example to https://saltmarsh-ferries.example{path} as permanent\nredirect plain    on ~/(.*/)?index\\.html to /{1} as permanent",
		find:    findSplits,
	})
}

// findSplits tells once for each way in which addresses of a site are split.
func findSplits(c *checker) {
	for _, s := range c.treeSites() {
		c.noteSite(Tried, s, "")
		splits := map[string]*Finding{}
		var order []string
		note := func(way, advice, entry string, a, b *request.Request) {
			f := splits[way]
			if f == nil {
				f = &Finding{Request: a, Other: b, Advice: advice + entry,
					Message: fmt.Sprintf("%s and %s are one page under two addresses.", a.Address, b.Address)}
				if entry != "" {
					f.Fixes = []Fix{addEntry(s, entry)}
					f.Fixes[0].About = func(req *request.Request) bool {
						return lastSegment(req.Address.Path) == lastSegment(b.Address.Path) && req.Address.Scheme == b.Address.Scheme
					}
				}
				splits[way] = f
				order = append(order, way)
			}
			f.Count++
		}
		names := c.names(s)
		var asked *site.Node // the page last found under another name
		c.Tree(s).Each(func(n *site.Node) {
			if !n.Folder || n.Hidden {
				return
			}
			at := c.homeRequest(s)
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
				if c.shows(&other, folder.File) {
					way := "document"
					advice := "send the longer one on:   "
					entry := `redirect ` + c.freeName(s, "plain") + ` on ~/(.*/)?` + regexp.QuoteMeta(folder.File.Name()) + ` to /{1} as permanent`
					if path == n.Path {
						way, advice, entry = "slash", "let the folder answer at one of them:   slash add   or   slash drop", ""
					}
					note(way, advice, entry, at, &other)
				}
			}
			for _, name := range names {
				other := *at
				other.Address.Host = name.host
				other.Address.SetScheme(name.scheme)
				if other.Address == at.Address || !c.shows(&other, folder.File) {
					continue
				}
				if name.host == at.Address.Host {
					host := "{host}"
					if s.UnknownHosts { // whoever asks could name any
						host = at.Address.Host
					}
					note("scheme", "send all on to https:   ", "redirect "+c.freeName(s, "secure")+" when scheme http to https://"+host+"{path} as permanent", at, &other)
					splits["scheme"].Fixes[0].About = func(req *request.Request) bool { return req.Address.Scheme == "http" }
				} else if asked != n {
					note("host", "", "", at, &other)
					asked = n
				}
			}
		})
		for _, way := range order {
			f := splits[way]
			f.Message += further(f.Count-1, "So is one more page in the same way.", "So are %d more pages in the same way.")
			if way == "host" {
				c.tellNames(s, f)
			}
			c.addOf(s, *f)
		}
	}
	c.conclusions("the folders of the tree were asked for, by their documents, without their slash, and by every host")
}

// maxNames is how many names advice says one by one.
const maxNames = 3

// names gives the schemes and hosts by which a site is asked: those of its origins,
// and one that stands for all other names.
func (c *checker) names(s *rulebook.Site) []originKey {
	var out []originKey
	for _, f := range c.fronts().of[s] {
		out = append(out, originKey{f.scheme, f.host})
	}
	for _, n := range c.ownNames(s) {
		if c.fronts().at[originKey{"https", n.host}] == nil {
			return append(out, originKey{"https", n.host}, originKey{"http", n.host})
		}
	}
	return out
}

// An ownName is a name of a site, or a pattern of its names with one of them; of any
// name there is no pattern.
type ownName struct{ text, host string }

func (c *checker) ownNames(s *rulebook.Site) []ownName {
	var out []ownName
	for _, p := range s.Hosts {
		if host := specimen(p); c.SiteFor(host) == s {
			out = append(out, ownName{p.String(), host})
		}
	}
	if c.SiteFor(anyName) == s {
		out = append(out, ownName{"", anyName})
	}
	return out
}

// anyName is a name that nobody has (RFC 2606).
const anyName = "any-name.invalid"

// shows reports whether a request is answered with a file.
func (c *checker) shows(req *request.Request, file *site.Node) bool {
	resp := c.Predict(req)
	return resp.Status == 200 && resp.File == file
}

// tellNames completes the finding of a page under two names: how many more there are,
// and what is to be done about all of them.
func (c *checker) tellNames(s *rulebook.Site, f *Finding) {
	main, file := f.Request.Address, c.Predict(f.Request).File
	var names []string
	every := false
	for _, n := range c.ownNames(s) {
		alike := func(scheme string) bool {
			req := *f.Other
			req.Address.Host = n.host
			req.Address.SetScheme(scheme)
			return n.host != main.Host && c.shows(&req, file)
		}
		switch {
		case !alike("https") && !alike("http"):
		case n.text == "":
			every = true
		default:
			names = append(names, n.text)
		}
	}
	what, which := "the others on to it", "when host "+strings.Join(names, " ")
	if every || len(names) == 0 || len(names) > maxNames {
		which = "unless host " + main.Host
	} else if len(names) == 1 {
		what = "one on to the other"
	}
	switch {
	case every:
		f.Message += " The site answers under every other name, too."
	case len(names) > 0:
		f.Message += further(len(names)-1, "The site answers under one more name.", "The site answers under %d more names.")
	}
	entry := fmt.Sprintf("redirect %s %s to %s{path} as permanent", c.freeName(s, "one-name"), which, main.Origin())
	f.Advice = fmt.Sprintf("send %s:   %s", what, entry)
	f.Fixes = []Fix{addEntry(s, entry)}
	f.Fixes[0].About = func(req *request.Request) bool {
		return c.SiteFor(req.Address.Host) == s && req.Address.Host != main.Host
	}
}
