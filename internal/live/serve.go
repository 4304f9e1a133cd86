// Package live speaks to clients and servers: it answers real requests as they
// are predicted, and holds the answers of a running server against the
// prediction. It is the only place with a socket.
package live

import (
	"cmp"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log"
	"math/big"
	"net"
	"net/http"
	"net/http/httputil"
	"net/netip"
	"net/url"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// A Served is one request that was answered, for the log.
type Served struct {
	Time     time.Time
	Request  *request.Request
	Response *engine.Response
	Status   int // as it was sent; of an application's answer, too
	Bytes    int64
	Took     time.Duration
	NoHost   string // what stands for the host, where it names none: nothing else is looked at then
}

// A Server answers requests as Predict does. It is an http.Handler.
type Server struct {
	Host      string // by which every request is asked; "" for its own Host field
	Forwarded bool   // the client and the scheme are those of a Forwarded field (RFC 7239)
	Clock     func() time.Time
	Log       func(Served)             // may be nil
	Reload    func(old *engine.Engine) // uses what the rulebook and its trees are now; nil: they never change

	engine  atomic.Pointer[engine.Engine]
	local   []origin // where it listens
	guesses guesses
	hosts   hosts
}

// An origin is where the server listens for a scheme.
type origin struct {
	scheme, host string
	port         int
}

// NewServer makes a server for a rulebook.
func NewServer(e *engine.Engine) *Server {
	s := &Server{Clock: time.Now}
	s.Use(e)
	return s
}

// Use puts another rulebook in place; requests that are being answered keep the
// old one.
func (s *Server) Use(e *engine.Engine) { s.engine.Store(e) }

// Engine is the rulebook that is in place.
func (s *Server) Engine() *engine.Engine { return s.engine.Load() }

// maxBody is how much of a request's body is read.
const maxBody = 64 << 20

func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	start := time.Now()
	e := s.engine.Load()
	if s.Host == "" && !s.named(r) {
		const text = "400: the Host field names no host"
		http.Error(w, text, http.StatusBadRequest)
		if s.Log != nil {
			s.Log(Served{Time: s.Clock(), Status: http.StatusBadRequest, Bytes: int64(len(text) + 1), Took: time.Since(start), NoHost: cmp.Or(r.Host, "(none)")})
		}
		return
	}
	req, named := s.request(e, r)
	resp, body := s.predict(e, req)
	done := Served{Time: req.Time, Request: req, Response: resp, Status: resp.Status}
	switch {
	case resp.Word() == engine.WordApp:
		done.Status, done.Bytes = s.handOff(w, r, req, resp)
	case body == nil:
		text := "The rulebook names an inventory: what is in this file is not known here. With `files DIR` it is sent."
		if resp.Word() == engine.WordFiles {
			text = "No entry answers here: the site's files decide, and the rulebook does not name them. Add `files DIR` to the site."
		}
		done.Status, done.Bytes = http.StatusBadGateway, int64(len(text)+1) // and its line end
		http.Error(w, text, done.Status)
	default:
		if r.Body != http.NoBody {
			io.Copy(io.Discard, http.MaxBytesReader(w, r.Body, maxBody))
		}
		done.Bytes = s.answer(w, r, req, resp, body, named)
		body.Close()
	}
	done.Took = time.Since(start)
	if s.Log != nil {
		s.Log(done)
	}
	runtime.Gosched() // a connection whose next request is there already is not to hold up all others
}

// named reports whether a request names a host, as it must (RFC 9112, 3.2).
func (s *Server) named(r *http.Request) bool {
	if r.Host == "" {
		return !r.ProtoAtLeast(1, 1)
	}
	_, ok := s.hosts.of(r.Host)
	return ok
}

// Causes of answers that only a server gives.
const (
	CauseGuesses    engine.Cause = "too-many-passwords"
	CauseUnreadable engine.Cause = "unreadable"
)

// predict gives the answer with its body, which is opened; nil where an application or an
// inventory has it. A file that has gone or changed since the tree was read is answered as
// by the tree of now; one that may not be read is an error of the server's.
func (s *Server) predict(e *engine.Engine, req *request.Request) (*engine.Response, *engine.Body) {
	fail := func(status int, cause engine.Cause) (*engine.Response, *engine.Body) {
		resp := e.Fail(req, status, cause)
		body, err := resp.Open()
		if err != nil { // its page cannot be read either
			resp.File, resp.Headers, resp.Encoding = nil, nil, ""
			body = &engine.Body{Reader: http.NoBody}
		}
		return resp, body
	}
	if s.guesses.tooMany(req.Client, s.Clock()) {
		resp, body := fail(http.StatusTooManyRequests, CauseGuesses)
		resp.Headers = append(resp.Headers, request.Header{Name: "Retry-After", Value: strconv.Itoa(int(guessPause.Seconds()))})
		return resp, body
	}
	for again := range 2 {
		resp := e.Predict(req)
		if _, asks := req.Get("Authorization"); resp.Cause == engine.CauseAsked && asks {
			s.guesses.wrong(req.Client, s.Clock())
		}
		if resp.Word() != "" {
			return resp, nil
		}
		body, err := resp.Open()
		switch {
		case err == nil:
			return resp, body
		case errors.Is(err, site.ErrNoContent):
			return resp, nil
		case errors.Is(err, fs.ErrPermission):
			return fail(http.StatusInternalServerError, CauseUnreadable)
		case again == 0 && s.Reload != nil:
			s.Reload(e)
			e = s.engine.Load()
		}
	}
	return fail(http.StatusNotFound, engine.CauseMissing)
}

