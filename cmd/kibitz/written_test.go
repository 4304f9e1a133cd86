package main

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// What replay and verify write of each request is a list: read again it asks for the
// same, and has the same answers.
func TestWhatIsWrittenIsReadAgain(t *testing.T) {
	dir := small(t)
	odd := "/ => 200\nPOST /old\n  client 192.0.2.7\n  time 2026-03-01T08:00:00Z\n  body 2KiB\n  X-A: b\n  X-A: c\n  User-Agent: r\u0085\n/f\u00e4hre%20x?q=\u00e4\n/a\u202eb\nHEAD /new\n"
	os.WriteFile(filepath.Join(dir, "odd.txt"), []byte(odd), 0o644)
	os.WriteFile(filepath.Join(dir, "access.log"), []byte("192.0.2.1 - - [10/Oct/2026:13:55:36 +0000] \"GET /a\\x9bb\\xff HTTP/1.1\" 404 1 \"https://r.example/\" \"x\"\n"), 0o644)
	for _, name := range []string{"odd.txt", "access.log"} {
		first, errs, _ := kibitz(t, dir, "", "replay", "-each", "-as", "jsonl", name)
		os.WriteFile(filepath.Join(dir, "again.jsonl"), []byte(first), 0o644)
		again, more, status := kibitz(t, dir, "", "replay", "-each", "-as", "jsonl", "again.jsonl")
		if status == 2 || len(first) == 0 || strings.ContainsAny(first, "\u0085\u202e\u009b") {
			t.Fatalf("%s: status %d\n%s%s\n%s%s", name, status, first, errs, again, more)
		}
		a, b := strings.Split(first, "\n"), strings.Split(again, "\n")
		for i := range a {
			if got, want := asked(t, b[i]), asked(t, a[i]); got != want {
				t.Errorf("%s, line %d: %s\nread again as\n%s", name, i+1, want, got)
			}
		}
		table, _, _ := kibitz(t, dir, "", "replay", "-each", "-as", "csv", name)
		os.WriteFile(filepath.Join(dir, "again.csv"), []byte(table), 0o644)
		rows, more, status := kibitz(t, dir, "", "replay", "-each", "-as", "jsonl", "again.csv")
		for i, line := range strings.Split(rows, "\n") {
			if got, want := asked(t, line), asked(t, a[i]); strings.Split(got, " map")[0] != strings.Split(want, " map")[0] {
				t.Errorf("%s as CSV, line %d: %s\nread again as\n%s", name, i+1, want, got)
			}
		}
		if status == 2 {
			t.Errorf("status %d: %s", status, more)
		}
	}
	out, _, _ := kibitz(t, dir, "", "verify", "-as", "json", "-at", "http://127.0.0.1:9", "-retries", "0", "odd.txt")
	os.WriteFile(filepath.Join(dir, "results.json"), []byte(out), 0o644)
	out, errs, status := kibitz(t, dir, "", "replay", "results.json")
	contains(t, out, "5 results   = 5 requests + 0 comments + 0 not read")
	if status == 2 {
		t.Error(errs)
	}
}

// asked is what a line says of the request and its answer, without what is of the list.
func asked(t *testing.T, line string) string {
	t.Helper()
	var l struct {
		Method, URL, Client, Time, Cause, Location string
		Body                                       int
		Status                                     any
		Request                                    map[string]map[string][]string
	}
	if line == "" {
		return ""
	}
	if err := json.Unmarshal([]byte(line), &l); err != nil {
		t.Fatalf("%v: %s", err, line)
	}
	return fmt.Sprint(l)
}

// A list that is cut, damaged, or of another kind is never green, and what could be read
// of it is shown.
func TestListsThatCannotBeReadToTheirEnd(t *testing.T) {
	dir := small(t)
	var long strings.Builder
	for i := range 60_000 {
		fmt.Fprintf(&long, "192.0.2.1 - - [10/Oct/2026:13:55:36 +0000] \"GET /old?%x HTTP/1.1\" 301 1\n", i*i)
	}
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	z.Write([]byte(long.String()))
	z.Close()
	for name, text := range map[string]string{
		"cut.gz": packed.String()[:packed.Len()/2], "none.txt": "fares\nboats\n", "empty.txt": "", "good.txt": "/\n",
		"cut.har": `{"log":{"entries":[{"request":{"method":"GET","url":"https://s.example/old"}},{"requ`,
	} {
		os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644)
	}
	for _, test := range []struct {
		args   string
		status int
		out    string
		errs   string
	}{
		{"replay cut.gz", 2, "partial: not all was read", "cut.gz: it is cut off or damaged"},
		{"replay cut.gz", 2, "301", " lines: the result covers only what comes before"},
		{"replay -as json cut.gz", 2, `"partial": true`, "cut.gz"},
		{"replay cut.har", 2, "old 1", "behind 2 entries"},
		{"replay good.txt cut.gz", 2, "good.txt", "cut.gz"},
		{"compare site.kibitz site.kibitz cut.gz", 2, "Nothing changes", "cut.gz"},
		{"replay none.txt", 2, "No line is a request", "none of its lines could be read"},
		{"compare site.kibitz site.kibitz none.txt", 2, "", "none of its lines could be read"},
		{"verify -at http://127.0.0.1:9 none.txt", 2, "", "none of its lines could be read"},
		{"replay empty.txt", 0, "", ""},
		{"replay -out result.txt cut.gz", 2, "", "cut.gz"},
	} {
		out, errs, status := kibitz(t, dir, "", strings.Fields(test.args)...)
		if status != test.status || !strings.Contains(out, test.out) || !strings.Contains(errs, test.errs) {
			t.Errorf("%s: status %d, want %d\n%s\n%s", test.args, status, test.status, out, errs)
		}
	}
	if text, err := os.ReadFile(filepath.Join(dir, "result.txt")); err != nil || !bytes.Contains(text, []byte("partial")) {
		t.Errorf("what could be read is not in the file: %v\n%s", err, text)
	}
}

// What stands beside a list and is not a file is not waited for.
func TestAPipeBesideASitemapIsLeftOut(t *testing.T) {
	dir := small(t)
	os.WriteFile(filepath.Join(dir, "index.xml"), []byte("<sitemapindex><sitemap><loc>pipe.xml</loc></sitemap></sitemapindex>"), 0o644)
	if err := pipe(filepath.Join(dir, "pipe.xml")); err != nil {
		t.Skip(err)
	}
	_, errs, status := kibitz(t, dir, "", "replay", "index.xml")
	contains(t, errs, "pipe.xml cannot be read beside its index: it is not a plain file")
	if status != 2 {
		t.Errorf("status %d", status)
	}
}
