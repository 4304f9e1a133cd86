package proof

import (
	"errors"
	"fmt"
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
		find:    findBypasses,
	})
}

// maxGuarded is how many files are looked at for one guard.
const maxGuarded = 20_000

// maxRewrites is how many rewrites one after the other are followed to a file.
const maxRewrites = 3

// maxOtherFronts is how many of them are asked for by other schemes and hosts.
const maxOtherOrigins = 20

// findBypasses takes each guard, a client that it keeps out, and the files that
// this client cannot have under their plain addresses; then it looks for every
// other way to them: rewrites, fallbacks, documents, stored siblings, other
// schemes and hosts.
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
			c.bypasses(c.space(s), r)
		}
	}
	c.conclusions("for the tree as it is: no rewrite, fallback, document or stored sibling leads to a guarded file")
}

// A guarded file cannot be had under its plain address.
type guarded struct {
	*site.Node
	plain *request.Request
}

// A bypass is the search for ways around one guard.
type bypass struct {
	*checker
	space    *space
	guard    *rulebook.Rule
	outsider *request.Request // of one whom the guard keeps out
	files    map[*site.Node]guarded
	nodes    []*site.Node // the same, in their order
	looked   int          // at so many files
	shown    bool         // a way is found and told
	resp     engine.Response
}

func (c *checker) bypasses(sp *space, guard *rulebook.Rule) {
	outsider, err := sp.find(question{in: []*rulebook.Rule{guard}})
	if err != nil {
		if !errors.Is(err, errNone) {
			c.note(Open, guard, err.Error())
		}
		return
	}
	if v := outsider.Verb(); v != "GET" && v != "HEAD" {
		c.note(Proved, guard, "") // it guards what no file answers
		return
	}
	b := &bypass{checker: c, space: sp, guard: guard, outsider: outsider, files: map[*site.Node]guarded{}}
	b.findFiles()
	if len(b.files) == 0 {
		c.note(Proved, guard, "")
		return
	}
	state, why := b.byTargets()
	b.byReplies()
	b.byDocuments()
	b.bySiblings()
	b.otherOrigins()
	if !b.shown {
		c.note(state, guard, why)
	}
}

// ask asks for a path as the outsider; the answer is in resp.
func (b *bypass) ask(path string) *request.Request {
	req := *b.outsider
	req.Address.Path = path
	b.tried++
	b.Outcome(&req, &b.resp)
	return &req
}

// findFiles looks for the files that the outsider cannot have by their own addresses.
func (b *bypass) findFiles() {
	over := b.space.of(b.guard).over
	b.Tree(b.space.site).Each(func(n *site.Node) {
		if n.Folder || b.looked > maxGuarded || over != nil && !pattern.Matches(over, canonical.Marked(n.Path)) {
			return
		}
		b.looked++
		if req := b.ask(n.Path); b.resp.By == b.guard {
			b.files[n] = guarded{n, req}
			b.nodes = append(b.nodes, n)
		}
	})
}

// serves reports a request that is answered with a guarded file.
func (b *bypass) serves(req *request.Request) bool {
	b.tried++
	b.Outcome(req, &b.resp)
	if b.resp.Status != 200 || b.resp.File == nil {
		return false
	}
	g, ok := b.files[b.resp.File]
	if !ok || b.shown {
		return false
	}
	b.tell(g, req)
	return true
}

func (b *bypass) tell(g guarded, req *request.Request) {
	b.shown = true
	b.note(Found, b.guard, "")
	b.add(bypassFinding(b.guard, g, req, b.Predict(req)))
}

