package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// TestPipelines runs the scripts of docs/pipelines.md on the example site, in a repository.
func TestPipelines(t *testing.T) {
	if _, err := exec.LookPath("git"); err != nil {
		t.Skip("there is no git here")
	}
	text, err := os.ReadFile("../../docs/pipelines.md")
	if err != nil {
		t.Fatal(err)
	}
	dir := ferries(t)
	server := serveIn(t, dir, "-forwarded", "-quiet")
	shell := func(script string) (string, error) {
		c := exec.Command("sh", "-c", script)
		c.Dir = dir
		c.Env = append(os.Environ(), "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"), "SERVER="+server.url,
			"GIT_AUTHOR_NAME=a", "GIT_AUTHOR_EMAIL=a@s.example", "GIT_COMMITTER_NAME=a", "GIT_COMMITTER_EMAIL=a@s.example", "GIT_CONFIG_GLOBAL=/dev/null")
		out, err := c.CombinedOutput()
		return string(out), err
	}
	if out, err := shell("git init -q . && git add . && git commit -qm first"); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	scripts := regexp.MustCompile("(?s)```sh\n(.*?)```").FindAllStringSubmatch(string(text), -1)
	if len(scripts) != 4 {
		t.Fatalf("%d scripts", len(scripts))
	}
	for _, script := range scripts {
		if out, err := shell(script[1]); err != nil {
			t.Errorf("%v of\n%s\n%s", err, script[1], out)
		}
	}
	for _, name := range []string{"check.sarif", "requests.xml", "release.xml", "today.jsonl"} {
		if info, err := os.Stat(filepath.Join(dir, name)); err != nil || info.Size() == 0 {
			t.Errorf("%s: %v", name, err)
		}
	}
	// The hook and the gate stop what is wrong.
	broken, _ := os.ReadFile(filepath.Join(dir, "before.kibitz"))
	os.WriteFile(filepath.Join(dir, "site.kibitz"), broken, 0o644)
	kibitz(t, dir, "", "format", "-write")
	for i, want := range map[int]string{1: "", 3: "redirect-loop"} {
		out, err := shell("git add -A; " + scripts[i][1])
		if err == nil || !strings.Contains(out, want) {
			t.Errorf("the broken rulebook passes %d:\n%s", i, out)
		}
	}
}
