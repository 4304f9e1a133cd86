package lsp

// What is told of the word at the cursor.

import (
	"fmt"
	"slices"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/pattern"
	"kibitz/core/proof"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/docs"
	"kibitz/internal/render"
)

func hoverAt(v *view) (*hover, error) {
	s := v.spot()
	if s == nil || s.word == nil {
		return nil, nil
	}
	at, text := *s.word, ""
	name, word, isRef := s.reference()
	switch {
	case isRef:
		at, text = word, v.tellsValue(s, name)
	case s.isKind() || s.isName():
		text = v.tellsEntry(s)
	case s.isKeyword():
		text = tellsKeyword(s.entry.Kind, s.word.Text)
	case s.isField():
		text = tellsField(s.word.Text)
	case s.isPattern():
		text = v.tellsPattern(s.word.Text, s.entry.Has("ignoring"))
	case s.clause == "accept" && s.index == s.first+1:
		text = tellsFinding(s.word.Text)
	case slices.Contains([]string{"as", "with", "for", "refuse"}, s.clause):
		text = tellsStatus(s.word.Text)
	}
	if text == "" {
		return nil, nil
	}
	return &hover{markdown(strings.TrimSpace(text)), spanOfWord(at)}, nil
}

// code shows a text as code, whatever is in it.
func code(text string) string {
	text = strings.Map(func(r rune) rune {
		if r < ' ' {
			return '?'
		}
		return r
	}, text)
	fence := "`"
	for strings.Contains(text, fence) {
		fence += "`"
	}
	if len(fence) > 1 {
		return fence + " " + text + " " + fence
	}
	return fence + text + fence
}

// fenced shows lines as code.
func fenced(text string) string { return "```kibitz\n" + strings.TrimRight(text, "\n") + "\n```\n" }

// tellsEntry says what an entry does, what came to it and what is known of it; of a kind
// alone what the documents say.
func (v *view) tellsEntry(s *spot) string {
	kind := docs.Section(docs.Language, "### "+string(s.entry.Kind))
	p := v.project
	if p.state == nil || !s.entry.Kind.IsRule() {
		return kind
	}
	rule := p.rule(v.doc.path, s.entry.Words[0].Place.Line)
	if rule == nil || rule.Number >= len(p.state.engine.Book.Rules) {
		return kind
	}
	known := p.state.engine.Book.Rules[rule.Number] // of the text that was looked into
	if known.Name != rule.Name {
		return kind
	}
	e := p.state.engine
	var b strings.Builder
	fmt.Fprintf(&b, "**%s** %s\n\n", known.Kind, code(known.Name))
	if req := proof.Sample(e, known); req != nil {
		resp := e.Predict(req)
		fmt.Fprintf(&b, "%s is answered %d", code(v.asked(req)), resp.Status)
		switch {
		case resp.Location != "":
			fmt.Fprintf(&b, " to %s", code(resp.Location))
		case resp.File != nil:
			fmt.Fprintf(&b, " with %s", code(canonical.Decode(resp.File.Path)))
		}
		b.WriteString(".\n\n")
	} else {
		b.WriteString("No request was found that it decides.\n\n")
	}
	for i, ex := range known.Examples {
		fmt.Fprintf(&b, "- example %s %s\n", code(ex.URL), exampleState(e, known, i))
	}
	for _, l := range p.state.lists {
		fmt.Fprintf(&b, "- decides %s of %s of %s\n", count(l.entries[known.Place.String()].N), render.Count(int(l.requests), "request"), code(l.name))
	}
	for _, f := range p.state.report.Findings {
		if f.Name != "example-fails" && slices.Contains(f.Rules, known) {
			fmt.Fprintf(&b, "- %s, %s: %s\n", f.Severity, code(f.Name), f.Message)
		}
	}
	var proved []string
	for _, c := range p.state.report.Claims {
		if c.State == proof.Proved && slices.Contains(c.Names, known.Name) {
			proved = append(proved, code(c.Finding))
		}
	}
	if len(proved) > 0 {
		fmt.Fprintf(&b, "- proved to have no %s\n", strings.Join(proved, ", "))
	}
	return b.String()
}

// asked is how a request is written in a list.
func (v *view) asked(req *request.Request) string {
	said := req.Address.String()
	if req.Verb() != "GET" {
		said = req.Verb() + " " + said
	}
	for _, h := range req.Headers {
		said += " " + h.Name + ": " + h.Value
	}
	if req.Client.IsValid() {
		said += " from " + req.Client.String()
	}
	return said
}

// count is a number as people read it.
func count(n int64) string {
	if n == 0 {
		return "none"
	}
	return render.Number(n)
}

// tellsKeyword gives what the documents say of a clause: its own part, or what its kind says.
func tellsKeyword(kind rulebook.Kind, word string) string {
	for _, heading := range []string{word, "when and unless", "ignoring case"} {
		if heading == word || slices.Contains(strings.Fields(heading), word) {
			if part := docs.Section(docs.Language, "### "+heading); part != "" {
				return part
			}
		}
	}
	needs, _ := kind.Needs(word)
	if needs != "" {
		needs = code(word) + " takes " + needs + ".\n\n"
	}
	return needs + docs.Section(docs.Language, "### "+string(kind))
}

