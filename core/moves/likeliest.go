// Package moves finds where an address that is missing may have gone.
package moves

import (
	"strings"
	"sync"

	"kibitz/core/canonical"
	"kibitz/core/engine"
)

// Names are those of the pages of all trees of a rulebook.
type Names struct{ matcher func() *matcher } // made when it is first asked

// NamesOf gives the names of all trees of a rulebook. What the pages say is not looked at.
func NamesOf(e *engine.Engine) Names {
	return Names{sync.OnceValue(func() *matcher {
		m := newMatcher()
		for _, s := range e.Book.Sites {
			m.add(e.Tree(s), false)
		}
		m.count()
		return m
	})}
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
	m := names.matcher()
	q.found = m.candidates(q.page)
	if best := m.weigh(q); len(best) > 0 && best[0].share >= least {
		return canonical.Decode(best[0].page.address)
	}
	return ""
}
