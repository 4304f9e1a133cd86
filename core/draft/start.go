// Package draft writes rulebooks: a first one for a folder of files, with its reasons.
package draft

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/proof"
	"kibitz/core/representation"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// A Beginning is what is known of a site that has no rulebook yet.
type Beginning struct {
	Address request.Address // the main one
	Guessed bool            // by nobody: it is to be written anew
	Files   string          // the folder of its files, as the rulebook names it
	Tree    *site.Tree
	Own     []string // paths of the tree at which the rulebook and what belongs to it will lie
	Asked   []Asked  // what visitors ask for, the commonest first
}

// Asked is an address that visitors ask for, as a list tells it.
type Asked struct {
	Address  request.Address
	Requests int64
	Recorded int    // the status that a server gave; 0 where none is told
	From     string // a page that linked to it; "" where none is told
}

// A Start is a first rulebook, and a list of requests that it answers as the list expects.
type Start struct {
	Rulebook string
	Requests string
	Findings []*proof.Finding // notes that are left, to be decided by people
	Accepted []*proof.Finding // what the rulebook accepts, so that it can be looked at later
	Missing  []Asked          // what visitors ask for, and the tree does not have
}

// A paragraph is a comment with the entry that it is about. Entries of a rank stand together.
type paragraph struct {
	rank  int
	why   string // lines of a comment
	entry string

	example *fact // that is shown with it, if it is given; nil for none
}

// The ranks of entries, in the order in which they stand.
const (
	rankName = iota
	rankAccess
	rankMoved
	rankFiles
	rankFolders
	rankErrors
	rankWire
	rankHeaders
)

var rankTitles = map[int]string{
	rankName:    "One scheme, one name.",
	rankAccess:  "What nobody may fetch.",
	rankMoved:   "Old addresses.",
	rankFiles:   "Where the tree has nothing.",
	rankFolders: "Folders.",
	rankErrors:  "The pages of errors, found by their names; the status stays.",
	rankWire:    "What goes over the wire.",
	rankHeaders: "What every answer says.",
}

// starter writes a Start.
type starter struct {
	*Beginning
	paragraphs []paragraph
	kinds      map[string]int // how many files have an extension
	documents  map[string]int // how many folders have a document of a name
	bare       []*site.Node   // folders without one
	accepted   []*proof.Finding
}

// Write writes a first rulebook. What it wrote has no error and no warning: what check finds
// in it is mended by what check advises, or accepted, with the reason.
func (b *Beginning) Write() (*Start, error) {
	s := &starter{Beginning: b, kinds: map[string]int{}, documents: map[string]int{}}
	s.look()
	s.names()
	s.access()
	s.folders()
	s.errors()
	s.wire()
	s.keeping()
	e, report, err := s.held()
	if err != nil {
		return nil, err
	}
	out := &Start{Rulebook: s.text(), Findings: report.Findings, Accepted: s.accepted}
	out.Requests, out.Missing = s.requests(e)
	return out, nil
}

func (s *starter) add(rank int, entry, why string, args ...any) {
	s.paragraphs = append(s.paragraphs, paragraph{rank: rank, why: fmt.Sprintf(why, args...), entry: entry})
}

// documentNames are those that folders' pages commonly have.
var documentNames = []string{"index.html", "index.htm", "index.xhtml", "default.html", "default.htm", "home.html", "home.htm", "welcome.html"}

// look goes through the tree once.
func (s *starter) look() {
	s.Tree.Each(func(n *site.Node) {
		if n.Hidden {
			return
		}
		if !n.Folder {
			s.kinds[strings.ToLower(strings.TrimPrefix(path.Ext(n.Name()), "."))]++
			return
		}
		for _, name := range documentNames {
			if f := s.Tree.Find(n.Path + "/" + name); f != nil && !f.Folder {
				s.documents[name]++
				return
			}
		}
		if !strings.HasPrefix(n.Name(), ".") {
			s.bare = append(s.bare, n)
		}
	})
}

