package proof

import (
	"fmt"
	"slices"
	"strings"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

func init() {
	register(13, Kind{
		Name: "missing-target", Severity: Warning,
		Summary: "a redirect or rewrite into the site leads only to what is not there",
		Before:  "redirect summer on /summer to /offer/summer/ as temporary      # the folder is /offers/",
		After:   "redirect summer on /summer to /offers/summer/ as temporary",
		find:    findMissingTargets,
	})
}

func findMissingTargets(c *checker) {
	if len(c.treeSites()) == 0 {
		return // of none is known what is missing
	}
	for _, s := range c.Book.Sites {
		for _, r := range s.Rules {
			switch a := r.Action.(type) {
			case *rulebook.Redirect:
				c.note(Tried, r, "")
				c.missing(s, r, a.To)
			case *rulebook.Rewrite:
				c.note(Tried, r, "")
				c.missing(s, r, a.To)
			case *rulebook.Moves:
				c.note(Tried, r, "")
				c.missingRows(s, r)
			}
		}
	}
	c.conclusions("requests made from each entry's own selectors, for the tree as it is")
}

// maxTargets is how many results of one entry are followed.
const maxTargets = 8

// missing looks at a redirect or rewrite: it reports one whose every probe ends
// in 404, unless some value would lead to something.
func (c *checker) missing(s *rulebook.Site, r *rulebook.Rule, to *rulebook.Template) {
	site := s
	folders := r.In
	if len(folders) == 0 || r.Fold {
		folders = []string{""}
	}
	if !to.IsPath() { // it may be that of another site
		if host, constant := rulebook.Constant(to.Host); constant {
			if s = c.SiteFor(host); s == nil || !c.KnowsTree(s) {
				return
			}
		}
	}
	target := s
	for _, folder := range folders {
		if c.leadsSomewhere(target, to, folder) {
			return
		}
	}
	var shown *browser.Visit
	ends := map[string]bool{} // by their paths
	probes := c.probes(site, r)
	for _, req := range probes[:min(len(probes), maxTargets)] {
		c.tried++
		v := c.lightVisit(req)
		if v.Hops[0].Response.By != r && !passes(c, v, r) {
			continue
		}
		last := v.Last()
		if v.Ending != browser.Arrived || last.Cause != engine.CauseMissing {
			return
		}
		ends[v.Hops[len(v.Hops)-1].Request.Address.Path] = true
		if shown == nil {
			shown = v
		}
	}
	if shown == nil || c.arrivesByTree(site, r, shown.Hops[0].Request) {
		return
	}
	place, width := clause(r, "to")
	advice, fixes := "name a path that the tree has, or put the page there", []Fix(nil)
	if better, ok := belowInstead(r, to); ok {
		advice = "{path} has the folder of `in` in it once more; for what is below it write   to " + better
		fixes = []Fix{setTarget(r, better)}
	}
	end := shown.Hops[len(shown.Hops)-1]
	c.add(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: shown.Hops[0].Request,
		Message: fmt.Sprintf("It leads to what is not there: %s answers %d%s.", end.Request.Address, end.Response.Status, andOthers(len(ends)-1)) + readAs(end),
		Advice:  advice,
		Fixes:   fixes})
}

// andOthers says how many other addresses were found to be as one is.
func andOthers(n int) string {
	switch n {
	case 0:
		return ""
	case 1:
		return ", and so does the other one that was tried"
	}
	return fmt.Sprintf(", and so do the %d others that were tried", n)
}

// maxTreeWords is how many words of the trees are tried in the place of what a pattern takes.
const maxTreeWords = 300

// arrivesByTree reports whether some word of the trees, put where a rule's patterns take
// one, leads to something: by way of rewrites and fallbacks, too.
func (c *checker) arrivesByTree(s *rulebook.Site, r *rulebook.Rule, like *request.Request) bool {
	words := c.treeWords()
	for _, p := range r.On {
		if len(p.Names()) == 0 {
			continue
		}
		for _, word := range words {
			for _, path := range p.Filled(word) {
				req := *like
				req.Address.Path = path
				c.tried++
				v := c.lightVisit(&req)
				if (v.Hops[0].Response.By == r || passes(c, v, r)) && v.Ending == browser.Arrived && v.Last().Cause != engine.CauseMissing {
					return true
				}
			}
		}
	}
	return false
}

