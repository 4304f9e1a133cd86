package lsp

// Where a name is given and where it is used: lists, captures, entries, files.

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"unicode"

	"kibitz/core/canonical"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

func isNamePart(r rune) bool {
	return r == '_' || unicode.IsLetter(r) || unicode.IsDigit(r)
}

// An occurrence is a place where a name stands.
type occurrence struct {
	location
	declares bool
}

// outlines are the texts of the rulebook, by path: those of the editor, and those on disk.
func (v *view) outlines() map[string]*rulebook.Outline {
	out := map[string]*rulebook.Outline{v.doc.path: v.doc.outline}
	var names []string
	if v.project.book != nil {
		for _, s := range v.project.book.Sources {
			names = append(names, v.project.path(s.Name))
		}
	} else {
		names = append(names, v.project.path(v.project.main))
	}
	for _, path := range names {
		if out[path] != nil {
			continue
		}
		if text, err := v.load(path); err == nil {
			out[path] = rulebook.Outlined(filepath.Base(path), text)
		}
	}
	return out
}

// occurrences gives the places where what stands at the cursor is named, and its name.
func (v *view) occurrences() (name string, at rulebook.Word, all []occurrence) {
	s := v.spot()
	if s == nil {
		return "", at, nil
	}
	add := func(path string, w rulebook.Word, declares bool) {
		all = append(all, occurrence{location{uriOf(path), spanOfWord(w)}, declares})
	}
	list, isRef := "", false
	if name, at, isRef = s.reference(); isRef {
		for _, r := range refsOf(s.entry, s.index) {
			if r.list && r.name == name {
				list = name
			}
		}
	} else if s.isName() && s.entry.Kind == rulebook.KindList {
		name, at, list = s.word.Text, *s.word, s.word.Text
	}
	captured := slices.IndexFunc(capturesOf(s.entry), func(c capture) bool {
		return isRef && c.name == name || !isRef && c.word.Place.Line == v.Position.Line+1 && contains(c.word, s.col)
	})
	switch {
	case list != "":
		for path, o := range v.outlines() {
			for _, e := range o.Entries {
				if e.Kind == rulebook.KindList && e.Name != nil && e.Name.Text == list {
					add(path, *e.Name, true)
				}
				for i := range e.Words {
					for _, r := range refsOf(e, i) {
						if r.list && r.name == list {
							add(path, r.word, false)
						}
					}
				}
			}
		}
	case captured >= 0:
		c := capturesOf(s.entry)[captured]
		if name = c.name; !isRef {
			at = c.word
		}
		for _, other := range capturesOf(s.entry) {
			if other.name == name {
				add(v.doc.path, other.word, true)
			}
		}
		for i := range s.entry.Words {
			for _, r := range refsOf(s.entry, i) {
				if !r.list && r.name == name {
					add(v.doc.path, r.word, false)
				}
			}
		}
	case s.word != nil && namesFile(s.entry, s.index):
		name, at = s.word.Text, *s.word
		for path, o := range v.outlines() {
			for _, e := range o.Entries {
				for i, w := range e.Words {
					if namesFile(e, i) && beside(path, w.Text) == beside(v.doc.path, name) {
						add(path, w, false)
					}
				}
			}
		}
	case s.isName() || s.word != nil && s.index > 0 && s.clause == "example" && s.entry.Words[s.index-1].Text == "by":
		name, at = s.word.Text, *s.word
		for path, o := range v.outlines() {
			for _, e := range o.Entries {
				if e.Kind.IsRule() && e.Name != nil && strings.EqualFold(e.Name.Text, name) {
					add(path, *e.Name, true)
				}
				for i, w := range e.Words {
					if clause, _ := e.Clause(i); clause == "example" && strings.EqualFold(w.Text, name) && e.Words[i-1].Text == "by" {
						add(path, w, false)
					}
				}
			}
		}
		if s.isName() && !s.entry.Kind.IsRule() && len(all) == 0 { // a site
			add(v.doc.path, *s.word, true)
		}
	}
	return name, at, all
}

func definitionAt(v *view) ([]location, error) {
	out := []location{}
	if path := v.fileAt(); path != "" {
		return append(out, location{uriOf(path), lines(0, 0)}), nil
	}
	_, _, all := v.occurrences()
	for _, o := range all {
		if o.declares {
			out = append(out, o.location)
		}
	}
	return out, nil
}

