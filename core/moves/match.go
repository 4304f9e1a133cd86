package moves

// Where each of many old addresses has gone.

import (
	"cmp"
	"container/heap"
	"fmt"
	"math"
	"path"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"kibitz/core/canonical"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// An Old is an address that was there once.
type Old struct {
	Path     string // canonical
	Requests int64
	Links    int64 // of the new pages, that still lead there
}

// A Move says what became of an old address.
type Move struct {
	Old
	New  string // as it is asked for; "" where nothing fits
	Sure int    // in percent
	Why  string // in a few words
	Gone bool   // the old page is known, and nothing takes its place
}

// Find matches old addresses with the pages of a tree. Old pages, where they are at hand,
// make it surer: before is their tree, or nil. Addresses that the tree has are left out.
func Find(old []Old, tree, before *site.Tree) []Move {
	m := newMatcher()
	m.add(tree, true)
	m.count()
	var asked []*question
	for _, o := range old {
		if there(tree, o.Path) {
			continue
		}
		q := &question{old: o, page: pageOf(o.Path)}
		if before != nil {
			q.page.read(fileAt(before, o.Path))
		}
		asked = append(asked, q)
	}
	together(len(asked), func(i int) { asked[i].found = m.candidates(asked[i].page) })
	for range 2 { // what is sure tells where whole folders have gone
		m.folders = m.votes(asked)
		for _, q := range asked {
			q.candidates = m.weigh(q)
		}
		m.assign(asked)
	}
	var moves []Move
	for _, q := range asked {
		moves = append(moves, m.moveOf(q, before != nil))
	}
	slices.SortStableFunc(moves, func(a, b Move) int {
		return cmp.Or(cmp.Compare(b.Requests+b.Links, a.Requests+a.Links), strings.Compare(a.Path, b.Path))
	})
	return moves
}

// together calls do for 0 to n-1 on all processors.
func together(n int, do func(i int)) {
	var next atomic.Int64
	var pool sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		pool.Go(func() {
			for i := int(next.Add(1)) - 1; i < n; i = int(next.Add(1)) - 1 {
				do(i)
			}
		})
	}
	pool.Wait()
}

// there reports whether a tree has something at a path, or below it.
func there(t *site.Tree, at string) bool {
	n := t.Find(strings.TrimSuffix(at, "/"))
	return n != nil && (n.Folder || !strings.HasSuffix(at, "/"))
}

// fileAt gives the file that a path shows: a folder's page for a folder.
func fileAt(t *site.Tree, at string) *site.Node {
	n := t.Find(strings.TrimSuffix(at, "/"))
	if n != nil && n.Folder {
		for _, name := range []string{rulebook.UsualDocument, "index.htm", "index.php"} {
			if f := t.Find(n.Path + "/" + name); f != nil {
				return f
			}
		}
		return nil
	}
	return n
}

// A question is an old address, with what may have become of it.
type question struct {
	old        Old
	page       *page
	found      []candidate // by what the two pages are
	candidates []candidate // with what becomes of others, too; the best first
	taken      *candidate
}

// A candidate is a new page with what speaks for it.
type candidate struct {
	page  *page
	score float64 // a logit against nothing
	most  float64 // what the heaviest reason weighs
	share float64 // of all candidates and nothing
	why   string
}

// matcher has the new pages, by all that they may be found by.
type matcher struct {
	pages     []*page
	home      *page              // nil for none
	words     map[string]float64 // how much a word tells (its inverse document frequency)
	byWord    map[string][]*page
	byPart    map[string][]*page // by three letters of the joined name
	byShingle map[uint64][]*page
	byDigest  map[uint64][]*page
	folders   map[string]map[string]int // old folder to new folder, by sure pages
}

// tooMany is how many pages have a word or a part that tells nothing.
const tooMany = 400

func newMatcher() *matcher {
	return &matcher{words: map[string]float64{}, byWord: map[string][]*page{}, byPart: map[string][]*page{}, byShingle: map[uint64][]*page{}, byDigest: map[uint64][]*page{}}
}

