package cli

// What a replay shows people.

import (
	"bytes"
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/moves"
	"kibitz/core/proof"
	"kibitz/core/replay"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
	"kibitz/internal/render"
)

// tallyText shows the sums.
func (r *run) tallyText(s summed) error {
	e, t, f, took := s.engine, s.tally, s.flags, s.took
	out := r.out
	r.origin = e.Book.BaseAddress().Origin()
	var head []string
	add := func(n int64, noun string, bad bool) {
		s := render.Count(n, noun)
		if bad && n > 0 {
			s = out.Bad(s)
		}
		head = append(head, s)
	}
	read := int64(0)
	for _, l := range t.Lists {
		read += int64(l.Requests)
	}
	requests := render.Count(t.Requests, "request")
	if t.Requests < read && !t.Partial { // some were chosen
		requests = fmt.Sprintf("%s of %s", render.Number(t.Requests), render.Count(read, "request"))
	}
	head = append(head, requests+" in "+render.Time(took))
	add(t.Loops.Total+t.TooLong.Total, "loop", true)
	head = append(head, render.Number(t.Missing.Total)+" not found")
	if t.Expected > 0 {
		met := fmt.Sprintf("%s of %s met", render.Number(t.Expected-t.Unmets), render.Count(t.Expected, "expectation"))
		if t.Unmets > 0 {
			met = out.Bad(met)
		}
		head = append(head, met)
	}
	skipped := 0
	for _, l := range t.Lists {
		skipped += l.Skipped
	}
	if skipped > 0 {
		head = append(head, render.Count(skipped, "line")+" not read")
	}
	out.Printf("%s%s\n\n", strings.Join(head, "   "), r.partly(t.Partial))
	r.lists(t, r.most)
	if t.Requests == 0 {
		why := "No line is a request."
		if read > 0 {
			why = "None of the requests is one of those that -only, -since and -until choose."
		}
		out.Printf("\n%s\n", why)
		return nil
	}
	r.together(
		func(r *run) { r.todo(e, t) },
		func(r *run) { r.outcomes(t) },
		func(r *run) { r.recorded(t, r.most) },
		func(r *run) {
			r.top("Loops", "visitors are caught in an endless loop", &t.Loops, r.most, true)
			r.top("Too long", fmt.Sprintf("more than %d redirects", engine.MaxRedirects), &t.TooLong, r.most, true)
			r.top("Chains", "more than one redirect before the visitor arrives", &t.Chains, r.most, false)
			r.deadEnds(t)
			r.missing(e, t, r.most)
		},
		func(r *run) {
			r.unmet(t, r.most)
			r.entries(e, t, f)
			r.coverText(s.cover)
		},
		func(r *run) { r.bytes(e, t) },
	)
	return nil
}

// together makes parts of a report at once, and shows them in their order.
func (r *run) together(parts ...func(*run)) {
	texts := make([]bytes.Buffer, len(parts))
	var pool sync.WaitGroup
	for i, part := range parts {
		side, out := *r, *r.out
		out.Writer, side.out = &texts[i], &out
		pool.Go(func() { part(&side) })
	}
	pool.Wait()
	for i := range texts {
		texts[i].WriteTo(r.out)
	}
}

// A deadEnd is requests that an entry redirects, and that then find nothing, or what fails.
type deadEnd struct {
	by, at, end string
	n           int64
}

// deadEndsOf are those of a tally, the most requests first.
func deadEndsOf(t *replay.Tally) (out []deadEnd) {
	for o, c := range t.Outcomes {
		for end, n := range c.Ends {
			if end == string(browser.BadEnding) || end[0] == '4' && end != "401" && end != "403" || end[0] == '5' {
				out = append(out, deadEnd{cmp.Or(o.By, "("+string(o.Cause)+")"), o.At, end, n})
			}
		}
	}
	slices.SortFunc(out, func(a, b deadEnd) int {
		return cmp.Or(cmp.Compare(b.n, a.n), strings.Compare(a.by+" "+a.end, b.by+" "+b.end))
	})
	return out
}

