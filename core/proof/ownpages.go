package proof

// The site's own pages: what is said of what they refer to.

import (
	"fmt"
	"net/http"
	"slices"
	"strings"

	"kibitz/core/browser"
	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/moves"
	"kibitz/core/pages"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// ownPages are the pages of all trees, which are read once; every site of which some are
// read is noted.
func (c *checker) ownPages() *pages.Site {
	if c.sitePages == nil {
		read := c.readPages
		if read == nil {
			read = pages.Of
		}
		c.sitePages, c.sources, c.folded = read(c.Engine), map[string]*rulebook.Source{}, map[*rulebook.Site]foldNames{}
	}
	for _, p := range c.sitePages.Pages {
		c.noteSite(Tried, p.Site, "")
	}
	c.tried = len(c.sitePages.Targets)
	return c.sitePages
}

// readPages says how a claim about pages comes about.
const readPages = "of what the trees' files refer to; scripts may refer to more"

// placeIn gives the place of something in a page's file.
func (c *checker) placeIn(p *pages.Page, line, col int) rulebook.Place {
	name := p.Name()
	if c.sources[name] == nil {
		content, _ := p.Content()
		c.sources[name] = &rulebook.Source{Name: name, Lines: strings.Split(string(content), "\n")}
	}
	return rulebook.Place{Source: c.sources[name], Line: max(1, min(line, len(c.sources[name].Lines))), Col: max(1, col)}
}

// addPage reports a finding about pages, of some links that have it: the place is that of
// the first.
func (c *checker) addPage(links []*pages.Link, f Finding) {
	if f.Message == "" {
		f.Message = fmt.Sprintf("%s, which %s.%s", does(links[0]), f.Short, linked(links))
	}
	first := links[0]
	f.Place, f.Width = c.placeIn(first.Page, first.Line, first.Col), max(1, len([]rune(first.Text)))
	f.Page = first.Page.Name()
	if t := first.Target; f.Request == nil && t != nil && t.Visit != nil {
		f.Request = &request.Request{Address: t.Request.Address}
		if browser.Open(c, f.Request).Summary() != t.Visit.Summary() { // it hangs on the page that it comes from
			f.Request = t.Request
		}
	}
	if f.Request == nil {
		f.Request = &request.Request{Address: first.Page.Address}
	}
	f.Count = len(links)
	for _, l := range links {
		f.Spots = append(f.Spots, Spot{l.Page, l.Line, l.Col, l.Text, l})
		if name := l.Page.Name(); !slices.Contains(f.Files, name) {
			f.Files = append(f.Files, name)
		}
	}
	c.addOf(first.Page.Site, f)
}

// linked says of how many links a finding speaks.
func linked(links []*pages.Link) string {
	names := map[string]bool{}
	for _, l := range links {
		names[l.Page.Name()] = true
	}
	switch {
	case len(links) == 1:
		return ""
	case len(names) == 1:
		return fmt.Sprintf(" The page does so %d times.", len(links))
	}
	return fmt.Sprintf(" In all, %d places in %d files do so.", len(links), len(names))
}

// verbs are what a page does with an address, by its use.
var verbs = map[pages.Use]string{pages.Hyperlink: "links to", pages.Form: "sends a form to", pages.Refresh: "leads on to", pages.Frame: "frames", pages.Canonical: "names as its own address",
	pages.Alternate: "names as its other language", pages.Entry: "lists", pages.Sitemap: "names the sitemap"}

// does says what a page does with an address.
func does(l *pages.Link) string {
	verb := verbs[l.Use]
	if verb == "" {
		verb = "loads the " + l.Use.Says()
	}
	return fmt.Sprintf("%s %s %s", l.Page.Name(), verb, l.Text)
}

// answers says what becomes of a visit to a target.
func answers(t *pages.Target) string {
	switch t.Visit.Ending {
	case browser.Loop:
		return "is an endless loop of redirects"
	case browser.TooLong:
		return "is redirected more often than browsers follow"
	case browser.BadEnding:
		return "is redirected to an address that is none"
	}
	said := map[int]string{http.StatusNotFound: "is not found (404)", http.StatusGone: "is gone (410)", http.StatusForbidden: "is refused (403)"}[t.Last().Status]
	if said == "" {
		said = "answers " + engine.StatusText(t.Last())
	}
	if n := t.Visit.Redirects(); n > 0 {
		said = "is redirected to " + t.Visit.Hops[len(t.Visit.Hops)-1].Request.Address.Target() + ", which " + said
	}
	return said
}

// foldNames are the paths of a tree, by their spelling in small letters.
type foldNames map[string]string

// similarPath gives the address in a tree that is nearly a missing one: it differs in the case
// of letters, a slash at the end, or an extension; "" for none.
func (c *checker) similarPath(s *rulebook.Site, missing string) string {
	if s == nil || !c.KnowsTree(s) {
		return ""
	}
	if c.folded[s] == nil {
		c.folded[s] = foldNames{}
		c.Tree(s).Each(func(n *site.Node) {
			if n.Hidden {
				return
			}
			at := n.Path
			if n.Folder {
				at += "/"
			}
			c.folded[s][canonical.Fold(at)] = at
		})
	}
	path, err := canonical.Path(missing, s.KeepSlashes)
	if err != nil {
		return ""
	}
	key := canonical.Fold(path)
	for _, k := range []string{key, key + "/", strings.TrimSuffix(key, "/"), key + ".html", strings.TrimSuffix(key, "/") + ".html"} {
		at, ok := c.folded[s][k]
		if !ok || at == path {
			continue
		}
		req := &request.Request{Address: s.Address}
		req.Address.Path = at
		if v := browser.Open(c, req); v.Ending == browser.Arrived && v.Last().Status == http.StatusOK {
			return v.Hops[len(v.Hops)-1].Request.Address.Path
		}
	}
	return ""
}

// mostAdvised is for how many missing addresses the likeliest page is looked for.
const mostAdvised = 500

// instead says what to write in the place of an address that is not there.
func (c *checker) instead(t *pages.Target) string {
	if near := c.similarPath(c.SiteFor(t.Request.Address.Host), t.Request.Address.Path); near != "" {
		return "write " + near
	}
	if c.advised++; c.advised > mostAdvised { // looking takes longer than all else
		return "put the file there, or take the link out"
	}
	if c.pageNames == nil {
		names := moves.NamesOf(c.Engine)
		c.pageNames = &names
	}
	if likely := c.pageNames.Likeliest(t.Request.Address.String()); likely != "" {
		return "write " + likely + ", if that is the page that is meant; or put the file there"
	}
	return "put the file there, or take the link out"
}
