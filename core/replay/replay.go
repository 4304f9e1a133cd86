// Package replay predicts the answers to many requests, over all cores, and
// adds up what needs a look.
package replay

import (
	"cmp"
	"slices"
	"sync"
	"sync/atomic"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/pages"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/core/site"
)

// A Result is one request of a list, with its answer.
type Result struct {
	List     string
	Item     *list.Item
	Response *engine.Response
	Visit    *browser.Visit // nil where nothing needs it: the answer is not a redirect
	Unmet    []string       // expectations that are not met
	Query    bool           // an entry looked at the query, so that it is told with the address
	From     string         // the page that the list itself names as the one that it was asked from; "" for none
	Robot    bool           // a program that asks by itself, by the name that the list has
	Said     *any           // where who is shown the result keeps what is said of its answer, as long as that is remembered; nil where it is not
}

// Redirects is the number of redirects that the visit follows or meets.
func (r *Result) Redirects() int {
	if r.Visit == nil {
		return 0
	}
	return r.Visit.Redirects()
}

// A Source hands the requests of a list to yield, in order.
type Source struct {
	Name string
	Read func(base request.Address, yield func(*list.Item)) (list.Counts, error)
}

// Predict answers one request of a list.
func Predict(e *engine.Engine, name string, item *list.Item) *Result {
	r := &Result{List: cmp.Or(item.List, name), Item: item, Response: e.Predict(item.Request)}
	if item.Expects != nil || browser.Follows(r.Response) {
		r.Visit = browser.OpenFrom(e, item.Request, r.Response)
	}
	r.Query = looksAtQuery(e, item.Request, r.Response, r.Visit, false)
	if item.Expects != nil {
		r.Unmet = browser.Unmet(item.Expects, r.Visit)
	}
	return r
}

// queried reports whether an entry looked at the query, for an answer without the header or on
// the visit that it begins, which may be nil.
func queried(resp *engine.Response, v *browser.Visit) bool {
	return resp.Queried() || v != nil && slices.ContainsFunc(v.Hops, func(h browser.Hop) bool { return h.Response.Queried() })
}

// looksAtQuery is queried for an answer with the header, too: that is predicted once more
// without, since what is looked at for a header alone is not told with the address.
func looksAtQuery(e *engine.Engine, req *request.Request, resp *engine.Response, v *browser.Visit, light bool) bool {
	if !light && e.ReadsQuery(req.Address.Host) {
		resp, v = answer(e, req, true)
	}
	return queried(resp, v)
}

// answer gives the answer to a request and the visit that it begins, nil where nothing needs
// it; light: without the header of the answer, which is quicker.
func answer(e *engine.Engine, req *request.Request, light bool) (*engine.Response, *browser.Visit) {
	if !light {
		resp := e.Predict(req)
		if !browser.Follows(resp) {
			return resp, nil
		}
		return resp, browser.OpenFrom(e, req, resp)
	}
	resp := &engine.Response{}
	e.Outcome(req, resp)
	if !browser.Follows(resp) {
		return resp, nil
	}
	return resp, browser.OpenOutcome(e, req, resp)
}

// Options say how requests are replayed.
type Options struct {
	Workers int
	Base    request.Address   // what paths are asked of; if it is empty, the first site
	Headers []request.Header  // of every request that does not have them
	Fields  map[string]string // as in list.Options
	Stop    *atomic.Bool      // set: the replay ends early; nil: never
	By      *Breakdown        // that lines of logs are counted into on the fast path; may be nil
	Robots  []string          // words of the names of robots, beside RobotWords, in small letters
	Choice                    // of what is counted and shown
	Each    func() Show       // makes what each worker shows its results to; nil where none is shown
	Whole   bool              // what is shown has the header of answers, too, which takes longer to predict

	forget bool // predict each request anew
}

func (o *Options) stopped() bool { return o.Stop != nil && o.Stop.Load() }

func (o *Options) base(e *engine.Engine) request.Address {
	if o.Base.Host == "" {
		return e.Book.BaseAddress()
	}
	return o.Base
}

// addItem predicts the answer to a request and counts it; nil if it is not among those
// that are meant.
func (t *Tally) addItem(m *memo, name string, item *list.Item, o *Options) *Result {
	from := fromPage(item.Request)
	agent, _ := item.Request.Get("user-agent")
	item.Request.AddMissing(o.Headers)
	var r *Result
	if item.Expects != nil {
		r = Predict(m.engine, name, item)
	} else {
		r = &Result{List: cmp.Or(item.List, name), Item: item}
		a := m.predict(item.Request, !o.Whole)
		r.Response, r.Visit, r.Said = a.response, a.visit, &a.said
		r.Query = looksAtQuery(m.engine, item.Request, r.Response, r.Visit, !o.Whole)
	}
	r.From, r.Robot = from, m.isRobot(agent, o.Robots)
	if !o.spans(item.Request.Time) || !o.Of(r) {
		return nil
	}
	t.Add(r)
	return r
}

