package proof

import (
	"fmt"
	"slices"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/pattern"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

func init() {
	register(37, Kind{
		Name: "documents-missing", Severity: Warning,
		Summary: "a folder entry names documents that no folder has, or hides those that are there",
		Before:  "folder pages in / documents default.htm",
		After:   "folder pages in / documents index.html",
		find:    findMissingDocuments,
	})
}

// findMissingDocuments looks into the folders for which each folder entry decides.
func findMissingDocuments(c *checker) {
	for _, s := range c.treeSites() {
		for _, r := range s.Rules {
			a, ok := r.Action.(*rulebook.Folder)
			if !ok || a.Documents == nil {
				continue
			}
			c.note(Tried, r, "")
			var hidden, bare *site.Node
			has := false
			c.Tree(s).Each(func(n *site.Node) {
				if !n.Folder || n.Hidden || !c.decidesDocuments(s, r, n) {
					return
				}
				for _, name := range a.Documents {
					has = has || c.Tree(s).Find(n.Path+"/"+canonical.Spell(name)) != nil
				}
				if bare == nil {
					bare = n
				}
				if c.Tree(s).Find(n.Path+"/"+rulebook.UsualDocument) != nil && hidden == nil {
					hidden = n
				}
			})
			f := Finding{Rules: []*rulebook.Rule{r}}
			switch {
			case len(a.Documents) == 0 && hidden != nil:
				f.Message = fmt.Sprintf("%s/ has an %s, which nobody is shown: the entry names no index page.", hidden.Path, rulebook.UsualDocument)
				f.Advice = "take the file away, or name it:   documents " + rulebook.UsualDocument
				f.Fixes = []Fix{setClause(r, "documents", rulebook.UsualDocument)}
				f.Request = c.homeRequest(s)
				f.Request.Address.Path = hidden.Path + "/"
			case len(a.Documents) > 0 && !has && bare != nil:
				f.Message = fmt.Sprintf("No folder that this entry is for has %s.", strings.Join(a.Documents, " or "))
				f.Advice = "name the documents that are there, or take the clause out"
				f.Request = c.homeRequest(s)
				f.Request.Address.Path = bare.Path + "/"
			default:
				continue
			}
			f.Place, f.Width = clause(r, "documents")
			c.add(f)
		}
	}
	c.conclusions("for the tree as it is")
}

// decidesDocuments reports whether a folder entry says which documents a folder has.
func (c *checker) decidesDocuments(s *rulebook.Site, r *rulebook.Rule, n *site.Node) bool {
	req := c.homeRequest(s)
	req.Address.Path = n.Path + "/"
	if over := c.space(s).of(r).over; over != nil && !pattern.Matches(over, canonical.Marked(req.Address.Path)) {
		return false
	}
	c.tried++
	resp := c.Predict(req)
	return slices.Contains([]engine.Cause{engine.CauseDocument, engine.CauseListing, engine.CauseNoDocument}, resp.Cause) && (resp.By == r || resp.By == nil || resp.Cause != engine.CauseDocument)
}
