package draft

// The rulebook that gives the answers which a server gave: the shortest one that explains
// them, and a list of what it does not explain.

import (
	"cmp"
	"encoding/csv"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/proof"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// A Draft is a rulebook, drafted from answers.
type Draft struct {
	Rulebook string
	Tables   []Table // of single moves, which the rulebook reads
	Rows     int
	Entries  int
	Answers  int    // that were looked at
	Agree    int    // which the rulebook gives, too
	Left     []Left // what it does not explain

	Questions []string // addresses that would decide more

	Accepted []*proof.Finding // that the server does so: the rulebook accepts them, with the reason
}

// A Table is a file that a rulebook reads.
type Table struct{ Name, Text string }

// Read gives the text of a table, as rulebook.Read asks for it.
func (d *Draft) Read(name string) ([]byte, error) {
	for _, t := range d.Tables {
		if t.Name == name {
			return []byte(t.Text), nil
		}
	}
	return nil, os.ErrNotExist
}

// Left is an answer that the draft does not give, and why.
type Left struct {
	Answer    *Answer
	Predicted string // what the draft answers; "" where it was not looked at
	Why       string
}

// A Source is what is drafted from.
type Source struct {
	Answers []*Answer
	Host    string     // of the site; "" for the one that has the most pages of its own
	Files   string     // the folder, or with Listed the inventory, as the rulebook names it; "" for none
	Listed  bool       // Files is an inventory
	Tree    *site.Tree // nil where none is known
	Table   string     // the name that the table of moves will have
}

// What things cost, in facts: a row of a table costs one.
const (
	entryCost = 1.7
	valueCost = 0.3
	wrongCost = 4.0
	otherCost = 0.35 // of one that then needs an entry of its own
	// a pattern for any folder at the top takes more than anybody has seen
	anyFolderCost = 2.0
	tailCost      = 0.01
)

// drafter makes a draft.
type drafter struct {
	*Source
	*survey
	facts      []*fact
	paragraphs []paragraph
	rows       []*fact
	rowsOf     map[string][]*fact // by path
	taken      map[string]bool    // names of entries
	byQuery    map[string]bool    // paths whose queries decide
	engine     *engine.Engine
	chosen     []*choice
	whole      []string // folders of which everything is answered alike
	accepted   []*proof.Finding
	accepts    map[string][]string // lines that accept them, by the name of their entry; "" for the site
	sums       map[string]*site.Node
}

// Write drafts the rulebook.
func (s *Source) Write() (*Draft, error) {
	if len(s.Answers) == 0 {
		return nil, errors.New("there is no answer to draft from: the lists tell no status")
	}
	surveyed, err := surveyed(s.Answers, s.Host)
	if err != nil {
		return nil, err
	}
	d := &drafter{Source: s, survey: surveyed, taken: map[string]bool{}, byQuery: map[string]bool{}, rowsOf: map[string][]*fact{}}
	for _, a := range s.Answers {
		if f := d.factOf(a); f != nil {
			d.facts = append(d.facts, f)
		}
	}
	d.agents()
	d.facts = agreed(d.facts)
	slices.SortStableFunc(d.facts, func(a, b *fact) int { // in whatever order they were asked
		return cmp.Or(strings.Compare(a.path, b.path), strings.Compare(a.query, b.query))
	})
	d.hosts()
	if err := d.predict(); err != nil {
		return nil, err
	}
	d.statuses()
	if d.engine, err = d.compile(""); err != nil {
		return nil, err
	}
	d.methods()
	d.asked()
	d.closed()
	d.slashes()
	d.documents()
	d.listings()
	d.served()
	d.rewrites()
	all := d.facts
	d.facts = some(all)
	d.stripped()
	d.parameters()
	d.patterns()
	d.folders()
	d.endings()
	d.sameTargets()
	if d.facts = all; len(all) > mostFacts {
		if err := d.predict(); err != nil {
			return nil, err
		}
	}
	d.rest()
	if err := d.errorPages(); err != nil {
		return nil, err
	}
	d.headers()
	d.media()
	d.compression()
	d.hints()
	if err := d.held(); err != nil {
		return nil, err
	}
	if err := d.accept(); err != nil {
		return nil, err
	}
	return d.result()
}

// mostFacts is from how many facts rules are drawn; of more every second, third … is taken.
// The others are held against the draft, and rows where it does not give them.
const mostFacts = 20_000

func some(all []*fact) (out []*fact) {
	step := (len(all) + mostFacts - 1) / mostFacts
	for i := 0; i < len(all); i += step {
		out = append(out, all[i])
	}
	return out
}

// mostTemplates bounds how many templates are looked at.
const mostTemplates = 300_000

// mostTried bounds how often a template is held against an answer: those that most answers
// speak for come first.
const mostTried = 10_000_000

// agreed leaves one fact of each address: the last answer that most of them gave, HEAD and
// what was asked with an Accept-Encoding counted as well; of those to nobody in particular,
// where there are some.
func agreed(facts []*fact) (out []*fact) {
	by := map[string][]*fact{}
	var order []string
	for _, f := range facts {
		key := f.path + "?" + f.query
		if by[key] == nil {
			order = append(order, key)
		}
		by[key] = append(by[key], f)
	}
	for _, key := range order {
		asked := slices.DeleteFunc(slices.Clone(by[key]), func(f *fact) bool { return f.agent() != "" })
		if len(asked) == 0 {
			asked = by[key]
		}
		votes := map[string]int{}
		for _, f := range asked {
			votes[f.said()]++
		}
		best := asked[0]
		for _, f := range asked {
			if more := votes[f.said()] - votes[best.said()]; more > 0 || more == 0 && (best.aside || !f.aside) {
				best = f
			}
		}
		if !slices.ContainsFunc(asked, func(f *fact) bool { return !f.aside }) {
			continue // nobody has asked for it plainly
		}
		out = append(out, best)
	}
	return out
}

// add adds an entry under a free name.
func (d *drafter) add(rank int, kind, name, rest, why string, args ...any) {
	d.paragraphs = append(d.paragraphs, paragraph{rank: rank, why: fmt.Sprintf(why, args...), entry: kind + " " + d.free(kind, name) + " " + rest})
}

// free gives an entry a name that no other has, and that begins no clause.
func (d *drafter) free(kind, name string) string {
	free := name
	for n := 2; d.taken[free] || rulebook.Kind(kind).Begins(free); n++ {
		free = fmt.Sprintf("%s-%d", name, n)
	}
	d.taken[free] = true
	return free
}

// show lets the entry that was added last have an example, if the draft gives it.
func (d *drafter) show(f *fact) { d.paragraphs[len(d.paragraphs)-1].example = f }

// leastOfAgent is after how many refusals a visitor's program is said to be refused always.
const leastOfAgent = 3

// agents finds the visitors' programs that are refused whatever they ask for, and leaves
// their answers out of all else.
func (d *drafter) agents() {
	statuses := map[string]map[int]int{}
	for _, f := range d.facts {
		if a := f.agent(); a != "" {
			if statuses[a] == nil {
				statuses[a] = map[int]int{}
			}
			statuses[a][f.Status]++
		}
	}
	refused := map[string]bool{}
	for _, agent := range slices.Sorted(maps.Keys(statuses)) {
		for status, n := range statuses[agent] {
			if len(statuses[agent]) > 1 || n < leastOfAgent || !slices.Contains(refusals, status) || len(statuses) == 1 || len(agent) > 200 || strings.ContainsFunc(agent, func(r rune) bool { return r < ' ' || r > '~' }) {
				continue
			}
			refused[agent] = true
			d.add(rankAccess, "access", "agent", fmt.Sprintf("when agent %s refuse %d", rulebook.Quote(agent), status), "Whatever it asks for. %s", answers(n))
		}
	}
	d.facts = slices.DeleteFunc(d.facts, func(f *fact) bool { return refused[f.agent()] })
}

// asked tells the folders where a name and password are asked for: the accounts cannot be
// seen, so that the entry is a comment.
func (d *drafter) asked() {
	folders := map[string]int{}
	for _, f := range d.facts {
		if f.Status == 401 && plainPath(f.path) {
			first, _, _ := strings.Cut(strings.TrimPrefix(f.path, "/"), "/")
			folders["/"+first+"/"]++
		}
	}
	for _, folder := range slices.Sorted(maps.Keys(folders)) {
		name := strings.TrimPrefix(nameOf(folder), "old-")
		d.paragraphs = append(d.paragraphs, paragraph{rank: rankAccess, why: fmt.Sprintf("A name and password are asked for. %s Whose they are cannot be seen: write it.", answers(folders[folder])),
			entry: fmt.Sprintf("# access %s in %s ask \"REALM\" accounts FILE", d.free("access", name), folder)})
	}
}

// leastClosed is of how many addresses in a folder none may be served, until it is closed.
const leastClosed = 3

// closed tells the folders of which nothing is served for now: whether that is meant, or the
// server fails, cannot be seen, so that the entry is a comment.
func (d *drafter) closed() {
	folders, others := map[string]map[string]bool{}, map[string]bool{}
	for _, f := range d.facts {
		first, _, below := strings.Cut(f.path[1:], "/")
		folder := "/" + first + "/"
		switch {
		case f.Status != http.StatusServiceUnavailable:
			others[folder] = others[folder] || below
		case first != "" && plainPath(f.path):
			if folders[folder] == nil {
				folders[folder] = map[string]bool{}
			}
			folders[folder][f.path] = true
		}
	}
	for _, folder := range slices.Sorted(maps.Keys(folders)) {
		if n := len(folders[folder]); n >= leastClosed && !others[folder] {
			d.paragraphs = append(d.paragraphs, paragraph{rank: rankMoved, why: fmt.Sprintf("Nothing is served there for now: %d addresses answered 503. If that is meant, and is not a failure, take the # away.", n),
				entry: fmt.Sprintf("# reply %s in %s with 503", d.free("reply", "closed"), folder)})
		}
	}
}

// slashes finds the folders that are asked for without a slash: to the files alone that
// would be a circle.
func (d *drafter) slashes() {
	var folders []string
	facts := 0
	for _, f := range d.facts {
		folder := strings.TrimSuffix(f.path, "/")
		if f.done || !f.redirects() || folder == "" || folder == f.path || f.to != folder {
			continue
		}
		if n := d.Tree.Find(folder); n != nil && n.Folder {
			if word := rulebook.Quote(canonical.Decode(f.path)); !slices.Contains(folders, word) {
				folders = append(folders, word)
			}
			f.done = true
			facts++
		}
	}
	if len(folders) > 0 {
		d.add(rankFolders, "folder", "bare", "in "+strings.Join(folders, " ")+" slash drop", "Folders are asked for without a slash. %s", answers(facts))
	}
}

// served finds what is served where the tree has nothing: pages without their extension, and
// one page for whole folders.
func (d *drafter) served() {
	if d.Tree == nil {
		return
	}
	pages := map[string]int{}
	var bare []*fact
	for _, f := range d.facts {
		if n := d.Tree.Find(f.path + ".html"); n != nil && !n.Folder && d.Tree.Find(f.path) == nil && plainPath(f.path) && f.Status == 200 && !f.done {
			pages[path.Dir(f.path)]++
			bare = append(bare, f)
		}
	}
	var folders []string
	for _, folder := range slices.Sorted(maps.Keys(pages)) {
		if !slices.ContainsFunc(d.facts, func(f *fact) bool {
			return strings.HasPrefix(f.path, strings.TrimSuffix(folder, "/")+"/") && f.Status == 404 && d.Tree.Find(f.path+".html") != nil
		}) {
			folders = append(folders, strings.TrimSuffix(folder, "/")+"/")
		}
	}
	if len(folders) > 0 && len(bare) > 1 {
		d.add(rankFiles, "fallback", "bare-names", "in "+strings.Join(folders, " ")+" to {path}.html", "Pages without their extension. %s", answers(len(bare)))
		d.show(bare[0])
		for _, f := range bare {
			f.done = f.done || slices.Contains(folders, strings.TrimSuffix(path.Dir(f.path), "/")+"/")
		}
	}
	whole := map[string]int{}
	for _, f := range d.facts {
		if f.Status == 200 && !f.done && plainPath(f.path) {
			for folder := path.Dir(f.path); folder != "/"; folder = path.Dir(folder) {
				whole[folder]++
			}
		}
	}
	for _, folder := range slices.SortedFunc(maps.Keys(whole), func(a, b string) int { return cmp.Or(len(a)-len(b), strings.Compare(a, b)) }) {
		inside := func(f *fact) bool { return strings.HasPrefix(f.path+"/", folder+"/") }
		if whole[folder] < 3 || slices.ContainsFunc(d.facts, func(f *fact) bool { return inside(f) && f.Status == 404 }) || !slices.ContainsFunc(d.facts, func(f *fact) bool { return inside(f) && f.Status == 200 && !f.done }) {
			continue
		}
		n := d.Tree.Find(folder + "/" + rulebook.UsualDocument)
		page := n != nil && !n.Folder
		if !page && slices.ContainsFunc(d.facts, func(f *fact) bool { return inside(f) && f.done }) {
			continue // what the tree has there is no application's
		}
		d.whole = append(d.whole, folder+"/")
		if page {
			d.add(rankFiles, "fallback", strings.TrimPrefix(nameOf(folder), "old-"), "in "+folder+"/ to "+folder+"/"+rulebook.UsualDocument, "One page answers for all of the folder, or an application does. %s", answers(whole[folder]))
		} else {
			d.add(rankFiles, "handoff", strings.TrimPrefix(nameOf(folder), "old-"), "in "+folder+"/", "What is there is no file: an application answers, or rewrites lead elsewhere. %s", answers(whole[folder]))
		}
		for _, f := range d.facts {
			f.done = f.done || inside(f) && f.Status == 200
		}
	}
}

// as writes a redirect's status.
func as(status int) string {
	switch status {
	case 301:
		return "permanent"
	case 302:
		return "temporary"
	}
	return fmt.Sprint(status)
}

func answers(n int) string {
	if n == 1 {
		return "One answer says so."
	}
	return fmt.Sprintf("%d answers say so.", n)
}

// hosts sends other names and the other scheme to the main address.
func (d *drafter) hosts() {
	origin := d.main.Origin()
	secure := func() {
		if s := d.secure; s != nil && d.main.Scheme == "https" {
			to := "https://{host}{path}"
			if !s.own && len(d.aliases) > 0 {
				to = origin + "{path}"
			}
			d.add(rankName, "redirect", "secure", "when scheme http to "+to+" as "+as(s.status), "%s", answers(s.answers))
		}
	}
	own := d.secure != nil && d.secure.own
	if own {
		secure()
	}
	for _, a := range d.aliases {
		d.add(rankName, "redirect", "name-"+strings.Trim(strings.Map(func(r rune) rune {
			if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '.' || r == '-' {
				return r
			}
			return -1
		}, a.host), "."), "when host "+a.host+" to "+origin+"{path} as "+as(a.status), "%s", answers(a.answers))
	}
	if !own {
		secure()
	}
}

// head is the site's own entry.
func (d *drafter) head() string {
	var b strings.Builder
	fmt.Fprintf(&b, "site %s\n    address %s\n", siteName(d.main.Host), d.main.Origin())
	if len(d.aliases) > 0 {
		b.WriteString("    hosts")
		for _, a := range d.aliases {
			b.WriteString(" " + a.host)
		}
		b.WriteString("\n")
	}
	switch {
	case d.Files != "" && d.Listed:
		fmt.Fprintf(&b, "    inventory %s\n", rulebook.Quote(d.Files))
	case d.Files != "":
		fmt.Fprintf(&b, "    files %s\n", rulebook.Quote(d.Files))
	}
	for _, line := range d.accepts[""] {
		b.WriteString("    " + line + "\n")
	}
	return b.String()
}

// text is the rulebook as it stands by now.
func (d *drafter) text() string {
	paragraphs := slices.Clone(d.paragraphs)
	if len(d.rows) > 0 {
		paragraphs = append([]paragraph{{rank: rankMoved, why: fmt.Sprintf("Single addresses: %d of them.", len(d.rows)), entry: "moves single table " + rulebook.Quote(d.Table) + " as permanent"}}, paragraphs...)
	}
	for i, p := range paragraphs {
		if words := strings.Fields(p.entry); len(words) > 1 {
			for _, line := range d.accepts[words[1]] {
				paragraphs[i].entry += "\n    " + line
			}
		}
		if f := p.example; f != nil && f.done && f.query == "" {
			paragraphs[i].entry += fmt.Sprintf("\n    example %s => %d", f.path, f.Status)
		}
	}
	return layOut(fmt.Sprintf("%s: drafted by kibitz draft from what a server answered.\nRead it, change what is not meant, and try it: kibitz check, kibitz replay.", d.main.Host), d.head(), paragraphs)
}

// table is the CSV of single moves.
func (d *drafter) table() string {
	var b strings.Builder
	out := csv.NewWriter(&b)
	out.Write([]string{"old", "new", "status"})
	rows := slices.Clone(d.rows)
	slices.SortStableFunc(rows, func(a, b *fact) int { // the first that fits wins
		return cmp.Compare(min(len(b.query), 1), min(len(a.query), 1))
	})
	for _, f := range rows {
		old, to := f.path, f.to
		if f.query != "" && f.hasQuery {
			old += "?" + f.query
		}
		out.Write([]string{old, withQuery(to, f.toQuery), strconv.Itoa(f.Status)})
	}
	out.Flush()
	return b.String()
}

func withQuery(to, query string) string {
	if query == "" {
		return to
	}
	address, fragment, ok := strings.Cut(to, "#")
	if ok {
		fragment = "#" + fragment
	}
	return address + "?" + query + fragment
}

// compile compiles the draft as it stands by now, with some more text.
func (d *drafter) compile(more string) (*engine.Engine, error) {
	text := d.text() + more
	book, err := rulebook.Read("draft.kibitz", []byte(text), func(string) ([]byte, error) { return []byte(d.table()), nil })
	if err != nil {
		return nil, fmt.Errorf("what was drafted is not a rulebook (this is a fault of Kibitz's): %w\n%s", err, text)
	}
	return engine.New(book, []*site.Tree{d.Tree}), nil
}

// predict compiles the draft as it stands by now, and marks the facts that it explains.
func (d *drafter) predict() error {
	e, err := d.compile("")
	if err != nil {
		return err
	}
	d.engine = e
	for _, f := range d.facts {
		f.done = d.gives(f.Answer)
	}
	return nil
}

// answer is that of the draft: as at any time, to anybody.
func (d *drafter) answer(a *Answer) *engine.Response {
	return d.engine.Predict(&request.Request{Method: a.Request.Method, Address: a.Request.Address, Headers: a.Request.Headers})
}

// gives reports whether the draft gives an answer, as far as it says anything.
func (d *drafter) gives(a *Answer) bool {
	r := d.answer(a)
	switch r.Word() {
	case engine.WordFiles:
		return a.Status/100 == 2 || a.Status == 304 || a.Status == 404
	case engine.WordApp: // which answers as it likes: only what speaks for one is given
		return a.Status/100 == 2 || a.Status == 304
	}
	if r.Status != a.Status && !(r.Status == 200 && (a.Status == 304 || a.Status == 206)) {
		return false
	}
	if r.Location == "" || a.Location == "" {
		return true
	}
	want, err1 := a.Request.Address.Resolve(a.Location)
	got, err2 := a.Request.Address.Resolve(r.Location)
	return err1 == nil && err2 == nil && want == got
}

// hides reports whether an entry would hide files of the tree, of none of which is known that
// it is answered so.
func (d *drafter) hides(takes func(path string) bool, status int) bool {
	for _, f := range d.facts {
		n := d.Tree.Find(f.path)
		file := n != nil && !n.Folder
		nothing := status != 404 && strings.Contains(f.path, improbable) // what has never been there
		if f.Status == status && (file || nothing) && takes(f.path) {
			return false
		}
	}
	if d.Tree == nil {
		return false
	}
	hidden := false
	d.Tree.Each(func(n *site.Node) { hidden = hidden || !n.Folder && !n.Hidden && takes(n.Path) })
	return hidden
}

// oddOnes is of how many alike answers one may be another: a server that fails now and then is
// not to hide what it says of a folder. It is listed as what the draft does not give.
const oddOnes = 20

// refusals are the statuses that access entries refuse with.
var refusals = []int{403, 404, 405, 451}

// statuses finds the folders, the extensions and the single paths that are refused or gone.
func (d *drafter) statuses() {
	byStatus := map[int][]*fact{}
	for _, f := range d.facts {
		if !f.done && !f.redirects() && f.Status >= 400 && f.Status != 401 && f.Status < 500 {
			byStatus[f.Status] = append(byStatus[f.Status], f)
		}
	}
	for _, status := range slices.Sorted(maps.Keys(byStatus)) {
		left := byStatus[status]
		take := func(selector string, n int, name string, like *fact) {
			rank, kind, rest := rankMoved, "reply", selector+fmt.Sprintf(" with %d", status)
			if slices.Contains(refusals, status) {
				rank, kind, rest = rankAccess, "access", selector+fmt.Sprintf(" refuse %d", status)
			}
			d.add(rank, kind, name, rest, "%s", answers(n))
			d.show(like)
		}
		name := map[int]string{403: "refused", 404: "hidden", 410: "gone", 451: "withheld"}[status]
		name = cmp.Or(name, fmt.Sprintf("status-%d", status))
		for _, group := range []struct {
			of    func(f *fact) string
			takes func(f *fact, of string) bool
			write func(of string) string
		}{
			{func(f *fact) string { return path.Dir(f.path) + "/" }, func(f *fact, of string) bool { return strings.HasPrefix(f.path+"/", of) }, func(of string) string { return "in " + of }},
			{func(f *fact) string { return strings.TrimPrefix(path.Ext(f.path), ".") }, func(f *fact, of string) bool { return strings.HasSuffix(f.path, "."+of) }, func(of string) string { return `on ~.*\.` + of }},
		} {
			counts := map[string]int{}
			for _, f := range left {
				if of := group.of(f); of != "" && of != "//" && of != "/" && plainPath(of) {
					counts[of]++
				}
			}
			for _, of := range slices.SortedFunc(maps.Keys(counts), func(a, b string) int { return cmp.Or(cmp.Compare(counts[b], counts[a]), strings.Compare(a, b)) }) {
				n, wrong := 0, 0
				for _, f := range d.facts {
					if group.takes(f, of) {
						switch {
						case f.Status == status:
							n++
						case f.Status < 500: // else the server failed
							wrong++
						}
					}
				}
				if n < 2 || wrong*oddOnes > n || d.hides(func(path string) bool { return group.takes(&fact{path: path}, of) }, status) || !slices.ContainsFunc(left, func(f *fact) bool { return group.takes(f, of) }) {
					continue
				}
				take(group.write(of), n, name, left[slices.IndexFunc(left, func(f *fact) bool { return group.takes(f, of) })])
				if strings.HasPrefix(of, "/") {
					d.whole = append(d.whole, of)
				}
				for _, f := range left {
					f.done = f.done || group.takes(f, of)
				}
				left = slices.DeleteFunc(left, func(f *fact) bool { return group.takes(f, of) })
			}
		}
		var paths []string
		for _, f := range left {
			if plainPath(f.path) && f.query == "" && len(paths) < 20 {
				paths = append(paths, f.path)
				f.done = true
			}
		}
		if len(paths) > 0 && status != 410 || len(paths) > 0 && len(paths) < 4 {
			take("on "+strings.Join(paths, " "), len(paths), name, left[slices.IndexFunc(left, func(f *fact) bool { return f.path == paths[0] })])
		} else if len(paths) > 0 {
			for _, f := range left {
				if slices.Contains(paths, f.path) {
					f.to = ""
					d.addRow(f)
				}
			}
		}
	}
}

// methods finds the folders in which pages can only be read: any other method is refused.
func (d *drafter) methods() {
	told := map[group]int{}
	refused := map[string][]*Answer{} // by status
	for _, a := range d.Answers {
		if verb := a.Request.Verb(); verb == "GET" || verb == "HEAD" || a.Request.Address.Origin() != d.main.Origin() || a.Status >= 500 {
			continue
		}
		for _, g := range groupsOf(a) {
			if g.kind == everyAnswer || g.kind == inFolder {
				told[g]++
			}
		}
		if slices.Contains(refusals, a.Status) && !d.gives(a) {
			status := strconv.Itoa(a.Status)
			refused[status] = append(refused[status], a)
		}
	}
	for _, status := range slices.Sorted(maps.Keys(refused)) {
		for _, s := range setsOf(status, refused[status], told) {
			d.add(rankAccess, "access", "reading", s.selector()+"unless method GET HEAD refuse "+status, "Nothing but reading is allowed. %s", answers(s.n))
		}
	}
}

// patterns chooses templates, the one that explains the most first.
func (d *drafter) patterns() {
	byKey := map[string]*template{}
	support := map[string][]*fact{}
	for _, f := range d.facts {
		if f.done || !f.redirects() {
			continue
		}
		if len(byKey) > mostTemplates {
			break
		}
		for _, t := range templatesOf(f) {
			k := t.key()
			if byKey[k] == nil {
				byKey[k] = t
			}
			if s := support[k]; len(s) == 0 || s[len(s)-1] != f {
				support[k] = append(support[k], f)
			}
		}
	}
	var keys []string
	for k, facts := range support {
		if len(facts) > 1 {
			keys = append(keys, k)
		}
	}
	slices.SortFunc(keys, func(a, b string) int {
		return cmp.Or(cmp.Compare(len(support[b]), len(support[a])), strings.Compare(a, b))
	})
	keys = keys[:min(len(keys), mostTried/max(1, len(d.facts)))]
	chosen := []*choice{}
	scored := map[string]*choice{}
	for {
		var best *choice
		for _, k := range keys {
			open := 0
			for _, f := range support[k] {
				if !f.done {
					open++
				}
			}
			if float64(open)-entryCost <= 0 || best != nil && float64(open)-entryCost <= best.gain {
				continue
			}
			c := scored[k]
			if c == nil || c.stale() {
				c = d.choose(byKey[k], support[k])
				scored[k] = c
			}
			if c != nil && c.gain > 0 && (best == nil || c.gain > best.gain || c.gain == best.gain && c.weight() > best.weight()) {
				best = c
			}
		}
		if best == nil {
			break
		}
		for _, f := range best.agrees {
			f.done = true
		}
		chosen = append(chosen, best)
	}
	slices.SortStableFunc(chosen, func(a, b *choice) int { return cmp.Compare(b.weight(), a.weight()) })
	d.chosen = chosen
	for _, same := range d.inAnyCase(chosen) {
		c := same[0]
		n := len(c.agrees)
		to, pattern, fold := c.compiled, c.pattern(), ""
		for _, other := range same[1:] {
			n += len(other.agrees)
			pattern, fold = strings.ToLower(pattern), " ignoring case"
			if other.lower {
				to = c.anyCase()
			}
		}
		rest := "on " + pattern + fold + " to " + to.target()
		if folder := c.folder(); folder != "" && fold == "" && d.bare(c) {
			for _, f := range d.facts {
				f.done = f.done || f.path+"/" == folder && f.query == ""
			}
			rest = "in " + folder + " to " + to.targetOf(func(int) string { return "below" })
		}
		rest += " as " + as(c.status)
		if c.query != "" {
			rest += " query " + c.query
		}
		d.add(rankMoved, "redirect", c.called(), rest, "%s", answers(n))
		d.show(c.agrees[0])
	}
}

// bare reports whether a choice may take its folder without the slash, too, as an entry that
// says `in` does.
func (d *drafter) bare(c *choice) bool {
	to, _ := c.of(c.folder())
	return !slices.ContainsFunc(d.facts, func(f *fact) bool {
		return f.path+"/" == c.folder() && (!f.redirects() || f.to != to || f.Status != c.status)
	})
}

// inAnyCase puts choices together whose patterns differ in capitals alone, and lead to one
// place if what they copy is written in small letters; but where another spelling is answered
// otherwise.
func (d *drafter) inAnyCase(chosen []*choice) (out [][]*choice) {
	place := map[string]int{}
	var groups [][]*choice
	taken := map[*choice]bool{}
	for _, c := range chosen {
		if slices.Contains(c.widths, capitals) { // their case is what counts
			out = append(out, []*choice{c})
			taken[c] = true
			continue
		}
		key := fmt.Sprint(strings.ToLower(c.pattern()), " ", strings.ReplaceAll(c.target(), "|lower", ""), c.status, c.query)
		at, known := place[key]
		if !known {
			at = len(groups)
			place[key] = at
			groups = append(groups, nil)
		}
		groups[at] = append(groups[at], c)
	}
	slices.SortStableFunc(groups, func(a, b []*choice) int { return len(b) - len(a) }) // those that take most others first
	for _, same := range groups {
		same = slices.DeleteFunc(same, func(c *choice) bool { return taken[c] })
		if len(same) == 0 {
			continue
		}
		all := slices.Clone(same)
		for _, c := range chosen { // one that says in other letters what this one says of more
			if !taken[c] && !slices.Contains(same, c) && same[0].says(c) {
				all = append(all, c)
			}
		}
		switch {
		case len(all) > 1 && !d.otherwise(all):
			same = all
		case len(same) > 1 && d.otherwise(same):
			for _, c := range same {
				out = append(out, []*choice{c})
				taken[c] = true
			}
			continue
		}
		for _, c := range same {
			taken[c] = true
		}
		out = append(out, same)
	}
	slices.SortStableFunc(out, func(a, b []*choice) int { return slices.Index(chosen, a[0]) - slices.Index(chosen, b[0]) })
	return out
}

// anyCase gives the template for paths in any case, which leads to small letters.
func (c *compiled) anyCase() *compiled {
	t := *c.template
	t.lower = true
	return &compiled{template: &t, widths: c.widths, matches: regexp.MustCompile("(?i)" + c.matches.String())}
}

// says reports whether a choice says what another does, were its case ignored.
func (c *choice) says(o *choice) bool {
	any := c.anyCase()
	return c.status == o.status && c.query == o.query && !slices.ContainsFunc(o.agrees, func(f *fact) bool {
		to, ok := any.of(f.path)
		want, _ := o.of(f.path)
		return !ok || to != want
	})
}

// otherwise reports whether an address that some choices would take, if case did not count,
// is not one of theirs.
func (d *drafter) otherwise(same []*choice) bool {
	any := regexp.MustCompile("(?i)" + same[0].matches.String())
	return slices.ContainsFunc(d.facts, func(f *fact) bool {
		return any.MatchString(f.path) && !slices.ContainsFunc(same, func(c *choice) bool { return slices.Contains(c.agrees, f) })
	})
}

// nameOf makes a name of the first segment of a path.
func nameOf(p string) string {
	first, _, _ := strings.Cut(strings.TrimPrefix(p, "/"), "/")
	first, _, _ = strings.Cut(first, ".")
	name := strings.Trim(strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-':
			return r
		case r >= 'A' && r <= 'Z':
			return r | 0x20
		}
		return '-'
	}, first), "-")
	switch {
	case name == "" || len(name) > 30:
		return "old"
	case strings.HasPrefix(name, "old"):
		return name
	}
	return "old-" + name
}

