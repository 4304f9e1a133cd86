// Package proof says what is true of the requests that a rulebook can get.
//
// Every finding that speaks of a request carries one that shows it, and that
// has been run through the engine; a finding that its own request does not show
// is not reported.
package proof

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"

	"kibitz/core/engine"
	"kibitz/core/moves"
	"kibitz/core/pages"
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
	Doubt    string           // what keeps from being proved that nobody can have what is hidden; "" for nothing
	Advice   string           // what to write instead
	Fixes    []Fix            // of that, what can be done to the rulebook's text; the likeliest first
	Count    int              // like ones that it stands for, itself too
	Files    []string         // of the tree, of which it speaks
	Page     string           // the file that Place is in, where it is one of the tree
	Short    string           // of a finding about pages: what is wrong there, in a few words
	Spots    []Spot           // likewise: where it is met
}

// A Spot is a place in a page.
type Spot struct {
	Page *pages.Page
	Line int
	Col  int
	Text string      // an address, as it stands there; "" for something else
	Link *pages.Link // that; nil for something else
}

// The claims that can be made about a finding.
const (
	Found  = "found"
	Proved = "proved" // none exists
	Tried  = "tried"  // requests were made to break it, and did not
	Open   = "open"
)

// A Claim says what is known about one kind of finding: of some entries, or of some sites
// where it is asked of their trees.
type Claim struct {
	Finding  string
	State    string
	Entries  int
	Sites    int
	Names    []string // of the entries, or the sites
	Accepted int      // of those where it is found, those that say it is meant
	Tried    int      // requests
	Why      string
}

// A Report is what Check gives.
type Report struct {
	Findings []*Finding // most serious first, then in the order of the rulebook
	Claims   []Claim
}

// Worst reports whether there is a finding at least as serious as s.
func (r *Report) Worst(s Severity) bool {
	return slices.ContainsFunc(r.Findings, func(f *Finding) bool { return f.Severity.Compare(s) <= 0 })
}

// Compare puts what matters more first.
func (s Severity) Compare(other Severity) int { return cmp.Compare(rank(s), rank(other)) }

func rank(s Severity) int { return slices.Index([]Severity{Error, Warning, Note}, s) }

// A Kind explains one finding.
type Kind struct {
	Name     string
	Severity Severity
	Summary  string
	Page     bool   // it is said of the trees' files, and so are the examples
	Before   string // an example that has it
	After    string // and how it is mended
	Proves   bool   // that there is none may be proved: a request could deny it
	Quiet    bool   // looked for only where all are wanted: what it says is seldom a fault
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
	tried  int                   // requests
	claims map[subject]knowledge // of entries or of sites

	fickles map[*rulebook.Site][2][]*rulebook.Rule // see ficklesOf
	crossed map[*rulebook.Rule]int                 // how many entries below each were looked at
}

// A subject is what something is known of: an entry, or a site with its tree.
type subject struct {
	rule *rulebook.Rule
	site *rulebook.Site
}

func (s subject) name() string {
	if s.rule != nil {
		return s.rule.Name
	}
	return s.site.Name
}

func (s subject) accepts() []rulebook.Accept {
	if s.rule != nil {
		return s.rule.Accepts
	}
	return s.site.Accepts
}

// shared is what all kinds need: it is made once, by the first that does.
type shared struct {
	*engine.Engine
	report *Report
	all    bool            // what is seldom a fault is wanted, too
	looked []string        // the names of the findings that have been looked for
	used   map[string]bool // accepts that kept something quiet, by place

	effort int
	spaces map[*rulebook.Site]*space
	hops   *hops // see graph

	readPages func(*engine.Engine) *pages.Site
	sitePages *pages.Site                  // see pages
	sources   map[string]*rulebook.Source  // of the pages
	folded    map[*rulebook.Site]foldNames // see alike
	pageNames *moves.Names
	advised   int // missing addresses, see instead

	sharers map[*rulebook.Site][]*rulebook.Site // see sharing
	samples map[*rulebook.Site][]string
	leads   map[string]bool
	words   []string // see treeWords
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
	k.find(&checker{shared: c, kind: k, claims: map[subject]knowledge{}, crossed: map[*rulebook.Rule]int{}, fickles: map[*rulebook.Site][2][]*rulebook.Rule{}})
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
	c.noteOf(state, subject{rule: r}, why)
}