// deadEnds shows the entries whose redirects lead to nothing.
func (r *run) deadEnds(t *replay.Tally) {
	all := deadEndsOf(t)
	if len(all) == 0 {
		return
	}
	r.heading("Dead ends", "redirected, and then not found, or answered with an error", false)
	var rows [][]string
	for i, d := range all {
		if i == r.most {
			break
		}
		rows = append(rows, []string{render.Number(d.n), "to " + r.out.Status(d.end), render.Clean(d.by), r.out.Quiet(render.Clean(d.at))})
	}
	r.out.Rows("  ", rows, 0)
	if more := len(all) - r.most; more > 0 {
		r.out.Printf("  %s\n", r.out.Quiet("… and "+render.Number(more)+" more; all of them: -top 0"))
	}
}

// listName is the name of a list as it is shown.
func listName(name string) string {
	if name == "-" {
		return "standard input"
	}
	return render.Short(name, 50)
}

// lists says what became of all lines.
func (r *run) lists(t *replay.Tally, most int) {
	var rows [][]string
	row := func(name string, c list.Counts) {
		parts := []string{render.Count(c.Requests, "request")}
		if c.Details > 0 {
			parts = append(parts, render.Count(c.Details, "detail"))
		}
		parts = append(parts, render.Count(c.Comments, "comment"), render.Number(c.Skipped)+" not read")
		rows = append(rows, []string{name, render.Count(c.Lines, cmp.Or(render.Clean(c.Of), "line")), "= " + strings.Join(parts, " + ")})
	}
	var all list.Counts
	for i, l := range t.Lists {
		if i < most {
			row(titleOf(l.Name, l.Part), l.Counts)
		}
		all.Lines += l.Lines
		all.Requests += l.Requests
		all.Details += l.Details
		all.Comments += l.Comments
		all.Skipped += l.Skipped
	}
	if len(t.Lists) > 1 {
		row(fmt.Sprintf("all %d lists", len(t.Lists)), all)
	}
	r.out.Rows("  ", rows, 1)
}

const shownNames = 12 // of what decided a status

// outcomes is the table of statuses and what decided them.
func (r *run) outcomes(t *replay.Tally) {
	type row struct {
		status string
		n      int64
		by     map[string]int64
	}
	byStatus := map[string]*row{}
	for o, c := range t.Outcomes {
		s := byStatus[o.Status]
		if s == nil {
			s = &row{status: o.Status, by: map[string]int64{}}
			byStatus[o.Status] = s
		}
		s.n += c.N
		name := o.By
		if name == "" {
			name = "(" + string(o.Cause) + ")"
		}
		s.by[name] += c.N
	}
	r.out.Printf("\n")
	rows := [][]string{{r.out.Quiet("status"), r.out.Quiet("requests"), r.out.Quiet("share"), r.out.Quiet("decided by")}}
	for _, status := range sortedKeys(byStatus) {
		s := byStatus[status]
		var by []string
		for _, name := range replay.First(shownNames, maps.Keys(s.by), func(a, b string) int { return cmp.Or(cmp.Compare(s.by[b], s.by[a]), strings.Compare(a, b)) }) {
			by = append(by, name+" "+render.Number(s.by[name]))
		}
		if more := len(s.by) - shownNames; more > 0 {
			by = append(by, "and "+render.Number(more)+" more")
		}
		for i, line := range wrapList(by, r.out.Width-34) {
			if i == 0 {
				rows = append(rows, []string{r.out.Status(status), render.Number(s.n), render.Share(s.n, t.Requests), line})
			} else {
				rows = append(rows, []string{"", "", "", line})
			}
		}
	}
	r.out.Rows("  ", rows, 1, 2)
}

func wrapList(items []string, width int) []string {
	var lines []string
	line := ""
	for _, item := range items {
		if line != "" && len(line)+3+len(item) > width {
			lines = append(lines, line)
			line = ""
		}
		if line != "" {
			line += "   "
		}
		line += item
	}
	return append(lines, line)
}

