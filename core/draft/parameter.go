package draft

// Query values that have become parts of paths, as where pages were once made by a program.

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"kibitz/core/request"
	"kibitz/core/rulebook"
)

// A parameter is a template of the one or two values of a query that count.
type parameter struct {
	path   string
	names  [2]string // in the order of their values in the new address; the second may be ""
	text   [3]string // of the new address, around the values
	status int
	lower  bool
}

// parametersFor gives the templates that a redirect is an instance of.
func parametersFor(f *fact) (all []parameter) {
	values := parametersOf(f.query)
	names := slices.Sorted(maps.Keys(values))
	for _, lower := range []bool{false, true} {
		at := func(name string, from int) (start, end int) { // where a value stands in the new address
			v := values[name]
			if lower {
				v = strings.ToLower(v)
			}
			if v == "" {
				return -1, 0
			}
			start = place(f.to, v, from)
			return start, start + len(v)
		}
		for _, name := range names {
			start, end := at(name, 0)
			if start < 0 || lower && strings.ToLower(values[name]) == values[name] {
				continue
			}
			t := parameter{path: f.path, names: [2]string{name}, text: [3]string{f.to[:start], f.to[end:]}, status: f.Status, lower: lower}
			all = append(all, t)
			for _, second := range names {
				if from, to := at(second, end); second != name && from > end && len(all) < mostOfOne {
					t.names[1], t.text[1], t.text[2] = second, f.to[end:from], f.to[to:]
					all = append(all, t)
				}
			}
		}
	}
	return all
}

// parameters finds entries like
//
//	redirect old-boat on /boat.php when query.name ~(?<name>[a-z]+) to /boats/{name}.html
func (d *drafter) parameters() {
	support := map[parameter][]*fact{}
	for _, f := range d.facts {
		if f.done || !f.redirects() || !plainPath(f.path) || f.toQuery != "" {
			continue
		}
		for _, t := range parametersFor(f) {
			support[t] = append(support[t], f)
		}
	}
	for _, t := range slices.SortedFunc(maps.Keys(support), func(a, b parameter) int {
		return cmp.Or(cmp.Compare(len(support[b]), len(support[a])), strings.Compare(fmt.Sprint(a), fmt.Sprint(b)))
	}) {
		open := slices.DeleteFunc(slices.Clone(support[t]), func(f *fact) bool { return f.done })
		tests, to := "", rulebook.Literal(t.text[0])
		varies := true
		var captures []string
		for i, name := range t.names {
			if name == "" {
				continue
			}
			seen := map[string]bool{}
			for _, f := range open {
				seen[parametersOf(f.query)[name]] = true
			}
			varies = varies && len(seen) > 1 // else another template says that
			capture := captureOf(name)
			for rulebook.Meant(capture) || slices.Contains(captures, capture) {
				capture += "2"
			}
			captures = append(captures, capture)
			tests += fmt.Sprintf(" when query.%s ~(?<%s>%s)", name, capture, expressionOf(seen))
			if t.lower {
				capture += "|lower"
			}
			to += "{" + capture + "}" + rulebook.Literal(t.text[i+1])
		}
		if float64(len(open)) <= entryCost+valueCost*float64(len(captures)) || !varies {
			continue
		}
		d.add(rankMoved, "redirect", nameOf(t.path), fmt.Sprintf("on %s%s to %s as %s query drop", t.path, tests, to, as(t.status)), "%s", answers(len(open)))
		d.byQuery[t.path] = true
		for _, f := range open {
			f.done = true
		}
	}
}

// expressionOf gives an expression for values like these.
func expressionOf(values map[string]bool) string {
	all := func(letters string) bool {
		for v := range values {
			if strings.Trim(v, letters) != "" {
				return false
			}
		}
		return true
	}
	switch {
	case all("0123456789"):
		return `\d+`
	case all("abcdefghijklmnopqrstuvwxyz0123456789-"):
		return "[a-z0-9-]+"
	}
	return "[^&/]+"
}

// captureOf names the capture of a parameter.
func captureOf(parameter string) string {
	name := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
			return r
		}
		return -1
	}, parameter)
	if name == "" || name[0] <= '9' {
		name = "value"
	}
	return name
}

// mostStripped is how many parameters and values are looked at.
const mostStripped = 50

// stripped finds parameters that are taken away, of any address, or of those in a folder or
// with an extension, by entries like
//
//	redirect without-print when query.print 1 to {path} as temporary query drop
func (d *drafter) stripped() {
	type pair struct {
		name, value string // no value: any
		status      int
	}
	drops := func(f *fact, status int) bool {
		return f.redirects() && f.back == f.path && f.to == f.path && f.toQuery == "" && f.Status == status
	}
	support, named := map[pair]int{}, map[string][]*fact{}
	for _, f := range d.facts {
		alone := !f.done && drops(f, f.Status) && !strings.Contains(f.query, "&") && !strings.HasPrefix(f.query, "kibitz=")
		for name, value := range parametersOf(f.query) {
			named[name] = append(named[name], f)
			if !alone {
				continue
			}
			support[pair{name, "", f.Status}]++
			if value != "" {
				support[pair{name, value, f.Status}]++
			}
		}
	}
	pairs := slices.SortedFunc(maps.Keys(support), func(a, b pair) int { // any value comes before one
		return cmp.Or(support[b]-support[a], strings.Compare(a.name, b.name), strings.Compare(a.value, b.value), a.status-b.status)
	})
	for _, p := range pairs[:min(len(pairs), mostStripped)] {
		if support[p] < leastAnswers {
			break
		}
		var with []*Answer
		open, values, told := map[*Answer]*fact{}, map[string]bool{}, map[group]int{}
		for _, f := range named[p.name] {
			value := parametersOf(f.query)[p.name]
			switch {
			case p.value != "" && value != p.value:
				continue
			case drops(f, p.status):
				if values[value] = true; !f.done {
					with, open[f.Answer] = append(with, f.Answer), f
				}
			case f.Status >= 300 && f.Status != 404: // an entry above says it
				continue
			}
			for _, g := range groupsOf(f.Answer) {
				if g.kind == everyAnswer || g.kind == inFolder || g.kind == extension {
					told[g]++
				}
			}
		}
		if p.value == "" && len(values) < 2 {
			continue // it is that value that counts
		}
		test := "present"
		if p.value != "" {
			test = rulebook.Quote(p.value)
		}
		for _, set := range setsOf(test, with, told) {
			d.add(rankMoved, "redirect", "without-"+strings.TrimPrefix(nameOf("/"+p.name), "old-"), fmt.Sprintf("%swhen query.%s %s to {path} as %s query drop", set.selector(), p.name, test, as(p.status)), "%s", answers(set.n))
			for _, a := range with {
				open[a].done = open[a].done || slices.ContainsFunc(groupsOf(a), func(g group) bool { return slices.Contains(set.groups, g) })
			}
		}
	}
}

// parametersOf gives the parameters of a query that a rulebook can name, decoded.
func parametersOf(query string) map[string]string {
	values := map[string]string{}
	for _, pair := range strings.Split(query, "&") {
		name, _, _ := strings.Cut(pair, "=")
		if name == "" || strings.Trim(name, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_.") != "" {
			continue
		}
		if v, ok := request.Parameter(query, name); ok {
			values[name] = v
		}
	}
	return values
}
