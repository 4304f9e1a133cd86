package draft

// What is worth asking: requests whose answers would show that a pattern is too wide or too
// narrow.

import (
	"path"
	"strconv"
	"strings"

	"kibitz/core/request"
	"kibitz/core/site"
)

// mostQuestions bounds how many are asked.
const mostQuestions = 300

// improbable is a name that no site has.
const improbable = "kibitz-asks-for-nothing"

// elsewhere is how much more than another an answer counts for a name in a folder that does
// not exist: nothing else is asked there.
const elsewhere = 5

// asks gathers questions: paths of the main address, with their query.
type asks struct {
	answered map[string]bool // what has been answered
	list     []string
}

func (a *asks) add(target string) {
	if !a.answered[target] && len(a.list) < mostQuestions {
		a.answered[target] = true
		a.list = append(a.list, target)
	}
}

// questions gives what would decide more: of each pattern another value, the address with a
// query, in other letters, and of each folder its slash and a name below it; of each single
// move those that there would be beside it, were it one of a pattern; and where redirects lead.
func (d *drafter) questions() []string {
	a := &asks{answered: map[string]bool{}}
	for _, f := range d.facts {
		a.answered[request.Address{Path: f.path, Query: f.query, HasQuery: f.hasQuery}.Target()] = true
	}
	for _, c := range d.chosen {
		at := c.agrees[0].path
		for _, other := range c.others(at) {
			a.add(other)
		}
		a.add(at + "?kibitz=1")
		if upper := strings.ToUpper(at); upper != at {
			a.add(upper)
		} else {
			a.add(strings.ToLower(at))
		}
	}
	for _, f := range d.rows {
		for _, beside := range d.beside(f) {
			a.add(beside)
		}
	}
	for _, f := range d.facts { // and whether there is something where a redirect leads
		if f.redirects() && f.back != "" {
			a.add(f.back)
		}
	}
	for _, folder := range d.whole {
		a.add(strings.TrimSuffix(folder, "/"))
		a.add(folder)
		a.add(folder + improbable)
	}
	return a.list
}

// mostBeside is how many addresses are asked for beside a single move.
const mostBeside = 3

// beside gives the old addresses that the files beside a new one would have, if they were
// moved as it was: where /boat.php?name=avocet leads to /boats/avocet.html, and there is a
// /boats/tern.html, that is /boat.php?name=tern.
func (d *drafter) beside(f *fact) (out []string) {
	at := strings.TrimSuffix(f.back, "/")
	if at == "" || d.Tree == nil {
		return nil
	}
	node, folder := d.Tree.Find(at), d.Tree.Find(strings.TrimSuffix(path.Dir(at), "/"))
	if node == nil || folder == nil {
		return nil
	}
	old := request.Address{Path: f.path, Query: f.query, HasQuery: f.hasQuery}.Target()
	word := stem(node)
	from := strings.Index(strings.ToLower(old), strings.ToLower(word))
	if len(word) < 2 || from < 0 || len(strings.ToLower(old)) != len(old) {
		return nil
	}
	to := from + len(word)
	for _, n := range folder.Children {
		if n == node || n.Folder != node.Folder || n.Hidden || path.Ext(n.Path) != path.Ext(node.Path) || stem(n) == "index" {
			continue
		}
		if out = append(out, old[:from]+inCaseOf(old[from:to], stem(n))+old[to:]); len(out) == mostBeside {
			break
		}
	}
	return out
}

// stem is the name of a file or folder in its one spelling, without what stands behind a dot.
func stem(n *site.Node) string {
	name := path.Base(n.Path)
	return strings.TrimSuffix(name, path.Ext(name))
}

// inCaseOf writes a word in capitals, or with one, where another is.
func inCaseOf(like, word string) string {
	switch {
	case like == strings.ToLower(like) || word == "":
		return word
	case like == strings.ToUpper(like):
		return strings.ToUpper(word)
	}
	return strings.ToUpper(word[:1]) + word[1:]
}

// others gives paths that a pattern takes, each with another value than a path has.
func (c *compiled) others(at string) (out []string) {
	m := c.matches.FindStringSubmatchIndex(at)
	if m == nil {
		return nil
	}
	for i := 1; i < len(m)/2; i++ {
		from, to := m[2*i], m[2*i+1]
		value := at[from:to]
		next := value + "x"
		if n, err := strconv.Atoi(value); err == nil {
			next = strconv.Itoa(n + 1)
			if n > 9 {
				out = append(out, at[:from]+strconv.Itoa(n)+"0"+at[to:])
			}
		}
		out = append(out, at[:from]+next+at[to:])
		if folder, name := path.Split(value); folder != "" { // in another folder, too?
			out = append(out, at[:from]+strings.Repeat("/", max(0, 1-from))+improbable+"/"+name+at[to:])
		}
	}
	return out
}
