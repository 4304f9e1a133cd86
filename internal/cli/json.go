package cli

// Results as JSON.

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/moves"
	"kibitz/core/proof"
	"kibitz/core/replay"
	"kibitz/core/request/list"
	"kibitz/internal/render"
)

func init() {
	registerForm(form{name: "json", rank: 1,
		check:    (*run).checkJSON,
		links:    (*run).linksJSON,
		version:  (*run).versionJSON,
		trace:    (*run).traceJSON,
		sides:    (*run).sidesJSON,
		visitors: (*run).visitorsJSON,
		compare:  (*run).comparedJSON,
		sums:     (*run).tallyJSON,
		parts:    (*run).partsJSON,
		verify:   (*run).verifiedJSON,
	})
}

type outcomeRow struct {
	Status   any              `json:"status"` // a number, or the word in its place
	Cause    string           `json:"cause"`
	By       string           `json:"by,omitempty"`
	At       string           `json:"at,omitempty"`
	Requests int64            `json:"requests"`
	Ends     map[string]int64 `json:"ends,omitempty"` // of redirects: by what visitors have at the end
	Last     string           `json:"last,omitempty"`
}

func outcomeRows(t *replay.Tally) []outcomeRow {
	rows := []outcomeRow{}
	for o, c := range t.Outcomes {
		rows = append(rows, outcomeRow{render.StatusValue(o.Status), string(o.Cause), o.By, o.At, c.N, c.Ends, secondsText(c.Last)})
	}
	slices.SortFunc(rows, func(a, b outcomeRow) int { return strings.Compare(fmt.Sprint(a), fmt.Sprint(b)) })
	return rows
}

// secondsText writes a time in seconds since 1970; "" for none.
func secondsText(seconds int64) string {
	if seconds == 0 {
		return ""
	}
	return time.Unix(seconds, 0).UTC().Format(time.RFC3339)
}

// The sums as JSON; docs/lists.md tells what they are. Lists of addresses have the
// commonest.
type (
	tallySums struct {
		Requests      int64               `json:"requests"`
		Partial       bool                `json:"partial,omitempty"`
		Lists         []listSums          `json:"lists"`
		Outcomes      []outcomeRow        `json:"outcomes"`
		Recorded      []recordedSums      `json:"recorded,omitempty"`
		Loops         addressSums         `json:"loops"`
		TooLong       addressSums         `json:"too_long"`
		Chains        addressSums         `json:"chains"`
		Missing       addressSums         `json:"not_found"`
		Expected      int64               `json:"expected"`
		Unmet         int64               `json:"unmet"`
		NotAsExpected []unmetRequest      `json:"not_as_expected,omitempty"`
		NotReached    []entryName         `json:"not_reached"`
		Bytes         map[string]typeSums `json:"bytes"`
		Held          *heldSums           `json:"held,omitempty"`
	}
	listSums struct {
		Name     string     `json:"name"`
		Part     *list.Part `json:"part,omitempty"`
		Lines    int        `json:"lines"`
		Requests int        `json:"requests"`
		Details  int        `json:"details,omitempty"`
		Comments int        `json:"comments"`
		Skipped  int        `json:"skipped"`
	}
	addressSums struct {
		Requests  int64        `json:"requests"`
		Addresses []addressSum `json:"addresses"`
		Bounded   bool         `json:"bounded,omitempty"`
	}
	addressSum struct {
		Address   string    `json:"address"`
		Requests  int64     `json:"requests"`
		Robots    *int64    `json:"robots,omitempty"` // of what is not found
		First     string    `json:"first,omitempty"`
		Last      string    `json:"last,omitempty"`
		From      []pageSum `json:"from,omitempty"`
		Likeliest string    `json:"likeliest,omitempty"`
	}
	pageSum struct {
		Page     string `json:"page"`
		Requests int64  `json:"requests"`
	}
	recordedSums struct {
		Recorded  int          `json:"recorded"`
		Predicted any          `json:"predicted"`
		By        string       `json:"by,omitempty"`
		At        string       `json:"at,omitempty"`
		Cause     string       `json:"cause"`
		Requests  int64        `json:"requests"`
		Differs   bool         `json:"differs,omitempty"`
		Addresses []addressSum `json:"addresses,omitempty"`
	}
	unmetRequest struct {
		List    string   `json:"list"`
		Line    int      `json:"line"`
		Request string   `json:"request"`
		Unmet   []string `json:"unmet"`
	}
	entryName struct {
		Entry string `json:"entry"`
		At    string `json:"at"`
	}
	typeSums struct {
		Requests int64 `json:"requests"`
		Plain    int64 `json:"plain"`
		Wire     int64 `json:"wire"`
		Unknown  int64 `json:"unknown,omitempty"`
	}
)

