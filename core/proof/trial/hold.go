package trial

// What is claimed of a rulebook, held against every short request.

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"path"
	"slices"
	"strings"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/proof"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// A Count is how many entries and sites had each claim.
type Count map[string]map[string]int // by finding, by state

// A judge holds one report to account.
type judge struct {
	*engine.Engine
	state map[string]string         // what is claimed, by the finding and the name of the entry or site
	hosts map[*rulebook.Rule]string // where each redirect has led
	last  *visited                  // of the request before
	files map[string]bool           // that were served, by site and path
	rows  map[string]bool           // that are said to be reached by nobody, by entry, table and line
}

// visited is a request and what became of it.
type visited struct {
	*request.Request
	*browser.Visit
}

// A denial looks at a visit, and calls deny with each entry or site that has shown what
// may have been said to be impossible for it.
type denial func(j *judge, v *visited, deny func(who string))

// denials are all ways in which a request can deny a claim. A finding that has none is
// never said to be proved.
var denials = map[string]denial{
	"redirect-loop": eachHop(func(v *visited, i int) bool { return v.Ending == browser.Loop && i >= v.Again }),
	"runaway":       eachHop(func(v *visited, i int) bool { return v.Ending == browser.TooLong && i >= len(v.Hops)-2 }),
	"rewrite-loop":  eachHop(func(v *visited, i int) bool { return v.Hops[i].Response.Cause == engine.CauseRewriteLoop }),
	"bad-target": eachHop(func(v *visited, i int) bool {
		return v.Hops[i].Response.Cause == engine.CauseBadTarget
	}),
	"chain": eachHop(func(v *visited, i int) bool {
		return v.Ending == browser.Arrived && i+1 < len(v.Hops) && browser.Follows(v.Hops[i+1].Response) && v.Hops[i].Request.Address.Target() != v.Hops[i+1].Request.Address.Target()
	}),
	"downgrade": eachHop(func(v *visited, i int) bool {
		return i+1 < len(v.Hops) && v.Hops[i].Request.Address.Scheme == "https" && v.Hops[i+1].Request.Address.Scheme == "http"
	}),
	"method-lost": eachHop(func(v *visited, i int) bool {
		return v.Ending == browser.ToApp && i+1 < len(v.Hops) && v.Hops[i].Request.Verb() == "POST" && v.Hops[i+1].Request.Verb() == "GET" && v.Hops[i].Response.Status != 303
	}),
	"query-lost": eachHop(func(v *visited, i int) bool {
		h := v.Hops[i]
		r, ok := h.Response.By, h.Response.By != nil && h.Response.By.Kind == rulebook.KindRedirect
		says := func(c rulebook.Clause) bool { return c.Keyword.Text == "query" }
		return ok && i+1 < len(v.Hops) && strings.Contains(r.Action.(*rulebook.Redirect).To.Text, "?") && !slices.ContainsFunc(r.Entry.Clauses, says) && h.Request.Address.Query != "" && !strings.Contains(v.Hops[i+1].Request.Address.Query, h.Request.Address.Query)
	}),
	"password-in-clear": eachHop(func(v *visited, i int) bool {
		return v.Hops[i].Request.Address.Scheme == "http" && v.Hops[i].Response.Cause == engine.CauseAsked
	}),
	"error-page-missing": func(j *judge, v *visited, deny func(string)) {
		if r := v.Last(); r.By != nil && r.By.Kind == rulebook.KindError && r.File == nil && strings.Contains(fmt.Sprint(r.By.Entry), "show") {
			deny(r.By.Name)
		}
	},
	"never-reached":    (*judge).reached,
	"guard-bypassed":   (*judge).bypassed,
	"open-target":      (*judge).variousHosts,
	"permanent-varies": (*judge).storedElsewhere,
	"exposed": func(j *judge, v *visited, deny func(string)) {
		if r := v.Hops[0].Response; anybody(v.Request) && r.Status == 200 && r.File != nil && slices.Contains([]string{".bak", ".sql"}, path.Ext(r.File.Path)) && j.isFile(v.Request, r.File) {
			deny(j.SiteFor(v.Request.Address.Host).Name)
		}
	},
	"listing-open": func(j *judge, v *visited, deny func(string)) {
		if r := v.Hops[0].Response; anybody(v.Request) && r.Cause == engine.CauseListing {
			if page, err := r.Content(); err == nil && strings.Contains(string(page), "a.bak") {
				deny(j.SiteFor(v.Request.Address.Host).Name)
			}
		}
	},
	"hidden-by-rule": func(j *judge, v *visited, deny func(string)) {
		if f := v.Hops[0].Response.File; f != nil {
			j.files[j.SiteFor(v.Request.Address.Host).Name+f.Path] = true
		}
	},
	"example-fails": func(*judge, *visited, func(string)) {}, // the examples are run at the end
}

