package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Lists of every kind, told by their content: what the report says of them first.
func TestListsOfEveryKind(t *testing.T) {
	for _, test := range []struct{ name, flags, text, want string }{
		{"plain", "", "/ => 200\n/fares.php => 301 /fares/\n    client 192.0.2.1\n# done\n",
			"2 requests 0 loops 0 not found 2 of 2 expectations met | list 4 lines = 2 requests + 1 detail + 1 comment + 0 not read"},
		{"csv", "", "url,status\n/,200\n/none,404\n/x,y,z\n",
			"2 requests 0 loops 1 not found 1 line not read | list 4 lines = 2 requests + 1 comment + 1 not read"},
		{"a table of moves", "", "old,new,status\n/fares.php,/fares/,\n/webcam,,410\n/gone.php,/,\n",
			"3 requests 0 loops 1 not found 2 of 3 expectations met | list 4 lines = 3 requests + 1 comment + 0 not read"},
		{"jsonl", "", "{\"url\":\"/\",\"status\":200}\n\n[]\n",
			"1 request 0 loops 0 not found 1 line not read | list 3 lines = 1 request + 1 comment + 1 not read"},
		{"jsonl, chosen", "-only 404", "{\"url\":\"/\",\"status\":200}\n{\"url\":\"/none\"}\n",
			"1 of 2 requests 0 loops 1 not found | list 2 lines = 2 requests + 0 comments + 0 not read"},
		{"har", "", `{"log":{"entries":[{"request":{"method":"GET","url":"https://s.example/"},"response":{"status":200}},{"request":{"url":"data:x"}}]}}`,
			"1 request 0 loops 0 not found 1 line not read | list 2 entries = 1 request + 0 comments + 1 not read"},
		{"log", "", "192.0.2.1 - - [10/Oct/2026:13:55:36 +0000] \"GET / HTTP/1.1\" 200 1\n\n192.0.2.1 - - [10/Oct/2026:13:55:36 +0000] \"\\x16\" 400 1\n",
			"1 request 0 loops 0 not found 1 line not read | list 3 lines = 1 request + 1 comment + 1 not read"},
		{"w3c", "", "#Version: 1.0\n#Fields: date time cs-method cs-uri-stem sc-status\n2026-10-10 10:00:00 GET / 200\n2026-10-10 10:00:01 GET /none 404\n2026-10-10 GET\n",
			"2 requests 0 loops 1 not found 1 line not read | list 5 lines = 2 requests + 2 comments + 1 not read"},
		{"w3c, since", "-since 2026-10-10T10:00:01Z", "#Fields: time date cs-uri-stem cs-method sc-status\n10:00:00 2026-10-10 / GET 200\n10:00:01 2026-10-10 / GET 200\n",
			"1 of 2 requests 0 loops 0 not found | list 3 lines = 2 requests + 1 comment + 0 not read"},
		{"w3c, the fields change", "-only differs", "#Fields: cs-uri-stem sc-status\n/ 404\n#Fields: sc-status cs-uri-stem\n404 /\n200 /\n",
			"2 of 3 requests 0 loops 0 not found | list 5 lines = 3 requests + 2 comments + 0 not read"},
		{"sitemap", "", "<urlset><url><loc>https://s.example/</loc></url><url><loc>https://s.example/none</loc></url></urlset>",
			"2 requests 0 loops 1 not found 1 of 2 expectations met | list 2 addresses = 2 requests + 0 comments + 0 not read"},
	} {
		t.Run(strings.ReplaceAll(test.name, " ", "-"), func(t *testing.T) {
			t.Parallel()
			dir := harbourIn(t, situation{rules: "moves m table moves.csv as permanent"})
			if err := os.WriteFile(filepath.Join(dir, "list"), []byte(test.text), 0o644); err != nil {
				t.Fatal(err)
			}
			for _, from := range []string{"list", "-"} {
				out, _, _ := kibitz(t, dir, test.text, append(append([]string{"replay"}, strings.Fields(test.flags)...), from)...)
				parts := strings.SplitN(out, "\n\n", 3)
				if len(parts) < 3 {
					t.Fatal(out)
				}
				head, rest, _ := strings.Cut(parts[0], " in ")
				took := strings.Fields(rest) // 3 ms
				got := strings.Join(append([]string{head}, took[2:]...), " ") + " | " + strings.Join(strings.Fields(parts[1]), " ")
				if want := strings.Replace(test.want, "| list ", map[string]string{"list": "| list ", "-": "| standard input "}[from], 1); got != want {
					t.Errorf("%s\nwant\n%s", got, want)
				}
			}
		})
	}
}

