package excerpt

import (
	"fmt"
	"io"
	"net/netip"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/proof/trial"
	"kibitz/core/replay"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
	"kibitz/core/site"
	"kibitz/demo"
)

// engineOf compiles a rulebook; other files that it names are those of the example.
func engineOf(t testing.TB, text string, files map[string]string) (*engine.Engine, func(string) ([]byte, error)) {
	t.Helper()
	load := func(name string) ([]byte, error) {
		if text, ok := demo.Files()[name]; ok {
			return text, nil
		}
		return nil, os.ErrNotExist
	}
	book, err := rulebook.Read("site.kibitz", []byte(text), load)
	if err != nil {
		t.Fatal(err)
	}
	return engine.New(book, []*site.Tree{site.Memory(files)}), load
}

// TestHarms shows what is done to an entry.
func TestHarms(t *testing.T) {
	e, load := engineOf(t, `site s address https://s.example files public
redirect old on /a /b/c when cookie.x 1 to /new/ as permanent
    example /a => 404
access   crew in /b/ /crew/ refuse
access   rota in /rota/ refuse
`, map[string]string{"/new/index.html": "x"})
	var got []string
	for _, h := range Harms(e.Book) {
		harmed, err := h.Engine(e, load)
		changed := "cannot be read"
		if err == nil {
			changed = strings.Join(harmed.Book.Sources[0].Lines[1:], " / ")
		}
		got = append(got, h.Rule.Name+" "+h.Says+" = "+strings.TrimSuffix(changed, " / "))
	}
	want := []string{
		"old without the entry = access   crew in /b/ /crew/ refuse / access   rota in /rota/ refuse",
		"old without `on /a /b/c` = redirect old when cookie.x 1 to /new/ as permanent /     example /a => 404 / access   crew in /b/ /crew/ refuse / access   rota in /rota/ refuse",
		"old `on /a*` = redirect old on /a* /b/c when cookie.x 1 to /new/ as permanent /     example /a => 404 / access   crew in /b/ /crew/ refuse / access   rota in /rota/ refuse",
		"old `on` without /b/c = redirect old on /a when cookie.x 1 to /new/ as permanent /     example /a => 404 / access   crew in /b/ /crew/ refuse / access   rota in /rota/ refuse",
		"old `on /b/*` = redirect old on /a /b/* when cookie.x 1 to /new/ as permanent /     example /a => 404 / access   crew in /b/ /crew/ refuse / access   rota in /rota/ refuse",
		"old without `when cookie.x 1` = redirect old on /a /b/c to /new/ as permanent /     example /a => 404 / access   crew in /b/ /crew/ refuse / access   rota in /rota/ refuse",
		"old `unless` for `when cookie.x` = redirect old on /a /b/c unless cookie.x 1 to /new/ as permanent /     example /a => 404 / access   crew in /b/ /crew/ refuse / access   rota in /rota/ refuse",
		"old `to /newx` = redirect old on /a /b/c when cookie.x 1 to /newx as permanent /     example /a => 404 / access   crew in /b/ /crew/ refuse / access   rota in /rota/ refuse",
		"old `as temporary` = redirect old on /a /b/c when cookie.x 1 to /new/ as temporary /     example /a => 404 / access   crew in /b/ /crew/ refuse / access   rota in /rota/ refuse",
		"old below crew = access   crew in /b/ /crew/ refuse / redirect old on /a /b/c when cookie.x 1 to /new/ as permanent /     example /a => 404 / access   rota in /rota/ refuse",
		"crew without the entry = redirect old on /a /b/c when cookie.x 1 to /new/ as permanent /     example /a => 404 / access   rota in /rota/ refuse",
	}
	for _, w := range want {
		found := false
		for _, g := range got {
			found = found || g == w
		}
		if !found {
			t.Errorf("there is no\n  %s\namong\n  %s", w, strings.Join(got, "\n  "))
		}
	}
	if i := slices.IndexFunc(got, func(g string) bool { return strings.HasPrefix(g, "crew below rota") }); i >= 0 {
		t.Errorf("no path is for both, and yet there is %s", got[i])
	}
}

// theLog asks for some addresses, some of them often.
var theLog = func() string {
	var b strings.Builder
	targets := []string{"/", "/maps/", "/old/map", "/old/a", "/m", "/start", "/plan/a", "/closed", "/none", "/crew/rota.html", "/office/keys.html", "/new/a.html"}
	for i := range 300 {
		fmt.Fprintf(&b, "192.0.2.%d - - [28/Feb/2026:00:00:%02d +0000] \"GET %s HTTP/1.1\" 200 1 \"-\" \"A\"\n", i%3, i%60, targets[i*i%len(targets)])
	}
	return b.String()
}()

