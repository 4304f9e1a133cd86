// Package moves finds where an address that is missing may have gone.
package moves

import (
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// Names are those of the files and folders of all trees, by the length of their
// stems: what stands before the first dot.
type Names map[int][]fileName

type fileName struct {
	address    string
	name, stem string // in small letters
}

// NamesOf gives the names of all trees of a rulebook.
func NamesOf(e *engine.Engine) Names {
	names := Names{}
	for _, s := range e.Book.Sites {
		e.Tree(s).Each(func(n *site.Node) {
			if n.Path == "" || n.Hidden || strings.HasPrefix(n.Path, "/errors/") {
				return
			}
			f := fileName{address: canonical.Decode(n.Path), name: strings.ToLower(n.Name())}
			f.stem, _, _ = strings.Cut(f.name, ".")
			if n.Folder {
				f.address += "/"
			}
			names[len(f.stem)] = append(names[len(f.stem)], f)
		})
	}
	return names
}

// Likeliest gives the file or folder that is most like a missing address, which is given with
// its origin: as likeliest does.
func (names Names) Likeliest(address string) string {
	_, path, _ := strings.Cut(address, "://")
	if i := strings.IndexByte(path, '/'); i >= 0 {
		return names.likeliest(path[i:])
	}
	return ""
}

// likeliest gives the address of the file or folder that is most like a missing path:
// the same last name elsewhere, or one with a letter or two changed; "" for none.
func (names Names) likeliest(path string) string {
	path = strings.TrimSuffix(canonical.Decode(path), "/")
	name := strings.ToLower(path[strings.LastIndexByte(path, '/')+1:])
	stem, _, _ := strings.Cut(name, ".")
	if len(stem) < 3 {
		return ""
	}
	best, bestScore := "", 0
	changed := len(stem) / 5 // letters that may be
	for length := len(stem) - changed; length <= len(stem)+changed; length++ {
		for _, f := range names[length] {
			score := 60
			switch {
			case f.name == name:
				score = 100
			case f.stem == stem:
				score = 80
			}
			at := strings.TrimSuffix(f.address, "/")
			if score-max(len(at)-len(path), len(path)-len(at)) < max(bestScore, 1) { // it can be no nearer
				continue
			}
			if score == 60 && rulebook.Distance(f.stem, stem) > changed {
				continue
			}
			score -= rulebook.Distance(at, path)
			if score > bestScore || score == bestScore && score > 0 && f.address < best {
				best, bestScore = f.address, score
			}
		}
	}
	return best
}
