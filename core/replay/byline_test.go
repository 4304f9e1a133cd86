package replay

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"kibitz/core/request"
	"kibitz/core/request/list"
)

// partsText shows a breakdown.
func partsText(g *Breakdown) string {
	var b strings.Builder
	for _, p := range g.Sorted() {
		fmt.Fprintln(&b, p.Name, p.Requests, p.Classes, p.Loops, p.First.UTC(), p.Last.UTC())
	}
	return b.String()
}

// Lines that are counted by what they have in common, in whatever format and by however many
// workers, are counted as each request is.
func TestPartsOfLinesAreThoseOfRequests(t *testing.T) {
	zone := time.FixedZone("", 5*3600+45*60)
	formats := map[list.Format]string{list.FormatLog: access(sized(3000)), list.FormatW3C: w3cAccess(sized(2000)), list.FormatJSONL: jsonAccess(300), list.FormatCSV: csvAccess(300), list.FormatPlain: plainAccess(300), list.FormatJSONLog: eventAccess(300)}
	n := 0
	for name, rules := range rulebooks {
		e := build(t, rules)
		for format, text := range formats {
			by := Bys[n%len(Bys)]
			o := Options{Workers: 1 + n%3, Choice: append(choices, Choice{})[n%(len(choices)+1)]}
			if n%4 == 0 {
				o.Headers = []request.Header{{Name: "User-Agent", Value: "a bot"}, {Name: "Referer", Value: "https://r.example/?x"}}
			}
			n++
			slow := &Breakdown{By: by, Zone: zone, Robots: []string{"read"}}
			each := o
			each.Each = InOrder(slow.Add)
			if _, err := Run(e, []Source{{Name: "log", Read: func(base request.Address, yield func(*list.Item)) (list.Counts, error) {
				return list.Read(strings.NewReader(text), list.Options{Base: base, Format: format}, yield)
			}}}, each); err != nil {
				t.Fatal(err)
			}
			fast := &Breakdown{By: by, Zone: zone, Robots: []string{"read"}}
			o.By = fast
			if _, err := LogStream(e, "log", strings.NewReader(text), format, o); err != nil {
				t.Fatal(err)
			}
			if got, want := partsText(fast), partsText(slow); got != want {
				t.Errorf("%s, %s by %s, %+v: on the fast path\n%s\none by one\n%s", name, format, by, o.Choice, got, want)
			}
		}
	}
	if n < 3*len(Bys) {
		t.Errorf("only %d ways", n)
	}
}

// Of too many parts the fast path says so, and leaves what was counted before as it was.
func TestTooManyPartsOfLines(t *testing.T) {
	var b strings.Builder
	for i := range maxParts + 10 {
		fmt.Fprintf(&b, "192.0.2.1 - - [10/Oct/2026:13:55:36 +0000] \"GET /a.txt HTTP/1.1\" 200 12 \"-\" \"agent %d\"\n", i)
	}
	parts := &Breakdown{By: "agent"}
	parts.part("before").Requests = 7
	_, err := LogFile(build(t, ""), "log", strings.NewReader(b.String()), int64(b.Len()), list.FormatLog, Options{Workers: 2, By: parts}, func(int64) {})
	if !errors.Is(err, ErrParts) || len(parts.parts) != 1 || parts.parts["before"].Requests != 7 {
		t.Errorf("%v, %d parts", err, len(parts.parts))
	}
}