func sortedKeys[V any](m map[string]V) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// heading begins a part of the report.
func (r *run) heading(title, what string, bad bool) {
	if bad {
		title = r.out.Bad(title)
	}
	r.out.Printf("\n%s   %s\n\n", title, r.out.Quiet(what))
}

// top shows the commonest addresses of one sort, and how to see more of them.
func (r *run) top(title, what string, t *replay.Top, most int, bad bool) {
	if t.Total == 0 {
		return
	}
	r.heading(title, what, bad)
	var rows [][]string
	for _, c := range t.Most(most) {
		rows = append(rows, []string{render.Number(c.N), render.Short(r.near(c.Address), r.out.Width-14)})
	}
	r.out.Rows("  ", rows, 0)
	r.more(t, most)
}

// near is an address as it is shown: without the origin that relative addresses
// are asked of.
func (r *run) near(address string) string {
	method, url := ofTop(address)
	if method != "" {
		method += " "
	}
	if path, ok := strings.CutPrefix(url, r.origin); ok && strings.HasPrefix(path, "/") {
		url = path
	}
	return method + url
}

// ofTop parts an address of a tally from the method that stands before it, where it is
// not GET. An address can have a blank in it.
func ofTop(address string) (method, url string) {
	if method, url, ok := strings.Cut(address, " "); ok && request.IsMethod(method) {
		return method, url
	}
	return "", address
}

func (r *run) more(t *replay.Top, most int) {
	if more := t.Len() - most; more > 0 {
		r.out.Printf("  %s\n", r.out.Quiet("… and "+render.Number(more)+" more"))
	}
	if t.Others() > 0 {
		r.out.Printf("  %s\n", r.out.Quiet(fmt.Sprintf("and %s for less common addresses, which are not listed", render.Count(t.Others(), "request"))))
	}
	if most := t.Most(1); len(most) == 1 {
		method, url := ofTop(most[0].Address)
		if method != "" {
			method = "-method " + method + " "
		}
		r.out.Printf("\n  Try one    kibitz trace %s%s%s\n", r.rulesWords(), method, render.Shell(r.near(url)))
	}
}

// rulesWords are the -rules flag of a command to paste, where it is needed.
func (r *run) rulesWords() string {
	words := ""
	for _, w := range r.rulesArgs() {
		words += render.Shell(w) + " "
	}
	return words
}

func (r *run) missing(e *engine.Engine, t *replay.Tally, most int) {
	if t.Missing.Total == 0 {
		return
	}
	r.heading("Not found", "answered 404, and the list did not expect that", false)
	names := moves.NamesOf(e)
	shown := t.Missing.Most(most)
	rows := make([][]string, len(shown))
	var pool sync.WaitGroup // a large tree has many names to compare
	for i, c := range shown {
		pool.Go(func() {
			rows[i] = []string{render.Number(c.N), render.Short(r.near(c.Address), r.out.Width-50), r.out.Quiet(render.Short(r.whence(e, t, names, c), 70))}
		})
	}
	pool.Wait()
	r.out.Rows("  ", rows, 0)
	r.more(&t.Missing, most)
}

// Referrers are where requests for a missing address come from: pages of the sites themselves,
// since those can be corrected, or pages of others.
type referrers struct {
	page  string // the one that most come from; "" for none
	n     int64  // requests from it
	pages int
	total int64 // requests from all of them
}

func (s *referrers) add(page string, n int64) {
	if s.pages == 0 {
		s.page, s.n = page, n
	}
	s.pages++
	s.total += n
}

// says names the page, with its requests where not all of them come from there, and how many
// more there are.
func (s *referrers) says(word string, all int64) string {
	said := word + " " + s.page
	if s.n < all {
		said += fmt.Sprintf(" (%s)", render.Number(s.n))
	}
	if s.pages > 1 {
		said += " and " + render.Count(s.pages-1, "more page")
	}
	return said
}

