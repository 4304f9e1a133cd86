package main

import (
	"strings"
	"testing"
)

// Requests are counted by what they have in common, each once, with what becomes of them.
func TestCountedByWhatTheyHaveInCommon(t *testing.T) {
	line := func(client, at, path, referrer, agent string) string {
		return client + ` - - [` + at + `] "GET ` + path + ` HTTP/1.1" 200 1 "` + referrer + `" "` + agent + `"`
	}
	log := strings.Join([]string{
		line("192.0.2.1", "28/Feb/2026:23:30:00 +0000", "/", "https://r.example/list?q=1", "Reader/1.0"),
		line("192.0.2.99", "28/Feb/2026:23:59:59 +0000", "/none", "https://r.example/list?q=2", "Reader/1.0"),
		line("2001:db8:1:2::3", "01/Mar/2026:00:00:00 +0000", "/none", "-", "A crawler"),
		line("2001:db8:1:9::3", "01/Mar/2026:12:00:00 +0000", "/old", "-", "Other (+https://o.example/)"),
		line("-", "01/Mar/2026:12:30:00 +0000", "/round", "-", "-"),
		line("203.0.113.9", "01/Mar/2026:12:45:00 +0000", "/none", "/page", "Hoover/2"),
	}, "\n") + "\n"
	dir := write(t, map[string]string{"access.log": log, "public/index.html": "home",
		"site.kibitz": "site s address https://s.example files public\nredirect old on /old to / as 301\nredirect round on /round to /round as 302\n"})
	for _, test := range []struct {
		args string
		want string // rows of the table, from its heading on
	}{
		{"-by visitor", "visitor requests share 2xx 3xx 4xx loops|people 3 50.0% 1 . 2 .|robots 2 33.3% . 1 1 .|no agent 1 16.7% . 1 . 1"},
		{"-by visitor -robots hoover", "visitor requests share 2xx 3xx 4xx loops|robots 3 50.0% . 1 2 .|people 2 33.3% 1 . 1 .|no agent 1 16.7% . 1 . 1"},
		{"-by visitor -only 404", "visitor requests share 4xx|people 2 66.7% 2|robots 1 33.3% 1"},
		{"-by day", "day requests share 2xx 3xx 4xx loops|2026-02-28 2 33.3% 1 . 1 .|2026-03-01 4 66.7% . 2 2 1"},
		{"-by day -local Europe/Lisbon", "day requests share 2xx 3xx 4xx loops|2026-02-28 2 33.3% 1 . 1 .|2026-03-01 4 66.7% . 2 2 1"},
		{"-by day -local Asia/Tokyo", "day requests share 2xx 3xx 4xx loops|2026-03-01 6 100.0% 1 2 3 1"},
		{"-by hour -only 404", "hour requests share 4xx|2026-02-28 23:00 1 33.3% 1|2026-03-01 00:00 1 33.3% 1|2026-03-01 12:00 1 33.3% 1"},
		{"-by network", "network requests share 2xx 3xx 4xx loops|192.0.2.0/24 2 33.3% 1 . 1 .|2001:db8:1::/48 2 33.3% . 1 1 .|- 1 16.7% . 1 . 1|203.0.113.0/24 1 16.7% . . 1 ."},
		{"-by referrer -only 404", "referrer requests share 4xx|- 1 33.3% 1|/page 1 33.3% 1|https://r.example/list 1 33.3% 1"},
		{"-by path -top 1", "path requests share 2xx 3xx 4xx loops|/none 3 50.0% . . 3 .|… and 3 more; all of them: -top 0"},
		{"-by host", "host requests share 2xx 3xx 4xx loops|s.example 6 100.0% 1 2 3 1"},
		{"-by agent -only 301", "agent requests share 3xx|Other (+https://o.example/) 1 100.0% 1"},
	} {
		out, errs, _ := kibitz(t, dir, "", append([]string{"replay", "access.log"}, strings.Fields(test.args)...)...)
		_, table, _ := strings.Cut(out, "\n\n")
		var rows []string
		for line := range strings.SplitSeq(strings.TrimSpace(table), "\n") {
			rows = append(rows, strings.Join(strings.Fields(line), " "))
		}
		if got := strings.Join(rows, "|"); got != test.want {
			t.Errorf("%s:\n%s\nwant\n%s\n%s", test.args, got, test.want, errs)
		}
	}
	out, _, _ := kibitz(t, dir, "", "replay", "access.log", "-by", "visitor", "-as", "csv")
	if want := "visitor,requests,app,1xx,2xx,3xx,4xx,5xx,loops,first,last\npeople,3,0,0,1,0,2,0,0,2026-02-28T23:30:00Z,2026-03-01T12:45:00Z\n"; !strings.HasPrefix(out, want) {
		t.Errorf("%s\nwant\n%s", out, want)
	}
	out, _, _ = kibitz(t, dir, "", "replay", "access.log", "-by", "hour", "-as", "json")
	contains(t, out, `"by": "hour"`, `"zone": "UTC"`, `"name": "2026-02-28 23:00"`, `"first": "2026-02-28T23:30:00Z"`, `"others": 0`)
	for args, want := range map[string]string{
		"-by colour":                  "-by is one of agent, day, host, hour, network, path, referrer, visitor, not colour",
		"-by day -each":               "-by counts requests, and -each shows them: choose one",
		"-by day -as tap":             "-by -as is text, json, csv, html, not tap",
		"-by day -local Nowhere/Town": "there is no time zone Nowhere/Town here",
		"-by day -merge":              "-by goes with lists",
	} {
		if _, errs, status := kibitz(t, dir, "", append([]string{"replay", "access.log"}, strings.Fields(args)...)...); status != 2 || !strings.Contains(errs, want) {
			t.Errorf("%s: %d\n%s\nwant %s", args, status, errs, want)
		}
	}
}
