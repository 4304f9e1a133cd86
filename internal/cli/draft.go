package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"kibitz/core/draft"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
	"kibitz/internal/live"
	"kibitz/internal/render"
)

func init() {
	register(command{
		order:   4,
		name:    "draft",
		args:    "ANSWERS…",
		summary: "writes the rulebook that gives the answers which a server gave",
		about: `Reads what a server answered, and writes the rulebook that answers so: from what
kibitz record has kept, from logs with a status and Location, HTTP archives, lists
with expectations (rules by example), and tables old,new,status. The folder of the
site's files (-files, or -inventory) tells what needs no rule; without it only
redirects and refusals are drafted. Of several sites say which files are whose,
-files HOST=DIR for each: one rulebook has them all.

Drafted are other hosts and the other scheme, moved addresses (drawn together into
patterns where several answers say so), what is gone or refused, header fields and
compression where record has kept them, and a table of single moves, which lies
beside the file of -out. Each entry says how many answers speak for it. What the
draft does not give is listed, with the reason, and never bent into a rule.

With -at URL it asks the server itself what would decide more, drafts again with the
answers, and so on, until nothing is undecided or -questions are used up.
Exit status 1: some answers are left out.`,
		setup: func(flags *flag.FlagSet) func(*run, []string) (int, error) {
			f := &draftFlags{}
			flags.Var(filesFlag{&f.trees, false}, "files", "the `folder` of the site's files; of several sites HOST=DIR for each of them")
			flags.Var(filesFlag{&f.trees, true}, "inventory", "or a listing of them, a `file` that kibitz inventory has written; of several sites HOST=FILE")
			flags.StringVar(&f.ask, "ask", "", "write what would decide more into this `file`, a list for kibitz record; draft then from the answers, too. With -at: the answers to it, as record writes them")
			flags.IntVar(&f.questions, "questions", 300, "with -at: how many requests it sends at most, a `number`")
			f.server.setup(flags)
			f.listFlags.setup(flags, localSite)
			return func(r *run, args []string) (int, error) {
				switch {
				case len(args) == 0:
					return 0, usagef("name what a server answered, like: kibitz draft answers.jsonl -files public -out site.kibitz")
				case len(f.trees) > 1 && slices.ContainsFunc(f.trees, func(t tree) bool { return t.host == "" }):
					return 0, usagef("of several sites say which files are whose: -files saltmarsh-ferries.example=public -files freight.saltmarsh-ferries.example=freight")
				}
				if err := f.checkFormat(); err != nil {
					return 0, err
				}
				if len(f.at) > 0 {
					if err := f.server.check(); err != nil {
						return 0, err
					}
				}
				if f.questions < 0 {
					return 0, usagef("-questions is a number from 0 on")
				}
				return r.draft(args, f)
			}
		},
	})
}

type draftFlags struct {
	trees     []tree
	ask       string
	questions int
	server
	listFlags
}

// A tree is the files of a site, as flags name them.
type tree struct {
	host, name string // the host is "" for the only site
	listed     bool   // name is that of an inventory
}

// filesFlag adds a tree.
type filesFlag struct {
	trees  *[]tree
	listed bool
}

func (f filesFlag) String() string { return "" }

