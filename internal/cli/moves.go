package cli

import (
	"cmp"
	"encoding/csv"
	"errors"
	"flag"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/moves"
	"kibitz/core/pages"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
	"kibitz/core/site"
	"kibitz/internal/render"
)

func init() {
	register(command{
		order:   4,
		name:    "moves",
		args:    "[LIST…]",
		summary: "drafts the table of a rebuilt site: where each old address has gone, how sure, and why",
		about: `Looks for each old address (of a log, a sitemap, any list, or of the old site's
folder with -old) which the new folder does not have, and tells where it has gone:
by its name, its titles, the folders that others moved to, and, with -old, by what
the pages say. What the new pages still link to and do not have is an old address,
too, without any list. Most requested and linked ones come first.

The result is a table that a moves entry reads: old, new, status, and for people how
sure it is in percent, how often the address is asked for, and why. What is less sure
than -sure has the status ?, with the likeliest address beside it: such rows are
passed over until somebody decides. Where nothing has the text of an old page it is
gone, 410; what is not known is never called gone.`,
		setup: func(flags *flag.FlagSet) func(*run, []string) (int, error) {
			f := &movesFlags{}
			flags.StringVar(&f.files, "files", "", "the `folder` of the new site's files")
			flags.StringVar(&f.inventory, "inventory", "", "or a listing of them, a `file` that kibitz inventory has written")
			flags.StringVar(&f.old, "old", "", "the `folder` of the old site's files: their content makes it surer, and each of them is looked for")
			flags.IntVar(&f.sure, "sure", 80, "how sure a row must be to have a status, in `percent`")
			flags.IntVar(&f.least, "least", 0, "leave out rows that are less sure than so many `percent`")
			flags.StringVar(&f.form, "as", "csv", "the `form` of the result: csv, text")
			f.listFlags.setup(flags, localSite)
			return func(r *run, args []string) (int, error) {
				switch {
				case f.files == "" == (f.inventory == ""):
					return 0, usagef("name the new site's files, like: kibitz moves access.log -files public")
				case f.form != "csv" && f.form != "text":
					return 0, usagef("-as is csv or text, not %s", f.form)
				case f.sure < 0 || f.sure > 100 || f.least < 0 || f.least > 100:
					return 0, usagef("-sure and -least are from 0 to 100")
				}
				if err := f.checkFormat(); err != nil {
					return 0, err
				}
				return exitWell, r.moves(args, f)
			}
		},
	})
}

type movesFlags struct {
	files, inventory, old, form string
	sure, least                 int
	listFlags
}

func (r *run) moves(names []string, f *movesFlags) error {
	alone := filesAlone{files: f.files, inventory: f.inventory}
	book, err := alone.book()
	if err != nil {
		return err
	}
	tree, err := r.loadTree(book.Sites[0])
	if err != nil {
		return err
	}
	var before *site.Tree
	if f.old != "" {
		if before, err = site.Folder(f.old, nil); err != nil {
			return err
		}
	}
	old, err := r.oldAddresses(names, f, before, linkedInVain(book, tree))
	if err != nil {
		return err
	}
	found := moves.Find(old, tree, before)
	there := len(old) - len(found)
	found = slices.DeleteFunc(found, func(m moves.Move) bool { return m.Sure < f.least })
	if f.form == "text" {
		r.movesText(found, f)
	} else if err := r.movesCSV(found, f); err != nil {
		return err
	}
	decided, gone := 0, 0
	for _, m := range found {
		switch {
		case m.Sure < f.sure:
		case m.Gone:
			gone++
		case m.New != "":
			decided++
		}
	}
	fmt.Fprintf(r.stderr, "%s: %s still there, %s moved, %s gone, %s to be decided\n",
		render.Count(len(old), "old address"), render.Number(there), render.Number(decided), render.Number(gone), render.Number(len(found)-decided-gone))
	if r.file != "" && f.form != "text" && decided+gone > 0 {
		fmt.Fprintf(r.stderr, "To use it, write into the rulebook:   moves old table %s as permanent\n", rulebook.Quote(filepath.ToSlash(r.file)))
	}
	return nil
}

