package cli

import (
	"bufio"
	"bytes"
	"cmp"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/term"

	"kibitz/core/engine"
	"kibitz/core/replay"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
	"kibitz/internal/render"
)

func init() {
	register(command{
		order:   7,
		top:     10,
		topHelp: "how many addresses of a sort are shown, a `number`, 0 for all (of -as csv all, if it is not given)",
		shows:   func(f *form) bool { return f.sums != nil || f.cases != nil },
		each:    func(f *form) bool { return f.each != nil },
		rules:   theRules,
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
			f := &replayFlags{}
			flags.BoolVar(&f.each, "each", false, "show every request instead of the sums")
			flags.BoolVar(&f.strict, "strict", false, "a line that cannot be read is an error")
			flags.BoolVar(&f.everyFile, "every-file", false, "ask for each file and folder of the sites' trees")
			flags.BoolVar(&f.everyLink, "every-link", false, everyLinkHelp)
			f.setup(flags, firstSite)
			flags.IntVar(&f.workers, "workers", runtime.GOMAXPROCS(0), "how many requests are predicted at once, a `number`")
			flags.Var(&f.only, "only", "only requests with this `outcome`: a status (404, 5xx, app), an entry's name, or "+strings.Join(replay.Outcomes, ", ")+"; may be repeated")
			flags.StringVar(&f.since, "since", "", "only requests made at this `time` or later; those without a time are left out")
			flags.StringVar(&f.until, "until", "", "only requests made before this `time`")
			f.setupHeaders(flags)
			flags.StringVar(&f.by, "by", "", "count the requests by `what` they have in common, instead of the sums: "+strings.Join(replay.Bys, ", ")+"; with -merge: tally, to see them side by side")
			flags.StringVar(&f.zone, "local", "UTC", "the time `zone` of days and hours, like Europe/Lisbon")
			flags.Var(&f.robots, "robots", "a `word` in the names of programs that are robots, beside those of kibitz help lists; may be repeated")
			flags.StringVar(&f.save, "save", "", "write the tally to this `file`, for -merge")
			flags.Var(&f.part, "part", "read just a part of each list, `K/N`: the lines that begin in the K-th of N shares of its bytes, so that several machines can each read theirs")
			flags.BoolVar(&f.merge, "merge", false, "the arguments are saved tallies: add them up")
			flags.BoolVar(&f.different, "different-rulebooks", false, "with -merge: add up tallies of different rulebooks, too")
			flags.BoolVar(&f.cover, "cover", false, "tell of each entry how much of it the lists hold fast: of small slips in it, how many the expectations would notice")
			flags.StringVar(&f.coverMin, "cover-min", "", "with -cover: end with status 1 where less than this `share` is held, like 90%")
			watch := flags.Bool("watch", false, "do it again whenever the rulebook, a tree or a list changes")
			return func(r *run, args []string) (int, error) {
				if err := f.checkForm(r.form); err != nil {
					return 0, err
				}
				if err := f.checkCover(); err != nil {
					return 0, err
				}
				switch {
				case len(args) == 0 && !f.everyFile && !f.everyLink:
					return 0, usagef("name a list of requests, like: kibitz replay requests.txt")
				case f.workers < 1:
					return 0, usagef("-workers is a number from 1 on")
				case f.by == byTally && (!f.merge || len(args) < 2):
					return 0, usagef("-by tally puts saved tallies side by side: kibitz replay -merge -by tally MONDAY TUESDAY")
				case f.by != "" && f.by != byTally && !slices.Contains(replay.Bys, f.by):
					return 0, usagef("-by is one of %s, not %s", strings.Join(replay.Bys, ", "), f.by)
				case f.cover && (f.merge || f.each || f.by != ""):
					return 0, usagef("-cover is told beside the sums of lists: leave out -merge, -each and -by")
				case f.merge && f.by != "" && f.by != byTally:
					return 0, usagef("-merge adds up tallies, which do not tell their requests: -by goes with lists")
				case f.different && !f.merge:
					return 0, usagef("-different-rulebooks goes with -merge")
				case f.part.Of > 0 && (f.everyFile || f.everyLink):
					return 0, usagef("-part is of lists: leave out -every-file and -every-link")
				case f.merge && (f.part.Of > 0 || f.each || f.everyFile || f.everyLink || f.only != nil || f.headers != nil || f.since+f.until+f.base != ""):
					return 0, usagef("-merge adds up tallies, and takes no flag that chooses requests")
				}
				if err := f.checkFormat(); err != nil {
					return 0, err
				}
				if f.save != "" {
					if err := mustBeNew(f.save); err != nil {
						return 0, err
					}
				}
				if *watch {
					return r.watch(func() (int, error) { return r.replayOnce(args, f) })
				}
				return r.replayOnce(args, f)
			}
		},
	})
}

