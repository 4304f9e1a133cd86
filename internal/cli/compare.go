package cli

import (
	"cmp"
	"errors"
	"flag"
	"fmt"
	"maps"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"kibitz/core/engine"
	"kibitz/core/pages"
	"kibitz/core/proof"
	"kibitz/core/replay"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/internal/render"
)

func init() {
	register(command{
		order:   8,
		shows:   func(f *form) bool { return f.compare != nil },
		rules:   "the rulebook, a `file`, where OLD and NEW are folders (default site.kibitz)",
		name:    "compare",
		args:    "OLD NEW LIST…",
		summary: "what a change of the rulebook does to these requests, and to visitors who come back",
		about: `Predicts the answer to every request of the lists with two rulebooks, and shows
what changes, the worst first: who loops, what is lost, what is open
that was refused. Where OLD and NEW are folders, the rulebook is the same (-rules)
and its first site has the one and the other as its files.

Without a list it says what is true of every request that there can be: that all get
the same answer, or which do not. And it uses the requests that check makes of both
rulebooks, and each file of the trees. It walks visitors who stored the old permanent
redirects through the new rulebook: a page that is moved away and back catches them in
a loop.
Exit status 1: visitors are caught in a loop; or a change that -fail-on names, or, with
-expect-none, any change.`,
		setup: func(flags *flag.FlagSet) func(*run, []string) (int, error) {
			f := &compareFlags{}
			flags.BoolVar(&f.expectNone, "expect-none", false, "any change gives exit status 1")
			flags.Var(&f.failOn, "fail-on", "the `change` that gives exit status 1: "+strings.Join(failWords, ", ")+"; may be repeated")
			read := flags.String("pages", "on", "whether the files of the new trees are read, for how many link to an address that changes: on, off")
			flags.BoolVar(&f.showHeaders, "headers", false, "show examples also of requests that differ in headers alone")
			flags.BoolVar(&f.everyLink, "every-link", false, everyLinkHelp)
			f.setup(flags, firstSite)
			f.setupHeaders(flags)
			return func(r *run, args []string) (int, error) {
				if len(args) < 2 {
					return 0, usagef("name the old rulebook and the new one, like: kibitz compare before.kibitz site.kibitz requests.txt")
				}
				if *read != "on" && *read != "off" {
					return 0, usagef("-pages is on or off, not %s", *read)
				}
				f.noPages = *read == "off"
				if err := f.checkFormat(); err != nil {
					return 0, err
				}
				return r.compare(args[0], args[1], args[2:], f)
			}
		},
	})
}

type compareFlags struct {
	expectNone  bool
	failOn      failFlags
	everyLink   bool // of the new trees
	noPages     bool
	showHeaders bool // requests that differ in headers alone are shown, too
	listFlags
}

// failChanges are the changes that -fail-on can name, and what each is called there.
var failChanges = map[string]replay.Change{"loop": replay.NowLoops, "error": replay.NowFails, "not-found": replay.NowLost, "open": replay.NowOpen, "refused": replay.NowRefused,
	"elsewhere": replay.NowElse, "content": replay.NowContent, "way": replay.NowWay, "header": replay.NowHeader, "found": replay.NowFound}

const anyChange = "any"

var failWords = append(slices.SortedFunc(maps.Keys(failChanges), func(a, b string) int { return int(failChanges[a] - failChanges[b]) }), anyChange)

type failFlags []string

func (f *failFlags) String() string { return "" }

func (f *failFlags) Set(s string) error {
	if !slices.Contains(failWords, s) {
		return fmt.Errorf("it is one of %s", strings.Join(failWords, ", "))
	}
	*f = append(*f, s)
	return nil
}

// fails reports whether a change of this sort is one that must not be.
func (f *compareFlags) fails(c replay.Change) bool {
	return c == replay.NowLoops || f.expectNone || slices.ContainsFunc(f.failOn, func(word string) bool { return word == anyChange || failChanges[word] == c })
}

// loadSide reads a rulebook, or the rulebook of -rules with a folder as the files
// of its first site.
func (r *run) loadSide(name string) (*engine.Engine, error) {
	info, err := os.Stat(name)
	if err != nil || !info.IsDir() {
		side := &run{interrupts: r.interrupts, inputs: r.inputs, stderr: r.stderr, out: r.out, common: r.common}
		side.rules = name
		return side.load()
	}
	book, err := r.loadBook()
	if err != nil {
		return nil, err
	}
	book.Sites[0].Files = name
	return r.compile(book)
}