// treeWords are names of files and folders of all trees, without their ends.
func (c *shared) treeWords() []string {
	if c.words != nil {
		return c.words
	}
	c.words = []string{}
	seen := map[string]bool{}
	for _, s := range c.Book.Sites {
		c.Tree(s).Each(func(n *site.Node) {
			word, _, _ := strings.Cut(lastSegment(n.Path), ".")
			if word != "" && !seen[word] && len(c.words) < maxTreeWords {
				seen[word] = true
				c.words = append(c.words, word)
			}
		})
	}
	return c.words
}

// belowInstead is the target of a rule that puts the whole path behind another folder,
// where what is below the folder of `in` may be meant.
func belowInstead(r *rulebook.Rule, to *rulebook.Template) (better string, ok bool) {
	if len(r.In) == 0 || r.In[0] == "" || len(to.Path) == 0 || to.Path[0].Value {
		return "", false
	}
	better = strings.ReplaceAll(strings.ReplaceAll(to.Text, "/{path}", "{path}"), "{path}", "/{"+rulebook.Below+"}")
	return better, better != to.Text
}

// lightVisit is Visit without the header fields, which nobody looks at here.
func (c *checker) lightVisit(req *request.Request) *browser.Visit {
	r := &engine.Response{}
	c.Outcome(req, r)
	return browser.OpenOutcome(c, req, r)
}

func readAs(h browser.Hop) string {
	if h.Response.Path == h.Request.Address.Path {
		return ""
	}
	return " The tree was asked for " + h.Response.Path + "."
}

// passes reports whether a rewrite had a hand in the answer.
func passes(c *checker, v *browser.Visit, r *rulebook.Rule) bool {
	if _, ok := r.Action.(*rulebook.Rewrite); !ok {
		return false
	}
	return slices.Contains(c.Met(v.Hops[0].Request), r)
}

// leadsSomewhere reports whether some values would make of a template the path
// of something in the tree; the path that is asked for lies in a folder.
func (c *checker) leadsSomewhere(s *rulebook.Site, to *rulebook.Template, folder string) bool {
	if _, constant := rulebook.Constant(to.Path); constant {
		return false // the probes tell
	}
	var like strings.Builder // with a zero byte for each value
	for _, p := range to.Path {
		if p.Value {
			if p.Capture == "" && p.Field.Kind == rulebook.FieldPath && len(p.Filters) == 0 {
				like.WriteString(folder)
			}
			like.WriteByte(0)
		} else {
			like.WriteString(p.Text)
		}
	}
	key := s.Name + " " + like.String()
	found, known := c.leads[key]
	if !known {
		pieces := strings.Split(like.String(), "\x00")
		c.Tree(s).Each(func(n *site.Node) {
			found = found || fitsPieces(n.Path, pieces) || n.Folder && fitsPieces(n.Path+"/", pieces)
		})
		c.leads[key] = found
	}
	return found
}

// fitsPieces reports whether path is made of the pieces with any text between
// them.
func fitsPieces(path string, pieces []string) bool {
	last := len(pieces) - 1
	if !strings.HasPrefix(path, pieces[0]) || !strings.HasSuffix(path[len(pieces[0]):], pieces[last]) {
		return false
	}
	path = path[len(pieces[0]) : len(path)-len(pieces[last])]
	for _, piece := range pieces[1:last] {
		_, after, ok := strings.Cut(path, piece)
		if !ok {
			return false
		}
		path = after
	}
	return true
}

// missingRows tells once of all rows of a table that lead nowhere.
func (c *checker) missingRows(s *rulebook.Site, r *rulebook.Rule) {
	rows := map[*rulebook.Row]bool{} // each is asked for by several schemes and hosts
	var first Finding
	for _, req := range c.probes(s, r) {
		c.tried++
		v := c.lightVisit(req)
		row := v.Hops[0].Response.Row
		if v.Hops[0].Response.By != r || row.New == "" || v.Ending != browser.Arrived || v.Last().Cause != engine.CauseMissing {
			continue
		}
		if rows[row] = true; first.Request != nil {
			continue
		}
		place, width := clause(r, "table")
		table := r.Action.(*rulebook.Moves).Table
		first = Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: req,
			Message: fmt.Sprintf("%s:%d sends to %s, which is not there.", table.Name, row.Line, row.New),
			Advice:  "correct the new address in the table, or write 410 for what is gone"}
	}
	if len(rows) == 0 {
		return
	}
	first.Count = len(rows)
	first.Message += further(len(rows)-1, "So does one more row.", "So do %d more rows.")
	c.add(first)
}