// checkForm refuses a form that does not show what is asked for.
func (f *replayFlags) checkForm(as *form) error {
	switch {
	case f.by != "" && f.each:
		return usagef("-by counts requests, and -each shows them: choose one")
	case f.by == byTally && as.sides == nil:
		return usagef("-by tally -as is %s, not %s", formsOf(func(f *form) bool { return f.sides != nil }), as.name)
	case f.by != "" && f.by != byTally && as.parts == nil:
		return usagef("-by -as is %s, not %s", formsOf(func(f *form) bool { return f.parts != nil }), as.name)
	case f.each && as.each == nil:
		return usagef("-each -as is %s, not %s", formsOf(func(f *form) bool { return f.each != nil }), as.name)
	case !f.each && f.by == "" && as.sums == nil && as.cases == nil:
		return usagef("-as %[1]s shows every request: write -each -as %[1]s; the sums are -as json", as.name)
	}
	return nil
}

// firstSite is what paths are asked of where a rulebook is at hand.
const firstSite = "the first site's address"

// listFlags say how lists are read.
type listFlags struct {
	format, base string
	fields       fieldsFlag
	headers      headerFlags // of every request that does not have them
}

// fieldsFlag are the names of a JSON log, by what they tell.
type fieldsFlag map[string]string

func (f *fieldsFlag) String() string { return "" }

func (f *fieldsFlag) Set(text string) error {
	*f = fieldsFlag{}
	for pair := range strings.SplitSeq(text, ",") {
		part, name, _ := strings.Cut(pair, "=")
		if !slices.Contains(list.EventParts(), part) || name == "" {
			return fmt.Errorf("%q is not like url=NAME: what can be named is %s", pair, strings.Join(list.EventParts(), ", "))
		}
		(*f)[part] = name
	}
	return nil
}

// setup adds the flags; base is what -base is if nothing is said, "" where there is no such
// flag.
func (f *listFlags) setup(flags *flag.FlagSet, base string) {
	flags.StringVar(&f.format, "list", "", "the `format` of the lists: "+formatNames()+" (default: detected)")
	flags.Var(&f.fields, "fields", "the `NAMES` of a JSON log by what they tell, like url=request.uri,status=code; they come before those that are known")
	if base != "" {
		flags.StringVar(&f.base, "base", "", "the `URL` of the site that the paths of the lists are asked of, like http://www.s.example (default: "+base+")")
	}
}

// setupHeaders adds the flags of header fields.
func (f *listFlags) setupHeaders(flags *flag.FlagSet) {
	flags.Var(&f.headers, "header", "a header field, `\"Name: value\"`, of every request that does not have it; logs tell no Accept-Encoding; may be repeated")
	flags.Var(userFlag{&f.headers}, "user", userHelp)
}

// checkFormat refuses a format of lists that there is not; "" is told by content.
func (f *listFlags) checkFormat() error {
	if len(f.fields) > 0 {
		if f.format = cmp.Or(f.format, string(list.FormatJSONLog)); f.format != string(list.FormatJSONLog) {
			return usagef("-fields goes with -list %s", list.FormatJSONLog)
		}
	}
	if f.format == "" || slices.Contains(list.Formats(), list.Format(f.format)) {
		return nil
	}
	return usagef("-list is one of %s, not %s", formatNames(), f.format)
}