// request reads what a client asks for. named is false where it does not name
// one of the rulebook's hosts, but the address at which the server listens.
func (s *Server) request(e *engine.Engine, r *http.Request) (req *request.Request, named bool) {
	scheme := "http"
	if r.TLS != nil {
		scheme = "https"
	}
	main := e.Book.BaseAddress()
	host := r.Host
	if s.Host != "" {
		host = s.Host
	}
	base := request.Address{Scheme: scheme, Host: host, Port: request.DefaultPort(scheme)}
	if a, ok := s.hosts.of(host); ok {
		base = a
		base.SetScheme(scheme)
		if e.Serves(a.Host) || !isLocal(a.Host, r) {
			named = true
		}
	}
	if base.Port == listensAt(r) { // which no visitor would name
		base.Port = request.DefaultPort(scheme)
	}
	if !named { // a preview: it stands for the main address
		base.Host, base.Port = main.Host, request.DefaultPort(scheme)
		if len(s.local) < 2 {
			base.Scheme, base.Port = main.Scheme, main.Port
		}
	}
	req = &request.Request{Method: r.Method, Time: s.Clock(), Body: max(r.ContentLength, 0)}
	req.Address = base
	target := r.RequestURI
	if r.URL.IsAbs() { // as a proxy is asked
		target = r.URL.RequestURI()
	}
	req.Address.Path, req.Address.Query, req.Address.HasQuery = strings.Cut(target, "?")
	if client, err := netip.ParseAddrPort(r.RemoteAddr); err == nil {
		req.Client = client.Addr().Unmap()
	}
	for name, values := range r.Header {
		if name == "Content-Length" || s.Forwarded && name == "Forwarded" {
			continue
		}
		for _, v := range values {
			req.Headers = append(req.Headers, request.Header{Name: name, Value: v})
		}
	}
	slices.SortStableFunc(req.Headers, func(a, b request.Header) int { return strings.Compare(a.Name, b.Name) })
	if s.Forwarded {
		forwarded(r.Header.Get("Forwarded"), req)
	}
	return req, named
}

// A hosts remembers what Host fields name: nearly all requests name one of a few.
type hosts struct {
	mu     sync.Mutex
	byHost map[string]request.Address
}

const mostHosts = 1000

