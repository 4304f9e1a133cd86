package live

import (
	"bufio"
	"bytes"
	"crypto/tls"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/bcrypt"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// raw sends bytes to a server, and gives the line of status with which it answers.
func raw(t *testing.T, w *world, text string) string {
	t.Helper()
	c, err := net.Dial("tcp", fmt.Sprint(w.server.local[0].host, ":", w.server.local[0].port))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	c.SetDeadline(time.Now().Add(5 * time.Second))
	io.WriteString(c, text)
	line, _ := bufio.NewReader(c).ReadString('\n')
	_, line, _ = strings.Cut(strings.TrimSpace(line), " ")
	return line
}

// A Host field that is none is refused, over HTTP/1.1 and HTTP/2 alike (RFC 9112, 3.2).
func TestHostsThatAreNone(t *testing.T) {
	e := buildOn(t, "site s address http://s.example", map[string]string{"/index.html": "home"})
	w := serve(t, e)
	for host, want := range map[string]int{
		"s.example": 200, "s.example:80": 200, "S.EXAMPLE": 200, "s.example.": 200, "127.0.0.1": 200, "[::1]:80": 200, "u.example": 421,
		"s.example:65536": 400, "s.example:99999999999999999999": 400, "s.example:x": 400, "s.example:": 400, "[::1": 400, "::1]": 400, "": 400, "s.example/x": 400, "a@s.example": 400, "s.example:80:80": 400, "s example": 400,
	} {
		got := raw(t, w, "GET / HTTP/1.1\r\nHost: "+host+"\r\n\r\n")
		if !strings.HasPrefix(got, fmt.Sprint(want)) {
			t.Errorf("Host %q: %s, want %d", host, got, want)
		}
		if host == "" || strings.ContainsAny(host, " ") {
			continue // no client sends it
		}
		r := httptest.NewRequest("GET", "https://s.example/", nil)
		r.Host, r.ProtoMajor, r.ProtoMinor, r.TLS = host, 2, 0, &tls.ConnectionState{}
		answer := httptest.NewRecorder()
		w.server.ServeHTTP(answer, r)
		if answer.Code != want {
			t.Errorf("HTTP/2, :authority %q: %d, want %d", host, answer.Code, want)
		}
	}
	if got := raw(t, w, "GET / HTTP/1.1\r\n\r\n"); !strings.HasPrefix(got, "400") {
		t.Errorf("without Host: %s", got)
	}
	if got := raw(t, w, "GET / HTTP/1.0\r\n\r\n"); !strings.HasPrefix(got, "200") {
		t.Errorf("HTTP/1.0 without Host: %s", got)
	}
}

// A request that names no host is told of in the log, as a comment: it could not be asked
// again.
func TestARefusedHostIsLogged(t *testing.T) {
	e := buildOn(t, "site s address http://s.example", map[string]string{"/index.html": "home"})
	s := NewServer(e)
	var log bytes.Buffer
	s.Log = func(d Served) { log.Write(LogLine(d, e.Book.BaseAddress())) }
	for _, host := range []string{"s.example:x", "a\"\n\x1b[31m", "", "s.example"} {
		r := httptest.NewRequest("GET", "http://s.example/", nil)
		r.Host = host
		s.ServeHTTP(httptest.NewRecorder(), r)
	}
	for _, want := range []string{"400: the Host field names no host: \"s.example:x\"\n", `names no host: "a\"\x0a\x1b[31m"`, `names no host: "(none)"`, "\"GET / HTTP/1.1\" 200 4"} {
		if !strings.Contains(log.String(), want) {
			t.Errorf("%q is missing in:\n%s", want, &log)
		}
	}
	counts, err := list.Read(&log, list.Options{Base: e.Book.BaseAddress(), Format: list.FormatLog}, func(*list.Item) {})
	if err != nil || counts.Lines != 4 || counts.Comments != 3 || counts.Requests != 1 {
		t.Errorf("read back: %+v %v", counts, err)
	}
}

// buildOn reads a rulebook over files that are made.
func buildOn(t *testing.T, text string, files map[string]string) *engine.Engine {
	t.Helper()
	return engine.New(bookOf(t, text), []*site.Tree{site.Memory(files)})
}

// An application is asked for what the rules have decided about, in no other spelling.
func TestAnApplicationIsAskedForTheCanonicalPath(t *testing.T) {
	var asked string
	app := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { asked = r.RequestURI }))
	defer app.Close()
	e := buildOn(t, "site s address http://s.example\naccess guard on /app/crew/* refuse\nrewrite short on /a/* to /app/{1}?via={1}\nhandoff app on /app/* to "+app.URL+"\nhandoff deep on /deep/* to "+app.URL+"/base", nil)
	w := serve(t, e)
	for target, want := range map[string]string{
		"/app/x":                  "/app/x",
		"/app/x?b=%2F&a=":         "/app/x?b=%2F&a=",
		"/crew/../app/x":          "/app/x",
		"/app/%63rew/list":        "403",
		"/app/x/../crew/list":     "403",
		"/app/x/%2e%2e/crew/list": "403",
		"/app//crew/list":         "403",
		"/app/%7Ex%20y%2Fz":       "/app/~x%20y%2Fz",
		"/a/one":                  "/app/one?via=one",
		"/a/../deep/./x?q":        "/base/deep/x?q",
	} {
		asked = ""
		got := raw(t, w, "GET "+target+" HTTP/1.1\r\nHost: s.example\r\n\r\n")
		if asked != "" {
			got = asked
		}
		if !strings.HasPrefix(got, want) || asked != "" && got != want {
			t.Errorf("%s: the application is asked for %s, want %s", target, got, want)
		}
	}
}

