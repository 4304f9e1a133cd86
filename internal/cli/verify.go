package cli

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"kibitz/core/excerpt"
	"kibitz/core/replay"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/internal/live"
	"kibitz/internal/render"
)

func init() {
	register(command{
		order:   10,
		top:     3,
		topHelp: "how many examples of each difference are shown, a `number`, 0 for all",
		shows:   func(f *form) bool { return f.verify != nil || f.cases != nil },
		rules:   theRules,
		name:    "verify",
		args:    "LIST…",
		summary: "sends a list to a running server, and holds its answers against the prediction",
		about: `Sends the requests of the lists to the server at -at, and to no other, whatever
host they name: that goes into the Host field. Each answer is held against the
prediction: status, Location, header, encoding, size. Redirects are not followed.

What is shown: the differences by the likeliest reason, with the entries that decide,
what the rulebook says and what the server did. It asks at a modest pace; only GET
and HEAD are sent, unless -send-all. A list's clients and times cannot be sent:
requests whose answer depends on them are left out, and counted.
Exit status 1: there are differences, or requests without an answer.`,
		setup: func(flags *flag.FlagSet) func(*run, []string) (int, error) {
			f := &verifyFlags{}
			f.server.setup(flags)
			f.listFlags.setup(flags, firstSite)
			f.setupHeaders(flags)
			flags.BoolVar(&f.everyLink, "every-link", false, everyLinkHelp+"; each once")
			flags.Var(&f.only, "only", "compare only this `aspect`: "+strings.Join(live.Aspects, ", ")+"; may be repeated")
			return func(r *run, args []string) (int, error) {
				if err := f.check(args); err != nil {
					return 0, err
				}
				ctx, stop := context.WithCancel(context.Background())
				defer stop()
				defer r.whenInterrupted(stop)()
				return r.verify(ctx, args, f)
			}
		},
	})
}

type verifyFlags struct {
	server
	only      onlyFlags
	everyLink bool
	listFlags
}

// A server is one that requests are sent to.
type server struct {
	live.Options
	at onlyFlags
}

func (f *server) setup(flags *flag.FlagSet) {
	flags.Var(&f.at, "at", "where the server is, a `URL` like http://127.0.0.1:8080; a second one for the other scheme")
	flags.Float64Var(&f.Rate, "rate", 20, "at most so many requests in a second, a `number`; 0 for no bound")
	flags.IntVar(&f.Parallel, "parallel", 2, "how many requests wait for an answer at once, a `number`")
	flags.DurationVar(&f.Timeout, "timeout", 10*time.Second, "how long an answer may take, a `duration` like 10s")
	flags.IntVar(&f.Retries, "retries", 1, "how often a request is sent again after an error of the network, a `number`")
	flags.BoolVar(&f.SendAll, "send-all", false, "send methods other than GET and HEAD, too: they may change something there")
	flags.BoolVar(&f.Forwarded, "forwarded", false, "send the list's client and scheme in a Forwarded field (RFC 7239)")
	flags.BoolVar(&f.Insecure, "insecure", false, "do not look at the server's certificate")
}

// check reads the flags that are no plain numbers.
func (f *server) check() error {
	switch {
	case len(f.at) == 0:
		return usagef("name the server, like: -at http://127.0.0.1:8080")
	case f.Parallel < 1 || f.Retries < 0 || f.Rate < 0 || f.Timeout <= 0:
		return usagef("-parallel is a number from 1 on, -rate and -retries from 0 on, and -timeout is longer than nothing")
	}
	for _, s := range f.at {
		u, err := url.Parse(s)
		if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || strings.Trim(u.Path, "/") != "" || u.RawQuery != "" {
			return usagef("-at %s is not the address of a server: write one like http://127.0.0.1:8080, without a path", s)
		}
		f.At = append(f.At, u)
	}
	if len(f.At) > 2 || len(f.At) == 2 && f.At[0].Scheme == f.At[1].Scheme {
		return usagef("-at may stand twice: once for http, once for https")
	}
	return nil
}