// referrersOf tells the sites' own pages from those of others.
func referrersOf(e *engine.Engine, t *replay.Tally, address string) (own, other referrers) {
	for _, c := range t.Missing.Asked(address).From.Most() {
		switch a, err := request.Parse(c.Address, request.Address{}); {
		case err != nil || a.Host == "": // no page has such an address
		case e.Serves(a.Host):
			own.add(a.Target(), c.N)
		default:
			other.add(c.Address, c.N)
		}
	}
	return own, other
}

// whence says where requests for a missing address come from, and which file is the
// likeliest.
func (r *run) whence(e *engine.Engine, t *replay.Tally, names moves.Names, c replay.Count) string {
	var out []string
	internal, other := referrersOf(e, t, c.Address)
	if internal.pages > 0 {
		out = append(out, internal.says("linked on", c.N))
	}
	if other.pages > 0 {
		out = append(out, other.says("from", c.N))
	}
	if like := names.Likeliest(c.Address); like != "" {
		out = append(out, "perhaps "+like)
	}
	switch asked := t.Missing.Asked(c.Address); asked.Robots {
	case 0:
	case c.N:
		out = append(out, "robots alone")
	default:
		out = append(out, render.Number(asked.Robots)+" by robots")
	}
	return strings.Join(out, "; ")
}

// lookedInto is how many of the commonest missing addresses are looked into for what needs
// doing.
const lookedInto = 100

// strangers counts the requests for hosts that no site of the rulebook has, and gives one of
// them, where the list has recorded what a server answered.
func strangers(t *replay.Tally) (n int64, host string) {
	for o, c := range t.Outcomes {
		if o.Cause != engine.CauseUnknownHost {
			continue
		}
		n += c.N
		for _, recorded := range c.Recorded {
			if recorded.Differs == nil {
				continue
			}
			for _, first := range recorded.Differs.Most(1) {
				_, address, _ := strings.Cut(first.Address, "://") // a method may stand before it
				address, _, _ = strings.Cut(address, "/")
				host = max(host, address)
			}
		}
	}
	return n, host
}

// todo says in a few sentences what needs doing, by how many requests it is about.
func (r *run) todo(e *engine.Engine, t *replay.Tally) {
	var items []string
	if n := t.Loops.Total + t.TooLong.Total; n > 0 {
		first := append(t.Loops.Most(1), t.TooLong.Most(1)...)[0]
		items = append(items, fmt.Sprintf("Fix the loop at %s, whose entry %s names: %s", r.near(first.Address), strings.Join(append([]string{"kibitz check"}, r.rulesArgs()...), " "), render.Count(n, "request")))
	}
	if t.Unmets > 0 {
		items = append(items, fmt.Sprintf("Look at what is not as the list expects: %s", render.Count(t.Unmets, "request")))
	}
	if all := deadEndsOf(t); len(all) > 0 {
		n := int64(0)
		for _, d := range all {
			n += d.n
		}
		first := all[0].by
		if all[0].at != "" {
			first += " (" + all[0].at + ")"
		}
		end := "end"
		if n == 1 {
			end = "ends"
		}
		items = append(items, fmt.Sprintf("Give redirects a target that is there, first %s: %s %s at what is not", first, render.Count(n, "request"), end))
	}
	if n, host := strangers(t); 10*n > t.Requests {
		named := ""
		if host != "" {
			named = ", like " + host
		}
		items = append(items, fmt.Sprintf("Name all hosts of the site (hosts …): %s for one that the rulebook does not have%s", render.Count(n, "request"), named))
	}
	var own, other referrers
	var ownAt, otherAt string
	robots, byRobots := int64(0), 0 // requests and addresses that nobody else asks for
	for _, c := range t.Missing.Most(lookedInto) {
		here, there := referrersOf(e, t, c.Address)
		if here.pages == 0 && t.Missing.Asked(c.Address).Robots == c.N { // a page that only they name is hardly one
			robots += c.N
			byRobots++
			continue
		}
		if here.pages > 0 {
			own.add(here.page, here.total)
			ownAt = cmp.Or(ownAt, c.Address)
		}
		if there.pages > 0 {
			other.add(there.page, there.total)
			otherAt = cmp.Or(otherAt, c.Address)
		}
	}
	if own.pages > 0 {
		like := moves.NamesOf(e).Likeliest(ownAt)
		if like != "" {
			like = " (perhaps " + like + ")"
		}
		items = append(items, fmt.Sprintf("Correct your own links to what is missing, first %s%s on %s: %s", r.near(ownAt), like, own.page, render.Count(own.total, "request")))
	}
	if other.pages > 0 {
		items = append(items, fmt.Sprintf("Redirect what other sites link to, or answer 410, first %s from %s: %s", r.near(otherAt), other.page, render.Count(other.total, "request")))
	}
	if byRobots > 1 && len(items) > 0 {
		items = append(items, fmt.Sprintf("Leave what only robots ask for and no page links to, %s that are not found: %s", render.Count(byRobots, "address"), render.Count(robots, "request")))
	}
	if len(items) == 0 {
		return
	}
	r.out.Printf("\n")
	for i, item := range items {
		title := "     "
		if i == 0 {
			title = "To do"
		}
		r.out.Wrapped(fmt.Sprintf("  %s   %d. ", title, i+1), render.Clean(item)+".")
	}
}