// A choice is a template with its widths, and what speaks for and against it.
type choice struct {
	*compiled
	agrees []*fact
	query  string // the mode; "" for the usual
	gain   float64
}

// stale reports whether facts that spoke for it have been explained since.
func (c *choice) stale() bool {
	return slices.ContainsFunc(c.agrees, func(f *fact) bool { return f.done })
}

// choose finds the widest values that nothing contradicts; nil where there are none.
func (d *drafter) choose(t *template, support []*fact) *choice {
	chosen, rests := make([]width, t.values()), make([]bool, t.values())
	for _, p := range t.old {
		if p.value > 0 {
			chosen[p.value-1], rests[p.value-1] = widths[0], p.tail
			if p.tail {
				chosen[p.value-1] = tails[0]
			}
		}
	}
	all := t.compile(chosen)
	seen := make([]map[string]bool, len(chosen))
	for i := range seen {
		seen[i] = map[string]bool{}
		number, folder := true, true
		for _, f := range support {
			m := all.matches.FindStringSubmatch(f.path)
			if m == nil {
				return nil
			}
			seen[i][m[i+1]] = true
			number = number && strings.Trim(m[i+1], "0123456789") == ""
			folder = folder && strings.HasSuffix(m[i+1], "/")
		}
		if len(seen[i]) < 2 {
			return nil // it is always the same: another template says that
		}
		switch {
		case rests[i] && folder && !strings.HasSuffix(t.old[len(t.old)-1].text, "/"): // of which something stands behind it
			chosen[i] = wholeFolders
		case !rests[i] && number:
			chosen[i] = digits
		}
	}
	best := d.score(t.compile(chosen))
	for i := range chosen {
		narrowerOnes := widths[1:]
		switch {
		case rests[i]:
			narrowerOnes = tails[1:]
		case chosen[i] == digits:
			narrowerOnes = fixed(seen[i])
		}
		if best.wrong == 0 && !best.again() {
			break
		}
		for _, w := range narrowerOnes {
			narrower := slices.Clone(chosen)
			narrower[i] = w
			if s := d.score(t.compile(narrower)); s.gain > best.gain && !s.again() || best.again() && !s.again() {
				best, chosen = s, narrower
			}
		}
	}
	if best.again() || best.fromTop() && d.hides(best.matches.MatchString, best.status) {
		return nil
	}
	return &best.choice
}

