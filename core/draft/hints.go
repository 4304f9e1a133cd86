package draft

// Early hints (RFC 8297): what pages announce ahead of themselves.

import (
	"net/http"
	"regexp"
	"slices"
	"strings"

	"kibitz/core/rulebook"
)

// announced is a value of Link as hints have it: the address, and what it is.
var (
	preload    = regexp.MustCompile(`^<(/[!-~]*)>;\s*rel="?preload"?;\s*as="?([a-z]+)"?`)
	preconnect = regexp.MustCompile(`^<(https?://[!-~]+?)/?>;\s*rel="?preconnect"?`)
)

// hints finds the hints of pages: of all, or those of a folder.
func (d *drafter) hints() {
	told := map[group]int{}
	with := map[string][]*Answer{} // by what they announce
	for _, a := range d.Answers {
		if a.Header == nil || a.Request.Verb() != "GET" || a.Status != http.StatusOK || !d.knows(a.Request.Address.Host) || !a.page() {
			continue
		}
		for _, g := range groupsOf(a) {
			if g.kind == everyAnswer || g.kind == inFolder {
				told[g]++
			}
		}
		if clauses := clausesOf(a.Hints); clauses != "" {
			with[clauses] = append(with[clauses], a)
		}
	}
	var sets []fieldSet
	for clauses, all := range with {
		sets = append(sets, setsOf(clauses, all, told)...)
	}
	slices.SortStableFunc(sets, func(a, b fieldSet) int { // the first that fits wins: what is said of few comes first
		if a.n != b.n {
			return a.n - b.n
		}
		return strings.Compare(a.value, b.value)
	})
	for _, s := range sets {
		d.add(rankWire, "hint", "early", s.selector()+s.value, "%s", answers(s.n))
	}
}

// clausesOf writes the clauses of a hint entry for what was announced.
func clausesOf(links []string) string {
	var out []string
	for _, link := range links {
		if m := preload.FindStringSubmatch(link); m != nil {
			out = append(out, "preload "+rulebook.Quote(m[1])+" as "+m[2])
		} else if m := preconnect.FindStringSubmatch(link); m != nil {
			out = append(out, "preconnect "+m[1])
		}
	}
	return strings.Join(out, " ")
}

// page reports whether an answer is an HTML page.
func (a *Answer) page() bool {
	for _, h := range a.Header {
		if strings.EqualFold(h.Name, "Content-Type") {
			return strings.HasPrefix(strings.ToLower(h.Value), "text/html")
		}
	}
	return false
}