// fromPage gives the page that a list names as the one that a request came from.
func fromPage(req *request.Request) string {
	page, _ := req.Get(referrer.Name)
	if page == "-" {
		return ""
	}
	return page
}

const batchSize = 256

// A batch is some requests of a list, which one worker predicts.
type batch struct {
	number int
	name   string
	items  []*list.Item
}

// Run predicts all requests of the sources. The tally does not depend on the
// number of workers. An error is that of a source which could not be read to
// its end; the tally has what came before it.
func Run(e *engine.Engine, sources []Source, o Options) (*Tally, error) {
	work := make(chan batch, o.Workers)
	total := NewTally()
	tallies := make([]*Tally, o.Workers)
	shown := newTurns()
	var pool sync.WaitGroup
	for i := range tallies {
		tallies[i] = newTally(total.room)
		pool.Go(func() {
			m := newMemo(e, o.forget)
			var show Show
			if o.Each != nil {
				show = o.Each()
			}
			for b := range work {
				for _, item := range b.items {
					if o.stopped() {
						break
					}
					if r := tallies[i].addItem(m, b.name, item, &o); r != nil && o.Each != nil {
						show.Result(r)
					}
				}
				m.trim()
				if o.Each != nil {
					shown.take(b.number, show.End)
				}
			}
		})
	}
	var failed error
	number := 0
	for _, s := range sources {
		var items []*list.Item
		send := func() {
			if len(items) > 0 {
				work <- batch{number, s.Name, items}
				number++
			}
			items = nil
		}
		counts, err := s.Read(o.base(e), func(item *list.Item) {
			if items = append(items, item); len(items) == batchSize {
				send()
			}
		})
		send()
		total.AddCounts(s.Name, counts)
		if total.Partial = o.stopped(); err != nil || total.Partial {
			failed = err
			break
		}
	}
	close(work)
	pool.Wait()
	for _, t := range tallies {
		total.Merge(t)
	}
	return total, failed
}

// EveryLink gives a request for each address that the files of the trees refer to, from the
// page that refers to it; those of other sites are not asked for. With once each address is
// asked for by the first page alone.
func EveryLink(e *engine.Engine, all *pages.Site, once bool) func(request.Address, func(*list.Item)) (list.Counts, error) {
	return func(_ request.Address, yield func(*list.Item)) (list.Counts, error) {
		c := list.Counts{Of: "link"}
		ask := func(p *pages.Page, line int, to request.Address, times int) {
			if !e.Serves(to.Host) {
				return
			}
			c.Lines++
			c.Requests++
			item := &list.Item{Request: &request.Request{Address: to}, Line: line, List: p.Name(), Times: int64(times)}
			item.Request.Address.Fragment = ""
			if from := browser.Referrer(p.Address, to); from != "" {
				item.Request.Headers = []request.Header{{Name: "Referer", Value: from}}
			}
			yield(item)
		}
		for _, t := range all.Targets {
			if once {
				ask(t.Links[0].Page, t.Links[0].Line, t.Links[0].To, len(t.Links))
				continue
			}
			for _, l := range t.Links {
				ask(l.Page, l.Line, l.To, 0)
			}
		}
		announced := map[request.Address]bool{}
		for _, p := range all.Pages {
			for _, to := range p.Hints {
				if !once || !announced[to] {
					announced[to] = true
					ask(p, 0, to, 0)
				}
			}
		}
		return c, nil
	}
}

// EveryFile gives a request for each file and folder of the trees that is not
// hidden.
func EveryFile(e *engine.Engine) func(request.Address, func(*list.Item)) (list.Counts, error) {
	return func(_ request.Address, yield func(*list.Item)) (list.Counts, error) {
		c := list.Counts{Of: "file"}
		for _, s := range e.Book.Sites {
			e.Tree(s).Each(func(n *site.Node) {
				if n.Hidden {
					return
				}
				c.Lines++
				c.Requests++
				item := &list.Item{Request: &request.Request{Address: s.Address}, Line: c.Lines}
				item.Request.Address.Path = n.Path
				if n.Folder {
					item.Request.Address.Path += "/"
				}
				yield(item)
			})
		}
		return c, nil
	}
}
