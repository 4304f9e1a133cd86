// Package fix mends a rulebook by what check advises. Every change is run before it is
// offered: the finding is gone, none has come, and no request that is known is answered
// differently but those that the finding is about.
package fix

import (
	"cmp"
	"fmt"
	"slices"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/proof"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
)

// Options say what is mended, and what must stay as it is.
type Options struct {
	Look  proof.Options
	Names []string     // of the findings that are mended; nil: all errors and warnings
	Keep  []*list.Item // requests that are answered as before, but where a finding is about them; what met its expectation meets it
	Load  func(name string) ([]byte, error)
}

// A Step is one finding that was mended.
type Step struct {
	Finding *proof.Finding
	Way     proof.Fix
	Others  []proof.Fix        // ways that were not taken
	Changed []*request.Request // of those known, the ones that are answered differently
}

// Left is a finding that was not mended, though there is a way to try.
type Left struct {
	Finding *proof.Finding
	Why     string
}

// A Result is a rulebook mended as far as it can be.
type Result struct {
	Before, After *proof.Report
	Engine        *engine.Engine // with all steps
	Steps         []Step
	Left          []Left
	None          int      // findings that have no way to try
	Notes         []string // names of notes that have one
	Known         int      // requests that each step was tried on
}

// Files gives the lines of each source of the rulebook that is another now, by its name.
func (r *Result) Files(was *rulebook.Book) map[string][]string {
	out := map[string][]string{}
	now := r.Engine.Book.Sources
	for i, s := range was.Sources { // the steps add and drop no file
		if !slices.Equal(s.Lines, now[i].Lines) {
			out[s.Name] = now[i].Lines
		}
	}
	return out
}

// Run mends one finding after the other, the most serious first, each on the rulebook that
// the one before it has left.
func Run(e *engine.Engine, o Options) *Result {
	r := &Result{Engine: e, Before: proof.Look(e, o.Look)}
	r.After = r.Before
	tried := map[string]bool{}
	for {
		f := r.next(o, tried)
		if f == nil {
			return r
		}
		r.mender(f, o).try()
	}
}

// Ways gives those of a finding's ways to mend it that hold when they are run. The report is
// one of the engine's rulebook, by the same options.
func Ways(e *engine.Engine, report *proof.Report, f *proof.Finding, o Options) (ways []proof.Fix) {
	if len(f.Fixes) == 0 {
		return nil
	}
	m := (&Result{Engine: e, After: report}).mender(f, o)
	for _, way := range f.Fixes {
		if _, _, err := m.run(way); err == nil {
			ways = append(ways, way)
		}
	}
	return ways
}

// What Fails runs: the ways of so many findings, and fewer where there are many entries and
// rows, each of which is looked at again.
const (
	mostFindings = 20
	mostEntries  = 5_000
)

// Fails gives those of the first of a report's findings whose ways to mend them all fail when
// they are run: the finding is still there, or a known request is answered differently that
// it is not about. What else would be found then is not looked for: Run does that.
func Fails(e *engine.Engine, report *proof.Report, findings []*proof.Finding, load func(string) ([]byte, error)) map[*proof.Finding]bool {
	fails := map[*proof.Finding]bool{}
	was := counted(report)
	left := min(mostFindings, mostEntries/max(1, e.Book.Size()))
	if left == 0 {
		return fails
	}
	m := (&Result{Engine: e, After: report}).mender(nil, Options{Load: load})
	for _, f := range findings {
		if len(f.Fixes) == 0 {
			continue
		}
		if left--; left < 0 {
			break
		}
		m.finding = f
		fails[f] = !slices.ContainsFunc(f.Fixes, func(way proof.Fix) bool {
			after, _, err := m.make(way)
			return err == nil && counted(&proof.Report{Findings: proof.Only(after, f.Name)})[f.Name] < was[f.Name]
		})
	}
	return fails
}

func (r *Result) mender(f *proof.Finding, o Options) *mender {
	m := &mender{Result: r, options: o, finding: f, requests: proof.Known(r.Engine)}
	for _, item := range o.Keep {
		m.requests = append(m.requests, item.Request)
	}
	r.Known = len(m.requests)
	return m
}

// next gives the next finding that has a way to try; what was tried once is left.
func (r *Result) next(o Options, tried map[string]bool) *proof.Finding {
	r.None, r.Notes = 0, nil
	var first *proof.Finding
	findings := slices.Clone(r.After.Findings)
	slices.SortStableFunc(findings, func(a, b *proof.Finding) int { // a loop first: it hides what stands below it
		return cmp.Or(a.Severity.Compare(b.Severity), cmp.Compare(kindOf(a), kindOf(b)))
	})
	for _, f := range findings {
		switch {
		case o.Names != nil && !slices.Contains(o.Names, f.Name):
			continue
		case len(f.Fixes) == 0:
			r.None++
			continue
		case o.Names == nil && f.Severity == proof.Note:
			if !slices.Contains(r.Notes, f.Name) {
				r.Notes = append(r.Notes, f.Name)
			}
			continue
		}
		key := f.Name
		for _, rule := range f.Rules {
			key += " " + rule.Name
		}
		for _, way := range f.Fixes {
			key += "\n" + way.Says
		}
		if first == nil && !tried[key] {
			tried[key] = true
			first = f
		}
	}
	return first
}

