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

var guardBypassed = Kind{
	Name: "guard-bypassed", Severity: Error,
	Summary: "a file that an access entry guards is served under another address",
	Before:  "rewrite short on /rota         to /crew/rota.html  then finish\naccess  crew  in /crew/ unless client {crew-net} refuse",
	After:   "access  crew  in /crew/ /rota unless client {crew-net} refuse\nrewrite short on /rota         to /crew/rota.html  then finish",
	find:    findBypasses,
}

// maxGuarded is how many files are looked at for one guard.
const maxGuarded = 20_000

// maxRewrites is how many rewrites one after the other are followed to a file.
const maxRewrites = 3

// maxOtherFronts is how many of them are asked for by other schemes and hosts.
const maxOtherFronts = 20

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
	var resp engine.Response // of what is only looked at
	ask := func(path string) *request.Request {
		req := *outsider
		req.Address.Path = path
		c.tried++
		c.Outcome(&req, &resp)
		return &req
	}
	files := map[*site.Node]guarded{}
	var nodes []*site.Node // the same, in their order
	var paths []string
	looked := 0
	c.Tree(sp.site).Each(func(n *site.Node) {
		if n.Folder || looked > maxGuarded {
			return
		}
		if over := sp.of(guard).over; over != nil && !pattern.Matches(over, canonical.Marked(n.Path)) {
			return
		}
		looked++
		if req := ask(n.Path); resp.By == guard {
			files[n] = guarded{n, req}
			nodes = append(nodes, n)
			paths = append(paths, canonical.Marked(n.Path))
		}
	})
	if len(files) == 0 {
		c.note(Proved, guard, "")
		return
	}
	shown := false
	// serves reports a request that is answered with a guarded file.
	serves := func(req *request.Request) bool {
		c.tried++
		c.Outcome(req, &resp)
		if resp.Status != 200 || resp.File == nil {
			return false
		}
		g, ok := files[resp.File]
		if !ok || shown {
			return false
		}
		shown = true
		c.note(Found, guard, "")
		c.add(bypassFinding(guard, g, req, c.Predict(req)))
		return true
	}
	state, why := Proved, ""
	if looked > maxGuarded {
		state, why = Tried, fmt.Sprintf("the first %d files were looked at", maxGuarded)
	}
	// Rewrites can lead to rewrites: what is sent to a guarded file is next time
	// itself what is sent to.
	into := pattern.Words(paths)
	for level := 1; level <= maxRewrites; level++ {
		var more []pattern.Machine
		for _, r := range sp.site.Rules {
			var targets []*rulebook.Template
			switch a := r.Action.(type) {
			case *rulebook.Rewrite:
				targets = []*rulebook.Template{a.To}
			case *rulebook.Fallback:
				targets = a.To
			}
			for _, to := range targets {
				from, err := sp.sentInto(r, to.Path, into)
				if from == nil && err == nil {
					continue
				}
				if err == nil && r.Kind == rulebook.KindRewrite {
					more = append(more, from)
				}
				_, err = sp.find(question{in: []*rulebook.Rule{r}, path: from, like: outsider, fix: serves})
				if err != nil && !errors.Is(err, errNone) && state == Proved {
					state, why = Tried, "ways through "+r.Name+" were followed, and do not lead there"
				}
			}
		}
		if len(more) == 0 {
			break
		}
		if solid, err := pattern.Solid(pattern.Or(append(more, into)...), pattern.PathBytes, maxSolid*sp.effort); err == nil && level < maxRewrites {
			into = solid
		} else if state == Proved {
			state, why = Tried, "rewrites that lead to rewrites were followed so far"
			break
		}
	}
	for _, r := range sp.site.Rules {
		if reply, ok := r.Action.(*rulebook.Reply); ok && reply.Body.Show != "" {
			_, _ = sp.find(question{in: []*rulebook.Rule{r}, like: outsider, fix: serves})
		}
	}
	asked := ""
	for _, n := range nodes {
		at := n.Path[:len(n.Path)-len(lastSegment(n.Path))]
		if at == asked { // with the file before
			continue
		}
		asked = at
		for _, path := range []string{at, strings.TrimSuffix(at, "/")} {
			if path != "" {
				serves(ask(path))
			}
		}
	}
	for _, n := range nodes { // stored encodings, by their own names
		for _, ext := range []string{".br", ".zst", ".gz"} {
			sibling := c.Tree(sp.site).Find(n.Path + ext)
			if sibling == nil || shown {
				continue
			}
			if req := ask(sibling.Path); resp.Status == 200 && resp.File == sibling {
				shown = true
				c.note(Found, guard, "")
				c.add(bypassFinding(guard, files[n], req, c.Predict(req)))
			}
		}
	}
	c.otherFronts(sp, outsider, nodes, serves)
	if !shown {
		c.note(state, guard, why)
	}
}

// otherFronts asks for guarded files over the site's other schemes and hosts,
// and at other sites that serve the same folder.
func (c *checker) otherFronts(sp *space, outsider *request.Request, files []*site.Node, serves func(*request.Request) bool) {
	for _, f := range c.graph().fronts {
		if f.space != sp {
			continue
		}
		for _, n := range files[:min(maxOtherFronts, len(files))] {
			req := *outsider
			req.Address.Path = n.Path
			req.Address.Host = f.host
			req.Address.SetScheme(f.scheme)
			serves(&req)
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