func (r *run) compare(oldName, newName string, lists []string, f *compareFlags) (int, error) {
	before, err := r.loadSide(oldName)
	if err != nil {
		return 0, err
	}
	after, err := r.loadSide(newName)
	if err != nil {
		return 0, err
	}
	r.origin = after.Book.BaseAddress().Origin()
	base, err := f.address(after)
	if err != nil {
		return 0, err
	}
	var stop atomic.Bool
	defer r.whenInterrupted(func() { stop.Store(true) })()
	start := time.Now()
	c := replay.NewCompare(before, after)
	const together = 256 // are handed over at once
	items := make(chan []*list.Item, 4*runtime.GOMAXPROCS(0))
	var pool sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		pool.Go(func() {
			one := c.Comparer()
			defer one.Done()
			for some := range items {
				for _, item := range some {
					item.Request.AddMissing(f.headers)
					one.Add(item)
				}
			}
		})
	}
	var failed error
	var waiting []*list.Item
	send := func(item *list.Item) {
		if waiting = append(waiting, item); len(waiting) == together {
			items <- waiting
			waiting = nil
		}
	}
	if f.everyLink {
		all, err := r.pagesOf(after)
		if err != nil {
			close(items)
			return 0, err
		}
		replay.EveryLink(after, all, false)(base, send)
	}
	if len(lists) == 0 && !f.everyLink {
		for _, e := range []*engine.Engine{before, after} {
			for _, req := range proof.Requests(e) {
				send(&list.Item{Request: req})
			}
		}
	}
	for _, name := range lists {
		counts, err := r.readLines(name, &f.listFlags, base, func(text replay.Text) (list.Counts, error) {
			return c.Lines(text, replay.Options{Workers: runtime.GOMAXPROCS(0), Base: base, Headers: f.headers, Fields: f.fields, Stop: &stop})
		}, send)
		if r.sayRead(name, counts); err != nil && !isPartial(err) {
			close(items)
			return 0, err
		}
		failed = errors.Join(failed, err)
	}
	items <- waiting
	close(items)
	pool.Wait()
	if r.interrupted() {
		failed = errors.Join(failed, errInterrupted)
	}
	result := c.End(time.Now())
	told := compared{old: oldName, new: newName, noLists: len(lists) == 0 && !f.everyLink, result: result, headers: f.showHeaders}
	if told.noLists && !r.interrupted() {
		told.every = proof.Compare(before, after, 1)
	}
	told.took = time.Since(start)
	if len(result.Groups) > 0 && !f.noPages && slices.ContainsFunc(after.Book.Sites, after.KnowsTree) {
		told.linked = pages.Of(after).To()
	}
	err = r.form.compare(r, told)
	if err = errors.Join(err, failed); err != nil {
		return 0, err
	}
	if f.expectNone && told.every != nil && len(told.every.Differences) > 0 {
		return exitFindings, nil
	}
	if len(result.Circles) > 0 || slices.ContainsFunc(result.Groups, func(g *replay.Group) bool { return f.fails(g.Change) }) {
		return exitFindings, nil
	}
	return exitWell, nil
}

func (r *run) comparedText(c compared) error {
	oldName, newName, result, took := c.old, c.new, c.result, c.took
	out := r.out
	if c.every != nil {
		r.everyRequest(c.every)
	}
	made := ""
	if c.noLists {
		made = "made of the rulebooks, "
	}
	out.Printf("%s   %s the same", render.Count(result.Requests, "request"), render.Number(result.Same))
	if changed := result.Requests - result.Same; changed > 0 {
		out.Printf("   %s changed", out.Doubtful(render.Number(changed)))
	}
	out.Printf("%s\n", r.partly(r.interrupted()))
	out.Wrapped("", out.Quiet(fmt.Sprintf("%swith %s and %s in %s", made, render.Clean(oldName), render.Clean(newName), render.Time(took))))
	out.Printf("\n")
	var sums [][]string
	for i, g := range result.Groups {
		if i == 0 || g.Change != result.Groups[i-1].Change {
			n, says := changeOf(result.Groups[i:])
			sums = append(sums, []string{render.Number(n), r.weighed(g.Change, says)})
		}
	}
	out.Rows("  ", sums, 0)
	for _, c := range result.Circles {
		r.returning(c, newName)
	}
	if c.every != nil {
		r.everyDifference(c.every, newName)
	}
	for i, g := range result.Groups {
		if i == 0 || g.Change != result.Groups[i-1].Change {
			n, says := changeOf(result.Groups[i:])
			out.Printf("\n%s\n\n", r.weighed(g.Change, render.Count(n, "request")+" "+says))
		}
		arrow := fmt.Sprintf("  %s: %s, now %s", render.Count(g.Requests, "request"), r.side(g.From), r.side(g.To))
		if g.What != "" {
			arrow = fmt.Sprintf("  %s: %s", render.Count(g.Requests, "request"), g.What)
		}
		out.Printf("%s\n", arrow)
		if g.Change == replay.NowHeader && !c.headers {
			if i+1 == len(result.Groups) || result.Groups[i+1].Change != g.Change {
				out.Printf("  %s\n", out.Quiet("examples of these: -headers"))
			}
			continue
		}
		for _, req := range g.Examples {
			out.Printf("      %s%s\n", render.Clean(near(r, req.Verb(), req.Address.String())), out.Quiet(linkedFrom(c.linked, req)))
		}
		if g.From.Ends != g.To.Ends {
			for _, end := range []struct{ word, text string }{{"before", g.From.Ends}, {"now", g.To.Ends}} {
				if end.text != "" {
					out.Printf("      %s\n", out.Quiet(fmt.Sprintf("%s: the visit %s", end.word, render.Short(r.nearText(end.text), 110))))
				}
			}
		}
	}
	if len(result.Groups) == 0 && len(result.Circles) == 0 && (c.every == nil || len(c.every.Differences) == 0) {
		out.Printf("\n%s\n", out.Well("Nothing changes."))
	}
	return nil
}