// What changes or goes under a server is answered as a tree of now would be, and never
// with a text that tells of this machine.
func TestFilesThatVanish(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		at := filepath.Join(dir, name)
		if err := os.WriteFile(at, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return at
	}
	gone, grown := write("gone.html", "gone"), write("grown.html", "short")
	write("404.html", "nothing there")
	write("500.html", "our fault")
	book := bookOf(t, "site s address http://s.example files .\nerror missing for 404 show /404.html\nerror fault for 500 show /500.html")
	load := func() *engine.Engine {
		tree, err := site.Folder(dir, nil)
		if err != nil {
			t.Fatal(err)
		}
		return engine.New(book, []*site.Tree{tree})
	}
	for _, reloads := range []bool{false, true} {
		write("gone.html", "gone")
		write("grown.html", "short")
		w := serve(t, load())
		if reloads {
			w.server.Reload = func(*engine.Engine) { w.server.Use(load()) }
		}
		os.Remove(gone)
		write("grown.html", "longer than it was")
		for path, want := range map[string]string{"/gone.html": "404 nothing there", "/grown.html": map[bool]string{false: "404 nothing there", true: "200 longer than it was"}[reloads]} {
			req := &request.Request{Address: book.BaseAddress()}
			req.Address.Path = path
			got, body, _, err := w.ask(req)
			if err != nil {
				t.Fatal(err)
			}
			if text := fmt.Sprint(got.StatusCode, " ", string(body)); text != want {
				t.Errorf("reloads %v: %s: %s, want %s", reloads, path, text, want)
			}
		}
	}
	if os.Getuid() == 0 {
		return // who may read everything
	}
	os.Chmod(grown, 0)
	w := serve(t, load())
	req := &request.Request{Address: book.BaseAddress()}
	req.Address.Path = "/grown.html"
	if got, body, _, err := w.ask(req); err != nil || got.StatusCode != 500 || string(body) != "our fault" {
		t.Errorf("what may not be read: %v %s %v", got, body, err)
	}
}

