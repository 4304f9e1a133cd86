// Package proof says what is true of the requests that a rulebook can get.
//
// Every finding that speaks of a request carries one that shows it, and that
// has been run through the engine; a finding that its own request does not show
// is not reported.
package proof

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

// A Severity says how much a finding matters.
type Severity string

const (
	Error   Severity = "error"
	Warning Severity = "warning"
	Note    Severity = "note"
)

// A Finding is something in a rulebook that needs a look.
type Finding struct {
	Name     string
	Severity Severity
	Rules    []*rulebook.Rule // the one to change first
	Place    rulebook.Place   // what is marked
	Width    int
	Message  string           // what happens, and to whom
	Request  *request.Request // shows it; nil where no request is needed
	Other    *request.Request // that it is to be compared with; nil for none
	Advice   string           // what to write instead
	Count    int              // like ones that it stands for, itself too
}

// The claims that can be made about a finding.
const (
	Found  = "found"
	Proved = "proved" // none exists
	Tried  = "tried"  // requests were made to break it, and did not
	Open   = "open"
)

// A Claim says what is known about one kind of finding.
type Claim struct {
	Finding  string
	State    string
	Entries  int // that the claim speaks of; or Sites
	Sites    int
	Accepted int // of the entries where it is found, those that say it is meant
	Tried    int // requests
	Why      string

	Rules []string // the names of the entries, where each was decided by itself
}

// A Report is what Check gives.
type Report struct {
	Findings []*Finding // most serious first, then in the order of the rulebook
	Claims   []Claim
}

// Worst reports whether there is a finding at least as serious as s.
func (r *Report) Worst(s Severity) bool {
	return slices.ContainsFunc(r.Findings, func(f *Finding) bool { return rank(f.Severity) <= rank(s) })
}

func rank(s Severity) int { return slices.Index([]Severity{Error, Warning, Note}, s) }

// A Kind explains one finding.
type Kind struct {
	Name     string
	Severity Severity
	Summary  string
	Before   string // an example that has it
	After    string // and how it is mended
	find     func(*checker)
}

// A ranked kind is one with its place among the others.
type ranked struct {
	rank int
	Kind
}

var kinds []ranked

// register adds a finding; those with lower ranks are looked for first.
func register(rank int, k Kind) { kinds = append(kinds, ranked{rank, k}) }

// Kinds are the findings that Check looks for, in this order.
var Kinds = sync.OnceValue(func() []Kind {
	slices.SortFunc(kinds, func(a, b ranked) int { return cmp.Compare(a.rank, b.rank) })
	var out []Kind
	for _, k := range kinds {
		out = append(out, k.Kind)
	}
	return out
})

// A checker looks for the findings of one kind. Each kind has one of its own: nothing that
// is counted or noted for one is seen by another.
type checker struct {
	*shared
	kind   Kind
	tried  int                          // requests
	having map[*rulebook.Rule]bool      // entries with a finding, accepted or not
	known  map[*rulebook.Rule]knowledge // of entries
}

// shared is what all kinds need: it is made once, by the first that does.
type shared struct {
	*engine.Engine
	report *Report
	used   map[string]bool // accepts that kept something quiet, by place

	effort int
	spaces map[*rulebook.Site]*space
	hops   *hops // see graph

	samples map[*rulebook.Site][]string
	leads   map[string]bool
}

// knowledge is what is known about one entry.
type knowledge struct {
	state string
	why   string
}

func newShared(e *engine.Engine, effort int) *shared {
	return &shared{Engine: e, effort: effort, report: &Report{}, used: map[string]bool{}, spaces: map[*rulebook.Site]*space{}, samples: map[*rulebook.Site][]string{}, leads: map[string]bool{}}
}

// look looks for the findings of a kind.
func (c *shared) look(k Kind) {
	k.find(&checker{shared: c, kind: k, having: map[*rulebook.Rule]bool{}, known: map[*rulebook.Rule]knowledge{}})
}

func (c *shared) space(s *rulebook.Site) *space {
	if c.spaces[s] == nil {
		c.spaces[s] = newSpace(c.Engine, s, c.effort)
	}
	return c.spaces[s]
}

