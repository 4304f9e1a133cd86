package lsp

// What may stand at the cursor.

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/proof"
	"kibitz/core/rulebook"
	"kibitz/core/site"
	"kibitz/docs"
)

// A completer gathers what may stand in the place of a word.
type completer struct {
	*view
	src    *rulebook.Source
	typed  string // the word up to the cursor
	edited span   // what an item takes the place of
	items  []completionItem
	seen   map[string]bool
}

// maxItems is how many items are sent; the editor asks again as more is typed.
const maxItems = 200

func completeAt(v *view) (*completionList, error) {
	o := v.doc.outline
	c := &completer{view: v, src: o.Source, seen: map[string]bool{}}
	line := []rune(lineOf(o.Source, v.Position.Line+1))
	col := column(o.Source, v.Position) - 1
	from := col
	for from > 0 && line[from-1] != ' ' && line[from-1] != '\t' {
		from--
	}
	c.typed = string(line[from:col])
	if l := v.Position.Line; l < len(o.Lines) && o.Lines[l].Comment.Text != "" && col >= o.Lines[l].Comment.Place.Col {
		return &completionList{Items: []completionItem{}}, nil
	}
	before := strings.TrimSpace(string(line[:from]))
	indented := len(line) > 0 && (line[0] == ' ' || line[0] == '\t')
	c.range_(from, col)
	switch brace := strings.LastIndexByte(c.typed, '{'); {
	case before == "" && !indented:
		for _, k := range rulebook.Kinds() {
			c.add(string(k), itemKeyword, firstSentence(docs.Section(docs.Language, "### "+string(k))))
		}
	default:
		var words []rulebook.Word // of the entry, up to the cursor
		entry := c.entryBefore(v.Position.Line+1, from+1)
		if entry == nil {
			break
		}
		words = entry.Words
		clause, first := entry.Clause(len(words) - 1)
		n := len(words) - first - 1 // values of that clause that stand already
		if brace >= 0 && !strings.Contains(c.typed[brace:], "}") && c.braced(entry, clause, n) {
			c.range_(from+len([]rune(c.typed[:brace]))+1, col)
			c.values(v.doc.outline.At(v.Position.Line+1), clause, c.typed[brace+1:])
			break
		}
		c.after(entry, clause, n, words)
	}
	slices.SortStableFunc(c.items, func(a, b completionItem) int { return strings.Compare(a.SortText, b.SortText) })
	all := len(c.items)
	return &completionList{IsIncomplete: all > maxItems, Items: c.items[:min(all, maxItems)]}, nil
}

// range_ says what the items take the place of: characters of the line, from 0.
func (c *completer) range_(from, to int) {
	at := rulebook.Place{Source: c.src, Line: c.Position.Line + 1, Col: from + 1}
	end := at
	end.Col = to + 1
	c.edited = span{position{c.Position.Line, positionOf(at).Character}, position{c.Position.Line, positionOf(end).Character}}
}

// add adds an item, if it fits to what was typed.
func (c *completer) add(label string, kind int, detail string) {
	typed := c.typed
	if i := strings.LastIndexAny(typed, "{|"); i >= 0 && kind != itemFile && kind != itemFolder {
		typed = typed[i+1:]
	}
	if c.seen[label] || !strings.HasPrefix(strings.ToLower(label), strings.ToLower(typed)) {
		return
	}
	c.seen[label] = true
	c.items = append(c.items, completionItem{Label: label, Kind: kind, Detail: detail, SortText: fmt.Sprintf("%04d", len(c.items)), TextEdit: &textEdit{c.edited, label}})
}

// entryBefore is the entry at a line with its words before a column.
func (c *completer) entryBefore(line, col int) *rulebook.OutlineEntry {
	e := c.doc.outline.At(line)
	if e == nil {
		return nil
	}
	before := *e
	before.Words = nil
	for _, w := range e.Words {
		if w.Place.Line < line || w.Place.Line == line && w.Place.Col < col {
			before.Words = append(before.Words, w)
		}
	}
	if len(before.Words) < 2 {
		before.Name = nil
	}
	if len(before.Words) == 0 {
		return nil
	}
	return &before
}

// braced reports whether a brace begins a value, and no group of a pattern.
func (c *completer) braced(e *rulebook.OutlineEntry, clause string, n int) bool {
	return takesValues(clause) || isTest(clause) && n > 0
}

// values are the names that may stand in braces: of lists in a test; of captures, fields and
// filters in a text.
func (c *completer) values(e *rulebook.OutlineEntry, clause, typed string) {
	if isTest(clause) {
		for _, o := range c.outlines() {
			for _, other := range o.Entries {
				if other.Kind == rulebook.KindList && other.Name != nil {
					c.add(other.Name.Text, itemVariable, "list")
				}
			}
		}
		return
	}
	if strings.Contains(typed, "|") {
		c.range_(column(c.src, c.Position)-1-len([]rune(typed[strings.LastIndexByte(typed, '|')+1:])), column(c.src, c.Position)-1)
		for _, f := range rulebook.Filters {
			c.add(f, itemKeyword, "filter")
		}
		return
	}
	for _, capture := range capturesOf(e) {
		c.add(capture.name, itemVariable, "takes part of "+capture.pattern)
	}
	if e.Has("in") {
		c.add(rulebook.Below, itemVariable, "the path below the folder")
	}
	c.fields()
}

func (c *completer) fields() {
	for _, word := range rulebook.FieldWords() {
		word = strings.TrimSuffix(word, "NAME")
		detail := tellsField(strings.TrimSuffix(word, "."))
		if detail == "" {
			detail = tellsField(word + "NAME")
		}
		_, detail, _ = strings.Cut(detail, "**: ")
		c.add(word, itemProperty, detail)
	}
}

