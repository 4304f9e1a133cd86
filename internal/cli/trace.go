package cli

import (
	"bytes"
	"flag"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"kibitz/core/browser"
	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/representation"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/internal/render"
)

func init() {
	register(command{
		order:   6,
		shows:   func(f *form) bool { return f.trace != nil },
		rules:   theRules,
		name:    "trace",
		args:    "URL",
		summary: "one request, step by step: what decided, and why nothing else did",
		about: `Follows one request through the rulebook, and the visit to its end.

URL is a full address, or a path of the first site. What is shown: each answer
of the visit; the last one's header; then, answer by answer, the values that
rules can test, every entry that was looked at with the reason why it did not
fit, every change of the path, and what decided.

The visit keeps the cookies that answers set; where it ends elsewhere for whoever
keeps none, or comes by a link of another site, that is said below it.`,
		setup: func(flags *flag.FlagSet) func(*run, []string) (int, error) {
			var f requestFlags
			flags.StringVar(&f.method, "method", "GET", "the request's `method`")
			flags.Var(&f.headers, "header", "a header field, `\"Name: value\"`; may be repeated")
			flags.Var(userFlag{&f.headers}, "user", userHelp)
			flags.StringVar(&f.client, "client", "", "the `address` that the request comes from")
			flags.StringVar(&f.time, "time", "", "when it is made, a `time` like 2026-03-01T08:00:00Z")
			flags.StringVar(&f.body, "body", "", "the `size` of its body, like 2KiB")
			content := flags.Bool("content", false, "show what the last answer sends, where it is text: a page that is filled, as it is filled")
			visitors := flags.String("as-visitors", "", "ask as each visitor of this `file` does, and show side by side what they see: names, and indented below each client ADDRESS, time TIME, Name: value")
			watch := flags.Bool("watch", false, "do it again whenever the rulebook or a tree changes")
			return func(r *run, args []string) (int, error) {
				if len(args) != 1 {
					return 0, usagef("name one address, like: kibitz trace /fares/")
				}
				once := func() (int, error) { return r.trace(&f, args[0], *content) }
				if *visitors != "" {
					once = func() (int, error) { return r.asVisitors(&f, args[0], *visitors) }
				}
				if *watch {
					return r.watch(once)
				}
				return once()
			}
		},
	})
}

// loadAsking loads the rulebook, and gives the request that the flags describe.
func (r *run) loadAsking(f *requestFlags, url string) (*engine.Engine, *request.Request, error) {
	e, err := r.load()
	if err != nil {
		return nil, nil, err
	}
	req, err := f.request(url, e.Book.BaseAddress())
	return e, req, err
}

// trace follows one request once.
func (r *run) trace(f *requestFlags, url string, content bool) (int, error) {
	e, req, err := r.loadAsking(f, url)
	if err != nil {
		return 0, err
	}
	v := browser.Open(e, req)
	traces := make([]*engine.Trace, len(v.Hops))
	for i, h := range v.Hops {
		if traces[i], err = e.Confirm(h.Request, h.Response); err != nil {
			return 0, err
		}
	}
	if err := r.form.trace(r, traced{e, content, v, traces}); err != nil {
		return 0, err
	}
	if v.Ending == browser.Loop || v.Ending == browser.TooLong {
		return exitFindings, nil
	}
	return exitWell, nil
}

// ending says in a sentence how a visit ended.
func (r *run) ending(v *browser.Visit) string {
	last := v.Last()
	n := v.Redirects()
	after := "at once"
	if n > 0 {
		after = "after " + render.Count(n, "redirect")
	}
	switch v.Ending {
	case browser.Loop:
		again := v.Hops[v.Again].Request.Address.String()
		return r.out.Bad("Loop:") + " the visit comes back to " + render.Short(again, 100) + " and loops."
	case browser.TooLong:
		if v.Outgrown() {
			return r.out.Bad("Too long:") + fmt.Sprintf(" the address grows with each of %d redirects, until the server answers %d.", v.Redirects(), last.Status)
		}
		return r.out.Bad("Too long:") + fmt.Sprintf(" browsers give up after %d redirects.", engine.MaxRedirects)
	case browser.Left:
		return "Left " + after + ": " + render.Short(last.Location, 100) + " is not an address of this rulebook's sites."
	case browser.ToApp:
		return "Handed to an application " + after + "."
	case browser.ToFiles:
		return "Left to the site's files " + after + ": which there are is not known here. Add `files DIR` or `inventory FILE` to the site."
	case browser.BadEnding:
		return r.out.Bad("Stopped:") + " the Location " + render.Short(last.Location, 80) + " is not a valid URL."
	}
	s := "Arrived " + after + "."
	if n == engine.MaxRedirects {
		s += " A browser may give up at the twentieth redirect."
	}
	return s
}

