package rulebook

import (
	"fmt"
	"math/rand"
	"testing"
)

// A row is found by all that it takes, and by nothing else.
func TestRowIndex(t *testing.T) {
	r := rand.New(rand.NewSource(3))
	pick := func(list ...string) string { return list[r.Intn(len(list))] }
	for _, size := range []int{0, 1, 2, 7, 3000} {
		index, first := NewRowIndex(size), map[string]int32{}
		var rows []Row
		row := func(n int32) *Row { return &rows[n] }
		random := func() Row {
			return Row{Path: fmt.Sprint("/", r.Intn(size+1)), Query: pick("", "", "id=1", "id=2"), Origin: pick("", "", "https://s.example", "http://s.example")}
		}
		key := func(r Row) string { return fmt.Sprintf("%q %q %q", r.Path, r.Query, r.Origin) }
		for n := range int32(size) {
			rows = append(rows, random())
			want, known := first[key(rows[n])]
			if !known {
				want, first[key(rows[n])] = -1, n
			}
			if same := index.Add(n, row); same != want {
				t.Fatalf("row %d is added, and %d takes the same; want %d", n, same, want)
			}
		}
		for range 2 * size {
			asked := random()
			want, known := first[key(asked)]
			if !known {
				want = -1
			}
			if got := index.Find(asked.Path, asked.Query, asked.Origin, row); got != want {
				t.Fatalf("%s: row %d, want %d", key(asked), got, want)
			}
		}
	}
}
