package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"kibitz/core/engine"
	"kibitz/core/replay"
	"kibitz/core/request/list"
	"kibitz/internal/live"
	"kibitz/internal/render"
)

func init() {
	register(command{
		order:   9,
		rules:   theRules,
		name:    "serve",
		stays:   true,
		args:    "",
		summary: "answers browsers on this machine exactly as predicted, and logs what decided",
		about: `Answers real browsers and clients on this machine as trace predicts: status,
header, body, encodings, parts, early hints, error pages, listings. A preview for
one person: it listens on this machine alone, unless -listen says another address.

Whoever asks by the address that is printed sees the first site's main address;
Locations on the sites' own hosts are turned so that the browser stays here. Who
names one of the sites' hosts (in the Host field) gets exactly what a visitor of
that host gets. With -tls there is a second port that speaks https, with a
certificate made on the spot, so that rules about the scheme can be tried.
` + "`handoff`" + ` entries with ` + "`to`" + ` are passed on to the application.

A changed rulebook or tree is reloaded; one with errors is shown, and the old one
goes on answering. Ctrl-C ends it; -page then writes what was served as a page.`,
		setup: func(flags *flag.FlagSet) func(*run, []string) (int, error) {
			f := &serveFlags{}
			flags.StringVar(&f.listen, "listen", "", "the `address` to listen at, like 127.0.0.1:8080 (default a free port of this machine)")
			flags.BoolVar(&f.tls, "tls", false, "listen for https, too")
			flags.StringVar(&f.listenTLS, "listen-tls", "", "the `address` to listen at for https (default a free port of this machine)")
			flags.StringVar(&f.host, "as-host", "", "answer every request as if it named this `host`")
			flags.BoolVar(&f.forwarded, "forwarded", false, "take the client and the scheme from a Forwarded field (RFC 7239), to try rules about them")
			flags.BoolVar(&f.quiet, "quiet", false, "show no requests")
			flags.StringVar(&f.log, "log", "", "add a line a request to this `file`, as an access log in the combined form that replay reads; opened again on SIGHUP")
			flags.StringVar(&f.page, "page", "", "when it ends, write what was asked and answered to this `file`, as a page; it must not be there yet")
			return func(r *run, args []string) (int, error) {
				if len(args) > 0 {
					return 0, usagef("serve takes no argument: the rulebook is named with -rules")
				}
				if f.page != "" {
					if err := mustBeNew(f.page); err != nil {
						return 0, err
					}
				}
				ctx, stop := context.WithCancel(context.Background())
				defer stop()
				defer r.whenInterrupted(stop)()
				return exitWell, r.serve(ctx, f)
			}
		},
	})
}

type serveFlags struct {
	listen, listenTLS, host string
	log, page               string
	tls, forwarded, quiet   bool
	ready                   func(url string) // told where it listens; may be nil
}

// serve answers until the context ends.
func (r *run) serve(ctx context.Context, f *serveFlags) error {
	e, err := r.load()
	if err != nil {
		return err
	}
	if f.host != "" && !e.Serves(strings.ToLower(f.host)) {
		return usagef("no site of the rulebook answers for %s", f.host)
	}
	s := live.NewServer(e)
	s.Host, s.Forwarded = f.host, f.forwarded
	var logs []func(live.Served)
	r.origin = e.Book.BaseAddress().Origin()
	if !f.quiet {
		logs = append(logs, r.served())
	}
	if f.log != "" {
		to, err := r.openLog(ctx, f.log)
		if err != nil {
			return err
		}
		defer to.close()
		logs = append(logs, func(d live.Served) { to.write(live.LogLine(d, s.Engine().Book.BaseAddress())) })
	}
	session := &session{tally: replay.NewTally()}
	if f.page != "" {
		logs = append(logs, func(d live.Served) { session.add(s.Engine(), d) })
	}
	s.Log = func(d live.Served) {
		for _, log := range logs {
			log(d)
		}
	}
	listener, err := s.Listen(f.listen, false)
	if err != nil {
		return err
	}
	listeners := []*live.Listener{listener}
	main := e.Book.BaseAddress()
	if f.host != "" {
		main.Host = f.host
	}
	r.out.Printf("%s stands for %s://%s/\n", listener.URL(), map[bool]string{true: "http", false: main.Scheme}[f.tls], main.Host)
	if f.tls || f.listenTLS != "" {
		secure, err := s.Listen(f.listenTLS, true)
		if err != nil {
			listener.Close()
			return err
		}
		listeners = append(listeners, secure)
		r.out.Printf("%s stands for https://%s/ (its certificate is self-signed: tell the browser to continue)\n", secure.URL(), main.Host)
	}
	for _, l := range listeners {
		if links := l.Reach(); len(links) > 0 {
			r.out.Printf("Others on the network can reach it, too: %s\n", strings.Join(links, " "))
		}
	}
	r.out.Printf("\n")
	if f.ready != nil {
		f.ready(listener.URL())
	}
	again := &reloader{run: r, server: s}
	s.Reload = again.reload
	reloaded := make(chan struct{})
	go func() {
		defer close(reloaded)
		again.watch(ctx, f.log)
	}()
	err = s.Serve(ctx, listeners...)
	<-reloaded
	if f.page != "" {
		err = errors.Join(err, r.sessionPage(s.Engine(), session, f.page))
	}
	return err
}