// address is what the paths of lists are asked of.
func (f *listFlags) address(e *engine.Engine) (request.Address, error) {
	if f.base == "" {
		return e.Book.BaseAddress(), nil
	}
	a, err := request.Parse(f.base, request.Address{})
	switch {
	case err != nil || a.Host == "" || a.Path != "/" || a.HasQuery || a.Fragment != "":
		return a, usagef("-base is the URL of a site, without a path, like https://saltmarsh-ferries.example; not %s", f.base)
	case !e.Serves(a.Host):
		return a, usagef("-base %s: no site of the rulebook answers for %s", f.base, a.Host)
	}
	return a, nil
}

// listOptions say how a list is read; another that it names lies beside it.
func (f *listFlags) listOptions(name string, format list.Format, base request.Address) list.Options {
	o := list.Options{Base: base, Format: format, Fields: f.fields}
	if name != "-" {
		o.Open = func(other string) (io.ReadCloser, error) { return openPlain(filepath.Join(filepath.Dir(name), other)) }
	}
	return o
}

// openPlain opens a file that nobody has named: only a plain one, since any other may
// never end, or never begin.
func openPlain(name string) (io.ReadCloser, error) {
	info, err := os.Stat(name)
	if err == nil && !info.Mode().IsRegular() {
		err = errors.New("it is not a plain file")
	}
	if err != nil {
		return nil, err
	}
	return os.Open(name)
}

func formatNames() string {
	var names []string
	for _, f := range list.Formats() {
		names = append(names, string(f))
	}
	return strings.Join(names, ", ")
}

// replayOnce reads the rulebook and replays the lists.
func (r *run) replayOnce(args []string, f *replayFlags) (int, error) {
	e, err := r.load()
	if book, ok := errors.AsType[bookErrors](err); ok && r.form.cases != nil {
		r.showBookErrors(book)
		r.cases = []testCase{{render.Clean(r.rulesName() + " can be read"), render.Clean(strings.ReplaceAll(book.Error(), "\n", "; "))}}
		return exitTrouble, r.form.cases(r, r.rulesName(), r.cases)
	}
	if err != nil {
		return 0, err
	}
	collectBeside(e.Book)
	if !f.merge {
		return r.replay(e, args, f)
	}
	if f.by == byTally {
		return r.talliesSideBySide(e, args)
	}
	start := time.Now()
	total, err := r.mergeTallies(e, args, f)
	if err != nil {
		return 0, err
	}
	return r.finish(e, total, nil, f, time.Since(start))
}

// mergeTallies adds up saved tallies, which are all of one rulebook.
func (r *run) mergeTallies(e *engine.Engine, names []string, f *replayFlags) (*replay.Tally, error) {
	total := replay.NewTally()
	current := replay.RulesOf(e.Book)
	type loaded struct {
		tally *replay.Tally
		of    replay.Rules
		err   error
	}
	var first replay.Rules
	merged := 0
	for some := range slices.Chunk(names, f.workers) { // reading them takes the time
		parts := make([]loaded, len(some))
		var pool sync.WaitGroup
		for i, name := range some {
			pool.Go(func() {
				p := &parts[i]
				p.tally, p.of, p.err = r.loadTally(name)
			})
		}
		pool.Wait()
		for i, p := range parts {
			name := some[i]
			switch {
			case p.err != nil:
				return nil, p.err
			case merged == 0:
				if first = p.of; !first.Is(current) {
					fmt.Fprintf(r.stderr, "note: %s was saved with another rulebook, or an earlier state of %s\n", render.Clean(listName(name)), render.Clean(r.rulesName()))
				}
			case !p.of.Is(first) && !f.different:
				return nil, usagef("%s was saved with another rulebook than %s: sums of different rules say little; with -different-rulebooks they are added up anyway", listName(name), listName(names[0]))
			}
			if twice := total.Again(p.tally); twice != nil {
				return nil, usagef("%s counts %s, and so does a tally before it: name each part once", listName(name), titleOf(twice.Name, twice.Part))
			}
			total.Merge(p.tally)
			merged++
		}
	}
	return total, nil
}