func (r *run) tallyJSON(s summed) error { return r.writeJSON(r.sumsOf(s)) }

// sumsOf gives the sums of a replay.
func (r *run) sumsOf(s summed) tallySums {
	e, t, f := s.engine, s.tally, s.flags
	addresses := func(t *replay.Top) []addressSum {
		out := []addressSum{}
		for _, c := range t.Most(r.most) {
			out = append(out, addressSum{Address: c.Address, Requests: c.N})
		}
		return out
	}
	sums := func(t *replay.Top) addressSums { return addressSums{t.Total, addresses(t), t.Others() > 0} }
	result := tallySums{Requests: t.Requests, Partial: t.Partial, Outcomes: outcomeRows(t), Loops: sums(&t.Loops), TooLong: sums(&t.TooLong),
		Chains: sums(&t.Chains), Missing: sums(&t.Missing), Expected: t.Expected, Unmet: t.Unmets, NotReached: []entryName{}, Bytes: map[string]typeSums{}}
	for _, l := range t.Lists {
		result.Lists = append(result.Lists, listSums{l.Name, l.Part, l.Lines, l.Requests, l.Details, l.Comments, l.Skipped})
	}
	names := moves.NamesOf(e)
	for i := range result.Missing.Addresses {
		a := &result.Missing.Addresses[i]
		a.Likeliest = names.Likeliest(a.Address)
		asked := t.Missing.Asked(a.Address)
		a.Robots, a.First, a.Last = &asked.Robots, secondsText(asked.First), secondsText(asked.Last)
		for _, page := range asked.From.Most() {
			a.From = append(a.From, pageSum{page.Address, page.N})
		}
	}
	for o, c := range t.Outcomes {
		for _, r := range c.Recorded {
			sum := recordedSums{Recorded: r.Status, Predicted: render.StatusValue(o.Status), By: o.By, At: o.At, Cause: string(o.Cause), Requests: r.N}
			if r.Differs != nil {
				sum.Differs, sum.Addresses = true, addresses(r.Differs)
			}
			result.Recorded = append(result.Recorded, sum)
		}
	}
	slices.SortFunc(result.Recorded, func(a, b recordedSums) int {
		return cmp.Or(cmp.Compare(a.Recorded, b.Recorded), strings.Compare(fmt.Sprint(a.Predicted), fmt.Sprint(b.Predicted)), strings.Compare(a.At, b.At), strings.Compare(a.Cause, b.Cause))
	})
	for _, u := range t.Unmet {
		result.NotAsExpected = append(result.NotAsExpected, unmetRequest{u.List, u.Line, u.Target, u.What})
	}
	for _, rule := range f.notReached(e, t) {
		result.NotReached = append(result.NotReached, entryName{rule.Name, place(rule)})
	}
	result.Held = heldOf(s.cover)
	for name, b := range t.Types {
		result.Bytes[name] = typeSums{b.Requests, b.Plain, b.Wire, b.Unknown}
	}
	return result
}

// writeJSON writes a result as indented JSON.
func (r *run) writeJSON(result any) error {
	enc := render.JSON(r.stdout)
	enc.SetIndent("", "  ")
	return enc.Encode(result)
}

