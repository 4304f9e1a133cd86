package draft

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"kibitz/core/engine"
	"kibitz/core/proof"
	"kibitz/core/proof/trial"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// Whatever rulebook gives the answers: the draft is a rulebook, gives each of them or lists
// it with a reason, has no example that fails, and contradicts no page that it was shown.
func TestDraftsOfRandomRulebooks(t *testing.T) {
	books := 150
	if testing.Short() {
		books = 20
	}
	given, all := 0, 0
	for seed := range uint64(books) {
		r := rand.New(rand.NewPCG(seed, 11))
		text := trial.Anything(r, 10)
		book, err := rulebook.Read("a.kibitz", []byte(text), trial.AnythingLoad)
		if err != nil {
			t.Fatalf("%v in\n%s", err, text)
		}
		tree := site.Memory(trial.AnythingFiles)
		e := engine.New(book, []*site.Tree{tree, nil})
		s := &Source{Files: "public", Tree: tree, Table: "moves.csv"}
		for range 200 {
			req := trial.AnyRequest(r)
			req = &request.Request{Address: req.Address}
			if resp := e.Predict(req); resp.Word() == "" {
				s.Answers = append(s.Answers, &Answer{List: "l", Line: len(s.Answers) + 1, Request: req, Status: resp.Status, Location: resp.Location})
			}
		}
		if len(s.Answers) == 0 {
			continue
		}
		d, err := s.Write()
		if err != nil {
			t.Fatalf("seed %d: %v\n%s", seed, err, text)
		}
		if d.Agree+len(d.Left) != d.Answers || d.Answers != len(s.Answers) {
			t.Errorf("seed %d: %d given, %d left of %d", seed, d.Agree, len(d.Left), d.Answers)
		}
		given, all = given+d.Agree, all+d.Answers
		drafted, err := rulebook.Read("draft.kibitz", []byte(d.Rulebook), func(string) ([]byte, error) { return []byte(d.Table), nil })
		if err != nil {
			t.Fatalf("seed %d: %v in\n%s\n%s", seed, err, d.Rulebook, d.Table)
		}
		de := engine.New(drafted, []*site.Tree{tree})
		for _, f := range proof.Check(de, 1).Findings {
			if f.Name == "example-fails" || f.Name == "redirect-loop" && !loops(e, s.Answers) {
				t.Errorf("seed %d: %s %s in\n%s", seed, f.Name, f.Message, d.Rulebook)
			}
		}
		left := map[string]bool{}
		for _, l := range d.Left {
			if l.Why == "" || l.Predicted == "" {
				t.Errorf("seed %d: %s is left without a reason", seed, l.Answer.Request.Address)
			}
			left[l.Answer.Request.Address.String()] = true
		}
		for _, a := range s.Answers {
			if got := de.Predict(a.Request); !left[a.Request.Address.String()] && got.Word() == "" && got.Status != a.Status && got.Status != 200 {
				t.Errorf("seed %d: %s is said to be given: %d, and is %d", seed, a.Request.Address, a.Status, got.Status)
			}
		}
	}
	t.Logf("%d of %d answers are given (%.1f%%)", given, all, 100*float64(given)/float64(all))
	if 100*given < 35*all { // most of what they answer cannot be seen, or is as good as random
		t.Errorf("only %d of %d answers are given", given, all)
	}
}

// loops reports whether the answers themselves send visitors round.
func loops(e *engine.Engine, answers []*Answer) bool {
	for _, a := range answers {
		at := a.Request
		for range 20 {
			r := e.Predict(at)
			if r.Location == "" {
				break
			}
			to, err := at.Address.Resolve(r.Location)
			if err != nil {
				break
			}
			if at = (&request.Request{Address: to}); to == a.Request.Address {
				return true
			}
		}
	}
	return false
}

// A few answers say what is meant; more of them do not change that.
func TestTemplates(t *testing.T) {
	for _, test := range []struct{ pairs, want string }{
		{"/a/1 /b/1, /a/22 /b/22, /a/333 /b/333", `on /a/:number(\d+) to /b/{number} as permanent`},
		{"/a/x.html /b/x/, /a/y.html /b/y/, /a/z.html /b/z/", "on /a/:name.html to /b/{name}/ as permanent"},
		{"/A/X.HTM /b/x/, /A/YY.HTM /b/yy/, /A/Z-1.HTM /b/z-1/", "on /A/:name.HTM to /b/{name|lower}/ as permanent"},
		{"/a/b/c/x /d/x, /a/b/c/y/z /d/y/z, /a/b/c/w/w/w /d/w/w/w", "on /a/b/c/:rest(.*) to /d/{rest} as permanent"},
		{"/p-1-q /r/q/1, /p-2-s /r/s/2, /p-3-t /r/t/3", `on /p-:number(\d+)-:name to /r/{name}/{number} as permanent`},
		{"/x /y, /z /y, /w /y", "on /w /x /z to /y as permanent"},
		{"/f/ /y, /f/a /y, /f/b/c /y", "in /f/ to /y as permanent"},
		{"/q?id=7 /n/7, /q?id=8 /n/8, /q?id=99 /n/99", `on /q when query.id ~(?<id>\d+) to /n/{id} as permanent query drop`},
	} {
		s := &Source{Table: "moves.csv"}
		for _, pair := range strings.Split(test.pairs, ", ") {
			old, to, _ := strings.Cut(pair, " ")
			a, err := request.Parse(old, request.Address{Scheme: "https", Host: "s.example", Port: 443, Path: "/"})
			if err != nil {
				t.Fatal(err)
			}
			s.Answers = append(s.Answers, &Answer{Request: &request.Request{Address: a}, Status: 301, Location: to})
		}
		d, err := s.Write()
		if err != nil {
			t.Fatal(err)
		}
		if got := strings.Join(strings.Fields(d.Rulebook), " "); !strings.Contains(got, test.want) || d.Rows != 0 {
			t.Errorf("%s: %s is not in\n%s%s", test.pairs, test.want, d.Rulebook, d.Table)
		}
		if d.Agree != d.Answers {
			t.Error(fmt.Sprint(d.Left))
		}
	}
}