// again reports whether a pattern takes its own target, which sends visitors on and on.
func (c *choice) again() bool {
	return slices.ContainsFunc(c.agrees, func(f *fact) bool {
		_, again := c.of(f.back)
		return again
	})
}

// fromTop reports whether a pattern may take any path of the site.
func (c *choice) fromTop() bool { return len(c.old) > 1 && c.old[0].text == "/" && c.old[1].tail }

// fixed gives the width of numbers that all have as many digits; none where they do not.
func fixed(values map[string]bool) []width {
	length := 0
	for v := range values {
		length = len(v)
	}
	for v := range values {
		if len(v) != length {
			return nil
		}
	}
	return []width{{fmt.Sprintf(`\d{%d}`, length), fmt.Sprintf(`(\d{%d})`, length)}}
}

type score struct {
	choice
	wrong int
}

// score holds a template against all facts.
func (d *drafter) score(c *compiled) score {
	s := score{choice: choice{compiled: c}}
	others := 0
	keep, drop, ownQuery := 0, 0, strings.Contains(textOf(c.new), "?")
	for _, f := range d.facts {
		to, ok := c.of(f.path)
		if !ok {
			continue
		}
		target := f.to
		if ownQuery {
			target = withQuery(f.to, f.toQuery)
		}
		if !f.redirects() || target != to || f.Status != c.status {
			if !f.redirects() {
				s.wrong++
				if strings.Contains(f.path, "/"+improbable+"/") { // asked to tell any folder from this one
					s.wrong += elsewhere
				}
			} else if !f.done {
				others++
			}
			continue
		}
		if f.hasQuery && f.query != "" && !ownQuery {
			switch f.toQuery {
			case f.query:
				keep++
			case "":
				drop++
			default:
				continue
			}
		}
		if !f.done {
			s.agrees = append(s.agrees, f)
		}
	}
	if drop > keep {
		s.query = "drop"
	}
	s.gain = float64(len(s.agrees)) - entryCost - valueCost*float64(c.values()) - wrongCost*float64(s.wrong) - otherCost*float64(others)
	if len(c.old) > 2 && c.old[0].text == "/" && !c.old[1].tail && c.widths[0] != digits && strings.HasPrefix(c.old[2].text, "/") {
		s.gain -= anyFolderCost
	}
	for _, p := range c.old {
		if p.tail { // of two that say the same the narrower one
			s.gain -= tailCost
		}
	}
	return s
}

