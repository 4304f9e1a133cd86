package live

// How a running server is asked: at a modest pace, and no other server than the one that is
// named.

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"kibitz/core/request"
)

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

// An asker sends requests.
type asker struct {
	Options
	transport *http.Transport
	pace      *rate.Limiter
}

func newAsker(o Options) *asker {
	a := &asker{Options: o, transport: o.transport(), pace: rate.NewLimiter(rate.Inf, 1)}
	if o.Rate > 0 {
		a.pace = rate.NewLimiter(rate.Limit(o.Rate), 1)
	}
	return a
}

// each calls do for 0 to n-1, several at once, until the context ends.
func (v *asker) each(ctx context.Context, n int, do func(i int)) {
	var next, done atomic.Int64
	var pool sync.WaitGroup
	for range max(v.Parallel, 1) {
		pool.Go(func() {
			for {
				i := int(next.Add(1)) - 1
				if i >= n || ctx.Err() != nil {
					return
				}
				do(i)
				if n := done.Add(1); v.Progress != nil {
					v.Progress(int(n))
				}
			}
		})
	}
	pool.Wait()
}

var errInterrupted = errors.New("interrupted")

// ask sends a request when its turn comes, and again after an error of the network. The body
// of the answer goes to body, of which Reset is called before each try, if it has that.
func (v *asker) ask(ctx context.Context, at *url.URL, req *request.Request, body io.Writer) (got *http.Response, size int64, err error) {
	for try := 0; ; try++ {
		if v.pace.Wait(ctx) != nil {
			return nil, 0, errInterrupted
		}
		if r, ok := body.(interface{ Reset() }); ok {
			r.Reset()
		}
		got, size, err = v.send(ctx, at, req, body)
		if err == nil || try >= v.Retries || ctx.Err() != nil {
			return got, size, err
		}
	}
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

// maxAnswer is how much of an answer's body is read.
const maxAnswer = 256 << 20

// send sends one request, and copies the body of its answer.
func (v *asker) send(ctx context.Context, at *url.URL, req *request.Request, body io.Writer) (*http.Response, int64, error) {
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
			return nil, 0, fmt.Errorf("%w (-insecure goes on anyway)", err)
		}
		return nil, 0, err
	}
	defer resp.Body.Close()
	n, err := io.Copy(body, io.LimitReader(resp.Body, maxAnswer))
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
