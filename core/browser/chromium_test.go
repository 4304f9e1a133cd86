package browser

// What a real browser sends along on its way, held against what Visit says: cookies that
// redirects set, by all that Set-Cookie can say, and what is left of the referrer.

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"html"
	"io"
	"log"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"kibitz/core/engine"
	"kibitz/core/request"
)

// A web answers addresses with redirects, and all others with a page.
type web map[string]*engine.Response

func (w web) Predict(req *request.Request) *engine.Response {
	if r := w[req.Address.String()]; r != nil {
		return r
	}
	return &engine.Response{Status: http.StatusOK}
}

func (w web) Outcome(req *request.Request, r *engine.Response) { *r = *w.Predict(req) }
func (web) Serves(string) bool                                 { return true }
func (web) Instructs() bool                                    { return true }

// A journey is a page that leads to an address, and what happens from there on. Where it is
// made twice, the page that it comes to leads there once more.
type journey struct {
	from, to string
	answers  web
	post     bool // the page sends a form
	twice    bool
}

// anyJourney makes the n-th, over hosts of its own: so no other journey's cookies are met.
func anyJourney(r *rand.Rand, n int) journey {
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	domain := fmt.Sprintf("s%d.example", n)
	post := r.IntN(4) == 0
	address := func() string {
		host := pick(domain, domain, domain, "www."+domain, "www."+domain, "a.www."+domain, fmt.Sprintf("t%d.example", n))
		scheme := pick("https", "https", "https", "http")
		if post { // a browser asks people before it sends a form over http
			scheme = "https"
		}
		return scheme + "://" + host + pick("/", "/x", "/shop", "/shop/", "/shop/y", "/shop/y/z", "/shopping", "/x?q=1")
	}
	j := journey{from: address(), to: address(), answers: web{}, post: post}
	if strings.HasPrefix(j.to, "http:") { // whom an https page sends there tells no page, as who types the address
		j.from = strings.Replace(j.from, "https:", "http:", 1)
	}
	at := j.to
	for range 1 + r.IntN(4) {
		if j.answers[at] != nil || at == j.from {
			break
		}
		next := address()
		answer := &engine.Response{Status: []int{301, 302, 303, 307, 308}[r.IntN(5)], Location: next}
		for range r.IntN(4) {
			answer.Headers = append(answer.Headers, request.Header{Name: "Set-Cookie", Value: anyCookie(r, domain)})
		}
		if r.IntN(3) == 0 {
			answer.Headers = append(answer.Headers, request.Header{Name: "Referrer-Policy", Value: pick(append(ReferrerPolicies, "sometimes", "origin, never", "unsafe-url,no-referrer")...)})
		}
		j.answers[at] = answer
		at = next
	}
	delete(j.answers, j.from)
	return j
}