// note says what is known about an entry; what was said first, and what is more
// than proved or tried, stays.
func (c *checker) note(state string, r *rulebook.Rule, why string) {
	if k, ok := c.known[r]; !ok || rankState(state) > rankState(k.state) {
		c.known[r] = knowledge{state, why}
	}
}

func rankState(s string) int { return slices.Index([]string{Proved, Tried, Open, Found}, s) }

// conclusions makes claims of what has been noted: one for each state, with the
// reason; how tells how it was proved.
func (c *checker) conclusions(how string) {
	rules := map[string][]*rulebook.Rule{}
	for r, k := range c.known {
		rules[k.state] = append(rules[k.state], r)
	}
	for _, state := range []string{Found, Proved, Tried, Open} {
		list := rules[state]
		slices.SortFunc(list, func(a, b *rulebook.Rule) int { return cmp.Compare(a.Number, b.Number) })
		why := ""
		switch state {
		case Proved:
			why = how
		case Tried, Open:
			var reasons []string
			for i, r := range list {
				if i == maxReasons {
					reasons = append(reasons, fmt.Sprintf("and %d more", len(list)-i))
					break
				}
				reasons = append(reasons, strings.TrimSuffix(r.Name+": "+c.known[r].why, ": "))
			}
			why = strings.Join(reasons, "; ")
		}
		accepted := 0
		for _, r := range list {
			if state == Found && c.accepts(r) {
				accepted++
			}
		}
		c.claim(state, len(list), "%s", why)
		if n := len(c.report.Claims); len(list) > 0 {
			c.report.Claims[n-1].Accepted = accepted
			for _, r := range list {
				c.report.Claims[n-1].Rules = append(c.report.Claims[n-1].Rules, r.Name)
			}
		}
	}
}

const maxReasons = 4

// Mistakes is the report of a rulebook whose text has mistakes.
func Mistakes(errs rulebook.Errors) *Report {
	report := &Report{}
	for _, e := range errs {
		report.Findings = append(report.Findings, &Finding{Name: Syntax.Name, Severity: Syntax.Severity, Place: e.Place, Width: max(e.Width, 1), Message: e.Message, Count: 1})
	}
	return report
}

// Syntax is a mistake in the text of a rulebook, with which nothing else can be
// looked for.
var Syntax = Kind{
	Name: "syntax", Severity: Error,
	Summary: "the text of the rulebook has a mistake",
	Before:  "redirct old on /fares.php to /fares/ as permanent",
	After:   "redirect old on /fares.php to /fares/ as permanent",
}

// Check looks for everything that Kinds names. The limits of the proofs are
// multiplied by effort.
func Check(e *engine.Engine, effort int) *Report {
	c := newShared(e, max(effort, 1))
	for _, k := range Kinds() {
		c.look(k)
	}
	slices.SortStableFunc(c.report.Findings, func(a, b *Finding) int {
		return cmp.Or(cmp.Compare(rank(a.Severity), rank(b.Severity)), strings.Compare(a.Place.Source.Name, b.Place.Source.Name), cmp.Compare(a.Place.Line, b.Place.Line))
	})
	return c.report
}

// Only looks for findings of one name.
func Only(e *engine.Engine, name string) []*Finding {
	c := newShared(e, 1)
	for _, k := range Kinds() {
		if k.Name == name {
			c.look(k)
		}
	}
	return c.report.Findings
}

// further is the sentence that says of n more what was said of the first; many
// takes the number.
func further(n int, one, many string) string {
	switch n {
	case 0:
		return ""
	case 1:
		return " " + one
	}
	return " " + fmt.Sprintf(many, n)
}

// add reports a finding about a rule, but where the rule accepts it.
func (c *checker) add(f Finding) {
	f.Name = c.kind.Name
	if f.Severity == "" {
		f.Severity = c.kind.Severity
	}
	if f.Place.Source == nil {
		f.Place, f.Width = f.Rules[0].Place, len(f.Rules[0].Kind)
	}
	f.Count = max(f.Count, 1)
	c.having[f.Rules[0]] = true
	if slices.ContainsFunc(f.Rules, c.accepts) {
		return
	}
	c.report.Findings = append(c.report.Findings, &f)
}

