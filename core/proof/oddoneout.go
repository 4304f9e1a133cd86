package proof

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/pattern"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

func init() {
	register(35, Kind{
		Name: "odd-one-out", Severity: Note,
		Summary: "an entry refuses whom the others let in, or everybody where all others make an exception: a slip of one word",
		Before:  oddExample("when"),
		After:   oddExample("unless"),
		find:    findOdd,
	})
}

// oddExample is six guards; the last says that it refuses a client when, or unless, it is
// one of the crew.
func oddExample(word string) string {
	var b strings.Builder
	for _, name := range []string{"rota", "wages", "drills", "repairs", "reports"} {
		fmt.Fprintf(&b, "access %s in /crew/%s/ unless client {crew-net} refuse\n", name, name)
	}
	fmt.Fprintf(&b, "access keys in /crew/keys/ %s client {crew-net} refuse", word)
	return b.String()
}

// findOdd compares the entries of each site that refuse clients.
func findOdd(c *checker) {
	for _, s := range c.Book.Sites {
		var free []*rulebook.Rule // that refuse everybody
		var trusts []placedTest   // by `unless client`, or with `admit`
		var refuses []placedTest  // by `when client`
		for _, r := range s.Rules {
			a, ok := r.Action.(*rulebook.Access)
			if !ok || len(r.In) == 0 && len(r.On) == 0 {
				continue
			}
			c.note(Tried, r, "")
			if a.Do == rulebook.Refuse && len(r.Tests) == 0 && len(r.In) > 0 {
				free = append(free, r)
			}
			for _, t := range r.Tests {
				switch {
				case t.Field.Kind != rulebook.FieldClient:
				case a.Do == rulebook.Admit && !t.Unless || a.Do == rulebook.Refuse && t.Unless:
					trusts = append(trusts, placedTest{t, r})
				case a.Do == rulebook.Refuse:
					refuses = append(refuses, placedTest{t, r})
				}
			}
		}
		for _, t := range refuses {
			if i := slices.IndexFunc(trusts, func(o placedTest) bool { return o.rule != t.rule && inside(t.Test, o.Test) }); i >= 0 {
				c.tellOdd(s, t.rule, t.Test, trusts[i].rule)
			}
		}
		if len(trusts) > 0 && len(free) == 1 && c.hasFiles(s, free[0]) {
			c.tellOdd(s, free[0], nil, nil)
		}
		c.oddRedirects(s)
	}
	c.conclusions("whom one lets in, no other refuses; redirects that lead to one folder do the same")
}

// hasFiles reports whether the tree has something that a rule takes.
func (c *checker) hasFiles(s *rulebook.Site, r *rulebook.Rule) bool {
	over, has := c.space(s).of(r).over, false
	c.Tree(s).Each(func(n *site.Node) {
		has = has || !n.Folder && !n.Hidden && over != nil && pattern.Matches(over, canonical.Marked(n.Path))
	})
	return has
}

// oddRedirects compares redirects from paths of one folder to paths of one folder: where all
// but one name a single address, or end in a slash, that one is odd.
func (c *checker) oddRedirects(s *rulebook.Site) {
	groups := map[string][]*rulebook.Rule{}
	for _, r := range s.Rules {
		a, ok := r.Action.(*rulebook.Redirect)
		if !ok || len(r.On) == 0 {
			continue
		}
		to, whole := literalStart(a.To.Path)
		if !whole {
			continue // it makes the target of what it takes
		}
		if a.To.HasQuery || a.To.HasFragment || !a.To.IsPath() {
			continue
		}
		from := r.On[0].Prefix()
		key := from[:strings.LastIndexByte(from, '/')+1] + " " + folderOf(to)
		groups[key] = append(groups[key], r)
		c.note(Tried, r, "")
	}
	for _, key := range slices.Sorted(maps.Keys(groups)) {
		alike := groups[key]
		odd := func(is func(*rulebook.Rule) bool) *rulebook.Rule {
			var found []*rulebook.Rule
			for _, r := range alike {
				if is(r) {
					found = append(found, r)
				}
			}
			if len(found) != 1 || len(alike) <= manyAlike {
				return nil
			}
			return found[0]
		}
		f := Finding{}
		if r := odd(func(r *rulebook.Rule) bool { return len(r.On[0].Names()) > 0 }); r != nil {
			f.Rules = []*rulebook.Rule{r}
			f.Place, f.Width = clause(r, "on")
			f.Message = fmt.Sprintf("%d entries like this one name a single address each, and this one takes many, and sends them all to one.", len(alike)-1)
			f.Advice = "name the one address, or use what the pattern takes in the target"
		} else if r := odd(func(r *rulebook.Rule) bool { return !strings.HasSuffix(r.Action.(*rulebook.Redirect).To.Text, "/") }); r != nil && !strings.Contains(lastSegment(r.Action.(*rulebook.Redirect).To.Text), ".") {
			f.Rules = []*rulebook.Rule{r}
			f.Place, f.Width = clause(r, "to")
			f.Message = fmt.Sprintf("%d entries like this one lead to an address that ends in a slash, and this one's has none.", len(alike)-1)
			f.Advice = "write   to " + r.Action.(*rulebook.Redirect).To.Text + "/"
			f.Fixes = []Fix{setTarget(r, r.Action.(*rulebook.Redirect).To.Text+"/")}
		} else {
			continue
		}
		f.Request = c.space(s).typicalRequest(f.Rules[0])
		c.tried++
		c.add(f)
	}
}

// manyAlike is how many redirects must be alike for one that differs to look odd.
const manyAlike = 4

// folderOf is the folder of a path: of a folder, that which holds it.
func folderOf(path string) string {
	path = strings.TrimSuffix(path, "/")
	return path[:strings.LastIndexByte(path, '/')+1]
}

// A placedTest is one of a rule.
type placedTest struct {
	*rulebook.Test
	rule *rulebook.Rule
}

// inside reports whether a network that a test names lies inside one that another names.
func inside(t, other *rulebook.Test) bool {
	for _, v := range t.Values {
		for _, w := range other.Values {
			if v.Kind == rulebook.ValueNetwork && w.Kind == rulebook.ValueNetwork && w.Network.Bits() <= v.Network.Bits() && w.Network.Contains(v.Network.Addr()) {
				return true
			}
		}
	}
	return false
}

// tellOdd reports an entry that refuses whom another trusts, or everybody where all others
// make an exception.
func (c *checker) tellOdd(s *rulebook.Site, r *rulebook.Rule, t *rulebook.Test, other *rulebook.Rule) {
	c.tried++
	f := Finding{Rules: []*rulebook.Rule{r}, Request: c.space(s).typicalRequest(r)}
	if t == nil {
		f.Place, f.Width = clause(r, "in", "refuse")
		f.Message = "This entry refuses everybody, where the others that guard a folder let a network in."
		f.Advice = "say who is let in:   unless client {office}   or accept it, if nobody is meant"
		c.add(f)
		return
	}
	f.Rules = append(f.Rules, other)
	f.Place, f.Width = t.Place, t.Width
	f.Message = fmt.Sprintf("This entry refuses just the clients that %s (%s) lets in.", other.Name, other.Place)
	f.Advice = "write   unless   in the place of   when   or accept it, if it is meant"
	f.Fixes = []Fix{writeAt(t.Place, len("when"), "unless")}
	c.add(f)
}
