package lsp

// A rulebook with all that it includes: read at every change, and looked into a moment later.

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"kibitz/core/engine"
	"kibitz/core/proof"
	"kibitz/core/replay"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// A project is a rulebook and the files that belong to it.
type project struct {
	dir, main string // the folder, and the rulebook's name in it
	version   int    // counts its readings
	book      *rulebook.Book
	errs      rulebook.Errors
	failed    error // the text could not be read at all
	state     *state
	published map[string]bool // the files about which something was told
}

// A state is what is known of a rulebook that could be read. It does not change.
type state struct {
	version int
	engine  *engine.Engine
	report  *proof.Report
	lists   []counted // nil: not counted yet
	trees   map[string]*site.Tree
	made    time.Time
}

// counted is the state with what the lists ask.
func (st *state) counted(lists []counted) *state {
	with := *st
	with.lists = append([]counted{}, lists...)
	return &with
}

// counted is what a list asks of each entry.
type counted struct {
	name     string
	requests int64
	entries  map[string]replay.Use // by their places
}

// path gives the file that a name of the rulebook means.
func (p *project) path(name string) string {
	if filepath.IsAbs(name) {
		return filepath.Clean(name)
	}
	return filepath.Join(p.dir, filepath.FromSlash(name))
}

// read reads the rulebook as the editor has it.
func (p *project) read(load func(path string) ([]byte, error)) {
	p.version++
	p.book, p.errs, p.failed = nil, nil, nil
	text, err := load(p.path(p.main))
	if err != nil {
		p.failed = err
		return
	}
	book, err := rulebook.Read(p.main, text, p.loader(load))
	if errs, ok := errors.AsType[rulebook.Errors](err); ok {
		p.errs = errs
		return
	}
	p.book, p.failed = book, err
}

// loader loads the files that the rulebook names.
func (p *project) loader(load func(path string) ([]byte, error)) func(string) ([]byte, error) {
	return func(name string) ([]byte, error) { return load(p.path(name)) }
}

// has reports whether a file is a part of the rulebook.
func (p *project) has(path string) bool {
	if p.path(p.main) == path {
		return true
	}
	if p.book == nil {
		return p.published[path]
	}
	return slices.ContainsFunc(p.book.Sources, func(s *rulebook.Source) bool { return p.path(s.Name) == path })
}

// rule gives the entry that begins in a line of a file; nil where there is none that can be
// read.
func (p *project) rule(path string, line int) *rulebook.Rule {
	if p.book == nil {
		return nil
	}
	for _, r := range p.book.Rules {
		if r.Place.Line == line && p.path(r.Place.Source.Name) == path {
			return r
		}
	}
	return nil
}

// look finds out what can be said of a rulebook. The trees of the last state are taken where
// they are of the same folders and nothing was saved since.
func (p *project) look(book *rulebook.Book, version int, trees map[string]*site.Tree) (*state, error) {
	st := &state{version: version, trees: map[string]*site.Tree{}, made: time.Now()}
	var err error
	st.engine, err = engine.Load(book, func(s *rulebook.Site) (*site.Tree, error) {
		name := cmp.Or(s.Files, s.Inventory)
		if name == "" {
			return nil, nil
		}
		tree := trees[name]
		if tree == nil {
			tree, err = p.tree(s)
		}
		st.trees[name] = tree
		return tree, err
	})
	if err != nil {
		return nil, err
	}
	st.report = proof.Look(st.engine, proof.Options{Effort: 1, NoPages: true})
	return st, nil
}

// tree reads the files of a site.
func (p *project) tree(s *rulebook.Site) (*site.Tree, error) {
	if s.Files != "" {
		return site.Folder(p.path(s.Files), nil)
	}
	text, err := rulebook.ReadFile(p.path(s.Inventory))
	if err != nil {
		return nil, err
	}
	return site.Inventory(text)
}

// maxList is the size of a list up to which it is replayed unasked.
const maxList = 256 << 20