// quoted are the words in backticks of a sentence.
var quoted = regexp.MustCompile("`([^`]*)`")

// after gives what may stand behind the words of an entry.
func (c *completer) after(e *rulebook.OutlineEntry, clause string, n int, words []rulebook.Word) {
	needs, _ := e.Kind.Needs(clause)
	switch {
	case isTest(clause) && n == 0:
		c.fields()
		return
	case isTest(clause):
		c.testValues(words[len(words)-n].Text)
	case clause == "accept" && n == 0:
		for _, k := range proof.Kinds() {
			c.add(k.Name, itemReference, string(k.Severity)+": "+k.Summary)
		}
		return
	case clause == "as" || clause == "with" || clause == "for" || clause == "refuse":
		if clause == "as" {
			c.add("permanent", itemValue, tellsStatusShort("301"))
			c.add("temporary", itemValue, tellsStatusShort("302"))
		}
		for _, status := range statuses[clause] {
			c.add(status, itemValue, tellsStatusShort(status))
		}
	case (clause == "set" || clause == "add" || clause == "default" || clause == "drop") && n == 0:
		for _, name := range headerNames {
			c.add(name, itemValue, "header field")
		}
		return
	case clause == "to" && n == 0, clause == "show" && n == 0, clause == "on", clause == "preload" && n == 0:
		c.paths(false)
	case clause == "in":
		c.paths(true)
	case clause == "example":
		c.paths(false)
		return
	default:
		for _, m := range quoted.FindAllStringSubmatch(needs, -1) {
			for _, word := range strings.Fields(m[1]) {
				if word != clause && !strings.ContainsAny(word, "/…=") && n == 0 {
					c.add(word, itemValue, "")
				}
			}
		}
	}
	if clause != "" && n == 0 && needs != "" {
		return // it wants a value first
	}
	for _, word := range e.Kind.Keywords() {
		if e.May(word) {
			what, _ := e.Kind.Needs(word)
			c.add(word, itemKeyword, what)
		}
	}
}

// testValues are the words that a field can be compared with.
func (c *completer) testValues(field string) {
	for _, o := range c.outlines() {
		for _, other := range o.Entries {
			if other.Kind == rulebook.KindList && other.Name != nil {
				c.add("{"+other.Name.Text+"}", itemVariable, "list")
			}
		}
	}
	for _, word := range rulebook.TestWords(field) {
		c.add(word, itemValue, "")
	}
	if field == "path" || field == "asked" {
		c.paths(false)
	}
}

// paths are those of the trees that begin as what was typed, a folder at a time.
func (c *completer) paths(folders bool) {
	st := c.project.state
	if st == nil || c.typed != "" && !strings.HasPrefix(c.typed, "/") {
		return
	}
	dir := c.typed[:strings.LastIndexByte(c.typed, '/')+1]
	for _, s := range st.engine.Book.Sites {
		if !st.engine.KnowsTree(s) {
			continue
		}
		node := st.engine.Tree(s).Find(strings.TrimSuffix(canonical.Spell(dir), "/"))
		if node == nil || !node.Folder {
			continue
		}
		if dir == "" {
			dir = "/"
		}
		for _, child := range node.Children {
			if child.Hidden || strings.ContainsAny(child.Name(), " \"#{}*:()\\?+~") {
				continue
			}
			name := dir + canonical.Decode(child.Name())
			switch {
			case child.Folder:
				c.add(name+"/", itemFolder, "folder")
			case !folders:
				c.add(name, itemFile, "file")
			}
		}
	}
}

// pathsOf are the canonical paths of a tree's files that are not hidden.
func pathsOf(t *site.Tree) (out []string) {
	t.Each(func(n *site.Node) {
		if !n.Folder && !n.Hidden {
			out = append(out, n.Path)
		}
	})
	return out
}

// firstSentence is that of a part of a document, without its heading.
func firstSentence(section string) string {
	_, text, _ := strings.Cut(strings.TrimSpace(section), "\n")
	text, _, _ = strings.Cut(strings.TrimSpace(text), "\n")
	if i := strings.Index(text, ". "); i > 0 {
		text = text[:i+1]
	}
	return strings.ReplaceAll(text, "`", "")
}

func tellsStatusShort(status string) string {
	_, said, _ := strings.Cut(tellsStatus(status), "** ")
	return strings.ReplaceAll(said, "`", "")
}

// statuses are those that are usual behind a clause.
var statuses = map[string][]string{
	"as":     {"301", "302", "303", "307", "308"},
	"with":   {"200", "404", "410", "451", "503"},
	"for":    {"403", "404", "410", "500", "503", "4xx", "5xx"},
	"refuse": {"403", "404", "405", "413"},
}

// headerNames are response header fields that sites often set (RFC 9110, RFC 9111, Fetch,
// CSP, HSTS and others of their kind).
var headerNames = []string{
	"Access-Control-Allow-Origin", "Cache-Control", "Content-Language", "Content-Security-Policy", "Content-Security-Policy-Report-Only",
	"Cross-Origin-Embedder-Policy", "Cross-Origin-Opener-Policy", "Cross-Origin-Resource-Policy", "Expires", "Link", "Permissions-Policy",
	"Referrer-Policy", "Retry-After", "Set-Cookie", "Strict-Transport-Security", "Vary", "X-Content-Type-Options", "X-Frame-Options", "X-Robots-Tag",
}