// A session is what was served.
type session struct {
	mu     sync.Mutex
	tally  *replay.Tally
	counts list.Counts
}

// add counts a request that was answered. Those that name no host have no address.
func (s *session) add(e *engine.Engine, d live.Served) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.counts.Lines++
	if d.NoHost != "" {
		s.counts.Skipped++
		return
	}
	s.counts.Requests++
	s.tally.Add(replay.Predict(e, "", &list.Item{Request: d.Request, Recorded: d.Status, Line: s.counts.Lines}))
}

// sessionAddresses is how many addresses of a sort are on the page of a session.
const sessionAddresses = 1000

// sessionPage writes what was served as a page, as that of a replay.
func (r *run) sessionPage(e *engine.Engine, s *session, name string) error {
	s.counts.Of = "request"
	s.tally.AddCounts("What was served", s.counts)
	var b bytes.Buffer
	side := *r
	side.stdout, side.most = &b, sessionAddresses
	if err := side.tallyHTML(summed{engine: e, tally: s.tally, flags: &replayFlags{}}); err != nil {
		return err
	}
	return writeWhole(name, b.Bytes(), false)
}

// served writes a line a request.
func (r *run) served() func(live.Served) {
	var mu sync.Mutex
	return func(d live.Served) {
		status := fmt.Sprint(d.Status)
		if d.NoHost != "" {
			mu.Lock()
			defer mu.Unlock()
			r.out.Printf("%s  %s  the Host field names no host: %s\n", d.Time.Format("15:04:05"), r.out.Status(status), render.Short(d.NoHost, 60))
			return
		}
		resp := d.Response
		what := string(resp.Cause)
		if resp.By != nil {
			what = fmt.Sprintf("%s %s", resp.By.Name, resp.By.Place)
		}
		to := ""
		switch {
		case resp.Word() != "":
		case resp.Location != "":
			to = render.Short(resp.Location, 60)
		case resp.File != nil:
			to = render.Short(strings.TrimPrefix(resp.File.Path, "/"), 60)
		}
		size := render.Count(d.Bytes, "byte")
		if resp.Encoding != "" {
			size = fmt.Sprintf("%s of %s %s", render.Number(d.Bytes), render.Count(resp.Size, "byte"), resp.Encoding)
		}
		mu.Lock()
		defer mu.Unlock()
		asked := render.Clean(d.Request.Verb()) + " " + render.Short(r.near(d.Request.Address.String()), 80)
		r.out.Printf("%s  %s  %-36s  %s  %s", d.Time.Format("15:04:05"), d.Request.Client, asked, r.out.Status(status), r.out.Quiet(render.Clean(what)))
		if to != "" {
			r.out.Printf("  %s", render.Clean(to))
		}
		r.out.Printf("  %s  %.1f ms\n", size, float64(d.Took.Microseconds())/1000)
	}
}

// A reloader puts what the rulebook and its trees have become in the place of what they
// were.
type reloader struct {
	*run
	mu     sync.Mutex
	server *live.Server
}

// reload reads them, unless that has been done since old was. With mistakes in them the old
// ones go on.
func (a *reloader) reload(old *engine.Engine) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.server.Engine() != old {
		return
	}
	e, err := a.load()
	if err != nil {
		a.end("serve", err)
		fmt.Fprintf(a.stderr, "%s: the old rulebook goes on answering\n", time.Now().Format("15:04:05"))
		return
	}
	a.server.Use(e)
	fmt.Fprintf(a.stderr, "%s: %s reloaded\n", time.Now().Format("15:04:05"), render.Clean(filepath.Base(a.rulesName())))
}

// watch does so whenever something changes, until the context ends.
func (a *reloader) watch(ctx context.Context, own ...string) {
	w, err := a.newWatcher(own...)
	if err != nil {
		fmt.Fprintf(a.stderr, "note: changes are not seen: %v\n", err)
		<-ctx.Done()
		return
	}
	defer w.Close()
	for w.wait(ctx.Done(), w.look()) {
		a.reload(a.server.Engine())
	}
}

// An accessLog is the file of -log.
type accessLog struct {
	name string
	mu   sync.Mutex
	file *os.File
}

// openLog opens a log to add to it, and opens it again on SIGHUP, when whoever keeps logs
// has moved it away.
func (r *run) openLog(ctx context.Context, name string) (*accessLog, error) {
	l := &accessLog{name: name}
	if err := l.open(); err != nil {
		return nil, err
	}
	again := make(chan os.Signal, 1)
	signal.Notify(again, syscall.SIGHUP)
	go func() {
		defer signal.Stop(again)
		for {
			select {
			case <-ctx.Done():
				return
			case <-again:
				if err := l.open(); err != nil {
					r.end("serve", fmt.Errorf("the old file goes on: %w", err))
				}
			}
		}
	}()
	return l, nil
}

func (l *accessLog) open() error {
	f, err := os.OpenFile(l.name, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil {
		return fmt.Errorf("the log cannot be written: %w", err)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.file != nil {
		l.file.Close()
	}
	l.file = f
	return nil
}

func (l *accessLog) write(line []byte) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.file.Write(line)
}

func (l *accessLog) close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.file.Close()
}

func (r *run) rulesName() string {
	if r.alone.is() {
		return cmp.Or(r.alone.files, r.alone.inventory)
	}
	if r.rules == "" {
		return usualRules()
	}
	return r.rules
}