func (r *run) unmet(t *replay.Tally, most int) {
	if t.Unmets == 0 {
		return
	}
	r.heading("Not as expected", render.Count(t.Unmets, "request")+" whose answer is not what the list says", true)
	for i, u := range t.Unmet {
		if i == 2*most {
			r.out.Printf("  %s\n", r.out.Quiet(fmt.Sprintf("… and %s more; all of them: kibitz replay -each", render.Number(t.Unmets-int64(i)))))
			break
		}
		r.out.Printf("  %s:%d   %s\n", render.Clean(u.List), u.Line, render.Short(r.near(u.Target), r.out.Width-30))
		for _, what := range u.What {
			r.out.Wrapped("      ", render.Clean(what))
		}
	}
}

// entries is the table of entries by use, with those that nothing reached.
func (r *run) entries(e *engine.Engine, t *replay.Tally, f *replayFlags) {
	most := r.most
	type use struct {
		rule *rulebook.Rule
		replay.Use
	}
	var used []use
	entries := t.Entries()
	for _, rule := range e.Book.Rules {
		if u := entries[place(rule)]; u.N > 0 {
			used = append(used, use{rule, u})
		}
	}
	idle := f.notReached(e, t)
	if len(used) > 0 {
		timed := slices.ContainsFunc(used, func(u use) bool { return u.Last > 0 })
		by := "by the requests that they decided"
		if timed {
			by += ", and when they did last (UTC)"
		}
		r.heading("Entries", by, false)
		var rows [][]string
		room := r.out.Width - 24 // for what an entry takes, beside all else
		if timed {
			room -= 19
		}
		names, places := 0, 0
		shown := replay.First(most, slices.Values(used), func(a, b use) int { return cmp.Or(cmp.Compare(b.N, a.N), cmp.Compare(a.rule.Number, b.rule.Number)) })
		for _, u := range shown {
			names, places = max(names, len(u.rule.Name)), max(places, len(place(u.rule)))
		}
		for _, u := range shown {
			row := []string{render.Number(u.N), render.Share(u.N, t.Requests)}
			if timed {
				last := ""
				if u.Last > 0 {
					last = time.Unix(u.Last, 0).UTC().Format("2006-01-02 15:04")
				}
				row = append(row, r.out.Quiet(last))
			}
			rows = append(rows, append(row, u.rule.Name, r.out.Quiet(place(u.rule)), render.Short(takes(u.rule), min(60, max(12, room-names-places)))))
		}
		r.out.Rows("  ", rows, 0, 1)
		if more := len(used) - most; more > 0 {
			r.out.Printf("  %s\n", r.out.Quiet("… and "+render.Number(more)+" more"))
		}
	}
	if len(idle) > 0 {
		r.heading("Not reached", render.Count(len(idle), "entry")+" that decided no request of the list", false)
		var names []string
		for _, rule := range idle[:min(len(idle), 4*most)] {
			names = append(names, fmt.Sprintf("%s (%s)", rule.Name, rule.Place))
		}
		if more := len(idle) - len(names); more > 0 {
			names = append(names, "and "+render.Number(more)+" more")
		}
		for _, line := range wrapList(names, r.out.Width-4) {
			r.out.Printf("  %s\n", line)
		}
	}
}