// changeOf says what changes for how many requests: those of the first of some groups, and
// of all that change in the same way.
func changeOf(groups []*replay.Group) (n int64, says string) {
	for _, g := range groups {
		if g.Change == groups[0].Change {
			n += g.Requests
		}
	}
	if says = groups[0].Change.Says(); n == 1 {
		says = oneDoes.Replace(says)
	}
	return n, says
}

// oneDoes makes the verbs of many those of one.
var oneDoes = strings.NewReplacer("have ", "has ", "are ", "is ", "end ", "ends ", "work ", "works ", "reach ", "reaches ", "differ ", "differs ", "loop ", "loops ", "fail ", "fails ", "were ", "was ")

// weighed colours what is said by how bad the change is.
func (r *run) weighed(c replay.Change, says string) string {
	switch {
	case c <= replay.NowOpen:
		return r.out.Bad(says)
	case c == replay.NowFound:
		return r.out.Well(says)
	}
	return r.out.Doubtful(says)
}

func linksTo(linked map[string][]*pages.Link, req *request.Request) []*pages.Link {
	at := req.Address
	at.Fragment = ""
	return linked[at.String()]
}

// linkedFrom says how many places of the site's own pages link to an address, and which.
func linkedFrom(linked map[string][]*pages.Link, req *request.Request) string {
	links := linksTo(linked, req)
	if len(links) == 0 {
		return ""
	}
	said := fmt.Sprintf("   linked from %s:%d", render.Short(links[0].Page.Name(), 60), links[0].Line)
	if n := len(links) - 1; n > 0 {
		said += fmt.Sprintf(" and %s", render.Count(n, "more place"))
	}
	return said
}

// maxDifferences is how many sets of requests are shown that are answered differently.
const maxDifferences = 20

// everyRequest says what is true of all requests for two rulebooks.
func (r *run) everyRequest(l *proof.Likeness) {
	out := r.out
	switch {
	case l.Alike() && l.Requests == 0:
		out.Printf("%s The entries are the same.\n", out.Well("Proved: every request gets the same answer."))
	case l.Alike():
		out.Printf("%s One of each kind was made: %s.\n", out.Well("Proved: every request gets the same answer."), render.Number(l.Requests))
	case len(l.Differences) == 0:
		out.Printf("No request was found that is answered differently, among one of each kind (%s).\n", render.Number(l.Requests))
	case len(l.Open) == 0:
		out.Printf("%s\n", out.Doubtful(fmt.Sprintf("Proved: every request gets the same answer, but for %s.", kindsOf(len(l.Differences)))))
	default:
		out.Printf("%s\n", out.Doubtful("Another answer is given to "+kindsOf(len(l.Differences))+"; of some others that is not known."))
	}
	out.Printf("\n")
}

// kindsOf counts kinds of requests.
func kindsOf(n int) string { return render.Count(int64(n), "kind") + " of requests" }

// everyDifference shows the kinds of requests that two rulebooks answer differently.
func (r *run) everyDifference(l *proof.Likeness, newName string) {
	out := r.out
	if len(l.Differences) > 0 {
		out.Printf("\n%s\n", out.Doubtful("Of all requests, these are answered differently"))
	}
	for i, d := range l.Differences {
		if i == maxDifferences {
			out.Printf("\n  … and %s more; all of them: -as json\n", render.Number(len(l.Differences)-i))
			break
		}
		name := "the site's files"
		if by := cmp.Or(d.After, d.Before); by != nil {
			name = by.Name
		}
		out.Wrapped("\n  ", render.Clean(strings.TrimSpace(fmt.Sprintf("%s  %s", name, d.Takes))))
		if was, is := r.answerSide(d.Was), r.answerSide(d.Is); d.Was.Status != d.Is.Status || d.Was.Location != d.Is.Location || fileOf(d.Was) != fileOf(d.Is) {
			out.Wrapped("      ", "was "+was+", now "+is)
		} else {
			out.Wrapped("      ", "now "+is+", with another "+render.Clean(strings.Join(d.Headers(), ", ")))
		}
		out.Printf("      Try it    %s\n", traceLineOf(namesRules(newName), d.Request))
	}
	for _, why := range l.Open {
		out.Wrapped("\n  Not known: ", render.Clean(why))
	}
}

