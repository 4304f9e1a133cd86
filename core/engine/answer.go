package engine

// The way of a request, step by step.

import (
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
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
	return e.answer(req, plain{}, t), t
}

// Outcome is Predict without the header: status, cause, entry, Location, file,
// media type and sizes are the same. The response is put into into.
func (e *Engine) Outcome(req *request.Request, into *Response) {
	s := states.Get().(*state)
	if s.engine != e {
		*s = state{engine: e, find: compiled{}, light: true}
	}
	s.req, s.path, s.query, s.user, s.admitted, s.copied = req, "", "", "", false, false // site and front are most likely the same
	*into = Response{}
	s.run(into)
	into.copied = s.copied
	s.req = nil
	states.Put(s)
}

var states = sync.Pool{New: func() any { return &state{} }}

func (e *Engine) answer(req *request.Request, find finder, t *Trace) *Response {
	s := &state{engine: e, req: req, find: find, trace: t}
	r := &Response{}
	s.run(r)
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
	case !s.site.known:
		r.Cause = CauseUnknownTree
		s.note(nil, "no entry answers: the site's files decide, and which there are is not known here")
	case !s.method(r):
		s.file(r)
	}
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

// limits refuses what is too large (step 1).
func (s *state) limits(r *Response) bool {
	if s.site.groups[groupLimit] == nil {
		return false
	}
	headers := int64(0)
	for _, h := range s.req.Headers {
		headers += int64(len(h.Name) + len(h.Value) + 4)
	}
	for _, part := range []struct {
		size   int64
		bound  func(*rulebook.Limit) int64
		status int
		what   string
	}{
		{int64(s.req.Address.Sent()), func(l *rulebook.Limit) int64 { return l.URL }, http.StatusRequestURITooLong, "URL"},
		{headers, func(l *rulebook.Limit) int64 { return l.Headers }, http.StatusRequestHeaderFieldsTooLarge, "header"},
		{s.req.Body, func(l *rulebook.Limit) int64 { return l.Body }, http.StatusRequestEntityTooLarge, "body"},
	} {
		e := s.first(groupLimit, func(r *rulebook.Rule) bool { return part.bound(r.Action.(*rulebook.Limit)) >= 0 })
		if e == nil {
			continue
		}
		if bound := part.bound(e.Action.(*rulebook.Limit)); part.size > bound {
			r.Status, r.Cause, r.By = part.status, CauseTooLarge, e.Rule
			s.note(e.Rule, "the %s has %d bytes, and %d are allowed", part.what, part.size, bound)
			return true
		}
	}
	return false
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

const maxStarts = 10

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
		if s.met != nil {
			*s.met = append(*s.met, e.Rule)
		}
		switch a := e.Action.(type) {
		case *rulebook.Redirect:
			return s.redirect(r, e.Rule, a.To, a.Query, a.Status)
		case *rulebook.Moves:
			return s.moved(r, e, a)
		case *rulebook.Rewrite:
			if !s.rewrite(r, e.Rule, a) {
				return true
			}
			switch a.Then {
			case rulebook.Finish:
				return false
			case rulebook.Again:
				if starts == maxStarts {
					r.Status, r.Cause, r.By = http.StatusInternalServerError, CauseRewriteLoop, e.Rule
					s.note(e.Rule, "the reading would start for the eleventh time: it never comes to rest")
					return true
				}
				starts++
				floor = -1
				s.note(e.Rule, "the reading starts again from the top (start %d)", starts)
			}
		case *rulebook.Reply:
			return s.reply(r, e.Rule, a)
		case *rulebook.Handoff:
			r.Cause, r.By = CauseHandoff, e.Rule
			s.note(e.Rule, "an application answers here")
			return true
		case *rulebook.Access:
			if s.access(r, e, a) {
				return true
			}
		}
	}
}

