package units

import (
	"strings"
	"testing"
	"time"
)

func TestSizesAndDurations(t *testing.T) {
	for text, want := range map[string]int64{"0": 0, "1B": 1, "512KiB": 512 << 10, "8MiB": 8 << 20, "2GiB": 2 << 30} {
		if n, problem := Size(text); n != want || problem != "" {
			t.Errorf("%s: %d %s", text, n, problem)
		}
	}
	for text, want := range map[string]string{"12": "lacks its unit", "1kb": "not one of", "-1B": "not a size", "x": "not a size", "1.5MiB": "not one of", "99999999999GiB": "not a size",
		"2MB": "2MB is 2000000 bytes, or 2097152: write 2MiB, or 2000000B", "3KB": "3KB is 3000 bytes, or 3072: write 3KiB, or 3000B", "1kB": "or 1024", "4GB": "or 4294967296"} {
		if _, problem := Size(text); !strings.Contains(problem, want) {
			t.Errorf("%s: %q, want %q", text, problem, want)
		}
	}
	for text, want := range map[string]time.Duration{"250ms": 250 * time.Millisecond, "10s": 10 * time.Second, "2h": 2 * time.Hour, "30d": 720 * time.Hour} {
		if d, problem := Duration(text); d != want || problem != "" {
			t.Errorf("%s: %v %s", text, d, problem)
		}
	}
}
