package cli

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/fsnotify/fsnotify"

	"kibitz/internal/live"
	"kibitz/internal/render"
)

func init() {
	register(command{
		order:   6,
		rules:   theRules,
		name:    "serve",
		args:    "",
		summary: "answers browsers on this machine exactly as predicted, and logs what decided",
		about: `Answers real browsers and clients on this machine as trace predicts: status,
header, body, encodings, parts, early hints, error pages, listings. A preview for
one person: it listens on this machine alone, unless -listen says otherwise.

Whoever asks by the address that is printed sees the first site's main address;
Locations on the sites' own hosts are turned so that the browser stays here. Who
names one of the sites' hosts (in the Host field) gets exactly what a visitor of
that host gets. With -tls there is a second port that speaks https, with a
certificate made on the spot, so that rules about the scheme can be tried.
` + "`handoff`" + ` entries with ` + "`to`" + ` are passed on to the application.

A changed rulebook or tree is read anew; one with errors is shown, and the old one
goes on answering. Ctrl-C ends it.`,
		setup: func(flags *flag.FlagSet) func(*run, []string) (int, error) {
			f := &serveFlags{}
			flags.StringVar(&f.listen, "listen", "", "the `address` to listen at, like 127.0.0.1:8080 (default a free port of this machine)")
			flags.BoolVar(&f.tls, "tls", false, "listen for https, too")
			flags.StringVar(&f.listenTLS, "listen-tls", "", "the `address` to listen at for https (default a free port of this machine)")
			flags.StringVar(&f.host, "as-host", "", "answer every request as if it named this `host`")
			flags.BoolVar(&f.forwarded, "forwarded", false, "take the client and the scheme from a Forwarded field (RFC 7239), to try rules about them")
			flags.BoolVar(&f.quiet, "quiet", false, "log no requests")
			return func(r *run, args []string) (int, error) {
				if len(args) > 0 {
					return 0, usagef("serve takes no argument: the rulebook is named with -rules")
				}
				ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
				defer stop()
				return exitWell, r.serve(ctx, f)
			}
		},
	})
}

type serveFlags struct {
	listen, listenTLS, host string
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
	if !f.quiet {
		s.Log = r.served()
	}
	plain, err := s.Listen(f.listen, false)
	if err != nil {
		return err
	}
	listeners := []*live.Listener{plain}
	main := e.Book.BaseAddress()
	if f.host != "" {
		main.Host = f.host
	}
	r.out.Printf("%s stands for %s://%s/\n", plain.URL(), map[bool]string{true: "http", false: main.Scheme}[f.tls], main.Host)
	if f.tls || f.listenTLS != "" {
		secure, err := s.Listen(f.listenTLS, true)
		if err != nil {
			plain.Close()
			return err
		}
		listeners = append(listeners, secure)
		r.out.Printf("%s stands for https://%s/ (its certificate is its own: tell the browser to go on)\n", secure.URL(), main.Host)
	}
	r.out.Printf("\n")
	if f.ready != nil {
		f.ready(plain.URL())
	}
	reloaded := make(chan struct{})
	go func() {
		defer close(reloaded)
		r.reload(ctx, s)
	}()
	err = s.Serve(ctx, listeners...)
	<-reloaded
	return err
}

// served writes a line a request.
func (r *run) served() func(live.Served) {
	var mu sync.Mutex
	return func(d live.Served) {
		status := fmt.Sprint(d.Status)
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
		asked := render.Clean(d.Request.Verb()) + " " + render.Short(d.Request.Address.String(), 80)
		r.out.Printf("%s  %s  %-60s  %s  %s", d.Time.Format("15:04:05"), d.Request.Client, asked, r.out.Status(status), r.out.Quiet(render.Clean(what)))
		if to != "" {
			r.out.Printf("  %s", render.Clean(to))
		}
		r.out.Printf("  %s  %.1f ms\n", size, float64(d.Took.Microseconds())/1000)
	}
}

// reload reads the rulebook and the trees anew whenever they change.
func (r *run) reload(ctx context.Context, s *live.Server) {
	w, err := fsnotify.NewWatcher()
	if err != nil {
		fmt.Fprintf(r.stderr, "note: changes are not seen: %v\n", err)
		<-ctx.Done()
		return
	}
	defer w.Close()
	r.watched(w, nil)
	for {
		select {
		case <-ctx.Done():
			return
		case <-w.Errors:
		case <-w.Events:
			settle(w)
			r.watched(w, nil)
			e, err := r.load()
			if err != nil {
				r.end("serve", err)
				fmt.Fprintf(r.stderr, "%s: the old rulebook goes on answering\n", time.Now().Format("15:04:05"))
				continue
			}
			s.Use(e)
			fmt.Fprintf(r.stderr, "%s: %s is read anew\n", time.Now().Format("15:04:05"), render.Clean(filepath.Base(r.rulesName())))
		}
	}
}

// settle waits until nothing has changed for a moment: editors write in several
// steps.
func settle(w *fsnotify.Watcher) {
	for {
		select {
		case <-w.Events:
		case <-time.After(100 * time.Millisecond):
			return
		}
	}
}

func (r *run) rulesName() string {
	if r.rules == "" {
		return defaultRules
	}
	return r.rules
}
