package cli

import (
	"bufio"
	"cmp"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"os"
	"runtime"
	"slices"
	"strings"
	"time"

	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/replay"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
	"kibitz/internal/render"
)

var replayCommand = command{
	name:    "replay",
	args:    "LIST…",
	summary: "predicts the answer to every request of a list, and shows what needs a look",
	about: `Predicts the answer to every request of the lists (- is standard input), and
follows each redirect to its end.

What is shown: the outcomes, by status and by what decided; then what needs a
look, most requests first: loops, chains of redirects, addresses that are not
found, expectations that are not met, and entries that no request reached.
Exit status 1: there are loops or unmet expectations.`,
	setup: func(flags *flag.FlagSet) func(*run, []string) (int, error) {
		rules := flags.String("rules", "", "the rulebook, a `file` (default site.kibitz)")
		as := flags.String("as", "text", "the `form` of the result: text, jsonl (with -each)")
		each := flags.Bool("each", false, "show every request instead of the sums")
		strict := flags.Bool("strict", false, "a line that cannot be read is an error")
		workers := flags.Int("workers", runtime.GOMAXPROCS(0), "how many requests are predicted at once")
		return func(r *run, args []string) (int, error) {
			r.rules, r.as = *rules, *as
			if err := r.checkAs("text", "jsonl"); err != nil {
				return 0, err
			}
			switch {
			case len(args) == 0:
				return 0, usagef("name a list of requests, like: kibitz replay requests.txt")
			case r.as == "jsonl" && !*each:
				return 0, usagef("-as jsonl is a line for each request: add -each")
			case *workers < 1:
				return 0, usagef("-workers is a number from 1 on")
			}
			e, err := r.load()
			if err != nil {
				return 0, err
			}
			return r.replay(e, args, *each, *strict, *workers)
		}
	},
}

func (r *run) replay(e *engine.Engine, names []string, each, strict bool, workers int) (int, error) {
	var sources []replay.Source
	for _, name := range names {
		sources = append(sources, replay.Source{Name: name, Read: func(base request.Address, yield func(*list.Item)) (list.Counts, error) {
			in, err := r.open(name)
			if err != nil {
				return list.Counts{}, err
			}
			defer in.Close()
			return list.Plain(in, base, yield)
		}})
	}
	buffered := bufio.NewWriterSize(r.stdout, 64<<10)
	defer buffered.Flush()
	var show func(*replay.Result)
	if each {
		show = r.eachLine(buffered)
	}
	start := time.Now()
	tally, err := replay.Run(e, sources, workers, nil, show)
	if err != nil {
		return 0, err
	}
	took := time.Since(start)
	if err := buffered.Flush(); err != nil {
		return 0, err
	}
	skipped := r.showSkipped(tally)
	if !each {
		r.tallyText(e, tally, took)
	}
	switch {
	case strict && skipped > 0:
		return 0, fmt.Errorf("%s could not be read, and -strict is set", render.Count(skipped, "line"))
	case tally.Loops.Total+tally.TooLong.Total+tally.Unmets > 0:
		return exitFindings, nil
	}
	return exitWell, nil
}

// open opens a list; - is standard input.
func (r *run) open(name string) (io.ReadCloser, error) {
	if name == "-" {
		return io.NopCloser(r.stdin), nil
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, fmt.Errorf("the list cannot be read: %w", err)
	}
	if info, err := f.Stat(); err == nil && info.IsDir() {
		f.Close()
		return nil, fmt.Errorf("%s is a folder: name the list in it", name)
	}
	return f, nil
}

// showSkipped tells of lines that could not be read.
func (r *run) showSkipped(t *replay.Tally) int {
	total := 0
	for _, l := range t.Lists {
		total += l.Skipped
		if l.Skipped == 0 {
			continue
		}
		fmt.Fprintf(r.stderr, "%s: %s of %s could not be read:\n", render.Clean(l.Name), render.Number(l.Skipped), render.Count(l.Lines, "line"))
		for _, s := range l.First {
			fmt.Fprintf(r.stderr, "  line %d: %s\n", s.Line, render.Short(s.Reason, 160))
		}
		if more := l.Skipped - len(l.First); more > 0 {
			fmt.Fprintf(r.stderr, "  … and %d more\n", more)
		}
	}
	return total
}