func (r *run) checkJSON(c checked) error {
	report := c.report
	type entry struct {
		Name string `json:"name"`
		At   string `json:"at"`
	}
	type finding struct {
		Finding  string         `json:"finding"`
		Severity proof.Severity `json:"severity"`
		Entries  []entry        `json:"entries"`
		Places   []string       `json:"places"`
		Message  string         `json:"message"`
		Request  []string       `json:"request,omitempty"` // the arguments of trace
		Compare  []string       `json:"compare,omitempty"` // of the request that it is compared with
		Advice   string         `json:"advice,omitempty"`
		Count    int            `json:"count"`
		Files    []string       `json:"files,omitempty"`
	}
	type claim struct {
		Finding string   `json:"finding"`
		State   string   `json:"state"`
		Entries int      `json:"entries,omitempty"`
		Sites   int      `json:"sites,omitempty"`
		Names   []string `json:"names,omitempty"` // of these entries or sites
		Tried   int      `json:"tried"`
		Why     string   `json:"why,omitempty"`
	}
	result := struct {
		Findings []finding `json:"findings"`
		Claims   []claim   `json:"claims"`
	}{Findings: []finding{}, Claims: []claim{}}
	for _, f := range report.Findings {
		j := finding{Finding: f.Name, Severity: f.Severity, Message: f.Message, Advice: f.Advice, Count: f.Count, Files: f.Files, Entries: []entry{}, Places: []string{fmt.Sprintf("%s:%d", f.Place, f.Place.Col)}}
		for i, s := range f.Spots {
			if i > 0 {
				j.Places = append(j.Places, fmt.Sprintf("%s:%d:%d", s.Page.Name(), s.Line, s.Col))
			}
		}
		for _, rule := range f.Rules {
			j.Entries = append(j.Entries, entry{rule.Name, place(rule)})
		}
		if f.Request != nil {
			j.Request = requestWords(f.Request)
		}
		if f.Other != nil {
			j.Compare = requestWords(f.Other)
		}
		result.Findings = append(result.Findings, j)
	}
	for _, c := range report.Claims {
		result.Claims = append(result.Claims, claim{c.Finding, c.State, c.Entries, c.Sites, c.Names, c.Tried, c.Why})
	}
	return r.writeJSON(result)
}

func (r *run) traceJSON(t traced) error {
	v, traces := t.visit, t.traces
	type answer struct {
		render.Answer
		Steps []traceStep `json:"steps"`
	}
	result := struct {
		Ending  browser.Ending `json:"ending"`
		Answers []answer       `json:"answers"`
	}{Ending: v.Ending}
	for i, h := range v.Hops {
		a := answer{Answer: render.NewAnswer(h.Request, h.Response)}
		for _, s := range traces[i].Steps {
			step := traceStep{Fits: s.Fits, Text: s.Text}
			if s.Rule != nil {
				step.Entry, step.At = s.Rule.Name, place(s.Rule)
			}
			a.Steps = append(a.Steps, step)
		}
		result.Answers = append(result.Answers, a)
	}
	return r.writeJSON(result)
}

// everySum is what is true of all requests for two rulebooks.
type everySum struct {
	Alike       bool           `json:"alike"`
	Requests    int            `json:"requests"`
	Differences []everyDiffers `json:"differences"`
	Open        []string       `json:"open"`
}

type everyDiffers struct {
	By      string   `json:"by,omitempty"`
	Takes   string   `json:"takes,omitempty"`
	Request []string `json:"request"` // the arguments of trace
	Was     any      `json:"was"`
	Is      any      `json:"is"`
	From    string   `json:"was_location,omitempty"`
	To      string   `json:"is_location,omitempty"`
}

func everyOf(l *proof.Likeness) *everySum {
	if l == nil {
		return nil
	}
	out := &everySum{Alike: l.Alike(), Requests: l.Requests, Differences: []everyDiffers{}, Open: append([]string{}, l.Open...)}
	for _, d := range l.Differences {
		j := everyDiffers{Takes: d.Takes, Request: requestWords(d.Request), Was: render.StatusValue(engine.StatusText(d.Was)), Is: render.StatusValue(engine.StatusText(d.Is)), From: d.Was.Location, To: d.Is.Location}
		if by := cmp.Or(d.After, d.Before); by != nil {
			j.By = by.Name
		}
		out.Differences = append(out.Differences, j)
	}
	return out
}

