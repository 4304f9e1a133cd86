package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"maps"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/internal/live"
	"kibitz/internal/render"
)

func init() {
	register(command{
		order:   3,
		goesOn:  "the file of -out is there: ask only for what it does not have yet, and add that",
		name:    "record",
		args:    "LIST…",
		summary: "sends a list to a running server, and keeps what it answers",
		about: `Sends the requests of the lists to the server at -at, and to no other, whatever
host they name: that goes into the Host field. Redirects are not followed. It asks at
a modest pace, and only with GET and HEAD, unless -send-all.

What it answered is written as JSON lines, which replay and compare read: so a
rulebook is held against what the site does today (the answers are the recorded
ones). Each line has url, method, status, location, headers, size, sha256 of the
body, time, and with -probe what it tries.

With -forwarded each is sent once for every client that the lists name, for a server
that believes a Forwarded field.

-probe also asks what tells rules apart: the other scheme, the other hosts, with and
without a slash, a query, other letters, no extension, the names of documents, HEAD
and OPTIONS, encodings, and names that cannot exist in each folder.
Exit status 1: a request got no answer.`,
		setup: func(flags *flag.FlagSet) func(*run, []string) (int, error) {
			f := &recordFlags{}
			f.server.setup(flags)
			f.listFlags.setup(flags, "the server at -at")
			f.setupHeaders(flags)
			flags.BoolVar(&f.probe, "probe", false, "ask for what lies beside each address, too: some fifteen requests for each")
			return func(r *run, args []string) (int, error) {
				if len(args) == 0 {
					return 0, usagef("name a list of requests, like: kibitz record requests.txt -at http://127.0.0.1:8080 -out answers.jsonl")
				}
				if err := errors.Join(f.server.check(), f.checkFormat()); err != nil {
					return 0, err
				}
				if r.goOn && r.file == "" {
					return 0, usagef("-continue goes on with the file that -out names")
				}
				ctx, stop := context.WithCancel(context.Background())
				defer stop()
				defer r.whenInterrupted(stop)()
				return r.record(ctx, args, f)
			}
		},
	})
}

type recordFlags struct {
	server
	listFlags
	probe bool
}

// address is what the paths of lists are asked of: what -base says, or the server.
func (f *recordFlags) address() (request.Address, error) {
	if f.base != "" {
		return siteAddress(f.base)
	}
	return request.Parse(strings.TrimSuffix(f.at[0], "/")+"/", request.Address{})
}

// An answerLine is what is kept of an answer.
type answerLine struct {
	URL    string `json:"url"`
	Method string `json:"method"`
	render.Asked
	Probe    string              `json:"probe,omitempty"`
	Status   int                 `json:"status"`
	Location string              `json:"location,omitempty"`
	Headers  map[string][]string `json:"headers"`
	Size     int64               `json:"size"`
	Sum      string              `json:"sha256"`
	Hints    []string            `json:"hints,omitempty"`
	Time     string              `json:"asked"`
}

