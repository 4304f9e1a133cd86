package draft

// Query values that have become parts of paths, as where pages were once made by a program.

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"kibitz/core/request"
	"kibitz/core/rulebook"
)

// A parameter is a template of the one value of a query that counts.
type parameter struct {
	path, name string
	before     string // of the new address, around the value
	after      string
	status     int
	lower      bool
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
		for name, value := range parametersOf(f.query) {
			for _, lower := range []bool{false, true} {
				v := value
				if lower {
					v = strings.ToLower(value)
				}
				if at := place(f.to, v, 0); at >= 0 && v != "" && (!lower || v != value) {
					t := parameter{f.path, name, f.to[:at], f.to[at+len(v):], f.Status, lower}
					support[t] = append(support[t], f)
				}
			}
		}
	}
	for _, t := range slices.SortedFunc(maps.Keys(support), func(a, b parameter) int {
		return cmp.Or(cmp.Compare(len(support[b]), len(support[a])), strings.Compare(fmt.Sprint(a), fmt.Sprint(b)))
	}) {
		open := slices.DeleteFunc(slices.Clone(support[t]), func(f *fact) bool { return f.done })
		values := map[string]bool{}
		letters, number := true, true
		for _, f := range open {
			v := parametersOf(f.query)[t.name]
			values[v] = true
			letters = letters && strings.Trim(v, "abcdefghijklmnopqrstuvwxyz0123456789-") == ""
			number = number && strings.Trim(v, "0123456789") == ""
		}
		if float64(len(open)) <= entryCost+valueCost || len(values) < 2 {
			continue
		}
		expression := "[^&/]+"
		switch {
		case number:
			expression = `\d+`
		case letters:
			expression = "[a-z0-9-]+"
		}
		name := strings.Map(func(r rune) rune {
			if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
				return r
			}
			return -1
		}, t.name)
		if name == "" || name[0] <= '9' {
			name = "value"
		}
		filter := ""
		if t.lower {
			filter = "|lower"
		}
		d.add(rankMoved, "redirect", nameOf(t.path), fmt.Sprintf("on %s when query.%s ~(?<%s>%s) to %s{%s%s}%s as %s query drop", t.path, t.name, name, expression, rulebook.Literal(t.before), name, filter, rulebook.Literal(t.after), as(t.status)), "%s", answers(len(open)))
		d.byQuery[t.path] = true
		for _, f := range open {
			f.done = true
		}
	}
}

const (
	leastStripped = 3  // addresses that a parameter must be taken away from, until it is of others, too
	mostStripped  = 50 // parameters and values that are looked at
)

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
		for name := range parametersOf(f.query) {
			named[name] = append(named[name], f)
		}
		if f.done || !drops(f, f.Status) || strings.Contains(f.query, "&") || strings.HasPrefix(f.query, "kibitz=") {
			continue
		}
		for name, value := range parametersOf(f.query) {
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
		if support[p] < leastStripped {
			break
		}
		var with []*fact
		scopes := []string{""}
		for _, f := range named[p.name] {
			value := parametersOf(f.query)[p.name]
			if p.value != "" && value != p.value {
				continue
			}
			with = append(with, f)
			first, below, _ := strings.Cut(f.path[1:], "/")
			for _, scope := range []string{"in /" + first + "/ ", `on ~.*\` + path.Ext(f.path) + " "} {
				if plainPath(f.path) && (scope[0] == 'i' && below != "" || scope[0] == 'o' && path.Ext(f.path) != "") && !slices.Contains(scopes, scope) {
					scopes = append(scopes, scope)
				}
			}
		}
		slices.Sort(scopes) // the widest first
		for _, scope := range scopes {
			var open []*fact
			paths, values, against := map[string]bool{}, map[string]bool{}, false
			for _, f := range with {
				if !inScope(f.path, scope) {
					continue
				}
				if !drops(f, p.status) {
					against = against || f.Status < 300 || f.Status == 304 || f.Status == 404 // else an entry above says it
				} else if !f.done {
					open = append(open, f)
					paths[f.path], values[parametersOf(f.query)[p.name]] = true, true
				}
			}
			if len(paths) < leastStripped || against || p.value == "" && len(values) < 2 {
				continue
			}
			test := "present"
			if p.value != "" {
				test = rulebook.Quote(p.value)
			}
			d.add(rankMoved, "redirect", "without-"+strings.TrimPrefix(nameOf("/"+p.name), "old-"), fmt.Sprintf("%swhen query.%s %s to {path} as %s query drop", scope, p.name, test, as(p.status)), "%s", answers(len(open)))
			for _, f := range open {
				f.done = true
			}
		}
	}
}

// inScope reports whether a selector of stripped takes a path.
func inScope(at, scope string) bool {
	scope = strings.TrimSuffix(scope, " ")
	if extension, ok := strings.CutPrefix(scope, `on ~.*\`); ok {
		return strings.HasSuffix(at, extension)
	}
	return strings.HasPrefix(at+"/", strings.TrimPrefix(scope, "in "))
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