// namesFile reports whether a word names a file of the rulebook.
func namesFile(e *rulebook.OutlineEntry, i int) bool {
	clause, first := e.Clause(i)
	return e.Kind == rulebook.KindInclude && i == 1 || slices.Contains([]string{"table", "accounts", "inventory"}, clause) && i > first
}

// beside is the file that a name means in the file at a path.
func beside(path, name string) string {
	if name = filepath.FromSlash(name); filepath.IsAbs(name) {
		return filepath.Clean(name)
	}
	return filepath.Join(filepath.Dir(path), name)
}

// fileAt gives the file that the word at the cursor names; "" for none.
func (v *view) fileAt() string {
	s := v.spot()
	if s == nil || s.word == nil {
		return ""
	}
	text := s.word.Text
	switch {
	case namesFile(s.entry, s.index):
		return beside(v.doc.path, text)
	case (s.clause == "to" || s.clause == "show" || s.clause == "preload") && strings.HasPrefix(text, "/") && !strings.Contains(text, "{"):
		if v.project.state == nil {
			return ""
		}
		e := v.project.state.engine
		for _, site := range e.Book.Sites {
			path, _, _ := strings.Cut(text, "?")
			path, _, _ = strings.Cut(path, "#")
			req := &request.Request{Address: site.Address}
			req.Address.Path = canonical.Spell(path)
			if file := e.Predict(req).File; e.KnowsTree(site) && site.Files != "" && file != nil {
				return v.project.path(filepath.Join(site.Files, filepath.FromSlash(canonical.Decode(file.Path))))
			}
		}
	}
	return ""
}

func referencesAt(v *view) ([]location, error) {
	out := []location{}
	_, _, all := v.occurrences()
	for _, o := range all {
		if v.Context.IncludeDeclaration || !o.declares {
			out = append(out, o.location)
		}
	}
	return out, nil
}

func prepareRenameAt(v *view) (any, error) {
	name, at, all := v.occurrences()
	if len(all) == 0 {
		return nil, errors.New("what stands here has no name to change: an entry, a list and a capture have")
	}
	return map[string]any{"range": spanOfWord(at), "placeholder": name}, nil
}

func renameAt(v *view) (*workspaceEdit, error) {
	name, _, all := v.occurrences()
	if len(all) == 0 {
		return nil, errors.New("what stands here has no name to change: an entry, a list and a capture have")
	}
	if s := v.spot(); namesFile(s.entry, s.index) {
		return v.renameFile(all)
	}
	for i, r := range v.NewName {
		if !isNamePart(r) && r != '-' && r != '.' || i == 0 && (r == '-' || r == '.') {
			return nil, fmt.Errorf("%q is not a name: letters, digits, - _ and . are", v.NewName)
		}
	}
	if v.NewName == "" {
		return nil, errors.New("a name has at least one letter")
	}
	if v.project.book == nil {
		return nil, errors.New("the rulebook has mistakes, so it is not known where the name stands: correct them first")
	}
	edit := renamed(all, v.NewName)
	if err := v.holds(edit); err != nil {
		return nil, fmt.Errorf("%s cannot be called %s: %w", name, v.NewName, err)
	}
	return edit, nil
}

// renamed is the edit that writes a name at all its places.
func renamed(all []occurrence, name string) *workspaceEdit {
	edit := &workspaceEdit{Changes: map[string][]textEdit{}}
	for _, o := range all {
		edit.Changes[o.URI] = append(edit.Changes[o.URI], textEdit{o.Range, name})
	}
	return edit
}

// renameFile is the edit that names a file otherwise, and lets the editor move it, where it
// stays in its folder: else the places would have to be written in several ways.
func (v *view) renameFile(all []occurrence) (*workspaceEdit, error) {
	s := v.spot()
	from, to := beside(v.doc.path, s.word.Text), beside(v.doc.path, v.NewName)
	if filepath.Dir(from) != filepath.Dir(to) || strings.ContainsAny(v.NewName, " \t\"#") {
		return nil, errors.New("a file is given another name in its own folder, without blanks: move it by hand")
	}
	if _, err := os.Stat(to); err == nil {
		return nil, fmt.Errorf("%s is there already", v.NewName)
	}
	edit := renamed(nil, "")
	edit.DocumentChanges = append(edit.DocumentChanges, renameFile{Kind: "rename", OldURI: uriOf(from), NewURI: uriOf(to)})
	byFile := renamed(all, v.NewName).Changes
	for _, uri := range slices.Sorted(maps.Keys(byFile)) {
		change := documentEdit{Edits: byFile[uri]}
		change.TextDocument.URI = uri
		if doc := v.docs[pathOf(uri)]; doc != nil {
			change.TextDocument.Version = &doc.version
		}
		edit.DocumentChanges = append(edit.DocumentChanges, change)
	}
	edit.Changes = nil
	return edit, nil
}