// check reads the flags that are no plain numbers.
func (f *verifyFlags) check(args []string) error {
	if len(args) == 0 && !f.everyLink {
		return usagef("name a list of requests, like: kibitz verify requests.txt -at http://127.0.0.1:8080")
	}
	if err := errors.Join(f.server.check(), f.checkFormat()); err != nil {
		return err
	}
	f.Aspects = live.Aspects
	for _, a := range f.only {
		if !slices.Contains(live.Aspects, a) {
			return usagef("-only is one of %s, not %s", strings.Join(live.Aspects, ", "), a)
		}
		f.Aspects = f.only
	}
	return nil
}

// readList reads a list to its end.
func (r *run) readList(name string, f *listFlags, base request.Address, yield func(*list.Item)) (list.Counts, error) {
	return r.readLines(name, f, base, nil, yield)
}

// readLines reads a list to its end: with lines, if it is read by lines, else as requests.
// lines may be nil.
func (r *run) readLines(name string, f *listFlags, base request.Address, lines func(replay.Text) (list.Counts, error), yield func(*list.Item)) (list.Counts, error) {
	in, err := r.open(name)
	if err != nil {
		return list.Counts{}, err
	}
	defer in.Close()
	format := list.Format(f.format)
	if file, size := regular(in); lines != nil && file != nil {
		if told := formatIn(file); told != "" && replay.Quick(cmp.Or(format, told), true) {
			progress, ended := r.progress(name, size, "MiB", 1<<20)
			defer ended()
			counts, err := lines(replay.Text{Name: name, Format: cmp.Or(format, told), File: file, Size: size, Progress: progress})
			return r.whole(name, counts, err)
		}
	}
	if name != "-" {
		in = r.stoppable(in)
		defer in.Close()
	}
	unpacked, err := list.Unpack(in)
	if err != nil {
		return list.Counts{}, fmt.Errorf("%s: %w", name, err)
	}
	if format == "" {
		head, _ := unpacked.Peek(4096)
		format = list.Detect(head)
	}
	if lines != nil && replay.Quick(format, false) {
		counts, err := lines(replay.Text{Name: name, Format: format, Stream: unpacked})
		return r.whole(name, counts, err)
	}
	counts, err := list.Read(unpacked, f.listOptions(name, format, base), func(item *list.Item) {
		item.Request.AddMissing(f.headers)
		yield(item)
	})
	return r.whole(name, counts, err)
}

// whole says whether all of a list could be read.
func (r *run) whole(name string, counts list.Counts, err error) (list.Counts, error) {
	switch cut := damaged(name, counts, err); {
	case cut != nil:
		return counts, cut
	case err != nil:
		return counts, fmt.Errorf("%s: %w", listName(name), err)
	}
	return counts, unreadable(name, counts)
}

// told says what could not be read of a list, of which the rest is good; an error is one of
// a list that cannot be used.
func (r *run) told(name string, c list.Counts, err error) error {
	if r.sayRead(name, c); isPartial(err) {
		fmt.Fprintf(r.stderr, "note: %s\n", render.Clean(err.Error()))
		return nil
	}
	return err
}

// isPartial reports whether what was done before an error is to be shown.
func isPartial(err error) bool {
	_, partial := errors.AsType[partialError](err)
	return partial
}

// sayRead says which lines of a list could not be read.
func (r *run) sayRead(name string, c list.Counts) {
	if c.Skipped == 0 {
		return
	}
	fmt.Fprintf(r.stderr, "%s: %d of %s could not be read:\n", render.Clean(name), c.Skipped, render.Count(c.Lines, "line"))
	for _, s := range c.First {
		fmt.Fprintf(r.stderr, "  line %d: %s\n", s.Line, render.Clean(s.Reason))
	}
}

