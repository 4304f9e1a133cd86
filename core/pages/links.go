package pages

// Which pages a site has, at which addresses, and what becomes of what they refer to.

import (
	"cmp"
	"fmt"
	"net/http"
	"path"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"kibitz/core/browser"
	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// A Page is a file that refers to others, at the address at which visitors have it.
type Page struct {
	Site     *rulebook.Site
	Node     *site.Node
	Address  request.Address
	Response *engine.Response // with which it is shown
	Error    bool             // it is shown in the place of what is missing
	Named    bool             // an entry shows it, wherever that is for
	File     *File
	Links    []*Link           // in the order of the file; those of the header last
	Hints    []request.Address // that it is announced with; hint-useless looks at them
	Linked   int               // from how many places other pages lead visitors to it

	server browser.Server  // as who sees the page is answered
	base   request.Address // of its relative addresses
}

// A Link is a reference, and what becomes of it.
type Link struct {
	*Reference
	Page   *Page
	To     request.Address // with its fragment
	Target *Target         // nil for what is not an address of http
	Header bool            // it stands in a header field of the page
	Wrong  bool            // it is not a valid address
	asked  bool            // it is one of http
}

// Instead gives the text to write in the place of a link's for an address where its visit
// ends: with a slash where that is all it lacks, else as a path where it is of the page's
// own origin. The link's own fragment is kept.
func (l *Link) Instead(end request.Address) string {
	if l.To.Fragment != "" {
		end.Fragment = l.To.Fragment
	}
	cut := strings.IndexAny(l.Text+"?", "?#")
	slashed := l.Text[:cut] + "/" + l.Text[cut:]
	if to, err := l.Page.base.Resolve(slashed); err == nil && to == end && !strings.HasSuffix(l.Text[:cut], "/") {
		return slashed
	}
	if end.Origin() == l.Page.Address.Origin() && l.Use != Entry && l.Use != Canonical && l.Use != Alternate && !strings.Contains(strings.SplitN(l.Text, "/", 2)[0], ":") {
		return end.Target() + end.Fragment
	}
	return end.String()
}

// A Target is an address that is referred to.
type Target struct {
	Request *request.Request // for it, from the first page that refers to it
	Visit   *browser.Visit   // nil where no site of the rulebook answers for its host
	Links   []*Link
	Page    *Page // where the visit ends, if that is one
}

// Last is the answer with which a visit ends.
func (t *Target) Last() *engine.Response { return t.Visit.Last() }

// Elsewhere reports whether no site of the rulebook answers for it.
func (t *Target) Elsewhere() bool { return t.Visit == nil || t.Visit.Ending == browser.Left }

// Decided reports whether the rulebook and the trees say what is answered.
func (t *Target) Decided() bool { return !t.Elsewhere() && t.Last().Status != 0 }

// Broken reports whether a visitor does not find what is referred to.
func (t *Target) Broken() bool {
	if t.Elsewhere() {
		return false
	}
	switch t.Visit.Ending {
	case browser.Loop, browser.TooLong, browser.BadEnding:
		return true
	}
	return t.Last().Status >= 400 && t.Last().Status != http.StatusUnauthorized && t.Last().Status != http.StatusMethodNotAllowed
}

// End is the address at which a visit is answered by the sites after redirects, and whether
// it is.
func (t *Target) End() (request.Address, bool) {
	if t.Elsewhere() || t.Broken() || t.Visit.Redirects() == 0 || t.Visit.Ending != browser.Arrived || t.Last().Status != http.StatusOK {
		return request.Address{}, false
	}
	return t.Visit.Hops[len(t.Visit.Hops)-1].Request.Address, true
}

// ForGood reports whether every redirect on the way is permanent.
func (t *Target) ForGood() bool {
	return !slices.ContainsFunc(t.Visit.Hops[:len(t.Visit.Hops)-1], func(h browser.Hop) bool { return !browser.Permanent(h.Response.Status) })
}

// A Site is all that the files of a rulebook's trees refer to.
type Site struct {
	Pages   []*Page
	Targets []*Target // in the order in which they are first referred to
	Unread  []Unread

	links int
	index map[string]*Target
	refer map[string]*engine.Inputs // by host, where the page that a request comes from can change the answer; else nil
}

// To gives the links to each address, without its fragment.
func (all *Site) To() map[string][]*Link {
	to := map[string][]*Link{}
	for _, t := range all.Targets {
		at := t.Request.Address.String()
		to[at] = append(to[at], t.Links...)
	}
	return to
}

// MaxLinks is about how many links of all files are kept: files beyond that are not read.
const MaxLinks = 1_000_000

// Unread is a file that could not be read.
type Unread struct {
	Site *rulebook.Site
	Node *site.Node
	Why  string
}

// Name is the name of a page's file, as it lies in the folder of its site.
func (p *Page) Name() string { return fileName(p.Site, p.Node) }

// Name is the name of the file.
func (u Unread) Name() string { return fileName(u.Site, u.Node) }

func fileName(s *rulebook.Site, n *site.Node) string {
	return path.Join(cmp.Or(s.Files, s.Inventory), canonical.Decode(n.Path))
}

// Of reads the pages of the trees of a rulebook, and what becomes of each address that
// they refer to.
func Of(e *engine.Engine) *Site {
	all := &Site{index: map[string]*Target{}, refer: map[string]*engine.Inputs{}}
	var found []*Page
	for _, s := range e.Book.Sites {
		if e.KnowsTree(s) {
			found = append(found, candidates(e, s)...)
		}
	}
	for len(found) > 0 {
		found = all.read(e, found)
	}
	shown := map[*site.Node]*Page{}
	for _, p := range all.Pages {
		if !p.Error {
			shown[p.Node] = cmp.Or(shown[p.Node], p)
		}
	}
	for _, t := range all.Targets {
		if t.Decided() && t.Last().Status == http.StatusOK && t.Last().File != nil {
			t.Page = shown[t.Last().File]
		}
		for _, l := range t.Links {
			if t.Page != nil && l.Page.Node != t.Page.Node && !l.Use.Loads() && l.Use != Canonical && l.Use != Alternate && l.Use != Entry {
				t.Page.Linked++
			}
		}
	}
	return all
}

// candidates are the pages of a site that have an address of their own, and those that
// are shown for what is missing.
func candidates(e *engine.Engine, s *rulebook.Site) []*Page {
	var files []*site.Node
	e.Tree(s).Each(func(n *site.Node) {
		if !n.Folder {
			files = append(files, n)
		}
	})
	shown := map[*site.Node]*Page{} // as the page of its folder
	e.Tree(s).Each(func(n *site.Node) {
		if !n.Folder {
			return
		}
		if p := pageAt(e, s, n.Path+"/", nil); p != nil && shown[p.Node] == nil {
			shown[p.Node] = p
		}
	})
	pages := make([]*Page, len(files))
	var jobs errgroup.Group
	for share := range slices.Chunk(numbers(len(files)), 256) {
		jobs.Go(func() error {
			for _, i := range share {
				if pages[i] = shown[files[i]]; pages[i] == nil {
					pages[i] = pageAt(e, s, files[i].Path, files[i])
				}
			}
			return nil
		})
	}
	jobs.Wait()
	pages = slices.DeleteFunc(pages, func(p *Page) bool { return p == nil })
	named := map[*site.Node]bool{}
	for _, r := range s.Rules {
		named[e.Tree(s).Find(r.Shows())] = true
	}
	for _, p := range pages {
		p.Named = named[p.Node]
	}
	return append(pages, errorPages(e, s)...)
}

func numbers(n int) []int {
	out := make([]int, n)
	for i := range out {
		out[i] = i
	}
	return out
}

// pageAt gives the file that refers to others and that visitors have at a path, at the
// address where they end; nil where there is none, or it is another one than is wanted.
func pageAt(e *engine.Engine, s *rulebook.Site, at string, wanted *site.Node) *Page {
	for _, server := range []browser.Server{e, engine.Inside{Engine: e}} {
		req, r := &request.Request{Address: s.Address}, &engine.Response{}
		req.Address.Path = at
		server.Outcome(req, r)
		visit := browser.OpenOutcome(server, req, r)
		last := visit.Last()
		if last.Cause == engine.CauseAsked {
			continue // whoever is let in sees it
		}
		if visit.Ending != browser.Arrived || last.Status != http.StatusOK || last.File == nil || wanted != nil && last.File != wanted || !Reads(last.Type, last.File.Name()) {
			return nil
		}
		req = visit.Hops[len(visit.Hops)-1].Request
		return &Page{Site: s, Node: last.File, Address: req.Address, Response: server.Predict(req), server: server}
	}
	return nil
}

// missingPath is one that no tree has; an error page that is shown there is below a
// folder that is not there, either.
const missingPath = "/is/not/there"

// errorPages are the files that a site shows for what is missing.
func errorPages(e *engine.Engine, s *rulebook.Site) []*Page {
	req := &request.Request{Address: s.Address}
	req.Address.Path = missingPath
	var out []*Page
	for _, status := range []int{400, 401, 403, 404, 405, 410, 429, 451, 500, 502, 503, 504} {
		r := e.Fail(req, status, engine.CauseMissing)
		if r.File != nil && Reads(r.Type, r.File.Name()) && !slices.ContainsFunc(out, func(p *Page) bool { return p.Node == r.File }) {
			out = append(out, &Page{Site: s, Node: r.File, Address: req.Address, Response: r, Error: true, server: e})
		}
	}
	return out
}

// read reads some pages, asks for what they refer to, and gives the pages that are found
// by that alone: those that entries show at addresses of which the tree has nothing.
func (all *Site) read(e *engine.Engine, found []*Page) (more []*Page) {
	problems := make([]string, len(found))
	for some := range slices.Chunk(numbers(len(found)), 256) {
		if all.links >= MaxLinks {
			for _, i := range some {
				problems[i] = fmt.Sprintf("there are more than %d addresses in the files before it", MaxLinks)
			}
			continue
		}
		var jobs errgroup.Group
		jobs.SetLimit(runtime.GOMAXPROCS(0))
		for share := range slices.Chunk(some, 16) {
			jobs.Go(func() error {
				cache := map[string]resolved{}
				for _, i := range share {
					problems[i] = found[i].read(cache)
				}
				return nil
			})
		}
		jobs.Wait()
		for _, i := range some {
			all.links += len(found[i].Links)
		}
	}
	known := map[*site.Node]bool{}
	for _, p := range all.Pages {
		known[p.Node] = true
	}
	first := len(all.Targets)
	for i, p := range found {
		if known[p.Node] = true; problems[i] != "" {
			all.Unread = append(all.Unread, Unread{p.Site, p.Node, problems[i]})
			continue
		}
		if n := p.File.Left; n > 0 {
			all.Unread = append(all.Unread, Unread{p.Site, p.Node, fmt.Sprintf("of its addresses %d are left out: %d of a file are looked at", n, MaxReferences)})
		}
		all.Pages = append(all.Pages, p)
		for _, l := range p.Links {
			all.point(e, l)
		}
	}
	targets := all.Targets[first:]
	var jobs errgroup.Group
	for share := range slices.Chunk(targets, 64) {
		jobs.Go(func() error {
			for _, t := range share {
				if e.Serves(t.Request.Address.Host) {
					t.Visit = browser.Open(t.Links[0].Page.server, t.Request)
				}
			}
			return nil
		})
	}
	jobs.Wait()
	for _, t := range targets {
		if !t.Decided() || t.Visit.Ending != browser.Arrived || t.Last().Status != http.StatusOK {
			continue
		}
		if r := t.Last(); r.File != nil && !known[r.File] && Reads(r.Type, r.File.Name()) {
			known[r.File] = true
			more = append(more, &Page{Site: r.Site, Node: r.File, Address: t.Visit.Hops[len(t.Visit.Hops)-1].Request.Address, Response: r, server: t.Links[0].Page.server})
		}
	}
	return more
}

// point finds the target of a link.
func (all *Site) point(e *engine.Engine, l *Link) {
	if !l.asked {
		return
	}
	at := l.To
	at.Fragment = ""
	key, referrer := at.String(), ""
	if l.Page.server != browser.Server(e) {
		key += "\ninside"
	}
	if in := all.refers(e, at.Host); in != nil {
		referrer = browser.Referrer(l.Page.Address, at)
		key += "\n" + classOf(in, referrer)
	}
	t := all.index[key]
	if t == nil {
		t = &Target{Request: &request.Request{Address: at}}
		if referrer != "" {
			t.Request.Headers = []request.Header{{Name: "Referer", Value: referrer}}
		}
		all.index[key] = t
		all.Targets = append(all.Targets, t)
	}
	l.Target = t
	t.Links = append(t.Links, l)
}

// refers gives what the answers of a host depend on, where the page that a request comes
// from is part of it; else nil.
func (all *Site) refers(e *engine.Engine, host string) *engine.Inputs {
	in, ok := all.refer[host]
	if !ok {
		if e.Serves(host) && e.Inputs(host).Matters("referer") {
			in = e.Inputs(host)
		}
		all.refer[host] = in
	}
	return in
}

// classOf gives a key that referrers share for which the same tests hold.
func classOf(in *engine.Inputs, referrer string) string {
	if in.Copies {
		return referrer
	}
	var key []byte
	for i := range in.Texts {
		if f := in.Texts[i].Field; f.Kind == rulebook.FieldHeader && f.Name == "referer" {
			key = in.Texts[i].Append(key, referrer, referrer != "")
		}
	}
	return string(key)
}

// A resolved address is one that was read relative to another.
type resolved struct {
	to  request.Address
	err error
}

// read reads the file of a page; why not, if it cannot be read.
func (p *Page) read(cache map[string]resolved) (problem string) {
	if p.Node.Size > MaxFile {
		return fmt.Sprintf("it is larger than %d MiB", MaxFile>>20)
	}
	content, err := p.Content()
	if err != nil {
		return err.Error()
	}
	if p.File, err = Read(content, p.Response.Type, p.Node.Name()); err != nil {
		return err.Error()
	}
	base := p.Address
	base.Fragment = ""
	if p.File.Base != "" {
		if b, err := base.Resolve(p.File.Base); err == nil {
			base = b
			base.Fragment = ""
		}
	}
	p.base = base
	folder := base
	folder.Path, folder.Query, folder.HasQuery = base.Path[:strings.LastIndexByte(base.Path, '/')+1], "", false
	key := folder.String() + "\n"
	var own []Reference
	for _, h := range p.Response.Headers {
		if strings.EqualFold(h.Name, "Link") {
			own = append(own, headerLinks(h.Value)...)
		}
	}
	for _, hint := range p.Response.Hints {
		for _, ref := range headerLinks(hint) {
			if to, err := p.Address.Resolve(ref.Text); err == nil {
				p.Hints = append(p.Hints, to)
			}
		}
	}
	links := make([]Link, 0, len(p.File.References)+len(own)) // which does not grow
	p.Links = make([]*Link, 0, cap(links))
	add := func(ref *Reference, header bool) {
		links = append(links, Link{Reference: ref, Page: p, Header: header})
		l := &links[len(links)-1]
		from := base
		if ref.Use == Entry || ref.Use == Sitemap {
			from = p.Address
		}
		name := key + ref.Text
		to, ok := cache[name]
		if !ok || ref.Text == "" || ref.Text[0] == '#' || ref.Text[0] == '?' {
			to.to, to.err = from.Resolve(ref.Text)
			cache[name] = to
		}
		if to.err != nil {
			l.Wrong = to.err != request.ErrForeign
		} else {
			l.To, l.asked = to.to, true
		}
		p.Links = append(p.Links, l)
	}
	for i := range p.File.References {
		add(&p.File.References[i], false)
	}
	for i := range own {
		add(&own[i], true)
	}
	return ""
}

// Content gives the bytes of a page as they lie in the tree.
func (p *Page) Content() ([]byte, error) {
	if p.Node.Size <= site.MaxWhole {
		return p.Node.Read()
	}
	return p.Node.Beginning(MaxFile)
}

// headerLinks reads a Link field (RFC 8288).
func headerLinks(value string) (out []Reference) {
	for _, member := range request.List(value) {
		target, rest, ok := strings.Cut(strings.TrimPrefix(member, "<"), ">")
		if !ok || !strings.HasPrefix(member, "<") {
			continue
		}
		parameters := map[string]string{}
		for rest != "" {
			rest = strings.TrimLeft(rest, "; \t")
			end := request.ListEnd(rest, ';')
			name, v, _ := strings.Cut(rest[:end], "=")
			if name = strings.ToLower(strings.TrimSpace(name)); name != "" {
				if _, twice := parameters[name]; !twice {
					parameters[name] = request.Unquote(strings.TrimSpace(v))
				}
			}
			rest = rest[end:]
		}
		if use := useOfLink(func(name string) string { return parameters[name] }); use != "" {
			out = append(out, Reference{Text: target, Use: use, Lang: parameters["hreflang"]})
		}
	}
	return out
}
