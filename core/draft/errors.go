package draft

// Files, told by what they say: the pages of folders and of errors, and what is shown under
// another address.

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"maps"
	"net/http"
	"path"
	"slices"
	"strings"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// errorPages finds the file that answers of a status have the content of, as it is or filled.
func (d *drafter) errorPages() error {
	if d.Tree == nil {
		return nil
	}
	sums := map[int]map[string]int{}
	all := map[int][]*Answer{}
	for _, a := range d.Answers {
		if a.Sum == "" || a.Status < 400 || a.Request.Verb() != "GET" || !d.knows(a.Request.Address.Host) {
			continue
		}
		if sums[a.Status] == nil {
			sums[a.Status] = map[string]int{}
		}
		all[a.Status] = append(all[a.Status], a)
		sums[a.Status][a.Sum]++
	}
	for _, page := range errorPages {
		for _, status := range strings.Fields(page.status) {
			number := 0
			fmt.Sscanf(status, "%d", &number)
			same := false
			for sum, n := range sums[number] {
				if n < 2 || float64(n) < agree*float64(len(all[number])) {
					continue
				}
				if same = true; d.pageOf(sum) != nil {
					d.add(rankErrors, "error", page.entry, fmt.Sprintf("for %d show %s", number, rulebook.Quote(d.pageOf(sum).Path)), "%s", answers(n))
				}
			}
			if same || len(all[number]) < 2 {
				continue
			}
			for _, f := range d.filled() {
				entry := fmt.Sprintf("for %d show %s fill on", number, rulebook.Quote(f.Path))
				e, err := d.compile("\nerror it-is-filled " + entry + "\n")
				if err != nil {
					return err
				}
				if tried, n := says(e, all[number]); n > 1 && float64(n) >= agree*float64(tried) {
					d.add(rankErrors, "error", page.entry, entry, "%s", answers(n))
					break
				}
			}
		}
	}
	return nil
}

// What bounds the search for a page that is filled.
const (
	mostFilled = 20       // pages that are tried
	longFilled = 64 << 10 // bytes of one
	mostSaid   = 30       // answers that one is held against
)

// filled gives the pages of errors that may be filled: those near the top with a brace in
// them.
func (d *drafter) filled() (out []*site.Node) {
	d.Tree.Each(func(n *site.Node) {
		if n.Folder || n.Hidden || n.Size > longFilled || strings.Count(n.Path, "/") > 2 || len(out) == mostFilled || !strings.HasPrefix(strings.ToLower(path.Ext(n.Path)), ".htm") {
			return
		}
		in, err := n.Open()
		if err != nil {
			return
		}
		defer in.Close()
		if text, err := io.ReadAll(in); err == nil && bytes.Contains(text, []byte("{")) {
			out = append(out, n)
		}
	})
	return out
}

// says gives to how many of some answers a rulebook says the same, and of how many that
// was tried: each of another address.
func says(e *engine.Engine, all []*Answer) (tried, same int) {
	step := (len(all) + mostSaid - 1) / mostSaid
	for i := 0; i < len(all); i += step {
		r := e.Predict(&request.Request{Method: all[i].Request.Method, Address: all[i].Request.Address, Headers: all[i].Request.Headers})
		tried++
		body, err := r.Open()
		if err != nil {
			continue
		}
		sum := sha256.New()
		if _, err := io.Copy(sum, body); err == nil && r.Status == all[i].Status && hex.EncodeToString(sum.Sum(nil)) == all[i].Sum {
			same++
		}
		body.Close()
	}
	return tried, same
}

// mostHashed is how many pages are looked at.
const mostHashed = 5000

// documents finds the pages that folders show which are called otherwise than usual.
func (d *drafter) documents() {
	if d.Tree == nil {
		return
	}
	names := map[string]int{}
	for _, f := range d.facts {
		folder := d.Tree.Find(strings.TrimSuffix(f.path, "/"))
		if f.done || f.Status != http.StatusOK || f.Sum == "" || !strings.HasSuffix(f.path, "/") || folder == nil || !folder.Folder || d.Tree.Find(folder.Path+"/"+rulebook.UsualDocument) != nil {
			continue
		}
		for _, n := range folder.Children {
			if !n.Folder && !n.Hidden && sumOf(n) == f.Sum {
				names[n.Name()]++
				f.done = true
				break
			}
		}
	}
	if len(names) == 0 {
		return
	}
	n := 0
	var words []string
	for _, name := range slices.SortedFunc(maps.Keys(names), func(a, b string) int { return cmp.Or(names[b]-names[a], strings.Compare(a, b)) }) {
		n += names[name]
		words = append(words, rulebook.Quote(name))
	}
	d.add(rankFolders, "folder", "pages", "documents "+strings.Join(append([]string{rulebook.UsualDocument}, words...), " "), "The pages of folders, by what they say. %s", answers(n))
}

