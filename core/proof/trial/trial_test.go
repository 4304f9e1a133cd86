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
	books := 25
	if testing.Short() {
		books = 10
	}
	count := Count{}
	for seed := range uint64(books) {
		if err := Hold(Book(rand.New(rand.NewPCG(seed, 1))), count); err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{"redirect-loop", "never-reached"} {
		if count[name][proof.Found] == 0 || count[name][proof.Proved] == 0 {
			t.Errorf("%s: %v: the rulebooks show nothing", name, count[name])
		}
	}
}

const good = `site s address https://s.example hosts www.s.example
redirect secure when scheme http to https://{host}{path} as permanent
redirect name when host www.s.example to https://s.example{path} as permanent
access crew in /crew/ unless client 192.0.2.0/24 refuse 403
redirect special on /old/map to /maps/ as permanent
redirect general on /old/:x to /new/{x}.html as permanent
redirect short on /m to /maps/ as 303
`

// Each kind of fault, planted into a good rulebook, is found.
func TestPlantedFaultsAreFound(t *testing.T) {
	make := func(text string) *engine.Engine {
		book, err := rulebook.Read("t.kibitz", []byte(text), nil)
		if err != nil {
			t.Fatalf("%v\n%s", err, text)
		}
		return engine.New(book, []*site.Tree{site.Memory(map[string]string{"/index.html": "x", "/maps/index.html": "m", "/crew/rota.html": "r", "/new/a.html": "a"})})
	}
	e := make(good)
	known := proof.Check(e, 1)
	for _, f := range known.Findings {
		if f.Severity != proof.Note {
			t.Errorf("the good rulebook has a %s: %s", f.Name, f.Message)
		}
	}
	for seed, fault := range Faults {
		r := rand.New(rand.NewPCG(uint64(seed), 8))
		m, ok := Mutate(r, good, fault)
		if !ok || m.Text == good || strings.Count(m.Text, "\n") < strings.Count(good, "\n") {
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
