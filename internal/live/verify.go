package live

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/request/list"
)

// Aspects are what an answer is held against the prediction in.
var Aspects = []string{"status", "location", "headers", "encoding", "size"}

// A Difference is one aspect in which an answer is not the predicted one.
type Difference struct {
	Aspect    string // one of Aspects
	Field     string // the header field, for headers
	Predicted string
	Got       string
}

// A Verified is one request of a list with what became of it.
type Verified struct {
	List        string
	Item        *list.Item
	Predicted   *engine.Response
	Got         *http.Response // without its body; nil where nothing came
	Size        int64          // of the body
	Sent        bool           // the answer is to this very request, not to one like it
	Differences []Difference
	Skipped     string // why it was not sent
	Failed      error  // of the network, after all retries
}

// Verify sends requests to a running server, and never to another, and holds
// each answer against the prediction. Redirects are not followed. The results
// are in the order of the items; those that are alike have one answer. It ends early, with what there is, when the
// context ends.
func Verify(ctx context.Context, e *engine.Engine, name string, items []*list.Item, o Options) []*Verified {
	v := &verifier{Engine: e, asker: newAsker(o), answers: map[string]*answered{}}
	defer v.transport.CloseIdleConnections()
	results := make([]*Verified, len(items))
	v.each(ctx, len(items), func(i int) {
		results[i] = &Verified{List: cmp.Or(items[i].List, name), Item: items[i]}
		v.verify(ctx, results[i])
	})
	return slices.DeleteFunc(results, func(r *Verified) bool { return r == nil })
}

type verifier struct {
	*engine.Engine
	*asker
	mu      sync.Mutex
	answers map[string]*answered // by what goes over the wire
}

// answered is what a server answered to a request that changes nothing there: it is sent
// once, however often a list has it, and with whatever header fields no entry looks at.
type answered struct {
	once sync.Once
	got  *http.Response
	size int64
	err  error
}

// answer gives the answer to a request, and whether it was sent for it.
func (v *verifier) answer(ctx context.Context, at *url.URL, req *request.Request) (got *http.Response, size int64, sent bool, err error) {
	if verb := req.Verb(); verb != "GET" && verb != "HEAD" {
		got, size, err = v.ask(ctx, at, req, io.Discard)
		return got, size, true, err
	}
	in := v.Inputs(req.Address.Host)
	key := fmt.Sprintf("%s %s %s", at, req.Verb(), req.Address)
	for _, h := range req.Headers {
		if in.Matters(strings.ToLower(h.Name)) {
			key += fmt.Sprintf("\n%s: %s", h.Name, h.Value)
		}
	}
	if v.Forwarded {
		key += req.Client.String()
	}
	v.mu.Lock()
	a := v.answers[key]
	if a == nil {
		a = &answered{}
		v.answers[key] = a
	}
	v.mu.Unlock()
	a.once.Do(func() {
		a.got, a.size, a.err = v.ask(ctx, at, req, io.Discard)
		sent = true
	})
	return a.got, a.size, sent, a.err
}

func (v *verifier) verify(ctx context.Context, r *Verified) {
	req := *r.Item.Request
	at := v.at(req.Address.Scheme)
	mine := req
	mine.Time = time.Now()
	if !v.Forwarded || !mine.Client.IsValid() {
		mine.Client = engine.Loopback
	}
	r.Predicted = v.Predict(&mine)
	switch verb := req.Verb(); {
	case !v.Serves(req.Address.Host):
		r.Skipped = "its host is none of the rulebook's"
	case verb != "GET" && verb != "HEAD" && !v.SendAll:
		r.Skipped = "it is not a GET or HEAD (-send-all sends it)"
	case r.Predicted.Word() == engine.WordApp:
		r.Skipped = "an application answers it"
	case r.Predicted.Word() == engine.WordFiles:
		r.Skipped = "the site's files decide, and the rulebook does not name them"
	case at == nil:
		r.Skipped = "no -at speaks " + req.Address.Scheme
	case at.Scheme != req.Address.Scheme && !v.Forwarded && v.dependsOnScheme(&mine):
		r.Skipped = "its answer depends on the scheme, and -at has the other one (name a second -at, or -forwarded)"
	case (req.Client.IsValid() || !req.Time.IsZero()) && !same(r.Predicted, v.Predict(&req)):
		r.Skipped = "its answer depends on the client or the time that the list tells (-forwarded sends the client along)"
	}
	if r.Skipped != "" {
		return
	}
	r.Got, r.Size, r.Sent, r.Failed = v.answer(ctx, at, &req)
	if errors.Is(r.Failed, errInterrupted) {
		r.Skipped, r.Failed = "interrupted", nil
		return
	}
	if r.Failed == nil {
		r.Differences = v.compare(&req, r)
	}
}

// dependsOnScheme reports whether the answer over the other scheme is another.
func (v *verifier) dependsOnScheme(req *request.Request) bool {
	other := *req
	other.Address.Scheme = map[string]string{"http": "https", "https": "http"}[req.Address.Scheme]
	other.Address.Port = request.DefaultPort(other.Address.Scheme)
	return !same(v.Predict(req), v.Predict(&other))
}

func same(a, b *engine.Response) bool {
	return a.Status == b.Status && a.Location == b.Location && a.File == b.File && a.Word() == b.Word()
}