func textOf(pieces []piece) (s string) {
	for _, p := range pieces {
		s += p.text
	}
	return s
}

// folders finds those of which everything leads to one place: the folder itself, with its
// slash or without, and what was asked for below it.
func (d *drafter) folders() {
	below := d.below()
	for _, folder := range slices.SortedFunc(maps.Keys(below), func(a, b string) int {
		return cmp.Or(strings.Count(a, "/")-strings.Count(b, "/"), strings.Compare(a, b))
	}) {
		facts := below[folder]
		paths := map[string]bool{}
		one := plainPath(folder) && !strings.HasPrefix(facts[0].back+"/", folder)
		for _, f := range facts {
			paths[f.path] = true
			one = one && f.redirects() && f.to == facts[0].to && f.Status == facts[0].Status && (f.toQuery == "" || f.toQuery == f.query)
		}
		if !one || len(paths) < 2 || !slices.ContainsFunc(facts, func(f *fact) bool { return !f.done }) {
			continue
		}
		d.add(rankMoved, "redirect", nameOf(folder), "in "+folder+toOne(facts), "%s", answers(len(facts)))
		d.show(facts[0])
		d.whole = append(d.whole, folder)
		for _, f := range facts {
			f.done = true
		}
	}
}

// endings finds folders of which what ends alike leads to one place.
func (d *drafter) endings() {
	type ending struct {
		folder, to string
		status     int
	}
	support := map[ending]map[string][]*fact{} // by extension
	for _, f := range d.facts {
		extension := path.Ext(f.path)
		if f.done || !f.redirects() || !plainPath(f.path) || extension == "" || f.toQuery != "" && f.toQuery != f.query {
			continue
		}
		folder, _ := path.Split(f.path)
		e := ending{folder, f.to, f.Status}
		if support[e] == nil {
			support[e] = map[string][]*fact{}
		}
		support[e][extension] = append(support[e][extension], f)
	}
	for _, e := range slices.SortedFunc(maps.Keys(support), func(a, b ending) int {
		return cmp.Or(strings.Compare(a.folder, b.folder), strings.Compare(a.to, b.to), a.status-b.status)
	}) {
		var on []string
		var facts []*fact
		for _, extension := range slices.Sorted(maps.Keys(support[e])) {
			t := &template{old: []piece{{text: e.folder}, {value: 1}, {text: extension}}, new: []piece{{text: e.to}}, status: e.status}
			c := d.score(t.compile(widths[:1]))
			if c.wrong > 0 || c.gain <= 0 || c.matches.MatchString(support[e][extension][0].back) || d.hides(c.matches.MatchString, e.status) {
				continue
			}
			on, facts = append(on, c.pattern()), append(facts, c.agrees...)
			d.chosen = append(d.chosen, &c.choice)
		}
		if len(on) == 0 {
			continue
		}
		d.add(rankMoved, "redirect", nameOf(facts[0].path), "on "+strings.Join(on, " ")+toOne(facts), "%s", answers(len(facts)))
		d.show(facts[0])
		for _, f := range facts {
			f.done = true
		}
	}
}

