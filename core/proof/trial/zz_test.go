package trial

import (
	"math/rand/v2"
	"os"
	"strconv"
	"testing"
)

func TestZZ(t *testing.T) {
	from, _ := strconv.Atoi(os.Getenv("FROM"))
	n, _ := strconv.Atoi(os.Getenv("N"))
	bad := 0
	for seed := uint64(from); seed < uint64(from+n); seed++ {
		if err := Hold(Book(rand.New(rand.NewPCG(seed, 1))), rand.New(rand.NewPCG(seed, 5)), nil); err != nil {
			bad++
			t.Logf("seed %d: %v", seed, err)
		}
	}
	t.Log("bad", bad)
}