// hopTarget is where an answer leads: a Location, a file, or the address itself.
func hopTarget(h browser.Hop) string {
	switch r := h.Response; {
	case r.Location != "":
		return r.Location
	case r.File != nil:
		return strings.TrimPrefix(canonical.Decode(r.File.Path), "/")
	}
	return h.Request.Address.Target()
}

// otherVisits says what becomes of a visit where cookies that are set on the way are not sent.
func (r *run) otherVisits(e *engine.Engine, v *browser.Visit) {
	req, usual := v.Hops[0].Request, v.Summary()
	say := func(who, summary string) {
		if summary != usual {
			r.out.Wrapped("", fmt.Sprintf("For whoever %s, the visit %s.", who, render.Clean(summary)))
		}
	}
	without, foreign := browser.OpenWithout(e, req).Summary(), usual
	if !e.Book.Reads("referer") {
		foreign = browser.Open(e, browser.FromElsewhere(req)).Summary()
	}
	if foreign == without {
		say("keeps no cookies, as most robots do, or comes by a link of another site", without)
		return
	}
	say("keeps no cookies, as most robots do", without)
	say("comes by a link of another site", foreign)
}

func (r *run) traceText(t traced) error {
	v, traces := t.visit, t.traces
	out := r.out
	req := v.Hops[0].Request
	out.Printf("%s %s\n\n", render.Clean(req.Verb()), render.Clean(req.Address.String()))
	var rows [][]string
	for i, h := range v.Hops {
		rows = append(rows, append([]string{fmt.Sprint(i + 1)}, r.hopRow(h, render.Short(hopTarget(h), 90))...))
	}
	out.Rows("  ", rows, 0, 1)
	out.Printf("\n%s\n", r.ending(v))
	if t.engine.SetsCookies() {
		r.otherVisits(t.engine, v)
	}

	last := v.Last()
	if len(last.Headers) > 0 || len(last.Hints) > 0 {
		out.Printf("\nThe last answer in full\n\n")
		for _, h := range last.Hints {
			out.Printf("  103 Link: %s\n", render.Clean(h))
		}
		out.Printf("  %s %s\n", out.Status(fmt.Sprint(last.Status)), http.StatusText(last.Status))
		for _, h := range last.Headers {
			out.Printf("  %s: %s\n", render.Clean(h.Name), render.Clean(h.Value))
		}
		r.sizes(last)
	}
	if t.body {
		r.content(last)
	}
	shown := v.Hops
	if len(shown) > 4 && v.Ending != browser.Arrived {
		shown = shown[:4]
	}
	for i, h := range shown {
		r.hopSteps(t.engine, i, h, traces[i])
	}
	if len(shown) < len(v.Hops) {
		out.Printf("\nThe other %d answers come about in the same way.\n", len(v.Hops)-len(shown))
	}
	return nil
}

// hopRow is one answer in columns: status, target, what decided, what is sent.
func (r *run) hopRow(h browser.Hop, target string) []string {
	resp := h.Response
	what, size := "", ""
	if resp.Type != "" && resp.Status/100 != 3 {
		what = resp.Type
		size = render.Bytes(resp.Encoded)
		if resp.Encoding != "" {
			what += " " + resp.Encoding
		}
	}
	by, at := string(resp.Cause), ""
	if resp.By != nil {
		by, at = resp.By.Name, place(resp.By)
	}
	if resp.By == nil {
		by = r.out.Quiet(by)
	}
	return []string{r.out.Status(engine.StatusText(resp)), render.Clean(target), by, r.out.Quiet(at), what, size}
}

