package cli

// Results as comma-separated values, RFC 4180.

import (
	"bufio"
	"encoding/csv"
	"fmt"
	"strconv"

	"kibitz/core/replay"
	"kibitz/internal/render"
)

func init() {
	registerForm(form{name: "csv", rank: 2, links: (*run).linksCSV, sums: (*run).tallyCSV, parts: (*run).partsCSV, each: (*run).eachCSV})
}

func (r *run) tallyCSV(s summed) error {
	out := csv.NewWriter(r.stdout)
	out.Write([]string{"status", "cause", "by", "at", "requests", "last"})
	for _, o := range outcomeRows(s.tally) {
		out.Write([]string{fmt.Sprint(o.Status), o.Cause, o.By, o.At, strconv.FormatInt(o.Requests, 10), o.Last})
	}
	out.Flush()
	return out.Error()
}

func (r *run) eachCSV(w *bufio.Writer) (func(*replay.Result), error) {
	out := csv.NewWriter(w)
	out.Write([]string{"list", "line", "method", "url", "status", "cause", "by", "location", "ends", "recorded", "met", "client", "time", "body"})
	return func(res *replay.Result) {
		l := render.NewLine(res)
		by, recorded, met, body := "", "", "", ""
		if l.Body > 0 {
			body = strconv.FormatInt(l.Body, 10)
		}
		if l.By != nil {
			by = *l.By
		}
		if l.Recorded != 0 {
			recorded = strconv.Itoa(l.Recorded)
		}
		if l.Met != nil {
			met = strconv.FormatBool(*l.Met)
		}
		row := []string{l.List, strconv.Itoa(l.Line), l.Method, l.URL, fmt.Sprint(l.Status), string(l.Cause), by, l.Location, string(l.Ends), recorded, met, l.Client, l.Time, body}
		for i := range row {
			row[i] = render.Cell(row[i])
		}
		out.Write(row)
		out.Flush()
	}, nil
}
