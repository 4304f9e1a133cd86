package cli

// A short list that stands for a long one.

import (
	"bytes"
	"errors"
	"flag"
	"fmt"
	"io"
	"runtime"
	"strings"
	"sync/atomic"
	"time"

	"kibitz/core/excerpt"
	"kibitz/core/replay"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
	"kibitz/internal/render"
)

func init() {
	register(command{
		order:   8,
		top:     20,
		topHelp: "with -strength: how many harms that nothing notices are shown, a `number`, 0 for all",
		rules:   theRules,
		name:    "excerpt",
		args:    "LIST…",
		summary: "a short list that stands for a long one, and notices each change of the rulebook",
		about: `Picks a short list from the lists: for each way in which their requests are answered
the commonest one, and writes it in the plain format with what the rulebook answers
now. Then it harms the rulebook in small ways, one entry at a time: without it, without
a condition, with a wider pattern, another target, another order. For each harm that no
request notices it adds one that does: from the lists, or made up where they have none.

Keep the result beside the rulebook, and replay it after each change. -strength tells of a
list with expectations how many such harms it notices, and which not.
Exit status 1, with -strength: some harm is not noticed.`,
		setup: func(flags *flag.FlagSet) func(*run, []string) (int, error) {
			f := &excerptFlags{}
			flags.BoolVar(&f.strength, "strength", false, "write no list: tell how many harms to the rulebook these lists notice")
			flags.BoolVar(&f.quick, "quick", false, "do not harm the rulebook, which takes seconds: only one request for each way in which the lists are answered")
			f.setupHeaders(flags)
			f.setup(flags, firstSite)
			return func(r *run, args []string) (int, error) {
				if len(args) == 0 {
					return 0, usagef("name a list of requests, like: kibitz excerpt access.log -out requests.txt")
				}
				if err := f.checkFormat(); err != nil {
					return 0, err
				}
				return r.excerpt(args, f)
			}
		},
	})
}

type excerptFlags struct {
	strength, quick bool
	listFlags
}

func (r *run) excerpt(names []string, f *excerptFlags) (int, error) {
	e, err := r.load()
	if err != nil {
		return 0, err
	}
	base, err := f.address(e)
	if err != nil {
		return 0, err
	}
	start := time.Now()
	if f.strength {
		var items []*list.Item
		for _, name := range names {
			counts, err := r.readList(name, &f.listFlags, base, func(item *list.Item) {
				if item.Expects != nil {
					items = append(items, item)
				}
			})
			if err := r.told(name, counts, err); err != nil {
				return 0, err
			}
		}
		if len(items) == 0 {
			return 0, errors.New("the lists expect nothing: what notices a harm are requests with what is expected of them, behind =>")
		}
		s := excerpt.StrengthOf(e, items, rulebook.ReadFile)
		r.strength(s, len(items), time.Since(start))
		if s.Noticed < s.Harms {
			return exitFindings, nil
		}
		return exitWell, nil
	}
	var stop atomic.Bool
	done := r.whenInterrupted(func() { stop.Store(true) })
	defer done()
	g := excerpt.NewGatherer(e)
	flags := &replayFlags{workers: runtime.GOMAXPROCS(0), listFlags: f.listFlags, asked: base}
	total := replay.NewTally()
	var failed error
	for _, name := range names {
		part, err := r.replayList(e, name, flags, &stop, g.Show)
		if err != nil && part == nil {
			return 0, err
		}
		failed = errors.Join(failed, err)
		total.Merge(part)
	}
	if r.interrupted() {
		return 0, errInterrupted
	}
	done() // from here on nothing is lost
	load := rulebook.ReadFile
	if f.quick {
		load = nil
	}
	picks, s := g.Make(base, load)
	made := 0
	var b strings.Builder
	fmt.Fprintf(&b, "# %s that stand for %s of %s.\n# Replay them after each change of the rulebook: kibitz replay FILE\n", render.Count(len(picks), "request"), render.Number(total.Requests), render.Clean(strings.Join(names, " ")))
	last := ""
	for _, p := range picks {
		name := "the files, and what no entry decides"
		if p.By != nil {
			name = p.By.Name + "   " + p.By.Place.String()
		}
		if name != last {
			fmt.Fprintf(&b, "\n# %s\n", render.Clean(name))
			last = name
		}
		var one bytes.Buffer
		if err := list.WritePlain(&one, p.Item, base); err != nil {
			return 0, err
		}
		said := ""
		switch {
		case p.Of > 0:
			said = render.Count(p.Of, "request")
		case len(p.Holds) > 0:
			said = "fails if " + p.Holds[0]
		}
		if p.Made {
			made++
			said = strings.TrimSpace("made; " + said)
		}
		line, details, _ := strings.Cut(one.String(), "\n")
		switch said = render.Clean(said); {
		case said == "":
		case len(line) > 70: // above a long line
			line = "# " + said + "\n" + line
		default:
			line = fmt.Sprintf("%-70s  # %s", line, said)
		}
		b.WriteString(line + "\n" + details)
	}
	if _, err := io.WriteString(r.stdout, b.String()); err != nil {
		return 0, err
	}
	said := fmt.Sprintf("%s stand for %s", render.Count(len(picks), "request"), render.Count(total.Requests, "request"))
	if f.quick {
		said += ". Without -quick there are more, which notice small slips in the rulebook."
	} else {
		said += fmt.Sprintf("; %s of them made. %s", render.Number(made), strengthText(s))
	}
	render.NewOutput(r.stderr, r.color).Wrapped("", render.Clean(said))
	if failed != nil {
		return 0, failed
	}
	return exitWell, nil
}

// strengthText says in a sentence how many harms are noticed.
func strengthText(s excerpt.Strength) string {
	said := fmt.Sprintf("%s of %s to the rulebook are noticed (%s)", render.Number(s.Noticed), render.Count(s.Harms, "harm"), render.Share(int64(s.Noticed), int64(s.Harms)))
	if s.Quiet > 0 {
		said += fmt.Sprintf("; of %s more no answer was found that they change", render.Number(s.Quiet))
	}
	if s.Left > 0 {
		said += fmt.Sprintf("; %s more were not tried, since there are many entries", render.Number(s.Left))
	}
	return said + "."
}

// strength shows what a list notices, and what it does not.
func (r *run) strength(s excerpt.Strength, items int, took time.Duration) {
	out := r.out
	out.Wrapped("", fmt.Sprintf("%s with what is expected, in %s. %s", render.Count(items, "request"), render.Time(took), strengthText(s)))
	for i, u := range s.Unnoticed {
		if i == 0 {
			out.Printf("\nNot noticed\n\n")
		}
		if i == r.most {
			out.Printf("  … and %s more; all of them: -top 0\n", render.Number(len(s.Unnoticed)-i))
			break
		}
		out.Wrapped("  "+render.Clean(u.Rule.Name)+"   ", render.Clean(u.Says)+" "+out.Quiet("("+u.Rule.Place.String()+")"))
		if u.Request != nil {
			out.Printf("      %s\n", r.traceLine(u.Request))
		}
	}
}
