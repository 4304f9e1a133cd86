// Package rulebook is the language in which redirects, rewrites, fallbacks and
// the rest are written: from text to typed rules and back.
package rulebook

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/pattern"
	"kibitz/core/request"
)

// A Book is a rulebook that has been read without errors.
type Book struct {
	Sources []*Source
	Entries []*Entry // all that is written, in this order; but for includes, whose entries stand in their place
	Sites   []*Site
	Lists   []List
	Rules   []*Rule // all of them, in order

	made func() map[writtenPattern]*pattern.Pattern // patterns, once
}

// A Site is what an entry `site` says, and the rules below it.
type Site struct {
	Name         string
	Place        Place
	Address      request.Address
	Hosts        []*pattern.Pattern // with the address's own host first
	Files        string             // folder of the tree; "" where there is none
	Inventory    string             // or the listing of it
	KeepSlashes  bool
	UnknownHosts bool // answers for hosts that no site lists
	Accepts      []Accept
	Rules        []*Rule // those of every site first
}

// HasTree reports whether the site says where its files are.
func (s *Site) HasTree() bool { return s.Files != "" || s.Inventory != "" }

// A List is a set of values with a name.
type List struct {
	Name  string
	Place Place
	Used  bool // by some entry
}

// A Rule is one entry that acts on requests.
type Rule struct {
	Kind     Kind
	Name     string // KIND:LINE where the entry has none
	Place    Place
	Number   int   // position in Book.Rules
	Site     *Site // nil: every site
	On       []*pattern.Pattern
	In       []string // canonical folders without their last slash; "" is everything
	Fold     bool     // ignoring case
	Tests    []*Test
	Examples []Example
	Accepts  []Accept
	Action   Action
	Entry    *Entry
}

// Shows is the canonical path of the page that the entry shows in the place of another; ""
// for none.
func (r *Rule) Shows() string {
	if a, ok := r.Action.(interface{ shows() string }); ok {
		return a.shows()
	}
	return ""
}

// Covers reports whether the path selectors of an entry take a canonical path.
func (r *Rule) Covers(path string) bool {
	if len(r.In) > 0 && !r.Within(path) {
		return false
	}
	return len(r.On) == 0 || slices.ContainsFunc(r.On, func(p *pattern.Pattern) bool { return p.Match(path) })
}

// Within reports whether a canonical path is one of the folders that the entry is for, or
// below one.
func (r *Rule) Within(path string) bool {
	if r.Fold {
		path = canonical.Fold(path)
	}
	return slices.ContainsFunc(r.In, func(folder string) bool { return InFolder(path, folder) })
}

// InFolder reports whether a canonical path is a folder, written without its last slash, or
// below it.
func InFolder(path, folder string) bool {
	return strings.HasPrefix(path, folder) && (len(path) == len(folder) || path[len(folder)] == '/')
}

// Reads reports whether an entry tests or copies what a header field of requests, in small
// letters, says.
func (b *Book) Reads(field string) bool {
	reads := func(f Field) bool {
		from := f.Row().Header
		return from != nil && from(f.Name) == field
	}
	return slices.ContainsFunc(b.Rules, func(r *Rule) bool {
		for _, t := range r.Action.Templates() {
			for p := range t.Pieces {
				if p.Value && p.Capture == "" && reads(p.Field) {
					return true
				}
			}
		}
		return slices.ContainsFunc(r.Tests, func(t *Test) bool { return reads(t.Field) })
	})
}

// IsCalled reports whether a rule has a name, whose case does not count.
func (r *Rule) IsCalled(name string) bool { return strings.EqualFold(r.Name, name) }

// An Action is what a rule does: one of the types below.
type Action interface {
	// Templates are those that are filled in for an answer.
	Templates() []*Template
	// Points name what it decides, where the first entry that fits decides each point; none
	// for a kind of which all entries count, or which is read in order.
	Points() []string
}

// points gives those that hold, sorted.
func points(all map[string]bool) []string {
	maps.DeleteFunc(all, func(_ string, holds bool) bool { return !holds })
	return slices.Sorted(maps.Keys(all))
}

// A Reading is the action of an entry that is read from top to bottom, until one answers.
type Reading interface {
	Action
	// Ends reports whether every request that it takes is answered by it.
	Ends() bool
	// Does writes what it does: entries that write the same do the same.
	Does() string
}

func (b Body) templates() []*Template {
	if b.Text == nil {
		return nil
	}
	return []*Template{b.Text}
}

// A Body is the content of an answer: a file of the tree, or a text.
type Body struct {
	Show string // canonical path; "" where there is none
	Text *Template
}

// Empty reports whether the body says nothing.
func (b Body) Empty() bool { return b.Show == "" && b.Text == nil }

// Statuses are codes and classes of them.
type Statuses struct {
	codes   map[int]bool
	classes [6]bool
	words   []string
}

// Has reports whether status is among them.
func (s Statuses) Has(status int) bool {
	return s.codes[status] || status >= 100 && status < 600 && s.classes[status/100]
}

