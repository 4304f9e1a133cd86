package proof

import (
	"cmp"
	"fmt"
	"slices"

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
		find:    findHidden,
	})
}

// findHidden asks for every file by its plain address, and where an entry takes
// it, by every other way.
func findHidden(c *checker) {
	total := 0
	found := map[*rulebook.Site]bool{}
	for _, s := range c.treeSites() {
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
				found[s] = true
			}
		}
	}
	c.concludeSites(found, Proved, fmt.Sprintf("for the tree as it is: each of its %d files was asked for", total))
}

const maxHidden = 200

// stillHidden leaves out the files that another way leads to.
func (c *checker) stillHidden(s *rulebook.Site, taker *rulebook.Rule, files []*site.Node) bool {
	sp := c.space(s)
	var left []*site.Node
	for i, n := range files {
		if i < maxHidden && sp.hasWay(n, taker) {
			continue
		}
		left = append(left, n)
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
	f.Place, f.Width = clause(taker, "on", "in", "table", "when", "to")
	c.add(f)
	return true
}

// hasWay reports whether some request is answered with the file.
func (sp *space) hasWay(n *site.Node, taker *rulebook.Rule) bool {
	gets := func(req *request.Request) bool {
		r := sp.Predict(req)
		return r.File == n
	}
	// Perhaps the entry takes it only under its conditions.
	path := pattern.Words([]string{n.Path})
	if _, err := sp.find(question{out: []*rulebook.Rule{taker}, path: path, fix: gets}); err == nil {
		return true
	}
	for _, at := range []string{n.Path[:len(n.Path)-len(lastSegment(n.Path))]} {
		req := sp.base
		req.Address.Path = at
		if gets(&req) {
			return true
		}
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
		case *rulebook.Rewrite:
			if from, err := sp.sentInto(r, a.To.Path, path); err == nil && from != nil {
				if _, err := sp.find(question{in: []*rulebook.Rule{r}, path: from, fix: gets}); err == nil {
					return true
				}
			}
		case *rulebook.Fallback:
			for _, to := range a.To {
				if from, err := sp.sentInto(r, to.Path, path); err == nil && from != nil {
					if _, err := sp.find(question{in: []*rulebook.Rule{r}, path: from, fix: gets}); err == nil {
						return true
					}
				}
			}
		}
	}
	return false
}