// loadTally reads a saved tally, and of which rulebook it is.
func (r *run) loadTally(name string) (*replay.Tally, replay.Rules, error) {
	in, err := r.open(name)
	if err != nil {
		return nil, replay.Rules{}, err
	}
	defer in.Close()
	t, of, err := replay.LoadTally(in)
	if err != nil {
		err = fmt.Errorf("%s is not a saved tally: %w", listName(name), err)
	}
	return t, of, err
}

// onlyFlags choose requests by what happens to them.
type onlyFlags []string

func (o *onlyFlags) String() string     { return "" }
func (o *onlyFlags) Set(s string) error { *o = append(*o, s); return nil }

// checkOnly refuses words that nothing can be.
func (f *replayFlags) checkOnly(b *rulebook.Book) error {
	for _, word := range f.only {
		named := func(rule *rulebook.Rule) bool { return rule.IsCalled(word) }
		if !request.IsStatus(word) && !slices.Contains(replay.Outcomes, word) && !slices.ContainsFunc(b.Rules, named) {
			return usagef("-only %s: no entry has this name, and it is not a status and none of %s", word, strings.Join(replay.Outcomes, ", "))
		}
	}
	return nil
}

// choice gives what the flags choose.
func (f *replayFlags) choice() (c replay.Choice, err error) {
	c.Only = f.only
	if f.since != "" {
		if c.Since, err = parseTime(f.since); err != nil {
			return c, usagef("-since: %v", err)
		}
	}
	if f.until != "" {
		if c.Until, err = parseTime(f.until); err != nil {
			return c, usagef("-until: %v", err)
		}
	}
	return c, nil
}

// replayFlags say what a replay does.
type replayFlags struct {
	each, strict         bool
	everyFile, everyLink bool
	workers              int
	listFlags
	only         onlyFlags
	since, until string
	save         string
	saved        bool // it has been written by now: where lists are watched, it is replaced
	merge        bool
	different    bool
	by, zone     string
	robots       onlyFlags
	cover        bool
	coverMin     string
	coverLeast   float64         // as coverMin says
	held         []*list.Item    // with what is expected of them, for cover
	asked        request.Address // what base says
	chosen       replay.Choice   // what only, since and until say
	part         partFlag
	parts        *replay.Breakdown // that -by counts into; nil without it
}

// partFlag is which part of each list is read; none of zero.
type partFlag list.Part

func (p *partFlag) String() string { return "" }

func (p *partFlag) Set(text string) error {
	number, of, _ := strings.Cut(text, "/")
	var bad error
	if p.Number, bad = strconv.Atoi(number); bad == nil {
		p.Of, bad = strconv.Atoi(of)
	}
	if bad != nil || p.Number < 1 || p.Number > p.Of || p.Of > maxParts {
		return fmt.Errorf("write it as K/N, the number of a part and of how many it is one, like 2/8; N is at most %s", render.Number(maxParts))
	}
	return nil
}

const maxParts = 1_000_000

// of gives the part of a list, and what it is called.
func (p partFlag) of(name string, in *os.File, size int64, format list.Format) (list.Part, *io.SectionReader, error) {
	part := list.Part(p)
	part.Size = size
	if in == nil {
		return part, nil, usagef("-part reads a part of a file: %s is not one", listName(name))
	}
	if _, anywhere := list.ByLine(format); !anywhere {
		return part, nil, usagef("-part takes lists whose lines stand for themselves, unpacked: access logs and JSON, one object a line; %s is not one of them: split it where a record begins, and replay each file", listName(name))
	}
	text, err := part.In(in)
	return part, text, err
}

// titleOf is the name of a list, or of the part of it that was read.
func titleOf(name string, part *list.Part) string {
	if part == nil {
		return listName(name)
	}
	return listName(name) + partTitle(*part)
}

func partTitle(p list.Part) string { return fmt.Sprintf(", part %d of %d", p.Number, p.Of) }