// eachLine shows one request a line.
func (r *run) eachLine(w *bufio.Writer) func(*replay.Result) {
	if r.as == "jsonl" {
		enc := json.NewEncoder(w)
		enc.SetEscapeHTML(false)
		return func(res *replay.Result) { enc.Encode(render.NewLine(res)) }
	}
	return func(res *replay.Result) {
		resp := res.Response
		by := string(resp.Cause)
		if resp.By != nil {
			by = resp.By.Name
		}
		met := ""
		if len(res.Unmet) > 0 {
			met = "   UNMET: " + strings.Join(res.Unmet, "; ")
		}
		target := resp.Location
		if res.Visit != nil && res.Visit.Ending == engine.Loop {
			target += " (loop)"
		}
		fmt.Fprintf(w, "%s %-7s %s   %s   %s%s\n", engine.StatusText(resp), render.Clean(res.Item.Request.Verb()), render.Clean(res.Item.Request.Address.String()), render.Clean(target), by, render.Clean(met))
	}
}

const shownAddresses = 10

// tallyText shows the sums.
func (r *run) tallyText(e *engine.Engine, t *replay.Tally, took time.Duration) {
	out := r.out
	var head []string
	add := func(n int64, noun string, bad bool) {
		s := render.Count(n, noun)
		if bad && n > 0 {
			s = out.Bad(s)
		}
		head = append(head, s)
	}
	head = append(head, fmt.Sprintf("%s in %s", render.Count(t.Requests, "request"), shortTime(took)))
	add(t.Loops.Total+t.TooLong.Total, "loop", true)
	head = append(head, render.Number(t.Missing.Total)+" not found")
	if t.Expected > 0 {
		met := fmt.Sprintf("%s of %s met", render.Number(t.Expected-t.Unmets), render.Count(t.Expected, "expectation"))
		if t.Unmets > 0 {
			met = out.Bad(met)
		}
		head = append(head, met)
	}
	skipped, lines := 0, 0
	for _, l := range t.Lists {
		skipped += l.Skipped
		lines += l.Lines
	}
	if skipped > 0 {
		head = append(head, render.Count(skipped, "line")+" not read")
	}
	out.Printf("%s\n", strings.Join(head, "   "))
	if t.Requests == 0 {
		out.Printf("\nThe %s of the list hold no request.\n", render.Count(lines, "line"))
		return
	}
	r.outcomes(t)
	r.top("Loops", "visitors are sent round for ever", &t.Loops, true)
	r.top("Too long", fmt.Sprintf("more than %d redirects", engine.MaxRedirects), &t.TooLong, true)
	r.top("Chains", "more than one redirect before the visitor arrives", &t.Chains, false)
	r.missing(e, t)
	r.unmet(t)
	r.unreached(e, t)
	r.bytes(e, t)
}

