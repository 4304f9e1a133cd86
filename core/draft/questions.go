package draft

// What is worth asking: requests whose answers would show that a pattern is too wide or too
// narrow.

import (
	"strconv"
	"strings"

	"kibitz/core/request"
)

// mostQuestions bounds how many are asked.
const mostQuestions = 300

// improbable is a name that no site has.
const improbable = "kibitz-asks-for-nothing"

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
// query, in other letters, and of each folder its slash and a name below it.
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
	for _, folder := range d.whole {
		a.add(strings.TrimSuffix(folder, "/"))
		a.add(folder)
		a.add(folder + improbable)
	}
	return a.list
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
	}
	return out
}
