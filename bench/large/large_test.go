package large

import (
	"math/rand/v2"
	"testing"

	"kibitz/core/proof"
	"kibitz/core/proof/trial"
)

// The rulebooks are large, and good: nothing is found in them that needs to be mended.
func TestGoodRulebooksHaveNothingButNotes(t *testing.T) {
	for _, name := range Names {
		b, err := Open(name)
		if err != nil {
			t.Fatal(err)
		}
		e, err := b.Load(b.Text)
		if err != nil {
			t.Fatal(err)
		}
		if n := len(e.Book.Rules); n < 120 {
			t.Errorf("%s has only %d entries", name, n)
		}
		for _, f := range proof.Check(e, 1).Findings {
			if f.Severity != proof.Note {
				t.Errorf("%s has a %s at line %d: %s %s", name, f.Severity, f.Place.Line, f.Name, f.Message)
			}
		}
	}
}

// Each kind of fault, planted into one of them, is found.
func TestFaultsInLargeRulebooksAreFound(t *testing.T) {
	for i, fault := range trial.Faults() {
		if testing.Short() && i%5 > 0 {
			continue
		}
		planted := false
		for at := range Names { // the first that has a place for it
			b, err := Open(Names[(i+at)%len(Names)])
			if err != nil {
				t.Fatal(err)
			}
			m, ok := trial.Mutate(rand.New(rand.NewPCG(2, 7)), b.Text, fault)
			if !ok {
				continue
			}
			planted = true
			before, err := b.Load(b.Text)
			if err != nil {
				t.Fatal(err)
			}
			after, err := b.Load(m.Text)
			if err != nil {
				break // the text itself is wrong, and says so
			}
			if trial.Try(before, proof.Check(before, 1), after, proof.Requests(before)) == trial.Missed {
				t.Errorf("%s: %s is not found: %s", b.Name, fault, trial.Changed(b.Text, m.Text))
			}
			break
		}
		if !planted {
			t.Errorf("no rulebook has a place for %q", fault)
		}
	}
}

func BenchmarkCheck(b *testing.B) {
	for _, name := range Names {
		book, err := Open(name)
		if err != nil {
			b.Fatal(err)
		}
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				e, err := book.Load(book.Text)
				if err != nil {
					b.Fatal(err)
				}
				proof.Check(e, 1)
			}
		})
	}
}
