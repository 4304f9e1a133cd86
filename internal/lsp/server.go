// Package lsp answers an editor, by the Language Server Protocol 3.17: mistakes and findings
// while a rulebook is written, what an entry does, what may stand next, and fixes that were
// tried.
//
// The types of the messages are our own, the few that are needed: the libraries that have
// them all have not been kept since the protocol learned of inlay hints.
package lsp

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/sourcegraph/jsonrpc2"

	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// Options say how the editor is answered.
type Options struct {
	Name, Version string
	Rules         string // the rulebook that others belong to; "" to look for it
}

// Serve answers an editor until it says exit, or the input ends. It gives an error where the
// editor left without shutting down first.
func Serve(ctx context.Context, in io.Reader, out io.Writer, o Options) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	s := &server{options: o, docs: map[string]*document{}, projects: map[string]*project{}, jobs: make(chan *project, 64), exit: make(chan struct{}), running: map[string]context.CancelFunc{}}
	s.conn = jsonrpc2.NewConn(ctx, jsonrpc2.NewBufferedStream(pipe{in, out}, jsonrpc2.VSCodeObjectCodec{}), s)
	var worker sync.WaitGroup
	worker.Go(func() { s.work(ctx) })
	select {
	case <-s.exit:
	case <-s.conn.DisconnectNotify():
	case <-ctx.Done():
	}
	stop()
	worker.Wait()
	s.conn.Close()
	if s.isShut() {
		return nil
	}
	return errors.New("the editor left without a shutdown")
}

// A pipe is a stream of two halves.
type pipe struct {
	io.Reader
	io.Writer
}

func (pipe) Close() error { return nil }

// A server is the answering side of one connection.
type server struct {
	options Options
	conn    *jsonrpc2.Conn
	jobs    chan *project
	exit    chan struct{}
	exited  sync.Once

	mu       sync.Mutex // of all below
	begun    bool
	shut     bool
	refresh  []string // what the editor can be asked to ask for again
	docs     map[string]*document
	projects map[string]*project // by the path of the rulebook
	running  map[string]context.CancelFunc
	fresh    time.Time // trees read before this are read again
}

func (s *server) isShut() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.shut
}

// slow are the requests whose answers are worked out beside the others.
var slow = map[string]bool{"textDocument/codeAction": true}

const (
	codeCancelled     = -32800
	codeNotInitalized = -32002
)

// Handle takes a message. What changes a text is done before the next one is read.
func (s *server) Handle(ctx context.Context, conn *jsonrpc2.Conn, req *jsonrpc2.Request) {
	if req.Notif {
		s.notified(req)
		return
	}
	s.mu.Lock()
	begun, shut := s.begun, s.shut
	s.mu.Unlock()
	switch {
	case !begun && req.Method != "initialize":
		s.reply(ctx, req, nil, &jsonrpc2.Error{Code: codeNotInitalized, Message: "initialize comes first"})
		return
	case shut:
		s.reply(ctx, req, nil, &jsonrpc2.Error{Code: jsonrpc2.CodeInvalidRequest, Message: "the server is shut down"})
		return
	}
	answer := answers[req.Method]
	if answer == nil {
		s.reply(ctx, req, nil, &jsonrpc2.Error{Code: jsonrpc2.CodeMethodNotFound, Message: req.Method + " is not known here"})
		return
	}
	work := func(ctx context.Context) {
		result, err := s.safely(ctx, answer, params(req))
		if ctx.Err() != nil {
			err = &jsonrpc2.Error{Code: codeCancelled, Message: "cancelled"}
		}
		s.reply(context.WithoutCancel(ctx), req, result, err)
	}
	if !slow[req.Method] {
		work(ctx)
		return
	}
	id, _ := json.Marshal(req.ID)
	ctx, cancel := context.WithCancel(ctx)
	s.mu.Lock()
	s.running[string(id)] = cancel
	s.mu.Unlock()
	go func() {
		defer func() {
			cancel()
			s.mu.Lock()
			delete(s.running, string(id))
			s.mu.Unlock()
		}()
		work(ctx)
	}()
}