// below gives the facts of each folder: of itself, with its slash or without, and of what
// is asked for in it.
func (d *drafter) below() map[string][]*fact {
	all := map[string][]*fact{}
	for _, f := range d.facts {
		for folder := strings.TrimSuffix(f.path, "/"); folder != "" && folder != "/"; folder = strings.TrimSuffix(path.Dir(folder), "/") {
			all[folder+"/"] = append(all[folder+"/"], f)
		}
	}
	return all
}

// toOne is the rest of an entry for facts that lead to one place.
func toOne(facts []*fact) string {
	keep, drop := 0, 0
	for _, f := range facts {
		if f.query != "" && f.toQuery == "" {
			drop++
		} else if f.query != "" {
			keep++
		}
	}
	rest := " to " + rulebook.Literal(facts[0].to) + " as " + as(facts[0].Status)
	if drop > keep {
		rest += " query drop"
	}
	return rest
}

// sameTargets draws addresses together that lead to one place.
func (d *drafter) sameTargets() {
	by, byPath := map[string][]*fact{}, map[string][]*fact{}
	for _, f := range d.facts {
		byPath[f.path] = append(byPath[f.path], f)
	}
	for _, f := range d.facts {
		if !f.done && f.redirects() && plainPath(f.path) && f.back != f.path && (f.toQuery == "" || f.toQuery == f.query) && ignoresQuery(f, byPath) {
			k := fmt.Sprintf("%d %s", f.Status, f.to)
			by[k] = append(by[k], f)
		}
	}
	for _, k := range slices.Sorted(maps.Keys(by)) {
		facts := by[k]
		var paths []string
		for _, f := range facts {
			if !slices.Contains(paths, f.path) {
				paths = append(paths, f.path)
			}
		}
		if len(facts) < 3 || len(paths) > 12 {
			continue
		}
		d.add(rankMoved, "redirect", nameOf(paths[0]), "on "+strings.Join(paths, " ")+toOne(facts), "%s", answers(len(facts)))
		d.show(facts[0])
		for _, f := range facts {
			f.done = true
		}
	}
}