// anyCookie makes a value of Set-Cookie.
func anyCookie(r *rand.Rand, domain string) string {
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	out := pick("a", "a", "a", "b", "__Host-a", "__Secure-a", "__host-a", "A") + pick("=", "=", " = ") + pick("1", "2", "3", "", `"4"`, "x y", "é", `5\`, "u=v", ",")
	if r.IntN(12) == 0 {
		out = pick("alone", "=nameless", "=", ";", " a b = c ", "a\t=1")
	}
	for range r.IntN(3) {
		out += pick(";", "; ", " ;") + pick("Secure", "secure", "Secure", "HttpOnly", "Partitioned", "unknown=1",
			"Path=/", "Path=/", "Path=/shop", "path=/shop/", "Path=/shop/y", "Path=shop", "Path=", "Path", `Path="/"`,
			"Domain="+domain, "Domain="+domain, "domain=."+domain, "Domain=www."+domain, "Domain="+strings.ToUpper(domain), "Domain=example", "Domain=.example", "Domain=", "Domain", "Domain=other.example", "Domain=192.0.2.1",
			"SameSite=None", "SameSite=Lax", "SameSite=strict", "SameSite=Strict", "SameSite=Else", "SameSite")
	}
	if r.IntN(4) == 0 {
		out += "; " + pick("Max-Age=0", "Max-Age=-1", "Max-Age=60", "max-age=9999999999999", "Max-Age=-9999999999999", "Max-Age=", "Max-Age=6x", "Max-Age=-")
	}
	if r.IntN(4) == 0 {
		out += "; " + pick("Expires=Thu, 01 Jan 1970 00:00:00 GMT", "Expires=Thu, 01 Jan 2099 00:00:00 GMT", "expires=Thursday, 01-Jan-70 00:00:00 GMT", "Expires=1 Jan 1999 0:0:0", "Expires=soon", "Expires=01 Jan 2099 10:00:00", "Expires=Sat Jan 1 00:00:00 2000", "Expires=31 Feb 1999 10:00:00", "Expires=1 Jan 1999 25:00:00", "Expires=1999 January 1 10:00:00", "Expires=1 Jan 99 10:00:00", "Expires=1 Jan 1999", "Expires=")
	}
	return out
}

// told is what a request brings along.
func told(req *request.Request) string {
	cookie, _ := req.Get("Cookie")
	from, _ := req.Get("Referer")
	pairs := strings.Split(cookie, "; ")
	slices.Sort(pairs) // a cookie that is set again has its old place or a new one
	return fmt.Sprintf("%s %s cookies %q from %q", req.Verb(), req.Address, pairs, from)
}

// visited says what a browser asks for on a journey; goesOn: and so on, round a circle.
func (j *journey) visited(t *testing.T) (out []string, goesOn bool) {
	from, to := address(t, j.from), address(t, j.to)
	first := &request.Request{Address: to, Time: time.Now()}
	if j.post {
		first.Method = http.MethodPost
	}
	if page := Referrer(from, to); page != "" {
		first.Headers = []request.Header{{Name: "Referer", Value: page}}
	}
	v := Open(j.answers, first)
	for _, h := range v.Hops {
		out = append(out, told(h.Request))
	}
	return out, v.Ending == Loop
}

func address(t *testing.T, text string) request.Address {
	t.Helper()
	a, err := request.Parse(text, request.Address{})
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// A guide leads a browser from one journey to the next, and notes what it asks for.
type guide struct {
	t        *testing.T
	journeys []journey
	arrived  chan struct{} // closed at the end of the last

	mu    sync.Mutex
	asked [][]string // on each journey
	at    int        // the one at hand; -1 before the first
	again bool       // it is made for the second time
	ended bool
}

// next is where the next journey begins.
func (g *guide) next() string {
	if g.at+1 == len(g.journeys) {
		return "about:blank"
	}
	return g.journeys[g.at+1].from
}

// over answers all that is asked for over a scheme.
func (g *guide) over(scheme string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		g.mu.Lock()
		defer g.mu.Unlock()
		where := scheme + "://" + r.Host + r.URL.RequestURI()
		w.Header().Set("Cache-Control", "no-store")
		switch {
		case g.ended || r.URL.Path == "/favicon.ico" || !strings.HasSuffix(r.Host, ".example"): // what it asks for by itself
			http.NotFound(w, r)
		case where == g.next() && (g.at < 0 || len(g.asked[g.at]) > 0):
			g.at, g.again = g.at+1, false
			j := &g.journeys[g.at]
			leadOn(w, j.to, "", j.post)
		case g.at < 0:
			leadOn(w, g.next(), "no-referrer", false)
		default:
			g.answer(w, r, where)
		}
	}
}

// answer answers a request of the journey at hand.
func (g *guide) answer(w http.ResponseWriter, r *http.Request, where string) {
	j, asked := &g.journeys[g.at], &g.asked[g.at]
	req := &request.Request{Method: r.Method, Address: address(g.t, where), Headers: []request.Header{{Name: "Cookie", Value: r.Header.Get("Cookie")}, {Name: "Referer", Value: r.Header.Get("Referer")}}}
	answer := j.answers.Predict(req)
	if j.twice {
		*asked = append(*asked, where)
		w.Header().Del("Cache-Control")
	} else {
		*asked = append(*asked, told(req))
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	for _, h := range answer.Headers {
		w.Header().Add(h.Name, h.Value)
	}
	switch {
	case Follows(answer) && len(*asked) < 10: // else it goes round
		w.Header().Set("Location", answer.Location)
		w.WriteHeader(answer.Status)
	case j.twice && where == j.to: // a page that may be kept leads on always to the same
		fmt.Fprint(w, "<!doctype html><script>location.replace('/y')</script>")
	case j.twice && !g.again:
		g.again = true
		w.Header().Set("Cache-Control", "no-store")
		leadOn(w, j.to, "no-referrer", false)
	default:
		w.Header().Set("Cache-Control", "no-store")
		if leadOn(w, g.next(), "no-referrer", false); g.at+1 == len(g.journeys) {
			close(g.arrived)
			g.ended = true
		}
	}
}

// leadOn writes a page that leads to an address at once, or sends a form there.
func leadOn(w http.ResponseWriter, to, policy string, post bool) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	on := "<a id=on href=\"%s\">on</a><script>location.replace(document.getElementById('on').href)</script>"
	if post {
		on = "<form id=on method=post action=\"%s\"><input name=a value=1></form><script>document.getElementById('on').submit()</script>"
	}
	fmt.Fprintf(w, "<!doctype html><meta name=referrer content=%q>"+on, policy, html.EscapeString(to))
}

// travel has a browser make journeys, and gives what it asked for on each.
func travel(t *testing.T, program string, journeys []journey) [][]string {
	g := &guide{t: t, journeys: journeys, arrived: make(chan struct{}), asked: make([][]string, len(journeys)), at: -1}
	plain, secure := httptest.NewServer(g.over("http")), httptest.NewUnstartedServer(g.over("https"))
	defer plain.Close()
	defer secure.Close()
	secure.Config.ErrorLog = log.New(io.Discard, "", 0) // connections that the browser does not use
	secure.StartTLS()
	ctx, cancel := context.WithTimeout(context.Background(), 4*time.Minute)
	defer cancel()
	c := exec.CommandContext(ctx, program, "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync",
		"--disable-features=HttpsUpgrades,HttpsFirstBalancedModeAutoEnable", "--ignore-certificate-errors", "--user-data-dir="+t.TempDir(), "--remote-debugging-port=0",
		"--host-resolver-rules=MAP *:80 "+plain.Listener.Addr().String()+", MAP *:443 "+secure.Listener.Addr().String(), "https://begin.example/")
	c.Cancel = func() error { return c.Process.Signal(os.Interrupt) } // so that it leaves its folder in order
	c.WaitDelay = 10 * time.Second
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	select {
	case <-g.arrived:
	case <-ctx.Done():
		t.Errorf("%s did not make all journeys", program)
	}
	cancel()
	_ = c.Wait()
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.asked
}

var seed = flag.Uint64("seed", 1, "makes other journeys")

// inChromium gives a real browser, if there is one.
func inChromium(t *testing.T) (program string, r *rand.Rand) {
	program, err := exec.LookPath("chromium")
	if err != nil || testing.Short() {
		t.Skip("there is no chromium here: .ci/run installs it where it can")
	}
	return program, rand.New(rand.NewPCG(1, *seed))
}

// compare says where journeys are not those that are predicted.
func compare(t *testing.T, journeys []journey, made [][]string, visited func(j *journey) (out []string, goesOn bool)) {
	apart := 0
	for i, got := range made {
		want, goesOn := visited(&journeys[i])
		if goesOn {
			got = got[:min(len(got), len(want))]
		}
		if strings.Join(got, "\n") == strings.Join(want, "\n") {
			continue
		}
		if apart++; apart > 10 {
			continue
		}
		var answers []string
		for at, a := range journeys[i].answers {
			answers = append(answers, fmt.Sprintf("%s: %d %s %q", at, a.Status, a.Location, a.Headers))
		}
		t.Errorf("from %s, where\n%s\nthe browser asks for\n%s\nand not, as predicted, for\n%s", journeys[i].from, strings.Join(answers, "\n"), cmp.Or(strings.Join(got, "\n"), "nothing"), strings.Join(want, "\n"))
	}
	if apart > 0 {
		t.Errorf("%d of %d journeys are other ones", apart, len(journeys))
	}
}

// A real browser sends the cookies and the referrer along that Visit says.
func TestABrowserSendsWhatVisitSays(t *testing.T) {
	program, r := inChromium(t)
	var journeys []journey
	for n := range 100 {
		journeys = append(journeys, anyJourney(r, n))
	}
	compare(t, journeys, travel(t, program, journeys), func(j *journey) ([]string, bool) { return j.visited(t) })
}

// A real browser asks once more for redirects that are not stored, as Stored says, and for pages
// that are not kept, and for no others. What it keeps by guess nobody can say.
func TestABrowserStoresWhatStoredSays(t *testing.T) {
	program, r := inChromium(t)
	var journeys []journey
	for n := range 100 {
		journeys = append(journeys, anyStored(r, n))
	}
	compare(t, journeys, travel(t, program, journeys), func(j *journey) (out []string, goesOn bool) {
		answer, asked := j.answers[j.to], &request.Request{Address: address(t, j.to)}
		behind := j.from + "y"
		out = []string{j.to, behind, j.to, behind}
		kept := Stored(asked, answer, time.Now())
		if answer.Status == http.StatusOK {
			m := keep(asked, answer, time.Now()).manner
			kept = m == keptFor || m == keptUntil
			if m == keptByGuess {
				return out[:2], true
			}
		}
		if kept {
			out = slices.Delete(out, 2, 3)
		}
		return out, false
	})
}

// anyStored makes the n-th journey that is made twice, over a redirect or a page that may be kept.
func anyStored(r *rand.Rand, n int) journey {
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	host := fmt.Sprintf("http://s%d.example", n)
	j := journey{from: host + "/", to: host + "/x", answers: web{}, twice: true}
	answer := &engine.Response{Status: []int{200, 200, 301, 302, 303, 307, 308}[r.IntN(7)], Location: host + "/y"}
	if answer.Status == http.StatusOK {
		answer.Location = ""
	}
	add := func(name string, values ...string) {
		if r.IntN(3) == 0 {
			answer.Headers = append(answer.Headers, request.Header{Name: name, Value: pick(values...)})
		}
	}
	if r.IntN(3) > 0 {
		directives := map[string]string{} // each stands once
		for range 1 + r.IntN(3) {
			d := pick("max-age=600", "max-age=600", "Max-Age=600", "max-age=0", "max-age=6x", "max-age", "max-age=-1", "s-maxage=600", "s-maxage=0", "public", "private", "no-cache", "no-store", "NO-STORE", "must-revalidate", "proxy-revalidate", "immutable", "no-cache=\"x\"", "private=\"set-cookie\"", "stale-while-revalidate=600", "no-transform", "nothing", "must-understand")
			if Permanent(answer.Status) && r.IntN(9) == 0 { // of others not all browsers make the same
				d = pick("max-age=\"600\"", "max-age = 600", "max-age=\"0\"")
			}
			name, _, _ := strings.Cut(strings.ToLower(d), "=")
			directives[strings.TrimSpace(name)] = d
		}
		answer.Headers = append(answer.Headers, request.Header{Name: "Cache-Control", Value: strings.Join(slices.Collect(maps.Values(directives)), pick(", ", ",", " , "))})
	} else {
		add("Pragma", "no-cache", "cache", "No-Cache")
	}
	add("Expires", "Thu, 01 Jan 1970 00:00:00 GMT", "Thu, 01 Jan 2099 00:00:00 GMT", "0", "-1", "soon", "Thursday, 01-Jan-99 00:00:00 GMT", "")
	add("Vary", "*", "Accept", "Cookie", "Accept-Encoding", "Accept, *")
	add("Age", "0", "60", "600", "6000", "x")
	add("Last-Modified", "Thu, 01 Jan 2015 00:00:00 GMT")
	add("ETag", "\"1\"")
	j.answers[j.to] = answer
	return j
}