// linkedInVain gives the addresses that the pages of a tree lead to and that are not there,
// with how many do.
func linkedInVain(book *rulebook.Book, tree *site.Tree) map[string]int64 {
	vain := map[string]int64{}
	for _, t := range pages.Of(engine.New(book, []*site.Tree{tree})).Targets {
		if path, err := canonical.Path(t.Request.Address.Path, false); err == nil && !t.Elsewhere() && t.Last().Cause == engine.CauseMissing {
			vain[path] += int64(len(t.Links))
		}
	}
	return vain
}

// mostOld is how many old addresses are looked for.
const mostOld = 200_000

// oldAddresses gathers the addresses of lists, of the old site, and of links that lead
// nowhere, with how often they were asked for and linked.
func (r *run) oldAddresses(names []string, f *movesFlags, before *site.Tree, links map[string]int64) ([]moves.Old, error) {
	counts := map[string]int64{}
	var order []string
	left := 0
	add := func(path string, n int64) {
		if _, ok := counts[path]; !ok {
			if len(counts) >= mostOld {
				left++
				return
			}
			order = append(order, path)
		}
		counts[path] += n
	}
	base, err := siteAddress(cmp.Or(f.base, localSite))
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		c, err := r.readList(name, &f.listFlags, base, func(item *list.Item) {
			path, err := canonical.Path(item.Request.Address.Path, false)
			if verb := item.Request.Verb(); err != nil || verb != "GET" && verb != "HEAD" || item.Recorded/100 == 3 && item.Recorded != 304 {
				return
			}
			add(path, max(item.Times, 1))
		})
		if err := r.told(name, c, err); err != nil {
			return nil, err
		}
	}
	if before != nil {
		before.Each(func(n *site.Node) {
			if n.Folder || n.Hidden {
				return
			}
			path := n.Path
			if i := strings.LastIndexByte(path, '/'); strings.HasPrefix(path[i+1:], "index.") {
				path = path[:i+1]
			}
			add(path, 0)
		})
	}
	for _, path := range slices.Sorted(maps.Keys(links)) {
		add(path, 0)
	}
	if len(order) == 0 && len(names) == 0 && before == nil {
		return nil, errors.New("no page links to what is not there; name a list of old addresses, or the folder of the old site with -old")
	}
	if len(order) == 0 {
		return nil, errors.New("there is no old address: the lists name none, and the old folder is empty")
	}
	if left > 0 {
		fmt.Fprintf(r.stderr, "note: %s more addresses are left out: %s are looked for at once\n", render.Number(left), render.Number(mostOld))
	}
	var old []moves.Old
	for _, path := range order {
		old = append(old, moves.Old{Path: path, Requests: counts[path], Links: links[path]})
	}
	return old, nil
}

// statusOf is that of a move in a table.
func (f *movesFlags) statusOf(m moves.Move) string {
	switch {
	case m.Sure < f.sure || m.New == "" && !m.Gone:
		return "?"
	case m.Gone:
		return "410"
	}
	return "301"
}

func (r *run) movesCSV(found []moves.Move, f *movesFlags) error {
	out := csv.NewWriter(r.stdout)
	out.Write([]string{"old", "new", "status", "sure", "requests", "why", "links"})
	for _, m := range found {
		out.Write([]string{m.Path, m.New, f.statusOf(m), strconv.Itoa(m.Sure), strconv.FormatInt(m.Requests, 10), render.Cell(m.Why), strconv.FormatInt(m.Links, 10)})
	}
	out.Flush()
	return out.Error()
}

func (r *run) movesText(found []moves.Move, f *movesFlags) {
	rows := [][]string{{r.out.Quiet("requests"), r.out.Quiet("links to it"), r.out.Quiet("old"), r.out.Quiet("status"), r.out.Quiet("new"), r.out.Quiet("sure"), r.out.Quiet("why")}}
	wide := max(20, (r.out.Width-59)/2)
	for _, m := range found {
		sure := ""
		if m.Sure > 0 {
			sure = strconv.Itoa(m.Sure) + "%"
		}
		rows = append(rows, []string{render.Number(m.Requests), render.Number(m.Links), render.Short(canonical.Decode(m.Path), wide), f.statusOf(m), render.Short(canonical.Decode(m.New), wide), sure, render.Clean(m.Why)})
	}
	r.out.Rows("  ", rows, 0, 1, 5)
}
