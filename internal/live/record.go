package live

// What a running server answers, kept: every request of a list, and of each those beside it
// that tell rules apart.

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"maps"
	"net/http"
	"net/http/httptrace"
	"net/textproto"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"kibitz/core/request"
	"kibitz/core/request/list"
)

// An Answered is a request with what a server answered to it.
type Answered struct {
	Request *request.Request
	Probe   string         // what it tries, where no list has it
	Got     *http.Response // without its body; nil where nothing came
	Size    int64          // of the body
	Sum     string         // SHA-256 of the body
	Hints   []string       // values of Link in early hints (103, RFC 8297)
	Time    time.Time      // when it was asked
	Failed  error          // of the network, after all retries
}

// Item is what a list has of the answer, where one came. Cookies are left out: they are each
// visitor's own.
func (a *Answered) Item() *list.Item {
	item := &list.Item{Request: a.Request, Recorded: a.Got.StatusCode, Location: a.Got.Header.Get("Location"), Sum: a.Sum, Hints: a.Hints}
	for _, name := range slices.Sorted(maps.Keys(a.Got.Header)) {
		if name == http.CanonicalHeaderKey("Set-Cookie") {
			continue
		}
		for _, value := range a.Got.Header[name] {
			item.Answer = append(item.Answer, request.Header{Name: name, Value: value})
		}
	}
	return item
}

// Record sends requests to a running server, and never to another. Redirects are not
// followed. done is called for each answer, one after the other, as they come. It ends early
// when the context ends.
func Record(ctx context.Context, requests []*Answered, o Options, done func(*Answered)) {
	v := newAsker(o)
	defer v.transport.CloseIdleConnections()
	var mu sync.Mutex
	v.each(ctx, len(requests), func(i int) {
		r := requests[i]
		sum := sha256.New()
		r.Time = time.Now()
		heard := httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{Got1xxResponse: func(status int, header textproto.MIMEHeader) error {
			if status == http.StatusEarlyHints {
				r.Hints = header["Link"]
			}
			return nil
		}})
		r.Got, r.Size, r.Failed = v.ask(heard, v.at(r.Request.Address.Scheme), r.Request, sum)
		if errors.Is(r.Failed, errInterrupted) || ctx.Err() != nil {
			return
		}
		r.Sum = hex.EncodeToString(sum.Sum(nil))
		mu.Lock()
		defer mu.Unlock()
		done(r)
	})
}

// Refuses says why a request is not sent; "" where it is.
func (o *Options) Refuses(req *request.Request) string {
	switch verb := req.Verb(); {
	case verb != "GET" && verb != "HEAD" && verb != "OPTIONS" && !o.SendAll:
		return "it is not a GET or HEAD (-send-all sends it)"
	case o.at(req.Address.Scheme) == nil:
		return "no -at speaks " + req.Address.Scheme
	}
	return ""
}

// documents are the pages that folders commonly have.
var documents = []string{"index.html", "index.htm", "index.php"}

// improbable is a name that no site has.
const improbable = "kibitz-asks-for-nothing"

// Probes gives the requests beside some others that tell rules apart: the other scheme, the
// other hosts, with and without a slash, a query, other letters, without an extension,
// documents, other methods, encodings, and names that cannot exist in each folder. None is
// given that is among the requests already.
func Probes(requests []*Answered, hosts []string) (probes []*Answered) {
	seen := map[string]bool{}
	for _, r := range requests {
		seen[keyOf(r.Request)] = true
	}
	add := func(what string, req request.Request) {
		if k := keyOf(&req); !seen[k] {
			seen[k] = true
			probes = append(probes, &Answered{Request: &req, Probe: what})
		}
	}
	for _, r := range requests {
		if r.Request.Verb() != "GET" {
			continue
		}
		bare := request.Request{Address: r.Request.Address}
		bare.Address.Fragment = ""
		with := func(what string, change func(a *request.Address)) {
			one := bare
			change(&one.Address)
			add(what, one)
		}
		with("scheme", func(a *request.Address) {
			if a.Port == request.DefaultPort(a.Scheme) {
				a.SetScheme(map[string]string{"http": "https", "https": "http"}[a.Scheme])
			}
		})
		for _, host := range hosts {
			with("host", func(a *request.Address) { a.Host = host })
		}
		with("slash", func(a *request.Address) {
			if trimmed := strings.TrimSuffix(a.Path, "/"); trimmed != a.Path && trimmed != "" {
				a.Path = trimmed
			} else if trimmed != "" {
				a.Path += "/"
			}
		})
		if bare.Address.HasQuery {
			with("no query", func(a *request.Address) { a.Query, a.HasQuery = "", false })
		} else {
			with("query", func(a *request.Address) { a.Query, a.HasQuery = "kibitz=1", true })
		}
		with("case", func(a *request.Address) {
			if a.Path = strings.ToUpper(bare.Address.Path); a.Path == bare.Address.Path {
				a.Path = strings.ToLower(a.Path)
			}
		})
		folder, name := path.Split(bare.Address.Path)
		if ext := path.Ext(name); ext != "" && ext != name {
			with("extension", func(a *request.Address) { a.Path = strings.TrimSuffix(a.Path, ext) })
		}
		if name == "" {
			for _, d := range documents {
				with("document", func(a *request.Address) { a.Path += d })
			}
		} else if slices.Contains(documents, name) {
			with("document", func(a *request.Address) { a.Path = folder })
		}
		for _, n := range []string{improbable, improbable + ".html", improbable + "/"} {
			with("nothing", func(a *request.Address) { a.Path, a.Query, a.HasQuery = folder+n, "", false })
		}
		for _, method := range []string{"HEAD", "OPTIONS"} {
			one := bare
			one.Method = method
			add("method", one)
		}
		encoded := bare
		encoded.Headers = []request.Header{{Name: "Accept-Encoding", Value: "br, zstd, gzip"}}
		add("encoding", encoded)
	}
	return probes
}

// Once gives requests without those that stand there a second time, or are known.
func Once(requests []*Answered, known []*request.Request) (once []*Answered) {
	seen := map[string]bool{}
	for _, req := range known {
		seen[keyOf(req)] = true
	}
	for _, r := range requests {
		if k := keyOf(r.Request); !seen[k] {
			seen[k] = true
			once = append(once, r)
		}
	}
	return once
}

// keyOf tells requests apart, as far as a server is asked.
func keyOf(req *request.Request) string {
	a := req.Address
	a.Fragment = ""
	key := req.Verb() + " " + a.String()
	if req.Client.IsValid() {
		key += "\nfor " + req.Client.String()
	}
	for _, h := range req.Headers {
		key += "\n" + strings.ToLower(h.Name) + ":" + h.Value
	}
	return key
}
