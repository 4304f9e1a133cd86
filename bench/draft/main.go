// Command draft measures how well a rulebook is drafted from answers: rulebooks answer
// requests, half of the addresses of each entry are hidden, and a draft is made of the others.
// It is told how many of the answers that were seen the draft gives, how many of the hidden
// ones that rules give, and with how many of their header fields, how large it is beside the
// true one, whether both are proved alike, and how long it took.
//
// The rulebooks are the large ones, or with -random N that many small sites. With -served each
// is served over a connection of this machine, and what is seen is what kibitz record -probe
// keeps of it.
//
// Run it in the project's own folder.
package main

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/url"
	"os"
	"slices"
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
	"kibitz/internal/live"
)

// bench is what is asked for.
type bench struct {
	wrong         float64
	bare, served  bool
	ask, random   int
	show          string
	total         measured
	several, like int // rulebooks, and those that are proved alike
}

func main() {
	b := &bench{}
	flag.Float64Var(&b.wrong, "wrong", 0, "the share of answers that are wrong")
	flag.BoolVar(&b.bare, "bare", false, "without the tree")
	flag.BoolVar(&b.served, "served", false, "ask over a connection, with header fields, bodies and probes")
	flag.IntVar(&b.ask, "ask", 0, "ask the true rulebook so many questions, as draft -at does of a server")
	flag.IntVar(&b.random, "random", 0, "measure this number of random sites, in the place of the large rulebooks")
	flag.StringVar(&b.show, "show", "", "print the draft of this rulebook, and what it misses")
	flag.Parse()
	if err := b.run(); err != nil {
		fmt.Fprintln(os.Stderr, "draft:", err)
		os.Exit(1)
	}
}

// A question is a request with the true answer to it.
type question struct {
	request *request.Request
	answer  *engine.Response
}

// measured are the counts of a draft.
type measured struct {
	answers, agree, hidden, held, right, headers, entries, trueEntries, rows, trueRows, wrong, named int
	took                                                                                             time.Duration
}

func (m *measured) add(o measured) {
	m.answers += o.answers
	m.agree += o.agree
	m.hidden += o.hidden
	m.held += o.held
	m.right += o.right
	m.headers += o.headers
	m.entries += o.entries
	m.trueEntries += o.trueEntries
	m.rows += o.rows
	m.trueRows += o.trueRows
	m.wrong += o.wrong
	m.named += o.named
	m.took += o.took
}

func (m *measured) row(name string, alike string) {
	share := func(n, of int) string { return fmt.Sprintf("%.1f%%", 100*float64(n)/float64(max(1, of))) }
	headers, named := "-", "-"
	if m.headers > 0 {
		headers = share(m.headers, m.right)
	}
	if m.wrong > 0 {
		named = share(m.named, m.wrong)
	}
	fmt.Printf("| %s | %d | %s | %s | %d | %s | %s | %d, %d | %d, %d | %s | %s |\n", name, m.answers, share(m.agree, m.answers), named, m.hidden, share(m.right, m.held), headers,
		m.entries, m.trueEntries, m.rows, m.trueRows, alike, m.took.Round(time.Millisecond))
}

func (b *bench) run() error {
	fmt.Printf("| rulebook | answers | given | wrong ones named | hidden | given, of those by rules but tables | all header fields, of these | entries, true | rows, true | proved alike | time |\n| --- | ---: | ---: | ---: | ---: | ---: | ---: | ---: | ---: | --- | ---: |\n")
	if b.random > 0 {
		for seed := range b.random {
			e, visits, err := randomSite(uint64(seed))
			if err != nil {
				return err
			}
			if err := b.measure(fmt.Sprint("random ", seed), e, visits); err != nil {
				return err
			}
		}
		b.total.took /= time.Duration(b.random)
		b.total.row(fmt.Sprint(b.random, " random sites"), fmt.Sprintf("%d of %d", b.like, b.several))
		return nil
	}
	for _, name := range large.Names {
		book, err := large.Open(name)
		if err != nil {
			return err
		}
		e, err := book.Load(book.Text)
		if err != nil {
			return err
		}
		if err := b.measure(name, e, nil); err != nil {
			return err
		}
	}
	return nil
}

