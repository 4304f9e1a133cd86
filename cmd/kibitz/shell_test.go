package main

import (
	"encoding/json"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/bcrypt"
)

// TestWhatMayComeNext completes words, as a shell asks for it, and in a shell.
func TestWhatMayComeNext(t *testing.T) {
	dir := write(t, map[string]string{"site.kibitz": "site s address https://s.example\nredirect old-fares on /a to /b as 301\nredirect other on /c to /d as 301\n"})
	for _, tt := range []struct{ words, want string }{
		{"ch", "check"},
		{"co", "compare completion"},
		{"check -fail-on ", "error warning note"},
		{"check -as ", "text json sarif junit tap html"},
		{"check -fix permanent", "permanent-varies"},
		{"replay -only old", "old-fares"},
		{"compare a b -fail-on not", "not-found"},
		{"help redirect-", "redirect-loop"},
		{"check -fil", "-files"},
		{"completion ", "bash zsh fish"},
		{"check ", ""},         // files
		{"check -watch s", ""}, // which has no value
		{"nothing ", ""},
	} {
		args := append([]string{"completion", "-next", "--"}, strings.Split(tt.words, " ")...)
		out, stderr, status := kibitz(t, dir, "", args...)
		if got := strings.Join(strings.Fields(out), " "); got != tt.want || status != 0 {
			t.Errorf("%q is completed to %q (%d %s), want %q", tt.words, got, status, stderr, tt.want)
		}
		if _, err := exec.LookPath("bash"); err != nil {
			continue
		}
		words := strings.Split(tt.words, " ")
		script := `source <(kibitz completion bash); COMP_WORDS=(kibitz "$@"); COMP_CWORD=$#; _kibitz; echo "${COMPREPLY[@]}"`
		c := exec.Command("bash", append([]string{"-c", script, "bash"}, words...)...)
		c.Dir = dir
		c.Env = append(c.Environ(), "PATH="+filepath.Dir(program)+":/usr/bin:/bin")
		if got, err := c.CombinedOutput(); strings.TrimSpace(string(got)) != tt.want || err != nil {
			t.Errorf("bash completes %q to %q (%v), want %q", tt.words, got, err, tt.want)
		}
	}
	for shell, syntax := range map[string]string{"bash": "-n", "zsh": "-n", "fish": "-n"} {
		out, _, _ := kibitz(t, dir, "", "completion", shell)
		if _, err := exec.LookPath(shell); err == nil {
			c := exec.Command(shell, syntax)
			c.Stdin = strings.NewReader(out)
			if said, err := c.CombinedOutput(); err != nil {
				t.Errorf("%s: %v %s", shell, err, said)
			}
		}
	}
}

// TestAnAccountIsMade makes a line that an accounts file takes, and nothing of what is no
// password.
func TestAnAccountIsMade(t *testing.T) {
	dir := t.TempDir()
	out, stderr, status := kibitz(t, dir, "low tide\n", "accounts", "ada", "-cost", "10")
	name, hash, _ := strings.Cut(strings.TrimSpace(out), ":")
	if name != "ada" || status != 0 || stderr != "" || bcrypt.CompareHashAndPassword([]byte(hash), []byte("low tide")) != nil {
		t.Errorf("got %d %s%s", status, out, stderr)
	}
	site := write(t, map[string]string{"crew.accounts": out, "site.kibitz": "site s address https://s.example files public\naccess crew in /crew/ ask \"Crew\" accounts crew.accounts\n", "public/crew/index.html": "x"})
	for _, tt := range []struct{ user, want string }{
		{"ada:low tide", "lets ada in"},
		{"ada:high tide", "asks again: no account has the name and password that are sent"},
		{"bob:low tide", "asks again"},
		{"", "asks for a name and password"},
	} {
		args := []string{"trace", "/crew/"}
		if tt.user != "" {
			args = append(args, "-user", tt.user)
		}
		out, stderr, _ := kibitz(t, site, "", args...)
		if !strings.Contains(out, tt.want) || strings.Contains(out+stderr, "tide") {
			t.Errorf("as %q: %s%s, want %s", tt.user, out, stderr, tt.want)
		}
	}
	for _, tt := range []struct{ name, password, want string }{
		{"ada", "\n", "an empty password is none"},
		{"ada", strings.Repeat("x", 73), "longer than 72 bytes"},
		{"a:b", "x", "not a name for an account"},
	} {
		if out, stderr, status := kibitz(t, dir, tt.password, "accounts", tt.name); status != 2 || out != "" || !strings.Contains(stderr, tt.want) {
			t.Errorf("%s: %d %s%s, want %s", tt.name, status, out, stderr, tt.want)
		}
	}
}

