package live

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httptrace"
	"net/netip"
	"net/textproto"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"kibitz/core/engine"
	"kibitz/core/proof/trial"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
	"kibitz/core/site"
	"kibitz/demo"
)

// A world is a server with a client that knows no other.
type world struct {
	*engine.Engine
	server *Server
	now    atomic.Pointer[time.Time]
	client *http.Transport
}

// serve starts a server on free ports.
func serve(t *testing.T, e *engine.Engine) *world {
	t.Helper()
	w := &world{Engine: e, server: NewServer(e)}
	zero := time.Time{}
	w.now.Store(&zero)
	w.server.Clock = func() time.Time { return *w.now.Load() }
	w.server.Forwarded = true
	at := map[string]string{}
	var listeners []*Listener
	for _, secure := range []bool{false, true} {
		if secure {
			zero := time.Now()
			w.now.Store(&zero) // the certificate is valid from now on
		}
		l, err := w.server.Listen("", secure)
		if err != nil {
			t.Fatal(err)
		}
		listeners = append(listeners, l)
		at[l.Scheme] = l.Addr().String()
	}
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error)
	go func() { ended <- w.server.Serve(ctx, listeners...) }()
	t.Cleanup(func() {
		stop()
		if err := <-ended; err != nil {
			t.Error(err)
		}
	})
	dial := func(scheme string) func(context.Context, string, string) (net.Conn, error) {
		return func(ctx context.Context, _, _ string) (net.Conn, error) {
			c, err := net.Dial("tcp", at[scheme])
			if err == nil && scheme == "https" {
				c = tls.Client(c, &tls.Config{InsecureSkipVerify: true})
			}
			return c, err
		}
	}
	w.client = &http.Transport{DialContext: dial("http"), DialTLSContext: dial("https"), DisableCompression: true}
	t.Cleanup(w.client.CloseIdleConnections)
	return w
}

// ask sends a request as it stands, and gives the answer with its body and early
// hints.
func (w *world) ask(req *request.Request) (*http.Response, []byte, []string, error) {
	w.now.Store(&req.Time)
	r := &http.Request{Method: req.Verb(), Host: strings.TrimPrefix(req.Address.Origin(), req.Address.Scheme+"://"), Header: http.Header{"User-Agent": nil},
		URL: &url.URL{Scheme: req.Address.Scheme, Host: req.Address.Host, Opaque: req.Address.Path, RawQuery: req.Address.Query, ForceQuery: req.Address.HasQuery}}
	if strings.HasPrefix(req.Address.Path, "//") { // which would be taken for a host
		r.URL.Opaque, r.URL.Path = "", req.Address.Path
	}
	for _, h := range req.Headers {
		r.Header[http.CanonicalHeaderKey(h.Name)] = append(r.Header[http.CanonicalHeaderKey(h.Name)], h.Value)
	}
	if req.Client.IsValid() {
		r.Header.Set("Forwarded", fmt.Sprintf("for=%q", req.Client))
	}
	if req.Body > 0 {
		r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(make([]byte, req.Body))), req.Body
	}
	var hints []string
	trace := &httptrace.ClientTrace{Got1xxResponse: func(status int, h textproto.MIMEHeader) error {
		if status == http.StatusEarlyHints {
			hints = h["Link"]
		}
		return nil
	}}
	resp, err := w.client.RoundTrip(r.WithContext(httptrace.WithClientTrace(context.Background(), trace)))
	if err != nil {
		return nil, nil, nil, err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	return resp, body, hints, err
}

// differs says in what the real answer to a request is not the predicted one; ""
// for nothing.
func (w *world) differs(req *request.Request) string {
	sent := *req
	if !sent.Client.IsValid() { // whoever asks has an address
		sent.Client = netip.MustParseAddr("127.0.0.1")
	}
	want := w.Predict(&sent)
	got, body, hints, err := w.ask(req)
	switch {
	case err != nil:
		return err.Error()
	case want.Word() != "":
		return ""
	case got.StatusCode != want.Status:
		return fmt.Sprintf("status %d, predicted %d", got.StatusCode, want.Status)
	case got.StatusCode == 400 && want.Cause == engine.CauseBadRequest:
		return "" // the line of the request itself is refused
	}
	predicted := http.Header{}
	for _, h := range want.Headers {
		predicted.Add(h.Name, h.Value)
	}
	got.Header.Del("Date")
	if predicted.Get("Content-Length") == "" && got.Header.Get("Content-Length") == "0" {
		got.Header.Del("Content-Length")
	}
	for name := range predicted {
		if !slices.Equal(got.Header[name], predicted[name]) {
			return fmt.Sprintf("%s: %q, predicted %q", name, got.Header[name], predicted[name])
		}
	}
	for name := range got.Header {
		if predicted[name] == nil {
			return fmt.Sprintf("%s: %q is sent, and not predicted", name, got.Header[name])
		}
	}
	size := want.Encoded
	if req.Verb() == "HEAD" {
		size = 0
	}
	if int64(len(body)) != size && want.Status != http.StatusNoContent {
		return fmt.Sprintf("%d bytes, predicted %d", len(body), size)
	}
	if content, err := bodyOf(want); err != nil || req.Verb() != "HEAD" && !bytes.Equal(content, body) {
		return fmt.Sprintf("the body is another (%v)", err)
	}
	if !slices.Equal(hints, want.Hints) {
		return fmt.Sprintf("hints %q, predicted %q", hints, want.Hints)
	}
	return ""
}