// ignoresQuery reports whether a path is answered alike with whatever query.
func ignoresQuery(f *fact, byPath map[string][]*fact) bool {
	return !slices.ContainsFunc(byPath[f.path], func(o *fact) bool { return o.to != f.to || o.Status != f.Status })
}

// rest makes rows of what cannot be drawn together.
func (d *drafter) rest() {
	for _, queries := range []bool{false, true} {
		for _, f := range d.facts {
			switch {
			case f.done || !f.redirects() || (f.query != "") != queries || d.hasRow(f):
			case f.query == "" && d.byQuery[f.path]: // a row would take what is decided by the query
				d.add(rankMoved, "redirect", nameOf(f.path), fmt.Sprintf("on %s to %s as %s query drop", f.path, rulebook.Literal(withQuery(f.to, f.toQuery)), as(f.Status)), "With any other query. One answer says so.")
				f.done = true
			default:
				d.addRow(f)
			}
		}
	}
}

// hasRow reports whether a row for the path with whatever query, which is sent along, says
// the same.
func (d *drafter) hasRow(f *fact) bool {
	return slices.ContainsFunc(d.rowsOf[f.path], func(row *fact) bool {
		return row == f || f.toQuery == f.query && row.query == "" && row.to == f.to && row.Status == f.Status
	})
}