// Denied are the findings of which a request can deny that there is none.
func Denied() []string { return slices.Sorted(maps.Keys(denials)) }

// eachHop denies by what one hop of a visit shows of the entry that decides it.
func eachHop(shows func(v *visited, hop int) bool) denial {
	return func(_ *judge, v *visited, deny func(string)) {
		for i, h := range v.Hops {
			if h.Response.By != nil && shows(v, i) {
				deny(h.Response.By.Name)
			}
		}
	}
}

// reached denies that nothing comes to an entry; of tables the rows are meant.
func (j *judge) reached(v *visited, deny func(string)) {
	for _, r := range j.Met(v.Request) {
		if r.Kind != rulebook.KindMoves && j.state["never-reached "+r.Name] == proof.Found {
			deny(r.Name)
		}
	}
}

// anybody reports whether nothing is known of who asks.
func anybody(req *request.Request) bool {
	return req.Verb() == "GET" && len(req.Headers) == 0 && !req.Client.IsValid() && req.Time.IsZero() && req.Body == 0
}

// isFile reports whether a file is served under its own address.
func (j *judge) isFile(req *request.Request, f *site.Node) bool { return req.Address.Path == f.Path }

// bypassed denies that a guard holds: who is kept from a file under its own address has
// got it.
func (j *judge) bypassed(v *visited, deny func(string)) {
	r := v.Hops[0].Response
	switch {
	case v.Request.Verb() != "GET" || r.File == nil && r.Cause != engine.CauseHandoff:
		return
	case r.Cause == engine.CauseRefused || r.Cause == engine.CauseAsked: // its page is meant to be seen
		return
	}
	at := j.SiteFor(v.Request.Address.Host)
	for _, s := range j.Book.Sites {
		path := r.Path
		if r.File != nil {
			path = r.File.Path
		}
		switch {
		case s == at:
		case r.File == nil:
			continue
		case at.Files == s.Files:
		case at.Files == "public/b" && s.Files == "public":
			path = "/b" + path
		case at.Files == "public" && s.Files == "public/b":
			var ok bool
			if path, ok = strings.CutPrefix(path, "/b"); !ok {
				continue
			}
		default:
			continue
		}
		if r.File == nil && path == v.Request.Address.Path {
			continue // a handoff under its own address is no way around
		}
		names := []string{path}
		if folder := path[:strings.LastIndexByte(path, '/')+1]; r.File != nil && folder != v.Request.Address.Path {
			names = append(names, folder)
		}
		for i, name := range names {
			plain := *v.Request
			plain.Address = s.Address
			plain.Address.Path = name
			kept := j.Predict(&plain)
			if kept.Cause != engine.CauseRefused && kept.Cause != engine.CauseAsked {
				continue
			}
			if kept.Path != name {
				continue // what a rewrite makes of the address is kept, and not what is served here
			}
			if i > 0 { // is it the folder's document that is kept?
				if doc := j.PredictWithout(&plain, kept.By).File; doc == nil || doc.Path != path {
					continue
				}
			}
			deny(kept.By.Name)
		}
	}
}

// variousHosts denies that a redirect always leads to one host, or to that which was asked.
func (j *judge) variousHosts(v *visited, deny func(string)) {
	h := v.Hops[0]
	if h.Response.By == nil || h.Response.By.Kind != rulebook.KindRedirect || h.Response.Location == "" {
		return
	}
	next, err := h.Request.Address.Resolve(h.Response.Location)
	if err != nil {
		return
	}
	host := next.Host
	if strings.HasPrefix(h.Response.Location, "/") {
		host = ""
	}
	if first, known := j.hosts[h.Response.By]; known && first != host {
		deny(h.Response.By.Name)
	}
	j.hosts[h.Response.By] = host
}

