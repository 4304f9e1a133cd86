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
