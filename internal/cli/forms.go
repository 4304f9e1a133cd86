package cli

// The forms of results, which -as names. Each is told of in a file of its own, for the
// results that it can show; a command has those that can show what it finds.

import (
	"bytes"
	"cmp"
	"slices"
	"strings"
	"time"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/excerpt"
	"kibitz/core/pages"
	"kibitz/core/proof"
	"kibitz/core/replay"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/internal/live"
)

// A form shows results. What it cannot show is nil.
type form struct {
	rank     int // text comes first
	name     string
	check    func(*run, checked) error
	links    func(*run, linked) error
	version  func(*run, build) error
	trace    func(*run, traced) error
	visitors func(*run, *request.Request, []sight) error
	compare  func(*run, compared) error
	sums     func(*run, summed) error                       // of a replay
	sides    func(*run, sideBySide) error                   // of saved tallies
	parts    func(*run, *replay.Breakdown, summed) error    // of a replay, by what its requests have in common
	heading  string                                         // above all of each
	each     func(*run, *bytes.Buffer) func(*replay.Result) // writes to a buffer, which is emptied now and then
	whole    bool                                           // each shows the header of answers, which takes longer to predict
	verify   func(*run, verified) error
	cases    func(r *run, of string, cases []testCase) error // of what is expected, by a replay or of a server
}

type (
	checked struct {
		engine *engine.Engine // nil where the rulebook could not be read
		book   *rulebook.Book // nil where it could not be read
		report *proof.Report
		claims bool // all are wanted
		pages  *readPages
	}
	traced struct {
		engine *engine.Engine
		body   bool // that of the last answer is shown
		visit  *browser.Visit
		traces []*engine.Trace // of its hops
	}
	compared struct {
		old, new string
		noLists  bool
		every    *proof.Likeness // of all requests, where there are no lists; nil for none
		result   *replay.Comparison
		took     time.Duration
		headers  bool                     // examples of what has only another header are shown
		linked   map[string][]*pages.Link // of the new site's own pages, by address
	}
	summed struct {
		engine *engine.Engine
		tally  *replay.Tally
		flags  *replayFlags
		took   time.Duration
		cover  *excerpt.Strength // with -cover
	}
	verified struct {
		engine *engine.Engine
		all    []*live.Verified
		flags  *verifyFlags
		took   time.Duration
	}
)

// A testCase is a request of a list with what it expects, or one that loops.
type testCase struct {
	name   string
	failed string // why; "" if all is as expected
}

var forms []*form

func registerForm(f form) {
	forms = append(forms, &f)
	slices.SortFunc(forms, func(a, b *form) int { return cmp.Or(cmp.Compare(a.rank, b.rank), cmp.Compare(a.name, b.name)) })
}

// formsOf gives the names of some forms.
func formsOf(some func(*form) bool) string {
	var names []string
	for _, f := range forms {
		if some(f) {
			names = append(names, f.name)
		}
	}
	return strings.Join(names, ", ")
}

// formNamed gives the form of a name, if it can show what a command has.
func formNamed(name string, some, each func(*form) bool) (*form, error) {
	for _, f := range forms {
		if f.name == name && (some(f) || each != nil && each(f)) {
			return f, nil
		}
	}
	return nil, usagef("-as is %s, not %s", formsOf(some), name)
}