func (r *run) replay(e *engine.Engine, names []string, f *replayFlags) (int, error) {
	var stop atomic.Bool
	done := r.whenInterrupted(func() { stop.Store(true) })
	defer done()
	buffered := bufio.NewWriterSize(r.stdout, 64<<10)
	defer buffered.Flush()
	var err error
	if f.chosen, err = f.choice(); err != nil {
		return 0, err
	}
	if err := f.checkOnly(e.Book); err != nil {
		return 0, err
	}
	if f.asked, err = f.address(e); err != nil {
		return 0, err
	}
	parts, err := f.breakdown()
	if err != nil {
		return 0, err
	}
	f.parts, f.held = parts, nil
	var show func() replay.Show
	switch {
	case f.each:
		buffered.WriteString(r.form.heading)
		show = r.showEach(buffered)
	case parts != nil:
		show = replay.InOrder(parts.Add)
	case f.cover || r.form.cases != nil:
		show = replay.InOrder(func(res *replay.Result) {
			if f.cover && res.Item.Expects != nil {
				f.held = append(f.held, res.Item)
			}
			if r.form.cases != nil {
				r.collect(res)
			}
		})
	}
	start := time.Now()
	tally := replay.NewTally()
	var failed error
	if f.everyFile && !slices.ContainsFunc(e.Book.Sites, e.KnowsTree) {
		return 0, usagef("-every-file asks for the files of the sites' trees, and %s names none: add `files DIR` or `inventory FILE` to a site", r.rulesName())
	}
	if f.everyFile {
		part, err := replay.Run(e, []replay.Source{{Name: "every file", Read: replay.EveryFile(e)}}, r.options(f, &stop, show))
		if err != nil {
			return 0, err
		}
		tally.Merge(part)
	}
	if f.everyLink {
		all, err := r.pagesOf(e)
		if err != nil {
			return 0, err
		}
		part, err := replay.Run(e, []replay.Source{{Name: "every link", Read: replay.EveryLink(e, all, false)}}, r.options(f, &stop, show))
		if err != nil {
			return 0, err
		}
		tally.Merge(part)
	}
	for _, name := range names {
		if stop.Load() {
			break
		}
		part, err := r.replayList(e, name, f, &stop, show)
		if err != nil && part == nil {
			return 0, err
		}
		failed = errors.Join(failed, err)
		part.Partial = part.Partial || err != nil
		tally.Merge(part)
	}
	took := time.Since(start)
	if err := buffered.Flush(); err != nil {
		return 0, err
	}
	done() // what is computed from here on ends with the program
	status, err := r.finish(e, tally, parts, f, took)
	if failed != nil {
		err = failed
	}
	return status, err
}

// damaged says where a list could not be read any further; nil where it could. What was
// read before it counts.
func damaged(name string, c list.Counts, err error) error {
	if _, ok := errors.AsType[*list.Damaged](err); !ok {
		return nil
	}
	of := c.Of
	if of == "" {
		of = "line"
	}
	return partialError{fmt.Errorf("%s: %w behind %s: the result covers only what comes before", listName(name), err, render.Count(c.Lines, of))}
}

// unreadable says that nothing of a list could be read; nil where something could, or
// where it is empty.
func unreadable(name string, c list.Counts) error {
	if c.Requests > 0 || c.Skipped == 0 {
		return nil
	}
	return partialError{fmt.Errorf("%s: none of its lines could be read; if it is of another format, name that with -list", listName(name))}
}

// showEach writes each request in the form that is wanted.
func (r *run) showEach(out io.Writer) func() replay.Show {
	return func() replay.Show {
		var text bytes.Buffer // of a run of them
		return replay.Show{Result: r.form.each(r, &text), End: func() {
			out.Write(text.Bytes()) // its error comes again with the last bytes
			text.Reset()
		}}
	}
}

func (r *run) options(f *replayFlags, stop *atomic.Bool, each func() replay.Show) replay.Options {
	return replay.Options{Workers: f.workers, Base: f.asked, Headers: f.headers, Fields: f.fields, Robots: f.robotWords(), Stop: stop, Choice: f.chosen, Each: each, Whole: f.each && r.form.whole}
}

