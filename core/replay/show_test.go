package replay

// What is shown of each line, and what is compared of it, held against the line by itself.

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"kibitz/core/proof/trial"
	"kibitz/core/request"
	"kibitz/core/request/list"
)

// Of any rulebooks and lines, what is shown of each line on the fast path is what it gives
// alone, those that are alike give what each gives, and the lines are compared as they are
// alone.
func TestLinesAreShownAndComparedAsIfEachWereAlone(t *testing.T) {
	n := 0
	seeds := sized(300)
	for seed := range uint64(seeds) {
		n += shownAlone(t, rand.New(rand.NewPCG(seed, 11)), 120)
	}
	if n < seeds {
		t.Errorf("only %d changes", n)
	}
}

func FuzzLinesAreShown(f *testing.F) {
	f.Add(uint64(1), uint64(2))
	f.Fuzz(func(t *testing.T, a, b uint64) { shownAlone(t, rand.New(rand.NewPCG(a, b)), 20) })
}

// shownAlone tries so many lines with two rulebooks, and says in how many ways they differ.
func shownAlone(t *testing.T, r *rand.Rand, lines int) int {
	t.Helper()
	books := []string{logBook(r), logBook(r)}
	if r.IntN(3) == 0 {
		books[1] = trial.Anything(r, 5)
	}
	kinds := make([]string, 2+r.IntN(10)) // few, so that lines come again
	for i := range kinds {
		if kinds[i] = anyLine(r); i > 0 && r.IntN(2) == 0 {
			kinds[i] = otherQuery(r, kinds[r.IntN(i)])
		}
	}
	var text strings.Builder
	for range lines {
		text.WriteString(kinds[r.IntN(len(kinds))] + "\n")
	}
	old, new := anyEngine(t, books[0]), anyEngine(t, books[1])
	o := Options{Workers: 1 + r.IntN(2), Whole: r.IntN(2) == 0}
	if r.IntN(2) == 0 {
		o.Headers = anyHeaders(r)
	}
	read := func(base request.Address, yield func(*list.Item)) (list.Counts, error) {
		return list.Read(strings.NewReader(text.String()), list.Options{Base: base, Format: list.FormatLog}, yield)
	}
	file := Text{Name: "log", Format: list.FormatLog, File: strings.NewReader(text.String()), Size: int64(text.Len()), Progress: func(int64) {}}

	alone := o
	alone.forget = true
	want, got := alone.shown(), o.shown()
	if _, err := Run(old, []Source{{Name: "log", Read: read}}, alone); err != nil {
		t.Fatal(err)
	}
	if _, err := Lines(old, file, o); err != nil {
		t.Fatal(err)
	}
	if got, want := got(), want(); got != want {
		t.Fatalf("%s\nwith %v, whole: %t: %s", books[0], o.Headers, o.Whole, firstApart(got, want))
	}

	want, got = alone.counted(false), o.counted(true)
	if _, err := Run(old, []Source{{Name: "log", Read: read}}, alone); err != nil {
		t.Fatal(err)
	}
	if _, err := Lines(old, file, o); err != nil {
		t.Fatal(err)
	}
	if got, want := got(), want(); got != want {
		t.Fatalf("%s\nwith %v, whole: %t, counted: %s", books[0], o.Headers, o.Whole, firstApart(got, want))
	}

	now := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	together, each := NewCompare(old, new), NewCompare(old, new)
	o.Each = nil
	if _, err := together.Lines(file, o); err != nil {
		t.Fatal(err)
	}
	one := each.Comparer()
	if _, err := read(o.base(new), func(item *list.Item) {
		item.Request.AddMissing(o.Headers)
		one.counts[one.anew(item.Request).group]++
		one.start(item.Request)
	}); err != nil {
		t.Fatal(err)
	}
	one.Done()
	result := together.End(now)
	if got, want := comparisonText(result), comparisonText(each.End(now)); got != want {
		t.Fatalf("%s\n%s\nwith %v, compared: %s\n%s", books[0], books[1], o.Headers, firstApart(got, want), strings.Join(kinds, "\n"))
	}
	return len(result.Groups)
}

// counted makes a replay count results, those that are alike together or each by itself, and
// gives what tells how many there are of each.
func (o *Options) counted(together bool) func() string {
	counts := map[string]int{}
	o.Each = func() Show {
		own := map[string]int{}
		show := Show{Result: func(r *Result) { own[answerText(r, o.Whole)]++ }}
		if together {
			show.Alike = func(r *Result) func() {
				text := answerText(r, o.Whole)
				return func() { own[text]++ }
			}
		}
		show.End = func() {
			for text, n := range own {
				counts[text] += n
			}
			clear(own)
		}
		return show
	}
	return func() string {
		var lines []string
		for text, n := range counts {
			lines = append(lines, fmt.Sprintf("%s: %d", text, n))
		}
		slices.Sort(lines)
		return strings.Join(lines, "\n")
	}
}