// sizes is the table of what goes over the wire, and what each encoding would
// make of it.
func (r *run) sizes(resp *engine.Response) {
	if resp.Status != 200 || resp.File == nil || !representation.Compressible(resp.Type) || resp.Size == 0 {
		return
	}
	content, err := resp.Content()
	if err != nil {
		return // an inventory does not hold it
	}
	rows := [][]string{{r.out.Quiet("sent as"), r.out.Quiet("bytes"), r.out.Quiet("saved")}}
	for _, name := range []string{"", "gzip", "zstd", "br"} {
		size := resp.Size
		switch {
		case name == resp.Encoding:
			size = resp.Encoded
		case name != "":
			size = int64(len(representation.Encode(content, name, 0)))
		}
		label, saved := name, ""
		if name == "" {
			label = "uncompressed"
		} else {
			saved = render.Saved(resp.Size, size)
		}
		if name == resp.Encoding {
			saved += "  <- this answer"
		}
		rows = append(rows, []string{label, render.Number(size), saved})
	}
	r.out.Printf("\n")
	r.out.Rows("  ", rows, 1)
}

// hopSteps tells how one answer came about.
func (r *run) hopSteps(e *engine.Engine, i int, h browser.Hop, trace *engine.Trace) {
	out, resp := r.out, h.Response
	out.Printf("\nAnswer %d: %s %s\n\n", i+1, render.Clean(h.Request.Verb()), render.Short(h.Request.Address.String(), out.Width-20))
	for _, line := range wrapList(fieldValues(e, h), out.Width-2) {
		out.Printf("  %s\n", line)
	}
	out.Printf("\n")
	names, places := 0, 0
	for _, s := range trace.Steps {
		if s.Rule != nil && !isPathReason(s) {
			names, places = max(names, len(s.Rule.Name)), max(places, len(place(s.Rule)))
		}
	}
	line := func(mark, name, at, text string) {
		pad := strings.Repeat(" ", max(0, names-len(name)))
		padAt := strings.Repeat(" ", max(0, places-len(at)))
		out.Printf("  %s  %s%s   %s%s   %s\n", mark, name, pad, out.Quiet(at), padAt, text)
	}
	var other []string // entries for other paths, in a row
	seen := map[*rulebook.Rule]bool{}
	flush := func() {
		if len(other) == 0 {
			return
		}
		what := fmt.Sprintf("%d entries are for other paths: ", len(other))
		if len(other) == 1 {
			what = "1 entry is for another path: "
		}
		mark := "-"
		for _, s := range wrapList(other, out.Width-44) {
			out.Printf("  %s  %s\n", mark, out.Quiet(what+s))
			what, mark = strings.Repeat(" ", len(what)), " "
		}
		other = nil
	}
	for _, s := range trace.Steps {
		if isPathReason(s) {
			if !seen[s.Rule] {
				other = append(other, fmt.Sprintf("%s (%d)", s.Rule.Name, s.Rule.Place.Line))
			}
			seen[s.Rule] = true
			continue
		}
		flush()
		text := render.Short(s.Text, max(40, out.Width-names-places-12))
		switch {
		case s.Rule == nil:
			out.Printf("  +  %s\n", text)
		case s.Fits:
			line("+", s.Rule.Name, place(s.Rule), text)
		default:
			line("-", s.Rule.Name, place(s.Rule), out.Quiet(text))
		}
	}
	flush()
	by := fmt.Sprintf("no entry; the cause is %s", resp.Cause)
	if resp.By != nil {
		by = fmt.Sprintf("%s, %s; the cause is %s", resp.By.Name, place(resp.By), resp.Cause)
	}
	out.Printf("  =  %s decided by %s\n", engine.StatusText(resp), by)
	if resp.By != nil {
		line := resp.By.Place.Source.Lines[resp.By.Place.Line-1]
		out.Printf("     %s\n", out.Quiet(render.Short(strings.Join(strings.Fields(line), " "), out.Width-5)))
	}
	if resp.Word() == "" {
		out.Printf("     %s\n", browser.Keeping(h.Request, resp, time.Now()))
	}
}

// isPathReason reports whether an entry was passed over for its path alone.
func isPathReason(s engine.Step) bool {
	if s.Rule == nil || s.Fits {
		return false
	}
	return strings.HasPrefix(s.Text, "on ") || strings.HasPrefix(s.Text, "in ") || strings.HasPrefix(s.Text, "none of the ")
}

// mostShown is how many bytes of a body are shown.
const mostShown = 64 << 10

