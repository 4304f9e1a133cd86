package main

import (
	"encoding/json"
	"strings"
	"testing"
)

// Each address is answered by the server (there) otherwise than the rulebook
// (here) says, and verify says why that most likely is.
func TestVerifySaysWhyAServerAnswersOtherwise(t *testing.T) {
	differences := []struct{ asks, here, there, reason string }{
		{"/s1", "redirect s1 on /s1 to /fares/ as 301", "redirect s1 on /s1 to /fares/ as 302", "the redirect is there, with 302 in the place of 301"},
		{"/s2", "redirect s2 on /s2 to /fares/ as 301", "", "the server does not have this redirect, or another rule comes before it"},
		{"/crew/rota.html", "access s3 in /crew/ refuse", "", "the guard is not there: what is to be refused is served"},
		{"/s4", "", "reply s4 on /s4 with 200 text here", "what is missing answers 200: an error page without its status, or a fallback that takes too much"},
		{"/about.html", "", "access s5 on /about.html refuse", "the server refuses what is to be served"},
		{"/s6", "rewrite s6 on /s6 to /boats/", "", "the file is not there, or the rewrite that leads to it is missing"},
		{"/fares/prices.pdf", "", "redirect s7 on /fares/prices.pdf to / as 302", "the server redirects what is to be answered here"},
		{"/boats/tern.html", "", "reply s8 on /boats/tern.html with 503", "the server fails: see its error log"},
		{"/s9", "reply s9 on /s9 with 410", "", "another rule decides there"},
		{"/l1", "redirect l1 on /l1 to https://{host}/x as 302", "redirect l1 on /l1 to http://{host}/x as 302", "the redirect leads to http, not https"},
		{"/l2", "redirect l2 on /l2 to https://one.example/ as 302", "redirect l2 on /l2 to https://two.example/ as 302", "the redirect leads to another host"},
		{"/l3", "redirect l3 on /l3 to /fares/ as 302", "redirect l3 on /l3 to /fares as 302", "the slash at the end is missing there, or too many"},
		{"/l4", "redirect l4 on /l4 to /fares/ as 302", "redirect l4 on /l4 to /boats/ as 302", "the redirect leads to another path"},
		{"/l5?a=1", "redirect l5 on /l5 to /fares/ as 302", "redirect l5 on /l5 to /fares/ as 302 query drop", "the query is kept, dropped or written differently"},
		{"/l6", "redirect l6 on /l6 to /fares/#a as 302", "redirect l6 on /l6 to /fares/#b as 302", "the fragment differs"},
		{"/contact/", "header h1 on /contact/ set X-Pier 1", "", "X-Pier is not sent: the header rule is missing, or not for this status or address"},
		{"/boats/", "header h2 on /boats/ set X-Pier 1", "header h2 on /boats/ set X-Pier 2", "X-Pier has another value: another rule sets it, too"},
		{"/de/", "media m in /de/ type html text/plain", "", "the media type of this extension is another there"},
		{"/styles/site.css\n    Accept-Encoding: gzip", "compress c1 in /styles/ using gzip types text/*", "", "the answer is not compressed: compression is off, or not for this media type or size"},
		{"/icon.svg\n    Accept-Encoding: gzip", "", "compress c2 on /icon.svg using gzip types image/*", "the answer is compressed, and is not to be"},
		{"/data/tides.json\n    Accept-Encoding: gzip, br", "compress c3 in /data/ using br types application/*", "compress c3 in /data/ using gzip types application/*", "another encoding is preferred there"},
		{"/none", "error e for 404 show /errors/404.html", "", "the page for this error is another there: the error rule is missing, or shows another file"},
		{"/planner/", "", "", "the file there is another, older or newer"}, // see below
		{"/fares/", "", "", ""},
	}
	here, there := situation{}, situation{file: "planner/index.html"}
	for _, d := range differences {
		here.rules += d.here + "\n"
		there.rules += d.there + "\n"
		here.list += d.asks + "\n"
	}
	dir := harbourIn(t, here)
	server := serveIn(t, harbourIn(t, there), "-as-host", "s.example", "-forwarded", "-quiet")
	out, errs, status := kibitz(t, dir, "", "verify", "list.txt", "-at", server.url, "-forwarded", "-rate", "0", "-as", "json")
	var result struct {
		Results []struct{ URL, Reason string }
	}
	if err := json.Unmarshal([]byte(out), &result); err != nil || status != 1 || len(result.Results) != len(differences) {
		t.Fatalf("status %d, %v, %d results: %s", status, err, len(result.Results), errs)
	}
	for i, d := range differences {
		if got := result.Results[i]; got.Reason != d.reason {
			t.Errorf("%s: %q, want %q", got.URL, got.Reason, d.reason)
		}
	}
	text, _, _ := kibitz(t, dir, "", "verify", "list.txt", "-at", server.url, "-forwarded", "-rate", "0", "-top", "30")
	flat := strings.Join(strings.Fields(text), " ")
	for _, d := range differences {
		if !strings.Contains(flat, d.reason) {
			t.Errorf("%q is missing in\n%s", d.reason, text)
		}
	}
}