// safely answers, whatever happens: an editor goes on with the next request.
func (s *server) safely(ctx context.Context, answer func(*server, context.Context, json.RawMessage) (any, error), raw json.RawMessage) (result any, err error) {
	defer func() {
		if what := recover(); what != nil {
			err = &jsonrpc2.Error{Code: jsonrpc2.CodeInternalError, Message: fmt.Sprintf("this is a fault of kibitz; please report it: %v\n%s", what, debug.Stack())}
		}
	}()
	return answer(s, ctx, raw)
}

func params(req *jsonrpc2.Request) json.RawMessage {
	if req.Params == nil {
		return json.RawMessage("{}")
	}
	return *req.Params
}

func (s *server) reply(ctx context.Context, req *jsonrpc2.Request, result any, err error) {
	if err != nil {
		known, ok := errors.AsType[*jsonrpc2.Error](err)
		if !ok {
			known = &jsonrpc2.Error{Code: jsonrpc2.CodeInvalidParams, Message: err.Error()}
		}
		s.conn.ReplyWithError(ctx, req.ID, known)
		return
	}
	s.conn.Reply(ctx, req.ID, result)
}

// answers are the requests that are known.
var answers map[string]func(*server, context.Context, json.RawMessage) (any, error)

func init() {
	answers = map[string]func(*server, context.Context, json.RawMessage) (any, error){
		"initialize": (*server).initialize,
		"shutdown": func(s *server, _ context.Context, _ json.RawMessage) (any, error) {
			s.mu.Lock()
			s.shut = true
			s.mu.Unlock()
			return nil, nil
		},
		"textDocument/hover":               at(hoverAt),
		"textDocument/completion":          at(completeAt),
		"textDocument/definition":          at(definitionAt),
		"textDocument/references":          at(referencesAt),
		"textDocument/prepareRename":       at(prepareRenameAt),
		"textDocument/rename":              at(renameAt),
		"textDocument/documentSymbol":      at(symbolsOf),
		"textDocument/foldingRange":        at(foldsOf),
		"textDocument/formatting":          at(formatted),
		"textDocument/codeAction":          (*server).codeActions,
		"textDocument/codeLens":            at(lensesOf),
		"textDocument/inlayHint":           at(hintsOf),
		"textDocument/semanticTokens/full": at(tokensOf),
	}
}

// A view is a document as a request finds it. It is looked at under the server's lock.
type view struct {
	*server
	doc     *document
	project *project
	documentParams
}

// at makes a request about a document of a function of what is there.
func at[T any](answer func(*view) (T, error)) func(*server, context.Context, json.RawMessage) (any, error) {
	return func(s *server, _ context.Context, raw json.RawMessage) (any, error) {
		s.mu.Lock()
		defer s.mu.Unlock()
		v, err := s.view(raw)
		if err != nil {
			return nil, err
		}
		return answer(v)
	}
}

func (s *server) view(raw json.RawMessage) (*view, error) {
	v := &view{server: s}
	if err := json.Unmarshal(raw, &v.documentParams); err != nil {
		return nil, err
	}
	for _, at := range []*position{&v.Position, &v.Range.Start, &v.Range.End} {
		at.Line, at.Character = max(at.Line, 0), max(at.Character, 0)
	}
	path := pathOf(v.TextDocument.URI)
	if v.doc = s.docs[path]; v.doc == nil {
		return nil, fmt.Errorf("%s is not open", v.TextDocument.URI)
	}
	if v.doc.outline == nil {
		v.doc.outline = rulebook.Outlined(filepath.Base(path), []byte(v.doc.text))
	}
	v.project = s.projectOf(path)
	return v, nil
}