// replayLists counts which entries decide the requests of the lists beside the rulebook:
// requests.txt, and logs.
func (p *project) replayLists(e *engine.Engine) (out []counted) {
	names := []string{"requests.txt"}
	logs, _ := filepath.Glob(filepath.Join(p.dir, "*.log"))
	for _, log := range logs {
		names = append(names, filepath.Base(log))
	}
	for _, name := range names {
		if info, err := os.Stat(p.path(name)); err != nil || !info.Mode().IsRegular() || info.Size() > maxList {
			continue
		}
		if tally, err := p.replay(e, name); err == nil && tally.Requests > 0 {
			out = append(out, counted{name, tally.Requests, tally.Entries()})
		}
	}
	return out
}

func (p *project) replay(e *engine.Engine, name string) (*replay.Tally, error) {
	f, err := os.Open(p.path(name))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	in, err := list.Unpack(f)
	if err != nil {
		return nil, err
	}
	head, _ := in.Peek(4096) // of a short list all of it
	format := list.Detect(head)
	o := replay.Options{Workers: 1}
	if replay.Quick(format, false) {
		return replay.LogStream(e, name, in, format, o)
	}
	return replay.Run(e, []replay.Source{{Name: name, Read: func(base request.Address, yield func(*list.Item)) (list.Counts, error) {
		return list.Read(in, list.Options{Base: base, Format: format}, yield)
	}}}, o)
}

// diagnostics gives what there is to say of the rulebook, by file.
func (p *project) diagnostics() map[string][]diagnostic {
	out := map[string][]diagnostic{}
	add := func(at rulebook.Place, width int, d diagnostic) {
		if at.Source == nil {
			return
		}
		d.Range, d.Source = spanOf(at, width), "kibitz"
		path := p.path(at.Source.Name)
		out[path] = append(out[path], d)
	}
	for _, e := range p.errs {
		add(e.Place, e.Width, diagnostic{Severity: 1, Code: proof.Syntax.Name, Message: e.Message})
	}
	if p.failed != nil {
		add(rulebook.Place{Source: &rulebook.Source{Name: p.main, Lines: []string{""}}, Line: 1, Col: 1}, 1, diagnostic{Severity: 1, Code: proof.Syntax.Name, Message: p.failed.Error()})
	}
	for _, f := range p.findings() {
		add(f.Place, f.Width, p.diagnosticOf(f))
	}
	return out
}

// findings are those that still hold of the text at hand: all of them where it has been
// looked into, and meanwhile those whose line is as it was.
func (p *project) findings() []*proof.Finding {
	if p.state == nil || p.book == nil {
		return nil
	}
	if p.state.version == p.version {
		return p.state.report.Findings
	}
	now := map[string]*rulebook.Source{}
	for _, s := range p.book.Sources {
		now[s.Name] = s
	}
	var out []*proof.Finding
	for _, f := range p.state.report.Findings {
		if f.Place.Source == nil || now[f.Place.Source.Name] == nil {
			continue
		}
		if line := lineOf(f.Place.Source, f.Place.Line); line == lineOf(now[f.Place.Source.Name], f.Place.Line) {
			out = append(out, f)
		}
	}
	return out
}

func (p *project) diagnosticOf(f *proof.Finding) diagnostic {
	d := diagnostic{Range: spanOf(f.Place, f.Width), Source: "kibitz", Code: f.Name, Message: f.Message}
	d.Severity = map[proof.Severity]int{proof.Error: 1, proof.Warning: 2, proof.Note: 3}[f.Severity]
	if f.Advice != "" {
		d.Message += "\nFix: " + strings.Join(strings.Fields(f.Advice), " ")
	}
	for _, r := range f.Rules {
		if r.Place != f.Place && (r != f.Rules[0] || len(f.Rules) == 1) {
			d.Related = append(d.Related, related{location{uriOf(p.path(r.Place.Source.Name)), spanOf(r.Place, len(r.Kind))}, fmt.Sprintf("%s %s", r.Kind, r.Name)})
		}
	}
	return d
}
