package proof

import (
	"cmp"
	"fmt"
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
	register(23, Kind{
		Name: "hidden-by-rule", Severity: Warning,
		Summary: "a file of the tree that no address reaches, because an entry takes it",
		Before:  "redirect boats in /boats/ to /fleet/ as permanent             # and public/boats/avocet.html is still there",
		After:   "redirect boats on /boats{/}? to /fleet/ as permanent",
		Proves:  true,
		find:    findHidden,
	})
}

// findHidden asks for every file by its plain address, and where an entry takes
// it, by every other way.
func findHidden(c *checker) {
	total := 0
	for _, s := range c.treeSites() {
		c.noteSite(Proved, s, "")
		hidden := map[*rulebook.Rule][]*site.Node{}
		c.Tree(s).Each(func(n *site.Node) {
			if n.Folder || n.Hidden {
				return
			}
			total++
			req := c.plain(s)
			req.Address.Path = n.Path
			c.tried++
			resp := c.Predict(req)
			if resp.By == nil || resp.File == n {
				return
			}
			switch resp.Cause {
			case engine.CauseRedirect, engine.CauseReply, engine.CauseHandoff:
				hidden[resp.By] = append(hidden[resp.By], n)
			}
		})
		for r, files := range hidden {
			if c.stillHidden(s, r, files) {
				c.noteSite(Found, s, "")
			}
		}
	}
	c.conclusions(fmt.Sprintf("for the tree as it is: each of its %d files was asked for", total))
}

const maxHidden = 20_000

// maxTakers is how many entries one below the other are passed by to come to a file.
const maxTakers = 10

// stillHidden leaves out the files that another way leads to.
func (c *checker) stillHidden(s *rulebook.Site, taker *rulebook.Rule, files []*site.Node) bool {
	sp := c.space(s)
	var left []*site.Node
	for i, n := range files {
		if i == maxHidden { // what was not looked at is not said to be hidden
			break
		}
		if !c.hasWay(sp, n, taker) {
			left = append(left, n)
		}
	}
	if len(left) == 0 {
		return false
	}
	slices.SortFunc(left, func(a, b *site.Node) int { return cmp.Compare(a.Path, b.Path) })
	req := c.plain(s)
	req.Address.Path = left[0].Path
	f := Finding{Rules: []*rulebook.Rule{taker}, Request: req, Count: len(left),
		Message: fmt.Sprintf("The file %s is in the tree, but nobody can have it: the entry takes its address.", left[0].Path) + further(len(left)-1, "There is one more such file.", "There are %d more such files."),
		Advice:  "take the file out of the tree, or let the entry leave its address alone"}
	for _, n := range left {
		f.Files = append(f.Files, n.Path)
	}
	f.Place, f.Width = clause(taker, "on", "in", "table", "when", "to")
	c.add(f)
	return true
}

// hasWay reports whether some request is answered with a file whose own address an entry
// takes.
func (c *checker) hasWay(sp *space, n *site.Node, taker *rulebook.Rule) bool {
	gets := func(req *request.Request) bool {
		if r := sp.Predict(req); r.File == n || r.Cause == engine.CauseAsked { // whoever is let in goes on
			return true
		}
		for _, f := range c.graph().of[sp.site] { // a row of a table may want one of them
			other := *req
			other.Address.Host = f.host
			other.Address.SetScheme(f.scheme)
			if sp.Predict(&other).File == n {
				return true
			}
		}
		return false
	}
	for _, r := range sp.site.Rules {
		switch a := r.Action.(type) {
		case *rulebook.ErrorPage:
			if a.Body.Show == n.Path {
				return true
			}
		case *rulebook.Reply:
			if a.Body.Show == n.Path {
				return true
			}
		}
	}
	return sp.way(n.Path, taker, gets) != nil
}

// way looks for a request that gets what stands at a path: past what takes its own address,
// by the folder of a document, and by what sends other addresses there. nil stands for none.
func (sp *space) way(at string, taker *rulebook.Rule, gets func(*request.Request) bool) *request.Request {
	path := pattern.Words([]string{canonical.Marked(at)})
	if req := sp.past(question{out: []*rulebook.Rule{taker}, path: path}, gets); req != nil {
		return req
	}
	folder := strings.TrimSuffix(at, lastSegment(at))
	for _, path := range []string{folder, strings.TrimSuffix(folder, "/")} {
		if path == "" || !sp.isDocument(canonical.Decode(lastSegment(at))) {
			continue
		}
		if req := sp.past(question{path: pattern.Words([]string{canonical.Marked(path)})}, gets); req != nil {
			return req
		}
	}
	for _, r := range sp.site.Rules {
		if r.Kind != rulebook.KindRewrite && r.Kind != rulebook.KindFallback {
			continue
		}
		for _, to := range r.Action.Templates() {
			if !canMake(to, at) {
				continue
			}
			if from, err := sp.sentInto(r, to.Path, path); err == nil && from != nil {
				if req := sp.past(question{in: []*rulebook.Rule{r}, path: from}, gets); req != nil {
					return req
				}
			}
		}
	}
	return nil
}

// canMake reports whether some values could make a path of a template, by how that begins
// and ends; slashes may be merged.
func canMake(t *rulebook.Template, path string) bool {
	text, whole := literalStart(t.Path)
	begin, err := canonical.Text(text)
	if err != nil || whole {
		return true
	}
	end := ""
	if last := t.Path[len(t.Path)-1]; !last.Value {
		if end, err = canonical.Text(last.Text); err != nil {
			return true
		}
	}
	return strings.HasPrefix(path, strings.TrimRight(begin, "/")) && strings.HasSuffix(path, strings.TrimLeft(end, "/"))
}

// past looks for a request that answers a question, and fixes something; what takes the
// first that is found is passed by under other conditions than its own. nil stands for
// none.
func (sp *space) past(q question, fix func(*request.Request) bool) *request.Request {
	for range maxTakers {
		q.fix = nil
		req, err := sp.find(q)
		if err != nil {
			return nil
		}
		if fix(req) {
			return req
		}
		q.fix = fix
		if found, err := sp.find(q); err == nil {
			return found
		}
		next := takerOf(slices.DeleteFunc(sp.Met(req), func(r *rulebook.Rule) bool { return slices.Contains(q.in, r) }))
		if next = cmp.Or(next, sp.Predict(req).By); next == nil || slices.Contains(q.out, next) || slices.Contains(q.in, next) {
			return nil
		}
		q.out = append(slices.Clip(q.out), next)
	}
	return nil
}