func (s *server) initialize(_ context.Context, raw json.RawMessage) (any, error) {
	var p initializeParams
	if err := json.Unmarshal(raw, &p); err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.begun = true
	if p.Capabilities.Workspace.CodeLens.RefreshSupport {
		s.refresh = append(s.refresh, "workspace/codeLens/refresh")
	}
	if p.Capabilities.Workspace.InlayHint.RefreshSupport {
		s.refresh = append(s.refresh, "workspace/inlayHint/refresh")
	}
	type object = map[string]any
	return object{
		"serverInfo": object{"name": s.options.Name, "version": s.options.Version},
		"capabilities": object{
			"positionEncoding":           "utf-16",
			"textDocumentSync":           object{"openClose": true, "change": 2, "save": object{"includeText": false}},
			"hoverProvider":              true,
			"completionProvider":         object{"triggerCharacters": []string{" ", "{", "/", ".", "|"}},
			"definitionProvider":         true,
			"referencesProvider":         true,
			"renameProvider":             object{"prepareProvider": true},
			"documentSymbolProvider":     true,
			"foldingRangeProvider":       true,
			"documentFormattingProvider": true,
			"codeActionProvider":         object{"codeActionKinds": []string{"quickfix"}},
			"codeLensProvider":           object{"resolveProvider": false},
			"inlayHintProvider":          true,
			"semanticTokensProvider":     object{"legend": object{"tokenTypes": tokenTypes, "tokenModifiers": []string{}}, "full": true},
		},
	}, nil
}

// notified takes what wants no answer.
func (s *server) notified(req *jsonrpc2.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch req.Method {
	case "exit":
		s.exited.Do(func() { close(s.exit) })
	case "$/cancelRequest":
		var p cancelParams
		if json.Unmarshal(params(req), &p) == nil {
			if cancel := s.running[string(p.ID)]; cancel != nil {
				cancel()
			}
		}
	case "textDocument/didOpen":
		var p openParams
		if path := ""; json.Unmarshal(params(req), &p) == nil {
			if path = pathOf(p.TextDocument.URI); path == "" {
				return
			}
			s.docs[path] = &document{path: path, version: p.TextDocument.Version, text: p.TextDocument.Text}
			s.changed(path)
		}
	case "textDocument/didChange":
		var p changeParams
		if json.Unmarshal(params(req), &p) != nil {
			return
		}
		doc := s.docs[pathOf(p.TextDocument.URI)]
		if doc == nil {
			return
		}
		for _, c := range p.ContentChanges {
			if c.Range == nil {
				doc.text = c.Text
				continue
			}
			from, to := byteAt(doc.text, c.Range.Start), byteAt(doc.text, c.Range.End)
			doc.text = doc.text[:from] + c.Text + doc.text[max(from, to):]
		}
		doc.version, doc.outline = p.TextDocument.Version, nil
		s.changed(doc.path)
	case "textDocument/didSave":
		var p documentParams
		if json.Unmarshal(params(req), &p) == nil {
			s.fresh = time.Now() // files may have come and gone, too
			if path := pathOf(p.TextDocument.URI); path != "" {
				s.changed(path)
			}
		}
	case "textDocument/didClose":
		var p documentParams
		if json.Unmarshal(params(req), &p) == nil {
			if path := pathOf(p.TextDocument.URI); s.docs[path] != nil {
				delete(s.docs, path)
				s.changed(path) // what is on the disk counts again
			}
		}
	}
}

// load gives a file as the editor has it.
func (s *server) load(path string) ([]byte, error) {
	if doc := s.docs[path]; doc != nil {
		return []byte(doc.text), nil
	}
	return rulebook.ReadFile(path)
}

// changed reads again what a file belongs to, tells of its mistakes, and has it looked into.
func (s *server) changed(path string) {
	p := s.projectOf(path)
	p.read(s.load)
	s.publish(p)
	version := p.version
	time.AfterFunc(quiet, func() {
		s.mu.Lock()
		last := p.version == version
		s.mu.Unlock()
		if last {
			select {
			case s.jobs <- p:
			default: // it is looked into soon, anyway
			}
		}
	})
}

// quiet is how long nothing must have changed before a rulebook is looked into.
const quiet = 200 * time.Millisecond

// upwards is how many folders above a file are searched for the rulebook that includes it.
const upwards = 3