// of gives the address that a Host field names, over http; false where it names none (RFC
// 9112, 3.2).
func (h *hosts) of(field string) (request.Address, bool) {
	h.mu.Lock()
	a, ok := h.byHost[field]
	h.mu.Unlock()
	if ok {
		return a, true
	}
	authority, err := request.Authority("http", field)
	if err != nil || strings.HasSuffix(field, ":") {
		return a, false
	}
	if a, err = request.Parse("http://"+authority, request.Address{}); err != nil {
		return a, false
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.byHost == nil || len(h.byHost) >= mostHosts {
		h.byHost = map[string]request.Address{}
	}
	h.byHost[field] = a
	return a, true
}

// listensAt gives the port at which a request came in.
func listensAt(r *http.Request) int {
	if a, ok := r.Context().Value(http.LocalAddrContextKey).(*net.TCPAddr); ok {
		return a.Port
	}
	return 0
}

// isLocal reports whether a host is this machine's own name, or the address at which the
// request came in.
func isLocal(host string, r *http.Request) bool {
	if host == "localhost" {
		return true
	}
	a, err := netip.ParseAddr(strings.Trim(host, "[]"))
	if err != nil {
		return false
	}
	at, _ := r.Context().Value(http.LocalAddrContextKey).(*net.TCPAddr)
	return a.IsLoopback() || a.IsPrivate() || a.IsUnspecified() || at != nil && at.AddrPort().Addr().Unmap() == a
}

// forwarded takes the client and the scheme from a Forwarded field (RFC 7239, 4).
func forwarded(field string, req *request.Request) {
	first, _, _ := strings.Cut(field, ",")
	for _, pair := range strings.Split(first, ";") {
		name, value, _ := strings.Cut(strings.TrimSpace(pair), "=")
		value = strings.Trim(value, `"`)
		switch strings.ToLower(name) {
		case "for":
			if a, err := netip.ParseAddr(strings.Trim(value, "[]")); err == nil {
				req.Client = a.Unmap()
			}
		case "proto":
			if value == "http" || value == "https" {
				if req.Address.Port == request.DefaultPort(req.Address.Scheme) {
					req.Address.Port = request.DefaultPort(value)
				}
				req.Address.Scheme = value
			}
		}
	}
}

// answer sends a predicted response, and gives the bytes of its body.
func (s *Server) answer(w http.ResponseWriter, r *http.Request, req *request.Request, resp *engine.Response, body *engine.Body, named bool) int64 {
	h := w.Header()
	if len(resp.Hints) > 0 {
		for _, link := range resp.Hints {
			h.Add("Link", link)
		}
		w.WriteHeader(http.StatusEarlyHints)
		h.Del("Link")
	}
	h["Content-Type"] = nil                     // nothing is guessed
	values := make([]string, len(resp.Headers)) // of fields that stand once, as nearly all do
	for i, f := range resp.Headers {
		if f.Name == "Location" && !named {
			f.Value = s.here(r, req, f.Value)
		}
		values[i] = f.Value
		name := http.CanonicalHeaderKey(f.Name)
		if h[name] == nil || name == "Content-Type" {
			h[name] = values[i : i+1 : i+1]
			continue
		}
		h[name] = append(h[name], f.Value)
	}
	w.WriteHeader(resp.Status)
	if r.Method == http.MethodHead || resp.Status == http.StatusNoContent || resp.Status == http.StatusNotModified {
		return 0
	}
	n, _ := io.Copy(w, body.Reader) // a file goes from the disk to the connection
	return n
}

// here turns a Location on a host of the rulebook into one at which the server
// listens, for a browser that does not know those hosts: under the name by which it asked.
func (s *Server) here(r *http.Request, req *request.Request, location string) string {
	to, err := req.Address.Resolve(location)
	if err != nil || !strings.Contains(location, "://") || !s.engine.Load().Serves(to.Host) {
		return location
	}
	at := s.local[0]
	for _, o := range s.local {
		if o.scheme == to.Scheme {
			at = o
		}
	}
	host := at.host
	if a, ok := s.hosts.of(r.Host); ok {
		host = a.Host
	}
	here := request.Address{Scheme: at.scheme, Host: host, Port: at.port, Path: to.Path, Query: to.Query, HasQuery: to.HasQuery, Fragment: to.Fragment}
	return here.String()
}

// handOff lets an application answer; without one, 502 says so. It is asked for what the
// rules have decided about: the path in its one spelling, and as rewrites have left it.
func (s *Server) handOff(w http.ResponseWriter, r *http.Request, req *request.Request, resp *engine.Response) (status int, size int64) {
	count := &counter{ResponseWriter: w}
	app := resp.By.Action.(*rulebook.Handoff).To
	to, err := url.Parse(app)
	if app == "" || err != nil {
		count.Header().Set("Content-Type", "text/plain; charset=utf-8")
		count.WriteHeader(http.StatusBadGateway)
		fmt.Fprintf(count, "502: an application answers here, and the rulebook does not say where it is: write   to http://127.0.0.1:PORT   into the entry.\n")
		return count.status, count.size
	}
	proxy := &httputil.ReverseProxy{
		Rewrite: func(p *httputil.ProxyRequest) {
			p.Out.URL.Path, p.Out.URL.RawPath, p.Out.URL.RawQuery = canonical.Decode(resp.Path), resp.Path, resp.Query
			p.SetURL(to)
			p.SetXForwarded()
			p.Out.Host = req.Address.Host
		},
		ErrorHandler: func(w http.ResponseWriter, _ *http.Request, err error) {
			w.Header().Set("Content-Type", "text/plain; charset=utf-8")
			w.WriteHeader(http.StatusBadGateway)
			fmt.Fprintf(w, "502: the application at %s does not answer: %v\n", app, err)
		},
		ErrorLog: log.New(io.Discard, "", 0),
	}
	proxy.ServeHTTP(count, r)
	return count.status, count.size
}

// counter notes what an application answers.
type counter struct {
	http.ResponseWriter
	status int
	size   int64
}

func (c *counter) WriteHeader(status int) {
	if status >= 200 {
		c.status = status
	}
	c.ResponseWriter.WriteHeader(status)
}

func (c *counter) Write(b []byte) (int, error) {
	if c.status == 0 {
		c.status = http.StatusOK
	}
	n, err := c.ResponseWriter.Write(b)
	c.size += int64(n)
	return n, err
}

func (c *counter) Unwrap() http.ResponseWriter { return c.ResponseWriter }

// A Listener is where a server listens, before it serves.
type Listener struct {
	net.Listener
	Scheme string
}

// URL is the address of the listener, as a link that works on this machine.
func (l *Listener) URL() string {
	at := l.origin()
	return (request.Address{Scheme: at.scheme, Host: at.host, Port: at.port, Path: "/"}).String()
}

func (l *Listener) origin() origin {
	at := l.Addr().(*net.TCPAddr).AddrPort()
	host := at.Addr().Unmap()
	if host.IsUnspecified() {
		host = engine.Loopback
	}
	name := host.String()
	if host.Is6() {
		name = "[" + name + "]"
	}
	return origin{l.Scheme, name, int(at.Port())}
}

// Reach gives further links to a listener, by which other machines reach it; none where it
// listens on this machine alone.
func (l *Listener) Reach() []string {
	at := l.Addr().(*net.TCPAddr)
	if at.IP.IsLoopback() {
		return nil
	}
	if !at.IP.IsUnspecified() {
		return []string{l.URL()}
	}
	var links []string
	addresses, _ := net.InterfaceAddrs()
	for _, a := range addresses {
		n, ok := a.(*net.IPNet)
		if !ok || n.IP.IsLoopback() || n.IP.IsLinkLocalUnicast() {
			continue
		}
		links = append(links, fmt.Sprintf("%s://%s/", l.Scheme, net.JoinHostPort(n.IP.String(), strconv.Itoa(at.Port))))
	}
	return links
}

// Listen opens a port; "" is a free one on loopback. With secure it speaks TLS,
// with a certificate for the hosts of the rulebook that is made on the spot.
func (s *Server) Listen(address string, secure bool) (*Listener, error) {
	if address == "" {
		address = "127.0.0.1:0"
	}
	in, err := net.Listen("tcp", address)
	if err != nil {
		if op, ok := errors.AsType[*net.OpError](err); ok && strings.Contains(op.Err.Error(), "in use") {
			return nil, fmt.Errorf("%s is taken: another program listens there; choose another port with -listen, or leave it out for a free one", address)
		}
		return nil, fmt.Errorf("nothing can listen at %s: %w", address, err)
	}
	l := &Listener{in, "http"}
	if secure {
		cert, err := certificate(s.engine.Load().Book, s.Clock())
		if err != nil {
			in.Close()
			return nil, err
		}
		l.Listener = tls.NewListener(in, &tls.Config{Certificates: []tls.Certificate{cert}, NextProtos: []string{"h2", "http/1.1"}, MinVersion: tls.VersionTLS12})
		l.Scheme = "https"
	}
	s.local = append(s.local, l.origin())
	return l, nil
}

// certificate makes one for the hosts of the rulebook, signed by itself.
func certificate(book *rulebook.Book, now time.Time) (tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return tls.Certificate{}, err
	}
	template := &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: "kibitz preview"},
		NotBefore: now.Add(-time.Hour), NotAfter: now.Add(30 * 24 * time.Hour),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		DNSNames: []string{"localhost"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1), net.IPv6loopback},
	}
	for _, site := range book.Sites {
		for _, h := range site.Hosts {
			name := h.String()
			if literal, ok := h.Literal(); ok {
				name = literal
			}
			if strings.Trim(strings.TrimPrefix(name, "*."), "abcdefghijklmnopqrstuvwxyz0123456789.-") == "" {
				template.DNSNames = append(template.DNSNames, name)
			}
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, err
}

// Serve answers on the listeners until the context ends; then it lets the
// requests that are being answered come to their end.
func (s *Server) Serve(ctx context.Context, listeners ...*Listener) error {
	var servers []*http.Server
	failed := make(chan error, len(listeners))
	for _, l := range listeners {
		server := &http.Server{
			Handler: s, ErrorLog: log.New(io.Discard, "", 0), MaxHeaderBytes: 1 << 20,
			DisableGeneralOptionsHandler: true, // the rulebook's header entries have their say
			ReadHeaderTimeout:            10 * time.Second, ReadTimeout: time.Minute, WriteTimeout: 5 * time.Minute, IdleTimeout: 2 * time.Minute,
		}
		if l.Scheme == "https" {
			server.Protocols = new(http.Protocols)
			server.Protocols.SetHTTP1(true)
			server.Protocols.SetHTTP2(true)
		}
		servers = append(servers, server)
		go func() { failed <- server.Serve(l) }()
	}
	var err error
	select {
	case <-ctx.Done():
	case err = <-failed:
	}
	stop, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	for _, server := range servers {
		if server.Shutdown(stop) != nil {
			server.Close()
		}
	}
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}