// finish shows the sums, and gives the exit status.
func (r *run) finish(e *engine.Engine, tally *replay.Tally, parts *replay.Breakdown, f *replayFlags, took time.Duration) (int, error) {
	if f.save != "" {
		var b bytes.Buffer
		if err := tally.Save(&b, replay.RulesOf(e.Book)); err != nil {
			return 0, err
		}
		if err := writeWhole(f.save, b.Bytes(), f.saved); err != nil {
			return 0, err
		}
		f.saved = true
	}
	cover, err := f.covered(e)
	if err != nil {
		return 0, err
	}
	s := summed{e, tally, f, took, cover}
	switch {
	case parts != nil:
		if err := r.form.parts(r, parts, s); err != nil {
			return 0, err
		}
	case !f.each:
		show := r.form.sums
		if show == nil {
			show = func(r *run, _ summed) error { return r.form.cases(r, "replay", r.cases) }
		}
		if err := show(r, s); err != nil {
			return 0, err
		}
	}
	skipped := r.showSkipped(tally, f)
	switch {
	case tally.Partial:
		return 0, errInterrupted
	case f.strict && skipped > 0:
		return 0, partialError{fmt.Errorf("%s could not be read, and -strict is set", render.Count(skipped, "line"))}
	}
	for _, l := range tally.Lists {
		if err := unreadable(l.Name, l.Counts); err != nil {
			return 0, err
		}
	}
	if tally.Loops.Total+tally.TooLong.Total+tally.Unmets > 0 || s.cover != nil && s.cover.Share() < f.coverLeast {
		return exitFindings, nil
	}
	return exitWell, nil
}

// replayList replays one list: an access log on the fast path.
func (r *run) replayList(e *engine.Engine, name string, f *replayFlags, stop *atomic.Bool, show func() replay.Show) (*replay.Tally, error) {
	in, err := r.open(name)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	file, size := regular(in)
	format := list.Format(f.format)
	var parts io.ReaderAt // the list as one that can be read at any place; nil for another
	if file != nil {
		if told := formatIn(file); told != "" {
			format, parts = cmp.Or(format, told), file
		}
	}
	read, called := io.Reader(in), name
	var part *list.Part
	if f.part.Of > 0 {
		of := format
		if parts == nil {
			of = "" // packed
		}
		p, text, err := f.part.of(name, file, size, of)
		if err != nil {
			return nil, err
		}
		part, read, parts, size, called = &p, text, text, text.Size(), name+partTitle(p)
	}
	progress, ended := r.progress(name, size, "MiB", 1<<20)
	defer ended()
	told := func(t *replay.Tally, err error) (*replay.Tally, error) {
		if err == nil {
			t.Lists[0].Name, t.Lists[0].Part = name, part
			return t, nil
		}
		if cut := damaged(name, t.Lists[0].Counts, err); cut != nil {
			return t, cut
		}
		return nil, fmt.Errorf("%s: %w", listName(name), err)
	}
	o := r.options(f, stop, show)
	if f.parts != nil && file != nil { // it can be read again, should there be too many parts
		o.By, o.Each = f.parts, nil
	}
	if parts != nil && replay.Quick(format, true) {
		t, err := replay.LogFile(e, called, parts, size, format, o, progress)
		if !errors.Is(err, replay.ErrParts) {
			return told(t, err)
		}
		if _, err := parts.(io.Seeker).Seek(0, io.SeekStart); err != nil {
			return nil, err
		}
		o.By, o.Each = nil, show
	}
	unpacked, err := list.Unpack(&countingReader{read, 0, progress})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if format == "" {
		head, _ := unpacked.Peek(4096)
		format = list.Detect(head)
	}
	if replay.Quick(format, false) {
		t, err := replay.LogStream(e, called, unpacked, format, o)
		if !errors.Is(err, replay.ErrParts) {
			return told(t, err)
		}
		if _, err := file.Seek(0, io.SeekStart); err != nil {
			return nil, err
		}
		if unpacked, err = list.Unpack(file); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
	}
	source := replay.Source{Name: called, Read: func(base request.Address, yield func(*list.Item)) (list.Counts, error) {
		return list.Read(unpacked, f.listOptions(name, format, base), yield)
	}}
	return told(replay.Run(e, []replay.Source{source}, r.options(f, stop, show)))
}