func (r *run) record(ctx context.Context, names []string, f *recordFlags) (int, error) {
	base, err := f.address()
	if err != nil {
		return 0, err
	}
	known, err := r.alreadyRecorded(base)
	if err != nil {
		return 0, err
	}
	var all []*live.Answered
	hosts := map[string]bool{}
	for _, name := range names {
		counts, err := r.readList(name, &f.listFlags, base, func(item *list.Item) {
			req := &request.Request{Method: item.Request.Method, Address: item.Request.Address, Headers: item.Request.Headers, Body: item.Request.Body}
			if f.Forwarded { // else the server takes all for one client, and is asked once for all
				req.Client = item.Request.Client
			}
			all = append(all, &live.Answered{Request: req})
			hosts[item.Request.Address.Host] = true
		})
		if err := r.told(name, counts, err); err != nil {
			return 0, err
		}
	}
	all = live.Once(all, nil)
	if f.probe {
		all = append(all, live.Probes(all, slices.Sorted(maps.Keys(hosts)))...)
	}
	all = live.Once(all, known)
	skipped := map[string]int{}
	all = slices.DeleteFunc(all, func(a *live.Answered) bool {
		why := f.Refuses(a.Request)
		if why != "" {
			skipped[why]++
		}
		return why != ""
	})
	if len(all) > 0 && f.Rate > 0 {
		fmt.Fprintf(r.stderr, "%s to %s, at most %.0f a second: about %s\n", render.Count(len(all), "request"), strings.Join(f.at, " and "), f.Rate, render.Time(time.Duration(float64(len(all))/f.Rate*float64(time.Second))))
	}
	progress, ended := r.progress("record", int64(len(all)), "requests", 1)
	f.Progress = func(done int) { progress(int64(done)) }
	statuses, failed := map[int]int{}, map[string]int{}
	enc := render.JSON(r.stdout)
	var wrote error
	live.Record(ctx, all, f.Options, func(a *live.Answered) {
		if a.Failed != nil {
			failed[a.Failed.Error()]++
			return
		}
		statuses[a.Got.StatusCode]++
		wrote = errors.Join(wrote, enc.Encode(lineOf(a)))
	})
	ended()
	if wrote != nil {
		return 0, wrote
	}
	return r.recordedSums(statuses, failed, skipped, len(known))
}

func lineOf(a *live.Answered) answerLine {
	headers := map[string][]string{}
	for name, values := range a.Got.Header {
		if name != http.CanonicalHeaderKey("Set-Cookie") { // whoever is asked gives it to one visitor
			headers[name] = values
		}
	}
	return answerLine{URL: a.Request.Address.Printable(), Method: a.Request.Verb(), Asked: render.NewAsked(a.Request), Probe: a.Probe, Status: a.Got.StatusCode,
		Location: a.Got.Header.Get("Location"), Headers: headers, Size: a.Size, Sum: a.Sum, Hints: a.Hints, Time: a.Time.UTC().Format(time.RFC3339)}
}

// alreadyRecorded gives what the file of -out has already, which stands in the result again.
func (r *run) alreadyRecorded(base request.Address) (known []*request.Request, err error) {
	if !r.goOn {
		return nil, nil
	}
	text, err := os.ReadFile(r.file)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("what was recorded cannot be read: %w", err)
	}
	counts, err := list.Read(strings.NewReader(string(text)), list.Options{Base: base, Format: list.FormatJSONL}, func(item *list.Item) { known = append(known, item.Request) })
	if err != nil || counts.Skipped > 0 {
		return nil, fmt.Errorf("%s is not what record has written: %d of its lines cannot be read; without -continue choose another file", r.file, counts.Skipped)
	}
	_, err = r.stdout.Write(text)
	return known, err
}

// recordedSums says what became of all requests.
func (r *run) recordedSums(statuses map[int]int, failed, skipped map[string]int, known int) (int, error) {
	sent, lost := 0, 0
	var parts []string
	for _, status := range slices.Sorted(maps.Keys(statuses)) {
		sent += statuses[status]
		parts = append(parts, fmt.Sprintf("%s × %d", render.Number(statuses[status]), status))
	}
	said := render.Count(sent, "answer") + " kept"
	if known > 0 {
		said += fmt.Sprintf(" beside the %s that were there", render.Number(known))
	}
	if sent > 0 {
		said += ": " + strings.Join(parts, ", ")
	}
	render.NewOutput(r.stderr, r.color).Wrapped("", said)
	for _, why := range slices.Sorted(maps.Keys(skipped)) {
		fmt.Fprintf(r.stderr, "  %s not sent: %s\n", render.Number(skipped[why]), why)
	}
	for _, why := range slices.Sorted(maps.Keys(failed)) {
		lost += failed[why]
		fmt.Fprintf(r.stderr, "  %s without an answer: %s\n", render.Number(failed[why]), render.Short(why, 200))
	}
	switch {
	case r.interrupted():
		return 0, partialError{errors.New("interrupted: with -continue it goes on from here")}
	case lost > 0 && r.file != "":
		fmt.Fprintf(r.stderr, "With -continue those are asked for once more.\n")
	}
	if lost > 0 {
		return exitFindings, nil
	}
	return exitWell, nil
}