func shortTime(d time.Duration) string {
	switch {
	case d < time.Millisecond:
		return fmt.Sprintf("%d µs", d.Microseconds())
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}

// outcomes is the table of statuses and what decided them.
func (r *run) outcomes(t *replay.Tally) {
	type row struct {
		status string
		n      int64
		by     map[string]int64
	}
	byStatus := map[string]*row{}
	for o, n := range t.Outcomes {
		s := byStatus[o.Status]
		if s == nil {
			s = &row{status: o.Status, by: map[string]int64{}}
			byStatus[o.Status] = s
		}
		s.n += n
		name := o.By
		if name == "" {
			name = "(" + string(o.Cause) + ")"
		}
		s.by[name] += n
	}
	r.out.Printf("\n")
	rows := [][]string{{r.out.Quiet("status"), r.out.Quiet("requests"), r.out.Quiet("share"), r.out.Quiet("decided by")}}
	for _, status := range sortedKeys(byStatus) {
		s := byStatus[status]
		names := sortedKeys(s.by)
		slices.SortStableFunc(names, func(a, b string) int { return cmp.Compare(s.by[b], s.by[a]) })
		var by []string
		for i, name := range names {
			if i == 12 {
				by = append(by, fmt.Sprintf("and %d more", len(names)-i))
				break
			}
			by = append(by, name+" "+render.Number(s.by[name]))
		}
		for i, line := range wrapList(by, r.out.Width-34) {
			if i == 0 {
				rows = append(rows, []string{r.out.Status(status), render.Number(s.n), render.Share(s.n, t.Requests), line})
			} else {
				rows = append(rows, []string{"", "", "", line})
			}
		}
	}
	r.out.Rows("  ", rows, 1, 2)
}

func wrapList(items []string, width int) []string {
	var lines []string
	line := ""
	for _, item := range items {
		if line != "" && len(line)+3+len(item) > width {
			lines = append(lines, line)
			line = ""
		}
		if line != "" {
			line += "   "
		}
		line += item
	}
	return append(lines, line)
}

func sortedKeys[V any](m map[string]V) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// heading begins a part of the report.
func (r *run) heading(title, what string, bad bool) {
	if bad {
		title = r.out.Bad(title)
	}
	r.out.Printf("\n%s   %s\n\n", title, r.out.Quiet(what))
}

// top shows the commonest addresses of one sort, and how to see more of them.
func (r *run) top(title, what string, t *replay.Top, bad bool) {
	if t.Total == 0 {
		return
	}
	r.heading(title, what, bad)
	var rows [][]string
	for _, c := range t.Most(shownAddresses) {
		rows = append(rows, []string{render.Number(c.N), render.Short(c.Address, r.out.Width-14)})
	}
	r.out.Rows("  ", rows, 0)
	r.more(t)
}

func (r *run) more(t *replay.Top) {
	if more := len(t.Counts) - shownAddresses; more > 0 {
		r.out.Printf("  %s\n", r.out.Quiet(fmt.Sprintf("… and %d more", more)))
	}
	if t.Others > 0 {
		r.out.Printf("  %s\n", r.out.Quiet(fmt.Sprintf("bounded: %s were for addresses beyond the first %s", render.Count(t.Others, "request"), render.Number(len(t.Counts)))))
	}
	if most := t.Most(1); len(most) == 1 {
		method, url, ok := strings.Cut(most[0].Address, " ")
		words := "-method " + method + " "
		if !ok {
			url, words = method, ""
		}
		r.out.Printf("\n  See one    kibitz trace %s%s%s\n", r.rulesWords(), words, render.Shell(url))
	}
}

// rulesWords are the -rules flag of a command to paste, where it is needed.
func (r *run) rulesWords() string {
	if r.rules == "" || r.rules == defaultRules {
		return ""
	}
	return "-rules " + render.Shell(r.rules) + " "
}

func (r *run) missing(e *engine.Engine, t *replay.Tally) {
	if t.Missing.Total == 0 {
		return
	}
	r.heading("Not found", "answered 404, and the list did not expect that", false)
	var rows [][]string
	for _, c := range t.Missing.Most(shownAddresses) {
		from := ""
		if top, ok := t.Referrer[c.Address]; ok {
			from = "linked from " + render.Short(top.Most(1)[0].Address, 50)
		}
		rows = append(rows, []string{render.Number(c.N), render.Short(c.Address, r.out.Width-40), r.out.Quiet(from)})
	}
	r.out.Rows("  ", rows, 0)
	r.more(&t.Missing)
}

func (r *run) unmet(t *replay.Tally) {
	if t.Unmets == 0 {
		return
	}
	r.heading("Not as expected", render.Count(t.Unmets, "request")+" whose answer is not what the list says", true)
	for i, u := range t.Unmet {
		if i == 2*shownAddresses {
			r.out.Printf("  %s\n", r.out.Quiet(fmt.Sprintf("… and %s more; all of them: kibitz replay -each", render.Number(t.Unmets-int64(i)))))
			break
		}
		r.out.Printf("  %s:%d   %s\n", render.Clean(u.List), u.Line, render.Short(u.Target, r.out.Width-30))
		for _, what := range u.What {
			r.out.Wrapped("      ", render.Clean(what))
		}
	}
}

// unreached names the entries that no request of the list came to.
func (r *run) unreached(e *engine.Engine, t *replay.Tally) {
	var names []string
	for _, rule := range e.Book.Rules {
		switch rule.Action.(type) {
		case *rulebook.Redirect, *rulebook.Moves, *rulebook.Reply, *rulebook.Handoff, *rulebook.Fallback:
			if t.Entries[rule.Place.String()] == 0 {
				names = append(names, fmt.Sprintf("%s (%s)", rule.Name, rule.Place))
			}
		}
	}
	if len(names) == 0 {
		return
	}
	r.heading("Not reached", "entries that decided no request of the list", false)
	r.out.Wrapped("  ", strings.Join(names, ", "))
}

// bytes is the table of sizes by media type.
func (r *run) bytes(e *engine.Engine, t *replay.Tally) {
	if len(t.Types) == 0 {
		return
	}
	r.heading("Bytes", "of bodies, by media type: as the files are, and over the wire", false)
	types := sortedKeys(t.Types)
	slices.SortStableFunc(types, func(a, b string) int { return cmp.Compare(t.Types[b].Plain, t.Types[a].Plain) })
	rows := [][]string{{r.out.Quiet("type"), r.out.Quiet("requests"), r.out.Quiet("plain"), r.out.Quiet("wire"), r.out.Quiet("saved")}}
	var sum replay.Bytes
	row := func(name string, b *replay.Bytes) {
		saved := ""
		if b.Wire < b.Plain {
			saved = render.Share(b.Plain-b.Wire, b.Plain)
		}
		rows = append(rows, []string{name, render.Number(b.Requests), render.Number(b.Plain), render.Number(b.Wire), saved})
	}
	for _, name := range types {
		b := t.Types[name]
		row(name, b)
		sum.Requests += b.Requests
		sum.Plain += b.Plain
		sum.Wire += b.Wire
	}
	row("all", &sum)
	r.out.Rows("  ", rows, 1, 2, 3, 4)
	r.smaller(e, t)
}

const shownSmaller = 5

// smaller names the files that would save most if they were compressed, and
// stored siblings that need a look.
func (r *run) smaller(e *engine.Engine, t *replay.Tally) {
	type saving struct {
		path      string
		requests  int64
		size, now int64
	}
	var list []saving
	for _, s := range e.Book.Sites {
		for _, c := range t.Plain.Most(200) {
			path, ok := strings.CutPrefix(c.Address, s.Name+" ")
			if !ok {
				continue
			}
			n := e.Tree(s).Find(path)
			content, err := n.Read()
			if err != nil {
				continue // an inventory does not hold it
			}
			if size := int64(len(engine.Encode(content, "br", 0))); size < n.Size {
				list = append(list, saving{canonical.Decode(path), c.N, size, n.Size})
			}
		}
	}
	if len(list) == 0 {
		return
	}
	slices.SortStableFunc(list, func(a, b saving) int {
		return cmp.Or(cmp.Compare(b.requests*(b.now-b.size), a.requests*(a.now-a.size)), strings.Compare(a.path, b.path))
	})
	r.heading("Could be smaller", "sent plain in the list, and what br would make of it", false)
	rows := [][]string{{r.out.Quiet("file"), r.out.Quiet("requests"), r.out.Quiet("plain"), r.out.Quiet("br"), r.out.Quiet("saved")}}
	for _, s := range list[:min(shownSmaller, len(list))] {
		rows = append(rows, []string{render.Short(s.path, 60), render.Number(s.requests), render.Number(s.now), render.Number(s.size), render.Share(s.now-s.size, s.now)})
	}
	r.out.Rows("  ", rows, 1, 2, 3, 4)
	if more := len(list) - shownSmaller; more > 0 {
		r.out.Printf("  %s\n", r.out.Quiet(fmt.Sprintf("… and %d more", more)))
	}
	if !slices.ContainsFunc(e.Book.Rules, func(rule *rulebook.Rule) bool { return rule.Kind == rulebook.KindCompress }) {
		r.out.Printf("\n  No entry compresses anything: add one like   compress text using br zstd gzip\n")
		return
	}
	r.out.Printf("\n  They were asked for without Accept-Encoding, or no compress entry takes them.\n")
}
