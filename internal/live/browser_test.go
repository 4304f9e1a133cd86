package live

import (
	"context"
	"fmt"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// browse lets a browser visit an address, whatever its host, at the server of w.
// It gives the pages that it asked for, each with its status.
func browse(t *testing.T, program string, w *world, address string) []string {
	t.Helper()
	var mu sync.Mutex
	var asked []string
	w.server.Log = func(d Served) {
		accepts, _ := d.Request.Get("Accept")
		mode, _ := d.Request.Get("Sec-Fetch-Mode")
		if !strings.HasPrefix(accepts, "text/html") || mode != "" && mode != "navigate" {
			return // what the page needs beside itself
		}
		mu.Lock()
		defer mu.Unlock()
		asked = append(asked, fmt.Sprintf("%d %s", d.Status, d.Request.Address))
	}
	at := map[string]string{}
	for _, o := range w.server.local {
		at[o.scheme] = fmt.Sprint(o.host, ":", o.port)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	c := exec.CommandContext(ctx, program, "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
		"--disable-component-update", "--disable-sync", "--disable-features=HttpsUpgrades,HttpsFirstBalancedModeAutoEnable", "--ignore-certificate-errors", "--user-data-dir="+t.TempDir(),
		"--host-resolver-rules=MAP *:80 "+at["http"]+", MAP *:443 "+at["https"], "--dump-dom", address)
	if err := c.Run(); err != nil && ctx.Err() != nil {
		t.Fatalf("%s did not come to an end with %s", program, address)
	}
	mu.Lock()
	defer mu.Unlock()
	return asked
}

// A real browser asks for what Visit says, one address after the other, and ends
// where it says.
func TestABrowserEndsWhereVisitSays(t *testing.T) {
	program, err := exec.LookPath("chromium")
	if err != nil || testing.Short() {
		t.Skip("there is no chromium here: .ci/run installs it where it can")
	}
	e, _ := demoEngine(t)
	w := serve(t, e)
	now := time.Now()
	w.now.Store(&now)
	w.server.Forwarded = false
	for _, address := range []string{
		"http://www.saltmarsh-ferries.example/timetable/winter.php?lang=en",
		"https://ferries.sandling.example/index.php",
		"https://saltmarsh-ferries.example/t/40812",
		"https://saltmarsh-ferries.example/boats",
		"https://saltmarsh-ferries.example/planner/ternholm/gullness",
		"https://saltmarsh-ferries.example/no/such/page",
		"https://saltmarsh-ferries.example/page?id=3#prices",
		"https://saltmarsh-ferries.example/crew/../fares.php",
	} {
		a, err := request.Parse(address, request.Address{})
		if err != nil {
			t.Fatal(err)
		}
		if a, err = a.Resolve(""); err != nil { // as a browser writes it
			t.Fatal(err)
		}
		req := &request.Request{Address: a, Client: engine.Loopback}
		visit := browser.Open(e, req)
		var want []string
		for _, h := range visit.Hops {
			to := h.Request.Address
			to.Fragment = ""
			status := fmt.Sprint(h.Response.Status)
			if h.Response.Word() != "" {
				status = "502" // no application is there
			}
			want = append(want, status+" "+to.String())
		}
		if got := browse(t, program, w, address); strings.Join(got, "\n") != strings.Join(want, "\n") {
			t.Errorf("%s: the browser asked for\n%s\npredicted\n%s", address, strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
	}

	// Round a circle it goes as often as Visit says that browsers do.
	book, err := rulebook.Read("t.kibitz", []byte("site s address https://s.example files public\nredirect round on /x/:n to /x/{n} as 302\n"), nil)
	if err != nil {
		t.Fatal(err)
	}
	w.server.Use(engine.New(book, []*site.Tree{nil}))
	got := browse(t, program, w, "https://s.example/x/1")
	if n := len(got); n < engine.MaxRedirects || n > engine.MaxRedirects+1 || got[n-1] != "302 https://s.example/x/1" {
		t.Errorf("round a circle: the browser asked %d times: %q", n, got)
	}
}