// notReached are the entries that decide requests, but none of these; none where -only
// leaves out what others decided.
func (f *replayFlags) notReached(e *engine.Engine, t *replay.Tally) []*rulebook.Rule {
	if len(f.only) > 0 {
		return nil
	}
	entries := t.Entries()
	var idle []*rulebook.Rule
	for _, rule := range e.Book.Rules {
		a, reading := rule.Action.(rulebook.Reading)
		if (reading && a.Ends() || rule.Kind == rulebook.KindFallback) && entries[place(rule)].N == 0 {
			idle = append(idle, rule)
		}
	}
	return idle
}

// bytes is the table of sizes by media type.
func (r *run) bytes(e *engine.Engine, t *replay.Tally) {
	if len(t.Types) == 0 {
		return
	}
	r.heading("Bytes", "of bodies, by media type: as the files are, and as they are sent", false)
	types := sortedKeys(t.Types)
	slices.SortStableFunc(types, func(a, b string) int { return cmp.Compare(t.Types[b].Plain, t.Types[a].Plain) })
	rows := [][]string{{r.out.Quiet("type"), r.out.Quiet("requests"), r.out.Quiet("size"), r.out.Quiet("sent"), r.out.Quiet("saved")}}
	var sum replay.Bytes
	row := func(name string, b *replay.Bytes) {
		saved := ""
		if b.Wire < b.Plain {
			saved = render.Saved(b.Plain, b.Wire)
		}
		rows = append(rows, []string{name, render.Number(b.Requests), render.Size(b.Plain), render.Size(b.Wire), saved})
	}
	for _, name := range types {
		b := t.Types[name]
		row(name, b)
		sum.Requests += b.Requests
		sum.Plain += b.Plain
		sum.Wire += b.Wire
	}
	row("all", &sum)
	r.out.Rows("  ", rows, 1, 2, 3, 4)
	r.smaller(e, t)
	if waste := proof.Only(e, "compress-useless"); len(waste) > 0 {
		r.heading("Compression that saves nothing", "stored siblings that are older or larger than their file, and types that only grow", false)
		for _, f := range waste[:min(shownSmaller, len(waste))] {
			r.out.Wrapped("  ", render.Clean(f.Message))
		}
		if more := len(waste) - shownSmaller; more > 0 {
			r.out.Printf("  %s\n", r.out.Quiet(fmt.Sprintf("… and %d more: kibitz check", more)))
		}
	}
}

const shownSmaller = 5

// smaller names the files that would save most if they were compressed, and
// stored siblings that need a look.
func (r *run) smaller(e *engine.Engine, t *replay.Tally) {
	list := replay.Smaller(e, t)
	if len(list) == 0 {
		return
	}
	r.heading("Could be smaller", "sent uncompressed, and what br would make of it", false)
	rows := [][]string{{r.out.Quiet("file"), r.out.Quiet("requests"), r.out.Quiet("size"), r.out.Quiet("br"), r.out.Quiet("saved")}}
	for _, s := range list[:min(shownSmaller, len(list))] {
		rows = append(rows, []string{render.Short(s.Path, 60), render.Number(s.Requests), render.Size(s.Size), render.Size(s.Packed), render.Saved(s.Size, s.Packed)})
	}
	r.out.Rows("  ", rows, 1, 2, 3, 4)
	if more := len(list) - shownSmaller; more > 0 {
		r.out.Printf("  %s\n", r.out.Quiet("… and "+render.Number(more)+" more"))
	}
	if !slices.ContainsFunc(e.Book.Rules, func(rule *rulebook.Rule) bool { return rule.Kind == rulebook.KindCompress }) {
		r.out.Printf("\n  No entry compresses anything: add one like   compress text using br zstd gzip\n")
		return
	}
	r.out.Printf("\n  They were asked for without Accept-Encoding, or no compress entry takes them.\n  What browsers get    kibitz replay %s-header 'Accept-Encoding: gzip, br' LIST\n", r.rulesWords())
}