// Empty reports whether none are named.
func (s Statuses) Empty() bool { return len(s.words) == 0 }

// Words are the statuses as they were written.
func (s Statuses) Words() []string { return s.words }

// A Query says what becomes of the request's query in a result.
type Query struct {
	Mode QueryMode
	Only []string
	Said bool // the entry says `keep`, which is so anyhow where the result has none of its own
}

// A Sender is an action whose result may have a query.
type Sender interface {
	// Sends gives what becomes of the request's query, and whether some result has one of its
	// own.
	Sends() (q Query, own bool)
}

// Whole reports whether a result has the request's query as it is, or none of it.
func (q Query) Whole() bool { return q.Mode == QueryKeep || q.Mode == QueryDrop }

// beside says why a result's own query and what becomes of the request's do not go
// together; "" if they do.
func (q Query) beside(own string) (problem string) {
	if q.Mode == QueryKeep && q.Said {
		return "`to` has a query of its own: write `query merge` to send the request's parameters along with it"
	}
	for _, pair := range strings.Split(own, "&") {
		name, _, _ := strings.Cut(pair, "=")
		if q.Mode == QueryOnly && slices.Contains(q.Only, canonical.Decode(strings.ReplaceAll(name, "+", " "))) {
			return "`to` names the parameter " + name + " itself, so the request's cannot be sent along: leave one of them out"
		}
	}
	return ""
}

// QueryMode is how a request's query goes into a result.
type QueryMode uint8

const (
	QueryKeep QueryMode = iota
	QueryMerge
	QueryOnly
	QueryDrop
)

// An Example is a request that an entry says something about.
type Example struct {
	Place   Place
	Width   int
	Method  string
	URL     string
	Expects request.Expectation
}

// ExampleRequest is what an example of a rule asks for: of the rule's site, or of
// the first where the rule belongs to all.
func (b *Book) ExampleRequest(r *Rule, ex *Example) (*request.Request, error) {
	base := b.BaseAddress()
	if r.Site != nil {
		base = r.Site.Address
	}
	address, err := request.Parse(ex.URL, base)
	return &request.Request{Method: ex.Method, Address: address}, err
}

// An Accept keeps a finding quiet.
type Accept struct {
	Place   Place
	Width   int // with its finding and reason
	Finding string
	Reason  string
}

// A Test is a `when` or an `unless`.
type Test struct {
	Place  Place
	Width  int // of the whole clause on its first line
	Field  Field
	Unless bool
	Values []Value
	Takes  bool // a value may take text out of the field
	Plain  bool // all values are texts
}

// String is a test as a rulebook writes it, without its `when` or `unless`.
func (t *Test) String() string { return t.Brief(len(t.Values)) }

// Brief is a test with no more than its first values, and how many more there are.
func (t *Test) Brief(most int) string {
	var b strings.Builder
	b.WriteString(t.Field.String())
	for _, v := range t.Values[:min(most, len(t.Values))] {
		b.WriteString(" " + v.Word)
	}
	if more := len(t.Values) - most; more > 0 {
		fmt.Fprintf(&b, " and %d more", more)
	}
	return b.String()
}

// A ValueKind says how a value is compared.
type ValueKind uint8

const (
	ValueText    ValueKind = iota
	ValueGlob              // text in which * stands for any run of characters
	ValueRegexp            // ~REGEX over the plain value
	ValuePattern           // a path or host pattern
	ValueNetwork
	ValueSpan
	ValuePresent
	ValueAbsent
)

// A Value is one of the values of a test.
type Value struct {
	Kind    ValueKind
	Text    string
	Fold    bool // letters compare without case
	Glob    Glob
	Regexp  *regexp.Regexp   // anchored
	Pattern *pattern.Pattern // of path, asked or host
	Network Network
	Span    Span
	Word    string // as it was written
}

// Source gives a glob or a regular expression as an expression, anchored.
func (v *Value) Source() string {
	if v.Kind == ValueGlob {
		return v.Glob.source()
	}
	return v.Regexp.String()
}

// A Glob is a text with stars, each of which stands for any run of characters:
// the texts between them.
type Glob []string

// Match reports whether the glob takes the whole of s.
func (g Glob) Match(s string) bool {
	first, last := g[0], g[len(g)-1]
	if len(s) < len(first)+len(last) || !strings.HasPrefix(s, first) || !strings.HasSuffix(s, last) {
		return false
	}
	s = s[len(first) : len(s)-len(last)]
	for _, text := range g[1 : len(g)-1] { // the first place where it stands leaves the most
		i := strings.Index(s, text)
		if i < 0 {
			return false
		}
		s = s[i+len(text):]
	}
	return true
}

func (g Glob) source() string {
	var parts []string
	for _, text := range g {
		parts = append(parts, regexp.QuoteMeta(text))
	}
	return `\A(?s:` + strings.Join(parts, ".*") + `)\z`
}
