package trial

import (
	"math/rand/v2"
	"strings"
	"testing"

	"kibitz/core/engine"
	"kibitz/core/proof"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// What is said to be proved is broken by none of all short requests, and every
// finding is shown by its own request.
func TestWhatIsProvedIsNeverBroken(t *testing.T) {
	books := 20
	if testing.Short() {
		books = 10
	}
	count := Count{}
	for seed := range uint64(books) {
		if err := Hold(Book(rand.New(rand.NewPCG(seed, 1))), rand.New(rand.NewPCG(seed, 5)), count); err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{"redirect-loop", "never-reached"} {
		if count[name][proof.Found] == 0 || count[name][proof.Proved] == 0 {
			t.Errorf("%s: %v: the rulebooks show nothing", name, count[name])
		}
	}
}

// Rulebooks that ask much of the proofs: what can happen in them comes about only
// through a rewrite, or for a few addresses among many.
func TestWhatComesAboutOnADetour(t *testing.T) {
	for _, test := range []struct{ name, text, finding, rule, want string }{
		{"a rewrite brings a longer path back", "rewrite w on /b/:x to /{x}- then next\nredirect r on /:x to /b/{x} as permanent", "runaway", "r", proof.Found},
		{"a rewrite passes by what stands above it", "reply taker on /a with 200\nrewrite w on /b to /a then next\nredirect r on /a to /b as permanent", "redirect-loop", "r", proof.Found},
		{"nothing passes it without the rewrite", "reply taker on /a with 200\nredirect r on /a to /b as permanent", "never-reached", "r", proof.Found},
		{"a circle of a few addresses", "redirect one on ~/([ab]+) to /a/{1} as permanent\nredirect two on ~/a/(bba.*) to /b/{1} as permanent\nredirect three on ~/b/(.*abb) to /{1} as permanent", "redirect-loop", "one", proof.Found},
		{"a rewrite brings a few addresses past an entry", "reply taker in /a/ with 200\nrewrite w on ~/b/(.*) to /a/{1} then next\nredirect r on ~/a/(bba.*abb) to /b/{1} as permanent", "redirect-loop", "r", proof.Found},
		{"slashes are merged on the way", "redirect r on /a* to /a/{1} as permanent", "redirect-loop", "r", proof.Found},
		{"a rewrite takes the slash that a folder adds", "rewrite r on /:x/ to /{x} then next", "redirect-loop", "r", proof.Found},
		{"what shrinks comes to an end", "redirect r on /a/* to /{1} as permanent", "redirect-loop", "r", proof.Proved},
		{"a condition that stays keeps two apart", "redirect r on /a when header.h present to /b as permanent\nredirect s on /b when header.h absent to /a as permanent", "redirect-loop", "r", proof.Proved},
		{"so does a query that is set", "redirect r on /a when query.q 1 to /a?q=2 as permanent", "redirect-loop", "r", proof.Proved},
		{"and a scheme", "redirect r on /a when scheme http to https://s.example/b as permanent\nredirect s on /b when scheme http to https://s.example/a as permanent", "redirect-loop", "s", proof.Proved},
	} {
		text := "site s address https://s.example files public hosts www.s.example\n" + test.text + "\n"
		if err := Hold(text, rand.New(rand.NewPCG(0, 5)), nil); err != nil {
			t.Errorf("%s: %v", test.name, err)
		}
		if got := states(engineOf(t, text), test.finding)[test.rule]; got != test.want {
			t.Errorf("%s: %s of %s is %q, want %q", test.name, test.finding, test.rule, got, test.want)
		}
	}
}

// Each kind of fault, planted into a good rulebook, is found.
func TestPlantedFaultsAreFound(t *testing.T) {
	make := func(text string) *engine.Engine {
		book, err := rulebook.Read("t.kibitz", []byte(text), Load)
		if err != nil {
			t.Fatalf("%v\n%s", err, text)
		}
		return engine.New(book, []*site.Tree{site.Memory(GoodFiles)})
	}
	e := make(Good)
	known := proof.Check(e, 1)
	for _, f := range known.Findings {
		if f.Severity != proof.Note {
			t.Errorf("the good rulebook has a %s: %s", f.Name, f.Message)
		}
	}
	for seed, fault := range Faults {
		r := rand.New(rand.NewPCG(uint64(seed), 8))
		m, ok := Mutate(r, Good, fault)
		if !ok || m.Text == Good || strings.Count(m.Text, "\n") < strings.Count(Good, "\n") {
			t.Errorf("%s: nothing was planted", fault)
			continue
		}
		// A guard that is opened wider, or an exception that no longer is one, may be meant.
		meant := fault == "drop a condition" || fault == "swap two entries"
		if got := Try(e, known, make(m.Text), proof.Requests(e)); got == Missed && !meant {
			t.Errorf("%s was not found in\n%s", fault, m.Text)
		}
	}
}

func engineOf(t *testing.T, text string) *engine.Engine {
	t.Helper()
	e, err := Read(text)
	if err != nil {
		t.Fatal(err)
	}
	return e
}

// states gives what is claimed of each entry for one finding.
func states(e *engine.Engine, finding string) map[string]string {
	out := map[string]string{}
	for _, c := range proof.Check(e, 1).Claims {
		for _, rule := range c.Names {
			if c.Finding == finding {
				out[rule] = c.State
			}
		}
	}
	return out
}

// A copy of an entry that answers, placed below it, is never reached; and an
// entry that is never reached can be taken out, and nothing changes.
func TestLawsOfReaching(t *testing.T) {
	removed := 0
	for seed := range uint64(30) {
		text := Book(rand.New(rand.NewPCG(seed, 2)))
		lines := strings.Split(strings.TrimSpace(text), "\n")
		last := lines[len(lines)-1]
		if word, _, _ := strings.Cut(last, " "); word == "redirect" || word == "reply" {
			name := strings.Fields(last)[1]
			double := text + strings.Replace(last, " "+name+" ", " again ", 1) + "\n"
			if state := states(engineOf(t, double), "never-reached")["again"]; state != proof.Found && state != proof.Open {
				t.Fatalf("a copy is said to be %q in\n%s", state, double)
			}
		}
		e := engineOf(t, text)
		for name, state := range states(e, "never-reached") {
			if state != proof.Found {
				continue
			}
			removed++
			var kept []string
			for _, line := range lines {
				if !strings.Contains(line, " "+name+" ") {
					kept = append(kept, line)
				}
			}
			without := engineOf(t, strings.Join(kept, "\n")+"\n")
			for _, req := range Requests(e.Book, rand.New(rand.NewPCG(seed, 6))) {
				a, b := e.Predict(req), without.Predict(req)
				if a.Status != b.Status || a.Location != b.Location || a.File != b.File && (a.File == nil || b.File == nil || a.File.Path != b.File.Path) {
					t.Fatalf("without %s, which is never reached, %s is answered otherwise in\n%s", name, req.Address, text)
				}
			}
		}
	}
	if removed < 3 {
		t.Errorf("only %d entries were never reached: the test shows little", removed)
	}
}

// Neighbours that cannot meet can change places, and nothing changes.
func TestNeighboursThatDoNotMeetCanChangePlaces(t *testing.T) {
	swapped := 0
	for seed := range uint64(60) {
		text := Book(rand.New(rand.NewPCG(seed, 3)))
		lines := strings.Split(strings.TrimSpace(text), "\n")
		e := engineOf(t, text)
		requests := Requests(e.Book, rand.New(rand.NewPCG(seed, 6)))
		for i := 1; i+1 < len(lines); i++ {
			a, b := e.Book.Rules[i-1], e.Book.Rules[i]
			if strings.HasPrefix(lines[i], "rewrite") || strings.HasPrefix(lines[i+1], "rewrite") || proof.Meet(e, a, b) {
				continue
			}
			swapped++
			other := append([]string(nil), lines...)
			other[i], other[i+1] = other[i+1], other[i]
			swapped := engineOf(t, strings.Join(other, "\n")+"\n")
			for _, req := range requests {
				if x, y := e.Predict(req), swapped.Predict(req); x.Status != y.Status || x.Location != y.Location {
					t.Fatalf("%s and %s are said not to meet, and %s is answered otherwise when they change places in\n%s", a.Name, b.Name, req.Address, text)
				}
			}
		}
	}
	if swapped < 15 {
		t.Errorf("only %d pairs changed places", swapped)
	}
}