// measure drafts one rulebook anew, of what the proofs and its visitors ask for.
func (b *bench) measure(name string, e *engine.Engine, visits []string) error {
	r := rand.New(rand.NewPCG(1, 2))
	seen, hidden := halves(r, questions(e, visits))
	source := &draft.Source{Table: "moves.csv"}
	if !b.bare {
		source.Files, source.Tree = "public", e.Tree(e.Book.Sites[0])
	}
	ask, done, err := b.asker(e)
	if err != nil {
		return err
	}
	defer done()
	source.Answers = ask(seen, true)
	m := measured{trueEntries: len(e.Book.Rules), trueRows: rowsOf(e.Book)}
	wrong := map[*draft.Answer]bool{}
	known := map[string]bool{}
	for _, a := range source.Answers {
		known[a.Request.Address.String()] = true
		if r.Float64() < b.wrong {
			wrong[a] = true
			others := slices.DeleteFunc([]int{500, 404, 200}, func(status int) bool { return status == a.Status })
			a.Status, a.Location, a.Sum, a.Header = others[r.IntN(len(others))], "", "", nil
		}
	}
	hidden = slices.DeleteFunc(hidden, func(q question) bool { return known[q.request.Address.String()] })
	m.hidden, m.wrong = len(hidden), len(wrong)
	start := time.Now()
	d, err := source.Write()
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	asked := map[string]bool{}
	for more := true; more && len(asked) < b.ask; {
		var next []question
		for _, q := range d.Questions {
			address, err := request.Parse(q, request.Address{})
			if err == nil && !asked[q] && len(asked) < b.ask {
				asked[q] = true
				req := &request.Request{Address: address}
				next = append(next, question{req, e.Predict(req)})
			}
		}
		source.Answers = append(source.Answers, ask(next, false)...)
		if d, err = source.Write(); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		more = len(next) > 0
	}
	m.took = time.Since(start)
	m.answers, m.agree, m.entries, m.rows = d.Answers, d.Agree, d.Entries, d.Rows
	for _, l := range d.Left {
		if wrong[l.Answer] {
			m.named++
		}
	}
	if name == b.show {
		fmt.Println(d.Rulebook)
		for _, l := range d.Left {
			fmt.Println("left:", l.Answer.Request.Verb(), l.Answer.Request.Address, l.Answer.Status, l.Answer.Location, "drafted:", l.Predicted, l.Why)
		}
	}
	drafted, err := rulebook.Read("draft.kibitz", []byte(d.Rulebook), d.Read)
	if err != nil {
		return err
	}
	de := engine.New(drafted, []*site.Tree{source.Tree})
	for _, q := range hidden {
		if q.answer.By == nil || q.answer.By.Kind == rulebook.KindMoves { // nothing can tell single rows
			continue
		}
		m.held++
		got := de.Predict(q.request)
		if got.Status != q.answer.Status || got.Location != q.answer.Location {
			if name == b.show {
				fmt.Println("missed:", q.answer.By.Name, q.request.Address, q.answer.Status, q.answer.Location, "drafted:", got.Status, got.Location)
			}
			continue
		}
		m.right++
		if b.served && slices.Equal(fields(got), fields(q.answer)) {
			m.headers++
		} else if b.served && name == b.show {
			fmt.Println("fields:", q.request.Address, fields(q.answer), "drafted:", fields(got))
		}
	}
	alike := "no"
	likeness := proof.Compare(e, de, 1)
	if likeness.Alike() {
		alike = "yes"
		b.like++
	}
	if name == b.show {
		for _, o := range likeness.Differences {
			fmt.Println("not alike:", o.Request.Verb(), o.Request.Address, o.Was.Status, o.Was.Location, "drafted:", o.Is.Status, o.Is.Location)
		}
		fmt.Println("not proved:", likeness.Open)
	}
	b.several++
	b.total.add(m)
	if b.random == 0 || name == b.show {
		m.row(name, alike)
	}
	return nil
}

// fields are the header fields of an answer, sorted.
func fields(r *engine.Response) (out []string) {
	for _, h := range r.Headers {
		out = append(out, strings.ToLower(h.Name)+": "+h.Value)
	}
	slices.Sort(out)
	return out
}

// asker gives what asks the true rulebook: for its prediction, or over a connection.
func (b *bench) asker(e *engine.Engine) (ask func(all []question, probe bool) []*draft.Answer, done func(), err error) {
	if !b.served {
		return func(all []question, _ bool) (out []*draft.Answer) {
			for _, q := range all {
				out = append(out, &draft.Answer{Request: q.request, Status: q.answer.Status, Location: q.answer.Location})
			}
			return out
		}, func() {}, nil
	}
	s := live.NewServer(e)
	s.Forwarded = true
	l, err := s.Listen("", false)
	if err != nil {
		return nil, nil, err
	}
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error)
	go func() { ended <- s.Serve(ctx, l) }()
	at, err := url.Parse(l.URL())
	if err != nil {
		stop()
		return nil, nil, err
	}
	o := live.Options{At: []*url.URL{at}, Parallel: 8, Timeout: 10 * time.Second, Forwarded: true}
	return func(all []question, probe bool) (out []*draft.Answer) {
		var requests []*live.Answered
		for _, q := range all {
			requests = append(requests, &live.Answered{Request: q.request})
		}
		if probe {
			requests = append(requests, live.Probes(requests, hostsOf(e.Book.Sites[0]))...)
		}
		live.Record(ctx, requests, o, func(a *live.Answered) {
			if a.Failed != nil {
				fmt.Fprintln(os.Stderr, "draft:", a.Failed)
			} else if answer, ok := draft.AnswerOf("asked", a.Item()); ok {
				out = append(out, answer)
			}
		})
		return out
	}, func() { stop(); <-ended }, nil
}

// hostsOf gives the hosts that a site lists by name.
func hostsOf(s *rulebook.Site) (out []string) {
	for _, h := range s.Hosts {
		if name := h.String(); !strings.ContainsAny(name, "*~:{") {
			out = append(out, name)
		}
	}
	return out
}

// questions are plain requests of the first site, one for each address: those that the
// proofs make of the rulebook, what visitors ask for, the files of its tree, and the rows of its
// tables.
func questions(e *engine.Engine, visits []string) (all []question) {
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
	for _, at := range visits {
		if a, err := request.Parse(at, base); err == nil {
			ask(&request.Request{Address: a})
		}
	}
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