// add adds the pages of a tree; with read what they say, too.
func (m *matcher) add(tree *site.Tree, read bool) {
	tree.Each(func(n *site.Node) {
		if n.Folder || n.Hidden || strings.HasPrefix(n.Path, "/errors/") {
			return
		}
		p := pageOf(n.Path)
		if read {
			p.read(n)
		}
		if folder, name := path.Split(n.Path); strings.HasPrefix(name, "index.") {
			if p.address = folder; folder == "/" {
				m.home = p
			}
		}
		m.pages = append(m.pages, p)
	})
}

// count makes ready what the pages are found by.
func (m *matcher) count() {
	counts := map[string]int{}
	for _, p := range m.pages {
		for _, w := range slices.Concat(p.words, p.title) {
			m.byWord[w] = append(m.byWord[w], p)
		}
		for _, number := range p.numbers {
			m.byWord["#"+number] = append(m.byWord["#"+number], p)
		}
		for _, w := range slices.Compact(slices.Sorted(slices.Values(slices.Concat(p.words, p.folders, p.title)))) {
			counts[w]++
		}
		for _, part := range parts(p.joined) {
			m.byPart[part] = append(m.byPart[part], p)
		}
		for _, s := range p.text {
			m.byShingle[s] = append(m.byShingle[s], p)
		}
		if p.digest != 0 {
			m.byDigest[p.digest] = append(m.byDigest[p.digest], p)
		}
	}
	for w, n := range counts {
		m.words[w] = math.Log(1 + float64(len(m.pages))/float64(n))
	}
}

// tells is how much a word tells.
func (m *matcher) tells(word string) float64 {
	if v, ok := m.words[word]; ok {
		return v
	}
	return math.Log(1 + float64(len(m.pages)))
}

// parts are each three letters in a row of a name.
func parts(name string) (out []string) {
	name = "^" + name + "$"
	for i := 0; i+3 <= len(name); i++ {
		out = append(out, name[i:i+3])
	}
	return out
}

// mostCandidates is how many pages are looked at closely for an address.
const mostCandidates = 16

// candidates gives the new pages that an old one may have become, with their scores.
func (m *matcher) candidates(o *page) []candidate {
	votes := map[*page]float64{}
	vote := func(pages []*page, weight float64) {
		if len(pages) > tooMany && len(votes) > 0 {
			return
		}
		for _, p := range pages[:min(len(pages), 2*tooMany)] {
			votes[p] += weight
		}
	}
	vote(m.byDigest[o.digest], 20)
	for _, s := range o.text[:min(len(o.text), 40)] {
		if len(m.byShingle[s]) < 30 {
			vote(m.byShingle[s], 1)
		}
	}
	for _, w := range slices.Concat(o.words, o.title) {
		vote(m.byWord[w], m.tells(w))
	}
	if o.joined != "" {
		for _, part := range parts(o.joined) {
			vote(m.byPart[part], 0.5)
		}
	} else { // nothing but a folder and a number
		for _, w := range o.folders {
			vote(m.byWord[w], m.tells(w))
		}
	}
	for _, number := range o.numbers {
		vote(m.byWord["#"+number], 3)
	}
	if o.home && m.home != nil {
		vote([]*page{m.home}, 0.1)
	}
	type voted struct {
		page  *page
		votes float64
	}
	var best []voted
	for p, v := range votes {
		best = append(best, voted{p, v})
	}
	slices.SortFunc(best, func(a, b voted) int {
		return cmp.Or(cmp.Compare(b.votes, a.votes), strings.Compare(a.page.address, b.page.address))
	})
	var out []candidate
	for _, v := range best[:min(len(best), mostCandidates)] {
		out = append(out, m.score(o, v.page))
	}
	return out
}

