package replay

import (
	"fmt"
	"math/rand"
	"strings"
	"testing"
	"unsafe"
)

// Two lines of a cache, and no more.
func TestASlotFillsTwoLines(t *testing.T) {
	if size := unsafe.Sizeof(slot{}); size != 128 {
		t.Errorf("a slot has %d bytes", size)
	}
}

// Slots are found by their key and class alone, whatever their hashes are, and what was
// counted in them is there, until they are cleared.
func TestSlotsAreAMap(t *testing.T) {
	r := rand.New(rand.NewSource(2))
	for _, hashes := range []uint64{1 << 63, 40, 1} { // few hashes: most slots are in each other's way
		slots := newSlots(1 << 9)
		type name struct {
			key   string
			class uint32
		}
		counted := map[name]map[int]int64{}
		const asked = 20_000
		wrong := 0 // guesses
		for range asked {
			key := fmt.Sprint("GET /", r.Intn(200))
			if r.Intn(4) == 0 {
				key += strings.Repeat("/long", 30)
			}
			n := name{key, uint32(r.Intn(3))}
			hash := (slots.hash([]byte(key)) + uint64(n.class)*spread) % hashes * spread
			s := slots.find([]byte(key), n.class, hash)
			if (s != nil) != (counted[n] != nil) {
				t.Fatalf("%v: found %v, and %d were counted", n, s != nil, len(counted[n]))
			}
			if s == nil {
				if slots.full() {
					slots.clear()
					clear(counted)
				}
				s = slots.add([]byte(key), n.class)
				counted[n] = map[int]int64{}
				if r.Intn(20) == 0 { // counted alone
					slots.rareOf(s).address = "x"
					slots.drop()
					delete(counted, n)
					continue
				}
				slots.keep(hash)
			}
			if !slots.is(&slots.all[slots.guess(hash)], []byte(key), n.class) {
				wrong++
			}
			status := []int{200, 200, 200, 301, 404, 500, 0}[r.Intn(7)]
			slots.record(s, status)
			counted[n][status]++
			if got := string(slots.keyOf(s)); got != key {
				t.Fatalf("the key of %q is %q", key, got)
			}
			got := map[int]int64{}
			for i, n := range s.counts {
				if n > 0 {
					got[int(s.statuses[i])] += int64(n)
				}
			}
			for _, more := range slots.rare[s.rare].more {
				got[more.status] += more.n
			}
			if fmt.Sprint(got) != fmt.Sprint(counted[n]) {
				t.Fatalf("%v: %v, want %v", n, got, counted[n])
			}
		}
		if hashes > 1<<32 && wrong > asked/50 { // now and then two hashes look alike
			t.Errorf("%d of %d guesses are wrong", wrong, asked)
		}
	}
}
