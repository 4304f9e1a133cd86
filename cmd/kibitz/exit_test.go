package main

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// A result that could not be written is none, whatever the command.
func TestAFullDiskIsTold(t *testing.T) {
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	if err != nil {
		t.Skip("there is no /dev/full here")
	}
	defer full.Close()
	dir := small(t)
	if err := os.WriteFile(filepath.Join(dir, "l.txt"), []byte("/\n/x\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, args := range []string{
		"check", "check -as json", "check -as sarif", "trace /", "trace -as json /", "replay l.txt", "replay -each l.txt", "replay -each -as jsonl l.txt", "replay -as csv l.txt",
		"replay -as junit l.txt", "replay -as tap l.txt", "rules", "format", "compare site.kibitz site.kibitz l.txt", "inventory .", "help", "help language", "check -h", "demo",
	} {
		var errs bytes.Buffer
		cmd := exec.Command(program, strings.Fields(args)...)
		cmd.Dir, cmd.Stdout, cmd.Stderr = dir, full, &errs
		cmd.Run()
		if status := cmd.ProcessState.ExitCode(); status != 2 || !strings.Contains(errs.String(), "could not be written") {
			t.Errorf("%s to a full disk: status %d, %s", args, status, errs.String())
		}
	}
}

// What each status is given for.
func TestExitStatuses(t *testing.T) {
	dir := write(t, map[string]string{
		"site.kibitz":       "site s\n address https://s.example\n files public\nredirect a on /a to /b as 302\nredirect b on /b to /a as 302\nredirect x on /x to / as 302\n",
		"good.kibitz":       "site s\n address https://s.example\n files public\nredirect x on /x to / as 302\n",
		"bad.kibitz":        "site s\n address https://s.example\nredirct x on /x to / as 302\n",
		"public/index.html": "home", "l.txt": "/\n/x\n", "loop.txt": "/a\n", "unmet.txt": "/x => 404\n", "none.txt": "",
	})
	for _, test := range []struct {
		args   string
		status int
	}{
		{"check", 1}, {"check -rules good.kibitz", 0}, {"check -rules bad.kibitz", 2}, {"check -rules none.kibitz", 2},
		{"trace /x", 0}, {"trace /a", 1}, {"trace -as json /a", 1}, {"trace", 2},
		{"replay l.txt", 0}, {"replay loop.txt", 1}, {"replay unmet.txt", 1}, {"replay nowhere.txt", 2},
		{"compare good.kibitz good.kibitz l.txt", 0}, {"compare good.kibitz site.kibitz l.txt", 0},
		{"rules", 0}, {"rules -none", 2}, {"help exit", 0}, {"help xyzzy", 2}, {"nothing", 2},
	} {
		out, errs, status := kibitz(t, dir, "", strings.Fields(test.args)...)
		if status != test.status {
			t.Errorf("%s: status %d, want %d\n%s%s", test.args, status, test.status, out, errs)
		}
	}
}

// Mistakes in the text are told in every form, each of which a program can read.
func TestMistakesInEveryForm(t *testing.T) {
	dir := write(t, map[string]string{"site.kibitz": "site s\n address https://s.example\nredirct x on /x to / as 302\n", "l.txt": "/\n"})
	for _, test := range []struct{ args, has string }{
		{"check -as json", `"finding": "syntax"`}, {"check -as json", `"site.kibitz:3:1"`},
		{"check -as sarif", `"ruleId": "syntax"`}, {"check -as sarif", `"startLine": 3`},
		{"replay -as junit l.txt", `failures="1"`}, {"replay -as junit l.txt", "site.kibitz:3:1"}, {"replay -as tap l.txt", "not ok 1 - site.kibitz can be read"},
	} {
		out, errs, status := kibitz(t, dir, "", strings.Fields(test.args)...)
		if status != 2 || !strings.Contains(out, test.has) || !strings.Contains(errs, "did you mean `redirect`?") {
			t.Errorf("%s: status %d, want %s in\n%s%s", test.args, status, test.has, out, errs)
		}
	}
}

// Which changes fail a build.
func TestCompareFailsOnWhatIsNamed(t *testing.T) {
	head := "site s\n address https://s.example\n files public\n"
	dir := write(t, map[string]string{
		"public/index.html": "home", "public/crew.html": "crew", "public/b.html": "b",
		"old.kibitz":  head + "access crew on /crew.html refuse\n",
		"open.kibitz": head, "lost.kibitz": head + "access crew on /crew.html refuse\nreply gone on /b.html with 410\n",
		"header.kibitz": head + "access crew on /crew.html refuse\nheader h set X-A 1\n", "l.txt": "/\n/crew.html\n/b.html\n",
	})
	for _, test := range []struct {
		new, flags string
		status     int
	}{
		{"open", "", 0}, {"open", "-fail-on open", 1}, {"open", "-fail-on not-found", 0}, {"open", "-fail-on header -fail-on open", 1}, {"open", "-fail-on any", 1}, {"open", "-expect-none", 1},
		{"lost", "-fail-on not-found", 1}, {"lost", "-fail-on open", 0}, {"header", "-fail-on header", 1}, {"header", "-fail-on refused", 0}, {"old", "-fail-on any", 0}, {"old", "-fail-on all", 2},
	} {
		args := append([]string{"compare"}, strings.Fields(test.flags)...)
		out, errs, status := kibitz(t, dir, "", append(args, "old.kibitz", test.new+".kibitz", "l.txt")...)
		if status != test.status {
			t.Errorf("%s %s: status %d, want %d\n%s%s", test.new, test.flags, status, test.status, out, errs)
		}
	}
}

// What was not asked for is not said to be idle, and of like findings each entry counts.
func TestCountsAreOfWhatTheySay(t *testing.T) {
	dir := write(t, map[string]string{
		"site.kibitz":       "site s\n address https://s.example\n files public\nredirect a on /a to / as 302\n example /a => 302\nredirect b on /b to / as 302\n example /b => 301\n",
		"public/index.html": "home", "l.txt": "/a\n/b\n/none\n",
	})
	if out, _, _ := kibitz(t, dir, "", "replay", "-only", "404", "l.txt"); strings.Contains(out, "Not reached") {
		t.Errorf("entries that decided requests are called idle:\n%s", out)
	}
	out, _, _ := kibitz(t, dir, "", "check", "-claims")
	contains(t, out, "found at 1 entry; proved absent from 1 entry")
}