// storedElsewhere denies that a permanent redirect is the same for all who ask for an
// address: requests for one address stand side by side.
func (j *judge) storedElsewhere(v *visited, deny func(string)) {
	before := j.last
	if before == nil || before.Address != v.Request.Address || before.Verb() != v.Request.Verb() {
		return
	}
	for _, pair := range [][2]*visited{{before, v}, {v, before}} {
		stored, other := pair[0].Hops[0].Response, pair[1].Hops[0].Response
		if stored.By == nil || !browser.Permanent(stored.Status) || stored.Status == other.Status && stored.Location == other.Location {
			continue
		}
		if other.Cause == engine.CauseRefused || other.Cause == engine.CauseAsked || other.Cause == engine.CauseTooLarge {
			continue // who stores it was let past
		}
		if pair[0].Time.IsZero() != pair[1].Time.IsZero() || pair[1].Time.Before(pair[0].Time) {
			continue // it was stored before the other is asked for
		}
		if pair[0].Body != pair[1].Body || userOf(pair[0].Request) != userOf(pair[1].Request) {
			continue // what they send along is not a property of the address, nor of the visitor
		}
		with := browser.OpenFrom(j, pair[1].Request, stored)
		a, b := with.Hops[len(with.Hops)-1], pair[1].Hops[len(pair[1].Hops)-1]
		if with.Ending == pair[1].Ending && a.Response.Status == b.Response.Status && with.Left == pair[1].Left && (a.Request.Address == b.Request.Address || a.Response.File != nil && a.Response.File == b.Response.File) {
			continue
		}
		deny(stored.By.Name)
	}
}

func userOf(req *request.Request) string {
	value, _ := req.Get("authorization")
	return value
}

// Hold checks a rulebook and tries every request against the report, up to so many. The
// error tells of a claim that is denied, or of a finding that is none.
func Hold(text string, most int, r *rand.Rand, count Count) error {
	e, err := Read(text)
	if err != nil {
		return err
	}
	report := proof.Check(e, 1)
	j := &judge{Engine: e, state: map[string]string{}, hosts: map[*rulebook.Rule]string{}, files: map[string]bool{}, rows: map[string]bool{}}
	for _, c := range report.Claims {
		for _, name := range c.Names {
			j.state[c.Finding+" "+name] = c.State
			if count != nil {
				if count[c.Finding] == nil {
					count[c.Finding] = map[string]int{}
				}
				count[c.Finding][c.State]++
			}
		}
	}
	for _, f := range report.Findings {
		if row, _, ok := strings.Cut(f.Message, ": no request reaches this row"); ok {
			j.rows[f.Rules[0].Name+" "+row] = true
		}
		if err := shown(e, f); err != nil {
			return fmt.Errorf("%w in\n%s", err, text)
		}
	}
	for _, req := range Requests(e.Book, most, r) {
		v := &visited{req, browser.OpenFor(e, req, 22)}
		for finding, denies := range denials {
			denies(j, v, func(who string) {
				state := j.state[finding+" "+who]
				if err == nil && (state == proof.Proved || state == proof.Found && finding == "never-reached") {
					err = fmt.Errorf("%s of %s is said to be %s, and is denied by: %s %s %v client %v at %v, in\n%s", finding, who, state, req.Verb(), req.Address, req.Headers, req.Client, req.Time, text)
				}
			})
		}
		for _, h := range v.Hops {
			if row := h.Response.Row; row != nil && j.rows[fmt.Sprint(h.Response.By.Name, " ", h.Response.By.Action.(*rulebook.Moves).Table.Name, ":", row.Line)] {
				err = fmt.Errorf("row %d of %s is said to be reached by nobody, and is by %s %s, in\n%s", row.Line, h.Response.By.Name, h.Request.Verb(), h.Request.Address, text)
			}
		}
		if err != nil {
			return err
		}
		j.last = v
	}
	return j.end(report, text)
}

