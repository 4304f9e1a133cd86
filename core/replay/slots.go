package replay

// The table of memoized answers of one worker, with the counts of the lines that had them.

import (
	"hash/maphash"
	"math"
	"slices"
)

// A slot holds one memoized answer under its key, and counts the lines that had this key. It
// fills two cache lines, which are fetched together, and has no pointers, so that the garbage
// collector does not scan the table.
type slot struct {
	class    uint32
	sum      uint32    // its number
	rare     uint32    // its number; 0 for none
	last     uint32    // time of the last line, in seconds since 1970
	counts   [2]uint32 // of lines by recorded status
	statuses [2]uint16
	look     look
	timed    bool  // an entry decides, and the time of its last use is reported
	byEntry  bool  // lines are counted for their own entries (entryLine)
	filtered bool  // -only does not select all lines: each is looked at
	queried  bool  // an entry looked at the query: without one in its key, it is of lines that have none
	length   uint8 // of the key; 0 for one that is too long to fit here, and stands in rare
	key      [94]byte
}

// rare is what few slots need.
type rare struct {
	key     string        // method and target, where they are long
	more    []statusCount // of further recorded statuses
	asked   Asked         // for a missing address
	address string        // for entry lines
}

// A statusCount is how often a status was recorded.
type statusCount struct {
	status int
	n      int64
}

// slots is a hash table with open addressing: index has, by hash, sixteen bits of the hash and
// the number of a slot, from 1 on.
type slots struct {
	seed  maphash.Seed
	index []uint32 // 0: free
	all   []slot   // the first is none
	rare  []rare   // likewise
	size  int      // of the texts in rare, in bytes
}

// maxRare is the size of texts in rare, in bytes, from which slots are folded.
const maxRare = 4 << 20

// maxSlots is a power of two.
const maxSlots = 1 << 16

// newSlots makes a table with room for so many slots, a power of two.
func newSlots(room int) slots {
	return slots{maphash.MakeSeed(), make([]uint32, 2*room), make([]slot, 1, room), make([]rare, 1, 1+room/8), 0}
}

// hash is that of a key.
func (t *slots) hash(key []byte) uint64 { return maphash.Bytes(t.seed, key) }

const numberBits = 1<<16 - 1

// guess gives the number of the first slot that a hash may be of, or 0.
func (t *slots) guess(hash uint64) uint32 {
	tag := uint32(hash>>32) &^ numberBits
	for at := hash; ; at++ {
		i := t.index[at&uint64(len(t.index)-1)]
		if i == 0 || i&^numberBits == tag {
			return i & numberBits
		}
	}
}

// find gives the slot of a key and class, or nil.
func (t *slots) find(key []byte, class uint32, hash uint64) *slot {
	tag := uint32(hash>>32) &^ numberBits
	for at := hash; ; at++ {
		i := t.index[at&uint64(len(t.index)-1)]
		if i == 0 {
			return nil
		}
		if i&^numberBits != tag {
			continue
		}
		if s := &t.all[i&numberBits]; t.is(s, key, class) {
			return s
		}
	}
}

// is reports whether a slot is that of a key and class.
func (t *slots) is(s *slot, key []byte, class uint32) bool {
	if s.class != class {
		return false
	}
	if len(key) > len(s.key) {
		return s.rare > 0 && t.rare[s.rare].key == string(key)
	}
	return int(s.length) == len(key) && string(s.key[:s.length]) == string(key)
}

// full reports whether there is no room for another slot.
func (t *slots) full() bool { return len(t.all) == cap(t.all) || t.size > maxRare }

// add makes a slot, which find does not know yet. There must be room.
func (t *slots) add(key []byte, class uint32) *slot {
	t.all = append(t.all, slot{class: class})
	s := &t.all[len(t.all)-1]
	if len(key) > len(s.key) {
		t.rareOf(s).key = string(key)
		t.size += len(key)
	} else {
		s.length = uint8(copy(s.key[:], key))
	}
	return s
}

// keep makes find know the slot that was added last.
func (t *slots) keep(hash uint64) {
	for at := hash; ; at++ {
		if i := &t.index[at&uint64(len(t.index)-1)]; *i == 0 {
			*i = uint32(hash>>32)&^numberBits | uint32(len(t.all)-1)
			return
		}
	}
}

// drop forgets the slot that was added last, which was not kept.
func (t *slots) drop() {
	last := len(t.all) - 1
	if n := t.all[last].rare; n > 0 {
		t.rare = t.rare[:n]
	}
	t.all = t.all[:last]
}

// clear forgets all slots.
func (t *slots) clear() {
	clear(t.index)
	clear(t.rare)
	t.all, t.rare, t.size = t.all[:1], t.rare[:1], 0
}

// rareOf gives what is rare of a slot.
func (t *slots) rareOf(s *slot) *rare {
	if s.rare == 0 {
		s.rare = uint32(len(t.rare))
		t.rare = append(roomy(t.rare), rare{})
	}
	return &t.rare[s.rare]
}

// roomy gives a slice that has room for one more: it doubles a full one, so that less is
// copied and thrown away than append does with large ones.
func roomy[T any](s []T) []T {
	if len(s) == cap(s) {
		return slices.Grow(s, len(s))
	}
	return s
}

// keyOf gives the key of a slot: method and target. It is good until slots are cleared.
func (t *slots) keyOf(s *slot) []byte {
	if s.length == 0 {
		return []byte(t.rare[s.rare].key)
	}
	return s.key[:s.length]
}

// record counts a line with a recorded status.
func (t *slots) record(s *slot, status int) {
	for i := range s.counts {
		if (int(s.statuses[i]) == status || s.counts[i] == 0) && s.counts[i] < math.MaxUint32 {
			s.statuses[i] = uint16(status)
			s.counts[i]++
			return
		}
	}
	rare := t.rareOf(s)
	for i := range rare.more {
		if rare.more[i].status == status {
			rare.more[i].n++
			return
		}
	}
	rare.more = append(rare.more, statusCount{status, 1})
}