// kindOf is the place of a finding among those that check looks for.
func kindOf(f *proof.Finding) int {
	return slices.IndexFunc(proof.Kinds(), func(k proof.Kind) bool { return k.Name == f.Name })
}

// A mender tries the ways to mend one finding.
type mender struct {
	*Result
	options  Options
	finding  *proof.Finding
	requests []*request.Request
	was      []*browser.Visit // that those begin before a change, as far as they have been asked for
}

func (m *mender) try() {
	why := ""
	for i, way := range m.finding.Fixes {
		after, changed, err := m.run(way)
		if err != nil {
			if why == "" {
				why = fmt.Sprintf("%s: %s", way.Says, err)
			}
			continue
		}
		m.Steps = append(m.Steps, Step{m.finding, way, slices.Delete(slices.Clone(m.finding.Fixes), i, i+1), changed})
		m.Engine, m.After = after.engine, after.report
		return
	}
	m.Left = append(m.Left, Left{m.finding, why})
}

// An outcome is what a change makes of the rulebook.
type outcome struct {
	engine *engine.Engine
	report *proof.Report
}

// make makes a change and asks for what is known; the error says why it is not good.
func (m *mender) make(way proof.Fix) (after *engine.Engine, changed []*request.Request, err error) {
	book, err := m.Engine.Book.Edited(way.Edits, m.options.Load)
	if err != nil {
		return nil, nil, fmt.Errorf("the rulebook could not be read any more: %w", err)
	}
	after = m.Engine.With(book)
	for i, req := range m.requests {
		if i == len(m.was) {
			m.was = append(m.was, browser.Open(m.Engine, req))
		}
		was := m.was[i]
		if same(was, browser.Open(after, req)) {
			continue
		}
		if !m.about(way, req, was) {
			return nil, nil, fmt.Errorf("%s would be answered differently, and the finding is not about it", req.Address)
		}
		changed = append(changed, req)
	}
	for _, item := range m.options.Keep {
		if meetsExpectation(m.Engine, item) && !meetsExpectation(after, item) {
			return nil, nil, fmt.Errorf("%s, in line %d of a list, would not do any more what is expected there", item.Request.Address, item.Line)
		}
	}
	return after, changed, nil
}

// run makes a change and looks at what it does; the error says why it is not good.
func (m *mender) run(way proof.Fix) (after outcome, changed []*request.Request, err error) {
	if after.engine, changed, err = m.make(way); err != nil {
		return after, nil, err
	}
	// Behind an error lies what it has hidden: only what is as serious as the finding itself
	// speaks against a change.
	after.report = proof.Look(after.engine, m.options.Look)
	was, is := counted(m.After), counted(after.report)
	if is[m.finding.Name] >= was[m.finding.Name] {
		return after, nil, fmt.Errorf("the finding would still be there")
	}
	for _, f := range after.report.Findings {
		if f.Severity.Compare(m.finding.Severity) <= 0 && f.Severity != proof.Note && is[f.Name] > was[f.Name] {
			return after, nil, fmt.Errorf("there would be a new finding, %s: %s", f.Name, f.Message)
		}
	}
	return after, changed, nil
}

// meetsExpectation reports whether a request is answered as its list expects.
func meetsExpectation(e *engine.Engine, item *list.Item) bool {
	return item.Expects != nil && len(browser.Unmet(item.Expects, browser.Open(e, item.Request))) == 0
}

// counted is how often there is a finding of each name.
func counted(r *proof.Report) map[string]int {
	out := map[string]int{}
	for _, f := range r.Findings {
		out[f.Name] += f.Count
	}
	return out
}

// about reports whether the finding is about a request: it shows it, its first entry takes
// it, or one of its files is what comes of it.
func (m *mender) about(way proof.Fix, req *request.Request, was *browser.Visit) bool {
	f := m.finding
	for _, shown := range []*request.Request{f.Request, f.Other} {
		if shown != nil && shown.Address == req.Address {
			return true
		}
	}
	if way.About != nil && way.About(req) {
		return true
	}
	for _, h := range was.Hops {
		if len(f.Rules) > 0 && m.Engine.Takes(f.Rules[0], h.Request) {
			return true
		}
		if h.Response.File != nil && slices.Contains(f.Files, h.Response.File.Path) {
			return true
		}
	}
	return false
}

// same reports whether a visitor sees the same: the same answers on the way to the same end.
func same(a, b *browser.Visit) bool {
	if a.Ending != b.Ending || a.Left != b.Left || len(a.Hops) != len(b.Hops) {
		return false
	}
	for i := range a.Hops {
		x, y := a.Hops[i].Response, b.Hops[i].Response
		if x.Status != y.Status || x.Location != y.Location || x.File != y.File || x.Cause != y.Cause || !slices.Equal(x.Headers, y.Headers) {
			return false
		}
	}
	return true
}
