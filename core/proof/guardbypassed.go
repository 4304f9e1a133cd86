package proof

import (
	"errors"
	"fmt"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/pattern"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

func init() {
	register(5, Kind{
		Name: "guard-bypassed", Severity: Error,
		Summary: "a file that an access entry guards is served under another address",
		Before:  "rewrite short on /rota         to /crew/rota.html  then finish\naccess  crew  in /crew/ unless client {crew-net} refuse",
		After:   "access  crew  in /crew/ /rota unless client {crew-net} refuse\nrewrite short on /rota         to /crew/rota.html  then finish",
		Proves:  true,
		find:    findBypasses,
	})
}

// The most that is looked at for one guard.
const (
	maxGuarded   = 20_000 // files
	maxRewrites  = 3      // one after the other, that lead to a file
	maxElsewhere = 20     // files that are asked for by other schemes, hosts and sites
	maxNamed     = 50     // files to which ways are looked for one by one
	maxOutsiders = 16     // kinds of clients that it keeps out
)

// findBypasses takes each guard, those whom it keeps out, and the files and applications
// that they cannot have under their plain addresses; then it looks for every other way
// there: rewrites, fallbacks, documents, stored siblings, pages of errors, replies, other
// schemes, hosts and sites.
func findBypasses(c *checker) {
	for _, r := range c.Book.Rules {
		a, ok := r.Action.(*rulebook.Access)
		if !ok || a.Do == rulebook.Admit || len(r.On)+len(r.In) == 0 && len(r.Tests) == 0 {
			continue
		}
		for _, s := range c.sitesOf(r) {
			if !c.KnowsTree(s) {
				c.note(Open, r, "which files the site has is not known")
				continue
			}
			if sp := c.space(s); sp.everywhere(r) && len(c.sharing(s)) == 0 {
				c.note(Proved, r, "")
			} else {
				c.bypasses(sp, r)
			}
		}
	}
	c.conclusions("for the tree as it is: no rewrite, fallback, document, stored sibling, page or other site leads to a guarded file")
}

// everywhere reports whether a guard keeps out whoever it keeps out at every address of the
// site: it looks at nothing but who asks, and nothing above it shows a file, hands on to an
// application, ends the reading with another path or lets somebody past.
func (sp *space) everywhere(guard *rulebook.Rule) bool {
	if sp.of(guard).over != nil || slices.ContainsFunc(guard.Tests, func(t *rulebook.Test) bool {
		return !t.Field.Row().Beside || t.Field.Kind == rulebook.FieldUser
	}) {
		return false
	}
	above := sp.site.Rules[:slices.Index(sp.site.Rules, guard)]
	return !slices.ContainsFunc(above, func(r *rulebook.Rule) bool {
		switch a := r.Action.(type) {
		case *rulebook.Access:
			return a.Do == rulebook.Admit
		case *rulebook.Rewrite:
			return a.Then == rulebook.Finish
		}
		return inReading(r) && (r.Shows() != "" || r.Kind == rulebook.KindHandoff)
	})
}

// sharing are the other sites that have files of a site: those of its folder, of one around it
// or inside it, and of its inventory.
func (c *shared) sharing(s *rulebook.Site) []*rulebook.Site {
	if c.sharers == nil {
		c.sharers = map[*rulebook.Site][]*rulebook.Site{}
		at := map[string][]*rulebook.Site{}
		for _, s := range c.Book.Sites {
			at[filesOf(s)] = append(at[filesOf(s)], s)
		}
		delete(at, "")
		for _, s := range c.Book.Sites {
			own := filesOf(s)
			for folder := own; folder != ""; folder = filepath.ToSlash(filepath.Dir(folder)) {
				for _, other := range at[folder] {
					if _, shared := mapped(s, other); !shared || other == s {
						continue
					}
					c.sharers[s] = append(c.sharers[s], other)
					if folder != own { // which will not look for what is inside it
						c.sharers[other] = append(c.sharers[other], s)
					}
				}
				if s.Files == "" || folder == "." || folder == "/" {
					break
				}
			}
		}
	}
	return c.sharers[s]
}

// filesOf names where the files of a site lie; "" where that is not known.
func filesOf(s *rulebook.Site) string {
	if s.Files != "" {
		return filepath.ToSlash(filepath.Clean(s.Files))
	}
	if s.Inventory != "" {
		return "inventory " + s.Inventory
	}
	return ""
}

// A bypass is the search for ways around one guard.
type bypass struct {
	*checker
	space     *space
	guard     *rulebook.Rule
	outsiders []*request.Request // whom the guard keeps out
	files     map[*site.Node]bool
	nodes     []*site.Node // the same, in their order
	shown     bool         // a way is found and told
	why       string       // what keeps it from being proved that there is none
	resp      engine.Response
}

// perhaps notes what could be a way.
func (b *bypass) perhaps(format string, args ...any) {
	if b.why == "" {
		b.why = fmt.Sprintf(format, args...)
	}
}

func (c *checker) bypasses(sp *space, guard *rulebook.Rule) {
	b := &bypass{checker: c, space: sp, guard: guard, files: map[*site.Node]bool{}}
	b.findFiles()
	apps := b.applications()
	if len(b.files) == 0 && len(apps) == 0 {
		c.note(Proved, guard, "") // it guards nothing that another address could lead to
		return
	}
	if err := b.findOutsiders(); err != nil {
		if errors.Is(err, errNone) {
			c.note(Proved, guard, "")
		} else {
			c.note(Open, guard, err.Error())
		}
		return
	}
	b.byItself()
	b.byTargets()
	for _, app := range apps {
		b.toApplication(app)
	}
	b.byPages()
	b.byDocuments()
	b.bySiblings()
	b.byOrigins()
	b.bySites()
	switch {
	case b.shown:
	case b.why != "":
		c.note(Tried, guard, b.why)
	default:
		c.note(Proved, guard, "")
	}
}

// findFiles looks for the files at whose addresses the guard stands: their own, or that of
// the folder that shows them.
func (b *bypass) findFiles() {
	over := b.space.of(b.guard).over
	b.Tree(b.space.site).Each(func(n *site.Node) {
		switch {
		case n.Folder || over != nil && !slices.ContainsFunc(b.names(n), func(name string) bool { return pattern.Matches(over, canonical.Marked(name)) }):
		case len(b.nodes) == maxGuarded:
			b.perhaps("the first %d files were looked at", maxGuarded)
		default:
			b.files[n] = true
			b.nodes = append(b.nodes, n)
		}
	})
}

// applications are the handoffs below the guard that take paths which it takes, too.
func (b *bypass) applications() (out []*rulebook.Rule) {
	for _, r := range b.space.site.Rules {
		if r.Kind != rulebook.KindHandoff || r.Number < b.guard.Number {
			continue
		}
		if _, err := b.space.find(question{in: []*rulebook.Rule{b.guard, r}}); !errors.Is(err, errNone) {
			out = append(out, r)
		}
	}
	return out
}

// findOutsiders looks for requests that the guard answers, from each kind of client that
// the site tells apart. The error is errNone where the guard takes no request at all.
func (b *bypass) findOutsiders() error {
	if _, err := b.space.find(question{in: []*rulebook.Rule{b.guard}}); err != nil {
		return err
	}
	var tests []*rulebook.Test
	for _, r := range b.space.site.Rules {
		for _, t := range r.Tests {
			if t.Field.Kind == rulebook.FieldClient {
				tests = append(tests, t)
			}
		}
	}
	clients := []netip.Addr{{}}
	if len(tests) > 0 {
		clients = append(clients, engine.Clients(tests)...)
	}
	if len(clients) > maxOutsiders {
		clients = clients[:maxOutsiders]
		b.perhaps("clients of the first %d kinds were tried", maxOutsiders)
	}
	for _, client := range clients {
		like := b.space.base
		like.Client = client
		found, err := b.space.find(question{in: []*rulebook.Rule{b.guard}, template: &like, fix: func(req *request.Request) bool {
			b.tried++
			b.Outcome(req, &b.resp)
			return req.Client == client && b.resp.By == b.guard
		}})
		if err == nil {
			b.outsiders = append(b.outsiders, found)
		}
	}
	if len(b.outsiders) == 0 {
		b.perhaps("nobody was found who reaches it")
		b.outsiders = []*request.Request{&b.space.base}
	}
	return nil
}

// byItself notes what in the guard, and in the access entries above it, depends on more
// than on who asks: then another address of the same file may be free.
func (b *bypass) byItself() {
	for _, t := range b.guard.Tests {
		if onPath(t) && t.Field.Kind != rulebook.FieldPath || !onPath(t) && !t.Field.Row().Beside || t.Field.Kind == rulebook.FieldUser {
			b.perhaps("it looks at %s, which can be another for the same file", t.Field)
		}
	}
	for _, r := range b.space.site.Rules {
		if r == b.guard {
			return
		}
		if r.Kind == rulebook.KindHandoff && b.space.rewrites {
			b.perhaps("%s above it may hand on what a rewrite brings", r.Name)
		}
		if a, ok := r.Action.(*rulebook.Access); ok && a.Do != rulebook.Refuse {
			b.perhaps("%s above it lets in somebody who is not known here", r.Name)
		}
	}
}

// directRequest is the request for a path by the site's own address, of somebody who asks like
// another.
func (b *bypass) directRequest(like *request.Request, path string) *request.Request {
	req := *like
	req.Address = b.space.site.Address
	req.Address.Path = path
	return &req
}

// serves reports a request that is answered with a guarded file, while whoever makes it is
// kept from the file itself.
func (b *bypass) serves(req *request.Request) bool {
	b.tried++
	b.Outcome(req, &b.resp)
	n := b.resp.File
	if n == nil || b.shown || b.SiteFor(req.Address.Host) != b.space.site || !b.files[n] {
		return false
	}
	return slices.ContainsFunc(b.names(n), func(name string) bool { return name != req.Address.Path && b.refused(req, name) }) || b.refused(req, n.Path)
}

// refused reports a request that was answered with what stands at a path, if the guard
// keeps whoever makes it from that path.
func (b *bypass) refused(req *request.Request, path string) bool {
	if v := req.Verb(); v != "GET" && v != "HEAD" {
		return false
	}
	resp := b.Predict(req)
	direct := b.directRequest(req, path)
	b.tried++
	kept := b.Predict(direct)
	if kept.By != b.guard || kept.Cause != engine.CauseRefused && kept.Cause != engine.CauseAsked {
		return false
	}
	if resp.Status >= 400 {
		return false // the page of an error is named as such, and meant to be seen
	}
	if n := resp.File; n != nil && n.Path != path && b.files[n] && b.PredictWithout(direct, b.guard).File != n {
		return false // the guard keeps what that address is answered with, and not the file
	}
	b.shown = true
	b.note(Found, b.guard, "")
	b.add(bypassFinding(b.guard, path, direct, req, resp))
	return true
}

// names are the paths under which the tree may give a file: its own, that of its folder,
// and the folder's without its slash.
func (b *bypass) names(n *site.Node) []string {
	at := strings.TrimSuffix(n.Path, lastSegment(n.Path))
	if !b.space.isDocument(n.Name()) {
		return []string{n.Path}
	}
	return []string{n.Path, at, strings.TrimSuffix(at, "/")}
}

// find looks for a request of an outsider that a rule takes, and that fixes something.
func (b *bypass) find(r *rulebook.Rule, path pattern.Machine, fix func(*request.Request) bool) {
	who := &rulebook.Rule{Name: b.guard.Name, Number: -1 - b.guard.Number} // the guard, whatever the path
	for _, t := range b.guard.Tests {
		if t.Field.Row().Beside {
			who.Tests = append(who.Tests, t)
		}
	}
	for _, like := range b.outsiders {
		if b.shown {
			return
		}
		_, _ = b.space.find(question{in: []*rulebook.Rule{r, who}, path: path, template: like, fix: fix})
		_, _ = b.space.find(question{in: []*rulebook.Rule{r}, path: path, template: like, fix: fix})
	}
}

// byTargets follows what rewrites and fallbacks send to guarded files, and what sends to
// that.
func (b *bypass) byTargets() {
	var paths []string
	for _, n := range b.nodes {
		for _, name := range b.names(n) {
			paths = append(paths, canonical.Marked(name))
		}
	}
	b.follow(pattern.Words(paths), rulebook.KindFallback, b.serves)
	for _, n := range b.nodes[:min(len(b.nodes), maxNamed)] {
		if b.shown || b.why == "" { // nothing leads to any of them
			return
		}
		for _, r := range b.space.site.Rules {
			if r.Kind != rulebook.KindRewrite && r.Kind != rulebook.KindFallback {
				continue
			}
			for _, to := range r.Action.Templates() {
				if from, err := b.space.sentInto(r, to.Path, pattern.Words([]string{canonical.Marked(n.Path)})); err == nil && from != nil {
					b.find(r, from, b.serves)
				}
			}
		}
	}
}

// follow looks at the rewrites, and the entries of one more kind, that send into a set of
// paths, and at what sends to these.
func (b *bypass) follow(into pattern.Machine, kind rulebook.Kind, fix func(*request.Request) bool) {
	for level := 1; level <= maxRewrites; level++ {
		var more []pattern.Machine
		for _, r := range b.space.site.Rules {
			if r.Kind != rulebook.KindRewrite && r.Kind != kind {
				continue
			}
			for _, to := range r.Action.Templates() {
				from, err := b.space.sentInto(r, to.Path, into)
				if from == nil && err == nil || b.shown {
					continue
				}
				if a, ok := r.Action.(*rulebook.Rewrite); err != nil || !ok || a.Then == rulebook.Finish || a.Then == rulebook.Next && r.Number > b.guard.Number || level > 1 {
					b.perhaps("ways through %s were followed, and do not lead there", r.Name)
				}
				if err == nil && r.Kind == rulebook.KindRewrite {
					more = append(more, from)
				}
				b.find(r, from, fix)
			}
		}
		if len(more) == 0 {
			return
		}
		solid, err := pattern.Solid(pattern.Or(append(more, into)...), pattern.PathBytes, maxSolid*b.space.effort)
		if err != nil {
			b.perhaps("rewrites that lead to rewrites were followed so far")
			return
		}
		into = solid
	}
}

// toApplication looks for rewrites that lead to an application past the guard.
func (b *bypass) toApplication(app *rulebook.Rule) {
	both := []pattern.Machine{pattern.Paths(b.space.site.KeepSlashes)}
	for _, r := range []*rulebook.Rule{b.guard, app} {
		if over := b.space.of(r).over; over != nil {
			both = append(both, over)
		}
	}
	b.follow(pattern.And(both...), rulebook.KindRewrite, func(req *request.Request) bool {
		b.tried++
		b.Outcome(req, &b.resp)
		return b.resp.Cause == engine.CauseHandoff && b.resp.Path != req.Address.Path && pattern.Matches(pattern.And(both...), canonical.Marked(b.resp.Path)) && b.refused(req, b.resp.Path)
	})
}

// byPages asks for what shows a file as its own: replies, and pages of errors.
func (b *bypass) byPages() {
	for _, r := range b.space.site.Rules {
		show := r.Shows()
		if n := b.Tree(b.space.site).Find(show); show == "" || n == nil || !b.files[n] {
			continue
		}
		b.perhaps("%s shows %s", r.Name, show)
		b.find(r, nil, b.serves)
		for _, like := range b.outsiders {
			b.serves(b.directRequest(like, "/"+improbable))
		}
	}
}

// byDocuments asks for the folders of guarded files.
func (b *bypass) byDocuments() {
	under := b.space.of(b.guard).under
	for _, n := range b.nodes {
		names := b.names(n)
		if len(names) == 1 {
			continue
		}
		for _, path := range names {
			if path == "" {
				continue
			}
			if under != nil && !pattern.Matches(under, canonical.Marked(path)) {
				b.perhaps("it does not take %s", path)
			}
			for _, like := range b.outsiders {
				b.serves(b.directRequest(like, path))
			}
		}
	}
}

// bySiblings asks for stored encodings by their own names.
func (b *bypass) bySiblings() {
	for _, n := range b.nodes {
		for _, ext := range []string{".br", ".zst", ".gz"} {
			sibling := b.Tree(b.space.site).Find(n.Path + ext)
			if sibling == nil || b.files[sibling] || b.shown {
				continue
			}
			b.perhaps("%s lies beside %s", sibling.Path, n.Path)
			for _, like := range b.outsiders {
				req := b.directRequest(like, sibling.Path)
				if b.Outcome(req, &b.resp); b.resp.Status == 200 && b.resp.File == sibling && b.refused(req, n.Path) {
					break
				}
			}
		}
	}
}

// byOrigins asks for guarded files over the site's other schemes and hosts.
func (b *bypass) byOrigins() {
	for _, f := range b.fronts().of[b.space.site] {
		for _, n := range b.nodes[:min(maxElsewhere, len(b.nodes))] {
			for _, like := range b.outsiders {
				req := b.directRequest(like, n.Path)
				req.Address.Host = f.host
				req.Address.SetScheme(f.scheme)
				b.serves(req)
			}
		}
	}
}

// bySites asks for guarded files at other sites that have the same folder, or one inside
// or around it.
func (b *bypass) bySites() {
	for _, other := range b.sharing(b.space.site) {
		to, _ := mapped(b.space.site, other)
		b.perhaps("site %s has the same files", other.Name)
		for _, f := range b.fronts().of[other] {
			for _, n := range b.nodes[:min(maxElsewhere, len(b.nodes))] {
				path, ok := to(n.Path)
				if !ok || b.shown {
					continue
				}
				for _, like := range b.outsiders {
					req := b.directRequest(like, path)
					req.Address.Host = f.host
					req.Address.SetScheme(f.scheme)
					b.tried++
					if b.Outcome(req, &b.resp); b.resp.Status == 200 && b.resp.File != nil && b.resp.File.Path == path && b.refused(req, n.Path) {
						break
					}
				}
			}
		}
	}
}

// mapped gives, for two sites that share files, how a path of the one is one of the other.
func mapped(a, b *rulebook.Site) (to func(path string) (string, bool), shared bool) {
	if a.Files == "" || b.Files == "" {
		return func(path string) (string, bool) { return path, true }, a.Inventory != "" && a.Inventory == b.Inventory
	}
	from, into := filepath.ToSlash(filepath.Clean(a.Files)), filepath.ToSlash(filepath.Clean(b.Files))
	inside := func(folder, of string) (string, bool) {
		if folder == of || of == "." {
			return "/" + strings.TrimPrefix(strings.TrimPrefix(folder, of), "/"), !strings.HasPrefix(folder, "..")
		}
		rest, ok := strings.CutPrefix(folder, strings.TrimSuffix(of, "/")+"/")
		return "/" + rest, ok
	}
	if at, ok := inside(from, into); ok {
		return func(path string) (string, bool) { return strings.TrimSuffix(at, "/") + path, true }, true
	}
	at, ok := inside(into, from)
	return func(path string) (string, bool) { return strings.CutPrefix(path, strings.TrimSuffix(at, "/")) }, ok
}

// passing says why a way may be overlooked that leads past an entry by what it takes itself;
// "" where it decides all of that.
func (sp *space) passing(r *rulebook.Rule) string {
	if a, ok := r.Action.(rulebook.Reading); ok && a.Ends() {
		return ""
	}
	if a, ok := r.Action.(*rulebook.Access); ok && a.Do != rulebook.Admit && !slices.ContainsFunc(sp.site.Rules, func(r *rulebook.Rule) bool {
		a, ok := r.Action.(*rulebook.Access)
		return ok && a.Do == rulebook.Admit
	}) {
		return ""
	}
	return fmt.Sprintf("%s does not decide all that it takes", r.Name)
}

func lastSegment(path string) string {
	for i := len(path) - 1; i >= 0; i-- {
		if path[i] == '/' {
			return path[i+1:]
		}
	}
	return path
}

func bypassFinding(guard *rulebook.Rule, path string, direct, req *request.Request, resp *engine.Response) Finding {
	f := Finding{Rules: []*rulebook.Rule{guard}, Request: req, Other: direct}
	how := ", which the tree serves"
	switch {
	case resp.By != nil && resp.Path != req.Address.Path:
		f.Rules = append(f.Rules, resp.By)
		how = fmt.Sprintf(", through a rewrite to %s, by %s (%s)", resp.Path, resp.By.Name, resp.By.Place)
	case resp.By != nil:
		f.Rules = append(f.Rules, resp.By)
		how = fmt.Sprintf(", by %s (%s)", resp.By.Name, resp.By.Place)
	case resp.Path != req.Address.Path:
		how = ", through a rewrite to " + resp.Path
	}
	asks := req.Address.Target()
	if req.Address.Origin() != direct.Address.Origin() {
		asks, how = req.Address.String(), ""
	}
	f.Place, f.Width = clause(guard, "in", "on", "when", "unless")
	f.Message = fmt.Sprintf("%s is guarded, but whoever asks for %s gets it anyway%s.", path, asks, how)
	f.Advice = "guard that address, too, or put the guard above what leads there"
	return f
}