// addRow adds a row. One that leads to its own address could not be read again.
func (d *drafter) addRow(f *fact) {
	if trimmed := strings.TrimSuffix(f.path, "/"); f.redirects() && strings.TrimSuffix(f.back, "/") == trimmed && f.back != f.path {
		if n := d.Tree.Find(trimmed); n != nil && n.Folder {
			return // that is for the folder to say
		}
	}
	if f.redirects() && f.back == f.path && (f.query == "" || f.toQuery == f.query) {
		return
	}
	if strings.ContainsAny(f.path, "\n\r") {
		return
	}
	d.rows = append(d.rows, f)
	d.rowsOf[f.path] = append(d.rowsOf[f.path], f)
}

// held runs the draft over all facts, and makes rows of those that another entry takes.
func (d *drafter) held() error {
	for range 3 {
		if err := d.predict(); err != nil {
			return err
		}
		more := 0
		for _, f := range d.facts {
			if before := len(d.rows); !f.done && f.redirects() && !d.hasRow(f) {
				d.addRow(f)
				more += len(d.rows) - before
			}
		}
		if more == 0 {
			return nil
		}
	}
	return d.predict()
}

// accept accepts what check finds: the server does so, and whoever reads the draft decides
// whether it shall.
func (d *drafter) accept() error {
	d.accepts = map[string][]string{}
	for range mostAccepted {
		bad := slices.DeleteFunc(proof.Check(d.engine, 1).Findings, func(f *proof.Finding) bool { return f.Severity == proof.Note })
		if len(bad) == 0 {
			return nil
		}
		for _, f := range bad {
			entry := ""
			if len(f.Rules) > 0 {
				entry = f.Rules[0].Name
			}
			name := "accept " + f.Name + " "
			if !slices.ContainsFunc(d.accepts[entry], func(line string) bool { return strings.HasPrefix(line, name) }) {
				d.accepts[entry] = append(d.accepts[entry], name+rulebook.Quote("the server does so: "+comment(f.Message)))
				d.accepted = append(d.accepted, f)
			}
		}
		if err := d.predict(); err != nil {
			return err
		}
	}
	return nil
}