// holds reads the rulebook with an edit; the error is its first mistake.
func (v *view) holds(edit *workspaceEdit) error {
	p := &project{dir: v.project.dir, main: v.project.main}
	p.read(func(path string) ([]byte, error) {
		text, err := v.load(path)
		edits := slices.Clone(edit.Changes[uriOf(path)])
		slices.SortFunc(edits, func(a, b textEdit) int { // from behind
			return byteAt(string(text), b.Range.Start) - byteAt(string(text), a.Range.Start)
		})
		now := string(text)
		for _, e := range edits {
			now = now[:byteAt(now, e.Range.Start)] + e.NewText + now[byteAt(now, e.Range.End):]
		}
		return []byte(now), err
	})
	if len(p.errs) > 0 {
		return errors.New(p.errs[0].Message)
	}
	return p.failed
}

// symbolsOf are the sites with their entries.
func symbolsOf(v *view) ([]documentSymbol, error) {
	out := []documentSymbol{}
	for _, e := range v.doc.outline.Entries {
		from, to := e.Extent()
		first := e.Words[0]
		symbol := documentSymbol{Name: first.Text, Kind: symbolFunction, Range: span{position{from, 0}, lineEnd(v.doc.outline.Source, to)}, SelectionRange: spanOfWord(first)}
		if e.Name != nil {
			symbol.Name, symbol.Detail, symbol.SelectionRange = e.Name.Text, first.Text, spanOfWord(*e.Name)
		}
		switch e.Kind {
		case rulebook.KindSite:
			symbol.Kind = symbolNamespace
		case rulebook.KindList:
			symbol.Kind = symbolArray
		case rulebook.KindInclude:
			symbol.Kind = symbolClass
			if len(e.Words) > 1 {
				symbol.Name, symbol.Detail = e.Words[1].Text, first.Text
			}
		}
		if n := len(out); n > 0 && out[n-1].Kind == symbolNamespace && symbol.Kind != symbolNamespace {
			out[n-1].Children = append(out[n-1].Children, symbol)
			out[n-1].Range.End = symbol.Range.End
			continue
		}
		out = append(out, symbol)
	}
	return out, nil
}

// lineEnd is the end of a line, counted from 1.
func lineEnd(src *rulebook.Source, line int) position {
	return position{max(line-1, 0), units(lineOf(src, line))}
}

// foldsOf are the entries of several lines, the sites, and the comments.
func foldsOf(v *view) ([]foldingRange, error) {
	out := []foldingRange{}
	o := v.doc.outline
	add := func(from, to int, kind string) {
		if to > from {
			out = append(out, foldingRange{from, to, kind})
		}
	}
	site := -1
	last := 0
	for _, e := range o.Entries {
		from, to := e.Extent()
		if e.Kind == rulebook.KindSite {
			if site >= 0 {
				add(site, last, "")
			}
			site = from
		}
		if last = to - 1; e.Kind != rulebook.KindSite {
			add(from, last, "")
		}
	}
	if site >= 0 {
		add(site, last, "")
	}
	for i := 0; i < len(o.Lines); i++ {
		begin := i
		for i < len(o.Lines) && o.Lines[i].Comment.Text != "" && len(o.Lines[i].Words) == 0 {
			i++
		}
		add(begin, i-1, "comment")
	}
	return out, nil
}

// formatted is the one edit that lays the text out; none where it has mistakes.
func formatted(v *view) ([]textEdit, error) {
	laid, err := rulebook.Format(v.doc.path, []byte(v.doc.text))
	if err != nil {
		return nil, errors.New("a rulebook with mistakes is not laid out")
	}
	if string(laid) == v.doc.text {
		return []textEdit{}, nil
	}
	end := position{strings.Count(v.doc.text, "\n"), units(v.doc.text[strings.LastIndexByte(v.doc.text, '\n')+1:])}
	return []textEdit{{span{position{}, end}, string(laid)}}, nil
}
