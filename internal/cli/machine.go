package cli

// A replay's sums in the machine formats.

import (
	"encoding/csv"
	"encoding/json"
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
		return r.tallyJSON(t, f.top)
	case "csv":
		return r.tallyCSV(t)
	case "junit":
		return r.casesJUnit("replay")
	case "tap":
		r.casesTAP()
		return nil
	}
	r.tallyText(e, t, f, took)
	return nil
}

type outcomeRow struct {
	Status   string `json:"status"`
	Cause    string `json:"cause"`
	By       string `json:"by,omitempty"`
	At       string `json:"at,omitempty"`
	Requests int64  `json:"requests"`
	Last     string `json:"last,omitempty"`
}

func outcomeRows(t *replay.Tally) []outcomeRow {
	var rows []outcomeRow
	for o, c := range t.Outcomes {
		last := ""
		if c.Last > 0 {
			last = time.Unix(c.Last, 0).UTC().Format(time.RFC3339)
		}
		rows = append(rows, outcomeRow{o.Status, string(o.Cause), o.By, o.At, c.N, last})
	}
	slices.SortFunc(rows, func(a, b outcomeRow) int { return strings.Compare(fmt.Sprint(a), fmt.Sprint(b)) })
	return rows
}

func (r *run) tallyJSON(t *replay.Tally, most int) error {
	type count struct {
		Address  string `json:"address"`
		Requests int64  `json:"requests"`
	}
	type top struct {
		Requests  int64   `json:"requests"`
		Addresses []count `json:"addresses"`
		Bounded   bool    `json:"bounded,omitempty"`
	}
	topOf := func(t *replay.Top) top {
		out := top{t.Total, []count{}, t.Others > 0}
		for _, c := range t.Most(most) {
			out.Addresses = append(out.Addresses, count{c.Address, c.N})
		}
		return out
	}
	type listRow struct {
		Name     string `json:"name"`
		Lines    int    `json:"lines"`
		Requests int    `json:"requests"`
		Details  int    `json:"details,omitempty"`
		Comments int    `json:"comments"`
		Skipped  int    `json:"skipped"`
	}
	type pair struct {
		Recorded  int    `json:"recorded"`
		Predicted string `json:"predicted"`
		By        string `json:"by,omitempty"`
		Cause     string `json:"cause"`
		Requests  int64  `json:"requests"`
	}
	result := struct {
		Requests int64        `json:"requests"`
		Partial  bool         `json:"partial,omitempty"`
		Lists    []listRow    `json:"lists"`
		Outcomes []outcomeRow `json:"outcomes"`
		Loops    top          `json:"loops"`
		TooLong  top          `json:"too_long"`
		Chains   top          `json:"chains"`
		Missing  top          `json:"not_found"`
		Recorded []pair       `json:"recorded,omitempty"`
		Expected int64        `json:"expected"`
		Unmet    int64        `json:"unmet"`
		Bytes    any          `json:"bytes"`
	}{Requests: t.Requests, Partial: t.Partial, Outcomes: outcomeRows(t), Loops: topOf(&t.Loops), TooLong: topOf(&t.TooLong), Chains: topOf(&t.Chains), Missing: topOf(&t.Missing), Expected: t.Expected, Unmet: t.Unmets, Bytes: t.Types}
	for _, l := range t.Lists {
		result.Lists = append(result.Lists, listRow{l.Name, l.Lines, l.Requests, l.Details, l.Comments, l.Skipped})
	}
	for o, c := range t.Outcomes {
		for _, r := range c.Recorded {
			result.Recorded = append(result.Recorded, pair{r.Status, o.Status, o.By, string(o.Cause), r.N})
		}
	}
	slices.SortFunc(result.Recorded, func(a, b pair) int { return strings.Compare(fmt.Sprint(a), fmt.Sprint(b)) })
	return r.writeJSON(result)
}

// writeJSON writes a result as indented JSON.
func (r *run) writeJSON(result any) error {
	enc := json.NewEncoder(r.stdout)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	return enc.Encode(result)
}

func (r *run) tallyCSV(t *replay.Tally) error {
	out := csv.NewWriter(r.stdout)
	out.Write([]string{"status", "cause", "by", "at", "requests", "last"})
	for _, o := range outcomeRows(t) {
		out.Write([]string{o.Status, o.Cause, o.By, o.At, strconv.FormatInt(o.Requests, 10), o.Last})
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