// TestAnExcerptStandsForItsList: it is answered in every way in which the list is, each line
// of it as is expected, and it notices what it says that it notices.
func TestAnExcerptStandsForItsList(t *testing.T) {
	e, load := engineOf(t, trial.Good+"header age in /maps/ set Cache-Control no-cache\nerror none for 404 show /index.html\n", trial.GoodFiles)
	base := e.Book.BaseAddress()
	g := NewGatherer(e)
	ways := map[string]bool{}
	way := func(r *replay.Result) string {
		by := ""
		if r.Response.By != nil {
			by = r.Response.By.Name
		}
		return fmt.Sprint(r.Response.Status, r.Response.Cause, by)
	}
	show := g.Show()
	_, err := list.Read(strings.NewReader(theLog), list.Options{Base: base}, func(item *list.Item) {
		r := replay.Predict(e, "log", item)
		ways[way(r)] = true
		show.Result(r)
	})
	show.End()
	if err != nil {
		t.Fatal(err)
	}
	picks, s := g.Make(base, load)
	requests := int64(0)
	var text strings.Builder
	for _, p := range picks {
		requests += p.Of
		r := replay.Predict(e, "excerpt", p.Item)
		delete(ways, way(r))
		if unmet := browser.Unmet(p.Expects, browser.Open(e, p.Request)); len(unmet) > 0 {
			t.Errorf("%s: %s", p.Request.Address, unmet)
		}
		if err := list.WritePlain(&text, p.Item, base); err != nil {
			t.Errorf("%s: %v", p.Request.Address, err)
		}
	}
	for w := range ways {
		t.Errorf("no request is answered with %s", w)
	}
	if requests != 300 || len(picks) > 60 {
		t.Errorf("%d picks stand for %d requests", len(picks), requests)
	}
	if s.Noticed*100 < s.Harms*96 || s.Harms < 40 {
		t.Errorf("%d of %d harms are noticed", s.Noticed, s.Harms)
	}
	var items []*list.Item
	if _, err := list.Plain(strings.NewReader(text.String()), base, func(i *list.Item) { items = append(items, i) }); err != nil {
		t.Fatal(err)
	}
	if again := StrengthOf(e, items, load); again.Noticed < s.Noticed-1 {
		t.Errorf("the list as it is written notices %d of %d harms, not %d", again.Noticed, again.Harms, s.Noticed)
	}
	if few := StrengthOf(e, items[:len(items)/2], load); few.Noticed >= s.Noticed || len(few.Unnoticed) == 0 {
		t.Errorf("half of it notices %d of %d", few.Noticed, few.Harms)
	} else {
		for _, u := range few.Unnoticed { // each is shown by its request
			harmed, err := u.Engine(e, load)
			if err != nil {
				t.Fatal(err)
			}
			a, b := e.Predict(u.Request), harmed.Predict(u.Request)
			if engine.StatusText(a) == engine.StatusText(b) && a.Location == b.Location && a.File == b.File && fmt.Sprint(a.Headers, a.Hints) == fmt.Sprint(b.Headers, b.Hints) {
				t.Errorf("%s %s is not shown by %s", u.Rule.Name, u.Says, u.Request.Address)
			}
		}
	}
}

// TestWrittenIsRead holds the plain format against itself: what cannot be said is refused.
func TestWrittenIsRead(t *testing.T) {
	e, _ := engineOf(t, "site s address https://s.example\n", nil)
	for _, text := range []string{"/a?b=1#c => 301 /x by old\n", "POST https://t.example/ => app\n    client 192.0.2.1\n    time 2026-02-12T23:59:59.999999Z\n    body 3B\n    X-A: b c\n    => Vary: a, b\n", "/ => 200 cause file file /a ends 2xx loop without Vary without Age\n"} {
		_, err := list.Plain(strings.NewReader(text), e.Book.BaseAddress(), func(i *list.Item) {
			var b strings.Builder
			if err := list.WritePlain(&b, i, e.Book.BaseAddress()); err != nil || b.String() != text {
				t.Errorf("%v\n%sbecomes\n%s", err, text, b.String())
			}
			i.Request.Headers = append(i.Request.Headers, i.Request.Headers...)
			i.Request.Headers = append(i.Request.Headers, i.Request.Headers...)
			i.Expects.File = "/with blank"
			if list.WritePlain(io.Discard, i, e.Book.BaseAddress()) == nil {
				t.Errorf("a blank in a file's name is written")
			}
		})
		if err != nil {
			t.Fatal(err)
		}
	}
}

// TestWhatARequestKeeps: of a request as it stands in the list remains what some entry of the
// rulebook looks at, whether or not it changes the answer to this one; trimmed, what does.
func TestWhatARequestKeeps(t *testing.T) {
	const site = "site s address https://s.example files public\n"
	req := &request.Request{Client: netip.MustParseAddr("192.0.2.1"), Time: time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC), Headers: []request.Header{{Name: "Cookie", Value: "lang=de"}, {Name: "X-Other", Value: "y"}}}
	req.Address, _ = request.Parse("https://s.example/boats/", request.Address{})
	for rule, want := range map[string][2]string{
		"":                                       {"false false 0", "false false 0"},
		"access a when client 10.0.0.0/8 refuse": {"true false 0", "false false 0"},
		"access a when client 192.0.2.0/24 refuse":            {"true false 0", "true false 0"},
		"redirect a when time after 2027-01-01 to /x as 302":  {"false true 0", "false false 0"},
		"redirect a on /x when cookie.lang de to /de/ as 302": {"false false 1", "false false 0"},
	} {
		e, _ := engineOf(t, site+rule+"\n", map[string]string{"/boats/index.html": "b"})
		for i, trimmed := range []bool{false, true} {
			p := NewGatherer(e).pick(req, e.Book.BaseAddress(), trimmed)
			if p == nil {
				t.Fatalf("%s: not written down", rule)
			}
			if got := fmt.Sprint(p.Request.Client.IsValid(), " ", !p.Request.Time.IsZero(), " ", len(p.Request.Headers)); got != want[i] {
				t.Errorf("%s, trimmed %v: client, time and fields are %s, want %s", rule, trimmed, got, want[i])
			}
		}
	}
}
