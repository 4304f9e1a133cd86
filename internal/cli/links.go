package cli

// The links of the site's own pages, by page, and how they are mended in place.

import (
	"bytes"
	"cmp"
	"encoding/csv"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/aymanbagabas/go-udiff"

	"kibitz/core/engine"
	"kibitz/core/pages"
	"kibitz/core/proof"
	"kibitz/internal/render"
)

func init() {
	register(command{
		order:   6,
		top:     20,
		topHelp: "show up to `N` pages, 0 for all; other forms have them all",
		shows:   func(f *form) bool { return f.links != nil },
		rules:   theRules,
		name:    "links",
		args:    "[RULEBOOK]",
		summary: "what the site's own pages refer to, and what becomes of it",
		about: `Reads the files of the sites' trees as browsers do: pages, style sheets, pictures in
SVG, sitemaps, feeds, manifests. It predicts the answer to every address that they
refer to, and shows by page what needs a look: what is not found, what goes through
a redirect, what a browser refuses. Addresses of other sites are counted, not asked for.

-show and -write put the address at the end of a permanent redirect in the place of the
one that leads there, in the files themselves: only where every visitor is led to that
page. Nothing but the address changes.
Exit status 1: something that the pages refer to is broken.`,
		setup: func(flags *flag.FlagSet) func(*run, []string) (int, error) {
			show := flags.Bool("show", false, "print what -write would change, as a unified diff, and change nothing")
			write := flags.Bool("write", false, "write the address behind a redirect into the files, each whole or not at all")
			return func(r *run, args []string) (int, error) {
				switch {
				case len(args) > 1 || len(args) == 1 && r.rules != "":
					return 0, usagef("links takes one rulebook")
				case *show && *write:
					return 0, usagef("-show and -write do not go together")
				}
				if len(args) == 1 {
					r.rules = args[0]
				}
				return r.links(*show, *write)
			}
		},
	})
}

// linked is what was read of the pages, and what needs a look.
type linked struct {
	engine *engine.Engine
	site   *pages.Site
	report *proof.Report
}

func (r *run) links(show, write bool) (int, error) {
	e, err := r.load()
	if err != nil {
		return 0, err
	}
	if !slices.ContainsFunc(e.Book.Sites, e.KnowsTree) {
		return 0, usagef("links reads the files of the sites' trees, and %s names none: add `files DIR` to a site", r.rulesName())
	}
	l := linked{engine: e}
	l.report = proof.Look(e, proof.Options{Pages: true, Read: func(e *engine.Engine) *pages.Site {
		l.site = pages.Of(e)
		return l.site
	}})
	if show || write {
		return r.mendLinks(l, write)
	}
	if err := r.form.links(r, l); err != nil {
		return 0, err
	}
	if l.report.Worst(proof.Warning) {
		return exitFindings, nil
	}
	return exitWell, nil
}

// A pageSpot is a place in a page that needs a look.
type pageSpot struct {
	proof.Spot
	*proof.Finding
}

// everywhere is in how many pages something is met that is shown once for all of them.
const everywhere = 4