// weigh adds what becomes of other pages to the candidates for an address, and parts what is
// sure among them and nothing.
func (m *matcher) weigh(q *question) []candidate {
	out := slices.Clone(q.found)
	for i := range out {
		m.folderVote(q.page, &out[i])
	}
	slices.SortStableFunc(out, func(a, b candidate) int { return cmp.Compare(b.score, a.score) })
	sum := 1.0 // nothing
	for _, c := range out {
		sum += math.Exp(c.score)
	}
	for i := range out {
		out[i].share = math.Exp(out[i].score) / sum
	}
	return out
}

// score weighs what speaks for and against a pair.
func (m *matcher) score(o, n *page) candidate {
	c := candidate{page: n, score: -7}
	add := c.add
	if o.home && n.address == "/" {
		add(10, "the home page")
	}
	if o.digest != 0 && o.digest == n.digest {
		add(12, "same content")
	}
	if len(o.text) > 3 && len(n.text) > 3 {
		same := common(o.text, n.text)
		less, more := float64(same)/float64(min(len(o.text), len(n.text))), float64(same)/float64(max(len(o.text), len(n.text)))
		if same == 0 {
			add(-4, "")
		}
		add(8*less+6*more-5, fmt.Sprintf("same text %.0f%%", 100*less))
	}
	if len(o.title) > 0 && len(n.title) > 0 {
		add(5*m.overlap(o.title, n.title)*m.overlap(n.title, o.title)-1, "same title")
	}
	same := 0 // numbers
	for _, x := range o.numbers {
		if slices.Contains(n.numbers, x) {
			same++
		}
	}
	if o.joined != "" && n.joined != "" && (same > 0 || !o.numbered && !n.numbered) {
		switch alike := dice(o.joined, n.joined); {
		case o.joined == n.joined:
			add(8, "same name")
		case slip(o.joined, n.joined):
			add(6.5, "a letter or two")
		default:
			there, back := m.overlap(o.words, n.words), m.overlap(n.words, o.words)
			add(5*there+2.5*back+2.5*alike-1, "like name")
		}
		if len(n.title) > 0 {
			add(2*m.overlap(o.words, n.title), "name in the title")
		}
	}
	if len(o.folders) > 0 && len(n.folders) > 0 {
		if shared := m.overlap(o.folders, n.folders); shared > 0 {
			add(1.2*shared, "")
		} else {
			add(-1, "")
		}
	} else if len(o.folders)+len(n.folders) == 0 {
		add(0.6, "")
	}
	switch {
	case len(o.numbers) > 0 && len(n.numbers) > 0:
		if same == 0 {
			add(-2.5, "")
		} else {
			add(2.5*float64(same)/float64(max(len(o.numbers), len(n.numbers))), "same number")
		}
	case len(o.numbers) > 0:
		add(-0.3, "")
	}
	if o.kind != n.kind {
		switch {
		case n.kind == "style" || n.kind == "script": // which stand for nothing else
			add(-5, "")
		case n.kind == "page" || o.kind == "page":
			add(-2.5, "")
		default:
			add(-1, "")
		}
	}
	return c
}

// add adds what speaks for a candidate, or against it; the heaviest reason is told.
func (c *candidate) add(weight float64, why string) {
	if c.score += weight; weight > c.most && why != "" {
		c.most, c.why = weight, why
	}
}

// folderVote adds where the sure pages of the old folder have gone.
func (m *matcher) folderVote(o *page, c *candidate) {
	to := m.folders[o.folder]
	total := 0
	for _, v := range to {
		total += v
	}
	if v := to[c.page.folder]; v > 1 {
		c.add(3*float64(v)/float64(total+1), fmt.Sprintf("%s moves with %d others", o.folder, v))
	} else if total > 4 {
		c.add(-1, "")
	}
}

// overlap is the share of what words tell that others tell, too: also with a letter changed,
// or with their beginning.
func (m *matcher) overlap(words, others []string) float64 {
	all, same := 0.0, 0.0
	for _, w := range words {
		v := m.tells(w)
		all += v
		best := 0.0
		for _, o := range others {
			switch {
			case w == o:
				best = 1
			case best < 0.8 && len(w) > 4 && len(o) > 4 && rulebook.Distance(w, o) == 1:
				best = 0.8
			case best < 0.7 && len(w) > 3 && len(o) > 3 && (strings.HasPrefix(w, o) || strings.HasPrefix(o, w)):
				best = 0.7
			}
		}
		same += v * best
	}
	if all == 0 {
		return 0
	}
	return same / all
}