func fileOf(a *engine.Response) string {
	if a.File == nil {
		return ""
	}
	return a.File.Path
}

// answerSide is an answer in a few words.
func (r *run) answerSide(a *engine.Response) string {
	s := r.out.Status(engine.StatusText(a))
	switch {
	case a.Location != "":
		s += " to " + render.Short(a.Location, 60)
	case a.File != nil:
		s += " " + render.Clean(a.File.Path)
	}
	if a.By != nil {
		s += fmt.Sprintf(" by %s %s", render.Clean(a.By.Name), r.out.Quiet(place(a.By)))
	}
	return s
}

func near(r *run, verb, address string) string {
	if verb == "GET" {
		return r.near(address)
	}
	return verb + " " + r.near(address)
}

// nearText leaves out the origin that relative addresses are asked of.
func (r *run) nearText(s string) string { return strings.ReplaceAll(s, r.origin+"/", "/") }

// side is one side of a change.
func (r *run) side(a replay.Answer) string {
	s := r.out.Status(a.Status)
	if a.By != nil {
		s += fmt.Sprintf(" by %s %s", render.Clean(a.By.Name), r.out.Quiet(place(a.By)))
	}
	return s
}

// returning tells of visitors who are sent round by what they have stored.
func (r *run) returning(c *replay.Returning, newName string) {
	out := r.out
	out.Printf("\n%s  stored-redirect-loop\n\n", out.Bad("error"))
	first := c.Visit.Hops[c.Visit.Again]
	var names []string
	for _, h := range c.Stored {
		if by := h.Response.By; by != nil {
			names = append(names, fmt.Sprintf("%s (%s)", by.Name, place(by)))
		}
	}
	told := strings.Join(c.HSTS, " and ") + " over https only, as the old rulebook told them,"
	advice := "leave the old address as it is for as long as visitors come back, or move the page to a third address; from now on write   as temporary   where a move may be taken back"
	var text string
	switch {
	case len(c.Stored) == 0:
		text = "Whoever asks " + told
		advice = "answer over https, too; and before anybody is led back to http, send   Strict-Transport-Security max-age=0   for as long as the old one holds"
	case len(names) == 0:
		text = "Whoever has stored the old permanent redirect"
	default:
		text = "Whoever has stored the old permanent redirect of " + strings.Join(names, " and ")
	}
	if len(c.Stored) > 0 && len(c.HSTS) > 0 {
		text += ", and asks " + told
	}
	out.Wrapped("  ", render.Clean(text+" is caught in an endless loop by the new rulebook: nothing tells the browser to forget."))
	out.Printf("\n")
	var rows [][]string
	for i, h := range c.Visit.Hops[c.Visit.Again:] {
		from := "answered by the new rulebook"
		for _, s := range c.Stored {
			if s.Request.Address == h.Request.Address && s.Response == h.Response {
				from = "stored, from the old rulebook"
			}
		}
		if h.Response.Cause == engine.CauseRedirect && h.Response.By == nil {
			from = "the browser's own, as the old rulebook told it (Strict-Transport-Security)"
		}
		if h.Response.By != nil {
			from += "   " + h.Response.By.Name + " " + place(h.Response.By)
		}
		rows = append(rows, []string{fmt.Sprint(i + 1), engine.StatusText(h.Response), render.Short(r.near(h.Request.Address.String()), 70), "to " + render.Short(h.Response.Location, 60), out.Quiet(from)})
	}
	out.Rows("    ", rows, 0)
	out.Printf("\n")
	out.Advice("  Fix       ", advice)
	side := &run{interrupts: r.interrupts, inputs: r.inputs, common: r.common}
	side.rules = newName
	out.Printf("  Try it    %s   (the new rulebook alone)\n", side.traceLine(first.Request))
}

var changeNames = map[replay.Change]string{replay.NowLoops: "loops", replay.NowFails: "fails", replay.NowLost: "lost", replay.NowOpen: "open", replay.NowRefused: "refused",
	replay.NowElse: "elsewhere", replay.NowContent: "content", replay.NowWay: "way", replay.NowHeader: "header", replay.NowFound: "found"}