// noteSite says what is known about a site.
func (c *checker) noteSite(state string, s *rulebook.Site, why string) {
	c.noteOf(state, subject{site: s}, why)
}

func (c *checker) noteOf(state string, of subject, why string) {
	if of == (subject{}) { // what no entry did
		return
	}
	if k, ok := c.claims[of]; !ok || rankState(state) > rankState(k.state) {
		c.claims[of] = knowledge{state, why}
	}
}

func rankState(s string) int { return slices.Index([]string{Proved, Tried, Open, Found}, s) }

// conclusions makes claims of what has been noted: one for each state, with the
// reason; how tells what was done where no other reason is given.
func (c *checker) conclusions(how string) {
	of := map[string][]subject{}
	sites := false // they are what is claimed about, and an entry is only where it is found
	for s := range c.claims {
		sites = sites || s.site != nil
	}
	for s, k := range c.claims {
		if sites && s.site == nil {
			continue
		}
		state := k.state
		if state == Proved && !c.kind.Proves {
			state = Tried
		}
		of[state] = append(of[state], s)
	}
	for _, state := range []string{Found, Proved, Tried, Open} {
		list := of[state]
		if len(list) == 0 {
			continue
		}
		slices.SortFunc(list, func(a, b subject) int {
			if a.rule != nil && b.rule != nil {
				return cmp.Compare(a.rule.Number, b.rule.Number)
			}
			return strings.Compare(a.name(), b.name())
		})
		claim := Claim{Finding: c.kind.Name, State: state, Tried: c.tried}
		for _, s := range list {
			claim.Names = append(claim.Names, s.name())
			if s.rule != nil {
				claim.Entries++
			} else {
				claim.Sites++
			}
			if state == Found && c.accepts(s) {
				claim.Accepted++
			}
		}
		if state != Found {
			claim.Why = c.reasons(list, how)
		}
		c.report.Claims = append(c.report.Claims, claim)
	}
}

// reasons says why no more is known of some entries: each reason once, with the first that
// have it.
func (c *checker) reasons(list []subject, how string) string {
	var order []string
	names := map[string][]string{}
	for _, s := range list {
		why := cmp.Or(c.claims[s].why, how)
		if names[why] == nil {
			order = append(order, why)
		}
		names[why] = append(names[why], s.name())
	}
	if len(order) == 1 {
		return order[0]
	}
	var out []string
	for i, why := range order {
		if i == maxReasons {
			out = append(out, strings.TrimPrefix(further(len(order)-i, "and one more reason", "and %d more reasons"), " "))
			break
		}
		some := names[why]
		said := strings.Join(some[:min(len(some), maxGiven)], ", ")
		if len(some) > maxGiven {
			said += fmt.Sprintf(" and %d more", len(some)-maxGiven)
		}
		out = append(out, said+": "+why)
	}
	return strings.Join(out, "; ")
}

const (
	maxReasons = 4
	maxGiven   = 4 // entries that are named for a reason
)

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

// Check looks for everything that Kinds names, but for what is quiet. The limits of the
// proofs are multiplied by effort.
func Check(e *engine.Engine, effort int) *Report { return Look(e, Options{Effort: effort}) }

// CheckAll looks for what is quiet, too.
func CheckAll(e *engine.Engine, effort int) *Report {
	return Look(e, Options{Effort: effort, All: true})
}

// Options say what is looked for.
type Options struct {
	Effort  int                              // how many times as large proofs may grow
	All     bool                             // what is quiet, too
	NoPages bool                             // the files of the trees are not read
	Pages   bool                             // only what is said of them is looked for
	Done    func(n, of int)                  // told after each kind how many have been looked for, and of how many; may be nil
	Read    func(*engine.Engine) *pages.Site // reads the trees' files; nil: pages.Of
}

