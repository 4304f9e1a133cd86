package live

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/request/list"
)

// Aspects are what an answer is held against the prediction in.
var Aspects = []string{"status", "location", "headers", "encoding", "size"}

// Options say how a server is asked.
type Options struct {
	At        []*url.URL // where it is: one address, or one for each scheme
	Rate      float64    // requests in a second, at most; 0 for no bound
	Parallel  int
	Timeout   time.Duration // of one request
	Retries   int           // after an error of the network
	SendAll   bool          // methods other than GET and HEAD, too
	Insecure  bool          // certificates are not looked at
	Forwarded bool          // the client and the scheme go along in a Forwarded field
	Aspects   []string
	Progress  func(done int) // may be nil
}

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
	Differences []Difference
	Skipped     string // why it was not sent
	Failed      error  // of the network, after all retries
}

// Verify sends requests to a running server, and never to another, and holds
// each answer against the prediction. Redirects are not followed. The results
// are in the order of the items. It ends early, with what there is, when the
// context ends.
func Verify(ctx context.Context, e *engine.Engine, name string, items []*list.Item, o Options) []*Verified {
	v := &verifier{Engine: e, Options: o, transport: o.transport()}
	defer v.transport.CloseIdleConnections()
	results := make([]*Verified, len(items))
	var next, done atomic.Int64
	var pool sync.WaitGroup
	if o.Rate > 0 {
		v.pace = rate.NewLimiter(rate.Limit(o.Rate), 1)
	} else {
		v.pace = rate.NewLimiter(rate.Inf, 1)
	}
	for range max(o.Parallel, 1) {
		pool.Go(func() {
			for {
				i := int(next.Add(1)) - 1
				if i >= len(items) || ctx.Err() != nil {
					return
				}
				results[i] = &Verified{List: name, Item: items[i]}
				v.verify(ctx, results[i])
				if n := done.Add(1); o.Progress != nil {
					o.Progress(int(n))
				}
			}
		})
	}
	pool.Wait()
	return slices.DeleteFunc(results, func(r *Verified) bool { return r == nil })
}

type verifier struct {
	*engine.Engine
	Options
	transport *http.Transport
	pace      *rate.Limiter
}

// transport reaches the hosts of At, whatever host is named.
func (o *Options) transport() *http.Transport {
	dialer := net.Dialer{Timeout: o.Timeout}
	return &http.Transport{
		DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			at, _ := ctx.Value(atKey{}).(string)
			return dialer.DialContext(ctx, network, at)
		},
		TLSClientConfig:       &tls.Config{InsecureSkipVerify: o.Insecure},
		DisableCompression:    true,
		ResponseHeaderTimeout: o.Timeout,
		MaxIdleConnsPerHost:   max(o.Parallel, 1),
		Proxy:                 nil, // only to the server that is named
	}
}

type atKey struct{}

// at gives where a request is sent; nil where it cannot be.
func (o *Options) at(scheme string) *url.URL {
	for _, u := range o.At {
		if u.Scheme == scheme {
			return u
		}
	}
	if len(o.At) == 1 { // one server stands for both schemes
		return o.At[0]
	}
	return nil
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
		r.Skipped = "it is no GET or HEAD (-send-all sends it)"
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
	for try := 0; ; try++ {
		if v.pace.Wait(ctx) != nil {
			r.Skipped = "interrupted"
			return
		}
		r.Got, r.Size, r.Failed = v.send(ctx, at, &req)
		if r.Failed == nil || try >= v.Retries || ctx.Err() != nil {
			break
		}
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

// maxAnswer is how much of an answer's body is read.
const maxAnswer = 256 << 20

// send sends one request.
func (v *verifier) send(ctx context.Context, at *url.URL, req *request.Request) (*http.Response, int64, error) {
	ctx, cancel := context.WithTimeout(context.WithValue(ctx, atKey{}, hostPort(at)), v.Timeout)
	defer cancel()
	r := &http.Request{Method: req.Verb(), Host: req.Address.Host, Header: http.Header{"User-Agent": {"kibitz"}},
		URL: &url.URL{Scheme: at.Scheme, Host: req.Address.Host, Opaque: req.Address.Path, RawQuery: req.Address.Query, ForceQuery: req.Address.HasQuery}}
	if strings.HasPrefix(req.Address.Path, "//") { // which would be taken for a host
		r.URL.Opaque, r.URL.Path = "", req.Address.Path
	}
	if req.Address.Port != request.DefaultPort(req.Address.Scheme) {
		r.Host = fmt.Sprintf("%s:%d", req.Address.Host, req.Address.Port)
	}
	for _, h := range req.Headers {
		name := http.CanonicalHeaderKey(h.Name)
		if name == "User-Agent" {
			r.Header.Del(name)
		}
		r.Header.Add(name, h.Value)
	}
	if v.Forwarded {
		var pairs []string
		if req.Client.IsValid() {
			client := req.Client.String()
			if req.Client.Is6() {
				client = "[" + client + "]"
			}
			pairs = append(pairs, fmt.Sprintf("for=%q", client))
		}
		r.Header.Set("Forwarded", strings.Join(append(pairs, "proto="+req.Address.Scheme), ";"))
	}
	if req.Body > 0 {
		r.Body, r.ContentLength = io.NopCloser(io.LimitReader(zeros{}, req.Body)), req.Body
	}
	resp, err := v.transport.RoundTrip(r.WithContext(ctx))
	if err != nil {
		if errors.Is(err, context.DeadlineExceeded) {
			return nil, 0, fmt.Errorf("no answer within %s", v.Timeout)
		}
		if _, ok := errors.AsType[*tls.CertificateVerificationError](err); ok {
			return nil, 0, fmt.Errorf("%w (-insecure goes on all the same)", err)
		}
		return nil, 0, err
	}
	defer resp.Body.Close()
	n, err := io.Copy(io.Discard, io.LimitReader(resp.Body, maxAnswer))
	if err != nil {
		return nil, 0, fmt.Errorf("the answer broke off after %d bytes: %w", n, err)
	}
	return resp, n, nil
}

// zeros is a body of which only the size matters.
type zeros struct{}

func (zeros) Read(b []byte) (int, error) {
	clear(b)
	return len(b), nil
}

func hostPort(u *url.URL) string {
	port := u.Port()
	if port == "" {
		port = fmt.Sprint(request.DefaultPort(u.Scheme))
	}
	return net.JoinHostPort(u.Hostname(), port)
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
		plain := func(s string) string {
			return strings.ToLower(strings.ReplaceAll(strings.ReplaceAll(s, " ", ""), `"`, ""))
		}
		return plain(a) == plain(b)
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
		return "the query is kept, dropped or written otherwise"
	}
	return "the fragment differs"
}
