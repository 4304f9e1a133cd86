package draft

// The pages of errors, told by what they say.

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// errorPages finds the file that answers of a status have the content of. A page that is
// filled says something else each time, and is not found.
func (d *drafter) errorPages() {
	if d.Tree == nil {
		return
	}
	sums := map[int]map[string]int{}
	all := map[int]int{}
	for _, a := range d.Answers {
		if a.Sum == "" || a.Status < 400 || a.Request.Verb() != "GET" || !d.knows(a.Request.Address.Host) {
			continue
		}
		if sums[a.Status] == nil {
			sums[a.Status] = map[string]int{}
		}
		all[a.Status]++
		sums[a.Status][a.Sum]++
	}
	var files map[string]*site.Node
	for _, page := range errorPages {
		for _, status := range strings.Fields(page.status) {
			number := 0
			fmt.Sscanf(status, "%d", &number)
			for sum, n := range sums[number] {
				if n < 2 || float64(n) < agree*float64(all[number]) {
					continue
				}
				if files == nil {
					files = d.pagesBySum()
				}
				if f := files[sum]; f != nil {
					d.add(rankErrors, "error", page.entry, fmt.Sprintf("for %d show %s", number, rulebook.Quote(f.Path)), "%s", answers(n))
				}
			}
		}
	}
}

// mostHashed is how many pages are looked at.
const mostHashed = 5000

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
		in, err := n.Open()
		if err != nil {
			continue
		}
		sum := sha256.New()
		_, err = io.Copy(sum, in)
		in.Close()
		if s := hex.EncodeToString(sum.Sum(nil)); err == nil && out[s] == nil {
			out[s] = n
		}
	}
	return out
}
