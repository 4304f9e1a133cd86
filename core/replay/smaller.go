package replay

// Which files would save most, if they were compressed.

import (
	"cmp"
	"slices"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/representation"
)

// A Saving is a file that was sent as it is, and what br would make of it, in bytes.
type Saving struct {
	Path         string
	Requests     int64
	Size, Packed int64
}

// mostPlain is how many of the files that were sent as they are most often are tried.
const mostPlain = 200

// Smaller gives the files of a tally that would save most, those that would not shrink and
// those whose content is not known left out.
func Smaller(e *engine.Engine, t *Tally) []Saving {
	var list []Saving
	for _, s := range e.Book.Sites {
		for _, c := range t.Plain.Most(mostPlain) {
			path, ok := strings.CutPrefix(c.Address, s.Name+" ")
			if !ok {
				continue
			}
			n := e.Tree(s).Find(path)
			if n == nil {
				continue // of a saved tally: it was there then
			}
			content, err := n.Read()
			if err != nil {
				continue // an inventory does not hold it
			}
			if size := int64(len(representation.Encode(content, "br", 0))); size < n.Size {
				list = append(list, Saving{canonical.Decode(path), c.N, n.Size, size})
			}
		}
	}
	slices.SortStableFunc(list, func(a, b Saving) int {
		return cmp.Or(cmp.Compare(b.Requests*(b.Size-b.Packed), a.Requests*(a.Size-a.Packed)), strings.Compare(a.Path, b.Path))
	})
	return list
}
