package lsp

// Fixes that were tried, and what is shown beside the text: whether examples hold, and how
// many requests an entry decides.

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/fix"
	"kibitz/core/proof"
	"kibitz/core/rulebook"
	"kibitz/internal/render"
)

// codeActions gives the ways to mend the findings in the range: those that hold when they are
// run, and to accept the finding.
func (s *server) codeActions(ctx context.Context, raw json.RawMessage) (any, error) {
	s.mu.Lock()
	v, err := s.view(raw)
	if err != nil {
		s.mu.Unlock()
		return nil, err
	}
	p := v.project
	st, path := p.state, v.doc.path
	var findings []*proof.Finding
	var said []diagnostic
	for _, f := range p.findings() {
		d := p.diagnosticOf(f)
		if p.path(f.Place.Source.Name) == path && d.Range.Start.Line <= v.Range.End.Line && d.Range.End.Line >= v.Range.Start.Line {
			findings, said = append(findings, f), append(said, d)
		}
	}
	current := st != nil && st.version == p.version
	load := p.loader(s.load)
	s.mu.Unlock()
	out := []codeAction{}
	if !current { // places may have moved: the editor asks again
		return out, nil
	}
	for i, f := range findings {
		ways := fix.Ways(st.engine, st.report, f, fix.Options{Look: proof.Options{Effort: 1, NoPages: true}, Load: func(name string) ([]byte, error) {
			s.mu.Lock()
			defer s.mu.Unlock()
			return load(name)
		}})
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		for _, way := range ways {
			out = append(out, codeAction{Title: f.Name + ": " + way.Says, Kind: "quickfix", Diagnostics: said[i : i+1], IsPreferred: len(out) == 0, Edit: p.edit(way.Edits)})
		}
		if len(f.Rules) > 0 && f.Severity != proof.Error {
			r := f.Rules[0]
			out = append(out, codeAction{Title: fmt.Sprintf("accept %s at %s", f.Name, r.Name), Kind: "quickfix", Diagnostics: said[i : i+1],
				Edit: p.edit([]rulebook.Edit{r.With(fmt.Sprintf("accept %s \"it is meant\"", f.Name))})})
		}
	}
	return out, nil
}

// edit gives edits of the rulebook's lines as the protocol has them.
func (p *project) edit(edits []rulebook.Edit) workspaceEdit {
	out := workspaceEdit{Changes: map[string][]textEdit{}}
	for _, e := range edits {
		uri := uriOf(p.path(e.Source.Name))
		text := strings.Join(append(append([]string{}, e.Lines...), ""), "\n")
		at := lines(e.From, e.To)
		if n := len(e.Source.Lines); e.To >= n { // the last line may have no end
			at = span{lineEnd(e.Source, e.From), lineEnd(e.Source, n)}
			text = "\n" + strings.TrimSuffix(text, "\n")
			if len(e.Lines) == 0 {
				text = ""
			}
			if e.From == 0 {
				at.Start, text = position{}, strings.TrimPrefix(text, "\n")
			}
		}
		out.Changes[uri] = append(out.Changes[uri], textEdit{at, text})
	}
	return out
}

// exampleState says whether an example of an entry holds.
func exampleState(e *engine.Engine, r *rulebook.Rule, i int) string {
	req, err := e.Book.ExampleRequest(r, &r.Examples[i])
	if err != nil {
		return "cannot be asked: " + err.Error()
	}
	visit := browser.Open(e, req)
	unmet := browser.Unmet(&r.Examples[i].Expects, visit)
	if len(unmet) == 0 {
		return "holds"
	}
	return "does not hold: " + strings.Join(unmet, "; ")
}

// lensesOf say of each example whether it holds.
func lensesOf(v *view) ([]codeLens, error) {
	out := []codeLens{}
	p := v.project
	if p.state == nil || p.state.version != p.version {
		return out, nil
	}
	e := p.state.engine
	for _, r := range e.Book.Rules {
		if p.path(r.Place.Source.Name) != v.doc.path {
			continue
		}
		for i := range r.Examples {
			out = append(out, codeLens{spanOf(r.Examples[i].Place, r.Examples[i].Width), command{Title: exampleState(e, r, i)}})
		}
	}
	return out, nil
}

// hintsOf say behind the first line of each entry how many requests of the lists it decides.
func hintsOf(v *view) ([]inlayHint, error) {
	out := []inlayHint{}
	p := v.project
	if p.state == nil || p.state.version != p.version || len(p.state.lists) == 0 {
		return out, nil
	}
	for _, r := range p.state.engine.Book.Rules {
		at := lineEnd(r.Place.Source, r.Place.Line)
		if p.path(r.Place.Source.Name) != v.doc.path || !decides(r) || at.Line < v.Range.Start.Line || at.Line > v.Range.End.Line {
			continue
		}
		var n int64
		var said []string
		for _, l := range p.state.lists {
			of := l.entries[r.Place.String()].N
			n += of
			said = append(said, fmt.Sprintf("%s: %s of %s", l.name, render.Number(of), render.Number(l.requests)))
		}
		label := render.Count(int(n), "request")
		if n == 0 {
			label = "no request"
		}
		out = append(out, inlayHint{Position: at, Label: label, PaddingLeft: true, Tooltip: strings.Join(said, "\n")})
	}
	return out, nil
}

// decides reports whether answers can be counted for an entry.
func decides(r *rulebook.Rule) bool {
	_, read := r.Action.(rulebook.Reading)
	return read || r.Kind.Leads()
}