// The file that is most like an address which is missing.
func TestTheLikeliestFile(t *testing.T) {
	files := map[string]string{"/index.html": "", "/fares/index.html": "", "/fares/children.html": "", "/boats/kittiwake.html": "", "/boats/avocet.pdf": "", "/maps/harbour.svg": "", "/errors/lost.html": ""}
	dir := t.TempDir()
	for name := range files {
		os.MkdirAll(filepath.Dir(filepath.Join(dir, "public", name)), 0o755)
		os.WriteFile(filepath.Join(dir, "public", name), []byte("x"), 0o644)
	}
	os.WriteFile(filepath.Join(dir, "site.kibitz"), []byte("site s address https://s.example files public\n"), 0o644)
	for _, test := range []struct{ missing, want string }{
		{"/boats/kitiwake.html", "/boats/kittiwake.html"},
		{"/old/KITTIWAKE.html", "/boats/kittiwake.html"},
		{"/boats/kittiwake.php", "/boats/kittiwake.html"},
		{"/boats/avocet.html", "/boats/avocet.pdf"},
		{"/fares/childern.html", "/fares/children.html"},
		{"/tickets/fares", "/fares/"},
		{"/fares/childrens-tickets.html", ""},
		{"/lost.html", ""},
		{"/ab", ""},
		{"/%FF%FE/harbour.svg", "/maps/harbour.svg"},
	} {
		out, _, _ := kibitz(t, dir, test.missing+"\n", "replay", "-")
		_, got, _ := strings.Cut(strings.SplitN(out, "Try one", 2)[0], "perhaps ")
		if got = strings.TrimSpace(got); got != test.want {
			t.Errorf("%s: perhaps %q, want %q", test.missing, got, test.want)
		}
	}
}

// A JSON access log is read by the names of the semantic conventions, or by those that are
// said; and visitors are sent by the language that they ask for first.
func TestJSONLogs(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"site.kibitz": "site s address https://s.example\nredirect german on / when language de* to /de/ as temporary\nreply home with 200\n",
		"known.log":   `{"url":{"path":"/"},"http":{"request":{"method":"GET","header":{"accept-language":["de-AT, en;q=0.5"]}},"response":{"status_code":200}}}` + "\n" + `{"url.path":"/","http.response.status_code":200}` + "\n{}\n",
		"own.log":     `{"req":{"uri":"/"},"code":302}` + "\n",
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, test := range []struct {
		args string
		has  []string
	}{
		{"replay known.log", []string{"3 lines   = 2 requests", "german 1", "home 1", "200     1     1"}},
		{"replay -each known.log", []string{"302 GET     https://s.example/   /de/   german"}},
		{"replay -fields url=req.uri,status=code own.log", []string{"1 line   = 1 request ", "home 1"}},
		{"trace / -header Accept-Language:de-AT", []string{"german", "/de/"}},
	} {
		out, errs, _ := kibitz(t, dir, "", strings.Fields(test.args)...)
		for _, want := range test.has {
			if !strings.Contains(out, want) {
				t.Errorf("%s: %q is not in\n%s%s", test.args, want, out, errs)
			}
		}
	}
}