func (f filesFlag) Set(text string) error {
	t := tree{name: text, listed: f.listed}
	if host, name, ok := strings.Cut(text, "="); ok && !strings.ContainsAny(host, `/\`) {
		if a, err := siteAddress("https://" + host); err != nil || a.Host != host {
			return fmt.Errorf("%q is not a host in small letters: write HOST=DIR, or ./DIR for a folder with this name", host)
		}
		t.host, t.name = host, name
	}
	switch {
	case t.name == "":
		return errors.New("it is empty")
	case slices.ContainsFunc(*f.trees, func(o tree) bool { return o.host == t.host }):
		return errors.New("the files of a site are named once")
	}
	*f.trees = append(*f.trees, t)
	return nil
}

// sources are what the sites are drafted from, but for the answers.
func (r *run) sources(f *draftFlags) (out []*draft.Source, err error) {
	stem, folder := "moves.csv", filepath.Dir(r.file)
	if r.file != "" {
		stem = strings.TrimSuffix(filepath.Base(r.file), filepath.Ext(r.file)) + "-moves.csv"
	}
	trees := f.trees
	if len(trees) == 0 {
		trees = []tree{{}}
	}
	for _, t := range trees {
		s := &draft.Source{Host: t.host, Table: stem, Listed: t.listed}
		if len(trees) > 1 {
			s.Table = strings.TrimSuffix(stem, ".csv") + "-" + t.host + ".csv"
		}
		if r.file != "" {
			if err := mustBeNew(filepath.Join(folder, s.Table)); err != nil {
				return nil, err
			}
		}
		if s.Files, err = seenFrom(folder, t.name); err != nil {
			return nil, err
		}
		of := &rulebook.Site{Files: t.name}
		if t.listed {
			of = &rulebook.Site{Inventory: t.name}
		}
		if s.Tree, err = r.loadTree(of); err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, nil
}

func (r *run) draft(names []string, f *draftFlags) (int, error) {
	base, err := siteAddress(cmp.Or(f.base, localSite))
	if err != nil {
		return 0, err
	}
	if f.ask != "" {
		if err := mustBeNew(f.ask); err != nil {
			return 0, err
		}
	}
	sources, err := r.sources(f)
	if err != nil {
		return 0, err
	}
	var all []*draft.Answer
	silent := 0
	for _, name := range names {
		counts, err := r.readList(name, &f.listFlags, base, func(item *list.Item) {
			if a, ok := draft.AnswerOf(name, item); ok {
				all = append(all, a)
			} else {
				silent++
			}
		})
		if err := r.told(name, counts, err); err != nil {
			return 0, err
		}
	}
	if len(all) == 0 && silent > 0 {
		return 0, fmt.Errorf("%s, and none of them says what was answered: kibitz record LIST -at URL asks a server", render.Count(silent, "request"))
	}
	d, err := draft.All(sources, all)
	if err != nil {
		return 0, err
	}
	var answers []byte
	if len(f.at) > 0 {
		if d, answers, err = r.draftByAsking(sources, all, d, f); err != nil {
			return 0, err
		}
	}
	r.out.Printf("%s", d.Rulebook)
	for _, t := range d.Tables {
		if r.file != "" {
			if err := writeWhole(filepath.Join(filepath.Dir(r.file), t.Name), []byte(t.Text), false); err != nil {
				return 0, err
			}
			continue
		}
		r.out.Printf("\n# %s, which is written beside the file of -out:\n#\n", t.Name)
		for _, line := range strings.Split(strings.TrimSpace(t.Text), "\n") {
			r.out.Printf("#     %s\n", line)
		}
	}
	switch {
	case f.ask != "" && len(f.at) > 0:
		if err := writeWhole(f.ask, answers, false); err != nil {
			return 0, err
		}
	case f.ask != "":
		if err := writeWhole(f.ask, []byte(questionList(d)), false); err != nil {
			return 0, err
		}
		fmt.Fprintf(r.stderr, "%s written to %s: kibitz record %s -at URL -out more.jsonl\n", render.Count(len(d.Questions), "question"), render.Clean(f.ask), render.Shell(f.ask))
	}
	status, err := r.drafted(d, silent, f)
	if err == nil && r.interrupted() {
		return 0, partialError{errors.New("interrupted: the draft is of what had been answered by then")}
	}
	return status, err
}

// draftByAsking asks the server what would decide more, and drafts again with its answers,
// until nothing is undecided, or enough was asked. It gives the answers, too, as record
// writes them.
func (r *run) draftByAsking(sources []*draft.Source, known []*draft.Answer, d *draft.Draft, f *draftFlags) (*draft.Draft, []byte, error) {
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	defer r.whenInterrupted(stop)()
	var answers bytes.Buffer
	enc := render.JSON(&answers)
	asked, rounds, lost := map[string]bool{}, 0, 0
	why := ""
	for ctx.Err() == nil {
		var all []*live.Answered
		for _, q := range d.Questions {
			if asked[q] || len(asked) >= f.questions {
				continue
			}
			asked[q] = true
			address, err := request.Parse(q, request.Address{})
			if err != nil {
				continue
			}
			one := &live.Answered{Request: &request.Request{Address: address}}
			if reason := f.Refuses(one.Request); reason != "" {
				return nil, nil, usagef("nothing can be asked: %s", reason)
			}
			all = append(all, one)
		}
		if len(all) == 0 {
			break
		}
		rounds++
		came := 0
		var wrote error
		live.Record(ctx, all, f.Options, func(a *live.Answered) {
			if a.Failed != nil {
				lost++
				why = a.Failed.Error()
				return
			}
			came++
			wrote = errors.Join(wrote, enc.Encode(lineOf(a)))
			if answer, ok := draft.AnswerOf("asked", a.Item()); ok {
				known = append(known, answer)
			}
		})
		if wrote != nil {
			return nil, nil, wrote
		}
		if came == 0 {
			break
		}
		next, err := draft.All(sources, known)
		if err != nil {
			return nil, nil, err
		}
		d = next
	}
	fmt.Fprintf(r.stderr, "%s asked in %s\n", render.Count(len(asked), "question"), render.Count(rounds, "round"))
	if lost > 0 {
		fmt.Fprintf(r.stderr, "  %s without an answer: %s\n", render.Number(lost), render.Short(why, 200))
	}
	if open := slices.DeleteFunc(slices.Clone(d.Questions), func(q string) bool { return asked[q] }); len(open) > 0 {
		fmt.Fprintf(r.stderr, "%s more would decide more: -questions asks for more\n", render.Number(len(open)))
	}
	return d, answers.Bytes(), nil
}

// seenFrom gives a file name as a rulebook in a folder names it.
func seenFrom(folder, name string) (string, error) {
	if name == "" || filepath.IsAbs(name) {
		return name, nil
	}
	relative, err := filepath.Rel(folder, name)
	return filepath.ToSlash(relative), err
}

// questionList is a list of the questions of a draft.
func questionList(d *draft.Draft) string {
	var b strings.Builder
	b.WriteString("# What would decide more about the drafted rules: kibitz record asks a server.\n")
	for _, q := range d.Questions {
		b.WriteString(q + "\n")
	}
	return b.String()
}

// shownLeft is how many answers of a sort are shown that the draft does not give.
const shownLeft = 3

// shownAccepted is how many findings are shown that the draft accepts.
const shownAccepted = 8

// drafted says what the draft gives, and what it does not.
func (r *run) drafted(d *draft.Draft, silent int, f *draftFlags) (int, error) {
	say := render.NewOutput(r.stderr, r.color)
	say.Printf("%s and %s explain %s of %s (%s)\n", render.Count(d.Entries, "entry"), render.Count(d.Rows, "row"), render.Number(d.Agree), render.Count(d.Answers, "answer"), render.Share(int64(d.Agree), int64(d.Answers)))
	if silent > 0 {
		say.Printf("%s said nothing of an answer\n", render.Count(silent, "request"))
	}
	by := map[string][]draft.Left{}
	var order []string
	for _, l := range d.Left {
		if by[l.Why] == nil {
			order = append(order, l.Why)
		}
		by[l.Why] = append(by[l.Why], l)
	}
	for _, why := range order {
		say.Printf("\n%s: %s\n", render.Count(len(by[why]), "answer"), why)
		for i, l := range by[why] {
			if i == shownLeft {
				say.Printf("  … and %s more\n", render.Number(len(by[why])-i))
				break
			}
			was := fmt.Sprint(l.Answer.Status)
			if l.Answer.Location != "" {
				was += " " + l.Answer.Location
			}
			say.Printf("  %s %s   was %s, the draft says %s\n", render.Clean(l.Answer.Request.Verb()), render.Short(l.Answer.Request.Address.String(), 60), render.Short(was, 50), render.Short(l.Predicted, 50))
		}
	}
	if len(d.Accepted) > 0 {
		say.Printf("\nTo look at   accepted in the draft, since the server does so\n\n")
		for i, f := range d.Accepted {
			if i == shownAccepted {
				say.Printf("  … and %s more\n", render.Number(len(d.Accepted)-i))
				break
			}
			say.Wrapped("  ", render.Clean(f.Message))
		}
	}
	if len(f.trees) == 0 {
		say.Printf("\nWithout the site's files (-files DIR) only redirects and refusals can be drafted.\n")
	}
	if len(d.Left) > 0 {
		return exitFindings, nil
	}
	return exitWell, nil
}