func (r *run) linksText(l linked) error {
	out := r.out
	there, look, elsewhere, undecided := 0, map[*pages.Link]bool{}, 0, 0
	byPage := map[*pages.Page][]pageSpot{}
	var common []*proof.Finding
	for _, f := range l.report.Findings {
		for _, s := range f.Spots {
			if s.Link != nil {
				look[s.Link] = true
			}
			if len(f.Files) < everywhere {
				byPage[s.Page] = append(byPage[s.Page], pageSpot{s, f})
			}
		}
		if len(f.Files) >= everywhere {
			common = append(common, f)
		}
	}
	for _, t := range l.site.Targets {
		switch {
		case t.Elsewhere():
			elsewhere++
		case slices.ContainsFunc(t.Links, func(l *pages.Link) bool { return look[l] }):
		case t.Last().Status == 0:
			undecided++
		default:
			there++
		}
	}
	said := []string{render.Number(there) + " found"}
	if n := len(l.site.Targets) - there - elsewhere - undecided; n > 0 {
		said = append(said, out.Doubtful(render.Number(n)+" to look at"))
	}
	if undecided > 0 {
		said = append(said, render.Number(undecided)+" that an application answers")
	}
	if elsewhere > 0 {
		said = append(said, render.Number(elsewhere)+" of other sites, not asked for")
	}
	refer := "refer"
	if len(l.site.Pages) == 1 {
		refer = "refers"
	}
	out.Wrapped("", fmt.Sprintf("%s %s to %s: %s", render.Count(len(l.site.Pages), "file"), refer, render.Count(len(l.site.Targets), "address"), strings.Join(said, ", ")))
	for i, f := range common {
		if i == 0 {
			out.Printf("\nIn many files\n\n")
		}
		if i == r.most {
			out.Printf("  … and %s more; all of them: kibitz links -top 0\n", render.Number(len(common)-i))
			break
		}
		first := f.Spots[0]
		r.spot("  ", "      ", first, f)
		out.Printf("      %s, like %s:%d:%d\n", render.Count(len(f.Files), "file"), render.Clean(first.Page.Name()), first.Line, first.Col)
		out.Advice("      ", render.Clean(f.Advice))
	}
	list := l.pagesInOrder(byPage)
	for i, p := range list {
		if i == r.most {
			out.Printf("\n… and %s more; all of them: kibitz links -top 0\n", render.Count(len(list)-i, "page"))
			break
		}
		at := p.Address.String()
		if p.Error {
			at = "shown in the place of what is missing"
		}
		out.Printf("\n%s   %s\n\n", render.Clean(p.Name()), out.Quiet(render.Clean(at)))
		slices.SortStableFunc(byPage[p], func(a, b pageSpot) int {
			return cmp.Or(cmp.Compare(a.Spot.Line, b.Spot.Line), cmp.Compare(a.Spot.Col, b.Spot.Col))
		})
		last := pageSpot{}
		for _, s := range byPage[p] {
			const behind = "           "
			if s.Link != nil && s.Link == last.Link { // more of the same
				out.Wrapped(behind, render.Clean(s.Short))
				out.Advice(behind, render.Clean(s.Advice))
				continue
			}
			last = s
			r.spot(fmt.Sprintf("  %7s  ", fmt.Sprintf("%d:%d", s.Spot.Line, s.Spot.Col)), behind, s.Spot, s.Finding)
			out.Advice(behind, render.Clean(s.Advice))
		}
	}
	r.restOfPages(l)
	return nil
}

// spot says what is wrong at a place, behind its address.
func (r *run) spot(indent, behind string, s proof.Spot, f *proof.Finding) {
	const wide = 40
	text := render.Short(s.Text, 100)
	head := indent + r.out.Severity(string(f.Severity), text) + "   "
	switch {
	case s.Text == "":
		r.out.Wrapped(indent, r.out.Severity(string(f.Severity), render.Clean(f.Short)))
	case len(text) > wide:
		r.out.Printf("%s\n", strings.TrimRight(head, " "))
		r.out.Wrapped(behind, render.Clean(f.Short))
	default:
		r.out.Wrapped(head, render.Clean(f.Short))
	}
}

// pagesInOrder gives the pages with something to look at, in the order of their names.
func (l linked) pagesInOrder(byPage map[*pages.Page][]pageSpot) (list []*pages.Page) {
	for _, p := range l.site.Pages {
		if len(byPage[p]) > 0 {
			list = append(list, p)
		}
	}
	slices.SortStableFunc(list, func(a, b *pages.Page) int { return strings.Compare(a.Name(), b.Name()) })
	return list
}

// alone are the pages that no other page leads to.
func (l linked) alone() (list []*pages.Page) {
	for _, p := range l.site.Pages {
		if p.Response.Type == "text/html" && !p.Error && !p.Named && p.Linked == 0 && p.Address.Path != "/" {
			list = append(list, p)
		}
	}
	return list
}

// restOfPages tells of what is not a fault of one place: pages that nothing links to, files
// that could not be read, and what can be written.
func (r *run) restOfPages(l linked) {
	if alone := l.alone(); len(alone) > 0 {
		var names []string
		for i, p := range alone {
			if i == min(r.most, 10) {
				names = append(names, fmt.Sprintf("… and %s more", render.Number(len(alone)-i)))
				break
			}
			names = append(names, render.Clean(p.Address.Target()))
		}
		r.out.Printf("\nNo other page links to %s\n\n", render.Count(len(alone), "page"))
		r.out.Wrapped("  ", strings.Join(names, "  "))
	}
	for i, u := range l.site.Unread {
		if i == 0 {
			r.out.Printf("\nNot read: %s\n\n", render.Count(len(l.site.Unread), "file"))
		}
		if i == 10 {
			r.out.Printf("  … and %s more\n", render.Number(len(l.site.Unread)-i))
			break
		}
		r.out.Wrapped("  "+render.Clean(u.Name())+"   ", render.Clean(u.Why))
	}
	settled := 0
	for _, edits := range l.edits() {
		settled += len(edits)
	}
	if settled > 0 {
		words := append([]string{"kibitz", "links"}, r.rulesArgs()...)
		r.out.Printf("\n%s can be written into the files: %s -show, then -write\n", render.Count(settled, "address"), strings.Join(words, " "))
	}
}

