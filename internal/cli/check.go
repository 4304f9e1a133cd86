package cli

import (
	"errors"
	"flag"
	"fmt"
	"slices"
	"strings"

	"kibitz/core/engine"
	"kibitz/core/proof"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/internal/render"
)

func init() {
	register(command{
		order:   2,
		top:     10,
		topHelp: "show up to `N` findings of each name, 0 for all; other forms have them all",
		shows:   func(f *form) bool { return f.check != nil },
		rules:   theRules,
		name:    "check",
		args:    "[RULEBOOK]",
		summary: "reads the rulebook, runs its examples, and looks for what goes wrong",
		about: `Reads the rulebook, runs the examples in it, and looks for loops, targets that
are not there, and the rest of what ` + "`kibitz help findings`" + ` names. Each finding
comes with a request that shows it, and what to write instead. At the end stands
what was proved, and what was only tried.
Exit status 1: there is a finding of severity error.`,
		setup: func(flags *flag.FlagSet) func(*run, []string) (int, error) {
			failOn := flags.String("fail-on", "error", "the least `severity` that gives exit status 1: error, warning, note")
			effort := flags.Int("effort", 1, "let proofs grow `N` times as large before they are left open")
			watch := flags.Bool("watch", false, "do it again whenever the rulebook or a tree changes")
			return func(r *run, args []string) (int, error) {
				severity := proof.Severity(*failOn)
				switch {
				case len(args) > 1 || len(args) == 1 && r.rules != "":
					return 0, usagef("check takes one rulebook")
				case !slices.Contains([]proof.Severity{proof.Error, proof.Warning, proof.Note}, severity):
					return 0, usagef("-fail-on is error, warning or note, not %s", *failOn)
				}
				if len(args) == 1 {
					r.rules = args[0]
				}
				if *effort < 1 || *effort > 1000 {
					return 0, usagef("-effort is a number from 1 to 1000, not %d", *effort)
				}
				once := func() (int, error) { return r.check(severity, *effort) }
				if *watch {
					return r.watch(nil, once)
				}
				return once()
			}
		},
	})
}

// check looks at the rulebook once.
func (r *run) check(severity proof.Severity, effort int) (int, error) {
	e, err := r.load()
	if book, ok := errors.AsType[bookErrors](err); ok && r.form.rank > 0 { // for programs, too
		r.showBookErrors(book)
		return exitTrouble, r.form.check(r, checked{report: proof.Mistakes(book.Errors)})
	}
	if err != nil {
		return 0, err
	}
	report := proof.Check(e, effort)
	if err := confirm(e, report); err != nil {
		return 0, err
	}
	if err := r.form.check(r, checked{e.Book, report}); err != nil {
		return 0, err
	}
	if report.Worst(severity) {
		return exitFindings, nil
	}
	return exitWell, nil
}

// confirm holds the answers to the requests that a report and the examples name
// against the reading of the entries one by one, of the first of them.
func confirm(e *engine.Engine, report *proof.Report) error {
	const most = 200
	var requests []*request.Request
	for _, rule := range e.Book.Rules {
		for i := range rule.Examples {
			if req, err := e.Book.ExampleRequest(rule, &rule.Examples[i]); err == nil && len(requests) < most {
				requests = append(requests, req)
			}
		}
	}
	for _, f := range report.Findings[:min(len(report.Findings), most)] {
		if f.Request != nil {
			requests = append(requests, f.Request)
		}
	}
	for _, req := range requests {
		if _, err := e.Confirm(req, e.Predict(req)); err != nil {
			return err
		}
	}
	return nil
}

