package proof

import (
	"cmp"
	"errors"
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
			req := c.homeRequest(s)
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
	why := "" // what keeps it from being proved that nobody can have them
	for i, n := range files {
		if i == maxHidden { // what was not looked at is not said to be hidden
			break
		}
		has, doubt := c.hasWay(sp, n, taker)
		if !has {
			left = append(left, n)
			why = cmp.Or(why, doubt)
		}
	}
	if len(left) == 0 {
		return false
	}
	slices.SortFunc(left, func(a, b *site.Node) int { return cmp.Compare(a.Path, b.Path) })
	req := c.homeRequest(s)
	req.Address.Path = left[0].Path
	f := Finding{Rules: []*rulebook.Rule{taker}, Request: req, Count: len(left), Doubt: why,
		Advice: "take the file out of the tree, or let the entry leave its address alone"}
	says := "The file %s is in the tree, but nobody can have it: the entry takes its address."
	if why != "" {
		says = "The file %s is in the tree, but the entry takes its address, and no other was found that gives it."
	}
	f.Message = fmt.Sprintf(says, left[0].Path) + further(len(left)-1, "There is one more such file.", "There are %d more such files.")
	for _, n := range left {
		f.Files = append(f.Files, n.Path)
	}
	f.Place, f.Width = clause(taker, "on", "in", "table", "when", "to")
	c.add(f)
	return true
}

// hasWay reports whether some request is answered with a file whose own address an entry
// takes; and where none is found, what keeps that from being proved.
func (c *checker) hasWay(sp *space, n *site.Node, taker *rulebook.Rule) (has bool, why string) {
	gets := func(req *request.Request) bool {
		if r := sp.Predict(req); r.File == n || r.Cause == engine.CauseAsked { // whoever is let in goes on
			return true
		}
		for _, f := range c.fronts().of[sp.site] { // a row of a table may want one of them
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
		if r.Shows() == n.Path {
			return true, ""
		}
	}
	req, why := sp.way(n.Path, taker, gets)
	return req != nil, why
}

// way looks for a request that gets what stands at a path: past what takes its own address,
// by the folder of a document, and by what sends other addresses there. Where none is found,
// why says what keeps it from being proved that there is none.
func (sp *space) way(at string, taker *rulebook.Rule, gets func(*request.Request) bool) (found *request.Request, why string) {
	look := func(q question) bool {
		req, doubt := sp.past(q, gets)
		found, why = req, cmp.Or(why, doubt)
		return found != nil
	}
	itself := pattern.Words([]string{canonical.Marked(at)})
	why = sp.passing(taker)
	if look(question{out: []*rulebook.Rule{taker}, path: itself}) {
		return found, ""
	}
	names := []string{at}
	if sp.isDocument(canonical.Decode(lastSegment(at))) {
		folder := strings.TrimSuffix(at, lastSegment(at))
		for _, name := range []string{folder, strings.TrimSuffix(folder, "/")} {
			if name == "" {
				continue
			}
			names = append(names, name)
			if look(question{path: pattern.Words([]string{canonical.Marked(name)})}) {
				return found, ""
			}
		}
	}
	var marked []string
	for _, name := range names {
		marked = append(marked, canonical.Marked(name))
	}
	into := pattern.Words(marked)
	for _, r := range sp.site.Rules {
		if r.Kind != rulebook.KindRewrite && r.Kind != rulebook.KindFallback {
			continue
		}
		for _, to := range r.Action.Templates() {
			if !slices.ContainsFunc(names, func(name string) bool { return canMake(to, name) }) {
				continue
			}
			from, err := sp.sentInto(r, to.Path, into)
			switch {
			case err != nil:
				why = cmp.Or(why, err.Error())
				continue
			case from == nil:
				continue
			case sp.rewrites: // of which one may lead to another
				why = cmp.Or(why, fmt.Sprintf("ways through %s were followed, and do not lead there", r.Name))
			}
			if r.Kind == rulebook.KindFallback { // which takes nothing else
				missing, _ := sp.treeHas("missing")
				from = pattern.And(from, missing)
			}
			if look(question{in: []*rulebook.Rule{r}, path: from}) {
				return found, ""
			}
		}
	}
	return nil, why
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
// first that is found is passed by under other conditions than its own. Where none is found,
// why says what keeps it from being proved that there is none.
func (sp *space) past(q question, fix func(*request.Request) bool) (found *request.Request, why string) {
	for range maxTakers {
		q.fix = nil
		req, err := sp.find(q)
		switch {
		case errors.Is(err, errNone):
			return nil, why
		case err != nil:
			return nil, err.Error()
		case fix(req):
			return req, ""
		}
		q.fix = fix
		found, err := sp.find(q)
		switch {
		case err == nil:
			return found, ""
		case errors.Is(err, errNone):
			return nil, why
		}
		next := takerOf(slices.DeleteFunc(sp.Met(req), func(r *rulebook.Rule) bool { return slices.Contains(q.in, r) }))
		next = cmp.Or(next, sp.Predict(req).By)
		if next == nil || slices.Contains(q.out, next) || slices.Contains(q.in, next) {
			return nil, err.Error()
		}
		q.out = append(slices.Clip(q.out), next)
		why = cmp.Or(why, sp.passing(next))
	}
	return nil, fmt.Sprintf("the first %d entries on the way were passed by", maxTakers)
}
