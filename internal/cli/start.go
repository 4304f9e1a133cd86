package cli

import (
	"cmp"
	"errors"
	"flag"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/draft"
	"kibitz/core/engine"
	"kibitz/core/moves"
	"kibitz/core/proof"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
	"kibitz/core/site"
	"kibitz/internal/render"
)

func init() {
	register(command{
		order:   2,
		name:    "start",
		args:    "[DIR]",
		summary: "writes a first rulebook for a folder of files, each entry with its reason",
		about: `Looks at a folder of files, and writes site.kibitz and requests.txt into this
folder: what the pages of folders and of errors are, what is exposed, what shrinks,
how long browsers keep what, one scheme and one name. Each entry has a comment why.
Without DIR it is the folder here that looks like a site's.

With -log the addresses that visitors ask for most stand in requests.txt, and those
that the folder does not have are shown with the likeliest new address.

Nothing is written over: the files must not be there yet. What was written is checked
before: it has no error and no warning.`,
		setup: func(flags *flag.FlagSet) func(*run, []string) (int, error) {
			f := &startFlags{}
			flags.StringVar(&f.address, "address", "", "the site's main `URL`, like https://www.s.example (default: what its sitemap, robots.txt or home page says, or the lists)")
			flags.Var(&f.logs, "log", "a `list` of requests, like an access log; may be repeated")
			f.setup(flags, "")
			return func(r *run, args []string) (int, error) {
				if len(args) > 1 {
					return 0, usagef("name one folder, like: kibitz start public")
				}
				if err := f.checkFormat(); err != nil {
					return 0, err
				}
				return exitWell, r.start(first(args), f)
			}
		},
	})
}

type startFlags struct {
	address string
	logs    onlyFlags
	listFlags
}

// startRequests is the name of the list that start writes.
const startRequests = "requests.txt"

func first(args []string) string {
	if len(args) == 0 {
		return ""
	}
	return args[0]
}

// siteFolders are what the folder of a site's files is commonly called.
var siteFolders = []string{"public", "www", "site", "html", "dist", "build", "out", "web", "static"}

// siteFolder gives the folder here that looks like a site's.
func siteFolder() (string, error) {
	var found []string
	for _, name := range siteFolders {
		if info, err := os.Stat(name); err == nil && info.IsDir() {
			found = append(found, name)
		}
	}
	switch {
	case len(found) == 1:
		return found[0], nil
	case len(found) > 1:
		return "", usagef("there are %s here: name the one with the site's files, like: kibitz start %s", strings.Join(found, " and "), found[0])
	}
	if _, err := os.Stat(rulebook.UsualDocument); err == nil {
		return ".", nil
	}
	return "", usagef("no folder here looks like a site's: name the one with its files, like: kibitz start public")
}

func (r *run) start(dir string, f *startFlags) (err error) {
	for _, name := range []string{defaultRules, startRequests} {
		if err := mustBeNew(name); err != nil {
			return err
		}
	}
	if dir == "" {
		if dir, err = siteFolder(); err != nil {
			return err
		}
	}
	tree, err := site.Folder(dir, nil)
	if err != nil {
		return err
	}
	for _, note := range tree.Notes {
		fmt.Fprintf(r.stderr, "note: %s\n", render.Clean(note))
	}
	if tree.Files == 0 {
		return fmt.Errorf("there is no file in %s: name the folder with the site's files", dir)
	}
	b := &draft.Beginning{Files: filepath.ToSlash(dir), Tree: tree}
	if b.Own, err = ownFiles(dir); err != nil {
		return err
	}
	said := "as -address says"
	switch found, where, ok := draft.FoundAddress(tree); {
	case f.address != "":
		if b.Address, err = siteAddress(f.address); err != nil {
			return err
		}
	case ok:
		b.Address, said = found, "as "+where+" says"
	default:
		b.Address, b.Guessed, said = request.Address{Scheme: "https", Host: "www.site.example", Port: 443, Path: "/"}, true, "made up: say yours with -address URL"
	}
	if b.Asked, err = r.asked(f, b.Address); err != nil {
		return err
	}
	if found, where := addressOf(b.Asked, tree, b.Address); b.Guessed && where != "" {
		for i := range b.Asked {
			if a := &b.Asked[i]; a.Address.Host == b.Address.Host {
				a.Address.Host = found.Host
			}
		}
		b.Address, b.Guessed, said = found, false, where
	}
	started, err := b.Write()
	if err != nil {
		return err
	}
	if err := writeWhole(defaultRules, []byte(started.Rulebook), false); err != nil {
		return err
	}
	if err := writeWhole(startRequests, []byte(started.Requests), false); err != nil {
		return err
	}
	return r.started(b, started, said, f.logs)
}

// siteAddress reads the address of a site.
func siteAddress(s string) (request.Address, error) {
	a, err := request.Parse(s, request.Address{})
	if err != nil || a.Host == "" || a.Path != "/" || a.HasQuery || a.Fragment != "" {
		return a, usagef("-address is the URL of a site, without a path, like https://www.s.example; not %s", s)
	}
	return a, nil
}

// ownFiles gives the paths at which the rulebook and its list will lie in the tree, if they
// do.
func ownFiles(dir string) (own []string, err error) {
	root, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	for _, name := range []string{defaultRules, startRequests} {
		at, err := filepath.Abs(name)
		if err != nil {
			return nil, err
		}
		if inside, err := filepath.Rel(root, at); err == nil && inside != ".." && !strings.HasPrefix(inside, ".."+string(filepath.Separator)) {
			own = append(own, "/"+canonical.Spell(filepath.ToSlash(inside)))
		}
	}
	return own, nil
}