// names sends all to one scheme and one name, with one redirect at most.
func (s *starter) names() {
	if other := otherName(s.Address.Host); other != "" {
		s.add(rankName, "redirect one-name when host "+other+" to "+s.Address.Origin()+"{path} as temporary",
			"%s is the same site under another name.", other)
	}
	if s.Address.Scheme == "https" {
		s.add(rankName, "redirect secure when scheme http to https://{host}{path} as temporary",
			"Whoever asks over http is sent to https. Make both permanent when they have worked\nfor a while: browsers cache that without an end.")
	}
}

// otherName gives a host with or without www, where it is likely to exist; "" for none.
func otherName(host string) string {
	if name, ok := strings.CutPrefix(host, "www."); ok {
		return name
	}
	if strings.Count(host, ".") == 1 && strings.Trim(host, "0123456789.:[]") != "" {
		return "www." + host
	}
	return ""
}

func (s *starter) access() {
	if len(s.Own) > 0 {
		s.add(rankAccess, "access rulebook on "+strings.Join(s.Own, " ")+" refuse 404", "The rulebook lies in the folder that is served: keep it from visitors.")
	}
}

// folders says which pages folders have, where that is not the usual one.
func (s *starter) folders() {
	var names []string
	for _, name := range documentNames {
		if s.documents[name] > 0 {
			names = append(names, name)
		}
	}
	if len(names) > 0 && (len(names) > 1 || names[0] != rulebook.UsualDocument) {
		var counts []string
		for _, name := range names {
			counts = append(counts, fmt.Sprintf("%s in %d", name, s.documents[name]))
		}
		s.add(rankFolders, "folder home-pages documents "+strings.Join(names, " "), "The pages of folders: %s.", strings.Join(counts, ", "))
	}
}

// errorPages are the entries for statuses, with what their pages are commonly called, in
// small letters and without their extension.
var errorPages = []struct {
	status, entry string
	names         []string
}{
	{"404", "not-found", []string{"404", "error404", "error-404", "not-found", "notfound", "page-not-found"}},
	{"403", "refused", []string{"403", "error403", "error-403", "forbidden", "not-allowed"}},
	{"401", "asked", []string{"401", "error401", "error-401", "unauthorized"}},
	{"410", "gone", []string{"410", "error410", "error-410", "gone"}},
	{"500", "broken", []string{"500", "error500", "error-500", "server-error"}},
	{"503", "closed", []string{"503", "error503", "error-503", "maintenance", "closed"}},
	{"4xx 5xx", "any-error", []string{"error", "errors"}},
}

// errors finds the pages of errors by their names.
func (s *starter) errors() {
	for _, page := range errorPages {
		var found *site.Node
		s.Tree.Each(func(n *site.Node) {
			folder, name := path.Split(n.Path)
			if found != nil || n.Hidden || n.Folder || !strings.HasPrefix(strings.ToLower(path.Ext(name)), ".htm") {
				return
			}
			stem := strings.ToLower(strings.TrimSuffix(name, path.Ext(name)))
			if folder = strings.Trim(strings.ToLower(folder), "/"); stem == "index" && folder != "" {
				stem = path.Base(folder)
			}
			shallow := strings.Count(n.Path, "/") <= 2
			if shallow && slices.Contains(page.names, stem) {
				found = n
			}
		})
		if found == nil {
			continue
		}
		if word, ok := plainWord(found.Path); ok {
			s.add(rankErrors, fmt.Sprintf("error %s for %s show %s", page.entry, page.status, word), "")
		}
	}
}

// shrinks is the size in bytes from which a file is worth encoding.
const shrinks = 1 << 10

func (s *starter) wire() {
	files, size := 0, int64(0)
	s.Tree.Each(func(n *site.Node) {
		if !n.Folder && !n.Hidden && n.Size > shrinks && representation.Compressible(representation.Extensions[strings.ToLower(strings.TrimPrefix(path.Ext(n.Name()), "."))]) {
			files, size = files+1, size+n.Size
		}
	})
	if files > 0 {
		s.add(rankWire, "compress text using br zstd gzip over 1KiB", "Of what is larger than 1 KiB, %s of text, %d KiB in all: most of that need not be sent.", count(files, "file"), size>>10)
	}
}

// named is a name with a part that changes with the content, as builds make them.
var named = regexp.MustCompile(`[.-][0-9a-f]{8,32}\.(css|js|mjs|woff2?|png|jpe?g|svg|webp|avif)$`)

