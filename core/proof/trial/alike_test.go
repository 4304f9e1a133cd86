package trial

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"kibitz/core/engine"
	"kibitz/core/proof"
	"kibitz/core/request"
)

// Of two random rulebooks, one of which is the other with a line changed, dropped, moved or
// nothing done to it: where they are said to answer every request alike, none is answered
// otherwise; and what is said to be answered otherwise is.
func TestComparedForEveryRequest(t *testing.T) {
	books := 150
	if testing.Short() {
		books = 30
	}
	count := map[string]int{}
	for seed := range uint64(books) {
		r := rand.New(rand.NewPCG(seed, 31))
		before := Book(r)
		after := changedBook(r, before)
		a, err := Read(before)
		if err != nil {
			t.Fatal(err)
		}
		b, err := Read(after)
		if err != nil {
			continue
		}
		l := proof.Compare(a, b, 1)
		for _, d := range l.Differences {
			if said(a, b, d.Request) == "" {
				t.Fatalf("seed %d: %s is said to be answered otherwise, and is not, with\n%s\nand\n%s", seed, d.Request.Address, before, after)
			}
		}
		switch {
		case l.Alike():
			count["alike"]++
		case len(l.Open) > 0:
			count["open"]++
			continue
		default:
			count["different"]++
		}
		if len(l.Differences) > 0 {
			continue
		}
		for _, req := range Requests(a.Book, 3000, r) {
			for _, method := range []string{req.Method, "POST"} {
				asked := *req
				asked.Method = method
				if what := said(a, b, &asked); what != "" {
					t.Fatalf("seed %d: every request is said to be answered alike, and %s %s %v is not: %s, with\n%s\nand\n%s", seed, asked.Verb(), req.Address, req.Headers, what, before, after)
				}
			}
		}
	}
	for _, state := range []string{"alike", "different"} {
		if count[state] < books/8 {
			t.Errorf("only %d of %d are %s: %v", count[state], books, state, count)
		}
	}
}

// said says how two rulebooks answer a request otherwise; "" where they do not.
func said(a, b *engine.Engine, req *request.Request) string {
	was, is := a.Predict(req), b.Predict(req)
	x, y := answerOf(was), answerOf(is)
	if x == y {
		return ""
	}
	return x + " and " + y
}

func answerOf(r *engine.Response) string {
	s := fmt.Sprint(r.Status, " ", r.Location, r.Type, r.Headers)
	if r.File != nil {
		s += r.File.Path
	}
	if r.Status == 0 { // an application answers, or files that are not known
		s += fmt.Sprint(r.Cause)
	}
	return s
}

// changedBook changes a line of a rulebook, or none.
func changedBook(r *rand.Rand, text string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	i := 1 + r.IntN(max(1, len(lines)-1))
	switch {
	case len(lines) < 3 || i >= len(lines) || strings.HasPrefix(lines[i], "site "):
		return text
	}
	switch r.IntN(5) {
	case 0:
		lines = slices.Delete(lines, i, i+1)
	case 1, 2: // move it to another place of its site
		for j := i + 1; j < len(lines) && !strings.HasPrefix(lines[j], "site "); j++ {
			lines[j-1], lines[j] = lines[j], lines[j-1]
		}
	case 3:
		lines[i] = strings.Replace(lines[i], " to /", " to /b", 1)
	}
	return strings.Join(lines, "\n") + "\n"
}