// formatIn tells the format of a list by its first bytes; "" for one that is packed.
func formatIn(file io.ReaderAt) list.Format {
	head := make([]byte, 4096)
	n, _ := file.ReadAt(head, 0)
	if head = head[:n]; list.Packed(head) {
		return ""
	}
	return list.Detect(head)
}

// regular gives a list as a file that can be read at any place, with its size.
func regular(in io.ReadCloser) (*os.File, int64) {
	f, ok := in.(*os.File)
	if !ok {
		return nil, 0
	}
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() {
		return nil, 0
	}
	return f, info.Size()
}

type countingReader struct {
	io.Reader
	n        int64
	progress replay.Progress
}

func (c *countingReader) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.n += int64(n)
	c.progress(c.n)
	return n, err
}

var errInterrupted = partialError{errors.New("interrupted: the result is of what had been read by then")}

// progress shows on a terminal how far a list has been read, for anything over
// a second: bytes, rate, time left.
func (r *run) progress(name string, size int64, unit string, per int64) (replay.Progress, func()) {
	f, ok := r.stderr.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) || size == 0 {
		return func(int64) {}, func() {}
	}
	start := time.Now()
	var mu sync.Mutex
	last, most, shown := start, int64(0), false
	return func(n int64) {
			mu.Lock()
			defer mu.Unlock()
			most = max(most, n)
			now := time.Now()
			if now.Sub(start) < time.Second || now.Sub(last) < 200*time.Millisecond {
				return
			}
			last, shown = now, true
			rate := float64(most) / now.Sub(start).Seconds()
			left := time.Duration(float64(size-most) / rate * float64(time.Second))
			fmt.Fprintf(f, "\r\x1b[K%s   %s of %s %s   %.0f %s/s   %s left", render.Short(name, 40), render.Number(most/per), render.Number(size/per), unit, rate/float64(per), unit, render.Time(left))
		}, func() {
			if shown {
				fmt.Fprint(f, "\r\x1b[K")
			}
		}
}

// open opens a list; - is standard input.
func (r *run) open(name string) (io.ReadCloser, error) {
	if name == "-" {
		return r.stoppable(r.stdin), nil
	}
	r.inputs.file(name)
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
func (r *run) showSkipped(t *replay.Tally, f *replayFlags) int {
	total := 0
	for _, l := range t.Lists {
		total += l.Skipped
		if l.Skipped == 0 {
			continue
		}
		if !f.each && r.form.rank == 0 {
			fmt.Fprintln(r.stderr) // below the report
		}
		fmt.Fprintf(r.stderr, "%s: %s of %s could not be read:\n", titleOf(l.Name, l.Part), render.Number(l.Skipped), render.Count(l.Lines, "line"))
		for _, s := range l.First {
			fmt.Fprintf(r.stderr, "  line %d: %s\n", s.Line, render.Short(s.Reason, 160))
		}
		if more := l.Skipped - len(l.First); more > 0 {
			fmt.Fprintf(r.stderr, "  … and %s more\n", render.Number(more))
		}
	}
	return total
}

// collect keeps a result as a test case.
func (r *run) collect(res *replay.Result) {
	failed := strings.Join(res.Unmet, "; ")
	loops := res.Is("loop") && (res.Item.Expects == nil || !res.Item.Expects.Loop)
	if failed == "" && loops {
		failed = "visitors are caught in an endless loop"
	}
	if res.Item.Expects == nil && !loops {
		return
	}
	name := fmt.Sprintf("%s:%d %s %s", res.List, res.Item.Line, res.Item.Request.Verb(), res.Item.Request.Address)
	r.cases = append(r.cases, testCase{render.Clean(name), render.Clean(failed)})
}