// accepts reports whether a rule accepts the finding at hand, and notes that it
// does.
func (c *checker) accepts(r *rulebook.Rule) bool {
	for _, a := range r.Accepts {
		if a.Finding == c.kind.Name {
			c.used[acceptKey(a)] = true
			return true
		}
	}
	return false
}

func acceptKey(a rulebook.Accept) string { return fmt.Sprintf("%v:%d", a.Place, a.Place.Col) }

// accept-nothing stands last, since it asks what the others have kept quiet.
func init() {
	register(31, Kind{
		Name: "accept-nothing", Severity: Note,
		Summary: "an entry accepts a finding that it does not have",
		Before:  "redirect soon on /soon to /fares/ as temporary\n    accept missing-target \"the page comes in May\"      # it is there by now",
		After:   "redirect soon on /soon to /fares/ as temporary",
		find:    (*checker).uselessAccepts,
	})
}

// uselessAccepts notes what accepts nothing.
func (c *checker) uselessAccepts() {
	var names []string
	for _, k := range Kinds() {
		names = append(names, k.Name)
	}
	for _, r := range c.Book.Rules {
		for _, a := range r.Accepts {
			if c.used[acceptKey(a)] {
				continue
			}
			f := Finding{Rules: []*rulebook.Rule{r}, Place: a.Place, Width: len("accept"),
				Message: fmt.Sprintf("There is no finding %s here to accept.", a.Finding), Advice: "take the accept out"}
			if probes := c.probes(c.sitesOf(r)[0], r); len(probes) > 0 {
				f.Request = probes[0]
			}
			if !slices.Contains(names, a.Finding) {
				f.Message = fmt.Sprintf("%s is no finding that check looks for", a.Finding)
				f.Advice = "see the names with: kibitz help findings"
			}
			c.add(f)
		}
	}
}

// claim says what is known of the finding at hand; of no entries there is
// nothing to know.
func (c *checker) claim(state string, entries int, format string, args ...any) {
	if entries == 0 {
		return
	}
	c.report.Claims = append(c.report.Claims, Claim{Finding: c.kind.Name, State: state, Entries: entries, Tried: c.tried, Why: fmt.Sprintf(format, args...)})
}

// conclude claims of so many entries that something was found at those that have it,
// and of the others what was done to find it.
func (c *checker) conclude(otherwise string, entries int, why string) {
	c.claim(Found, len(c.having), "%s", why)
	c.claim(otherwise, max(0, entries-len(c.having)), "%s", why)
}

// treeSites are the sites of which it is known what files they have.
func (c *shared) treeSites() []*rulebook.Site {
	return slices.DeleteFunc(slices.Clone(c.Book.Sites), func(s *rulebook.Site) bool { return !c.KnowsTree(s) })
}

// concludeSites makes the claims of what is asked of the trees of whole sites.
func (c *checker) concludeSites(found map[*rulebook.Site]bool, otherwise, why string) {
	if n := len(found); n > 0 {
		c.report.Claims = append(c.report.Claims, Claim{Finding: c.kind.Name, State: Found, Sites: n, Tried: c.tried})
	}
	if n := len(c.treeSites()) - len(found); n > 0 {
		c.report.Claims = append(c.report.Claims, Claim{Finding: c.kind.Name, State: otherwise, Sites: n, Tried: c.tried, Why: why})
	}
}

// clause gives the place and width of a rule's clause, for marking.
func clause(r *rulebook.Rule, words ...string) (rulebook.Place, int) {
	for _, word := range words {
		for _, cl := range r.Entry.Clauses {
			if cl.Keyword.Text != word {
				continue
			}
			end := cl.Keyword
			if n := len(cl.Values); n > 0 && cl.Values[n-1].Place.Line == cl.Keyword.Place.Line {
				end = cl.Values[n-1]
			}
			return cl.Keyword.Place, end.Place.Col + end.Width - cl.Keyword.Place.Col
		}
	}
	return r.Place, len(r.Kind)
}
