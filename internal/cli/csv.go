package cli

// Results as comma-separated values, RFC 4180.

import (
	"bufio"
	"encoding/csv"
	"fmt"
	"strconv"
	"strings"

	"kibitz/core/replay"
	"kibitz/internal/render"
)

func init() {
	registerForm(form{name: "csv", rank: 2, links: (*run).linksCSV, sums: (*run).tallyCSV, sides: (*run).sidesCSV, parts: (*run).partsCSV, each: (*run).eachCSV})
}

// tallyCSV writes the addresses that need a look, a row for each and for what is the matter
// with it: all of them, if -top says nothing else.
func (r *run) tallyCSV(s summed) error {
	side := *r
	if !r.topGiven {
		side.most = allOfThem
	}
	sums := side.sumsOf(s)
	out := csv.NewWriter(r.stdout)
	out.Write([]string{"outcome", "method", "url", "requests", "robots", "first", "last", "referrers", "likeliest", "status", "by", "at", "recorded"})
	write := func(outcome string, addresses []addressSum, predicted, by, at, recorded string) {
		for _, a := range addresses {
			method, url := ofTop(a.Address)
			var from []string
			for _, page := range a.From {
				from = append(from, fmt.Sprintf("%s (%d)", page.Page, page.Requests))
			}
			robots := ""
			if a.Robots != nil {
				robots = strconv.FormatInt(*a.Robots, 10)
			}
			row := []string{outcome, method, url, strconv.FormatInt(a.Requests, 10), robots, a.First, a.Last, strings.Join(from, " "), a.Likeliest, predicted, by, at, recorded}
			for i := range row {
				row[i] = render.Cell(row[i])
			}
			out.Write(row)
		}
	}
	write("loop", sums.Loops.Addresses, "", "", "", "")
	write("too-long", sums.TooLong.Addresses, "", "", "", "")
	write("chain", sums.Chains.Addresses, "", "", "", "")
	write("not-found", sums.Missing.Addresses, "404", "", "", "")
	for _, d := range sums.Recorded {
		write("differs", d.Addresses, fmt.Sprint(d.Predicted), d.By, d.At, strconv.Itoa(d.Recorded))
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
