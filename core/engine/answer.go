package engine

// The way of a request, step by step.

import (
	"net/http"
	"strings"
	"sync"

	"kibitz/core/canonical"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// Predict gives the response to a request. It has no input but the rulebook,
// the trees and the request.
func (e *Engine) Predict(req *request.Request) *Response {
	return e.answer(req, compiled{}, nil)
}

// Trace is Predict, with the way to the answer. It looks at each entry in turn.
func (e *Engine) Trace(req *request.Request) (*Response, *Trace) {
	t := &Trace{}
	return e.answer(req, inOrder{}, t), t
}

// Outcome is Predict without the header: status, cause, entry, Location, file,
// media type and sizes are the same. The response is put into into.
func (e *Engine) Outcome(req *request.Request, into *Response) {
	s := states.Get().(*state)
	if s.engine != e {
		*s = state{engine: e, find: compiled{}, light: true}
	}
	s.req, s.path, s.query, s.user, s.admitted, s.copied, s.queried = req, "", "", "", false, false, false // site and front are most likely the same
	*into = Response{}
	s.run(into)
	into.copied, into.queried = s.copied, s.queried
	s.req = nil
	states.Put(s)
}

var states = sync.Pool{New: func() any { return &state{} }}

func (e *Engine) answer(req *request.Request, find finder, t *Trace) *Response {
	s := &state{engine: e, req: req, find: find, trace: t}
	r := &Response{}
	s.run(r)
	r.copied, r.queried = s.copied, s.queried
	return r
}

// Inside answers as the engine does, but to a visitor whom every `ask` entry lets in.
type Inside struct{ *Engine }

// Predict is that of the engine.
func (e Inside) Predict(req *request.Request) *Response {
	s := &state{engine: e.Engine, req: req, find: compiled{}, inside: true}
	r := &Response{}
	s.run(r)
	r.copied, r.queried = s.copied, s.queried
	return r
}

// Outcome is that of the engine.
func (e Inside) Outcome(req *request.Request, into *Response) { *into = *e.Predict(req) }

// Fail gives the answer of a status that whoever serves has to give, not the rulebook: with
// the page that it shows for that status, and its header.
func (e *Engine) Fail(req *request.Request, status int, cause Cause) *Response {
	s := &state{engine: e, req: req, find: compiled{}}
	r := &Response{}
	if s.receive(r) {
		r.Status, r.Cause = status, cause
		s.answered(r)
	} else {
		r.Status, r.Cause = status, cause
		s.plainPage(r)
	}
	return r
}

// run goes through the steps.
func (s *state) run(r *Response) {
	if !s.receive(r) {
		s.plainPage(r)
		return
	}
	switch {
	case s.path == wholeServer:
		s.method(r)
	case s.limits(r) || s.reading(r):
	case !s.site.hasTree:
		r.Cause = CauseUnknownTree
		s.note(nil, "no entry answers: the site's files decide, and which there are is not known here")
	case !s.method(r):
		s.file(r)
	}
	s.answered(r)
}

// answered makes the answer of what has been decided: its page, header and hints.
func (s *state) answered(r *Response) {
	r.Path, r.Query = s.path, s.query
	if r.Word() != "" {
		return
	}
	if r.Status >= 400 && r.File == nil && r.content == nil {
		s.errorPage(r)
	}
	s.represent(r)
	if !s.headers(r) {
		s.plainPage(r)
		return
	}
	if !s.light {
		s.hints(r)
	}
}

// wholeServer is what OPTIONS asks for that is about no address (RFC 9110, 9.3.7).
const wholeServer = "*"

// receive finds the site and makes the path canonical (step 0).
func (s *state) receive(r *Response) bool {
	key := frontKey{scheme: s.req.Address.Scheme, host: s.req.Address.Host, method: s.req.Verb(), port: s.req.Address.Port}
	if s.front == nil || s.key != key {
		s.key, s.front = key, nil
		if s.site = s.engine.siteFor(key.host); s.site != nil {
			s.front = s.site.frontFor(key)
		}
	}
	if s.site == nil {
		r.Status, r.Cause = http.StatusMisdirectedRequest, CauseUnknownHost
		s.note(nil, "no site answers for %s", s.req.Address.Host)
		return false
	}
	r.Site = s.site.Site
	path, err := canonical.Path(s.req.Address.Path, s.site.KeepSlashes)
	if s.req.Address.Path == wholeServer && key.method == http.MethodOptions {
		path, err = wholeServer, nil
	}
	if err != nil {
		r.Status, r.Cause = http.StatusBadRequest, CauseBadRequest
		s.note(nil, "%v", err)
		return false
	}
	if path != s.req.Address.Path {
		s.note(nil, "the path is read as %s", path)
	}
	s.path, s.asked, s.query = path, path, s.req.Address.Query
	if n := len(s.site.fields); cap(s.classed) < n {
		s.classed = make([]*class, n)
	} else {
		s.classed = s.classed[:n]
		clear(s.classed)
	}
	return true
}

// first gives the first fitting entry of a group that says something.
func (s *state) first(g group, says func(*rulebook.Rule) bool) *entry {
	for pos := s.find.next(s, g, -1); pos >= 0; pos = s.find.next(s, g, pos) {
		if e := s.site.entries[pos]; says(e.Rule) {
			return e
		}
	}
	return nil
}

// MaxStarts is how often the reading is started before it is given up.
const MaxStarts = 10

// reading reads the entries that answer or rewrite, top to bottom (step 2). It
// reports whether there is an answer.
func (s *state) reading(r *Response) bool {
	starts := 1
	for floor := -1; ; {
		pos := s.find.next(s, groupReading, floor)
		if pos < 0 {
			return false
		}
		floor = pos
		e := s.site.entries[pos]
		if s.entriesRead != nil {
			*s.entriesRead = append(*s.entriesRead, e.Rule)
		}
		switch e.read(s, r, e) {
		case answered:
			return true
		case settled:
			return false
		case again:
			if starts == MaxStarts {
				r.Status, r.Cause, r.By = http.StatusInternalServerError, CauseRewriteLoop, e.Rule
				s.note(e.Rule, "the reading would start again for the eleventh time: the rewrites never end")
				return true
			}
			starts++
			floor = -1
			s.note(e.Rule, "the reading starts again from the top (start %d)", starts)
		}
	}
}

// bad answers for a rule whose result is not valid.
func (s *state) bad(r *Response, rule *rulebook.Rule, err error) step {
	r.Status, r.Cause, r.By = http.StatusInternalServerError, CauseBadTarget, rule
	r.Location, r.File, r.Headers = "", nil, nil
	s.note(rule, "%v", err)
	return answered
}

var fileMethods = []string{"GET", "HEAD", "OPTIONS"}

// method answers what is no question about a file (step 3).
func (s *state) method(r *Response) bool {
	verb := s.req.Verb()
	if verb == "GET" || verb == "HEAD" {
		return false
	}
	allow := request.Header{Name: "Allow", Value: strings.Join(fileMethods, ", ")}
	switch verb {
	case "OPTIONS":
		r.Status, r.Cause = http.StatusNoContent, CauseOptions
		s.note(nil, "OPTIONS is answered with the methods that files take")
	default:
		r.Status, r.Cause = http.StatusMethodNotAllowed, CauseMethod
		s.note(nil, "files take %s, not %s", allow.Value, verb)
	}
	r.Headers = append(r.Headers, allow)
	return true
}

// node gives what the tree has at a canonical path, hidden things too, and
// whether the path ends with a slash.
func (s *state) node(path string) (n *site.Node, slash bool) {
	slash = strings.HasSuffix(path, "/")
	name := strings.TrimSuffix(path, "/")
	if strings.IndexByte(path, '%') >= 0 && (strings.Contains(path, "%2F") || strings.Contains(path, "%5C")) {
		return nil, slash
	}
	return s.site.tree.Find(name), slash
}

// file asks the tree (step 4).
func (s *state) file(r *Response) {
	n, slash := s.node(s.path)
	if n != nil && n.Hidden && !s.showsHidden() {
		s.note(nil, "%s is hidden", s.path)
		n = nil
	}
	switch {
	case n == nil || !n.Folder && slash:
		s.missing(r, http.StatusNotFound, CauseMissing, "the tree has nothing there")
	case !n.Folder:
		r.Status, r.Cause, r.File = http.StatusOK, CauseFile, n
		if s.trace != nil {
			s.note(nil, "the tree has the file %s", n.Path)
		}
	default:
		s.folder(r, n, slash)
	}
}

// plainPage puts the page into the answer that nothing but the status decides.
func (s *state) plainPage(r *Response) {
	r.Path, r.Query = s.path, s.query
	r.File, r.content = nil, nil
	s.represent(r)
}