// unlike are header fields in which servers rightly differ.
var unlike = []string{"Date", "Etag", "Last-Modified", "Content-Length", "Content-Encoding", "Vary", "Location", "Accept-Ranges"}

// compare holds an answer against the prediction.
func (v *verifier) compare(req *request.Request, r *Verified) []Difference {
	var out []Difference
	add := func(aspect, field, predicted, got string) {
		if slices.Contains(v.Aspects, aspect) {
			out = append(out, Difference{aspect, field, predicted, got})
		}
	}
	want, got := r.Predicted, r.Got
	if want.Status != got.StatusCode {
		add("status", "", fmt.Sprint(want.Status), fmt.Sprint(got.StatusCode))
	}
	location := got.Header.Get("Location")
	if want.Location != "" && (want.Status == got.StatusCode || location != "") {
		a, err1 := req.Address.Resolve(want.Location)
		b, err2 := req.Address.Resolve(location)
		if location == "" || err1 != nil || err2 != nil || a != b {
			add("location", "", want.Location, location)
		}
	}
	if want.Status != got.StatusCode {
		return out // the rest follows from that
	}
	seen := map[string]bool{}
	for _, h := range want.Headers {
		name := http.CanonicalHeaderKey(h.Name)
		if seen[name] || slices.Contains(unlike, name) {
			continue
		}
		seen[name] = true
		predicted, _ := want.Get(name)
		if value := strings.Join(got.Header.Values(name), ", "); !sameValue(name, predicted, value) {
			add("headers", name, predicted, value)
		}
	}
	encoding := got.Header.Get("Content-Encoding")
	if want.Encoding != encoding && req.Verb() != "HEAD" {
		add("encoding", "", want.Encoding, encoding)
	} else if encoding == "" && want.Encoded >= 0 && r.Size != want.Encoded && req.Verb() != "HEAD" && want.File != nil {
		add("size", "", fmt.Sprint(want.Encoded), fmt.Sprint(r.Size))
	}
	return out
}

// sameValue compares the values of a header field; of media types the case and
// the blanks do not count.
func sameValue(name, a, b string) bool {
	if name == "Content-Type" {
		comparable := func(s string) string {
			return strings.ToLower(strings.ReplaceAll(strings.ReplaceAll(s, " ", ""), `"`, ""))
		}
		return comparable(a) == comparable(b)
	}
	return a == b
}

// Reason says why the server most likely answers otherwise: a sentence for the
// administrator who looks for it.
func (r *Verified) Reason() string {
	if len(r.Differences) == 0 {
		return ""
	}
	d := r.Differences[0]
	want, got := r.Predicted, r.Got.StatusCode
	if want.Status >= 400 && want.Status == got && (d.Aspect == "size" || d.Field == "Content-Type") {
		return "the page for this error is another there: the error rule is missing, or shows another file"
	}
	redirects := func(status int) bool { return status/100 == 3 && status != 304 }
	switch d.Aspect {
	case "status":
		switch {
		case redirects(want.Status) && redirects(got):
			return fmt.Sprintf("the redirect is there, with %d in the place of %d", got, want.Status)
		case redirects(want.Status):
			return "the server does not have this redirect, or another rule comes before it"
		case (want.Status == 401 || want.Status == 403) && got == 200:
			return "the guard is not there: what is to be refused is served"
		case want.Status == 404 && got == 200:
			return "what is missing answers 200: an error page without its status, or a fallback that takes too much"
		case want.Status/100 == 2 && (got == 401 || got == 403):
			return "the server refuses what is to be served"
		case want.Status/100 == 2 && got == 404:
			return "the file is not there, or the rewrite that leads to it is missing"
		case want.Status/100 == 2 && redirects(got):
			return "the server redirects what is to be answered here"
		case got/100 == 5:
			return "the server fails: see its error log"
		}
		return "another rule decides there"
	case "location":
		return locationReason(r.Item.Request.Address, d)
	case "headers":
		if d.Got == "" {
			return d.Field + " is not sent: the header rule is missing, or not for this status or address"
		}
		if d.Field == "Content-Type" {
			return "the media type of this extension is another there"
		}
		return d.Field + " has another value: another rule sets it, too"
	case "encoding":
		if d.Got == "" {
			return "the answer is not compressed: compression is off, or not for this media type or size"
		}
		if d.Predicted == "" {
			return "the answer is compressed, and is not to be"
		}
		return "another encoding is preferred there"
	}
	return "the file there is another, older or newer"
}

// locationReason says in what a Location differs.
func locationReason(from request.Address, d Difference) string {
	want, err1 := from.Resolve(d.Predicted)
	got, err2 := from.Resolve(d.Got)
	switch {
	case d.Got == "":
		return "the redirect lacks its Location"
	case err1 != nil || err2 != nil:
		return "the redirect leads elsewhere"
	case want.Scheme != got.Scheme:
		return "the redirect leads to " + got.Scheme + ", not " + want.Scheme
	case want.Host != got.Host:
		return "the redirect leads to another host"
	case want.Path != got.Path && strings.TrimSuffix(want.Path, "/") == strings.TrimSuffix(got.Path, "/"):
		return "the slash at the end is missing there, or too many"
	case want.Path != got.Path:
		return "the redirect leads to another path"
	case want.Query != got.Query:
		return "the query is kept, dropped or written differently"
	}
	return "the fragment differs"
}
