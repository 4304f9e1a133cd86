// Package moves finds where an address that is missing may have gone.
package moves

import (
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/engine"
)

// Names are those of the pages of all trees of a rulebook.
type Names struct{ m *matcher }

// NamesOf gives the names of all trees of a rulebook. What the pages say is not looked at.
func NamesOf(e *engine.Engine) Names {
	m := newMatcher()
	for _, s := range e.Book.Sites {
		m.add(e.Tree(s), false)
	}
	m.count()
	return Names{m}
}

// Likeliest gives the page that a missing address most likely is, which is given with its
// origin; "" where none is likely.
func (names Names) Likeliest(address string) string {
	_, at, _ := strings.Cut(address, "://")
	i := strings.IndexByte(at, '/')
	if i < 0 {
		return ""
	}
	at, _, _ = strings.Cut(at[i:], "?")
	q := &question{page: pageOf(at)}
	q.found = names.m.candidates(q.page)
	if best := names.m.weigh(q); len(best) > 0 && best[0].share >= least {
		return canonical.Decode(best[0].page.address)
	}
	return ""
}
