package rulebook

// Reading: from entries to typed rules.

import (
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"kibitz/core/canonical"
	"kibitz/core/pattern"
	"kibitz/core/request"
)

// Load reads the rulebook in the file name, with all that it includes. Mistakes
// in it come as Errors, all of them at once. seen, which may be nil, is told of each file
// that is read, several at once.
func Load(name string, seen func(name string)) (*Book, error) {
	if seen == nil {
		seen = func(string) {}
	}
	seen(name)
	text, err := readFile(name, fs.ModeNamedPipe)
	if err != nil {
		return nil, err
	}
	return Read(name, text, func(name string) ([]byte, error) {
		seen(name)
		return ReadFile(name)
	})
}

// MaxFile is the size in bytes up to which a file is read that a rulebook names.
const MaxFile = 256 << 20

// ReadFile reads a file that a rulebook names: a plain one, since any other may
// never end, or never begin; and none over MaxFile.
func ReadFile(name string) ([]byte, error) { return readFile(name, 0) }

// readFile is ReadFile, for files of some other modes, too.
func readFile(name string, modes fs.FileMode) ([]byte, error) {
	info, err := os.Stat(name)
	switch {
	case err != nil:
		return nil, err
	case info.IsDir():
		return nil, fmt.Errorf("%s is a folder", name)
	case info.Mode().Type()&^modes != 0:
		return nil, fmt.Errorf("%s is not a plain file", name)
	case info.Size() > MaxFile:
		return nil, fmt.Errorf("%s is larger than %d MiB", name, MaxFile>>20)
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	text := bytes.NewBuffer(make([]byte, 0, info.Size()+bytes.MinRead))
	if _, err = text.ReadFrom(io.LimitReader(f, MaxFile+1)); err == nil && text.Len() > MaxFile {
		err = fmt.Errorf("%s is larger than %d MiB", name, MaxFile>>20)
	}
	return text.Bytes(), err
}

// Read reads the rulebook text, which errors call name; load gives the content
// of the files that it names, several at once. Mistakes in it come as Errors, all of them at once.
func Read(name string, text []byte, load func(string) ([]byte, error)) (*Book, error) {
	return readWith(name, text, load, nil)
}

// readWith is Read, with patterns that have been read before.
func readWith(name string, text []byte, load func(string) ([]byte, error), made map[writtenPattern]*pattern.Pattern) (*Book, error) {
	b := &builder{Book: &Book{}, made: made, load: load, lists: map[string][]Word{}, hosts: map[string]*Site{}, sites: map[string]bool{}, main: name}
	b.file(name, text, nil)
	b.Entries = slices.Clone(b.entries)
	b.findLists()
	b.Rules, b.named = make([]*Rule, 0, len(b.entries)), make(map[string][]*Rule, len(b.entries))
	rules := make([]Rule, len(b.entries)) // side by side
	for i, e := range b.entries {
		b.entry(e, &rules[i])
	}
	b.fill()
	if len(b.Sites) == 0 && len(b.errs) == 0 {
		src := &Source{Name: name, Lines: []string{""}}
		b.errs.add(Place{src, 1, 1}, 1, "the rulebook has no site: begin it with `site NAME address https://…`, its folder as `files DIR`")
	}
	if len(b.errs) > 0 {
		b.errs.sort()
		return nil, b.errs
	}
	all := 0 // entries for all sites: they stand above the first
	for all < len(b.Rules) && b.Rules[all].Site == nil {
		all++
	}
	for _, s := range b.Sites {
		s.Rules = slices.Clone(b.Rules[:all])
	}
	for _, r := range b.Rules[all:] {
		r.Site.Rules = append(r.Site.Rules, r)
	}
	b.Book.made = sync.OnceValue(b.Book.patterns)
	return b.Book, nil
}

// builder makes a Book of entries.
type builder struct {
	*Book
	errs    Errors
	made    map[writtenPattern]*pattern.Pattern // with what has been worked out of them
	load    func(string) ([]byte, error)
	main    string
	entries []*Entry
	lists   map[string][]Word
	named   map[string][]*Rule
	hosts   map[string]*Site // by the host or its pattern
	sites   map[string]bool  // by name
	site    *Site            // what the entries at hand belong to; nil: all sites
}

// maxSources bounds how many files a rulebook may include, each time counted.
const maxSources = 1000

// file reads one source, and what it includes; above are the files that
// include it.
func (b *builder) file(name string, text []byte, above []string) {
	src, lines := scan(name, text, &b.errs)
	b.Sources = append(b.Sources, src)
	above = append(above, filepath.Clean(name))
	for _, e := range entries(lines, &b.errs) {
		if Kind(e.Kind.Text) != KindInclude {
			b.entries = append(b.entries, e)
			continue
		}
		w := e.Values[0]
		inner := b.path(w)
		if slices.Contains(above, filepath.Clean(inner)) {
			b.errs.at(w, "these files include each other in a circle: %s", strings.Join(append(above, inner), " includes "))
			continue
		}
		if len(b.Sources) >= maxSources {
			b.errs.at(w, "the rulebook includes more than %d files", maxSources)
			return
		}
		text, err := b.load(inner)
		if err != nil {
			b.errs.at(w, "the rulebook to include cannot be read: %v", err)
			continue
		}
		b.file(inner, text, above)
	}
}

// path gives a file name relative to the file that names it.
func (b *builder) path(w Word) string {
	if filepath.IsAbs(w.Text) {
		return w.Text
	}
	return filepath.Join(filepath.Dir(w.Place.Source.Name), w.Text)
}

func (b *builder) findLists() {
	b.entries = slices.DeleteFunc(b.entries, func(e *Entry) bool {
		if Kind(e.Kind.Text) != KindList {
			return false
		}
		if _, ok := b.lists[e.Name.Text]; ok {
			b.errs.at(*e.Name, "there are two lists called `%s`", e.Name.Text)
		}
		for _, v := range e.Values {
			if !v.Quoted && strings.HasPrefix(v.Text, "{") && strings.HasSuffix(v.Text, "}") {
				b.errs.at(v, "a list holds no lists: name both where they are used")
			}
		}
		b.lists[e.Name.Text] = e.Values
		b.Lists = append(b.Lists, List{Name: e.Name.Text, Place: e.Kind.Place})
		return true
	})
}

func (b *builder) entry(e *Entry, r *Rule) {
	kind := Kind(e.Kind.Text)
	if kind == KindSite {
		b.newSite(e)
		return
	}
	*r = Rule{Kind: kind, Place: e.Kind.Place, Number: len(b.Rules), Site: b.site, Entry: e}
	r.Name = b.name(e)
	for _, other := range b.named[r.Name] {
		if other.Site == r.Site || other.Site == nil || r.Site == nil {
			at := e.Kind
			if e.Name != nil {
				at = *e.Name
			}
			b.errs.at(at, "the name `%s` is taken by the %s at %s: names are unique within a site", r.Name, other.Kind, other.Place)
		}
	}
	b.Rules = append(b.Rules, r)
	b.named[r.Name] = append(b.named[r.Name], r)
}

// fill reads what the rules say, several at once: from here on they know nothing of
// each other.
func (b *builder) fill() {
	together(len(b.Rules), &b.errs, func(from, to int, errs *Errors) {
		part := *b
		part.errs = nil
		for _, r := range b.Rules[from:to] {
			part.site = r.Site
			captures := part.selectors(r)
			r.Action = part.action(r, captures)
			part.needsTree(r)
		}
		*errs = part.errs
	})
}

// needsTree refuses what asks for files where no site says which there are.
func (b *builder) needsTree(r *Rule) {
	if r.Site != nil && r.Site.HasTree() || r.Site == nil && (len(b.Sites) == 0 || slices.ContainsFunc(b.Sites, (*Site).HasTree)) {
		return
	}
	const add = "the site does not say which files it has: add `files DIR` or `inventory FILE` to it"
	switch r.Kind {
	case KindFallback, KindFolder:
		b.errs.at(r.Entry.Kind, "a `%s` is about files, and %s", r.Kind, add)
	}
	if c := r.Entry.clause("show"); c != nil {
		b.errs.at(c.Keyword, "`show` shows a file, and %s", add)
	}
	for _, t := range r.Tests {
		if t.Field.Kind == FieldFile {
			b.errs.add(t.Place, t.Width, "`file` asks for files, and %s", add)
		}
	}
}

func (b *builder) name(e *Entry) string {
	switch {
	case e.Name != nil:
		return e.Name.Text
	case e.Kind.Place.Source.Name == b.main:
		return fmt.Sprintf("%s:%d", e.Kind.Text, e.Kind.Place.Line)
	}
	return fmt.Sprintf("%s:%s:%d", e.Kind.Text, filepath.Base(e.Kind.Place.Source.Name), e.Kind.Place.Line)
}

func (b *builder) newSite(e *Entry) {
	s := &Site{Place: e.Kind.Place}
	b.site = s
	b.Sites = append(b.Sites, s)
	if e.Name == nil {
		b.errs.at(e.Kind, "a site needs a name: site NAME address https://…")
		return
	}
	s.Name = e.Name.Text
	if b.sites[s.Name] {
		b.errs.at(*e.Name, "there are two sites called `%s`", s.Name)
	}
	b.sites[s.Name] = true
	for _, c := range e.Clauses {
		w := c.Values[0]
		switch c.Keyword.Text {
		case "address":
			a, err := request.Parse(w.Text, request.Address{})
			switch {
			case err != nil || strings.HasPrefix(w.Text, "/"):
				b.errs.at(w, "a site's address is a full URL, like https://saltmarsh-ferries.example")
				continue
			case a.Path != "/" || a.HasQuery || a.Fragment != "":
				b.errs.at(w, "a site's address ends with its host: write %s", a.Origin())
			}
			s.Address = a
			host, err := pattern.Host(a.Host)
			if err != nil {
				b.errs.at(w, "%v", err)
				continue
			}
			b.answers(s, host, w)
			s.Hosts = append([]*pattern.Pattern{host}, s.Hosts...)
		case "hosts":
			for _, w := range c.Values {
				p, err := pattern.Host(w.Text)
				if err != nil {
					b.errs.pattern(w, err, 0)
					continue
				}
				b.answers(s, p, w)
				s.Hosts = append(s.Hosts, p)
			}
		case "files":
			s.Files = b.path(w)
		case "inventory":
			s.Inventory = b.path(w)
		case "accept":
			s.Accepts = append(s.Accepts, b.accept(&c))
		case "slashes":
			s.KeepSlashes = b.choice(w, "merge", "keep") == "keep"
		case "unknown-hosts":
			if s.UnknownHosts = b.choice(w, "answer") == "answer"; !s.UnknownHosts {
				continue
			}
			if i := slices.IndexFunc(b.Sites, func(other *Site) bool { return other != s && other.UnknownHosts }); i >= 0 {
				b.errs.at(c.Keyword, "site `%s` answers for unknown hosts already: only one can", b.Sites[i].Name)
			}
		}
	}
	if s.Files != "" && s.Inventory != "" {
		b.errs.at(e.clause("inventory").Keyword, "a site has `files` or an `inventory`, not both")
	}
}

// accept reads which finding is meant, and why.
func (b *builder) accept(c *Clause) Accept {
	if !c.Values[1].Quoted {
		b.errs.at(c.Values[1], `a reason stands in quotes: accept %s "why this is meant"`, c.Values[0].Text)
	}
	return Accept{c.Keyword.Place, c.width(), c.Values[0].Text, c.Values[1].Text}
}

// answers notes the site of a host, which can have only one.
func (b *builder) answers(s *Site, host *pattern.Pattern, w Word) {
	key := host.String()
	if name, plain := host.Literal(); plain {
		key = name
	}
	other := b.hosts[key]
	switch {
	case other == nil:
		b.hosts[key] = s
	case other != s:
		b.errs.at(w, "site `%s` answers for %s already: sites are told apart by their hosts alone, not by scheme or port", other.Name, host)
	}
}

// choice reads a word that is one of a few.
func (b *builder) choice(w Word, known ...string) string {
	if slices.Contains(known, w.Text) && !w.Quoted {
		return w.Text
	}
	b.errs.at(w, "`%s` does not go here%s", shorten(w.Text), orNearest(w.Text, known))
	return ""
}

// selectors reads what every rule may have, and gives the names of its captures.
func (b *builder) selectors(r *Rule) (captures []string) {
	add := func(w Word, names []string, numbers bool) {
		for _, name := range names {
			if name == Below {
				b.errs.at(w, "{%s} is what the path has below the folder of `in`: give the group another name", name)
			}
			_, err := strconv.Atoi(name)
			if err == nil && !numbers || slices.Contains(captures, name) {
				continue
			}
			if _, taken := parseField(name); taken {
				b.errs.at(w, "{%s} is a field of the request already: give the group another name", name)
			}
			captures = append(captures, name)
		}
	}
	if c := r.Entry.clause("ignoring"); c != nil {
		r.Fold = b.choice(c.Values[0], "case") != ""
	}
	for i := range r.Entry.Clauses {
		c := &r.Entry.Clauses[i]
		switch c.Keyword.Text {
		case "on":
			for _, w := range c.Values {
				if p := b.pathPattern(w, r.Fold); p != nil {
					r.On = append(r.On, p)
					add(w, p.Names(), true)
				}
			}
		case "in":
			for _, w := range c.Values {
				if folder, ok := b.folder(w, r.Kind, r.Fold); ok {
					r.In = append(r.In, folder)
				}
			}
			captures = append(captures, Below)
		case "when", "unless":
			t := b.test(c)
			if t == nil {
				continue
			}
			r.Tests = append(r.Tests, t)
			if t.Unless {
				continue
			}
			for _, v := range t.Values {
				switch {
				case v.Pattern != nil:
					add(c.Values[0], v.Pattern.Names(), false)
				case v.Kind == ValueRegexp:
					add(c.Values[0], slices.DeleteFunc(slices.Clone(v.Regexp.SubexpNames()), func(s string) bool { return s == "" }), false)
				}
			}
		case "example":
			b.example(r, c)
		case "accept":
			r.Accepts = append(r.Accepts, b.accept(c))
		}
	}
	return captures
}

// A writtenPattern is all that the pattern of a path is made from.
type writtenPattern struct {
	text                     string
	quoted, fold, keepsSlash bool
}

// patterns gives those of all entries, by what they are made from.
func (b *Book) patterns() map[writtenPattern]*pattern.Pattern {
	made := make(map[writtenPattern]*pattern.Pattern, len(b.Rules))
	reader := builder{Book: b}
	for _, r := range b.Rules {
		reader.site = r.Site
		n := 0
		for _, c := range r.Entry.Clauses {
			if c.Keyword.Text != "on" {
				continue
			}
			for _, w := range c.Values {
				made[writtenPattern{w.Text, w.Quoted, r.Fold, reader.keepsSlashes()}] = r.On[n]
				n++
			}
		}
	}
	return made
}

func (b *builder) pathPattern(w Word, fold bool) *pattern.Pattern {
	if p := b.made[writtenPattern{w.Text, w.Quoted, fold, b.keepsSlashes()}]; p != nil {
		return p
	}
	var p *pattern.Pattern
	var err error
	switch {
	case w.Quoted: // plain text
		p, err = pattern.Path(pattern.Escape(w.Text), fold)
	case strings.HasPrefix(w.Text, "~"):
		p, err = pattern.PathRegexp(w.Text[1:], fold)
	default:
		p, err = pattern.Path(w.Text, fold)
	}
	if err == nil && !b.keepsSlashes() {
		err = p.Merged()
	}
	if err != nil {
		if said := noPath(w.Text, everyClause()); said != "" && !w.Quoted && !strings.HasPrefix(w.Text, "/") && !strings.HasPrefix(w.Text, "~") {
			err = &pattern.Error{Message: said}
		}
		b.errs.pattern(w, err, 0)
		return nil
	}
	return p
}

// keepsSlashes reports whether a path can have runs of slashes where the entry at
// hand is read.
func (b *builder) keepsSlashes() bool {
	if b.site != nil {
		return b.site.KeepSlashes
	}
	return slices.ContainsFunc(b.Sites, func(s *Site) bool { return s.KeepSlashes })
}

// folder reads the value of `in`.
func (b *builder) folder(w Word, kind Kind, fold bool) (string, bool) {
	if i := strings.IndexAny(w.Text, "*{"); i >= 0 && !w.Quoted {
		b.errs.at(w, "a folder holds no wildcards: everything below it is taken already; for patterns write `on %s`", shorten(w.Text))
		return "", false
	}
	if !strings.HasPrefix(w.Text, "/") {
		if _, keyword := kind.form(w.Text); keyword {
			b.errs.at(w, "`%s` is not a folder; and if `in` is meant as the name of this entry, call it something else: `in` begins a clause", w.Text)
			return "", false
		}
		if said := noPath(w.Text, kind.Keywords()); said != "" && !w.Quoted {
			b.errs.at(w, "%s", said)
			return "", false
		}
		b.errs.at(w, "a folder begins with a slash: write /%s", shorten(w.Text))
		return "", false
	}
	if _, err := canonical.Target(w.Text, true); err != nil || strings.Contains(w.Text, "//") && !b.keepsSlashes() {
		b.errs.at(w, "%s is not a folder of a site: write it without //, . and .. segments", shorten(w.Text))
		return "", false
	}
	folder, _ := canonical.Target(w.Text, true)
	folder = strings.TrimSuffix(folder, "/")
	if fold {
		folder = canonical.Fold(folder)
	}
	return folder, true
}

func (b *builder) example(r *Rule, c *Clause) {
	words := c.Values
	i := slices.IndexFunc(words, func(w Word) bool { return w.Text == "=>" })
	if i < 1 || i > 2 {
		b.errs.at(words[0], "an example is a request, => and what is expected, like `example /fares => 301 /prices`")
		return
	}
	ex := Example{Place: c.Keyword.Place, Width: c.end().Col - c.Keyword.Place.Col, Method: "GET", URL: words[i-1].Text}
	if c.end().Line != c.Keyword.Place.Line {
		ex.Width = c.Keyword.Width
	}
	if i == 2 {
		ex.Method = words[0].Text
		if !request.IsMethod(ex.Method) {
			b.errs.at(words[0], "`%s` is not a method: methods are written in capitals", shorten(words[0].Text))
		}
	}
	base := request.Address{Scheme: "https", Host: "site.example"}
	if _, err := request.Parse(ex.URL, base); err != nil {
		b.errs.at(words[i-1], "%v", err)
	}
	var expected []string
	for _, w := range words[i+1:] {
		expected = append(expected, w.Text)
	}
	if err := ex.Expects.Expect(expected); err != nil {
		b.errs.at(words[i], "%v", err)
	}
	r.Examples = append(r.Examples, ex)
}

func (b *builder) redirectStatus(w Word) int {
	switch b.choice(w, "permanent", "temporary", "301", "302", "303", "307", "308") {
	case "permanent", "301":
		return 301
	case "temporary", "302":
		return 302
	case "303":
		return 303
	case "307":
		return 307
	case "308":
		return 308
	}
	return 0
}

func (b *builder) status(w Word, low, high int) int {
	n, err := strconv.Atoi(w.Text)
	if err != nil || n < low || n > high {
		b.errs.at(w, "%s is not a status from %d to %d", w.Quote(), low, high)
		return low
	}
	return n
}

// statuses reads codes and classes, from least×100 on.
func (b *builder) statuses(words []Word, least int) Statuses {
	s := Statuses{codes: map[int]bool{}}
	for _, w := range words {
		s.words = append(s.words, w.Text)
		if len(w.Text) == 3 && strings.HasSuffix(w.Text, "xx") && w.Text[0] >= '0'+byte(least) && w.Text[0] <= '5' {
			s.classes[w.Text[0]-'0'] = true
			continue
		}
		n, err := strconv.Atoi(w.Text)
		if err != nil || n < least*100 || n > 599 {
			b.errs.at(w, "%s is not a status: write a number from %d00 to 599, or a class like %dxx", w.Quote(), least, max(least, 4))
			continue
		}
		s.codes[n] = true
	}
	return s
}

// query reads what becomes of the request's query.
func (b *builder) query(e *Entry, to *Template) Query {
	writesQuery := to != nil && to.HasQuery
	c := e.clause("query")
	if c == nil {
		if writesQuery {
			return Query{Mode: QueryDrop}
		}
		return Query{Mode: QueryKeep}
	}
	w := c.Values[0]
	mode := b.choice(w, "keep", "merge", "only", "drop")
	if mode != "only" && len(c.Values) > 1 {
		b.errs.at(c.Values[1], "`query %s` takes no names; `query only NAME…` does", mode)
	}
	switch mode {
	case "keep":
		q := Query{Mode: QueryKeep, Said: true}
		if writesQuery {
			b.errs.at(w, "%s", q.beside(""))
		}
		return q
	case "merge":
		return Query{Mode: QueryMerge}
	case "only":
		if len(c.Values) == 1 {
			b.errs.at(w, "`query only` needs the names of the parameters to send along")
		}
		q := Query{Mode: QueryOnly}
		for _, w := range c.Values[1:] {
			q.Only = append(q.Only, w.Text)
		}
		if writesQuery {
			text := ""
			for _, p := range to.Query {
				text += p.Text
			}
			if problem := q.beside(text); problem != "" {
				b.errs.at(w, "%s", problem)
			}
		}
		return q
	case "drop":
		return Query{Mode: QueryDrop}
	}
	return Query{}
}

// body reads `show` or `text`.
func (b *builder) body(e *Entry, captures []string) Body {
	show, text := e.clause("show"), e.clause("text")
	var body Body
	if show != nil && text != nil {
		b.errs.at(text.Keyword, "`show` and `text` do not go together: keep one of them")
	}
	if show != nil {
		w := show.Values[0]
		path, err := canonical.Target(w.Text, false)
		switch {
		case !strings.HasPrefix(w.Text, "/"):
			b.errs.at(w, "`show` names a path in the site's tree: write /%s", shorten(w.Text))
		case err != nil || strings.HasSuffix(path, "/"):
			b.errs.at(w, "%s is not a file in the site's tree", shorten(w.Text))
		default:
			body.Show = path
		}
	}
	if text != nil {
		body.Text = b.text(text.Values, captures)
	}
	return body
}

func (b *builder) onOff(e *Entry, word string) *bool {
	c := e.clause(word)
	if c == nil {
		return nil
	}
	on := b.choice(c.Values[0], "on", "off") == "on"
	return &on
}

// action reads the clauses of the rule's own kind.
func (b *builder) action(r *Rule, captures []string) Action {
	row := rowOf(r.Kind)
	own := func(c Clause) bool { _, ok := row.clauses[c.Keyword.Text]; return ok }
	if row.setting && !slices.ContainsFunc(r.Entry.Clauses, own) {
		b.errs.at(r.Entry.Kind, "this `%s` says nothing%s", r.Kind, orNearest("", Clauses(r.Kind)))
		return nil
	}
	return row.read(b, r, captures)
}