// keeping says how long browsers keep what: pages for a moment, what has its content in its
// name for ever, the rest for an hour.
func (s *starter) keeping() {
	hashed := 0
	ends := map[string]bool{}
	s.Tree.Each(func(n *site.Node) {
		if m := named.FindStringSubmatch(n.Name()); m != nil && !n.Folder && !n.Hidden {
			hashed++
			ends[m[1]] = true
		}
	})
	if hashed > 0 {
		s.add(rankHeaders, fmt.Sprintf(`header fingerprints on ~.*[.-][0-9a-f]{8,32}\.(%s) for 200 304 default Cache-Control "public, max-age=31536000, immutable"`, strings.Join(slices.Sorted(maps.Keys(ends)), "|")),
			"%s with a fingerprint of the content in the name: they never change.", count(hashed, "file"))
	}
	var assets []string
	for _, end := range []string{"css", "js", "mjs", "woff", "woff2", "png", "jpg", "jpeg", "gif", "svg", "webp", "avif", "ico"} {
		if s.kinds[end] > 0 {
			assets = append(assets, end)
		}
	}
	if len(assets) > 0 {
		ends := `\.(` + strings.Join(assets, "|") + ")"
		if len(assets) == 1 {
			ends = `\.` + assets[0]
		}
		s.add(rankHeaders, `header assets on ~.*`+ends+` for 200 304 default Cache-Control "public, max-age=3600"`, "Styles, scripts, fonts and images are cached for an hour.")
	}
	s.add(rankHeaders, "header pages for 200 304 default Cache-Control no-cache", "Everything else is cached and revalidated each time: a change is seen at once.")
	s.add(rankHeaders, "header types set X-Content-Type-Options nosniff", "Browsers take files for what they are called.")
}

// text is the rulebook as it stands by now.
func (s *starter) text() string {
	head := fmt.Sprintf("%s: a first rulebook, written by kibitz start from what lies in %s\nRead it, change what is not so, and try it: kibitz check, kibitz replay requests.txt, kibitz serve.", s.Address.Host, folderName(s.Files))
	var b strings.Builder
	if s.Guessed {
		b.WriteString("# The address is made up: nothing in the folder says what it is. Write yours.\n")
	}
	fmt.Fprintf(&b, "site %s\n    address %s\n", siteName(s.Address.Host), s.Address.Origin())
	if other := otherName(s.Address.Host); other != "" {
		fmt.Fprintf(&b, "    hosts %s\n", other)
	}
	fmt.Fprintf(&b, "    files %s\n", rulebook.Quote(s.Files))
	for _, p := range s.paragraphs {
		if p.rank < 0 {
			fmt.Fprintf(&b, "    %s\n", p.entry)
		}
	}
	return layOut(head, b.String(), s.paragraphs)
}

// layOut gives a rulebook: a comment at its head, the site, and the entries by their ranks.
func layOut(head, site string, paragraphs []paragraph) string {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n# From top to bottom: the first entry that fits wins.\n\n%s", strings.ReplaceAll(head, "\n", "\n# "), site)
	ordered := slices.Clone(paragraphs)
	slices.SortStableFunc(ordered, func(a, b paragraph) int { return cmp.Compare(a.rank, b.rank) })
	last := -1
	for _, p := range ordered {
		if p.rank < 0 {
			continue
		}
		if p.rank != last {
			fmt.Fprintf(&b, "\n# %s\n\n", rankTitles[p.rank])
		}
		if p.why != "" && p.rank == last {
			b.WriteString("\n")
		}
		last = p.rank
		if p.why != "" {
			fmt.Fprintf(&b, "# %s\n", strings.ReplaceAll(p.why, "\n", "\n# "))
		}
		fmt.Fprintf(&b, "%s\n", p.entry)
	}
	laid, err := rulebook.Format("site.kibitz", []byte(b.String()))
	if err != nil {
		return b.String()
	}
	return string(laid)
}

func folderName(dir string) string {
	if dir == "." {
		return "this folder."
	}
	return strings.Join(strings.Fields(dir), " ") + "."
}

