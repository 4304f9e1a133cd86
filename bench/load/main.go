// Command load measures the preview under load, beside a file server of Go's net/http with
// nothing around it: requests a second, the time that 99 of 100 answers take, memory,
// errors. It needs wrk (of Debian's package of that name).
//
// Run it in the project's own folder.
package main

import (
	"bufio"
	"context"
	"crypto/tls"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"
)

func main() {
	seconds := flag.Int("seconds", 30, "for how long each is asked")
	idle := flag.Int("idle", 2000, "connections that only lie there")
	slow := flag.Int("slow", 200, "connections that send a byte a second")
	bare := flag.String("bare", "", "serve this folder as the other one does, and nothing else")
	like := flag.Bool("like", false, "with the header fields of the demo's redirects, and the preview's limits of time")
	flag.Parse()
	var err error
	if *bare != "" {
		err = serveBare(*bare, *like)
	} else {
		err = run(*seconds, *idle, *slow)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "load:", err)
		os.Exit(1)
	}
}

// serveBare answers with a folder's files over TLS, and redirects one address; like the
// preview with the same header fields and limits of time. It says where it listens, as the
// preview does.
func serveBare(dir string, like bool) error {
	mux := http.NewServeMux()
	mux.Handle("/", http.FileServer(http.Dir(dir)))
	mux.HandleFunc(redirect, func(w http.ResponseWriter, r *http.Request) {
		if like {
			h := w.Header()
			h.Set("Strict-Transport-Security", "max-age=31536000")
			h.Set("X-Content-Type-Options", "nosniff")
			h.Set("X-Frame-Options", "SAMEORIGIN")
		}
		http.Redirect(w, r, "/fares/", http.StatusMovedPermanently)
	})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	fmt.Printf("https://%s/ is bare\n", l.Addr())
	server := &http.Server{Handler: mux}
	if like {
		server.ReadHeaderTimeout, server.ReadTimeout, server.WriteTimeout, server.IdleTimeout = 10*time.Second, time.Minute, 5*time.Minute, 2*time.Minute
	}
	return server.ServeTLS(l, filepath.Join(dir, "..", "cert.pem"), filepath.Join(dir, "..", "key.pem"))
}

type contestant struct {
	name string
	args []string
}

func run(seconds, idle, slow int) error {
	work, err := os.MkdirTemp("", "load-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	program, self := filepath.Join(work, "kibitz"), filepath.Join(work, "load")
	for to, from := range map[string]string{program: "./cmd/kibitz", self: "./bench/load"} {
		if out, err := exec.Command("go", "build", "-o", to, from).CombinedOutput(); err != nil {
			return fmt.Errorf("%w\n%s", err, out)
		}
	}
	site := filepath.Join(work, "site")
	if out, err := exec.Command(program, "demo", "-out", filepath.Join(work, "walk.txt"), site).CombinedOutput(); err != nil {
		return fmt.Errorf("%w\n%s", err, out)
	}
	if err := writeCertificate(site); err != nil {
		return err
	}
	contestants := []contestant{
		{"kibitz serve", []string{program, "serve", "-tls", "-quiet"}},
		{"net/http alone", []string{self, "-bare", filepath.Join(site, "public")}},
		{"net/http, the same header and limits", []string{self, "-bare", filepath.Join(site, "public"), "-like"}},
	}
	asks := []struct{ name, path string }{{"a page", "/timetables/winter/"}, {"a redirect", redirect}, {"a 404", "/nowhere"}}
	fmt.Printf("| | | requests a second | 99 of 100 within | memory | errors |\n| --- | --- | ---: | ---: | ---: | ---: |\n")
	for _, ask := range asks {
		contestants := contestants
		if ask.path != redirect { // the others have no such header
			contestants = contestants[:2]
		}
		best := make([]measured, len(contestants))
		for range rounds { // in turns, since the machine is not always as quick
			for i, c := range contestants {
				m, err := measure(c, site, ask.path, seconds, idle, slow)
				if err != nil {
					return fmt.Errorf("%s: %w", c.name, err)
				}
				if m.rate > best[i].rate {
					best[i] = m
				}
			}
		}
		for i, m := range best {
			fmt.Printf("| %s | %s | %.0f | %s | %d MiB | %s |\n", ask.name, contestants[i].name, m.rate, m.p99, m.peak>>20, m.errors)
		}
		for i, m := range best[1:] {
			fmt.Printf("| | of %s | %.2f | | | |\n", contestants[i+1].name, best[0].rate/m.rate)
		}
	}
	return nil
}

// redirect is an address of the demo that is redirected.
const redirect = "/fares.php"

// rounds is how often each is measured; the best counts.
const rounds = 3

type measured struct {
	rate        float64
	p99, errors string
	peak        int64
}

var (
	rateOf   = regexp.MustCompile(`Requests/sec:\s+([0-9.]+)`)
	p99Of    = regexp.MustCompile(`(?m)^\s+99%\s+(\S+)$`)
	errorsOf = regexp.MustCompile(`Socket errors: (.*)`)
)

// measure starts a server, and asks it for one address while other connections are open.
func measure(c contestant, dir, path string, seconds, idle, slow int) (m measured, err error) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	server := exec.CommandContext(ctx, c.args[0], c.args[1:]...)
	server.Dir = dir
	out, err := server.StdoutPipe()
	if err != nil {
		return m, err
	}
	if err := server.Start(); err != nil {
		return m, err
	}
	defer server.Wait()
	defer cancel()
	lines := bufio.NewScanner(out)
	url := ""
	for url == "" && lines.Scan() {
		if word, _, _ := strings.Cut(lines.Text(), " "); strings.HasPrefix(word, "https://") {
			url = strings.TrimSuffix(word, "/")
		}
	}
	go io.Copy(io.Discard, out)
	if err := burden(ctx, strings.TrimPrefix(url, "https://"), idle, slow); err != nil {
		return m, err
	}
	text, err := exec.Command("wrk", "-t2", "-c32", fmt.Sprintf("-d%ds", seconds), "--latency", url+path).CombinedOutput()
	if err != nil {
		return m, fmt.Errorf("%w\n%s", err, text)
	}
	find := func(r *regexp.Regexp) string {
		if found := r.FindSubmatch(text); found != nil {
			return string(found[1])
		}
		return "none"
	}
	m.rate, _ = strconv.ParseFloat(find(rateOf), 64)
	m.p99, m.errors = find(p99Of), find(errorsOf)
	status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", server.Process.Pid))
	if _, after, ok := strings.Cut(string(status), "VmHWM:"); ok {
		kib, _ := strconv.ParseInt(strings.Fields(after)[0], 10, 64)
		m.peak = kib << 10
	}
	return m, nil
}

// burden opens connections that only lie there, and some that send a request a byte a
// second.
func burden(ctx context.Context, address string, idle, slow int) error {
	var open []net.Conn
	for i := range idle + slow {
		c, err := tls.Dial("tcp", address, &tls.Config{InsecureSkipVerify: true})
		if err != nil {
			return fmt.Errorf("connection %d: %w", i+1, err)
		}
		open = append(open, c)
	}
	go func() {
		request := "GET /timetables/ HTTP/1.1\r\nHost: saltmarsh-ferries.example\r\nX-Slow: " + strings.Repeat("x", 1000)
		for i := 0; ctx.Err() == nil; i++ {
			for _, c := range open[:slow] {
				c.Write([]byte{request[i%len(request)]})
			}
			time.Sleep(time.Second)
		}
		for _, c := range open {
			c.Close()
		}
	}()
	return nil
}