// end holds what all requests together have shown against the report.
func (j *judge) end(report *proof.Report, text string) error {
	for _, f := range report.Findings {
		if f.Name == "hidden-by-rule" && f.Doubt == "" {
			name := j.SiteFor(f.Request.Address.Host).Name
			if j.files[name+f.Request.Address.Path] {
				return fmt.Errorf("%s of %s is said to be hidden, and was served, in\n%s", f.Request.Address.Path, name, text)
			}
		}
	}
	for _, r := range j.Book.Rules {
		for i := range r.Examples {
			req, err := j.Book.ExampleRequest(r, &r.Examples[i])
			if err == nil && len(browser.Unmet(&r.Examples[i].Expects, browser.Open(j, req))) > 0 && j.state["example-fails "+r.Name] == proof.Proved {
				return fmt.Errorf("the example of %s does not hold, in\n%s", r.Name, text)
			}
		}
	}
	return nil
}

// shown reports whether a finding's own request shows it.
func shown(e *engine.Engine, f *proof.Finding) error {
	if f.Request == nil {
		return nil
	}
	v := browser.OpenFor(e, f.Request, 1000)
	first, met := v.Hops[0].Response, e.Met(f.Request)
	ok := true
	switch f.Name {
	case "redirect-loop":
		ok = v.Ending == browser.Loop
	case "runaway":
		ok = v.Ending == browser.TooLong
	case "rewrite-loop":
		ok = v.Hops[0].Response.Cause == engine.CauseRewriteLoop
	case "never-reached":
		ok = !slices.Contains(met, f.Rules[0])
	case "bad-target":
		ok = v.Hops[0].Response.Cause == engine.CauseBadTarget
	case "conflict", "order-decides":
		ok = e.Takes(f.Rules[0], f.Request) && e.Takes(f.Rules[1], f.Request)
	case "chain":
		ok = v.Redirects() >= 2
	case "guard-bypassed":
		kept := e.Predict(f.Other)
		ok = kept.By == f.Rules[0] && v.Hops[0].Response.By != f.Rules[0]
	case "permanent-varies":
		a, b := e.Predict(f.Request), e.Predict(f.Other)
		ok = browser.Permanent(a.Status) && f.Request.Address == f.Other.Address && (a.Status != b.Status || a.Location != b.Location)
	case "downgrade":
		ok = first.By == f.Rules[0] && f.Request.Address.Scheme == "https" && next(v).Scheme == "http"
	case "method-lost":
		ok = f.Request.Verb() == "POST" && len(v.Hops) > 1 && v.Hops[1].Request.Verb() == "GET"
	case "query-lost":
		ok = first.By == f.Rules[0] && f.Request.Address.Query != "" && !strings.Contains(first.Location, f.Request.Address.Query)
	case "open-target":
		s := e.SiteFor(next(v).Host)
		ok = first.By == f.Rules[0] && (s == nil || s.UnknownHosts)
	case "exposed":
		ok = anybody(f.Request) && first.Status == 200 && first.File != nil
	case "listing-open":
		ok = anybody(f.Request) && first.Cause == engine.CauseListing
	case "hidden-by-rule":
		ok = first.File == nil || first.File.Path != f.Request.Address.Path
	case "password-in-clear":
		ok = f.Request.Address.Scheme == "http" && first.Cause == engine.CauseAsked
	case "missing-target":
		ok = v.Last().Cause == engine.CauseMissing
	case "target-refused":
		ok = first.By == f.Rules[0] && (v.Last().Cause == engine.CauseRefused || v.Last().Status == 410)
	case "fallback-hides-missing":
		ok = v.Last().Status == 200
	case "split-address":
		a, b := e.Predict(f.Request), e.Predict(f.Other)
		ok = f.Request.Address != f.Other.Address && a.Status == 200 && a.Status == b.Status && a.File == b.File
	case "vary-missing":
		a, b := e.Predict(f.Request), e.Predict(f.Other)
		ok = f.Request.Address == f.Other.Address && answerDiffers(a, b)
	}
	if !ok {
		return fmt.Errorf("%s: %s does not show it", f.Name, f.Request.Address)
	}
	return nil
}

// next gives where the first answer of a visit sends it.
func next(v *browser.Visit) request.Address {
	to, _ := v.Hops[0].Request.Address.Resolve(v.Hops[0].Response.Location)
	return to
}

// answerDiffers reports whether two answers show something else, or come from other entries.
func answerDiffers(a, b *engine.Response) bool {
	return a.Status != b.Status || a.Location != b.Location || a.File != b.File || a.By != b.By
}