func (r *run) verify(ctx context.Context, names []string, f *verifyFlags) (int, error) {
	e, err := r.load()
	if err != nil {
		return 0, err
	}
	r.origin = e.Book.BaseAddress().Origin()
	base, err := f.address(e)
	if err != nil {
		return 0, err
	}
	var all []*live.Verified
	var failed error
	start := time.Now()
	send := func(name string, items []*list.Item) {
		progress, ended := r.progress(name, int64(len(items)), "requests", 1)
		f.Progress = func(done int) { progress(int64(done)) }
		all = append(all, live.Verify(ctx, e, name, items, f.Options)...)
		ended()
	}
	if f.everyLink {
		own, err := r.pagesOf(e)
		if err != nil {
			return 0, err
		}
		var items []*list.Item
		replay.EveryLink(e, own, true)(base, func(item *list.Item) {
			item.Request.AddMissing(f.headers)
			items = append(items, item)
		})
		send("every link", items)
	}
	for _, name := range names {
		if ctx.Err() != nil {
			break
		}
		var items []*list.Item
		counts, err := r.readList(name, &f.listFlags, base, func(item *list.Item) { items = append(items, item) })
		if r.sayRead(name, counts); err != nil && !isPartial(err) {
			return 0, err
		}
		failed = errors.Join(failed, err)
		send(name, items)
	}
	show := r.form.verify
	if show == nil {
		show = (*run).verifiedCases
	}
	if err := show(r, verified{e, all, f, time.Since(start)}); err != nil {
		return 0, err
	}
	if ctx.Err() != nil {
		return 0, errInterrupted
	}
	if failed != nil {
		return 0, failed
	}
	if slices.ContainsFunc(all, func(v *live.Verified) bool { return v.Failed != nil || len(v.Differences) > 0 }) {
		return exitFindings, nil
	}
	return exitWell, nil
}