// addressOf guesses a site's address from what lists ask for: the host that most requests
// name, or the one that most come from whose pages the tree has, too. where says which; ""
// where nothing is to be seen.
func addressOf(asked []draft.Asked, tree *site.Tree, madeUp request.Address) (found request.Address, where string) {
	named, from := map[string]int64{}, map[string]int64{}
	for _, a := range asked {
		if a.Address.Host != madeUp.Host {
			named[a.Address.Host] += a.Requests
		}
		if page, err := request.Parse(a.From, request.Address{}); err == nil && page.Host != "" && tree.Find(strings.TrimSuffix(page.Path, "/")) != nil {
			from[page.Host] += a.Requests
		}
	}
	found = madeUp
	for _, guess := range []struct {
		hosts map[string]int64
		says  string
	}{{named, "as most requests of the lists name it"}, {from, "as the pages are named that most requests come from"}} {
		for _, host := range slices.Sorted(maps.Keys(guess.hosts)) {
			if where == "" || guess.hosts[host] > guess.hosts[found.Host] {
				found.Host, where = host, guess.says
			}
		}
		if where != "" {
			return found, where
		}
	}
	return found, ""
}

// mostAsked is how many addresses of the lists are looked at.
const mostAsked = 10_000

// asked gives the addresses of the lists, the commonest first.
func (r *run) asked(f *startFlags, base request.Address) ([]draft.Asked, error) {
	counts := map[string]*draft.Asked{}
	for _, name := range f.logs {
		c, err := r.readList(name, &f.listFlags, base, func(item *list.Item) {
			a := item.Request.Address
			a.Query, a.HasQuery, a.Fragment = "", false, ""
			if item.Request.Verb() != "GET" || len(a.Path) > 500 {
				return
			}
			known := counts[a.String()]
			if known == nil {
				if len(counts) >= mostAsked {
					return
				}
				known = &draft.Asked{Address: a}
				counts[a.String()] = known
			}
			known.Requests++
			known.Recorded = cmp.Or(item.Recorded, known.Recorded)
			if from, ok := item.Request.Get("Referer"); ok && known.From == "" {
				known.From = from
			}
		})
		if err := r.told(name, c, err); err != nil {
			return nil, err
		}
	}
	var all []draft.Asked
	for _, a := range counts {
		all = append(all, *a)
	}
	slices.SortFunc(all, func(a, b draft.Asked) int {
		return cmp.Or(cmp.Compare(b.Requests, a.Requests), strings.Compare(a.Address.String(), b.Address.String()))
	})
	return all, nil
}

// started says what was written, and what comes next.
func (r *run) started(b *draft.Beginning, s *draft.Start, said string, logs []string) error {
	out := r.out
	entries := 0
	book, err := rulebook.Read(defaultRules, []byte(s.Rulebook), func(string) ([]byte, error) { return nil, errors.New("it is not read here") })
	if err == nil {
		entries = len(book.Rules)
	}
	out.Printf("%s   %s for %s in %s\n", out.Well("written"), render.Count(entries, "entry"), render.Count(b.Tree.Files, "file"), render.Clean(b.Files))
	rows := [][]string{
		{"address", b.Address.Origin(), out.Quiet(said)},
		{defaultRules, render.Count(strings.Count(s.Rulebook, "\n"), "line"), out.Quiet("each entry has a comment why")},
		{startRequests, render.Count(strings.Count(s.Requests, " => "), "request"), out.Quiet("with what the rulebook answers")},
	}
	out.Printf("\n")
	out.Rows("  ", rows)
	out.Printf("\n")
	if book != nil {
		var rows [][]string
		for _, rule := range book.Rules {
			line := rule.Place.Source.Lines[rule.Place.Line-1]
			rows = append(rows, []string{fmt.Sprint(rule.Place.Line), render.Short(strings.Join(strings.Fields(line), " "), out.Width-10)})
		}
		out.Rows("  ", rows, 0)
	}
	if len(s.Missing) > 0 && book != nil {
		names := moves.NamesOf(engine.New(book, []*site.Tree{b.Tree}))
		var rows [][]string
		for _, a := range s.Missing {
			rows = append(rows, []string{render.Number(a.Requests), render.Short(a.Address.Target(), 50), render.Short(names.Likeliest(a.Address.String()), 50)})
		}
		out.Printf("\nNot there   what visitors ask for, and the likeliest new address\n\n")
		out.Rows("  ", rows, 0)
	}
	next := [][]string{
		{"kibitz check", out.Quiet("what could go wrong, with proof")},
		{"kibitz replay " + startRequests, out.Quiet("every request of the list")},
		{"kibitz serve", out.Quiet("see it in a browser")},
	}
	if len(s.Missing) > 0 {
		next = append(next, []string{"kibitz moves " + render.Shell(logs[0]) + " -files " + render.Shell(b.Files), out.Quiet("the table of where all old addresses have gone")})
	}
	if len(s.Accepted) > 0 {
		out.Printf("\nTo look at   accepted in %s for now\n\n", defaultRules)
		for _, f := range s.Accepted {
			out.Wrapped("  ", render.Clean(f.Message))
		}
		if slices.ContainsFunc(s.Accepted, func(f *proof.Finding) bool { return f.Page != "" }) {
			next = append(next, []string{"kibitz links", out.Quiet("what each page refers to, and what to write instead")})
		}
	}
	out.Printf("\nNext\n\n")
	out.Rows("  ", next)
	return nil
}