// projectOf gives the rulebook that a file belongs to: the one that is known to include it,
// itself where it has a site, one of the rulebooks beside or above it that include it, and
// else itself.
func (s *server) projectOf(path string) *project {
	for _, p := range s.projects {
		if p.path(p.main) != path && p.has(path) {
			return p
		}
	}
	if p := s.projects[path]; p != nil {
		return p
	}
	doc := s.docs[path]
	if doc == nil || !slices.ContainsFunc(rulebook.Outlined(path, []byte(doc.text)).Entries, func(e *rulebook.OutlineEntry) bool { return e.Kind == rulebook.KindSite }) {
		var tries []string
		if s.options.Rules != "" {
			if abs, err := filepath.Abs(s.options.Rules); err == nil {
				tries = append(tries, abs)
			}
		}
		dir := filepath.Dir(path)
		for range upwards {
			beside, _ := filepath.Glob(filepath.Join(dir, "*.kibitz"))
			tries = append(tries, beside...)
			dir = filepath.Dir(dir)
		}
		for _, try := range tries {
			if try == path {
				continue
			}
			p := s.project(try)
			if p.read(s.load); p.has(path) || p.names(path) {
				s.projects[try] = p
				return p
			}
		}
	}
	p := s.project(path)
	s.projects[path] = p
	return p
}

// project makes one of a rulebook.
func (s *server) project(path string) *project {
	return &project{dir: filepath.Dir(path), main: filepath.Base(path), published: map[string]bool{}}
}

// names reports whether a rulebook that cannot be read says that it includes a file.
func (p *project) names(path string) bool {
	text, err := os.ReadFile(p.path(p.main))
	if err != nil || p.book != nil {
		return false
	}
	for _, e := range rulebook.Outlined(p.main, text).Entries {
		if e.Kind == rulebook.KindInclude && len(e.Words) > 1 && p.path(e.Words[1].Text) == path {
			p.published[path] = true // it has it
			return true
		}
	}
	return false
}

// publish tells the editor what there is to say of a rulebook's files, and of those of which
// something was said before.
func (s *server) publish(p *project) {
	all := p.diagnostics()
	paths := map[string]bool{}
	for path := range all {
		paths[path] = true
	}
	for path := range p.published {
		paths[path] = true
	}
	if p.book != nil {
		for _, src := range p.book.Sources {
			paths[p.path(src.Name)] = true
		}
	}
	for path := range paths {
		params := publishParams{URI: uriOf(path), Diagnostics: all[path]}
		if params.Diagnostics == nil {
			params.Diagnostics = []diagnostic{}
		}
		if doc := s.docs[path]; doc != nil {
			params.Version = doc.version
		}
		p.published[path] = true
		s.conn.Notify(context.Background(), "textDocument/publishDiagnostics", params)
	}
}

// work looks into rulebooks, one after the other, as they change.
func (s *server) work(ctx context.Context) {
	for {
		var p *project
		select {
		case <-ctx.Done():
			return
		case p = <-s.jobs:
		}
		s.mu.Lock()
		book, version := p.book, p.version
		var trees map[string]*site.Tree
		if p.state != nil && p.state.made.After(s.fresh) {
			trees = p.state.trees
		}
		known := p.state != nil && p.state.version == version
		s.mu.Unlock()
		if book == nil || known {
			continue
		}
		st, err := p.look(book, version, trees)
		if err != nil { // the tree cannot be read
			s.mu.Lock()
			if p.version == version {
				p.failed = errors.New(strings.TrimSpace(err.Error()))
				s.publish(p)
			}
			s.mu.Unlock()
			continue
		}
		s.tell(ctx, p, st)
		st = st.counted(p.replayLists(st.engine))
		s.tell(ctx, p, st)
	}
}

// tell takes what was found out, and lets the editor know.
func (s *server) tell(ctx context.Context, p *project, st *state) {
	s.mu.Lock()
	p.state = st
	if p.version == st.version && st.lists == nil {
		s.publish(p)
	}
	refresh := s.refresh
	s.mu.Unlock()
	for _, what := range refresh {
		go s.conn.Call(ctx, what, nil, nil) // the editor may take its time
	}
}
