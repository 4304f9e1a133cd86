package list

import (
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
)

// Parts of a list begin and end with lines, and hold each of them once.
func TestPartsAreTheWhole(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 2000 {
		var b strings.Builder
		for range r.IntN(12) {
			fmt.Fprintln(&b, strings.Repeat("x", r.IntN(20)*r.IntN(3)))
		}
		b.WriteString(strings.Repeat("y", r.IntN(3)))
		text, of := b.String(), 1+r.IntN(9)
		whole := ""
		for k := range of {
			part, err := Part{k + 1, of, int64(len(text))}.In(strings.NewReader(text))
			if err != nil {
				t.Fatal(err)
			}
			got, err := io.ReadAll(part)
			if err != nil {
				t.Fatal(err)
			}
			if whole += string(got); !strings.HasSuffix(whole, "\n") && len(whole) > 0 && whole != text {
				t.Fatalf("part %d of %d of %q ends within a line: %q", k+1, of, text, got)
			}
		}
		if whole != text {
			t.Fatalf("%d parts of %q are %q", of, text, whole)
		}
	}
}

// A line that is longer than what is read at once, and a list that has been cut.
func TestPartsOfOddLists(t *testing.T) {
	long := strings.Repeat("x", 200_000) + "\n" + strings.Repeat("y", 10)
	for _, test := range []struct {
		text  string
		part  Part
		bytes int
	}{
		{long, Part{1, 4, int64(len(long))}, 200_001},
		{long, Part{2, 4, int64(len(long))}, 0},
		{long, Part{4, 4, int64(len(long))}, 10},
		{"a\nb\n", Part{1, 3, 4}, 2},
		{"a\nb\n", Part{2, 2, 400}, 0},
		{"", Part{1, 1, 0}, 0},
	} {
		part, err := test.part.In(strings.NewReader(test.text))
		if err != nil {
			t.Fatal(err)
		}
		if got, err := io.ReadAll(part); err != nil || len(got) != test.bytes {
			t.Errorf("%+v has %d bytes, want %d (%v)", test.part, len(got), test.bytes, err)
		}
	}
}