// content shows the body of an answer.
func (r *run) content(resp *engine.Response) {
	body, err := resp.Content()
	switch {
	case err != nil:
		r.out.Printf("\nThe body is not known here: %s\n", render.Clean(err.Error()))
		return
	case len(body) == 0:
		r.out.Printf("\nThe answer has no body.\n")
		return
	case !utf8.Valid(body) || bytes.IndexByte(body, 0) >= 0:
		r.out.Printf("\nThe body is not text: %s of %s.\n", render.Bytes(int64(len(body))), render.Clean(resp.Type))
		return
	}
	r.out.Printf("\nThe body\n\n")
	for line := range strings.Lines(string(body[:min(len(body), mostShown)])) {
		r.out.Printf("  %s\n", render.Clean(strings.TrimRight(line, "\r\n")))
	}
	if len(body) > mostShown {
		r.out.Printf("  … of %s\n", render.Bytes(int64(len(body))))
	}
}

// treeState is what the field `file` is at a path.
func treeState(e *engine.Engine, resp *engine.Response) string {
	if resp.Site == nil || !e.KnowsTree(resp.Site) {
		return ""
	}
	switch node := e.Tree(resp.Site).Find(strings.TrimSuffix(resp.Path, "/")); {
	case node == nil || node.Hidden:
		return "missing"
	case node.Folder:
		return "folder"
	case strings.HasSuffix(resp.Path, "/"):
		return "missing"
	}
	return "exists"
}

// captures are what the patterns of the entry that decided have taken of the path.
func captures(h browser.Hop) (out []string) {
	if h.Response.By == nil {
		return nil
	}
	for _, p := range h.Response.By.On {
		path, err := canonical.Path(h.Request.Address.Path, h.Response.Site != nil && h.Response.Site.KeepSlashes)
		if err != nil || !p.Match(path) {
			continue
		}
		values := p.Captures(path, nil)
		for i, name := range p.Names() {
			if i < len(values) {
				out = append(out, "{"+name+"} "+canonical.Decode(values[i]))
			}
		}
		break
	}
	return out
}

// fieldValues are the values that rules can test, as words.
func fieldValues(e *engine.Engine, h browser.Hop) []string {
	a := h.Request.Address
	out := []string{"scheme " + a.Scheme, "host " + a.Host, fmt.Sprintf("port %d", a.Port), "method " + h.Request.Verb(), "asked " + a.Path}
	if a.Query != "" {
		out = append(out, "query "+a.Query)
		for pair := range strings.SplitSeq(a.Query, "&") {
			name, _, _ := strings.Cut(pair, "=")
			if value, ok := request.Parameter(a.Query, request.FormText(name)); ok && pair != "" {
				out = append(out, "query."+request.FormText(name)+" "+strconv.Quote(value))
			}
		}
	}
	if state := treeState(e, h.Response); state != "" {
		out = append(out, "file "+state)
	}
	if h.Request.Client.IsValid() {
		out = append(out, "client "+h.Request.Client.String())
	}
	if !h.Request.Time.IsZero() {
		out = append(out, "time "+h.Request.Time.UTC().Format("2006-01-02T15:04:05Z"))
	}
	if h.Request.Body > 0 {
		out = append(out, "body "+render.Bytes(h.Request.Body))
	}
	for _, header := range h.Request.Headers {
		value := header.Value
		if strings.EqualFold(header.Name, "Authorization") {
			value = "(not shown)"
		}
		out = append(out, "header."+header.Name+" "+value)
	}
	cookies, _ := http.ParseCookie(strings.Join(cookieLines(h.Request), "; "))
	for _, c := range cookies {
		out = append(out, "cookie."+c.Name+" "+c.Value)
	}
	out = append(out, captures(h)...)
	seen := map[string]bool{}
	out = slices.DeleteFunc(out, func(s string) bool { // of a parameter the first counts
		again := seen[s]
		seen[s] = true
		return again
	})
	for i := range out {
		out[i] = render.Short(out[i], 100)
	}
	return out
}

// cookieLines are the values of the request's Cookie fields.
func cookieLines(req *request.Request) (out []string) {
	for _, h := range req.Headers {
		if strings.EqualFold(h.Name, "Cookie") {
			out = append(out, h.Value)
		}
	}
	return out
}

type traceStep struct {
	Entry string `json:"entry,omitempty"`
	At    string `json:"at,omitempty"`
	Fits  bool   `json:"fits"`
	Text  string `json:"text"`
}