// recorded holds what servers answered against what is predicted.
func (r *run) recorded(t *replay.Tally, most int) {
	type pair struct {
		recorded  int
		predicted string
	}
	type cell struct{ n, differs int64 }
	cells := map[pair]cell{}
	for o, c := range t.Outcomes {
		for _, r := range c.Recorded {
			at := pair{r.Status, o.Status}
			sum := cells[at]
			sum.n += r.N
			if r.Differs != nil {
				sum.differs += r.N
			}
			cells[at] = sum
		}
	}
	rowsOf, columns := map[int]bool{}, map[string]bool{}
	same, total := int64(0), int64(0)
	for at, sum := range cells {
		rowsOf[at.recorded], columns[at.predicted] = true, true
		total, same = total+sum.n, same+sum.n-sum.differs
	}
	if total == 0 {
		return
	}
	r.heading("Recorded against predicted", fmt.Sprintf("%s of %s the same (%s)", render.Number(same), render.Number(total), render.Share(same, total)), false)
	statuses := sortedKeys(columns)
	heads := []string{r.out.Quiet("recorded")}
	right := []int{0}
	for i, s := range statuses {
		heads = append(heads, r.out.Quiet(s))
		right = append(right, i+1)
	}
	rows := [][]string{heads}
	for _, status := range slices.Sorted(maps.Keys(rowsOf)) {
		row := []string{fmt.Sprint(status)}
		for _, s := range statuses {
			sum := cells[pair{status, s}]
			text := someNumber(sum.n)
			if sum.differs > 0 {
				text = r.out.Doubtful(text)
			}
			row = append(row, text)
		}
		rows = append(rows, row)
	}
	r.out.Rows("  ", rows, right...)
	r.differences(t, most)
}

// differences groups what is predicted otherwise by the entry that decides.
func (r *run) differences(t *replay.Tally, most int) {
	type pair struct {
		predicted replay.Outcome
		replay.RecordedCount
	}
	pairs := 0
	all := func(yield func(pair) bool) {
		for o, c := range t.Outcomes {
			for _, r := range c.Recorded {
				if r.Differs == nil {
					continue
				}
				if pairs++; !yield(pair{o, r}) {
					return
				}
			}
		}
	}
	shown := replay.First(most, all, func(a, b pair) int {
		if a.N != b.N { // as nearly always
			return cmp.Compare(b.N, a.N)
		}
		return cmp.Or(cmp.Compare(a.Status, b.Status), strings.Compare(a.predicted.Status, b.predicted.Status), strings.Compare(a.predicted.At, b.predicted.At), strings.Compare(string(a.predicted.Cause), string(b.predicted.Cause)))
	})
	if pairs == 0 {
		return
	}
	r.heading("Differences", "answered differently from what the rulebook says, by what decides", false)
	var rows [][]string
	for _, p := range shown {
		by, at := "("+string(p.predicted.Cause)+")", ""
		if p.predicted.By != "" {
			by, at = p.predicted.By, p.predicted.At
		}
		var most []string
		for _, c := range p.Differs.Most(2) {
			most = append(most, render.Short(r.near(c.Address), 40))
		}
		rows = append(rows, []string{render.Number(p.N), fmt.Sprintf("%d became %s", p.Status, p.predicted.Status), by, r.out.Quiet(at), strings.Join(most, "  ")})
	}
	r.out.Rows("  ", rows, 0)
	if more := pairs - most; more > 0 {
		r.out.Printf("  %s\n", r.out.Quiet("… and "+render.Number(more)+" more"))
	}
}
