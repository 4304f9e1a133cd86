package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestPagesHoldNothingButWhatIsTheirOwn makes each page of names that would run if they
// were not escaped: read as a page of a site it refers to nothing, and its policy breaks
// nothing of it; in a browser nothing runs.
func TestPagesHoldNothingButWhatIsTheirOwn(t *testing.T) {
	const evil = `<img/src=x onerror=document.title='run'><script>document.title='run'</script>`
	dir := write(t, map[string]string{
		"site.kibitz":       "site s address https://s.example files public\nredirect round on /round to /round as 302\nredirect a on /x to /none as permanent   # " + evil + "\n",
		"new.kibitz":        "site s address https://s.example files public\n",
		"public/index.html": `<a href="/none?` + strings.ReplaceAll(evil, `"`, "") + `">` + evil,
		"a.log": fmt.Sprintf("203.0.113.9 - - [28/Feb/2026:00:00:01 +0000] \"GET /%s HTTP/1.1\" 200 1 \"https://t.example/%s\" \"A\"\n203.0.113.9 - - [28/Feb/2026:00:00:01 +0000] \"GET /round HTTP/1.1\" 200 1 \"-\" \"A\"\n",
			strings.ReplaceAll(evil, " ", "%20"), strings.ReplaceAll(evil, " ", "+")),
		"e.txt": "/x => 200 by <script>document.title='run'</script>\n",
	})
	for _, args := range [][]string{
		{"replay", "a.log"}, {"replay", "e.txt"}, {"replay", "-every-link"}, {"check"}, {"links"}, {"compare", "site.kibitz", "new.kibitz", "a.log"}, {"compare", "site.kibitz", "new.kibitz"},
		{"verify", "a.log", "-at", "http://127.0.0.1:1", "-rate", "0", "-retries", "0"},
	} {
		name := strings.Join(args[:1], "") + fmt.Sprint(len(args)) + args[len(args)-1][:1] + ".html"
		folder := filepath.Join(dir, "pages", strings.TrimSuffix(name, ".html"))
		if err := os.MkdirAll(folder, 0o755); err != nil {
			t.Fatal(err)
		}
		at := filepath.Join(folder, "page.html")
		_, stderr, status := kibitz(t, dir, "", append(args, "-as", "html", "-out", at)...)
		page, err := os.ReadFile(at)
		if err != nil || status == 2 {
			t.Fatalf("%v: %d %v %s", args, status, err, stderr)
		}
		if strings.Contains(string(page), "<img") || strings.Count(string(page), "<script") != 1 || !strings.Contains(string(page), "</html>") {
			t.Errorf("%v: what is not its own stands in\n%s", args, page)
		}
		out, stderr, status := kibitz(t, dir, "", "links", "-files", folder)
		if status != 0 || out != "1 file refers to 0 addresses: 0 found\n\nNo other page links to 1 page\n\n  /page.html\n" {
			t.Errorf("%v: read as a page it is %d\n%s%s", args, status, out, stderr)
		}
		program, err := exec.LookPath("chromium")
		if err != nil || testing.Short() || args[0] != "replay" && args[0] != "check" {
			continue
		}
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		dom, err := exec.CommandContext(ctx, program, "--headless", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking", "--enable-logging=stderr", "--user-data-dir="+t.TempDir(), "--dump-dom", "file://"+at).CombinedOutput()
		cancel()
		if err != nil || strings.Contains(string(dom), "<title>run") || strings.Contains(string(dom), ":CONSOLE") || !strings.Contains(string(dom), "<th") || !strings.Contains(string(dom), "<button") {
			t.Errorf("%v: in a browser it becomes %v\n%s", args, err, dom)
		}
	}
}
