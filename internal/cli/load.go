package cli

import (
	"cmp"
	"encoding/base64"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/term"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
	"kibitz/core/units"
	"kibitz/internal/render"
)

// bookErrors are the mistakes of a rulebook, for the people who wrote it.
type bookErrors struct{ rulebook.Errors }

const maxShown = 20

func (r *run) showBookErrors(errs bookErrors) {
	out := render.NewOutput(r.stderr, r.color)
	for i, e := range errs.Errors {
		if i == maxShown {
			out.Printf("\n… and %s more.\n", render.Count(len(errs.Errors)-i, "error"))
			break
		}
		if i > 0 && e.Place == errs.Errors[i-1].Place { // one excerpt for all
			out.Wrapped("  ", render.Clean(e.Message))
			continue
		}
		if i > 0 {
			out.Printf("\n")
		}
		out.Printf("%s  %s:%d\n", out.Bad("error"), render.Clean(e.Place.String()), e.Place.Col)
		if text, mark := e.Line(); text != "" {
			out.Printf("\n    %s\n    %s\n\n", render.Clean(text), mark)
		}
		out.Wrapped("  ", render.Clean(e.Message))
	}
	out.Printf("\n%s in the rulebook: it is not used before the text is corrected.\n", render.Count(len(errs.Errors), "error"))
}

const defaultRules = "site.kibitz"

// usualRules is the rulebook where none is named.
func usualRules() string { return cmp.Or(os.Getenv("KIBITZ_RULES"), defaultRules) }

// loadBook reads the rulebook that -rules names.
func (r *run) loadBook() (*rulebook.Book, error) {
	if r.alone.is() {
		return r.alone.book()
	}
	name := r.rules
	if name == "" {
		name = usualRules()
	}
	read := r.waiting(func() string { return name })
	book, err := rulebook.Load(name, r.inputs.file)
	read()
	if errs, ok := errors.AsType[rulebook.Errors](err); ok {
		return nil, bookErrors{errs}
	}
	switch {
	case errors.Is(err, os.ErrNotExist) && r.rules == "" && name == defaultRules:
		return nil, errors.New(noRulebook)
	case err != nil:
		return nil, rulebookError(name, err)
	}
	return book, nil
}

// noRulebook says what to do where there is none.
const noRulebook = `there is no rulebook site.kibitz in this folder. Three lines make one:

    site NAME
        address https://www.s.example
        files   DIR

kibitz start DIR writes one for a folder of files, with what it finds there. Without
a rulebook, -files DIR shows the site as its files alone make it, -rules FILE names
another one, and kibitz demo has an example`

// localSite is the address of a site of which nothing says it.
const localSite = "https://localhost"

// filesAlone is a site that has no rulebook: what its files make of it.
type filesAlone struct{ files, inventory, address string }

func (f *filesAlone) is() bool { return f.files+f.inventory != "" }

// check refuses flags that do not go together.
func (f *filesAlone) check(rules string) error {
	switch {
	case f.is() && rules != "":
		return usagef("-files and -inventory stand in the place of a rulebook, and do not go with -rules")
	case f.files != "" && f.inventory != "":
		return usagef("-files and -inventory do not go together")
	case f.address != "" && !f.is():
		return usagef("-address goes with -files or -inventory: a rulebook says its own")
	}
	if f.address == "" {
		return nil
	}
	_, err := siteAddress(f.address)
	return err
}

// book is a rulebook without an entry.
func (f *filesAlone) book() (*rulebook.Book, error) {
	address, err := siteAddress(cmp.Or(f.address, localSite))
	if err != nil {
		return nil, err
	}
	book, err := rulebook.Read("files", []byte("site here address "+address.Origin()+" files x"), nil)
	if err != nil {
		return nil, err
	}
	book.Sites[0].Files, book.Sites[0].Inventory = f.files, f.inventory
	return book, nil
}

// args are the flags that name it.
func (f *filesAlone) args() (args []string) {
	for name, value := range map[string]string{"-files": f.files, "-inventory": f.inventory} {
		if value != "" {
			args = append(args, name, value)
		}
	}
	if f.address != "" {
		args = append(args, "-address", f.address)
	}
	return args
}

// loadTree reads the tree of a site; nil where the rulebook names none.
func (r *run) loadTree(s *rulebook.Site) (*site.Tree, error) {
	switch {
	case s.Files != "":
		r.inputs.tree(s.Files)
		files := atomic.Int64{}
		defer r.waiting(func() string { return fmt.Sprintf("%s   %s", s.Files, render.Count(files.Load(), "file")) })()
		return site.Folder(s.Files, func(n int) { files.Store(int64(n)) })
	case s.Inventory != "":
		r.inputs.file(s.Inventory)
		text, err := rulebook.ReadFile(s.Inventory)
		if err != nil {
			return nil, fmt.Errorf("the inventory cannot be read: %w", err)
		}
		tree, err := site.Inventory(text)
		if err != nil {
			return nil, fmt.Errorf("%s:%s", s.Inventory, strings.ReplaceAll(err.Error(), "\n", "\n"+s.Inventory+":"))
		}
		return tree, nil
	}
	return nil, nil
}

// load reads the rulebook and its trees.
func (r *run) load() (*engine.Engine, error) {
	book, err := r.loadBook()
	if err != nil {
		return nil, err
	}
	return r.compile(book)
}

