package cli

// A replay's sums in the machine formats.

import (
	"cmp"
	"encoding/csv"
	"encoding/xml"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"kibitz/core/engine"
	"kibitz/core/replay"
	"kibitz/internal/render"
)

func (r *run) showTally(e *engine.Engine, t *replay.Tally, f *replayFlags, took time.Duration) error {
	switch r.as {
	case "json":
		return r.tallyJSON(e, t, f)
	case "csv":
		return r.tallyCSV(t)
	case "junit", "tap":
		return r.showCases("replay")
	}
	r.tallyText(e, t, f, took)
	return nil
}

type outcomeRow struct {
	Status   any    `json:"status"` // a number, or the word in its place
	Cause    string `json:"cause"`
	By       string `json:"by,omitempty"`
	At       string `json:"at,omitempty"`
	Requests int64  `json:"requests"`
	Last     string `json:"last,omitempty"`
}

func outcomeRows(t *replay.Tally) []outcomeRow {
	rows := []outcomeRow{}
	for o, c := range t.Outcomes {
		last := ""
		if c.Last > 0 {
			last = time.Unix(c.Last, 0).UTC().Format(time.RFC3339)
		}
		rows = append(rows, outcomeRow{render.StatusValue(o.Status), string(o.Cause), o.By, o.At, c.N, last})
	}
	slices.SortFunc(rows, func(a, b outcomeRow) int { return strings.Compare(fmt.Sprint(a), fmt.Sprint(b)) })
	return rows
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
	}
	listSums struct {
		Name     string `json:"name"`
		Lines    int    `json:"lines"`
		Requests int    `json:"requests"`
		Details  int    `json:"details,omitempty"`
		Comments int    `json:"comments"`
		Skipped  int    `json:"skipped"`
	}
	addressSums struct {
		Requests  int64        `json:"requests"`
		Addresses []addressSum `json:"addresses"`
		Bounded   bool         `json:"bounded,omitempty"`
	}
	addressSum struct {
		Address   string    `json:"address"`
		Requests  int64     `json:"requests"`
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

func (r *run) tallyJSON(e *engine.Engine, t *replay.Tally, f *replayFlags) error {
	addresses := func(t *replay.Top) []addressSum {
		out := []addressSum{}
		for _, c := range t.Most(f.top) {
			out = append(out, addressSum{Address: c.Address, Requests: c.N})
		}
		return out
	}
	sums := func(t *replay.Top) addressSums { return addressSums{t.Total, addresses(t), t.Others > 0} }
	result := tallySums{Requests: t.Requests, Partial: t.Partial, Outcomes: outcomeRows(t), Loops: sums(&t.Loops), TooLong: sums(&t.TooLong),
		Chains: sums(&t.Chains), Missing: sums(&t.Missing), Expected: t.Expected, Unmet: t.Unmets, NotReached: []entryName{}, Bytes: map[string]typeSums{}}
	for _, l := range t.Lists {
		result.Lists = append(result.Lists, listSums{l.Name, l.Lines, l.Requests, l.Details, l.Comments, l.Skipped})
	}
	names := namesOf(e)
	for i := range result.Missing.Addresses {
		a := &result.Missing.Addresses[i]
		a.Likeliest = names.likeliestOf(a.Address)
		for _, page := range t.Missing.From(a.Address).Most() {
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
	for name, b := range t.Types {
		result.Bytes[name] = typeSums{b.Requests, b.Plain, b.Wire, b.Unknown}
	}
	return r.writeJSON(result)
}

// writeJSON writes a result as indented JSON.
func (r *run) writeJSON(result any) error {
	enc := render.JSON(r.stdout)
	enc.SetIndent("", "  ")
	return enc.Encode(result)
}

func (r *run) tallyCSV(t *replay.Tally) error {
	out := csv.NewWriter(r.stdout)
	out.Write([]string{"status", "cause", "by", "at", "requests", "last"})
	for _, o := range outcomeRows(t) {
		out.Write([]string{fmt.Sprint(o.Status), o.Cause, o.By, o.At, strconv.FormatInt(o.Requests, 10), o.Last})
	}
	out.Flush()
	return out.Error()
}

// A testCase is a request of a list with what it expects, or one that loops.
type testCase struct {
	name   string
	failed string // why; "" if all is as expected
}

// collect keeps a result as a test case.
func (r *run) collect(res *replay.Result) {
	failed := strings.Join(res.Unmet, "; ")
	loops := res.Is("loop") && (res.Item.Expects == nil || !res.Item.Expects.Loop)
	if failed == "" && loops {
		failed = "visitors are sent round for ever"
	}
	if res.Item.Expects == nil && !loops {
		return
	}
	name := fmt.Sprintf("%s:%d %s %s", res.List, res.Item.Line, res.Item.Request.Verb(), res.Item.Request.Address)
	r.cases = append(r.cases, testCase{render.Clean(name), render.Clean(failed)})
}

// showCases writes the test cases in the form that -as names.
func (r *run) showCases(name string) error {
	if r.as == "junit" {
		return r.casesJUnit(name)
	}
	r.casesTAP()
	return nil
}

// casesJUnit writes the expectations as JUnit test cases.
func (r *run) casesJUnit(name string) error {
	type failure struct {
		Message string `xml:"message,attr"`
	}
	type testcase struct {
		Name    string   `xml:"name,attr"`
		Class   string   `xml:"classname,attr"`
		Failure *failure `xml:"failure,omitempty"`
	}
	type suite struct {
		XMLName  xml.Name   `xml:"testsuite"`
		Name     string     `xml:"name,attr"`
		Tests    int        `xml:"tests,attr"`
		Failures int        `xml:"failures,attr"`
		Cases    []testcase `xml:"testcase"`
	}
	s := suite{Name: "kibitz " + name, Tests: len(r.cases)}
	for _, c := range r.cases {
		t := testcase{Name: c.name, Class: name}
		if c.failed != "" {
			t.Failure = &failure{c.failed}
			s.Failures++
		}
		s.Cases = append(s.Cases, t)
	}
	fmt.Fprint(r.stdout, xml.Header)
	enc := xml.NewEncoder(r.stdout)
	enc.Indent("", "  ")
	err := enc.Encode(s)
	fmt.Fprintln(r.stdout)
	return err
}

// casesTAP writes them by the Test Anything Protocol, version 13.
func (r *run) casesTAP() {
	fmt.Fprintf(r.stdout, "TAP version 13\n1..%d\n", len(r.cases))
	for i, c := range r.cases {
		name := strings.ReplaceAll(c.name, "#", `\#`)
		if c.failed == "" {
			fmt.Fprintf(r.stdout, "ok %d - %s\n", i+1, name)
			continue
		}
		fmt.Fprintf(r.stdout, "not ok %d - %s\n  ---\n  message: %s\n  ...\n", i+1, name, strconv.Quote(c.failed))
	}
}