func (r *run) comparedJSON(c compared) error {
	result := c.result
	type side struct {
		Status any    `json:"status"` // a number, or the word in its place
		By     string `json:"by,omitempty"`
		At     string `json:"at,omitempty"`
		Ends   string `json:"ends,omitempty"`
	}
	type group struct {
		Change   string   `json:"change"`
		From     *side    `json:"from,omitempty"` // not of a header's change
		To       *side    `json:"to,omitempty"`
		Headers  string   `json:"headers,omitempty"`
		Requests int64    `json:"requests"`
		Examples []string `json:"examples"`
		Linked   int      `json:"linked,omitempty"` // places of the site's own pages that link to the examples
	}
	type hop struct {
		URL      string `json:"url"`
		Status   int    `json:"status"`
		Location string `json:"location"`
	}
	type circle struct {
		Finding string   `json:"finding"`
		Stored  []hop    `json:"stored"`
		HSTS    []string `json:"hsts,omitempty"`
		Circle  []hop    `json:"circle"`
	}
	out := struct {
		Every    *everySum `json:"every_request,omitempty"`
		Requests int64     `json:"requests"`
		Partial  bool      `json:"partial,omitempty"`
		Same     int64     `json:"same"`
		Groups   []group   `json:"groups"`
		Circles  []circle  `json:"circles"`
	}{Every: everyOf(c.every), Requests: result.Requests, Partial: r.interrupted(), Same: result.Same, Groups: []group{}, Circles: []circle{}}
	sideOf := func(a replay.Answer) side {
		s := side{Status: render.StatusValue(a.Status), Ends: a.Ends, At: place(a.By)}
		if a.By != nil {
			s.By = a.By.Name
		}
		return s
	}
	for _, g := range result.Groups {
		j := group{Change: changeNames[g.Change], Headers: g.What, Requests: g.Requests}
		if g.What == "" {
			from, to := sideOf(g.From), sideOf(g.To)
			j.From, j.To = &from, &to
		}
		for _, req := range g.Examples {
			j.Examples = append(j.Examples, req.Verb()+" "+req.Address.Printable())
			j.Linked += len(linksTo(c.linked, req))
		}
		out.Groups = append(out.Groups, j)
	}
	hopOf := func(h browser.Hop) hop {
		return hop{h.Request.Address.Printable(), h.Response.Status, h.Response.Location}
	}
	for _, c := range result.Circles {
		j := circle{Finding: "stored-redirect-loop", HSTS: c.HSTS, Stored: []hop{}}
		for _, h := range c.Stored {
			j.Stored = append(j.Stored, hopOf(h))
		}
		for _, h := range c.Visit.Hops[c.Visit.Again:] {
			j.Circle = append(j.Circle, hopOf(h))
		}
		out.Circles = append(out.Circles, j)
	}
	return r.writeJSON(out)
}

func (r *run) verifiedJSON(found verified) error {
	type difference struct {
		Aspect    string `json:"aspect"`
		Field     string `json:"field,omitempty"`
		Predicted string `json:"predicted"`
		Got       string `json:"got"`
	}
	type result struct {
		List   string `json:"list"`
		Line   int    `json:"line"`
		Method string `json:"method"`
		URL    string `json:"url"`
		render.Asked
		Status      any          `json:"status"`
		By          string       `json:"by,omitempty"`
		At          string       `json:"at,omitempty"`
		Got         int          `json:"got,omitempty"`
		Differences []difference `json:"differences,omitempty"`
		Reason      string       `json:"reason,omitempty"`
		Skipped     string       `json:"skipped,omitempty"`
		Failed      string       `json:"failed,omitempty"`
	}
	results := []result{}
	for _, v := range found.all {
		one := result{List: v.List, Line: v.Item.Line, Method: v.Item.Request.Verb(), URL: v.Item.Request.Address.Printable(), Asked: render.NewAsked(v.Item.Request), Status: render.Status(v.Predicted), Reason: v.Reason(), Skipped: v.Skipped}
		if by := v.Predicted.By; by != nil {
			one.By, one.At = by.Name, place(by)
		}
		if v.Got != nil {
			one.Got = v.Got.StatusCode
		}
		if v.Failed != nil {
			one.Failed = v.Failed.Error()
		}
		for _, d := range v.Differences {
			one.Differences = append(one.Differences, difference(d))
		}
		results = append(results, one)
	}
	return r.writeJSON(struct {
		Partial bool     `json:"partial,omitempty"`
		Results []result `json:"results"`
	}{r.interrupted(), results})
}
