package render

import (
	"bytes"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"time"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/replay"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// What Lines writes of a result is what the encoder makes of NewLine, whatever stands in it.
func TestLinesAreThoseOfTheEncoder(t *testing.T) {
	book, err := rulebook.Read("r.kibitz", []byte("site s address https://s.example files f\nredirect a on /a to /b as 301\nredirect l on /l to /l as 302\nhandoff h in /app\nreply r on /r with 200 text {agent}\nheader x set X-A {agent} add x-a b\n"), nil)
	if err != nil {
		t.Fatal(err)
	}
	e := engine.New(book, []*site.Tree{site.Memory(map[string]string{"/index.html": "home", "/b": "b"})})
	r := rand.New(rand.NewPCG(1, 2))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	text := func() string {
		return pick("", "plain", `a "quoted" one`, `back\slash`, "<&>", "é\u2028", "\x7f", "\x01\x1b[31m", "\xff\xfe", "\U000e0001", strings.Repeat("long ", 50))
	}
	var got, want bytes.Buffer
	lines, enc := NewLines(&got), JSON(&want)
	for range 3000 {
		req := &request.Request{Method: pick("", "GET", "POST", "HEAD"), Address: book.BaseAddress(), Body: int64(r.IntN(2) * r.IntN(9))}
		req.Address.Path = pick("/", "/a", "/b", "/l", "/r", "/app/x", "/none", "/%7F\"")
		req.Address.Query, req.Address.HasQuery = text(), r.IntN(2) == 0
		for range r.IntN(4) {
			req.Headers = append(req.Headers, request.Header{Name: pick("Referer", "User-Agent", "user-agent", "X-\x01", "Authorization", "B"), Value: text()})
		}
		if r.IntN(2) == 0 {
			req.Client = netip.MustParseAddr(pick("192.0.2.1", "2001:db8::1", `fe80::1%a"\x1b`, "::ffff:192.0.2.7"))
			req.Time = time.Date(2026, 3, 1, 4, 5, 6, r.IntN(2)*7000, time.UTC)
		}
		item := &list.Item{Request: req, Line: r.IntN(1000), Recorded: r.IntN(2) * 200}
		if r.IntN(10) == 0 {
			item.Expects = &request.Expectation{Status: "200"}
		}
		res := replay.Predict(e, pick("a.log", "odd \"name\".log"), item)
		if item.Expects == nil && r.IntN(2) == 0 {
			res.Visit = browser.Open(e, req)
		}
		lines.Write(res)
		enc.Encode(NewLine(res))
		if r.IntN(3) == 0 { // once more, of the same answer
			again := *res
			again.Item = &list.Item{Request: &request.Request{Method: req.Method, Address: req.Address, Headers: []request.Header{{Name: "User-Agent", Value: text()}}}}
			again.Item.Expects = item.Expects
			lines.Write(&again)
			enc.Encode(NewLine(&again))
		}
		if got.String() != want.String() {
			t.Fatalf("%s\nthe encoder: %s", got.String(), want.String())
		}
		got.Reset()
		want.Reset()
	}
}