// TestVersionAndEnvironment: the program says what it is, and takes the rulebook that the
// environment names.
func TestVersionAndEnvironment(t *testing.T) {
	dir := write(t, map[string]string{"other.kibitz": "site s address https://s.example\nredirect a on /a to /b as 301\n"})
	for _, args := range [][]string{{"version", "-as", "json"}, {"-version", "-as", "json"}} {
		out, _, status := kibitz(t, dir, "", args...)
		var b struct{ Version, Go, Platform string }
		if err := json.Unmarshal([]byte(out), &b); err != nil || status != 0 || b.Go == "" || !strings.Contains(b.Platform, "/") {
			t.Errorf("%v gives %d %s", args, status, out)
		}
	}
	t.Setenv("KIBITZ_RULES", "other.kibitz")
	if out, stderr, status := kibitz(t, dir, "", "trace", "/a"); status != 0 || !strings.Contains(out, "other.kibitz:2") {
		t.Errorf("with KIBITZ_RULES: %d %s%s", status, out, stderr)
	}
	t.Setenv("KIBITZ_RULES", "none.kibitz")
	if _, stderr, status := kibitz(t, dir, "", "trace", "/a"); status != 2 || !strings.Contains(stderr, "there is no rulebook none.kibitz") {
		t.Errorf("with KIBITZ_RULES for none: %d %s", status, stderr)
	}
}

// TestHelpOnAnyWord: a word that is not a topic is looked for in the documents, and one that is
// nearly a topic is set right.
func TestHelpOnAnyWord(t *testing.T) {
	dir := t.TempDir()
	for _, tt := range []struct {
		word   string
		status int
		want   []string
	}{
		{"on", 0, []string{"ON\n", "`on PATTERN…`"}},
		{"query", 0, []string{"THE QUERY", "query keep"}},
		{"cookie", 0, []string{"There is no page on cookie; it is mentioned here:", "The rulebook language: Fields"}},
		{"captures", 0, []string{"VALUES IN TEXT"}},
		{"pages", 0, []string{"THE SITE'S OWN PAGES"}},
		{"redirct", 2, []string{"did you mean kibitz help redirect?"}},
		{"xyzzy", 2, []string{`there is no help on "xyzzy"; see: kibitz help`}},
		{"(", 2, []string{"there is no help on"}},
		{"\x1b[31m", 2, []string{`there is no help on "\x1b[31m"`}},
	} {
		out, stderr, status := kibitz(t, dir, "", "help", tt.word)
		for _, want := range tt.want {
			if !strings.Contains(out+stderr, want) || status != tt.status {
				t.Errorf("help %q: %d without %q:\n%s%s", tt.word, status, want, out, stderr)
			}
		}
	}
}

// TestManualPage has every command with its flags, and is as mandoc wants it.
func TestManualPage(t *testing.T) {
	out, errs, status := kibitz(t, t.TempDir(), "", "help", "-man")
	if status != 0 || errs != "" {
		t.Fatalf("status %d: %s", status, errs)
	}
	for _, want := range []string{".Dt KIBITZ 1\n", ".Ss check\n", ".Ss lsp\n", `.It Fl fail-on Ar "severity"`, ".It Ev KIBITZ_RULES\n", ".It Er 2\n"} {
		if !strings.Contains(out, want) {
			t.Errorf("there is no %q", want)
		}
	}
	if strings.Contains(out, "`") {
		t.Error("there are backticks")
	}
	mandoc, err := exec.LookPath("mandoc")
	if err != nil {
		t.Skip("there is no mandoc here")
	}
	lint := exec.Command(mandoc, "-Tlint", "-W", "style")
	lint.Stdin = strings.NewReader(out)
	if said, err := lint.CombinedOutput(); err != nil || len(said) > 0 {
		t.Errorf("%v\n%s", err, said)
	}
}
