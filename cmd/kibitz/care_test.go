package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// started runs the program in the background; what it prints is collected.
func started(t *testing.T, dir string, args ...string) (c *exec.Cmd, out, errs *lockedText) {
	t.Helper()
	c, out, errs = exec.Command(program, args...), &lockedText{}, &lockedText{}
	c.Dir, c.Stdout, c.Stderr = dir, out, errs
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Process.Kill() })
	return c, out, errs
}

// until waits for something to become true.
func until(t *testing.T, what string, is func() bool) {
	t.Helper()
	for range 1200 {
		if is() {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatalf("it never came: %s", what)
}

// What serve writes into its log, replayed, is as predicted, but for what no log tells.
func TestWhatServeLogsIsReplayedAsPredicted(t *testing.T) {
	dir := ferries(t)
	s := serveIn(t, dir, "-log", "access.log")
	ask := func(method, path, host string, headers ...string) {
		req, err := http.NewRequest(method, strings.TrimSuffix(s.url, "/")+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Host = host
		for i := 0; i < len(headers); i += 2 {
			req.Header.Set(headers[i], headers[i+1])
		}
		resp, err := http.DefaultTransport.RoundTrip(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
	}
	paths := []string{"/", "/fares.php", "/none", "/images/", "/timetables/winter/", "/a%22b%5Cc%20d", "/x?q=%22&r=\"", "/%00", "//fares", "/crew/rota.html", "/downloads/"}
	hosts := []string{"", "saltmarsh-ferries.example", "www.saltmarsh-ferries.example", "elsewhere.example"}
	for _, path := range paths {
		for _, host := range hosts {
			ask("GET", path, host, "User-Agent", "a \"quoted\" \\ agent\t\xc3\xa4", "Referer", "https://a.example/\"?x\\")
			ask("HEAD", path, host)
		}
		ask("POST", path, "")
	}
	sent := int64(2*len(paths)*len(hosts) + len(paths))
	logged := filepath.Join(dir, "access.log")
	until(t, "all lines", func() bool { text, _ := os.ReadFile(logged); return int64(bytes.Count(text, []byte("\n"))) == sent })
	out, errs, _ := kibitz(t, dir, "", "replay", "access.log", "-as", "json")
	var sums struct {
		Requests int64
		Lists    []struct{ Skipped int }
		Recorded []struct {
			Requests int64
			Differs  bool
			Recorded int
			At       string
		}
	}
	if err := json.Unmarshal([]byte(out), &sums); err != nil || sums.Requests != sent || sums.Lists[0].Skipped != 0 {
		t.Fatalf("%d requests, %+v: %v %s", sums.Requests, sums.Lists, err, errs)
	}
	for _, r := range sums.Recorded {
		if r.Differs {
			t.Errorf("not as predicted: %+v", r)
		}
	}

	// Who keeps logs moves them away, and says so.
	os.Rename(logged, logged+".1")
	s.Process.Signal(syscall.SIGHUP)
	until(t, "a new log", func() bool { _, err := os.Stat(logged); return err == nil })
	ask("GET", "/", "")
	until(t, "its first line", func() bool { text, _ := os.ReadFile(logged); return bytes.Count(text, []byte("\n")) == 1 })
}

// What is watched is what was read: not the results that are written beside it, and not
// what else lies there. Each time the result is whole.
func TestWatchingLooksAtWhatWasRead(t *testing.T) {
	dir := write(t, map[string]string{"site.kibitz": "site s address https://s.example files public\n", "public/a.html": "a", "list.txt": "/a.html => 200\n/b.html => 404\n", "elsewhere/shared.kibitz": ""})
	c, _, errs := started(t, dir, "replay", "list.txt", "-watch", "-as", "tap", "-out", "result.tap", "-save", "tally")
	times := func() int { return strings.Count(errs.String(), "waiting for a change") }
	until(t, "the first result", func() bool { return times() == 1 })
	for i := range 3 {
		os.WriteFile(filepath.Join(dir, fmt.Sprint("beside", i)), nil, 0o644)
		os.WriteFile(filepath.Join(dir, "elsewhere", "more"), nil, 0o644)
	}
	time.Sleep(700 * time.Millisecond)
	if n := times(); n != 1 {
		t.Errorf("it was done %d times, and nothing has changed", n)
	}
	change := func(name, text string) {
		before := times()
		os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644)
		until(t, "a result after "+name, func() bool { return times() == before+1 })
	}
	change("public/b.html", "b")
	change("site.kibitz", "site s address https://s.example files public\ninclude elsewhere/shared.kibitz\n")
	change("elsewhere/shared.kibitz", "reply gone on /a.html with 410 text \"\"\n")
	change("list.txt", "/a.html => 410\n/b.html => 200\n/c => 404\n")
	text, _ := os.ReadFile(filepath.Join(dir, "result.tap"))
	if want := "TAP version 13\n1..3\n"; !strings.HasPrefix(string(text), want) || strings.Contains(string(text), "not ok") {
		t.Errorf("the last result is\n%s\nwant %s", text, want)
	}
	if strings.Contains(errs.String(), "kibitz watch") || strings.Contains(errs.String(), "there already") {
		t.Errorf("%s", errs)
	}
	c.Process.Signal(os.Interrupt)
	if err := c.Wait(); err != nil {
		t.Errorf("%v", err)
	}
}

// endsSoon waits for a program that has been told to end.
func endsSoon(t *testing.T, c *exec.Cmd) {
	t.Helper()
	ended := make(chan error, 1)
	go func() { ended <- c.Wait() }()
	select {
	case <-ended:
	case <-time.After(3 * time.Second):
		c.Process.Kill()
		t.Errorf("%v goes on", c.Args)
		<-ended
	}
}

// One interrupt ends everything soon, also what only computes: of a large rulebook each of
// these takes longer than it is given.
func TestOneInterruptEndsLongWork(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits")
	}
	var book strings.Builder
	book.WriteString("site s address https://s.example inventory tree.csv\n")
	for i := range 6000 {
		fmt.Fprintf(&book, "redirect p%d on /:area/depot-%d/:name-%d.php to /section-%d/{name}.html as permanent\n", i, i%50, i, i)
	}
	dir := write(t, map[string]string{"site.kibitz": book.String(), "before.kibitz": strings.ReplaceAll(book.String(), "section-7", "part-7"), "tree.csv": "path\n/index.html\n", "list.txt": "/\n/a/depot-1/x-1.php\n"})
	for _, args := range [][]string{
		{"check"}, {"check", "-effort", "9"}, {"check", "-fix"}, {"excerpt", "list.txt"}, {"excerpt", "list.txt", "-out", "short.txt"}, {"compare", "before.kibitz", "site.kibitz"}, {"compare", "before.kibitz", "site.kibitz", "list.txt"},
	} {
		c := exec.Command(program, args...)
		c.Dir = dir
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(700 * time.Millisecond)
		c.Process.Signal(os.Interrupt)
		endsSoon(t, c)
		if left, _ := filepath.Glob(filepath.Join(dir, ".kibitz-*")); left != nil {
			t.Errorf("%v left %v", args, left)
		}
	}
}

// One interrupt ends everything soon, also where nothing comes from standard input; what
// was found by then is written, and says that it is not all.
func TestOneInterruptIsEnough(t *testing.T) {
	dir := ferries(t)
	for _, signal := range []os.Signal{os.Interrupt, syscall.SIGTERM} {
		for _, args := range [][]string{
			{"replay", "-", "-as", "json", "-out", "result"},
			{"replay", "-", "-save", "result"},
			{"compare", "before.kibitz", "site.kibitz", "-", "-as", "json", "-out", "result"},
			{"verify", "-", "-at", "http://127.0.0.1:9", "-as", "json", "-out", "result"},
		} {
			c := exec.Command(program, args...)
			c.Dir = dir
			in, err := c.StdinPipe()
			if err != nil {
				t.Fatal(err)
			}
			if err := c.Start(); err != nil {
				t.Fatal(err)
			}
			in.Write([]byte("/\n/fares/\n"))
			time.Sleep(500 * time.Millisecond)
			c.Process.Signal(signal)
			endsSoon(t, c)
			in.Close()
			result := filepath.Join(dir, "result")
			text, err := os.ReadFile(result)
			if c.ProcessState.ExitCode() != 2 || err != nil || !strings.Contains(strings.ToLower(string(text)), `"partial":true`) && !strings.Contains(string(text), `"partial": true`) {
				t.Errorf("%v: status %d, %v, %.200s", args, c.ProcessState.ExitCode(), err, text)
			}
			os.Remove(result)
			if left, _ := filepath.Glob(filepath.Join(dir, ".kibitz-*")); left != nil {
				t.Errorf("%v leaves %s", args, left)
			}
		}
	}
}

// A rulebook that is reached by a link is laid out where it lies; the link and the file's
// mode stay.
func TestFormatWritesThroughALink(t *testing.T) {
	dir := write(t, map[string]string{"real/site.kibitz": "site s address https://s.example\nredirect   a on /a to /b as temporary\n"})
	real, link := filepath.Join(dir, "real", "site.kibitz"), filepath.Join(dir, "site.kibitz")
	os.Chmod(real, 0o640)
	if err := os.Symlink("real/site.kibitz", link); err != nil {
		t.Fatal(err)
	}
	if _, errs, status := kibitz(t, dir, "", "format", "-write"); status != 0 {
		t.Fatal(errs)
	}
	info, _ := os.Lstat(link)
	text, _ := os.ReadFile(real)
	mode, _ := os.Stat(real)
	if info.Mode()&os.ModeSymlink == 0 || strings.Contains(string(text), "redirect   a") || mode.Mode().Perm() != 0o640 {
		t.Errorf("%v %v\n%s", info.Mode(), mode.Mode(), text)
	}
}

// Tallies of two rulebooks are added up only where that is asked for.
func TestTalliesOfTwoRulebooks(t *testing.T) {
	dir := write(t, map[string]string{"a.kibitz": "site s address https://s.example\nreply a on /a with 200 text a\n", "b.kibitz": "site s address https://s.example\nreply b on /a with 200 text b\n", "list.txt": "/a\n"})
	for _, name := range []string{"a", "b"} {
		kibitz(t, dir, "", "replay", "-rules", name+".kibitz", "list.txt", "-save", name)
	}
	if _, errs, status := kibitz(t, dir, "", "replay", "-rules", "a.kibitz", "-merge", "a", "b"); status != 2 || !strings.Contains(errs, "b was saved with another rulebook than a") {
		t.Errorf("%d %s", status, errs)
	}
	if out, errs, status := kibitz(t, dir, "", "replay", "-rules", "a.kibitz", "-merge", "a", "b", "-different-rulebooks"); status != 0 || !strings.Contains(out, "2 requests") {
		t.Errorf("%d %s%s", status, out, errs)
	}
	if _, errs, _ := kibitz(t, dir, "", "replay", "-rules", "a.kibitz", "-merge", "b"); !strings.Contains(errs, "note: b was saved with another rulebook") {
		t.Errorf("%s", errs)
	}
}

// What was served is a page, when it ends.
func TestASessionIsAPage(t *testing.T) {
	dir := small(t)
	s := serveIn(t, dir, "-page", "session.html", "-quiet")
	for _, path := range []string{"/", "/old", "/<script>x", "/old"} {
		s.get(t, path, "s.example")
	}
	s.Process.Signal(os.Interrupt)
	if err := s.Wait(); err != nil {
		t.Fatalf("%v %s", err, s.errs)
	}
	page, err := os.ReadFile(filepath.Join(dir, "session.html"))
	if err != nil {
		t.Fatal(err)
	}
	contains(t, string(page), "kibitz serve", "<b>4</b> requests", "1 of 4 requests find nothing (404)", "What was served, answered by site.kibitz", "%3Cscript%3Ex")
	if _, errs, status := kibitz(t, dir, "", "serve", "-page", "session.html"); status != 2 || !strings.Contains(errs, "is there already") {
		t.Errorf("a second time: %d %s", status, errs)
	}
}