func (r *run) checkText(c checked) error {
	book, report, top := c.book, c.report, r.most
	out := r.out
	count := map[proof.Severity]int{}
	named := map[string]int{}
	var more []string
	for _, f := range report.Findings {
		count[f.Severity]++
		if named[f.Name]++; top > 0 && named[f.Name] > top {
			if named[f.Name] == top+1 {
				more = append(more, f.Name)
			}
			continue
		}
		r.finding(f)
	}
	for _, name := range more {
		out.Printf("… and %s more of %s; all of them: kibitz check -top 0\n", render.Number(named[name]-top), name)
	}
	if len(report.Findings) > 0 {
		out.Printf("\n")
	}
	name := r.rulesName()
	said := out.Well("nothing found")
	if len(report.Findings) > 0 {
		var parts []string
		for _, s := range []proof.Severity{proof.Error, proof.Warning, proof.Note} {
			if count[s] > 0 {
				parts = append(parts, out.Severity(string(s), render.Count(count[s], string(s))))
			}
		}
		said = strings.Join(parts, ", ")
	}
	out.Printf("%s: %s for %s: %s\n\n", render.Clean(name), render.Count(len(book.Rules), "entry"), render.Count(len(book.Sites), "site"), said)
	r.claims(report.Claims)
	return nil
}

// claims says what is known of every finding: first, in a few lines, what is
// proved not to be; then, one by one, what is not so simple.
func (r *run) claims(claims []proof.Claim) {
	var proved []string
	var others [][2]string
	for i := 0; i < len(claims); {
		first := i
		for i < len(claims) && claims[i].Finding == claims[first].Finding {
			i++
		}
		of := claims[first:i]
		if len(of) == 1 && of[0].State == proof.Proved {
			proved = append(proved, fmt.Sprintf("%s (%s)", of[0].Finding, scope(of[0])))
			continue
		}
		var said []string
		for _, c := range of {
			said = append(said, claimText(c))
		}
		others = append(others, [2]string{of[0].Finding, strings.Join(said, "; ")})
	}
	if len(proved) > 0 {
		r.out.Wrapped("  Proved that there is no  ", strings.Join(proved, ", "))
		r.out.Printf("\n")
	}
	for _, o := range others {
		r.out.Wrapped(fmt.Sprintf("  %-23s  ", o[0]), o[1])
	}
}

// scope is what a claim speaks of.
func scope(c proof.Claim) string {
	if c.Sites > 0 {
		return render.Count(c.Sites, "site")
	}
	return render.Count(c.Entries, "entry")
}

// claimText says what is known, in plain words.
func claimText(c proof.Claim) string {
	switch c.State {
	case proof.Found:
		if c.Accepted > 0 {
			return fmt.Sprintf("found at %s, %s of them accepted", scope(c), render.Number(c.Accepted))
		}
		return "found at " + scope(c)
	case proof.Proved:
		return scope(c) + " proved to have none"
	case proof.Tried:
		return fmt.Sprintf("%s: none in %s tried (%s)", scope(c), render.Count(c.Tried, "request"), render.Clean(c.Why))
	}
	return fmt.Sprintf("%s open (%s)", scope(c), render.Clean(c.Why))
}

// finding shows one finding: the place, what happens, a request, the way out.
func (r *run) finding(f *proof.Finding) {
	out := r.out
	out.Printf("%s  %s   %s\n\n", out.Severity(string(f.Severity), string(f.Severity)), f.Name, out.Quiet(f.Place.String()))
	if f.Place.Source != nil && f.Place.Line <= len(f.Place.Source.Lines) {
		text, mark := rulebook.MarkLine(f.Place, f.Width)
		out.Printf("    %s\n    %s\n\n", render.Clean(text), mark)
	}
	out.Wrapped("  ", render.Clean(f.Message))
	if len(f.Rules) > 1 {
		var names []string
		for _, rule := range f.Rules {
			if s := fmt.Sprintf("%s (%s)", rule.Name, rule.Place); !slices.Contains(names, s) && (rule == f.Rules[0] || !strings.Contains(f.Message, s)) {
				names = append(names, s)
			}
		}
		if len(names) > 1 {
			out.Wrapped("  Entries   ", strings.Join(names, ", "))
		}
	}
	if f.Request != nil {
		out.Printf("  See it    %s\n", r.traceLine(f.Request))
	}
	if f.Other != nil {
		out.Printf("  Compare   %s\n", r.traceLine(f.Other))
	}
	if f.Advice != "" {
		out.Advice("  Mend it   ", render.Clean(f.Advice))
	}
	out.Printf("\n")
}