// siteName is made of the host.
func siteName(host string) string {
	name, _, _ := strings.Cut(strings.TrimPrefix(host, "www."), ".")
	switch {
	case strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789-") != "" || name == "":
		return "site"
	case rulebook.KindSite.Begins(name):
		return name + "-site"
	}
	return name
}

// held holds the rulebook to account: what check advises is taken as long as it helps, and
// what is left is accepted.
func (s *starter) held() (*engine.Engine, *proof.Report, error) {
	for range 20 {
		e, report, err := s.check()
		if err != nil {
			return nil, nil, err
		}
		bad := slices.DeleteFunc(slices.Clone(report.Findings), func(f *proof.Finding) bool { return f.Severity == proof.Note })
		if len(bad) == 0 {
			return e, report, nil
		}
		if !s.mend(bad) {
			s.accept(bad)
		}
	}
	return nil, nil, errors.New("the rulebook does not come to rest: write it by hand, or tell those who make Kibitz")
}

// check compiles the rulebook, and looks for what is wrong with it.
func (s *starter) check() (*engine.Engine, *proof.Report, error) {
	book, err := rulebook.Read("site.kibitz", []byte(s.text()), func(string) ([]byte, error) { return nil, errors.New("it is not read here") })
	if err != nil {
		return nil, nil, fmt.Errorf("what was written is not a rulebook (this is a fault of Kibitz's): %w", err)
	}
	e := engine.New(book, []*site.Tree{s.Tree})
	return e, proof.Check(e, 1), nil
}

// advised is what an advice says to write.
var advised = regexp.MustCompile(`   (access|redirect|reply|error|folder|media|header|compress) ([a-z0-9-]+) (.*)$`)

// mend takes the first advice that is an entry, and reports whether it leaves less to find.
func (s *starter) mend(bad []*proof.Finding) bool {
	ranks := map[string]int{"access": rankAccess, "redirect": rankName, "reply": rankMoved, "error": rankErrors, "folder": rankFolders, "media": rankWire, "header": rankHeaders, "compress": rankWire}
	for _, f := range bad {
		m := advised.FindStringSubmatch(f.Advice)
		if m == nil {
			continue
		}
		before := s.paragraphs
		s.paragraphs = append(slices.Clone(before), paragraph{rank: ranks[m[1]], why: comment(f.Message), entry: strings.TrimSpace(m[0])})
		if _, report, err := s.check(); err == nil && !slices.ContainsFunc(report.Findings, func(g *proof.Finding) bool { return g.Name == f.Name && g.Message == f.Message }) {
			return true
		}
		s.paragraphs = before
	}
	return false
}

// accept accepts the first of some findings, for the whole site or at its entry.
func (s *starter) accept(bad []*proof.Finding) {
	f := bad[0]
	s.accepted = append(s.accepted, f)
	line := fmt.Sprintf("accept %s %s", f.Name, rulebook.Quote("as kibitz start found it: "+comment(f.Message)))
	if len(f.Rules) > 0 {
		for i, p := range s.paragraphs {
			if words := strings.Fields(p.entry); p.rank >= 0 && len(words) > 1 && words[1] == f.Rules[0].Name {
				s.paragraphs[i].entry += "\n    " + line
				return
			}
		}
	}
	s.paragraphs = append(s.paragraphs, paragraph{rank: -1, entry: line})
}