// tableRow gives what a table of the documents says of a word.
func tableRow(section, word string) string {
	if cells := docs.Row(docs.Section(docs.Language, section), word); cells != nil {
		return "**" + word + "**: " + strings.TrimSpace(strings.Join(cells[1:], "; "))
	}
	return ""
}

func tellsField(word string) string {
	if row := tableRow("## Fields", word); row != "" {
		return row
	}
	family, name, ok := strings.Cut(word, ".")
	if !ok {
		return ""
	}
	if row := tableRow("## Fields", family+".NAME"); row != "" {
		return strings.Replace(row, family+".NAME", word, 1) + "; here " + code(name)
	}
	return ""
}

func tellsStatus(word string) string {
	for _, row := range strings.Split(docs.Section(docs.Language, "## Statuses"), "\n") {
		cells := strings.Split(strings.Trim(row, "| "), " | ")
		status := map[string]string{"permanent": "301", "temporary": "302"}[word]
		if status == "" {
			status = word
		}
		if len(cells) > 1 && slices.Contains(strings.Split(cells[0], ", "), status) {
			return "**" + status + "** " + strings.Trim(strings.Join(cells[1:], "; a browser "), " |")
		}
	}
	return ""
}

func tellsFinding(name string) string {
	for _, k := range proof.Kinds() {
		if k.Name == name {
			return fmt.Sprintf("**%s** (%s): %s.\n\nBefore\n\n%s\nAfter\n\n%s", k.Name, k.Severity, k.Summary, fenced(k.Before), fenced(k.After))
		}
	}
	return ""
}

// tellsValue says what a name in braces stands for.
func (v *view) tellsValue(s *spot, name string) string {
	for _, r := range refsOf(s.entry, s.index) {
		if !r.list || r.name != name {
			continue
		}
		for _, o := range v.outlines() {
			for _, e := range o.Entries {
				if e.Kind == rulebook.KindList && e.Name != nil && e.Name.Text == name {
					var values []string
					for _, w := range e.Words[2:] {
						values = append(values, code(w.Text))
					}
					return fmt.Sprintf("the list **%s**: %s", name, strings.Join(values, " "))
				}
			}
		}
		return fmt.Sprintf("There is no list **%s**.", name)
	}
	for _, c := range capturesOf(s.entry) {
		if c.name == name {
			return fmt.Sprintf("**%s**: what %s takes at that place", name, code(c.pattern))
		}
	}
	if name == rulebook.Below {
		return "**below**: what the path has below the folder of `in`, without the slash between; empty at the folder itself"
	}
	return tellsField(name)
}

// examplesOf is how many addresses are shown that a pattern takes, and near ones that it
// does not.
const examplesOf = 3

// tellsPattern shows addresses that a pattern takes, of the tree and the lists where they are
// there, and near ones that it does not take.
func (v *view) tellsPattern(text string, fold bool) string {
	p, err := pattern.Path(text, fold)
	if err != nil {
		return ""
	}
	takes := v.taken(p)
	var not []string
	for _, path := range takes {
		for _, near := range nearTo(path) {
			if !p.Match(near) && !slices.Contains(not, near) {
				not = append(not, near)
			}
		}
	}
	var b strings.Builder
	show := func(said string, paths []string) {
		for i, path := range paths {
			if i == 0 {
				b.WriteString(said + "\n\n")
			}
			if i == examplesOf {
				break
			}
			b.WriteString("- " + code(canonical.Decode(path)) + "\n")
		}
		b.WriteString("\n")
	}
	show("Takes", takes)
	show("Does not take", not)
	return b.String()
}

// taken gives paths that a pattern takes: those of the tree first.
func (v *view) taken(p *pattern.Pattern) (out []string) {
	if st := v.project.state; st != nil {
		for _, s := range st.engine.Book.Sites {
			if !st.engine.KnowsTree(s) {
				continue
			}
			for _, path := range pathsOf(st.engine.Tree(s)) {
				if len(out) < examplesOf && p.Match(path) {
					out = append(out, path)
				}
			}
		}
	}
	for _, path := range append(p.Filled("avocet"), p.Words(examplesOf)...) {
		if len(out) < examplesOf && p.Match(path) && !slices.Contains(out, path) {
			out = append(out, path)
		}
	}
	return out
}

// nearTo gives what people write for a path by mistake: with or without the slash at its
// end, one segment less or more, another extension, capitals.
func nearTo(path string) []string {
	last := strings.LastIndexByte(strings.TrimSuffix(path, "/"), '/')
	near := []string{strings.TrimSuffix(path, "/") + "/", strings.TrimSuffix(path, "/"), path + "/more", path[:last+1], strings.ToUpper(path), path + "x"}
	if dot := strings.LastIndexByte(path, '.'); dot > last {
		near = append(near, path[:dot])
	}
	return slices.DeleteFunc(near, func(s string) bool { return s == "" || s == path || strings.Contains(s, "//") })
}