// Ten wrong passwords, and a client has to wait, with the right one too; others do not.
func TestGuessesAreSlowedDown(t *testing.T) {
	hash, err := bcrypt.GenerateFromPassword([]byte("right"), bcrypt.MinCost)
	if err != nil {
		t.Fatal(err)
	}
	book, err := rulebook.Read("t.kibitz", []byte("site s address http://s.example\naccess crew on /crew/* ask \"Crew\" accounts a.accounts\nerror slow for 429 text \"wait a moment\""), func(string) ([]byte, error) { return fmt.Appendf(nil, "ann:%s\n", hash), nil })
	if err != nil {
		t.Fatal(err)
	}
	now := time.Now()
	s := NewServer(engine.New(book, []*site.Tree{site.Memory(map[string]string{"/crew/list.html": "ann"})}))
	s.Clock = func() time.Time { return now }
	ask := func(client, name, password string) string {
		r := httptest.NewRequest("GET", "http://s.example/crew/list.html", nil)
		r.RemoteAddr = client + ":1234"
		if name != "" {
			r.SetBasicAuth(name, password)
		}
		w := httptest.NewRecorder()
		s.ServeHTTP(w, r)
		return strings.TrimSpace(fmt.Sprint(w.Code, " ", w.Header().Get("Retry-After")))
	}
	for i := range 10 {
		if got := ask("192.0.2.7", []string{"ann", "bob"}[i%2], fmt.Sprint(i)); got != "401" {
			t.Fatalf("guess %d: %s", i+1, got)
		}
		ask("192.0.2.8", "", "") // who is only asked does not guess
	}
	for what, test := range map[string]struct{ got, want string }{
		"the next guess":         {ask("192.0.2.7", "ann", "11"), "429 60"},
		"the right one, too":     {ask("192.0.2.7", "ann", "right"), "429 60"},
		"another client":         {ask("192.0.2.9", "ann", "right"), "200"},
		"one who was only asked": {ask("192.0.2.8", "ann", "right"), "200"},
	} {
		if test.got != test.want {
			t.Errorf("%s: %s, want %s", what, test.got, test.want)
		}
	}
	now = now.Add(guessPause + time.Second)
	if got := ask("192.0.2.7", "ann", "right"); got != "200" {
		t.Errorf("after a pause: %s", got)
	}
}

// A Location leads to where the browser is, under the name by which it asked, also where
// the server listens at all addresses.
func TestLocationsOfAServerThatOthersReach(t *testing.T) {
	e := buildOn(t, "site s address https://s.example\nredirect a on /a to https://s.example/b/ as temporary", nil)
	s := NewServer(e)
	l, err := s.Listen("0.0.0.0:0", false)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	port := l.Addr().(*net.TCPAddr).Port
	if got, want := l.URL(), fmt.Sprintf("http://127.0.0.1:%d/", port); got != want {
		t.Errorf("its address is %s, want %s", got, want)
	}
	for _, link := range l.Reach() {
		if strings.Contains(link, "0.0.0.0") || strings.Contains(link, "[::]") {
			t.Errorf("nobody reaches %s", link)
		}
	}
	for host, want := range map[string]string{"localhost": "http://localhost:%d/b/", "192.168.7.7": "http://192.168.7.7:%d/b/", "[::1]": "http://[::1]:%d/b/", "s.example": "https://s.example/b/"} {
		r := httptest.NewRequest("GET", "/a", nil)
		r.Host = host
		if host != "s.example" {
			r.Host += fmt.Sprint(":", port)
		} else {
			r.TLS = &tls.ConnectionState{}
		}
		w := httptest.NewRecorder()
		s.ServeHTTP(w, r)
		if strings.Contains(want, "%d") {
			want = fmt.Sprintf(want, port)
		}
		if got := w.Header().Get("Location"); got != want {
			t.Errorf("asked as %s, it sends to %s, want %s", host, got, want)
		}
	}
}

