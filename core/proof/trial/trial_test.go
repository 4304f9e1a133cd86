package trial

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"kibitz/core/engine"
	"kibitz/core/proof"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// What is said to be proved is denied by no request, and every finding is shown by its
// own.
func TestWhatIsProvedIsNeverDenied(t *testing.T) {
	books := 200
	if testing.Short() {
		books = 40
	}
	count := Count{}
	for seed := range uint64(books) {
		if err := Hold(Book(rand.New(rand.NewPCG(seed, 1))), 3000, rand.New(rand.NewPCG(seed, 5)), count); err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
	}
	for _, name := range []string{"redirect-loop", "never-reached", "guard-bypassed", "permanent-varies", "chain"} {
		if count[name][proof.Found] == 0 || count[name][proof.Proved] == 0 {
			t.Errorf("%s: %v: the rulebooks show nothing", name, count[name])
		}
	}
}

// Rulebooks by which something was denied once: it is not any more.
func TestWhatWasDeniedOnce(t *testing.T) {
	names, err := filepath.Glob("testdata/*.kibitz")
	if err != nil || len(names) == 0 {
		t.Fatal("there are none", err)
	}
	for i, name := range names {
		if testing.Short() && i%4 > 0 {
			continue
		}
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		if err := Hold(string(text), 10_000, rand.New(rand.NewPCG(1, 5)), nil); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// Only of what a request can deny is it said that it is proved.
func TestOnlyWhatCanBeDeniedIsProved(t *testing.T) {
	for _, k := range proof.Kinds() {
		if denied := slices.Contains(Denied(), k.Name); denied != k.Proves {
			t.Errorf("%s: may be called proved: %v, can be denied: %v", k.Name, k.Proves, denied)
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
		{"a rewrite takes the slash that a folder adds, and makes the query longer", "rewrite r on /:x/ to /{x}?{query}x then next", "runaway", "r", proof.Found},
		{"a rewrite takes the slash that a folder adds", "rewrite r on /:x/ to /{x} then next", "redirect-loop", "r", proof.Found},
		{"a row leads to where a redirect leads back to it", "moves m table moves.csv when scheme http as permanent\nredirect secure when scheme http to https://{host}{path} as permanent\nredirect back on /a/:y when scheme https to http://s.example/ab as permanent", "redirect-loop", "back", proof.Found},
		{"what shrinks comes to an end", "redirect r on /a/* to /{1} as permanent", "redirect-loop", "r", proof.Proved},
		{"and where it is one letter of which there are fewer", "redirect r on /:x-:y to /{x}{y}a as permanent", "redirect-loop", "r", proof.Proved},
		{"as where another is put in its place", "redirect r on ~/(.*)_(.*) to /{1}-{2|lower} as permanent", "redirect-loop", "r", proof.Proved},
		{"but not where it is given back", "redirect r on ~/(.*)-(.*) to /{1}b{2} as permanent\nredirect s on ~/(.*)b(.*) to /{1}-{2} as permanent", "redirect-loop", "r", proof.Found},
		{"a letter is longer than it looks", "redirect r on /*abb to /{1}ä as permanent\nredirect s on /*ä to /{1}abb as permanent", "redirect-loop", "r", proof.Found},
		{"a row takes it in capitals, too", "moves m table cased.csv as permanent ignoring case\nredirect r on /A/B to /aB as permanent", "redirect-loop", "r", proof.Found},
		{"or begins as another in small letters", "moves m table cased.csv as permanent ignoring case\nredirect r on /A/:x to /A{x|lower} as permanent", "redirect-loop", "r", proof.Found},
		{"slashes that are kept lead on", "slashes keep\nredirect r on /a to /b//c as permanent\nredirect s on \"/b//c\" to /a as permanent", "redirect-loop", "r", proof.Found},
		{"a condition that stays keeps two apart", "redirect r on /a when header.h present to /b as permanent\nredirect s on /b when header.h absent to /a as permanent", "redirect-loop", "r", proof.Proved},
		{"so does a query that is set", "redirect r on /a when query.q 1 to /a?q=2 as permanent", "redirect-loop", "r", proof.Proved},
		{"a parameter is taken away for good", "redirect r when query.q 1 to {path} as permanent query drop\nredirect s on /a to /b as permanent\nredirect t on /b when query.q 1 to /a as permanent", "redirect-loop", "r", proof.Proved},
		{"and what remains of the circle comes to an end, too", "redirect r when query.q 1 to {path} as permanent query drop\nredirect s on /a to /b as permanent\nredirect t on /b when query.r 1 to /a as permanent query only q", "redirect-loop", "s", proof.Proved},
		{"another entry sets it anew", "redirect r on /a when query.q 1 to /b as permanent query drop\nredirect s on /b to /a?q=1 as permanent", "redirect-loop", "r", proof.Found},
		{"another entry sets it to another value", "redirect r on /a when query.q 1 to /b as permanent query drop\nredirect s on /b to /a?q=2 as permanent", "redirect-loop", "r", proof.Proved},
		{"another entry sets it to what was asked", "redirect r on /a when query.q 1 to /b as permanent query drop\nredirect s on /b to /a?q={scheme} as permanent", "redirect-loop", "r", proof.Tried},
		{"a parameter that must be absent is set", "redirect r on /a when query.q absent to /b?q=1 as permanent\nredirect s on /b to /a as permanent", "redirect-loop", "r", proof.Proved},
		{"and is taken away again", "redirect r on /a when query.q absent to /b?q=1 as permanent\nredirect s on /b to /a as permanent query only r", "redirect-loop", "r", proof.Found},
		{"a merged query still has it", "redirect r on /a when query.q 1 to /b?r=1 as permanent query merge\nredirect s on /b to /a as permanent", "redirect-loop", "r", proof.Found},
		{"a merged query has another one", "redirect r on /a when query.q 1 to /b?q=2 as permanent query merge\nredirect s on /b to /a as permanent", "redirect-loop", "r", proof.Proved},
		{"a cookie that nobody sets stays", "redirect r on /a when cookie.c absent to /b as 302\nredirect s on /b when cookie.c present to /a as 302", "redirect-loop", "r", proof.Proved},
		{"a cookie comes and goes", "redirect r on /a when cookie.c absent to /b as 302\nheader h on /a set Set-Cookie \"c=1; Path=/\"\nredirect s on /b when cookie.c present to /a as 302\nheader i on /b set Set-Cookie \"c=; Max-Age=0; Path=/\"", "redirect-loop", "r", proof.Found},
		{"and is looked at in its field", "redirect r on /a when header.cookie absent to /b as 302\nheader h on /a set Set-Cookie \"c=1; Path=/\"\nredirect s on /b when header.cookie present to /a as 302\nheader i on /b set Set-Cookie \"c=; Max-Age=0; Path=/\"", "redirect-loop", "r", proof.Found},
		{"a cookie whose name is copied comes and goes", "redirect r on /a when cookie.c absent to /b as 302\nheader h on /a set Set-Cookie \"{header.h}=1; Path=/\"\nredirect s on /b when cookie.c present to /a as 302\nheader i on /b set Set-Cookie \"c=; Max-Age=0; Path=/\"", "redirect-loop", "r", proof.Tried},
		{"a cookie that is set lets the visitor in", "redirect r on /a when cookie.c absent to /a as 302\nheader h on /a set Set-Cookie c=1", "redirect-loop", "r", proof.Tried},
		{"a cookie of another name stays", "redirect r on /a when cookie.c absent to /b as 302\nheader h on /a set Set-Cookie \"d=1; Path=/\"\nredirect s on /b when cookie.c present to /a as 302", "redirect-loop", "r", proof.Proved},
		{"and a scheme", "redirect r on /a when scheme http to https://s.example/b as permanent\nredirect s on /b when scheme http to https://s.example/a as permanent", "redirect-loop", "s", proof.Proved},
	} {
		text := "site s address https://s.example files public hosts www.s.example\n" + test.text + "\n"
		if rest, ok := strings.CutPrefix(test.text, "slashes keep\n"); ok {
			text = "site s address https://s.example files public hosts www.s.example slashes keep\n" + rest + "\n"
		}
		if err := Hold(text, 10_000, rand.New(rand.NewPCG(0, 5)), nil); err != nil {
			t.Errorf("%s: %v", test.name, err)
		}
		if got := states(engineOf(t, text), test.finding)[test.rule]; got != test.want {
			t.Errorf("%s: %s of %s is %q, want %q", test.name, test.finding, test.rule, got, test.want)
		}
	}
}

// Guards that look as if they held.
func TestGuardsThatOnlyLookAsIfTheyHeld(t *testing.T) {
	const guard = "access g in /b/ unless client 192.0.2.0/24 refuse 403\n"
	for _, test := range []struct{ name, text, want string }{
		{"nothing leads around it", guard, proof.Proved},
		{"an application above it takes what a rewrite brings", "rewrite w on /x to /app/y then next\nhandoff h in /app/ when asked /x\naccess g when agent *bot* refuse\nhandoff i in /app/", proof.Found},
		{"one above it takes what is asked for", "handoff h in /app/\naccess g when agent *bot* refuse", proof.Proved},
		{"a folder's address, and not its document's", "access g on /b/ unless client 192.0.2.0/24 refuse 403", proof.Found},
		{"a fallback for everything that is missing", guard + "fallback f to /b/ab", proof.Found},
		{"a fallback that copies a name of the tree", guard + "fallback f on /x/:name to /b/{name}", proof.Found},
		{"the page of an error", guard + "error e for 404 show /b/index.html", proof.Tried},
		{"a reply that shows it", guard + "reply r on /x with 200 show /b/ab", proof.Found},
		{"another site with the same files", guard + "site t address https://t.example files public", proof.Found},
		{"another site with that folder", guard + "site t address https://t.example files public/b", proof.Found},
		{"another site with other files", guard + "site t address https://t.example files other", proof.Proved},
		{"another host", "access g in /b/ when host s.example refuse 403", proof.Found},
		{"a query", "access g in /b/ unless query.key 1 refuse 403", proof.Tried},
		{"an application behind a rewrite", "rewrite d on /d/* to /desk/{1} then next\nhandoff h in /desk/\naccess g in /desk/ unless client 192.0.2.0/24 refuse 403", proof.Proved},
		{"an application behind a rewrite that ends the reading below", "access g in /desk/ unless client 192.0.2.0/24 refuse 403\nrewrite d on /d/* to /desk/{1} then next\nhandoff h in /desk/", proof.Found},
		{"a guard above takes the plainest stranger", "access first in / when client 203.0.113.0/24 refuse 403\nrewrite w on /x to /b/ab then finish\n" + guard, proof.Found},
		{"a guard behind a question", "access q in /b/ ask crew accounts " + Accounts + "\n" + guard, proof.Tried},
		{"whoever is admitted elsewhere is admitted here", "access open on /x admit\nrewrite w on /x to /b/ab then next\n" + guard, proof.Found},
		{"a stored sibling", "access g on /b/ab unless client 192.0.2.0/24 refuse 403", proof.Found},
	} {
		text := firstSite + "\n" + test.text + "\n"
		if err := Hold(text, 10_000, rand.New(rand.NewPCG(0, 5)), nil); err != nil {
			t.Errorf("%s: %v", test.name, err)
		}
		if got := states(engineOf(t, text), "guard-bypassed")["g"]; got != test.want {
			t.Errorf("%s: %q, want %q", test.name, got, test.want)
		}
	}
}

// Each kind of fault, planted into a good rulebook, is found.
func TestPlantedFaultsAreFound(t *testing.T) {
	read := func(text string) (*engine.Engine, error) {
		book, err := rulebook.Read("t.kibitz", []byte(text), Load)
		if err != nil {
			return nil, err
		}
		return engine.New(book, []*site.Tree{site.Memory(GoodFiles)}), nil
	}
	e, err := read(Good)
	if err != nil {
		t.Fatal(err)
	}
	known := proof.Check(e, 1)
	for _, f := range known.Findings {
		if f.Severity != proof.Note {
			t.Errorf("the good rulebook has a %s: %s", f.Name, f.Message)
		}
	}
	planted := 0
	for seed, fault := range Faults() {
		m, ok := Mutate(rand.New(rand.NewPCG(uint64(seed), 8)), Good, fault)
		if !ok {
			continue
		}
		planted++
		after, err := read(m.Text)
		if err != nil {
			continue // it is not a rulebook any more, and says so
		}
		// A condition that is dropped, or an exception that no longer is one, may be meant.
		meant := slices.Contains([]string{"drop a condition", "swap two entries", "turn a guard round"}, fault)
		if got := Try(e, known, after, proof.Requests(e)); got == Missed && !meant {
			t.Errorf("%s was not found: %s", fault, Changed(Good, m.Text))
		}
	}
	if planted < 10 {
		t.Errorf("only %d kinds of faults have a place in it", planted)
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
			if state != proof.Found || strings.Contains(text, "moves "+name+" ") { // of tables the rows are meant
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
			for _, req := range Requests(e.Book, 5000, rand.New(rand.NewPCG(seed, 6))) {
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
		requests := Requests(e.Book, 5000, rand.New(rand.NewPCG(seed, 6)))
		for n := 1; n < len(e.Book.Rules); n++ {
			a, b := e.Book.Rules[n-1], e.Book.Rules[n]
			i := a.Place.Line - 1
			if a.Site != b.Site || strings.HasPrefix(lines[i], "rewrite") || strings.HasPrefix(lines[i+1], "rewrite") || proof.Meet(e, a, b) {
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
