package cli

import (
	"errors"
	"flag"
	"fmt"
	"slices"
	"strings"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/fix"
	"kibitz/core/proof"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/internal/render"
)

func init() {
	register(command{
		order:   5,
		top:     10,
		topHelp: "show up to `N` findings of each name, 0 for all; other forms have them all",
		shows:   func(f *form) bool { return f.check != nil || f.cases != nil },
		rules:   theRules,
		name:    "check",
		args:    "[RULEBOOK] [FINDING…]",
		summary: "reads the rulebook, runs its examples, and looks for what goes wrong",
		about: `Reads the rulebook, runs the examples in it, and looks for loops, targets that
are not there, and the rest of what ` + "`kibitz help findings`" + ` names. Each finding
comes with a request that shows it, and what to write instead. A line at the end
says how much was proved, and -claims what, entry by entry.
Exit status 1: there is a finding of severity error.`,
		setup: func(flags *flag.FlagSet) func(*run, []string) (int, error) {
			failOn := flags.String("fail-on", "error", "the least `severity` that gives exit status 1: error, warning, note")
			effort := flags.Int("effort", 1, "let proofs grow `N` times as large before they are left open")
			notes := flags.String("notes", "some", "which `notes` to look for: some, or all: also where only the order of two entries decides")
			claims := flags.Bool("claims", false, "say of each finding, and of each entry, what is proved and what was only tried")
			read := flags.String("pages", "on", "whether the files of the trees are read, for what they refer to: on, off")
			mend := &fixFlags{}
			mend.setup(flags)
			watch := flags.Bool("watch", false, "do it again whenever the rulebook or a tree changes")
			return func(r *run, args []string) (int, error) {
				severity := proof.Severity(*failOn)
				var findings []string
				if mend.fix {
					findings, args = findingNames(args)
				}
				switch {
				case !mend.fix && (mend.write || len(mend.keep) > 0):
					return 0, usagef("-write and -keep go with -fix")
				case mend.fix && *watch:
					return 0, usagef("-fix and -watch do not go together")
				case mend.fix && r.form.rank > 0:
					return 0, usagef("-fix prints a diff, and has no other form")
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
				if *notes != "some" && *notes != "all" {
					return 0, usagef("-notes is some or all, not %s", *notes)
				}
				if *read != "on" && *read != "off" {
					return 0, usagef("-pages is on or off, not %s", *read)
				}
				look := proof.Options{Effort: *effort, All: *notes == "all", NoPages: *read == "off"}
				if mend.fix {
					return r.fix(mend, findings, severity, look)
				}
				once := func() (int, error) { return r.check(severity, look, *claims) }
				if *watch {
					return r.watch(once)
				}
				return once()
			}
		},
	})
}

// check looks at the rulebook once.
func (r *run) check(severity proof.Severity, look proof.Options, claims bool) (int, error) {
	e, err := r.load()
	if book, ok := errors.AsType[bookErrors](err); ok && r.form.rank > 0 { // for programs, too
		r.showBookErrors(book)
		return exitTrouble, r.showCheck(checked{report: proof.Mistakes(book.Errors)})
	}
	if err != nil {
		return 0, err
	}
	progress, ended := r.progress(r.rulesName(), int64(len(proof.Kinds())), "kinds of faults", 1)
	look.Done = func(n, _ int) { progress(int64(n)) }
	pages := &readPages{}
	look.Read = pages.read
	report := proof.Look(e, look)
	ended()
	if err := confirm(e, report); err != nil {
		return 0, err
	}
	if err := r.showCheck(checked{engine: e, book: e.Book, report: report, claims: claims, pages: pages}); err != nil {
		return 0, err
	}
	if report.Worst(severity) {
		return exitFindings, nil
	}
	return exitWell, nil
}

// showCheck shows a report in the form that is wanted; as test cases the examples, and what
// is an error beside them.
func (r *run) showCheck(c checked) error {
	if r.form.check != nil {
		return r.form.check(r, c)
	}
	r.cases = nil
	if c.book != nil {
		for _, rule := range c.book.Rules {
			for i := range rule.Examples {
				x := &rule.Examples[i]
				failed := ""
				if req, err := c.book.ExampleRequest(rule, x); err != nil {
					failed = err.Error()
				} else {
					failed = strings.Join(browser.Unmet(&x.Expects, browser.Open(c.engine, req)), "; ")
				}
				r.cases = append(r.cases, testCase{render.Clean(fmt.Sprintf("%s %s example %s", x.Place, rule.Name, x.URL)), render.Clean(failed)})
			}
		}
	}
	for _, f := range c.report.Findings {
		if f.Severity == proof.Error && f.Name != "example-fails" {
			r.cases = append(r.cases, testCase{render.Clean(fmt.Sprintf("%s %s", placeOf(f), f.Name)), render.Clean(f.Message)})
		}
	}
	return r.form.cases(r, "check", r.cases)
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
	for _, f := range report.Findings {
		count[f.Severity]++
	}
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
	out.Printf("%s: %s for %s: %s\n\n", render.Clean(r.rulesName()), render.Count(len(book.Rules), "entry"), render.Count(len(book.Sites), "site"), said)
	var more []string
	var shown []*proof.Finding
	for _, f := range report.Findings {
		if named[f.Name]++; named[f.Name] <= top {
			shown = append(shown, f)
		} else if named[f.Name] == top+1 {
			more = append(more, f.Name)
		}
	}
	fails := fix.Fails(c.engine, report, shown, rulebook.ReadFile)
	for _, f := range shown {
		r.finding(f, !fails[f])
	}
	for _, name := range more {
		out.Printf("… and %s more of %s; all of them: kibitz check -top 0\n", render.Number(named[name]-top), name)
	}
	if len(more) > 0 {
		out.Printf("\n")
	}
	if said := c.pages.says(); said != "" {
		out.Wrapped("", said)
	}
	if c.claims {
		r.claims(report.Claims)
	} else {
		r.claimsBrief(report.Claims)
	}
	return nil
}

// claimsOf gives the claims of each finding, in the order in which they are looked for.
func claimsOf(claims []proof.Claim) (out [][]proof.Claim) {
	for i := 0; i < len(claims); {
		first := i
		for i < len(claims) && claims[i].Finding == claims[first].Finding {
			i++
		}
		out = append(out, claims[first:i])
	}
	return out
}

// claimsBrief says in a line what is known of all findings, and below it what is not
// decided.
func (r *run) claimsBrief(claims []proof.Claim) {
	states := map[string]int{}
	kinds := claimsOf(claims)
	for _, of := range kinds {
		worst, meant := proof.Proved, false
		for _, c := range of {
			worst = worse(worst, c.State)
			meant = meant || c.State == proof.Found && c.Accepted == c.Entries+c.Sites
		}
		if meant {
			worst = "accepted"
		}
		states[worst]++
	}
	var said []string
	for _, s := range []struct{ state, words string }{{proof.Found, "found"}, {"accepted", "accepted"}, {proof.Proved, "proved absent"}, {proof.Tried, "not found"}, {proof.Open, "undecided"}} {
		if n := states[s.state]; n > 0 {
			said = append(said, render.Number(n)+" "+s.words)
		}
	}
	line := "None of the faults that check looks for can be at these entries."
	if len(kinds) > 0 {
		line = fmt.Sprintf("Of %s of faults: %s. At which entries: kibitz check -claims", render.Count(len(kinds), "kind"), strings.Join(said, ", "))
	}
	r.out.Wrapped("", line)
	for _, of := range kinds {
		for _, c := range of {
			if c.State == proof.Open {
				r.out.Wrapped("  "+c.Finding+" ", claimText(c))
			}
		}
	}
}

// worse is the state of two that leaves more to do.
func worse(a, b string) string {
	order := []string{proof.Proved, proof.Tried, proof.Open, proof.Found}
	return order[max(slices.Index(order, a), slices.Index(order, b))]
}

// claims says what is known of every finding, and of which entries.
func (r *run) claims(claims []proof.Claim) {
	for _, of := range claimsOf(claims) {
		var said []string
		for _, c := range of {
			said = append(said, claimText(c))
		}
		r.out.Wrapped(fmt.Sprintf("  %-23s  ", of[0].Finding), strings.Join(said, "; "))
		for _, c := range of {
			r.out.Wrapped(fmt.Sprintf("  %-23s    %s  ", "", c.State), r.out.Quiet(render.Clean(strings.Join(c.Names, ", "))))
		}
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
		return "proved absent from " + scope(c) + " (" + render.Clean(c.Why) + ")"
	case proof.Tried:
		if c.Tried == 0 {
			return fmt.Sprintf("not found at %s (%s)", scope(c), render.Clean(c.Why))
		}
		return fmt.Sprintf("not found at %s in %s (%s)", scope(c), render.Count(c.Tried, "request"), render.Clean(c.Why))
	}
	return fmt.Sprintf("undecided for %s (%s)", scope(c), render.Clean(c.Why))
}

// placeOf is where a finding is; in a page with the column, since its lines are long.
func placeOf(f *proof.Finding) string {
	if f.Page != "" {
		return fmt.Sprintf("%s:%d", f.Place, f.Place.Col)
	}
	return f.Place.String()
}

// finding shows one finding: the place, what happens, a request, the way out; holds is false
// where that was run, and does not hold.
func (r *run) finding(f *proof.Finding, holds bool) {
	out := r.out
	out.Printf("%s  %s   %s\n\n", out.Severity(string(f.Severity), string(f.Severity)), f.Name, out.Quiet(placeOf(f)))
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
	if len(f.Files) > 1 {
		most := min(len(f.Files), r.most)
		files := strings.Join(f.Files[:most], " ")
		if most < len(f.Files) {
			files += " …"
		}
		out.Wrapped("  Files     ", render.Clean(files))
	}
	if f.Request != nil {
		out.Printf("  Try it    %s\n", r.traceLine(f.Request))
	}
	if f.Other != nil {
		out.Printf("  Compare   %s\n", r.traceLine(f.Other))
	}
	if f.Advice != "" {
		title := "  Fix       "
		if !holds {
			title = "  Perhaps   "
		}
		out.Advice(title, render.Clean(f.Advice))
	}
	out.Printf("\n")
}
