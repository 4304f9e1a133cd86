package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestAnExcerptOfALog shows a short list of a log, and what it and others notice.
func TestAnExcerptOfALog(t *testing.T) {
	dir := write(t, map[string]string{
		"site.kibitz": `site s
    address https://s.example
    files   public

redirect old  on /old.html            to /fares/  as permanent
access   crew in /crew/ unless client 192.0.2.0/24  refuse
`,
		"public/fares/index.html": "fares",
		"public/crew/index.html":  "crew",
		"access.log": strings.Repeat(`203.0.113.9 - - [28/Feb/2026:00:00:01 +0000] "GET /old.html HTTP/1.1" 200 1 "-" "A"
203.0.113.8 - - [28/Feb/2026:00:00:02 +0000] "GET /fares/ HTTP/1.1" 200 1 "-" "A"
203.0.113.8 - - [28/Feb/2026:00:00:02 +0000] "GET /crew/ HTTP/1.1" 200 1 "-" "A"
`, 40),
	})
	out, stderr, status := kibitz(t, dir, "", "excerpt", "access.log")
	want := `# 5 requests that stand for 120 of access.log.
# Replay them after each change of the rulebook: kibitz replay FILE

# old   site.kibitz:5
/old.html => 301 /fares/ by old                                         # 40 requests

# crew   site.kibitz:6
/crew/ => 403 by crew                                                   # 40 requests

# the files, and what no entry decides
/fares/ => 200 file /fares/index.html                                   # 40 requests
/old.htmla => 404 cause missing                                         # made; fails if old has ` + "`on /old.html*`" + `
`
	if !strings.HasPrefix(out, want) || status != 0 || !strings.Contains(out, "    client 192.0.2.0\n") || !strings.Contains(stderr, "5 requests stand for 120 requests; 2 of them made. 10 of 10 harms to the rulebook are noticed (100.0%)") {
		t.Errorf("got %d\n%s%s\nwant\n%s…", status, out, stderr, want)
	}
	if err := os.WriteFile(filepath.Join(dir, "few.txt"), []byte("/old.html => 301\n/fares/\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "all.txt"), []byte(out), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct {
		list   string
		status int
		want   []string
	}{
		{"all.txt", 0, []string{"5 requests with what is expected", "10 of 10 harms to the rulebook are noticed"}},
		{"few.txt", 1, []string{"1 request with what is expected", "Not noticed\n\n", "  crew   without the entry (site.kibitz:6)\n      kibitz trace https://s.example/crew"}},
		{"access.log", 2, []string{"the lists expect nothing"}},
	} {
		out, stderr, status := kibitz(t, dir, "", "excerpt", "-strength", tt.list)
		for _, want := range tt.want {
			if !strings.Contains(out+stderr, want) || status != tt.status {
				t.Errorf("%s: got %d without %q:\n%s%s", tt.list, status, want, out, stderr)
			}
		}
	}
	if out, stderr, status := kibitz(t, dir, "", "excerpt", "-quick", "access.log"); status != 0 || strings.Contains(out, "made") || !strings.HasPrefix(out, "# 3 requests that stand for 120 of") || !strings.Contains(stderr, "Without -quick") {
		t.Errorf("-quick gives %d\n%s%s", status, out, stderr)
	}
	if out, stderr, status := kibitz(t, dir, "", "replay", "all.txt"); status != 0 || !strings.Contains(out, "5 of 5 expectations met") {
		t.Errorf("replayed it gives %d\n%s%s", status, out, stderr)
	}
}
