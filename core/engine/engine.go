// Package engine predicts responses: a compiled rulebook, a tree, and one
// function from request to response.
//
// The steps of a prediction are those of docs/engine.md. They are written once,
// in answer.go; what differs is how the next fitting entry is found. The
// compiled way (dispatch.go) looks where it can stand; the other one (trace.go)
// looks at each entry in turn and says why it does not fit. Both must agree.
package engine

import (
	"bytes"
	"errors"
	"io"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"sync"

	"kibitz/core/pattern"
	"kibitz/core/representation"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// An Engine is a rulebook with its trees, ready to predict. It is safe for use
// by several goroutines.
type Engine struct {
	Book  *rulebook.Book
	sites []*siteEngine
	of    map[*rulebook.Site]*siteEngine
	exact map[string]*siteEngine // by host
	wild  []*siteEngine          // those that have patterns of hosts
	any   *siteEngine            // answers for unknown hosts

	cookies  map[string]bool // as Book.Cookies gives them
	policies bool            // header entries tell a referrer policy, and others look at referrers

	passwords *passwordCache
}

// siteEngine is one site's part.
type siteEngine struct {
	*rulebook.Site
	tree       *site.Tree         // empty where it is not known
	hasTree    bool               // which files there are is known
	hosts      []*pattern.Pattern // that are patterns
	entries    []*entry           // by position
	fields     []*classes
	fronts     fronts
	moved      movedRows
	groups     [groupCount][]*entry
	inputs     *Inputs
	findInputs sync.Once
	texts      sync.Map // whether a file, a *site.Node, is UTF-8
	encoded    sync.Map // sizes of files that are encoded, int64 by encodedKey
	fixed      bool     // no header entry copies a value
	validators bool     // some header entry says what conditions are held against
}

// A group is a set of kinds that are read together.
type group uint8

const (
	groupReading group = iota
	groupFallback
	groupError
	groupFolder
	groupHeader
	groupMedia
	groupCompress
	groupHint
	groupLimit
	groupCount
)

// A kind is what the engine does with entries of a kind: in which group they are read, and,
// of those that are read in order, what one does that fits. Each stands where it is done.
type kind struct {
	group group
	read  func(s *state, r *Response, e *entry) step
}

// A step is what follows an entry of the reading.
type step uint8

const (
	goOn     step = iota // to the next entry
	answered             // r is the answer
	settled              // no entry below answers: the tree does
	again                // from the top
)

var kinds = map[rulebook.Kind]kind{}

func kindOf(k rulebook.Kind) kind {
	of, ok := kinds[k]
	if !ok {
		panic("the engine does nothing with " + string(k))
	}
	return of
}

// does says what entries of a kind do.
func does(k rulebook.Kind, in group, read func(s *state, r *Response, e *entry) step) {
	kinds[k] = kind{in, read}
}

// New compiles a rulebook; trees has the tree of each site, in their order (nil
// for one that is not known).
func New(book *rulebook.Book, trees []*site.Tree) *Engine {
	next := 0
	e, _ := Load(book, func(*rulebook.Site) (*site.Tree, error) {
		next++
		return trees[next-1], nil
	})
	return e
}

// With compiles another rulebook for the same trees, whose sites are the same.
func (e *Engine) With(book *rulebook.Book) *Engine {
	trees := make([]*site.Tree, len(book.Sites))
	for i, s := range e.Book.Sites {
		if e.KnowsTree(s) && i < len(trees) {
			trees[i] = e.Tree(s)
		}
	}
	other := New(book, trees)
	other.passwords = e.passwords // of which it is known that they fit
	return other
}

// Load compiles a rulebook, and has the tree of each site read meanwhile, in their
// order (nil for one that is not known). An error is that of a tree.
func Load(book *rulebook.Book, tree func(*rulebook.Site) (*site.Tree, error)) (*Engine, error) {
	e := &Engine{Book: book, cookies: book.Cookies(), policies: len(book.Sets("Referrer-Policy")) > 0 && book.Reads("referer"), passwords: &passwordCache{}, of: map[*rulebook.Site]*siteEngine{}, exact: map[string]*siteEngine{}}
	var compiling sync.WaitGroup
	defer compiling.Wait()
	for _, s := range book.Sites {
		e.of[s] = &siteEngine{Site: s}
		e.sites = append(e.sites, e.of[s])
	}
	compiling.Go(func() {
		for _, s := range e.sites {
			s.compile()
		}
	})
	for _, se := range e.sites {
		s := se.Site
		var err error
		if se.tree, err = tree(s); err != nil {
			return nil, err
		}
		if se.hasTree = se.tree != nil; !se.hasTree {
			se.tree = site.New()
		}
		if s.UnknownHosts && e.any == nil {
			e.any = se
		}
		for _, h := range s.Hosts {
			name, literal := h.Literal()
			if !literal {
				se.hosts = append(se.hosts, h)
			} else if e.exact[name] == nil {
				e.exact[name] = se
			}
		}
		if len(se.hosts) > 0 {
			e.wild = append(e.wild, se)
		}
	}
	compiling.Wait()
	return e, nil
}

// siteFor gives the site that answers for a host, or nil.
func (e *Engine) siteFor(host string) *siteEngine {
	if s := e.exact[host]; s != nil {
		return s
	}
	for _, s := range e.wild {
		for _, h := range s.hosts {
			if h.Match(host) {
				return s
			}
		}
	}
	return e.any
}

// KnowsTree reports whether it is known which files a site of the rulebook has.
func (e *Engine) KnowsTree(s *rulebook.Site) bool {
	se := e.of[s]
	return se != nil && se.hasTree
}

// Tree gives the tree of a site of the rulebook; an empty one where it is not known.
func (e *Engine) Tree(s *rulebook.Site) *site.Tree {
	if se := e.of[s]; se != nil {
		return se.tree
	}
	return nil
}

// IsUTF8 reports whether a file of a site's tree begins as UTF-8 does; one whose content
// is not known is taken for it.
func (e *Engine) IsUTF8(s *rulebook.Site, n *site.Node) bool {
	se := e.of[s]
	return se == nil || se.isUTF8(n)
}

// SiteFor gives the site that answers for a host; nil if none does.
func (e *Engine) SiteFor(host string) *rulebook.Site {
	if s := e.siteFor(host); s != nil {
		return s.Site
	}
	return nil
}

// Met gives the entries of the reading that take a request, in the order in
// which it comes to them: what rewrites and lets pass, and what answers.
func (e *Engine) Met(req *request.Request) []*rulebook.Rule { return e.met(req, false) }

// MetInside is Met for a visitor whom every `ask` entry lets in.
func (e *Engine) MetInside(req *request.Request) []*rulebook.Rule { return e.met(req, true) }

func (e *Engine) met(req *request.Request, inside bool) []*rulebook.Rule {
	met := make([]*rulebook.Rule, 0, 4)
	s := &state{engine: e, req: req, find: compiled{}, light: true, entriesRead: &met, inside: inside}
	if r := (&Response{}); s.receive(r) && !s.limits(r) {
		s.reading(r)
	}
	return met
}

// Holds decides one test for a request as it is asked, of a host that a site answers
// for.
func (e *Engine) Holds(t *rulebook.Test, req *request.Request) bool {
	s := &state{engine: e, req: req, find: compiled{}}
	return (t.Field.Row().Front || s.receive(&Response{})) && s.test(t)
}

// Takes reports whether a rule's selectors take a request as it is asked.
func (e *Engine) Takes(r *rulebook.Rule, req *request.Request) bool {
	s := &state{engine: e, req: req, find: inOrder{}}
	return s.receive(&Response{}) && s.misfit(r) == ""
}

// Serves reports whether a site of the rulebook answers for the host.
func (e *Engine) Serves(host string) bool { return e.siteFor(host) != nil }

// ReadsQuery reports whether entries of the site that answers for host look at
// queries.
func (e *Engine) ReadsQuery(host string) bool {
	return e.Inputs(host).Query
}

// SetsCookies reports whether a header entry sets a cookie.
func (e *Engine) SetsCookies() bool { return e.cookies != nil }

// Instructs reports whether what browsers send with their next request may hang on the header
// of an answer: on the cookies that it sets, or on its referrer policy where an entry looks at
// referrers.
func (e *Engine) Instructs() bool { return e.cookies != nil || e.policies }

// MaySet reports whether what a field reads of a request may be a cookie that a header entry has
// set with an answer before.
func (e *Engine) MaySet(f rulebook.Field) bool {
	from := f.Row().Header
	return from != nil && from(f.Name) == "cookie" && (strings.EqualFold(f.Name, "cookie") && e.cookies != nil || e.cookies[f.Name] || e.cookies[""])
}

// Loopback is the address of a client on this machine.
var Loopback = netip.AddrFrom4([4]byte{127, 0, 0, 1})

// A Cause says why an answer is what it is.
type Cause string

const (
	CauseBadRequest   Cause = "bad-request"
	CauseUnknownHost  Cause = "unknown-host"
	CauseTooLarge     Cause = "too-large"
	CauseRefused      Cause = "refused"
	CauseAsked        Cause = "asked"
	CauseRedirect     Cause = "redirect"
	CauseReply        Cause = "reply"
	CauseHandoff      Cause = "handoff"
	CauseRewriteLoop  Cause = "rewrite-loop"
	CauseBadTarget    Cause = "bad-target"
	CauseOptions      Cause = "options"
	CauseMethod       Cause = "method"
	CauseSlash        Cause = "slash"
	CauseFile         Cause = "file"
	CauseDocument     Cause = "document"
	CauseListing      Cause = "listing"
	CauseFallback     Cause = "fallback"
	CauseNoDocument   Cause = "no-document"
	CauseMissing      Cause = "missing"
	CauseUnchanged    Cause = "unchanged"
	CausePrecondition Cause = "precondition"
	CauseRange        Cause = "range"
	CauseUnknownTree  Cause = "unknown-tree"
)

// A Word stands in the place of a status that is not known.
type Word string

const (
	WordApp   Word = request.StatusApp   // an application answers
	WordFiles Word = request.StatusFiles // the site's files decide, and its tree is not known
)

// Word is what stands in the place of a status, where nothing here decides it; "" where
// there is one.
func (c Cause) Word() Word {
	switch c {
	case CauseHandoff:
		return WordApp
	case CauseUnknownTree:
		return WordFiles
	}
	return ""
}

// Word is that of the answer's cause.
func (r *Response) Word() Word { return r.Cause.Word() }

// StatusText is the status as it is listed: a number, or the word in its place.
func StatusText(r *Response) string {
	if r.Word() != "" {
		return string(r.Word())
	}
	return strconv.Itoa(r.Status)
}

// StatusFits compares a status with a code, a class like 4xx, or a word.
func StatusFits(word string, r *Response) bool {
	text := StatusText(r)
	return text == word || strings.HasSuffix(word, "xx") && text[0] == word[0] && r.Word() == ""
}

// MaxRedirects is how many redirects a browser follows.
const MaxRedirects = 20

// A Response is what the site answers.
type Response struct {
	Status   int // 0 where nothing here decides it, and the cause has a Word
	Cause    Cause
	By       *rulebook.Rule // the entry that gave the status; nil for none
	Row      *rulebook.Row  // of a moves table
	Location string
	Headers  []request.Header
	File     *site.Node // what is served, an error page too
	Type     string     // media type without parameters
	Size     int64      // bytes of the representation; -1 where it is not known
	Encoded  int64      // bytes over the wire, where it is encoded
	Encoding string
	Hints    []string // values of Link in the early hints

	Site  *rulebook.Site
	Path  string // as the reading left it
	Query string

	copied  bool       // something is made of what the request says beside its address
	queried bool       // the query was looked at
	content []byte     // of what is not a file, or a filled page
	varies  bool       // it may be sent in several encodings
	first   int64      // of the bytes that are sent, for a part
	stored  *site.Node // the sibling that is sent in the file's place
	level   int        // of encoding
}

// Copied reports whether something in the answer is made of a value of the request,
// like its client or a header field: another request that fits the same entries may
// then have another answer. What Outcome gives has no headers: there, one that copies a
// value counts only where it is not valid, and plain values (Inputs.Header) are all alike.
func (r *Response) Copied() bool { return r.copied }

// Queried reports whether an entry looked at the query: where none did, the answer is the same
// for any other, but for the query of its Location. What only a header entry looks at does not
// count where Outcome does not need it.
func (r *Response) Queried() bool { return r.queried }

// Varies reports whether the answer may be sent in several encodings, so that what lies
// between must be told (RFC 9110, 12.5.5).
func (r *Response) Varies() bool { return r.varies }

// Get gives the value of a response header, and whether there is one.
func (r *Response) Get(name string) (string, bool) {
	req := request.Request{Headers: r.Headers}
	return req.Get(name)
}

// A Body is what goes over the wire. It must be closed.
type Body struct {
	io.Reader
	file io.Closer // nil for what is in memory
}

// Close closes the file, if it is one's.
func (b *Body) Close() error {
	if b.file == nil {
		return nil
	}
	return b.file.Close()
}

// Open opens the body: encoded, or a part, as the header says. It fails where only an
// inventory is known, or the file is not as it was.
func (r *Response) Open() (*Body, error) {
	if bodiless(r.Status) {
		return &Body{Reader: http.NoBody}, nil
	}
	file := r.stored
	if file == nil && r.content == nil && r.Encoding == "" {
		file = r.File
	}
	if file == nil {
		return r.inMemory()
	}
	in, err := file.Open()
	if err != nil {
		return nil, err
	}
	size, err := in.Seek(0, io.SeekEnd)
	if err == nil && size != file.Size {
		err = ErrChanged
	}
	if err == nil {
		_, err = in.Seek(r.first, io.SeekStart)
	}
	if err != nil {
		in.Close()
		return nil, err
	}
	return &Body{io.LimitReader(in, r.Encoded), in}, nil
}

// inMemory gives a body that is made.
func (r *Response) inMemory() (*Body, error) {
	content, err := r.Content()
	if err == nil && r.Encoding != "" {
		content = representation.Encode(content, r.Encoding, r.level)
	}
	if err != nil {
		return nil, err
	}
	if r.Status == http.StatusPartialContent {
		if r.first+r.Encoded > int64(len(content)) {
			return nil, ErrChanged
		}
		content = content[r.first : r.first+r.Encoded]
	}
	return &Body{Reader: bytes.NewReader(content)}, nil
}

// ErrChanged is the error of Open for a file of another size than it had.
var ErrChanged = errors.New("the file has changed since the tree was read")

// Content gives the bytes of what is sent, before they are encoded, of up to site.MaxWhole.
// It fails where only an inventory is known.
func (r *Response) Content() ([]byte, error) {
	if r.content != nil || r.File == nil {
		return r.content, nil
	}
	return r.File.Read()
}