// bad answers for a rule whose result is not valid.
func (s *state) bad(r *Response, rule *rulebook.Rule, err error) bool {
	r.Status, r.Cause, r.By = http.StatusInternalServerError, CauseBadTarget, rule
	r.Location, r.File, r.Headers = "", nil, nil
	s.note(rule, "%v", err)
	return true
}

func (s *state) redirect(r *Response, rule *rulebook.Rule, to *rulebook.Template, q rulebook.Query, status int) bool {
	location, err := s.valuesOf(rule).location(to, q)
	if err != nil {
		return s.bad(r, rule, err)
	}
	r.Status, r.Cause, r.By, r.Location = status, CauseRedirect, rule, location
	if s.trace != nil {
		s.note(rule, "answers %d to %s", status, location)
	}
	return true
}

func (s *state) moved(r *Response, e *entry, a *rulebook.Moves) bool {
	row := s.row(e)
	r.Row = row
	if row.New == "" {
		r.Status, r.Cause, r.By = int(row.Status), CauseReply, e.Rule
		s.note(e.Rule, "%s:%d says %d", a.Table.Name, row.Line, row.Status)
		return true
	}
	s.note(e.Rule, "%s:%d has this address", a.Table.Name, row.Line)
	q := a.Query
	to := rowTarget(row.New)
	// A query that the row itself names is used up, and a new one takes its place.
	if (to.HasQuery || row.HasQuery) && q.Mode == rulebook.QueryKeep {
		q.Mode = rulebook.QueryDrop
	}
	return s.redirect(r, e.Rule, to, q, int(row.Status))
}

// rowTarget reads a new address, in which nothing is a value.
func rowTarget(s string) *rulebook.Template {
	t := &rulebook.Template{Text: s}
	literal := func(s string) []rulebook.Piece { return []rulebook.Piece{{Text: s}} }
	rest := s
	if scheme, after, ok := strings.Cut(s, "://"); ok && !strings.HasPrefix(s, "/") {
		end := strings.IndexAny(after, "/?#")
		if end < 0 {
			end = len(after)
		}
		t.Scheme, t.Host, rest = literal(strings.ToLower(scheme)), literal(after[:end]), after[end:]
	}
	if before, fragment, ok := strings.Cut(rest, "#"); ok {
		rest, t.Fragment, t.HasFragment = before, literal(fragment), true
	}
	path, query, ok := strings.Cut(rest, "?")
	t.Path = literal(path)
	if ok {
		t.Query, t.HasQuery = literal(query), true
	}
	return t
}

// rewrite puts a new path and query in place; it reports whether that worked.
func (s *state) rewrite(r *Response, rule *rulebook.Rule, a *rulebook.Rewrite) bool {
	v := s.valuesOf(rule)
	path, err := v.path(a.To)
	if err != nil {
		s.bad(r, rule, err)
		return false
	}
	query, err := v.queryOf(a.To, a.Query)
	if err != nil {
		s.bad(r, rule, err)
		return false
	}
	s.path, s.query = path, query
	if s.trace != nil {
		s.note(rule, "the path becomes %s", request.Address{Path: path, Query: query, HasQuery: query != ""}.Target())
	}
	return true
}

func (s *state) reply(r *Response, rule *rulebook.Rule, a *rulebook.Reply) bool {
	r.Status, r.Cause, r.By = a.Status, CauseReply, rule
	if a.Retry > 0 {
		seconds := int64((a.Retry.Milliseconds() + 999) / 1000)
		r.Headers = append(r.Headers, request.Header{Name: "Retry-After", Value: strconv.FormatInt(seconds, 10)})
	}
	s.note(rule, "answers %d", a.Status)
	s.body(r, rule, a.Body, false)
	return true
}

