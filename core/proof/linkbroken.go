package proof

import (
	"fmt"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/pages"
)

func init() {
	register(60, Kind{
		Name: "link-broken", Severity: Warning, Page: true,
		Summary: "a page of the site refers to what visitors do not get: missing, gone, refused, or in a loop",
		Before:  `<a href="/faers/">Fares</a>`,
		After:   `<a href="/fares/">Fares</a>`,
		find:    findBrokenLinks,
	})
}

func findBrokenLinks(c *checker) {
	own := c.ownPages()
	for _, t := range own.Targets {
		switch {
		case t.Broken():
			c.brokenLink(t)
		case t.Page != nil:
			c.brokenFragments(t)
		}
	}
	for _, p := range own.Pages {
		for _, l := range p.Links {
			if l.Wrong {
				c.addPage([]*pages.Link{l}, Finding{Short: "is not a valid address", Advice: "write an address like /fares/ or https://saltmarsh-ferries.example/fares/"})
			}
		}
	}
	c.conclusions(readPages)
}

func (c *checker) brokenLink(t *pages.Target) {
	var links, below []*pages.Link
	for _, l := range t.Links {
		switch {
		case l.Use == pages.Entry: // sitemap-wrong tells of it
		case l.Page.Error && relative(l.Text):
			below = append(below, l)
		default:
			links = append(links, l)
		}
	}
	if len(below) > 0 {
		l := below[0]
		c.addPage(below, Finding{Short: "is relative, in a page that is shown anywhere",
			Message: fmt.Sprintf("%s, which is read relative to whatever address is missing: below a folder, as at %s, it %s.", does(l), l.Page.Address.Target(), answers(t)),
			Advice:  "begin the address with a slash:   /" + strings.TrimLeft(strings.TrimPrefix(canonical.Decode(l.Page.Node.Path[:strings.LastIndexByte(l.Page.Node.Path, '/')+1])+l.Text, "/"), "./")})
	}
	if len(links) == 0 {
		return
	}
	advice := c.instead(t)
	switch by := t.Last().By; {
	case t.Broken() && t.Last().Status < 400:
		advice = "fix the redirects first: kibitz check names them"
	case by != nil && (t.Last().Cause == engine.CauseRefused || t.Last().Cause == engine.CauseReply):
		advice = fmt.Sprintf("take the link out, or let %s (%s) leave the address alone", by.Name, by.Place)
	}
	c.addPage(links, Finding{Short: answers(t), Advice: advice})
}

// relative reports whether an address depends on the folder of the page that it stands in.
func relative(text string) bool {
	return text != "" && !strings.ContainsAny(text[:1], "/?#") && !strings.Contains(strings.SplitN(text, "/", 2)[0], ":")
}

// brokenFragments looks for parts of pages that are not there.
func (c *checker) brokenFragments(t *pages.Target) {
	missing := map[string][]*pages.Link{}
	var order []string
	for _, l := range t.Links {
		name := strings.TrimPrefix(l.To.Fragment, "#")
		if l.Use != pages.Hyperlink || name == "" || strings.HasPrefix(name, "/") || strings.HasPrefix(name, "!") || strings.Contains(name, ":~:") || strings.EqualFold(name, "top") {
			continue
		}
		if ids := t.Page.File.IDs; ids[name] || ids[canonical.Decode(name)] {
			continue
		}
		if missing[name] == nil {
			order = append(order, name)
		}
		missing[name] = append(missing[name], l)
	}
	if len(t.Page.File.IDs) == 0 && t.Page.Response.Type != "text/html" {
		return
	}
	for _, name := range order {
		links := missing[name]
		scripts := ""
		if t.Page.File.Scripted {
			scripts = ", unless a script puts it there"
		}
		c.addPage(links, Finding{Severity: Note, Short: "has no part with this id",
			Message: fmt.Sprintf("%s, and %s has no part with the id %s: visitors land at its top%s.%s", does(links[0]), t.Page.Name(), canonical.Decode(name), scripts, linked(links)),
			Advice:  fmt.Sprintf("give the part   id=%q   or take   #%s   out of the link", canonical.Decode(name), name)})
	}
}
