package cli

// Results as comma-separated values, RFC 4180.

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"strconv"
	"strings"
	"unicode"

	"kibitz/core/replay"
	"kibitz/internal/render"
)

func init() {
	registerForm(form{name: "csv", rank: 2, links: (*run).linksCSV, sums: (*run).tallyCSV, sides: (*run).sidesCSV, parts: (*run).partsCSV, heading: "list,line,method,url,status,cause,by,location,ends,recorded,met,client,time,body\n", each: (*run).eachCSV})
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

// eachCSV writes a row for each request. What it says of an answer that was remembered is, too.
func (r *run) eachCSV(w *bytes.Buffer) func(*replay.Result) {
	out := csv.NewWriter(w)
	cell := func(text string) {
		if text = render.Cell(text); strings.ContainsAny(text, "\",\r\n") || text == `\.` || strings.TrimLeftFunc(text, unicode.IsSpace) != text {
			out.Write([]string{text})
			out.Flush()
			text = ""
			w.Truncate(w.Len() - 1) // the end of the row
		}
		w.WriteString(text)
		w.WriteByte(',')
	}
	plain := func(text string) { // in which nothing must be quoted
		w.WriteString(text)
		w.WriteByte(',')
	}
	number := func(n int64) string {
		if n == 0 {
			return ""
		}
		return strconv.FormatInt(n, 10)
	}
	var clock render.Clock
	return func(res *replay.Result) {
		req := res.Item.Request
		cell(res.List)
		plain(strconv.Itoa(res.Item.Line))
		cell(req.Verb())
		cell(req.Address.Printable())
		w.Write(render.Said(res, func() []byte {
			a, by, start := render.NewAnswer(req, res.Response), "", w.Len()
			if a.By != nil {
				by = *a.By
			}
			for _, text := range []string{fmt.Sprint(a.Status), string(a.Cause), by, a.Location, string(render.NewWay(res).Ends)} {
				cell(text)
			}
			said := bytes.Clone(w.Bytes()[start:])
			w.Truncate(start)
			return said
		}))
		plain(number(int64(res.Item.Recorded)))
		met := ""
		if res.Item.Expects != nil {
			met = strconv.FormatBool(len(res.Unmet) == 0)
		}
		plain(met)
		plain(render.Client(req))
		plain(clock.When(req))
		w.WriteString(number(req.Body))
		w.WriteByte('\n')
	}
}