// mostAccepted is how often what was accepted may let something else be seen.
const mostAccepted = 5

// result says what the draft gives, and what it does not.
func (d *drafter) result() (*Draft, error) {
	out := &Draft{Rulebook: d.text(), Rows: len(d.rows), Entries: len(d.engine.Book.Rules), Answers: len(d.Answers), Questions: addresses(d.main, d.questions()), Accepted: d.accepted}
	if len(d.rows) > 0 {
		out.Tables = []Table{{d.Source.Table, d.table()}}
	}
	others := map[request.Address]*Answer{} // the last to nobody in particular
	byClient := map[request.Address]bool{}  // where some clients were refused, and others not
	for _, a := range d.Answers {
		if a.agent() == "" && !a.varied() && a.Status < 500 {
			if b := others[a.Request.Address]; b != nil && (b.Status == 403) != (a.Status == 403) && b.Request.Client != a.Request.Client {
				byClient[a.Request.Address] = true
			}
			others[a.Request.Address] = a
		}
	}
	for _, a := range d.Answers {
		if d.gives(a) {
			out.Agree++
			continue
		}
		r := d.answer(a)
		predicted := engine.StatusText(r)
		if r.Location != "" {
			predicted += " " + r.Location
		}
		out.Left = append(out.Left, Left{a, predicted, d.why(a, others[a.Request.Address], byClient[a.Request.Address])})
	}
	return out, nil
}

// why says why an answer is not explained; other is one that another visitor got at the same
// address, or nil, and byClient whether some clients were refused there, and others not.
func (d *drafter) why(a, other *Answer, byClient bool) string {
	switch {
	case !d.knows(a.Request.Address.Host):
		return "its host is not sent on to the site: it is another one, or unknown"
	case a.Status >= 500:
		return "the server failed"
	case a.Status == 401:
		return "a name and password are asked for: which accounts there are cannot be seen"
	case a.Request.Verb() != "GET" && a.Request.Verb() != "HEAD":
		return fmt.Sprintf("it depends on the method: an entry is drafted from %d refusals in a folder on", leastAnswers)
	case a.varied():
		return "rules about header fields are not drafted"
	case a.agent() != "" && other != nil && other.Status != a.Status:
		return fmt.Sprintf("it depends on the visitor's program: an entry is drafted from %d refusals on", leastOfAgent)
	case byClient:
		return "it depends on the client, and rules about clients are not drafted: \"unless client NETWORK\" in an access entry says who may"
	case a.Status/100 == 2:
		return "something answers there that is not a file: an application, a rewrite or a fallback"
	case a.Status/100 == 3 && a.Location == "":
		return "the list does not say where it leads"
	}
	if _, err := a.Request.Address.Resolve(a.Location); err != nil && a.Status/100 == 3 {
		return "its Location is not an address: nobody can follow it"
	}
	return "it contradicts the other answers"
}