// verifiedText shows the differences, grouped.
func (r *run) verifiedText(found verified) error {
	all, f, took := found.all, found.flags, found.took
	out := r.out
	type group struct {
		reason string
		by     map[string]int // the entries that decide them, with their places; a cause where there is none
		list   []*live.Verified
		shown  []*live.Verified // of each address the first
		seen   map[string]bool
	}
	groups := map[string]*group{}
	skipped, failed := map[string]int{}, map[string]int{}
	agree, sent := 0, 0
	for _, v := range all {
		if v.Sent {
			sent++
		}
		switch {
		case v.Skipped != "":
			skipped[v.Skipped]++
			continue
		case v.Failed != nil:
			failed[v.Failed.Error()]++
			continue
		case len(v.Differences) == 0:
			agree++
			continue
		}
		by := "(" + string(v.Predicted.Cause) + ")"
		if r := v.Predicted.By; r != nil {
			by = r.Name + " (" + place(r) + ")"
		}
		key := v.Reason() + "\x00" + v.Differences[0].Aspect
		g := groups[key]
		if g == nil {
			g = &group{reason: v.Reason(), by: map[string]int{}, seen: map[string]bool{}}
			groups[key] = g
		}
		g.list = append(g.list, v)
		g.by[by]++
		if at := v.Item.Request.Verb() + " " + v.Item.Request.Address.String(); !g.seen[at] {
			g.seen[at] = true
			g.shown = append(g.shown, v)
		}
	}
	differ := 0
	var sorted []*group
	for _, g := range groups {
		differ += len(g.list)
		sorted = append(sorted, g)
	}
	slices.SortFunc(sorted, func(a, b *group) int {
		return cmp.Or(cmp.Compare(len(b.list), len(a.list)), strings.Compare(a.reason, b.reason))
	})
	said := out.Well(render.Number(agree) + " as predicted")
	if differ > 0 {
		said += "   " + out.Bad(render.Number(differ)+" different")
	}
	if n := total(failed); n > 0 {
		said += "   " + out.Bad(render.Number(n)+" without an answer")
	}
	if n := total(skipped); n > 0 {
		said += fmt.Sprintf("   %s not sent", render.Number(n))
	}
	asked := agree + differ + total(failed)
	once := ""
	if sent < asked {
		once = fmt.Sprintf("%s of them sent, each once, ", render.Number(sent))
	}
	out.Printf("%s   %s%s\n", render.Count(asked, "request"), said, r.partly(r.interrupted()))
	out.Wrapped("", out.Quiet(fmt.Sprintf("%sto %s in %s", once, strings.Join(f.at, " and "), render.Time(took))))
	if len(sorted) > 1 {
		out.Printf("\n")
		var rows [][]string
		for _, g := range sorted {
			likeliest, _, _ := strings.Cut(g.reason, ":") // the rest stands below
			rows = append(rows, []string{render.Number(len(g.list)), likeliest})
		}
		out.Rows("  ", rows, 0)
	}
	for _, g := range sorted {
		out.Printf("\n")
		out.Wrapped("", out.Bad(render.Count(len(g.list), "request"))+": "+render.Clean(g.reason))
		var by []string
		for _, name := range slices.SortedFunc(maps.Keys(g.by), func(a, b string) int { return cmp.Or(cmp.Compare(g.by[b], g.by[a]), strings.Compare(a, b)) }) {
			by = append(by, name+" "+render.Number(g.by[name]))
		}
		out.Printf("\n")
		out.Wrapped("  Decided by  ", render.Clean(strings.Join(by, ", ")))
		for i, v := range g.shown {
			if i == r.most {
				out.Printf("              … and %s more\n", render.Number(len(g.shown)-i))
				break
			}
			out.Printf("  %s %s\n", render.Clean(v.Item.Request.Verb()), r.near(v.Item.Request.Address.String()))
			var rows [][]string
			for _, d := range v.Differences {
				rows = append(rows, []string{differenceName(d), "predicted " + valueText(d.Predicted), "got " + valueText(d.Got)})
			}
			out.Rows("      ", rows)
		}
		out.Printf("  Try it      %s\n", r.traceLine(excerpt.Trimmed(found.engine, g.list[0].Item.Request)))
	}
	r.reasons("Without an answer", failed)
	r.reasons("Not sent", skipped)
	return nil
}

func total(m map[string]int) int {
	n := 0
	for _, c := range m {
		n += c
	}
	return n
}

func differenceName(d live.Difference) string {
	if d.Field != "" {
		return d.Field
	}
	return d.Aspect
}

func valueText(s string) string {
	if s == "" {
		return "none"
	}
	return render.Short(s, 80)
}

// reasons lists how many requests have which reason.
func (r *run) reasons(title string, m map[string]int) {
	if len(m) == 0 {
		return
	}
	r.out.Printf("\n%s\n\n", title)
	keys := sortedKeys(m)
	slices.SortStableFunc(keys, func(a, b string) int { return cmp.Compare(m[b], m[a]) })
	for _, k := range keys {
		r.out.Wrapped(fmt.Sprintf("%*s   ", 2+len(render.Number(m[keys[0]])), render.Number(m[k])), render.Clean(k))
	}
}

// verifiedCases shows every request as a test case.
func (r *run) verifiedCases(found verified) error {
	for _, v := range found.all {
		failed := v.Reason()
		for i, d := range v.Differences {
			if i == 0 {
				failed += ":"
			}
			failed += fmt.Sprintf(" %s %s predicted, %s got;", differenceName(d), valueText(d.Predicted), valueText(d.Got))
		}
		if v.Failed != nil {
			failed = v.Failed.Error()
		}
		if v.Skipped != "" {
			continue
		}
		name := fmt.Sprintf("%s:%d %s %s", v.List, v.Item.Line, v.Item.Request.Verb(), v.Item.Request.Address)
		r.cases = append(r.cases, testCase{render.Clean(name), render.Clean(strings.TrimSuffix(failed, ";"))})
	}
	return r.form.cases(r, "verify", r.cases)
}
