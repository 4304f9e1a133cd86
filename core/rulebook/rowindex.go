package rulebook

import "hash/maphash"

// A RowIndex finds a row by what it takes, among those of one table or of several. It
// knows rows by their numbers.
type RowIndex struct {
	slots []rowSlot // by hash, with room for twice as many
}

type rowSlot struct {
	hash   uint32
	number int32 // from 1 on; 0 is free
}

// NewRowIndex makes an index with room for so many rows.
func NewRowIndex(rows int) *RowIndex {
	size := 2
	for size < 2*rows {
		size *= 2
	}
	return &RowIndex{make([]rowSlot, size)}
}

var rowSeed = maphash.MakeSeed()

// place gives the first slot in which a row can be, and the hash that stands there.
func (x *RowIndex) place(path, query, origin string) (at uint64, hash uint32) {
	h := maphash.String(rowSeed, path)
	if query != "" {
		h = h*31 + maphash.String(rowSeed, query)
	}
	if origin != "" {
		h = h*37 + maphash.String(rowSeed, origin)
	}
	return h, uint32(h >> 32)
}

// Find gives the number of the row with this path, query and origin, which are "" where
// a row takes any; -1 if there is none. row gives the row of a number.
func (x *RowIndex) Find(path, query, origin string, row func(number int32) *Row) int32 {
	at, hash := x.place(path, query, origin)
	s := x.find(at, hash, path, query, origin, row)
	return s.number - 1
}

// Add adds the row of a number, if there is none yet that takes the same; the number of
// that one is given, or -1.
func (x *RowIndex) Add(number int32, row func(number int32) *Row) int32 {
	r := row(number)
	at, hash := x.place(r.Path, r.Query, r.Origin)
	s := x.find(at, hash, r.Path, r.Query, r.Origin, row)
	if s.number > 0 {
		return s.number - 1
	}
	*s = rowSlot{hash, number + 1}
	return -1
}

func (x *RowIndex) find(at uint64, hash uint32, path, query, origin string, row func(number int32) *Row) *rowSlot {
	for ; ; at++ {
		s := &x.slots[at&uint64(len(x.slots)-1)]
		if s.number == 0 {
			return s
		}
		if s.hash != hash {
			continue
		}
		if r := row(s.number - 1); r.Path == path && r.Query == query && r.Origin == origin {
			return s
		}
	}
}