// body puts a rule's file or text into the answer.
func (s *state) body(r *Response, rule *rulebook.Rule, b rulebook.Body, fill bool) {
	switch {
	case b.Text != nil:
		text, _ := s.valuesOf(rule).fill(b.Text.Body, forText)
		r.content, r.Type = []byte(text), "text/plain"
		s.note(rule, "shows its text")
	case b.Show != "":
		n, _ := s.node(b.Show)
		if n == nil || n.Folder {
			s.note(rule, "the page %s is not in the tree: the plain page is shown", b.Show)
			return
		}
		r.File = n
		if s.trace != nil {
			s.note(rule, "shows %s", n.Path)
		}
		if !fill {
			return
		}
		page, err := n.Read()
		if err != nil {
			s.note(rule, "the page cannot be filled: %v", err)
			return
		}
		r.content = []byte(s.valuesOf(rule).fillPage(string(page)))
	}
}

// access decides what an access entry says; it reports whether that is an answer.
func (s *state) access(r *Response, e *entry, a *rulebook.Access) bool {
	if s.admitted {
		s.note(e.Rule, "passed over: the request has been admitted")
		return false
	}
	switch a.Do {
	case rulebook.Admit:
		s.admitted = true
		s.note(e.Rule, "admits the request past all later access entries")
		return false
	case rulebook.Ask:
		if s.inside {
			return false
		}
		if name, ok := s.engine.passwords.check(s.req, a.Accounts); ok {
			s.user = name
			s.note(e.Rule, "lets %s in", name)
			return false
		}
		r.Status, r.Cause, r.By = http.StatusUnauthorized, CauseAsked, e.Rule
		realm := strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(a.Realm)
		r.Headers = append(r.Headers, request.Header{Name: "WWW-Authenticate", Value: fmt.Sprintf(`Basic realm="%s", charset="UTF-8"`, realm)})
		s.note(e.Rule, "asks for a name and password")
		return true
	}
	r.Status, r.Cause, r.By = a.Status, CauseRefused, e.Rule
	if a.Status == http.StatusMethodNotAllowed {
		r.Headers = append(r.Headers, request.Header{Name: "Allow", Value: allowedBy(e.Rule)})
	}
	s.note(e.Rule, "refuses with %d", a.Status)
	return true
}

var fileMethods = []string{"GET", "HEAD", "OPTIONS"}

