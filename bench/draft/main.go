// Command draft measures how well a rulebook is drafted from answers: the large rulebooks
// answer requests, half of the addresses of each entry are hidden, and a draft is made of
// the others. It is told how many of the answers that were seen the draft gives, how many of
// the hidden ones that rules give, how large it is beside the true one, and how long it took.
//
// Run it in the project's own folder.
package main

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"time"

	"kibitz/bench/large"
	"kibitz/core/draft"
	"kibitz/core/engine"
	"kibitz/core/proof"
	"kibitz/core/replay"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

func main() {
	wrong := flag.Float64("wrong", 0, "the share of answers that are wrong")
	bare := flag.Bool("bare", false, "without the tree")
	ask := flag.Int("ask", 0, "ask the true rulebook so many questions, as draft -at does of a server")
	show := flag.String("show", "", "print the draft of this rulebook")
	flag.Parse()
	if err := run(*wrong, *bare, *ask, *show); err != nil {
		fmt.Fprintln(os.Stderr, "draft:", err)
		os.Exit(1)
	}
}

// A question is a request with the true answer to it.
type question struct {
	request *request.Request
	answer  *engine.Response
}

func run(wrong float64, bare bool, ask int, show string) error {
	fmt.Printf("| rulebook | answers | given | hidden | given, of those by rules but tables | entries, true | rows, true | time |\n| --- | ---: | ---: | ---: | ---: | ---: | ---: | ---: |\n")
	for _, name := range large.Names {
		book, err := large.Open(name)
		if err != nil {
			return err
		}
		e, err := book.Load(book.Text)
		if err != nil {
			return err
		}
		r := rand.New(rand.NewPCG(1, 2))
		seen, hidden := halves(r, questions(e))
		source := &draft.Source{Table: "moves.csv"}
		if !bare {
			source.Files, source.Tree = "public", e.Tree(e.Book.Sites[0])
		}
		for _, q := range seen {
			a := &draft.Answer{Request: q.request, Status: q.answer.Status, Location: q.answer.Location}
			if r.Float64() < wrong {
				a.Status, a.Location = []int{500, 404, 200}[r.IntN(3)], ""
			}
			source.Answers = append(source.Answers, a)
		}
		start := time.Now()
		d, err := source.Write()
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		asked := map[string]bool{}
		for more := true; more && len(asked) < ask; {
			more = false
			for _, q := range d.Questions {
				address, err := request.Parse(strings.TrimSuffix(d.Origin, "/")+q, request.Address{})
				if err != nil || asked[q] || len(asked) == ask {
					continue
				}
				asked[q], more = true, true
				req := &request.Request{Address: address}
				got := e.Predict(req)
				source.Answers = append(source.Answers, &draft.Answer{Request: req, Status: got.Status, Location: got.Location})
			}
			if d, err = source.Write(); err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
		}
		took := time.Since(start)
		if name == show {
			fmt.Println(d.Rulebook)
			for _, l := range d.Left {
				fmt.Println(l.Answer.Request.Address, l.Answer.Status, l.Answer.Location, l.Predicted, l.Why)
			}
		}
		drafted, err := rulebook.Read("draft.kibitz", []byte(d.Rulebook), func(string) ([]byte, error) { return []byte(d.Table), nil })
		if err != nil {
			return err
		}
		var tree *site.Tree
		if !bare {
			tree = source.Tree
		}
		de := engine.New(drafted, []*site.Tree{tree})
		right, held := 0, 0
		for _, q := range hidden {
			if q.answer.By == nil || q.answer.By.Kind == rulebook.KindMoves { // nothing can tell single rows
				continue
			}
			held++
			if got := de.Predict(q.request); got.Status == q.answer.Status && got.Location == q.answer.Location {
				right++
			} else if name == show {
				fmt.Println("missed:", q.answer.By.Name, q.request.Address, q.answer.Status, q.answer.Location, "drafted:", got.Status, got.Location)
			}
		}
		fmt.Printf("| %s | %d | %.1f%% | %d | %.1f%% | %d, %d | %d, %d | %s |\n", name, d.Answers, 100*float64(d.Agree)/float64(d.Answers), len(hidden), 100*float64(right)/float64(max(1, held)),
			d.Entries, len(e.Book.Rules), d.Rows, rowsOf(e.Book), took.Round(time.Millisecond))
	}
	return nil
}

// questions are plain requests of the first site, one for each address: those that the
// proofs make of the rulebook, the files of its tree, and the rows of its tables.
func questions(e *engine.Engine) (all []question) {
	seen := map[string]bool{}
	ask := func(req *request.Request) {
		req = &request.Request{Address: req.Address}
		if s := e.SiteFor(req.Address.Host); s != e.Book.Sites[0] || seen[req.Address.String()] {
			return
		}
		seen[req.Address.String()] = true
		if r := e.Predict(req); r.Word() == "" && r.Status != 401 && r.Status != 400 {
			all = append(all, question{req, r})
		}
	}
	for _, req := range proof.Requests(e) {
		ask(req)
	}
	base := e.Book.Sites[0].Address
	for _, rule := range e.Book.Rules {
		if m, ok := rule.Action.(*rulebook.Moves); ok && m.Table != nil {
			for _, row := range m.Table.Rows {
				a := base
				a.Path, a.Query, a.HasQuery = row.Path, row.Query, row.HasQuery
				ask(&request.Request{Address: a})
			}
		}
	}
	replay.EveryFile(e)(base, func(item *list.Item) { ask(item.Request) })
	return all
}

// halves parts the questions of each entry at random.
func halves(r *rand.Rand, all []question) (seen, hidden []question) {
	r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	n := map[*rulebook.Rule]int{}
	for _, q := range all {
		if n[q.answer.By]++; n[q.answer.By]%2 == 1 {
			seen = append(seen, q)
		} else {
			hidden = append(hidden, q)
		}
	}
	return seen, hidden
}

func rowsOf(b *rulebook.Book) (n int) {
	for _, rule := range b.Rules {
		if m, ok := rule.Action.(*rulebook.Moves); ok && m.Table != nil {
			n += len(m.Table.Rows)
		}
	}
	return n
}
