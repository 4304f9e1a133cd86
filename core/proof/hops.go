package proof

// Hops: which redirect can lead to which. A hop is an entry, for one scheme and
// host; an edge says that some path which the one takes may be sent to where the
// other takes it. Rewrites are hops, too: they bring a path to entries that would
// not take it as it was asked for. Only what lies on a cycle can go round.

import (
	"cmp"
	"errors"
	"fmt"
	"iter"
	"maps"
	"math"
	"slices"
	"strings"

	"kibitz/core/browser"
	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/pattern"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// An origin is a scheme and a host by which a site is asked. One host stands for all
// that no test tells from it, and that no redirect or row names.
type origin struct {
	space  *space
	scheme string
	host   string
	last   int // the position of the first rule that takes every request here
}

// A hop is a rule, a row of a table, or the slash of folders, at one origin.
type hop struct {
	origin *origin
	rule   *rulebook.Rule // nil for folders
	row    *rulebook.Row
	begin  string // of a row, the key of its path
	to     *rulebook.Template
	query  rulebook.Query
	paths  pattern.Machine // of what is not a rule; of a rule over gives them
	group  []*rulebook.Row // rows that all lead to the same hops, and to no others
	pos    int             // of the rule in its site; behind all for folders
	edges  []*hop
	fed    bool // a rewrite leads here
	once   bool // no visit passes it twice

	// Of the search for components.
	index, low int
	onStack    bool
	component  int
}

// hops is the graph.
type hops struct {
	*shared
	origins  []*origin
	at       map[originKey]*origin
	of       map[*rulebook.Site][]*origin
	all      []*hop
	by       map[*origin]*hopIndex
	rows     map[rowKey]*hop
	anywhere map[*hop]bool    // whether they send anywhere, as sends gives it
	verdicts map[*hop]verdict // by the first of a component
	cyclic   [][]*hop         // components in which a visit might go round
	whole    bool             // hops have been found, too
	most     int              // how many hops must not be made; 0 where any number may that ends
}

type originKey struct{ scheme, host string }

// A hopIndex finds the hops of an origin that can take a path.
type hopIndex struct {
	begins map[string][]*hop // by what paths begin with, as beginsOf gives it
	sorted []string          // the keys of begins
	nodes  []*hop            // of rows, by the key of their path
}

// key gives the key of a text in the form of canonical.Marked: with that of a path which
// somebody takes begins what beginsOf gives.
func key(text string) string { return canonical.Fold(canonical.Unmarked(text)) }

// fronts finds the origins of all sites, which the graph is made of.
func (c *shared) fronts() *hops {
	if c.hops == nil {
		c.hops = &hops{shared: c, at: map[originKey]*origin{}, of: map[*rulebook.Site][]*origin{}, by: map[*origin]*hopIndex{}, rows: map[rowKey]*hop{}, anywhere: map[*hop]bool{}, verdicts: map[*hop]verdict{}}
		c.hops.findFronts()
	}
	return c.hops
}

// graph makes the graph of all redirects.
func (c *shared) graph() *hops {
	g := c.fronts()
	if g.whole {
		return g
	}
	g.whole = true
	for _, f := range g.origins {
		g.by[f] = &hopIndex{begins: map[string][]*hop{}}
		for pos, r := range f.rules() {
			if pos > f.last || !f.fits(r) {
				continue
			}
			h := &hop{origin: f, rule: r, pos: pos}
			switch a := r.Action.(type) {
			case *rulebook.Redirect:
				h.to, h.query = a.To, a.Query
			case *rulebook.Rewrite:
				h.to, h.query = a.To, a.Query
			default:
				continue
			}
			g.add(h, beginsOf(r)...)
		}
		if f.last == math.MaxInt {
			g.addFolders(f)
		}
		g.by[f].sorted = slices.Sorted(maps.Keys(g.by[f].begins))
	}
	g.addRows()
	for _, h := range g.all {
		g.connect(h)
	}
	g.prune()
	g.cyclic = g.circles()
	for _, component := range g.cyclic {
		left := maxEdges * g.effort
		for _, h := range component {
			h.edges = slices.DeleteFunc(h.edges, func(to *hop) bool {
				if to.component != h.component || left == 0 {
					return false
				}
				left--
				return !g.leads(h, to)
			})
		}
	}
	g.cyclic = g.circles()
	return g
}

// maxEdges is how many edges of a component are looked at closely.
const maxEdges = 5_000

// isRewrite reports whether the hop changes the path inside the site.
func (h *hop) isRewrite() bool { return h.rule != nil && h.rule.Kind == rulebook.KindRewrite }

// prune takes out the rewrites that lead to no redirect, and notes what the
// others lead to.
func (g *hops) prune() {
	for changed := true; changed; {
		changed = false
		idle := func(h *hop) bool { return h.isRewrite() && len(h.edges) == 0 }
		for _, h := range g.all {
			n := len(h.edges)
			h.edges = slices.DeleteFunc(h.edges, idle)
			changed = changed || h.isRewrite() && n > 0 && len(h.edges) == 0
		}
	}
	for _, h := range g.all {
		for _, to := range h.edges {
			to.fed = to.fed || h.isRewrite()
		}
	}
}

// circles are the components in which there is a redirect, without the hops that are passed
// but once.
func (g *hops) circles() [][]*hop {
	for {
		components := g.components()
		spent := false
		for _, component := range components {
			for _, h := range component {
				h.once = g.spent(h, component)
				spent = spent || h.once
			}
		}
		if !spent {
			return slices.DeleteFunc(components, func(component []*hop) bool {
				return !slices.ContainsFunc(component, func(h *hop) bool { return !h.isRewrite() })
			})
		}
	}
}

// spent reports whether a hop takes away a parameter that it asks for, or sets one that it
// asks not to be there, and nothing in its component undoes that: whoever goes round passes
// it at most once.
func (g *hops) spent(h *hop, component []*hop) bool {
	if h.rule == nil {
		return false
	}
	return slices.ContainsFunc(h.rule.Tests, func(t *rulebook.Test) bool {
		if t.Field.Kind != rulebook.FieldQuery || t.Field.Name == "" {
			return false
		}
		// fails reports whether the test surely fails behind a hop, or also where it failed
		// before and the hop leaves the parameter as it is.
		fails := func(h *hop, before bool) bool {
			return !slices.ContainsFunc(h.queries(), func(q result) bool {
				keeps, known := q.keeps(t.Field.Name)
				if !known || keeps {
					return !known || !before
				}
				req := *h.origin.request()
				req.Address.Query, req.Address.HasQuery = q.own, q.own != ""
				return g.Holds(t, &req)
			})
		}
		return fails(h, false) && !slices.ContainsFunc(component, func(other *hop) bool { return !fails(other, true) })
	})
}

// A result is the query that a hop makes: one of its own, and what it keeps of the request's.
type result struct {
	own     string
	unknown bool // the own one holds values
	query   rulebook.Query
}

// queries gives what a hop may make of the query.
func (h *hop) queries() []result {
	rows := h.group
	if h.row != nil {
		rows = []*rulebook.Row{h.row}
	}
	if len(rows) == 0 {
		r := result{query: h.query}
		if h.to != nil && h.to.HasQuery {
			own, constant := rulebook.Constant(h.to.Query)
			r.own, r.unknown = own, !constant
		}
		return []result{r}
	}
	var out []result
	for _, row := range rows {
		own, _ := row.NewQuery()
		out = append(out, result{own: own, query: h.rule.Action.(*rulebook.Moves).QueryOf(row)})
	}
	return out
}

// keeps reports whether a parameter is what it was in the request; where not, the result's own
// query says it.
func (r result) keeps(name string) (keeps, known bool) {
	_, named := request.Parameter(r.own, name)
	switch {
	case r.unknown:
		return false, false
	case r.query.Mode == rulebook.QueryKeep:
		return true, !named
	case r.query.Mode == rulebook.QueryMerge:
		return !named, true
	case r.query.Mode == rulebook.QueryOnly && slices.Contains(r.query.Only, name):
		return true, !named
	}
	return false, true
}

// reads reports whether the reading can come from a rewrite to another hop.
func (h *hop) reads(to *hop) bool {
	a, ok := h.rule.Action.(*rulebook.Rewrite)
	switch {
	case !ok || to.rule == nil || a.Then == rulebook.Again:
		return true
	case a.Then == rulebook.Finish:
		return false
	}
	return to.pos > h.pos
}

func (g *hops) add(h *hop, begins ...string) {
	g.all = append(g.all, h)
	for _, p := range begins {
		g.by[h.origin].begins[p] = append(g.by[h.origin].begins[p], h)
	}
}

// findFronts lists the schemes and the classes of hosts of each site.
func (g *hops) findFronts() {
	named := map[*rulebook.Site][]string{}
	seen := map[string]bool{"": true}
	name := func(host string) {
		if seen[host] {
			return
		}
		seen[host] = true
		if a, err := request.Parse("https://"+host, request.Address{}); err == nil {
			if to := g.SiteFor(a.Host); to != nil {
				named[to] = append(named[to], a.Host)
			}
		}
	}
	for _, s := range g.Book.Sites {
		for _, r := range s.Rules {
			switch a := r.Action.(type) {
			case *rulebook.Redirect:
				if host, ok := rulebook.Constant(a.To.Host); ok {
					name(host)
				}
			case *rulebook.Moves:
				for i := range a.Table.Rows {
					if _, rest, ok := strings.Cut(a.Table.Rows[i].New, "//"); ok {
						if end := strings.IndexAny(rest, "/?#"); end >= 0 {
							rest = rest[:end]
						}
						name(rest)
					}
				}
			}
		}
	}
	for _, s := range g.Book.Sites {
		sp := g.space(s)
		var tests []*rulebook.Test
		for _, r := range s.Rules {
			for _, t := range r.Tests {
				if t.Field.Kind == rulebook.FieldHost {
					tests = append(tests, t)
				}
			}
		}
		hosts := append([]string{s.Address.Host}, (&search{space: sp}).hosts(tests)...)
		hosts = append(hosts, named[s]...)
		for _, host := range hosts {
			for _, scheme := range []string{"https", "http"} {
				if g.at[originKey{scheme, host}] != nil {
					continue
				}
				f := &origin{space: sp, scheme: scheme, host: host, last: math.MaxInt}
				for pos, r := range f.rules() {
					if !hasPath(r) && f.taken(r) {
						f.last = pos
						break
					}
				}
				g.origins = append(g.origins, f)
				g.of[s] = append(g.of[s], f)
				g.at[originKey{scheme, host}] = f
			}
		}
	}
}

// hasPath reports whether a rule looks at the path.
func hasPath(r *rulebook.Rule) bool {
	return len(r.On)+len(r.In) > 0 || r.Kind == rulebook.KindMoves || slices.ContainsFunc(r.Tests, onPath)
}

// rules gives the rules of the site with their positions, in order, but for those
// that want another host.
func (f *origin) rules() iter.Seq2[int, *rulebook.Rule] {
	sp := f.space
	if sp.wanted == nil {
		sp.wanted = map[string][]int{}
		for pos, r := range sp.site.Rules {
			for _, host := range wantedHosts(r) {
				sp.wanted[host] = append(sp.wanted[host], pos)
			}
		}
	}
	positions := append(slices.Clone(sp.wanted[""]), sp.wanted[f.host]...)
	slices.Sort(positions)
	return func(yield func(int, *rulebook.Rule) bool) {
		for _, pos := range slices.Compact(positions) {
			if !yield(pos, sp.site.Rules[pos]) {
				return
			}
		}
	}
}

// wantedHosts gives the hosts of which a rule wants one, or "" where others may do.
func wantedHosts(r *rulebook.Rule) []string {
	for _, t := range r.Tests {
		if t.Field.Kind == rulebook.FieldHost && !t.Unless && t.Plain {
			var out []string
			for _, v := range t.Values {
				out = append(out, v.Text)
			}
			return out
		}
	}
	return []string{""}
}

// request is a plain request at the origin.
func (f *origin) request() *request.Request {
	req := f.space.base
	req.Address.Host = f.host
	req.Address.SetScheme(f.scheme)
	return &req
}

// fits reports whether the rule's conditions on scheme and host hold.
func (f *origin) fits(r *rulebook.Rule) bool {
	for _, t := range r.Tests {
		if (t.Field.Kind == rulebook.FieldScheme || t.Field.Kind == rulebook.FieldHost) && !f.space.Holds(t, f.request()) {
			return false
		}
	}
	return true
}

// taken reports whether the rule answers every request of the origin whose path
// it takes.
func (f *origin) taken(r *rulebook.Rule) bool {
	if a, ok := r.Action.(rulebook.Reading); !ok || !a.Ends() {
		return false
	}
	for _, t := range r.Tests {
		if !onPath(t) && t.Field.Kind != rulebook.FieldScheme && t.Field.Kind != rulebook.FieldHost {
			return false
		}
	}
	return f.fits(r)
}

// beginsOf gives texts with one of which the key of each path begins that a rule takes.
func beginsOf(r *rulebook.Rule) []string {
	var out []string
	for _, p := range r.On {
		out = append(out, p.Begin())
	}
	if len(r.On) == 0 {
		for _, f := range r.In {
			out = append(out, canonical.Fold(f))
		}
	}
	if len(out) == 0 {
		out = []string{""}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// addRows adds the rows of the tables whose new address is itself taken by a
// redirect; for all others the first hop is the last. Rows that only an entry
// for the scheme or the host takes on are one hop together.
func (g *hops) addRows() {
	var groups []*hop
	for _, f := range g.origins {
		for pos, r := range f.rules() {
			a, ok := r.Action.(*rulebook.Moves)
			if !ok || pos > f.last || !f.fits(r) {
				continue
			}
			together := map[*hop][]*rulebook.Row{}
			for i := range a.Table.Rows {
				row := &a.Table.Rows[i]
				to, text := rowTarget(g, f, row)
				if to == nil {
					continue
				}
				switch takers := g.takers(to, text); {
				case len(to.rowsAt(text)) == 0 && len(takers) == 0:
				case len(to.rowsAt(text)) == 0 && len(takers) == 1 && onlyMoves(takers[0]):
					together[takers[0]] = append(together[takers[0]], row)
				default:
					g.all = append(g.all, g.rowHop(f, r, row))
				}
			}
			for taker, rows := range together {
				groups = append(groups, &hop{origin: f, rule: r, pos: pos, group: rows, query: a.Query, paths: pathsOf(r, rows), edges: []*hop{taker}})
			}
		}
	}
	for _, h := range g.all {
		if h.row != nil {
			ix := g.by[h.origin]
			ix.nodes = append(ix.nodes, h)
		}
	}
	for _, ix := range g.by {
		slices.SortFunc(ix.nodes, func(a, b *hop) int {
			return cmp.Or(strings.Compare(a.begin, b.begin), strings.Compare(a.row.Path, b.row.Path))
		})
	}
	slices.SortFunc(groups, func(a, b *hop) int { return cmp.Compare(a.group[0].Line, b.group[0].Line) })
	for _, h := range groups {
		g.add(h, "")
	}
}

// pathsOf gives the paths that rows of a rule take, or more where the case of letters does not
// count and there are many; nil for every path.
func pathsOf(r *rulebook.Rule, rows []*rulebook.Row) pattern.Machine {
	if !r.Fold || len(rows) == 0 {
		out := make([]string, len(rows))
		for i, row := range rows {
			out[i] = canonical.Marked(row.Path)
		}
		return pattern.Words(out)
	}
	if len(rows) > maxFolded {
		return nil
	}
	var out []pattern.Machine
	for _, row := range rows {
		l, err := pattern.Text(row.Path, true)
		if err != nil {
			return nil
		}
		out = append(out, l)
	}
	return pattern.Or(out...)
}

// maxFolded is how many rows are told apart where the case of letters does not count.
const maxFolded = 100

// withRow gives a request like another for the old address of a row.
func withRow(like *request.Request, row *rulebook.Row) *request.Request {
	req := *like
	if row.Origin != "" {
		if origin, err := request.Parse(row.Origin, request.Address{}); err == nil {
			req.Address = origin
		}
	}
	req.Address.Path, req.Address.Query, req.Address.HasQuery = row.Path, row.Query, row.HasQuery
	return &req
}

type rowKey struct {
	origin *origin
	row    *rulebook.Row
}

// rowHop gives the hop of a row.
func (g *hops) rowHop(f *origin, r *rulebook.Rule, row *rulebook.Row) *hop {
	key := rowKey{f, row}
	if g.rows[key] == nil {
		g.rows[key] = &hop{origin: f, rule: r, row: row, begin: canonical.Fold(row.Path), query: r.Action.(*rulebook.Moves).Query, paths: pathsOf(r, []*rulebook.Row{row}),
			pos: slices.Index(f.space.site.Rules, r)}
	}
	return g.rows[key]
}

// takers gives the hops of the origin that can take a path, without rows.
func (g *hops) takers(f *origin, text string) []*hop {
	ix, begin := g.by[f], key(text)
	var out []*hop
	for n := 0; n <= len(begin); n++ {
		for _, to := range ix.begins[begin[:n]] {
			if to.mayTake(text) {
				out = append(out, to)
			}
		}
	}
	return out
}

// A placed row is one of a table, with the entry whose table it is.
type placedRow struct {
	rule *rulebook.Rule
	row  *rulebook.Row
}

// rowsAt gives the rows that take a path.
func (f *origin) rowsAt(text string) []placedRow {
	sp := f.space
	if sp.rows == nil {
		sp.rows = map[string][]placedRow{}
		for _, r := range sp.site.Rules {
			if a, ok := r.Action.(*rulebook.Moves); ok {
				for i := range a.Table.Rows {
					path := canonical.Marked(a.Table.Rows[i].Path)
					sp.rows[path] = append(sp.rows[path], placedRow{r, &a.Table.Rows[i]})
				}
			}
		}
	}
	rows := sp.rows[text]
	if low := canonical.Marked(key(text)); low != text {
		for _, at := range sp.rows[low] {
			if at.rule.Fold {
				rows = append(slices.Clip(rows), at)
			}
		}
	}
	return rows
}

// rowTarget gives the origin and the path that a row leads to; nil where it is
// not one of these sites.
func rowTarget(g *hops, f *origin, row *rulebook.Row) (*origin, string) {
	if row.New == "" {
		return nil, ""
	}
	if strings.HasPrefix(row.New, "/") && !strings.HasPrefix(row.New, "//") {
		path := row.New
		if i := strings.IndexAny(path, "?#"); i >= 0 {
			path = path[:i]
		}
		path, err := canonical.Path(path, f.space.site.KeepSlashes)
		if err != nil {
			return nil, ""
		}
		return f, canonical.Marked(path)
	}
	a, err := f.request().Address.Resolve(row.New)
	if err != nil {
		return nil, ""
	}
	path, err := canonical.Path(a.Path, f.space.site.KeepSlashes)
	if to := g.at[originKey{a.Scheme, a.Host}]; to != nil && err == nil {
		return to, canonical.Marked(path)
	}
	return nil, ""
}

// over gives the paths that a hop takes; nil for all. Nearly always nobody asks.
func (h *hop) over() pattern.Machine {
	if h.rule == nil || h.paths != nil {
		return h.paths
	}
	return h.origin.space.of(h.rule).over
}

// mayTake reports whether a path is one that the hop can take.
func (h *hop) mayTake(text string) bool {
	if h.rule == nil || h.paths != nil {
		return h.paths == nil || pattern.Matches(h.paths, text)
	}
	path := canonical.Unmarked(text)
	if len(h.rule.On) > 0 && !slices.ContainsFunc(h.rule.On, func(p *pattern.Pattern) bool { return p.Match(path) }) {
		return false
	}
	if h.rule.Fold {
		path = canonical.Fold(path)
	}
	return len(h.rule.In) == 0 || slices.ContainsFunc(h.rule.In, func(f string) bool {
		return path == f || strings.HasPrefix(path, f+"/")
	})
}

// addFolders adds what sends folders to their address with a slash, or without.
func (g *hops) addFolders(f *origin) {
	var bare, slashed []string
	f.space.Tree(f.space.site).Each(func(n *site.Node) {
		if n.Folder && n.Path != "" {
			bare, slashed = append(bare, canonical.Marked(n.Path)), append(slashed, canonical.Marked(n.Path)+"/")
		}
	})
	if len(bare) == 0 {
		return
	}
	whole := rulebook.Piece{Value: true, Field: rulebook.Field{Kind: rulebook.FieldPath}}
	g.add(&hop{origin: f, to: &rulebook.Template{Path: []rulebook.Piece{whole, {Text: "/"}}}, paths: pattern.Words(bare)}, "/")
	for _, r := range f.space.site.Rules {
		if a, ok := r.Action.(*rulebook.Folder); ok && a.Slash == rulebook.SlashDrop {
			g.add(&hop{origin: f, paths: pattern.Words(slashed)}, "/")
			return
		}
	}
}

// target gives the origins that a hop leads to.
func (g *hops) target(h *hop) []*origin {
	to := h.to
	if h.row != nil {
		if f, _ := rowTarget(g, h.origin, h.row); f != nil {
			return []*origin{f}
		}
		return nil
	}
	if to == nil || to.IsPath() {
		return []*origin{h.origin}
	}
	scheme, fixed := rulebook.Constant(to.Scheme)
	if !fixed {
		scheme = h.origin.scheme
	}
	host, constant := rulebook.Constant(to.Host)
	if len(to.Host) == 1 && to.Host[0].Value && to.Host[0].Capture == "" && to.Host[0].Field.Kind == rulebook.FieldHost {
		host, constant = h.origin.host, true
	}
	if constant {
		if a, err := request.Parse(scheme+"://"+host, request.Address{}); err == nil {
			host = a.Host
		}
		if f := g.at[originKey{scheme, host}]; f != nil {
			return []*origin{f}
		}
		return nil
	}
	var out []*origin
	for _, f := range g.origins {
		if f.scheme == scheme {
			out = append(out, f)
		}
	}
	return out
}

// start gives the literal text that every path begins with which the hop leads to.
func (g *hops) start(h *hop) (text string, whole bool) {
	switch {
	case h.row != nil:
		_, text := rowTarget(g, h.origin, h.row)
		return text, true
	case h.to == nil:
		return "/", false
	}
	text, whole = literalStart(h.to.Path)
	if path, err := canonical.Target(text, h.origin.space.site.KeepSlashes); err == nil && whole {
		return canonical.Marked(path), true
	} else if !whole && strings.HasPrefix(text, "/") {
		if t, err := canonical.Text(text); err == nil {
			return strings.TrimRight(canonical.Marked(t), "/"), false // slashes may be merged
		}
	}
	return "", whole
}

// connect finds the hops that a hop may lead to.
func (g *hops) connect(h *hop) {
	if h.group != nil {
		return // it was made with its edges
	}
	text, whole := g.start(h)
	begin := key(text)
	for _, f := range g.target(h) {
		ix := g.by[f]
		for n := 0; n <= len(begin); n++ {
			for _, to := range ix.begins[begin[:n]] {
				if whole && to.mayTake(text) || !whole && endsAlike(h, to) {
					h.edges = append(h.edges, to)
				}
			}
		}
		if whole {
			for _, at := range f.rowsAt(text) {
				h.edges = append(h.edges, g.rowHop(f, at.rule, at.row))
			}
			continue
		}
		first, _ := slices.BinarySearchFunc(ix.nodes, begin, func(h *hop, begin string) int { return strings.Compare(h.begin, begin) })
		for ; first < len(ix.nodes) && strings.HasPrefix(ix.nodes[first].begin, begin); first++ {
			h.edges = append(h.edges, ix.nodes[first])
		}
		at, _ := slices.BinarySearch(ix.sorted, begin+"\x00")
		for ; at < len(ix.sorted) && strings.HasPrefix(ix.sorted[at], begin); at++ {
			for _, to := range ix.begins[ix.sorted[at]] {
				if endsAlike(h, to) {
					h.edges = append(h.edges, to)
				}
			}
		}
	}
	h.edges = unique(h.edges)
	if h.rule != nil {
		h.edges = slices.DeleteFunc(h.edges, func(to *hop) bool { return !h.reads(to) })
	}
}

// endsAlike reports whether the literal end of a hop's target can be the end of
// a path that another takes.
func endsAlike(h, to *hop) bool {
	if h.to == nil || to.rule == nil || to.row != nil || to.group != nil || len(to.rule.On) == 0 {
		return true
	}
	last := h.to.Path[len(h.to.Path)-1]
	end, err := canonical.Text(last.Text)
	if last.Value || err != nil {
		return true
	}
	end = canonical.Marked(end)
	for _, p := range to.rule.On {
		if s := p.Suffix(); strings.HasSuffix(s, end) || strings.HasSuffix(end, s) {
			return true
		}
	}
	return false
}

func unique(list []*hop) []*hop {
	seen := map[*hop]bool{}
	return slices.DeleteFunc(list, func(h *hop) bool {
		again := seen[h]
		seen[h] = true
		return again
	})
}

// components gives the strongly connected components in which a visit can come
// back: those of several hops, and hops that lead to themselves (Tarjan).
func (g *hops) components() [][]*hop {
	var out [][]*hop
	var stack []*hop
	index, number := 0, 0
	for _, h := range g.all {
		h.index, h.onStack = 0, false
		if h.once {
			number++
			h.component = number
		}
	}
	var visit func(h *hop)
	visit = func(h *hop) {
		index++
		h.index, h.low, h.onStack = index, index, true
		stack = append(stack, h)
		for _, to := range h.edges {
			if to.once {
				continue
			}
			if to.index == 0 {
				visit(to)
				h.low = min(h.low, to.low)
			} else if to.onStack {
				h.low = min(h.low, to.index)
			}
		}
		if h.low != h.index {
			return
		}
		number++
		var component []*hop
		for {
			last := stack[len(stack)-1]
			stack = stack[:len(stack)-1]
			last.onStack, last.component = false, number
			component = append(component, last)
			if last == h {
				break
			}
		}
		if len(component) > 1 || slices.Contains(h.edges, h) {
			out = append(out, component)
		}
	}
	for _, h := range g.all {
		if h.index == 0 && !h.once {
			visit(h)
		}
	}
	return out
}

// into gives at most the paths that a hop takes and sends into a set; nil for
// none.
func (g *hops) into(h *hop, set pattern.Machine) (pattern.Machine, error) {
	sp := h.origin.space
	switch {
	case h.row != nil:
		if _, text := rowTarget(g, h.origin, h.row); set == nil || pattern.Matches(set, text) {
			return h.paths, nil
		}
		return nil, nil
	case h.group != nil:
		var rows []*rulebook.Row
		for _, row := range h.group {
			if _, text := rowTarget(g, h.origin, row); set == nil || pattern.Matches(set, text) {
				rows = append(rows, row)
			}
		}
		if len(rows) == 0 {
			return nil, nil
		}
		if paths := pathsOf(h.rule, rows); paths != nil {
			return paths, nil
		}
		return pattern.Paths(sp.site.KeepSlashes), nil
	case set == nil:
		set = pattern.Paths(sp.site.KeepSlashes)
	}
	if h.rule != nil {
		return sp.sentInto(h.rule, h.to.Path, set)
	}
	source, pieces := "(?s:.*)", []pattern.Copy{{Group: pattern.Whole}, {Text: "/", Group: pattern.Literal}}
	if h.to == nil { // the slash is dropped
		source, pieces = "(?s:(.*)/)", []pattern.Copy{{Group: 1}}
	}
	l, err := pattern.Pre(source, pieces, set, sp.site.KeepSlashes, maxSolid*sp.effort)
	if err != nil || !l.Any() {
		return nil, err
	}
	return pattern.And(h.paths, l), nil
}

// leads reports whether an edge stands when it is looked at closely: the paths,
// the query, and the conditions that stay as they are from one hop to the next.
func (g *hops) leads(h, to *hop) bool {
	over := to.over()
	goes, known := g.anywhere[h]
	if over != nil || !known {
		goes = g.sends(h, over)
		if over == nil {
			g.anywhere[h] = goes
		}
	}
	if !goes {
		return false
	}
	if h.rule == nil || to.rule == nil || h.origin.space != to.origin.space {
		return true
	}
	keeps := h.to != nil && !h.to.HasQuery && h.query.Mode == rulebook.QueryKeep
	var query string
	fixed := false
	if h.to != nil && !keeps && h.query.Mode == rulebook.QueryDrop {
		query, fixed = rulebook.Constant(h.to.Query)
	}
	if fixed {
		req := to.origin.request()
		req.Address.Query, req.Address.HasQuery = query, query != ""
		for _, t := range to.rule.Tests {
			if t.Field.Kind == rulebook.FieldQuery && !g.Holds(t, req) {
				return false
			}
		}
	}
	stays := func(r *rulebook.Rule) *rulebook.Rule {
		out := &rulebook.Rule{Name: r.Name, Number: r.Number}
		for _, t := range r.Tests {
			same := t.Field.Row().Stays
			if same != nil && same(t.Field.Name) && !g.MaySet(t.Field) || t.Field.Kind == rulebook.FieldQuery && keeps {
				out.Tests = append(out.Tests, t)
			}
		}
		return out
	}
	_, err := h.origin.space.find(question{in: []*rulebook.Rule{stays(h.rule), stays(to.rule)}, path: pattern.Words([]string{"/"})})
	return !errors.Is(err, errNone)
}

// sends reports whether a hop may send some path into a set; nil stands for every path.
func (g *hops) sends(h *hop, set pattern.Machine) bool {
	m, err := g.into(h, set)
	if err != nil || m == nil {
		return err != nil
	}
	_, ok, err := pattern.Find(m, pattern.PathBytes, maxSearch*g.effort)
	return ok || err != nil
}

// A verdict says what became of a component.
type verdict struct {
	state string
	why   string
	visit *browser.Visit // that shows what was found
	tried int
}

const maxSurvivors = engine.MaxRedirects

// decide looks into a component: the requests that survive one hop after the
// other in it, until none is left, or one goes round.
func (g *hops) decide(component []*hop, bad func(*browser.Visit) bool) verdict {
	switch {
	case !shrinks(component):
	case g.most > 0: // nobody asks for such an address
		return verdict{state: Tried, why: fmt.Sprintf("each start makes the path shorter: only an address for which it starts %d times is given up", g.most)}
	default:
		return verdict{state: Proved}
	}
	v := verdict{state: Tried, why: "addresses are left after every number of hops that was followed"}
	in := map[*hop]bool{}
	for _, h := range component {
		in[h] = true
	}
	survive := map[*hop]*pattern.Lang{}
	for _, h := range component {
		paths, err := g.first(h)
		if err != nil {
			v.state, v.why = Open, h.cannot(err)
			g.try(component, nil, bad, &v)
			return v
		}
		survive[h] = paths
	}
	if g.try(component, survive, bad, &v) {
		return v
	}
	spent := 0
	for n := 1; n <= maxSurvivors; n++ {
		next := map[*hop]*pattern.Lang{}
		left, same := 0, true
		keys := map[*hop]string{} // of what survives at each
		for h, l := range survive {
			keys[h] = l.Key()
		}
		if spent > 4*maxSolid*g.effort {
			v.state, v.why = Open, fmt.Sprintf("where %s leads in more than %d hops needs %v: more than %d", component[0].name(), n-1, pattern.ErrLarge, 4*maxSolid*g.effort)
			return v
		}
		for _, h := range component {
			if survive[h] == nil {
				continue
			}
			var sets []pattern.Machine
			seen := map[string]bool{}
			for _, to := range h.edges {
				if l := survive[to]; in[to] && l != nil && !seen[keys[to]] {
					seen[keys[to]] = true
					sets = append(sets, l)
				}
			}
			if len(sets) == 0 {
				same = false
				continue
			}
			from, err := g.into(h, pattern.Or(sets...))
			if err != nil {
				v.state, v.why = Open, h.cannot(err)
				return v
			}
			if from == nil {
				same = false
				continue
			}
			l, err := pattern.Solid(pattern.And(survive[h], from), pattern.PathBytes, maxSolid*g.effort)
			if err != nil {
				v.state, v.why = Open, h.cannot(err)
				return v
			}
			if spent += l.Size(); l.Any() {
				next[h] = l
				left++
				same = same && l.Size() == survive[h].Size()
			} else {
				same = false
			}
		}
		if left == 0 && g.most > 0 && n >= g.most { // so many starts are too many, even where they end
			return v
		}
		if left == 0 {
			return verdict{state: Proved, tried: v.tried}
		}
		survive = next
		if n <= 3 || n == maxSurvivors || same {
			if g.try(component, survive, bad, &v) {
				return v
			}
		}
		if same && n > 3 {
			break
		}
	}
	return v
}

// cannot says why the paths that go on from a hop are not known.
func (h *hop) cannot(err error) string {
	if errors.Is(err, pattern.ErrLarge) {
		return fmt.Sprintf("where %s leads needs %v", h.name(), err)
	}
	return err.Error()
}

func (h *hop) name() string {
	if h.rule == nil {
		return "the folder's slash"
	}
	return h.rule.Name
}

// first gives the paths that a hop takes, less those that entries above it
// surely take.
func (g *hops) first(h *hop) (*pattern.Lang, error) {
	sp := h.origin.space
	parts := []pattern.Machine{pattern.Paths(sp.site.KeepSlashes)}
	if over := h.over(); over != nil {
		parts = append(parts, over)
	}
	above := 0
	for _, r := range h.origin.rules() {
		if r == h.rule || above == maxAbove || h.fed { // what a rewrite brings is not read above it
			break
		}
		if hasPath(r) && h.origin.taken(r) && sp.of(r).under != nil {
			parts = append(parts, pattern.Not(sp.of(r).under))
			above++
		}
	}
	return pattern.Solid(pattern.And(parts...), pattern.PathBytes, maxSolid*g.effort)
}

const maxAbove = 100

// try visits the shortest surviving requests of each hop.
func (g *hops) try(component []*hop, survive map[*hop]*pattern.Lang, bad func(*browser.Visit) bool, v *verdict) bool {
	for _, h := range component {
		if survive != nil && survive[h] == nil {
			continue
		}
		q := question{template: h.origin.request()}
		if h.rule != nil {
			q.in = []*rulebook.Rule{h.rule}
		}
		q.path = h.over()
		if survive != nil {
			q.path = survive[h]
		}
		q.fix = func(req *request.Request) bool {
			v.tried++
			visit := browser.OpenFor(g, req, runawayHops)
			if bad(visit) {
				v.state, v.why, v.visit = Found, "", visit
				return true
			}
			return false
		}
		if _, err := h.origin.space.find(q); err == nil {
			return true
		}
	}
	return false
}

// runawayHops is after how many redirects a visit is said to have no end.
const runawayHops = 1000

// shrinks reports whether each way round through a component takes something from the path
// that no way gives back, so that no visit can stay in it: bytes of any kind, or those of one
// letter, as where each redirect puts a dash in the place of an underscore.
func shrinks(component []*hop) bool {
	if len(component) > maxShrinks {
		return false
	}
	patterns := ""
	for _, h := range component {
		if h.rule != nil {
			for _, p := range h.rule.On {
				patterns += p.String()
			}
		}
	}
	for _, of := range []byte("\x00" + countedLetters) {
		if (of == 0 || strings.IndexByte(patterns, of) >= 0) && loses(component, of) {
			return true
		}
	}
	return false
}

// countedLetters are those that stand for themselves in a path, whatever becomes of others:
// they are no part of how a character is encoded, and no other has them in small or in capitals.
const countedLetters = "-_.~+,;=:@&'()*$"

// loses reports whether each way round takes more of a byte than it gives; 0 stands for all.
func loses(component []*hop, of byte) bool {
	// A way round that is no shorter is a cycle of a sum of at most 0, if each hop counts for
	// what it takes away; scaled so that all such sums are below 0, Bellman and Ford find it.
	n := len(component) + 1
	loses := map[*hop]int{}
	for _, h := range component {
		grows, ok := growth(h, of)
		if !ok {
			return false
		}
		loses[h] = -grows*n - 1
	}
	least := map[*hop]int{}
	for range n {
		changed := false
		for _, h := range component {
			for _, to := range h.edges {
				if _, in := loses[to]; in && least[h]+loses[h] < least[to] {
					least[to], changed = least[h]+loses[h], true
				}
			}
		}
		if !changed {
			return true
		}
	}
	return false
}

// maxShrinks is how many hops are summed up.
const maxShrinks = 200

// growth is how many more of a byte, at most, the path has behind a hop; 0 stands for all.
func growth(h *hop, of byte) (n int, known bool) {
	if h.rule == nil || h.row != nil || h.group != nil {
		return 0, false
	}
	count := func(text string) int {
		if of == 0 {
			return len(text)
		}
		return strings.Count(text, string(rune(of)))
	}
	text := 0
	var copied []string
	for _, piece := range h.to.Path {
		switch {
		case !piece.Value:
			literal, err := canonical.Text(piece.Text)
			if err != nil {
				return 0, false
			}
			text += count(canonical.Marked(literal))
		case len(piece.Filters) > 0 && (of == 0 || of == '-' && slices.Contains(piece.Filters, "dashes")):
			return 0, false
		case piece.Capture == "":
			if piece.Field.Kind != rulebook.FieldPath || len(h.to.Path) != 1 {
				return 0, false
			}
			return 0, true // the path as it is
		case slices.Contains(copied, piece.Capture):
			return 0, false
		default:
			copied = append(copied, piece.Capture)
		}
	}
	most := math.MinInt
	for _, p := range h.rule.On {
		if slices.ContainsFunc(copied, func(name string) bool { return !slices.Contains(p.Names(), name) }) {
			return 0, false
		}
		least, ok := p.Least(copied, of)
		if !ok {
			return 0, false
		}
		most = max(most, text-least)
	}
	if len(h.rule.On) == 0 {
		for _, f := range h.rule.In {
			if len(copied) > 0 && !slices.Equal(copied, []string{rulebook.Below}) {
				return 0, false
			}
			most = max(most, text-count(f))
		}
	}
	return most, most > math.MinInt
}