// methods are those that are registered for more than one purpose (RFC 9110, 9.3;
// RFC 5789).
var methods = []string{"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "CONNECT", "TRACE"}

// allowedBy gives the methods that a refusal of methods leaves (RFC 9110, 10.2.1):
// those that its tests name, or take of the registered ones; where they only name
// what is refused, what is left of those that files take.
func allowedBy(r *rulebook.Rule) string {
	candidates := fileMethods
	var named []string
	for _, t := range r.Tests {
		if t.Field.Kind != rulebook.FieldMethod || !t.Unless {
			continue
		}
		for _, v := range t.Values {
			if v.Kind == rulebook.ValueText {
				named = append(named, v.Text)
			}
		}
		candidates = methods
	}
	candidates = slices.Concat(named, candidates)
	var allowed []string
	for _, m := range candidates {
		refused := true
		for _, t := range r.Tests {
			refused = refused && (t.Field.Kind != rulebook.FieldMethod || holds(t, m, true, 0, netip.Addr{}))
		}
		if !refused && !slices.Contains(allowed, m) {
			allowed = append(allowed, m)
		}
	}
	return strings.Join(allowed, ", ")
}

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

func (s *state) showsHidden() bool {
	e := s.first(groupFolder, func(r *rulebook.Rule) bool { return r.Action.(*rulebook.Folder).Hidden != nil })
	return e != nil && *e.Action.(*rulebook.Folder).Hidden
}

// folder answers for a folder.
func (s *state) folder(r *Response, n *site.Node, slash bool) {
	asked := s.path
	if !slash {
		s.path += "/" // the selectors look at the folder with its slash
	}
	with := s.path
	mode, by := rulebook.SlashAdd, (*rulebook.Rule)(nil)
	if e := s.first(groupFolder, func(r *rulebook.Rule) bool { return r.Action.(*rulebook.Folder).Slash != "" }); e != nil {
		mode, by = e.Action.(*rulebook.Folder).Slash, e.Rule
	}
	var target string
	switch {
	case !slash && mode == rulebook.SlashAdd:
		target = with
	case slash && mode == rulebook.SlashDrop && n.Path != "":
		target = strings.TrimSuffix(with, "/")
	}
	if target != "" {
		s.path = asked
		r.Status, r.Cause, r.By = http.StatusMovedPermanently, CauseSlash, by
		r.Location = request.Address{Path: target, Query: encodeStray(s.query), HasQuery: s.query != ""}.Target()
		s.note(by, "a folder: answers 301 to %s", r.Location)
		return
	}
	documents, by := []string{"index.html"}, nil
	if e := s.first(groupFolder, func(r *rulebook.Rule) bool { return r.Action.(*rulebook.Folder).Documents != nil }); e != nil {
		documents, by = e.Action.(*rulebook.Folder).Documents, e.Rule
	}
	for _, name := range documents {
		doc := s.site.tree.Find(n.Path + "/" + canonical.Spell(name))
		if doc == nil || doc.Folder || doc.Hidden && !n.Hidden && !s.showsHidden() {
			continue
		}
		s.path = asked
		r.Status, r.Cause, r.By, r.File = http.StatusOK, CauseDocument, by, doc
		s.note(by, "a folder: its document %s is served", doc.Name())
		return
	}
	listing := s.first(groupFolder, func(r *rulebook.Rule) bool { return r.Action.(*rulebook.Folder).Listing != nil })
	if listing != nil && *listing.Action.(*rulebook.Folder).Listing {
		s.list(r, n, with)
		s.path = asked
		r.Status, r.Cause, r.By = http.StatusOK, CauseListing, listing.Rule
		s.note(listing.Rule, "a folder: it is listed")
		return
	}
	s.path = asked
	what := "the folder has no documents, and is not listed"
	if s.trace != nil && len(documents) > 0 {
		what = "the folder has none of its documents (" + strings.Join(documents, " ") + "), and is not listed"
	}
	s.missing(r, http.StatusForbidden, CauseNoDocument, what)
}

// missing tries the fallbacks for what the tree does not have.
func (s *state) missing(r *Response, status int, cause Cause, what string) {
	if s.trace != nil {
		s.note(nil, "%s", what)
	}
	for pos := s.find.next(s, groupFallback, -1); pos >= 0; pos = s.find.next(s, groupFallback, pos) {
		rule := s.site.entries[pos].Rule
		a := rule.Action.(*rulebook.Fallback)
		v := s.valuesOf(rule)
		for _, t := range a.To {
			path, err := v.path(t)
			if err != nil {
				s.bad(r, rule, err)
				return
			}
			n, slash := s.node(path)
			if n == nil || n.Folder || slash || n.Hidden && !s.showsHidden() {
				s.note(rule, "%s is no file of the tree", path)
				continue
			}
			r.Status, r.Cause, r.By, r.File = a.Status, CauseFallback, rule, n
			s.note(rule, "%s is served", n.Path)
			return
		}
	}
	r.Status, r.Cause = status, cause
}

// errorPage finds the page for a status (step 5).
func (s *state) errorPage(r *Response) {
	e := s.first(groupError, func(rule *rulebook.Rule) bool { return rule.Action.(*rulebook.ErrorPage).For.Has(r.Status) })
	if e == nil {
		return
	}
	a := e.Action.(*rulebook.ErrorPage)
	s.body(r, e.Rule, a.Body, a.Fill)
}

// plainPage puts the page into the answer that nothing but the status decides.
func (s *state) plainPage(r *Response) {
	r.Path, r.Query = s.path, s.query
	r.File, r.content = nil, nil
	s.represent(r)
}