// linkRows are all links, for other programs.
type linkRow struct {
	File    string `json:"file"`
	Line    int    `json:"line"`
	Col     int    `json:"column"`
	Page    string `json:"page"`
	Use     string `json:"use"`
	Text    string `json:"text"`
	URL     string `json:"url,omitempty"`
	Status  any    `json:"status,omitempty"`
	Ends    string `json:"ends,omitempty"`
	Finding string `json:"finding,omitempty"`
	Says    string `json:"says,omitempty"`
	Advice  string `json:"advice,omitempty"`
}

func (l linked) rows() []linkRow {
	found := map[*pages.Link]*proof.Finding{}
	rows := []linkRow{}
	for _, f := range l.report.Findings {
		for _, s := range f.Spots {
			if s.Link != nil && found[s.Link] == nil {
				found[s.Link] = f
			} else if s.Link == nil {
				rows = append(rows, linkRow{File: s.Page.Name(), Line: s.Line, Col: s.Col, Page: s.Page.Address.String(), Text: s.Text, Finding: f.Name, Says: f.Short, Advice: f.Advice})
			}
		}
	}
	for _, p := range l.site.Pages {
		for _, link := range p.Links {
			row := linkRow{File: p.Name(), Line: link.Line, Col: link.Col, Page: p.Address.String(), Use: string(link.Use), Text: link.Text}
			if t := link.Target; t != nil {
				row.URL = link.To.String()
				if t.Visit != nil {
					row.Status = render.Status(t.Visit.Hops[0].Response)
					if t.Visit.Redirects() > 0 {
						row.Ends = t.Visit.Summary()
					}
				}
			}
			if f := found[link]; f != nil {
				row.Finding, row.Says, row.Advice = f.Name, f.Short, f.Advice
			}
			rows = append(rows, row)
		}
	}
	slices.SortStableFunc(rows, func(a, b linkRow) int {
		return cmp.Or(strings.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Col, b.Col))
	})
	return rows
}

func (r *run) linksCSV(l linked) error {
	out := csv.NewWriter(r.stdout)
	out.Write([]string{"file", "line", "column", "page", "use", "text", "url", "status", "ends", "finding", "says", "advice"})
	for _, row := range l.rows() {
		status := ""
		if row.Status != nil {
			status = fmt.Sprint(row.Status)
		}
		cells := []string{row.File, strconv.Itoa(row.Line), strconv.Itoa(row.Col), row.Page, row.Use, row.Text, row.URL, status, row.Ends, row.Finding, row.Says, row.Advice}
		for i := range cells {
			cells[i] = render.Cell(cells[i])
		}
		out.Write(cells)
	}
	out.Flush()
	return out.Error()
}

func (r *run) linksJSON(l linked) error {
	type unread struct {
		File string `json:"file"`
		Why  string `json:"why"`
	}
	result := struct {
		Files   int       `json:"files"`
		Targets int       `json:"addresses"`
		Links   []linkRow `json:"links"`
		Alone   []string  `json:"not_linked"`
		Unread  []unread  `json:"not_read"`
	}{Files: len(l.site.Pages), Targets: len(l.site.Targets), Links: l.rows(), Alone: []string{}, Unread: []unread{}}
	for _, p := range l.alone() {
		result.Alone = append(result.Alone, p.Address.String())
	}
	for _, u := range l.site.Unread {
		result.Unread = append(result.Unread, unread{u.Name(), u.Why})
	}
	return r.writeJSON(result)
}

// edits are the addresses that may be put into the files, by page.
func (l linked) edits() map[*pages.Page][]pages.Edit {
	edits := map[*pages.Page][]pages.Edit{}
	for _, t := range l.site.Targets {
		end, ok := proof.Settled(l.engine, t)
		if !ok {
			continue
		}
		for _, link := range t.Links {
			if to := link.Instead(end); link.Writable() && to != link.Text {
				edits[link.Page] = append(edits[link.Page], pages.Edit{Link: link, To: to})
			}
		}
	}
	return edits
}