// made reports whether an answer was plainly made when it was asked for: a file has a time
// and a tag.
func (a *Answer) made() bool {
	named := func(name string) bool {
		return slices.ContainsFunc(a.Header, func(h request.Header) bool { return strings.EqualFold(h.Name, name) })
	}
	return a.Header != nil && !named("ETag") && !named("Last-Modified")
}

// listings finds the folders of which their names are shown: they have no page, and none of
// the site's files says the same.
func (d *drafter) listings() {
	if d.Tree == nil {
		return
	}
	of := map[string]int{}
	for _, f := range d.facts {
		n := d.Tree.Find(strings.TrimSuffix(f.path, "/"))
		if f.done || f.Status != http.StatusOK || n == nil || !n.Folder || !strings.HasSuffix(f.path, "/") || !plainPath(f.path) || d.pageOf(f.Sum) != nil {
			continue
		}
		if d.answer(f.Answer).Cause == engine.CauseNoDocument && f.made() {
			of[f.path]++
			f.done = true
		}
	}
	for _, folder := range slices.Sorted(maps.Keys(of)) {
		d.add(rankFolders, "folder", "listed", "in "+folder+" listing on", "It has no page, and was answered: with the names of its files, as it seems. %s", answers(of[folder]))
	}
}

// rewrites finds the files that are shown under addresses at which the tree has nothing.
func (d *drafter) rewrites() {
	if d.Tree == nil {
		return
	}
	from := map[*site.Node][]*fact{}
	for _, f := range d.facts {
		if f.done || f.Status != http.StatusOK || f.Sum == "" || f.query != "" || !plainPath(f.path) || d.Tree.Find(strings.TrimSuffix(f.path, "/")) != nil {
			continue
		}
		if n := d.pageOf(f.Sum); n != nil {
			from[n] = append(from[n], f)
			f.done = true
		}
	}
	for _, n := range slices.SortedFunc(maps.Keys(from), func(a, b *site.Node) int { return strings.Compare(a.Path, b.Path) }) {
		var paths []string
		for _, f := range from[n] {
			paths = append(paths, f.path)
		}
		slices.Sort(paths)
		d.add(rankFiles, "rewrite", strings.TrimPrefix(nameOf(paths[0]), "old-"), "on "+strings.Join(slices.Compact(paths), " ")+" to "+rulebook.Quote(n.Path)+" then finish", "The file is shown under another address. %s", answers(len(from[n])))
		d.show(from[n][0])
	}
}

// pageOf gives the page of the tree that has the content of a sum; nil for none.
func (d *drafter) pageOf(sum string) *site.Node {
	if d.sums == nil {
		d.sums = d.pagesBySum()
	}
	return d.sums[sum]
}

// sumOf is the SHA-256 of a file's content; "" where it cannot be read, or is too large.
func sumOf(n *site.Node) string {
	if n.Size > site.MaxWhole {
		return ""
	}
	in, err := n.Open()
	if err != nil {
		return ""
	}
	defer in.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, in); err != nil {
		return ""
	}
	return hex.EncodeToString(sum.Sum(nil))
}

// pagesBySum gives the pages of the tree by the SHA-256 of their content, those
// that lie higher up first.
func (d *drafter) pagesBySum() map[string]*site.Node {
	var pages []*site.Node
	d.Tree.Each(func(n *site.Node) {
		if !n.Folder && !n.Hidden && n.Size <= site.MaxWhole && strings.HasPrefix(strings.ToLower(path.Ext(n.Path)), ".htm") {
			pages = append(pages, n)
		}
	})
	slices.SortStableFunc(pages, func(a, b *site.Node) int { return strings.Count(a.Path, "/") - strings.Count(b.Path, "/") })
	out := map[string]*site.Node{}
	for _, n := range pages[:min(len(pages), mostHashed)] {
		if sum := sumOf(n); sum != "" && out[sum] == nil {
			out[sum] = n
		}
	}
	return out
}