func bodyOf(r *engine.Response) ([]byte, error) {
	body, err := r.Open()
	if err != nil {
		return nil, err
	}
	defer body.Close()
	return io.ReadAll(body)
}

// demoEngine writes the example site into a folder and reads it.
func demoEngine(t testing.TB) (*engine.Engine, map[string][]byte) {
	t.Helper()
	dir := t.TempDir()
	files := demo.Files()
	for name, text := range files {
		at := filepath.Join(dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(at, text, 0o644); err != nil {
			t.Fatal(err)
		}
		os.Chtimes(at, demo.Modified, demo.Modified)
	}
	book, err := rulebook.Load(filepath.Join(dir, "site.kibitz"), nil)
	if err != nil {
		t.Fatal(err)
	}
	tree, err := site.Folder(book.Sites[0].Files, nil)
	if err != nil {
		t.Fatal(err)
	}
	return engine.New(book, []*site.Tree{tree}), files
}

func TestTheExampleIsAnsweredAsPredicted(t *testing.T) {
	e, files := demoEngine(t)
	w := serve(t, e)
	asked := 0
	for _, name := range []string{"requests.txt", "browser.txt", "days.log"} {
		_, err := list.Read(bytes.NewReader(files[name]), list.Options{Base: e.Book.BaseAddress()}, func(item *list.Item) {
			asked++
			if why := w.differs(item.Request); why != "" {
				t.Errorf("%s:%d %s %s: %s", name, item.Line, item.Request.Verb(), item.Request.Address, why)
			}
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, more := range [][]request.Header{
		{{Name: "Range", Value: "bytes=10-19"}}, {{Name: "Range", Value: "bytes=-5"}, {Name: "Accept-Encoding", Value: "gzip"}}, {{Name: "Range", Value: "bytes=999999-"}},
		{{Name: "If-None-Match", Value: "*"}}, {{Name: "If-Match", Value: `"x"`}}, {{Name: "If-Modified-Since", Value: "Sun, 01 Mar 2026 06:00:00 GMT"}},
		{{Name: "Accept-Encoding", Value: "zstd, br;q=0.5"}}, {{Name: "Cookie", Value: "lang=de"}},
	} {
		for _, path := range []string{"/", "/styles/site.css", "/downloads/", "/nothing", "/images/logo.svg"} {
			for _, method := range []string{"GET", "HEAD", "POST", "DELETE"} {
				asked++
				req := &request.Request{Method: method, Address: e.Book.BaseAddress(), Headers: more}
				req.Address.Path = path
				if why := w.differs(req); why != "" {
					t.Errorf("%s %s %v: %s", method, path, more, why)
				}
			}
		}
	}
	t.Logf("%d requests", asked)
}

func TestRandomRulebooksAreAnsweredAsPredicted(t *testing.T) {
	books, each := 40, 60
	if testing.Short() {
		books = 5
	}
	for seed := range uint64(books) {
		r := rand.New(rand.NewPCG(seed, 9))
		text := trial.Book(r)
		e, err := trial.Read(text)
		if err != nil {
			t.Fatal(err)
		}
		w := serve(t, e)
		requests := trial.Requests(e.Book, 5000, r)
		for range each {
			req := requests[r.IntN(len(requests))]
			if req.Client.IsValid() || !req.Time.IsZero() { // whoever asks here is this machine, and now
				continue
			}
			if why := w.differs(req); why != "" {
				t.Fatalf("%s %v: %s, with\n%s", req.Address, req.Headers, why, text)
			}
		}
	}
}

func TestAnApplicationAnswersForItself(t *testing.T) {
	app := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.WriteHeader(http.StatusTeapot)
		fmt.Fprintf(w, "%s %s for %s", r.Method, r.URL, r.Host)
	}))
	defer app.Close()
	book, err := rulebook.Read("t.kibitz", []byte("site s address https://s.example files public\nhandoff app in /app/ to "+app.URL+"\nhandoff none in /none/\nhandoff gone in /gone/ to http://127.0.0.1:1\n"), nil)
	if err != nil {
		t.Fatal(err)
	}
	w := serve(t, engine.New(book, []*site.Tree{nil}))
	for path, want := range map[string]string{"/app/x?a=1": "418 GET /app/x?a=1 for s.example", "/none/": "502 502: an application answers here, and", "/gone/": "502 502: the application at http://127.0.0.1:1 does not answer"} {
		req := &request.Request{Address: book.BaseAddress()}
		req.Address.Path, req.Address.Query, req.Address.HasQuery = strings.Cut(path, "?")
		resp, body, _, err := w.ask(req)
		if err != nil {
			t.Fatal(err)
		}
		if got := fmt.Sprintf("%d %s", resp.StatusCode, body); !strings.HasPrefix(got, want) {
			t.Errorf("%s: %s, want %s", path, got, want)
		}
	}
}

func TestTakenPortsAreSaid(t *testing.T) {
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	e, _ := demoEngine(t)
	if _, err := NewServer(e).Listen(taken.Addr().String(), false); err == nil || !strings.Contains(err.Error(), "is taken") {
		t.Errorf("got %v", err)
	}
}

// Rulebooks of everything that the language has, served as they are predicted.
func TestAnythingIsServedAsPredicted(t *testing.T) {
	tree := site.Memory(trial.AnythingFiles)
	empty := bookOf(t, "site s address https://s.example\n")
	w := serve(t, engine.New(empty, []*site.Tree{nil}))
	books := uint64(300)
	if testing.Short() {
		books = 60
	}
	for seed := range books {
		r := rand.New(rand.NewPCG(seed, 9))
		text := trial.Anything(r, 14)
		e := engine.New(bookOf(t, text), []*site.Tree{tree, nil})
		w.Engine = e
		w.server.Use(e)
		for range 25 {
			req := trial.AnyRequest(r)
			if _, ok := req.Get("Range"); ok && req.Verb() == "OPTIONS" {
				continue
			}
			if said := w.differs(req); said != "" {
				t.Fatalf("%s %s: %s, for %+v in\n%s", req.Verb(), req.Address, said, req, text)
			}
		}
	}
}

func bookOf(t *testing.T, text string) *rulebook.Book {
	t.Helper()
	book, err := rulebook.Read("t.kibitz", []byte(text), trial.AnythingLoad)
	if err != nil {
		t.Fatal(err)
	}
	return book
}

// What a gateway in front says of the visitor is taken from the first element of the
// field alone, and only as far as it can be (RFC 7239, 4).
func TestForwarded(t *testing.T) {
	for field, want := range map[string]string{
		"for=192.0.2.7":                "https 443 192.0.2.7",
		"for=192.0.2.7;proto=http":     "http 80 192.0.2.7",
		"proto=http; for=192.0.2.7":    "http 80 192.0.2.7",
		"proto=https":                  "https 443 203.0.113.1",
		"Proto=HTTP":                   "https 443 203.0.113.1",
		"proto=ws":                     "https 443 203.0.113.1",
		"proto=":                       "https 443 203.0.113.1",
		`For="[2001:db8::1]"`:          "https 443 2001:db8::1",
		"for=::ffff:192.0.2.7":         "https 443 192.0.2.7",
		"for=192.0.2.7, for=192.0.2.8": "https 443 192.0.2.7",
		"for=unknown":                  "https 443 203.0.113.1",
		"for=_hidden;by=192.0.2.9;host=t.example;proto=": "https 443 203.0.113.1",
		"": "https 443 203.0.113.1",
	} {
		req := &request.Request{Address: request.Address{Scheme: "https", Host: "s.example", Port: 443, Path: "/"}, Client: netip.MustParseAddr("203.0.113.1")}
		forwarded(field, req)
		if got := fmt.Sprint(req.Address.Scheme, " ", req.Address.Port, " ", req.Client); got != want {
			t.Errorf("%s: %s, want %s", field, got, want)
		}
	}
}

func TestNamesOfThisMachine(t *testing.T) {
	for host, want := range map[string]bool{
		"localhost": true, "127.0.0.1": true, "127.9.9.9": true, "::1": true, "[::1]": true, "10.1.2.3": true, "192.168.1.1": true, "0.0.0.0": true, "::": true, "fd00::1": true,
		"": false, "s.example": false, "localhost.example": false, "203.0.113.1": false, "2001:db8::1": false, "127.0.0": false,
	} {
		if got := isLocal(host, httptest.NewRequest("GET", "/", nil)); got != want {
			t.Errorf("%s: %v, want %v", host, got, want)
		}
	}
}

// The certificate is for this machine, and for all names that the rulebook has.
func TestTheCertificateNamesAllHosts(t *testing.T) {
	book, err := rulebook.Read("t.kibitz", []byte("site s address https://s.example hosts www.s.example *.boats.example fähre.example\nsite t address http://t.example\n"), nil)
	if err != nil {
		t.Fatal(err)
	}
	now := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	c, err := certificate(book, now)
	if err != nil {
		t.Fatal(err)
	}
	leaf, err := x509.ParseCertificate(c.Certificate[0])
	if err != nil {
		t.Fatal(err)
	}
	for host, want := range map[string]bool{"localhost": true, "127.0.0.1": true, "::1": true, "s.example": true, "www.s.example": true, "old.boats.example": true, "xn--fhre-loa.example": true, "t.example": true, "u.example": false, "127.0.0.2": false} {
		if err := leaf.VerifyHostname(host); (err == nil) != want {
			t.Errorf("%s: %v", host, err)
		}
	}
	if leaf.NotBefore.After(now) || leaf.NotAfter.Before(now.AddDate(0, 0, 29)) {
		t.Errorf("it is good from %s to %s", leaf.NotBefore, leaf.NotAfter)
	}
}
