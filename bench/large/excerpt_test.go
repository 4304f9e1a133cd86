package large

import (
	"testing"

	"kibitz/core/excerpt"
)

// BenchmarkExcerpt makes, of no list at all, what notices harms to a large rulebook, and
// tells what share of them it notices.
func BenchmarkExcerpt(b *testing.B) {
	for _, name := range Names {
		b.Run(name, func(b *testing.B) {
			book, err := Open(name)
			if err != nil {
				b.Fatal(err)
			}
			e, err := book.Load(book.Text)
			if err != nil {
				b.Fatal(err)
			}
			for b.Loop() {
				picks, s := excerpt.NewGatherer(e).Make(e.Book.BaseAddress(), book.ReadFile)
				b.ReportMetric(100*float64(s.Noticed)/float64(s.Harms), "%noticed")
				b.ReportMetric(float64(s.Harms), "harms")
				b.ReportMetric(float64(len(picks)), "requests")
			}
		})
	}
}