// Look looks for what the options say.
func Look(e *engine.Engine, o Options) *Report {
	var ahead sync.WaitGroup
	defer ahead.Wait()
	ahead.Go(func() { translate(e.Book) })
	c := newShared(e, max(o.Effort, 1))
	c.all, c.readPages = o.All, o.Read
	for i, k := range Kinds() {
		if (o.All || !k.Quiet) && !(o.NoPages && k.Page) && !(o.Pages && !k.Page) {
			c.look(k)
			c.looked = append(c.looked, k.Name)
		}
		if o.Done != nil {
			o.Done(i+1, len(Kinds()))
		}
	}
	slices.SortStableFunc(c.report.Findings, func(a, b *Finding) int {
		return cmp.Or(a.Severity.Compare(b.Severity), cmp.Compare(weight(a), weight(b)), strings.Compare(a.Place.Source.Name, b.Place.Source.Name), cmp.Compare(a.Place.Line, b.Place.Line))
	})
	return c.report
}

// translate makes the sets of the paths that patterns take, of which nearly all are needed, while
// other things are looked at.
func translate(b *rulebook.Book) {
	for _, r := range b.Rules {
		for _, p := range r.On {
			_, _ = p.Lang() // why there is none is told where it is needed
		}
	}
}

// weight puts what is said of the rulebook before what is said of pages, and of these what
// is met most often first.
func weight(f *Finding) int {
	if f.Page == "" {
		return math.MinInt
	}
	return -f.Count
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
	c.note(Found, f.Rules[0], "")
	if slices.ContainsFunc(f.Rules, func(r *rulebook.Rule) bool { return c.accepts(subject{rule: r}) }) {
		return
	}
	c.report.Findings = append(c.report.Findings, &f)
}

// addOf reports a finding that belongs to a site and no entry, but where the site
// accepts it.
func (c *checker) addOf(s *rulebook.Site, f Finding) {
	c.noteSite(Found, s, "")
	if c.accepts(subject{site: s}) {
		return
	}
	f.Name, f.Severity = c.kind.Name, cmp.Or(f.Severity, c.kind.Severity)
	if f.Place.Source == nil {
		f.Place, f.Width = s.Place, len("site")
	}
	f.Count = max(f.Count, 1)
	c.report.Findings = append(c.report.Findings, &f)
}

// accepts reports whether an entry or a site accepts the finding at hand, and notes that
// it does.
func (c *checker) accepts(s subject) bool {
	for _, a := range s.accepts() {
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
	register(1000, Kind{
		Name: "accept-nothing", Severity: Note,
		Summary: "an entry accepts a finding that it does not have",
		Before:  "redirect soon on /soon to /fares/ as temporary\n    accept missing-target \"the page comes in May\"      # it is there already",
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
	useless := func(a rulebook.Accept) (f Finding, ok bool) {
		f = Finding{Place: a.Place, Width: len("accept"),
			Message: fmt.Sprintf("There is no finding %s here to accept.", a.Finding), Advice: "take the accept out"}
		f.Fixes = []Fix{writeAt(a.Place, a.Width, "")}
		if !slices.Contains(names, a.Finding) {
			f.Message = fmt.Sprintf("%s is not a finding that check looks for", a.Finding)
			f.Advice = "see the names with: kibitz help findings"
		}
		return f, !c.used[acceptKey(a)] && (slices.Contains(c.looked, a.Finding) || !slices.Contains(names, a.Finding))
	}
	for _, s := range c.Book.Sites {
		for _, a := range s.Accepts {
			if f, ok := useless(a); ok {
				f.Request = c.homeRequest(s)
				c.addOf(s, f)
			}
		}
	}
	for _, r := range c.Book.Rules {
		for _, a := range r.Accepts {
			f, ok := useless(a)
			if !ok {
				continue
			}
			f.Rules = []*rulebook.Rule{r}
			if probes := c.probes(c.sitesOf(r)[0], r); len(probes) > 0 {
				f.Request = probes[0]
			}
			c.add(f)
		}
	}
}

// treeSites are the sites of which it is known what files they have.
func (c *shared) treeSites() []*rulebook.Site {
	return slices.DeleteFunc(slices.Clone(c.Book.Sites), func(s *rulebook.Site) bool { return !c.KnowsTree(s) })
}

// clause gives the place and width of a rule's clause, for marking.
func clause(r *rulebook.Rule, words ...string) (rulebook.Place, int) {
	if _, at, width, ok := r.Entry.Clause(words...); ok {
		return at, width
	}
	return r.Place, len(r.Kind)
}