// waiting shows on a terminal what is read, and for how long by then, where that takes more
// than a second, until ended is called.
func (r *run) waiting(says func() string) (ended func()) {
	f, ok := r.stderr.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return func() {}
	}
	stop, stopped := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(stopped)
		start, tick := time.Now(), time.NewTicker(200*time.Millisecond)
		defer tick.Stop()
		shown := false
		for {
			select {
			case <-stop:
				if shown {
					fmt.Fprint(f, "\r\x1b[K")
				}
				return
			case now := <-tick.C:
				if took := now.Sub(start); took > time.Second {
					shown = true
					fmt.Fprintf(f, "\r\x1b[Kreading %s   %s", render.Short(says(), 60), render.Time(took))
				}
			}
		}
	}()
	return func() {
		close(stop)
		<-stopped
	}
}

// compile makes a rulebook ready to predict, with its trees.
func (r *run) compile(book *rulebook.Book) (*engine.Engine, error) {
	return engine.Load(book, func(s *rulebook.Site) (*site.Tree, error) {
		tree, err := r.loadTree(s)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", s.Place, err)
		}
		if tree == nil {
			return nil, nil
		}
		for _, note := range tree.Notes {
			fmt.Fprintf(r.stderr, "note: in the tree of %s, %s\n", s.Name, render.Clean(note))
		}
		return tree, nil
	})
}

// requestFlags are the flags that set a request.
type requestFlags struct {
	method  string
	headers headerFlags
	client  string
	time    string
	body    string
}

type headerFlags []request.Header

func (h *headerFlags) String() string { return "" }

func (h *headerFlags) Set(s string) error {
	name, value, ok := strings.Cut(s, ":")
	if !ok || strings.TrimSpace(name) == "" {
		return errors.New(`write a header field as "Name: value"`)
	}
	*h = append(*h, request.Header{Name: strings.TrimSpace(name), Value: strings.TrimSpace(value)})
	return nil
}

// A userFlag is who logs in: it adds the field that says so (RFC 7617).
type userFlag struct{ headers *headerFlags }

const userHelp = "who logs in, `NAME:PASSWORD`, as browsers send it where an access entry asks"

func (u userFlag) String() string { return "" }

func (u userFlag) Set(s string) error {
	if name, _, ok := strings.Cut(s, ":"); !ok || name == "" {
		return errors.New("write it as NAME:PASSWORD")
	}
	*u.headers = append(*u.headers, request.Header{Name: "Authorization", Value: "Basic " + base64.StdEncoding.EncodeToString([]byte(s))})
	return nil
}

// request makes the request that the flags describe.
func (f *requestFlags) request(url string, base request.Address) (*request.Request, error) {
	req := &request.Request{Method: strings.ToUpper(f.method), Headers: f.headers}
	if !request.IsMethod(req.Method) {
		return nil, usagef("-method: %q is not a method: write one like GET", f.method)
	}
	var err error
	if req.Address, err = request.Parse(url, base); err != nil {
		return nil, usageError{err.Error()}
	}
	if f.client != "" {
		if req.Client, err = netip.ParseAddr(f.client); err != nil {
			return nil, usagef("-client: %q is not an address: write one like 192.0.2.7", f.client)
		}
	}
	if f.time != "" {
		if req.Time, err = parseTime(f.time); err != nil {
			return nil, usagef("-time: %v", err)
		}
	}
	if f.body != "" {
		n, problem := units.Size(f.body)
		if problem != "" {
			return nil, usagef("-body: %s", problem)
		}
		req.Body = n
	}
	return req, nil
}

// parseTime reads a date, or a date with its time.
func parseTime(s string) (time.Time, error) {
	for _, form := range []string{time.RFC3339, time.DateOnly} {
		if t, err := time.Parse(form, s); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is not a time: write 2026-03-01 or 2026-03-01T08:00:00Z", s)
}

// place shows where an entry stands.
func place(rule *rulebook.Rule) string {
	if rule == nil {
		return ""
	}
	return rule.Place.String()
}

// traceLine is the command that shows a request, ready to paste.
func (r *run) traceLine(req *request.Request) string { return traceLineOf(r.rulesArgs(), req) }

// rulesArgs are the flags that name the rulebook, where they are needed.
func (r *run) rulesArgs() []string {
	if r.alone.is() {
		return r.alone.args()
	}
	return namesRules(r.rules)
}

// namesRules is the flag that names a rulebook, where it is needed.
func namesRules(rules string) []string {
	if rules == "" || filepath.Clean(rules) == usualRules() {
		return nil
	}
	return []string{"-rules", rules}
}

// traceLineOf is traceLine for a rulebook that some flags name.
func traceLineOf(rules []string, req *request.Request) string {
	words := append([]string{"kibitz", "trace"}, rules...)
	words = append(words, requestWords(req)...)
	for i, w := range words {
		words[i] = render.Shell(w)
	}
	return strings.Join(words, " ")
}

// requestWords are the arguments of trace that make a request.
func requestWords(req *request.Request) []string {
	var words []string
	if req.Verb() != "GET" {
		words = append(words, "-method", req.Verb())
	}
	if req.Client.IsValid() {
		words = append(words, "-client", req.Client.String())
	}
	if !req.Time.IsZero() {
		words = append(words, "-time", req.Time.Format(time.RFC3339))
	}
	if req.Body > 0 {
		words = append(words, "-body", fmt.Sprintf("%dB", req.Body))
	}
	for _, h := range req.Headers {
		value := h.Value
		if strings.EqualFold(h.Name, "Authorization") {
			value = "(as the list has it)" // a password is shown nowhere
		}
		words = append(words, "-header", h.Name+": "+value)
	}
	return append(words, req.Address.String())
}

// rulebookError says why a rulebook cannot be read.
func rulebookError(name string, err error) error {
	if errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("there is no rulebook %s", name)
	}
	if info, statErr := os.Stat(name); statErr == nil && info.IsDir() {
		return fmt.Errorf("%s is a folder: name the rulebook in it", name)
	}
	return fmt.Errorf("the rulebook cannot be read: %w", err)
}