// slip reports whether two names are one, but for a letter or two.
func slip(a, b string) bool {
	return a == b || len(a) > 4 && rulebook.Distance(a, b) <= len(a)/6+1
}

// dice is how many parts two names have in common.
func dice(a, b string) float64 {
	left, right := parts(a), parts(b)
	same := 0
	used := make([]bool, len(right))
	for _, p := range left {
		for i, q := range right {
			if !used[i] && p == q {
				used[i] = true
				same++
				break
			}
		}
	}
	return 2 * float64(same) / float64(len(left)+len(right))
}

// common counts what two sorted lists share.
func common(a, b []uint64) (n int) {
	for i, j := 0, 0; i < len(a) && j < len(b); {
		switch {
		case a[i] == b[j]:
			n, i, j = n+1, i+1, j+1
		case a[i] < b[j]:
			i++
		default:
			j++
		}
	}
	return n
}

// votes counts which folders the sure pages of a folder have moved to.
func (m *matcher) votes(asked []*question) map[string]map[string]int {
	votes := map[string]map[string]int{}
	for _, q := range asked {
		if q.taken == nil || q.taken.share < 0.6 {
			continue
		}
		if votes[q.page.folder] == nil {
			votes[q.page.folder] = map[string]int{}
		}
		votes[q.page.folder][q.taken.page.folder]++
	}
	return votes
}

// queue holds pairs, the surest first.
type queue []pair

type pair struct {
	q    *question
	rank int // of its candidates
	at   float64
}

func (h queue) Len() int           { return len(h) }
func (h queue) Less(i, j int) bool { return h[i].at > h[j].at }
func (h queue) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *queue) Push(x any)        { *h = append(*h, x.(pair)) }
func (h *queue) Pop() any {
	last := (*h)[len(*h)-1]
	*h = (*h)[:len(*h)-1]
	return last
}

// takenCost is what a page costs that another address has become already: mostly one page
// comes of one.
const takenCost = 1.5

// assign gives each address its page, the surest first.
func (m *matcher) assign(asked []*question) {
	h := &queue{}
	for _, q := range asked {
		q.taken = nil
		if len(q.candidates) > 0 {
			heap.Push(h, pair{q, 0, q.candidates[0].score})
		}
	}
	taken := map[*page]string{}
	for h.Len() > 0 {
		p := heap.Pop(h).(pair)
		c := p.q.candidates[p.rank]
		if by, ok := taken[c.page]; ok && !slip(by, p.q.page.joined) && p.at == c.score {
			heap.Push(h, pair{p.q, p.rank, c.score - takenCost})
			if p.rank+1 < len(p.q.candidates) {
				heap.Push(h, pair{p.q, p.rank + 1, p.q.candidates[p.rank+1].score})
			}
			continue
		}
		if p.q.taken != nil {
			continue
		}
		if p.at < c.score {
			c.share *= 0.6
		}
		taken[c.page] = p.q.page.joined
		p.q.taken = &c
	}
}

// least is how sure a move must be to be told at all.
const least = 0.35

// moveOf says what became of an address. What is not known is never called gone.
func (m *matcher) moveOf(q *question, known bool) Move {
	move := Move{Old: q.old}
	c := q.taken
	if c != nil && c.share >= least {
		move.New, move.Why = canonicalAddress(c.page.address), c.why
		move.Sure = min(99, int(100*c.share))
		return move
	}
	if known && q.page.digest != 0 {
		move.Gone, move.Why = true, "nothing has its text"
		sure := 1.0
		if c != nil {
			sure = 1 - c.share
		}
		move.Sure = min(99, int(100*sure))
	}
	return move
}

func canonicalAddress(at string) string { return canonical.Spell(canonical.Decode(at)) }