// Parts of a large file cost no more memory than they are large.
func TestPartsOfALargeFile(t *testing.T) {
	dir := t.TempDir()
	f, err := os.Create(filepath.Join(dir, "large.txt"))
	if err != nil {
		t.Fatal(err)
	}
	f.Truncate(2 << 30)
	f.WriteAt([]byte("here"), 1<<30)
	f.Close()
	tree, err := site.Folder(dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	w := serve(t, engine.New(bookOf(t, "site s address http://s.example\ncompress all"), []*site.Tree{tree}))
	for range 8 {
		req := &request.Request{Address: request.Address{Scheme: "http", Host: "s.example", Port: 80, Path: "/large.txt"}, Headers: []request.Header{{Name: "Range", Value: "bytes=1073741824-1073741827"}, {Name: "Accept-Encoding", Value: "gzip"}}}
		got, body, _, err := w.ask(req)
		if err != nil || got.StatusCode != 206 || string(body) != "here" {
			t.Fatalf("%v %q %v", got, body, err)
		}
	}
}

// Whatever comes over a connection: it is answered with HTTP or closed, and what is
// answered is what is predicted for some request.
func FuzzServe(f *testing.F) {
	book, err := rulebook.Read("t.kibitz", []byte("site s address http://s.example files .\naccess crew on /crew/* refuse\nredirect a on /a/* to /b/{1} as temporary\nreply q when query.q present with 200 text \"{query.q}\"\nheader h set X-Path \"{path}\"\nerror e for 404 show /404.html fill on\n"), nil)
	if err != nil {
		f.Fatal(err)
	}
	s := NewServer(engine.New(book, []*site.Tree{site.Memory(map[string]string{"/index.html": "home", "/404.html": "no {path}", "/crew/list": "secret", "/a b/ü.txt": "x"})}))
	s.local = []origin{{"http", "127.0.0.1", 80}}
	s.Log = func(d Served) {
		line := LogLine(d, book.BaseAddress())
		if i := strings.IndexFunc(string(line), func(r rune) bool { return r < ' ' || r > '~' }); i != len(line)-1 {
			panic(fmt.Sprintf("a line of the log is %q", line))
		}
	}
	l := &pipes{make(chan net.Conn), make(chan struct{})}
	server := &http.Server{Handler: s, ErrorLog: log.New(io.Discard, "", 0), DisableGeneralOptionsHandler: true}
	go server.Serve(l)
	f.Cleanup(func() { server.Close() })
	for _, text := range []string{
		"GET / HTTP/1.1\r\nHost: s.example\r\n\r\n", "GET /a/%2e%2e/crew/list?q=%0d HTTP/1.0\r\nRange: bytes=1-\r\nIf-None-Match: *\r\n\r\n",
		"OPTIONS * HTTP/1.1\r\nHost: [::1]:99999\r\n\r\n", "GET http://s.example/crew/../x HTTP/1.1\r\nHost: x\r\nAccept-Encoding: br;q=0.5, *\r\nAuthorization: Basic eDp5\r\n\r\n",
		"POST /none HTTP/1.1\r\nHost: s.example\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhello\r\n0\r\n\r\n", "HEAD //crew//list HTTP/1.1\r\nHost: S.EXAMPLE.:80\r\nCookie: a\r\n\r\n",
	} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		c := &spoken{Reader: strings.NewReader(text + "\r\n\r\n"), closed: make(chan struct{})}
		l.all <- c
		select {
		case <-c.closed:
		case <-time.After(10 * time.Second):
			t.Fatalf("%q: the connection is not closed", text)
		}
		answers := bufio.NewReader(&c.said)
		for {
			answer, err := http.ReadResponse(answers, nil)
			if err != nil {
				return // it was closed
			}
			body, _ := io.ReadAll(io.LimitReader(answer.Body, 1<<20))
			if strings.Contains(string(body), "secret") {
				t.Errorf("%q gets what is refused", text)
			}
			for name, values := range answer.Header {
				if strings.ContainsAny(name+strings.Join(values, ""), "\r\n\x00") {
					t.Errorf("%q splits the header: %q", text, answer.Header)
				}
			}
		}
	})
}

// spoken is a connection of a client that has said all it will say: its end comes as soon as
// that is read, so that nothing waits for more.
type spoken struct {
	io.Reader
	said   bytes.Buffer
	once   sync.Once
	closed chan struct{}
}

func (c *spoken) Write(b []byte) (int, error)      { return c.said.Write(b) }
func (c *spoken) Close() error                     { c.once.Do(func() { close(c.closed) }); return nil }
func (c *spoken) LocalAddr() net.Addr              { return &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 80} }
func (c *spoken) RemoteAddr() net.Addr             { return &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 40000} }
func (c *spoken) SetDeadline(time.Time) error      { return nil }
func (c *spoken) SetReadDeadline(time.Time) error  { return nil }
func (c *spoken) SetWriteDeadline(time.Time) error { return nil }

// pipes is a listener whose connections are made in memory.
type pipes struct {
	all    chan net.Conn
	closed chan struct{}
}

func (p *pipes) Accept() (net.Conn, error) {
	select {
	case c := <-p.all:
		return c, nil
	case <-p.closed:
		return nil, net.ErrClosed
	}
}

func (p *pipes) Close() error {
	close(p.closed)
	return nil
}

func (p *pipes) Addr() net.Addr { return &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 80} }
