package engine

// Folders, and what the tree hides.

import (
	"net/http"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

func init() { does(rulebook.KindFolder, groupFolder, nil) }

func (s *state) showsHidden() bool {
	e := s.first(groupFolder, func(r *rulebook.Rule) bool { return r.Action.(*rulebook.Folder).Hidden != nil })
	return e != nil && *e.Action.(*rulebook.Folder).Hidden
}

// folder answers for a folder.
func (s *state) folder(r *Response, n *site.Node, slash bool) {
	asked := s.path
	if !slash {
		s.path += "/" // the selectors look at the folder with its slash
	}
	with := s.path
	mode, by := rulebook.SlashAdd, (*rulebook.Rule)(nil)
	if e := s.first(groupFolder, func(r *rulebook.Rule) bool { return r.Action.(*rulebook.Folder).Slash != "" }); e != nil {
		mode, by = e.Action.(*rulebook.Folder).Slash, e.Rule
	}
	var target string
	switch {
	case !slash && mode == rulebook.SlashAdd:
		target = with
	case slash && mode == rulebook.SlashDrop && n.Path != "":
		target = strings.TrimSuffix(with, "/")
	}
	if target != "" {
		s.path = asked
		r.Status, r.Cause, r.By = http.StatusMovedPermanently, CauseSlash, by
		r.Location = request.Address{Path: target, Query: encodeStray(s.query), HasQuery: s.query != ""}.Target()
		s.note(by, "a folder: answers 301 to %s", r.Location)
		return
	}
	documents, by := []string{rulebook.UsualDocument}, nil
	if e := s.first(groupFolder, func(r *rulebook.Rule) bool { return r.Action.(*rulebook.Folder).Documents != nil }); e != nil {
		documents, by = e.Action.(*rulebook.Folder).Documents, e.Rule
	}
	for _, name := range documents {
		doc := s.site.tree.Find(n.Path + "/" + canonical.Spell(name))
		if doc == nil || doc.Folder || doc.Hidden && !n.Hidden && !s.showsHidden() {
			continue
		}
		s.path = asked
		r.Status, r.Cause, r.By, r.File = http.StatusOK, CauseDocument, by, doc
		s.note(by, "a folder: its document %s is served", doc.Name())
		return
	}
	listing := s.first(groupFolder, func(r *rulebook.Rule) bool { return r.Action.(*rulebook.Folder).Listing != nil })
	if listing != nil && *listing.Action.(*rulebook.Folder).Listing {
		s.list(r, n, with)
		s.path = asked
		r.Status, r.Cause, r.By = http.StatusOK, CauseListing, listing.Rule
		s.note(listing.Rule, "a folder: it is listed")
		return
	}
	s.path = asked
	what := "the folder has no index page, and its listing is off"
	if s.trace != nil && len(documents) > 0 {
		what = "the folder has none of its documents (" + strings.Join(documents, " ") + "), and is not listed"
	}
	s.missing(r, http.StatusForbidden, CauseNoDocument, what)
}