// byTargets follows what rewrites and fallbacks send to guarded files, and what sends to
// that. It gives what is known if nothing is found.
func (b *bypass) byTargets() (state, why string) {
	state = Proved
	if b.looked > maxGuarded {
		state, why = Tried, fmt.Sprintf("the first %d files were looked at", maxGuarded)
	}
	doubt := func(text string) {
		if state == Proved {
			state, why = Tried, text
		}
	}
	var paths []string
	for _, n := range b.nodes {
		paths = append(paths, canonical.Marked(n.Path))
	}
	into := pattern.Words(paths)
	for level := 1; level <= maxRewrites; level++ {
		var more []pattern.Machine
		for _, r := range b.space.site.Rules {
			if r.Kind != rulebook.KindRewrite && r.Kind != rulebook.KindFallback {
				continue
			}
			for _, to := range r.Action.Templates() {
				from, err := b.space.sentInto(r, to.Path, into)
				if from == nil && err == nil {
					continue
				}
				if err == nil && r.Kind == rulebook.KindRewrite {
					more = append(more, from)
				}
				_, err = b.space.find(question{in: []*rulebook.Rule{r}, path: from, like: b.outsider, fix: b.serves})
				if err != nil && !errors.Is(err, errNone) {
					doubt("ways through " + r.Name + " were followed, and do not lead there")
				}
			}
		}
		if len(more) == 0 {
			break
		}
		if solid, err := pattern.Solid(pattern.Or(append(more, into)...), pattern.PathBytes, maxSolid*b.space.effort); err == nil && level < maxRewrites {
			into = solid
		} else if state == Proved {
			doubt("rewrites that lead to rewrites were followed so far")
			break
		}
	}
	return state, why
}

// byReplies asks for what shows a file as its own.
func (b *bypass) byReplies() {
	for _, r := range b.space.site.Rules {
		if reply, ok := r.Action.(*rulebook.Reply); ok && reply.Body.Show != "" {
			_, _ = b.space.find(question{in: []*rulebook.Rule{r}, like: b.outsider, fix: b.serves})
		}
	}
}

// byDocuments asks for the folders of guarded files.
func (b *bypass) byDocuments() {
	asked := ""
	for _, n := range b.nodes {
		at := n.Path[:len(n.Path)-len(lastSegment(n.Path))]
		if at == asked { // with the file before
			continue
		}
		asked = at
		for _, path := range []string{at, strings.TrimSuffix(at, "/")} {
			if path != "" {
				b.serves(b.ask(path))
			}
		}
	}
}

// bySiblings asks for stored encodings by their own names.
func (b *bypass) bySiblings() {
	for _, n := range b.nodes {
		for _, ext := range []string{".br", ".zst", ".gz"} {
			sibling := b.Tree(b.space.site).Find(n.Path + ext)
			if sibling == nil || b.shown {
				continue
			}
			if req := b.ask(sibling.Path); b.resp.Status == 200 && b.resp.File == sibling {
				b.tell(b.files[n], req)
			}
		}
	}
}

// otherFronts asks for guarded files over the site's other schemes and hosts,
// and at other sites that serve the same folder.
func (b *bypass) otherOrigins() {
	for _, f := range b.graph().origins {
		if f.space != b.space {
			continue
		}
		for _, n := range b.nodes[:min(maxOtherOrigins, len(b.nodes))] {
			req := *b.outsider
			req.Address.Path = n.Path
			req.Address.Host = f.host
			req.Address.SetScheme(f.scheme)
			b.serves(&req)
		}
	}
}

func lastSegment(path string) string {
	for i := len(path) - 1; i >= 0; i-- {
		if path[i] == '/' {
			return path[i+1:]
		}
	}
	return path
}

func bypassFinding(guard *rulebook.Rule, g guarded, req *request.Request, resp *engine.Response) Finding {
	f := Finding{Rules: []*rulebook.Rule{guard}, Request: req, Other: g.plain}
	how := "which the tree serves"
	if resp.By != nil && !slices.Contains(f.Rules, resp.By) {
		f.Rules = append(f.Rules, resp.By)
		how = fmt.Sprintf("by %s (%s)", resp.By.Name, resp.By.Place)
	} else if resp.Path != req.Address.Path {
		how = "through a rewrite to " + resp.Path
	}
	f.Place, f.Width = clause(guard, "in", "on", "when", "unless")
	f.Message = fmt.Sprintf("%s is guarded, but whoever asks for %s gets it all the same, %s.", g.Path, req.Address.Target(), how)
	if req.Address.Origin() != g.plain.Address.Origin() {
		f.Message = fmt.Sprintf("%s is guarded, but whoever asks for %s gets it all the same.", g.Path, req.Address)
	}
	f.Advice = "guard that address, too, or put the guard above what leads there"
	return f
}