// mendLinks puts the addresses at the end of redirects into the files, or shows that.
func (r *run) mendLinks(l linked, write bool) (int, error) {
	edits := l.edits()
	type file struct {
		name     string
		was, now []byte
	}
	var files []file
	seen := map[string]bool{} // one file may lie at several places of the tree
	n := 0
	for _, p := range l.site.Pages {
		if len(edits[p]) == 0 {
			continue
		}
		if p.Site.Files == "" {
			return 0, fmt.Errorf("the files of %s are not here, only the inventory %s: nothing can be written into them", p.Site.Name, p.Site.Inventory)
		}
		name := p.Name()
		real, err := filepath.EvalSymlinks(name)
		if err != nil {
			return 0, err
		}
		if seen[real] {
			continue
		}
		seen[real] = true
		was, err := os.ReadFile(name)
		if err != nil {
			return 0, err
		}
		if content, err := p.Content(); err != nil || !bytes.Equal(content, was) {
			return 0, errors.Join(err, fmt.Errorf("%s has changed meanwhile: run it again", name))
		}
		now, err := pages.Rewrite(was, edits[p])
		if err != nil {
			return 0, err
		}
		files = append(files, file{name, was, now})
		n += len(edits[p])
	}
	slices.SortFunc(files, func(a, b file) int { return strings.Compare(a.name, b.name) })
	if len(files) == 0 {
		r.out.Printf("Nothing to write: no address in the files goes through a permanent redirect to a page of the site.\n")
		return exitWell, nil
	}
	if !write {
		for _, f := range files {
			r.diff(f.name, string(f.was), string(f.now))
		}
		fmt.Fprintf(r.stderr, "%s in %s; with -write they are written\n", render.Count(n, "address"), render.Count(len(files), "file"))
		return exitWell, nil
	}
	for _, f := range files {
		if err := writeWhole(f.name, f.now, true); err != nil {
			return 0, err
		}
	}
	r.out.Printf("%s written into %s\n", render.Count(n, "address"), render.Count(len(files), "file"))
	return exitWell, nil
}

// diff shows a change of a file as a unified diff; on a terminal in colour, and clean.
func (r *run) diff(name, was, now string) {
	text := udiff.Unified(name, name, was, now)
	for line := range strings.Lines(text) {
		line, end := strings.TrimSuffix(line, "\n"), "\n"
		switch {
		case strings.HasPrefix(line, "+++"), strings.HasPrefix(line, "---"), strings.HasPrefix(line, "@@"):
			line = r.out.Quiet(render.Clean(line))
		case strings.HasPrefix(line, "+"):
			line = r.out.Well(line)
		case strings.HasPrefix(line, "-"):
			line = r.out.Bad(line)
		}
		fmt.Fprint(r.stdout, line, end)
	}
}

// A readPages is what was read of the pages for another command, and how long it took.
type readPages struct {
	site *pages.Site
	took time.Duration
}

// read reads the pages, once.
func (p *readPages) read(e *engine.Engine) *pages.Site {
	start := time.Now()
	p.site = pages.Of(e)
	p.took = time.Since(start)
	return p.site
}

// says tells of what was read, and what could not be.
func (p *readPages) says() string {
	if p.site == nil || len(p.site.Pages)+len(p.site.Unread) == 0 {
		return ""
	}
	said := fmt.Sprintf("%s in %s followed (%s)", render.Count(len(p.site.Targets), "address"), render.Count(len(p.site.Pages), "file"), render.Time(p.took))
	if n := len(p.site.Unread); n > 0 {
		said += fmt.Sprintf("; %s could not be read", render.Count(n, "file"))
	}
	return said + ". By page: kibitz links"
}

// pagesOf reads the pages of an engine's trees, for lists of every link.
func (r *run) pagesOf(e *engine.Engine) (*pages.Site, error) {
	if !slices.ContainsFunc(e.Book.Sites, e.KnowsTree) {
		return nil, usagef("-every-link asks for what the files of the sites' trees refer to, and %s names none: add `files DIR` to a site", r.rulesName())
	}
	all := pages.Of(e)
	for i, u := range all.Unread {
		if i == 3 {
			fmt.Fprintf(r.stderr, "note: %s could not be read\n", render.Count(len(all.Unread)-i, "file"))
			break
		}
		fmt.Fprintf(r.stderr, "note: %s could not be read: %s\n", render.Clean(u.Name()), render.Clean(u.Why))
	}
	elsewhere := 0
	for _, t := range all.Targets {
		if t.Visit == nil {
			elsewhere += len(t.Links)
		}
	}
	if elsewhere > 0 {
		fmt.Fprintf(r.stderr, "note: %s of other sites: not asked for\n", render.Count(elsewhere, "link"))
	}
	return all, nil
}

const everyLinkHelp = "ask for each address that the files of the sites' trees refer to, from the page that refers to it"