func count(n int, what string) string {
	if n == 1 {
		return "one " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// comment is a message in one line.
func comment(message string) string { return strings.Join(strings.Fields(message), " ") }

// plainWord gives a text that stands in a rulebook as it is; false where it would not.
func plainWord(s string) (string, bool) {
	return s, s != "" && strings.Trim(s, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_./") == ""
}

// requests writes a list: one request of each kind, with what the rulebook answers.
func (s *starter) requests(e *engine.Engine) (text string, missing []Asked) {
	var b strings.Builder
	b.WriteString("# Requests with what they are answered: kibitz replay requests.txt sees whether that stays so.\n")
	seen := map[string]bool{}
	ask := func(why string, a request.Address) bool {
		target := a.String()
		if a.Origin() == s.Address.Origin() {
			target = a.Target()
		}
		if seen[target] || strings.ContainsAny(target, " #\"\\") || strings.ContainsFunc(target, func(r rune) bool { return r < ' ' || r > '~' }) {
			return false
		}
		seen[target] = true
		r := e.Predict(&request.Request{Address: a})
		if r.Word() != "" {
			return false
		}
		if why != "" {
			fmt.Fprintf(&b, "\n# %s\n", why)
		}
		fmt.Fprintf(&b, "%s => %d", target, r.Status)
		if r.Location != "" {
			fmt.Fprintf(&b, " %s", r.Location)
		} else if r.File != nil && r.Status == 200 {
			if word, ok := plainWord(r.File.Path); ok {
				fmt.Fprintf(&b, " file %s", word)
			}
		}
		b.WriteString("\n")
		return true
	}
	at := func(path string) request.Address {
		a := s.Address
		a.Path = path
		return a
	}
	ask("The home page, by each of its names.", at("/"))
	if s.Address.Scheme == "https" {
		a := at("/")
		a.SetScheme("http")
		ask("", a)
	}
	if other := otherName(s.Address.Host); other != "" {
		a := at("/")
		a.Host = other
		ask("", a)
	}
	ask("Nothing is there.", at("/no-such-page"))
	kinds := map[string]string{}
	s.Tree.Each(func(n *site.Node) {
		if end := strings.ToLower(path.Ext(n.Name())); !n.Folder && !n.Hidden && kinds[end] == "" {
			kinds[end] = n.Path
		}
	})
	why := "One file of each kind."
	for _, end := range slices.Sorted(maps.Keys(kinds)) {
		if ask(why, at(kinds[end])) {
			why = ""
		}
	}
	why = "A folder with its page, asked for without its slash; and one without a page."
	for _, n := range []*site.Node{s.folderWithPage(), first(s.bare)} {
		if n != nil && n.Path != "" {
			if ask(why, at(n.Path)) {
				why = ""
			}
			ask("", at(n.Path+"/"))
		}
	}
	why = "What visitors ask for most, as the lists tell."
	for _, a := range s.Asked {
		r := e.Predict(&request.Request{Address: a.Address})
		if r.Status == 404 || r.Status == 421 {
			if r.Status == 404 && len(missing) < 10 {
				missing = append(missing, a)
			}
			continue
		}
		if len(seen) < 60 {
			if ask(why, a.Address) {
				why = ""
			}
		}
	}
	return b.String(), missing
}

func (s *starter) folderWithPage() (found *site.Node) {
	s.Tree.Each(func(n *site.Node) {
		if found == nil && n.Folder && n.Path != "" && !n.Hidden && !strings.HasPrefix(n.Name(), ".") && !slices.Contains(s.bare, n) {
			found = n
		}
	})
	return found
}

func first[T any](list []*T) *T {
	for _, one := range list {
		return one
	}
	return nil
}

// FoundAddress looks into a tree for the address of its site: what its sitemap, its
// robots.txt or its home page say of themselves.
func FoundAddress(t *site.Tree) (request.Address, string, bool) {
	for _, place := range []struct {
		path string
		says *regexp.Regexp
	}{
		{"/sitemap.xml", regexp.MustCompile(`<loc>\s*(https?://[^<\s]+)`)},
		{"/robots.txt", regexp.MustCompile(`(?im)^\s*sitemap:\s*(https?://\S+)`)},
		{"/index.html", regexp.MustCompile(`(?i)<link\s[^>]*rel=["']?canonical["']?[^>]*href=["']?(https?://[^"'\s>]+)`)},
		{"/index.html", regexp.MustCompile(`(?i)<link\s[^>]*href=["']?(https?://[^"'\s>]+)["']?[^>]*rel=["']?canonical`)},
	} {
		n := t.Find(place.path)
		if n == nil || n.Folder {
			continue
		}
		text, err := n.Beginning(64 << 10)
		if m := place.says.FindSubmatch(text); err == nil && m != nil {
			if a, err := request.Parse(string(m[1]), request.Address{}); err == nil {
				a.Path, a.Query, a.HasQuery, a.Fragment = "/", "", false, ""
				return a, canonical.Decode(place.path), true
			}
		}
	}
	return request.Address{}, "", false
}
