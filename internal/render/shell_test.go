package render

import (
	"fmt"
	"math/rand/v2"
	"os/exec"
	"strings"
	"testing"
	"unicode/utf8"
)

// What is printed to be pasted is the same word to a shell, and holds nothing that a
// terminal acts on.
func TestWordsCanBePastedIntoAShell(t *testing.T) {
	words := []string{"", "/a", "it's", "a b", `back\slash`, "\x07bell", "\x07 with \\ and ü", "ü\u0085", "\u202ebidi", "100%", "%d\x1b", "$HOME`id`\"", "~", "*", "a\nb", "-n", "\xff\xfe", "'\x01'", "!x", "#"}
	r := rand.New(rand.NewPCG(1, 1))
	for range 200 {
		var b strings.Builder
		for range r.IntN(12) {
			b.WriteString([]string{"a", "'", `\`, "%", "$", " ", "\x07", "ü", "\u200b", "0", "\xc3", "\"", "n", "\u009b"}[r.IntN(14)])
		}
		words = append(words, b.String())
	}
	var line strings.Builder
	for _, w := range words {
		quoted := Shell(w)
		if Clean(quoted) != quoted {
			t.Errorf("%q is printed as %q", w, quoted)
		}
		line.WriteString(" " + quoted)
	}
	for _, shell := range []string{"sh", "bash"} {
		path, err := exec.LookPath(shell)
		if err != nil {
			continue
		}
		out, err := exec.Command(path, "-c", "printf '<%s>'"+line.String()).Output()
		if err != nil {
			t.Fatal(err)
		}
		want := ""
		for _, w := range words {
			want += fmt.Sprintf("<%s>", w)
		}
		if string(out) != want {
			t.Errorf("%s reads\n%q\nwant\n%q", shell, out, want)
		}
	}
}

// What a program reads as JSON, a terminal does not act on.
func TestJSONHoldsNoControlCharacters(t *testing.T) {
	text := "a\x00\x7f\u0085\u009b\u200e\u202e\u2066\ufeff\U000E0041ä€😀\u00a0<&>"
	var b strings.Builder
	if err := JSON(&b).Encode(text); err != nil {
		t.Fatal(err)
	}
	got := strings.TrimSuffix(b.String(), "\n")
	if Clean(got) != got || !strings.Contains(got, "ä€😀") || !strings.Contains(got, `\u202e`) || !strings.Contains(got, `\udb40\udc41`) || !strings.Contains(got, "<&>") || !utf8.ValidString(got) {
		t.Errorf("%q", got)
	}
}

// A letter may take two columns, or be made of several characters: what fits is told by the
// columns.
func TestWidthsAreThoseOfATerminal(t *testing.T) {
	for _, test := range []struct {
		text string
		most int
		want string
	}{
		{"harbour", 7, "harbour"}, {"harbours", 7, "harbou…"}, {"港の時刻表", 10, "港の時刻表"}, {"港の時刻表", 9, "港の時刻…"}, {"港の時刻表", 8, "港の時…"}, {"e\u0301e\u0301e\u0301", 3, "e\u0301e\u0301e\u0301"}, {"e\u0301e\u0301e\u0301", 2, "e\u0301…"}, {"a\x1b[31m", 20, `a\x1B[31m`},
	} {
		if got := Short(test.text, test.most); got != test.want {
			t.Errorf("%q in %d columns: %q, want %q", test.text, test.most, got, test.want)
		}
	}
	var b strings.Builder
	out := &Output{Writer: &b, Width: 10}
	out.Wrapped("", "港の 時刻表 ab")
	if got, want := b.String(), "港の\n時刻表 ab\n"; got != want {
		t.Errorf("%q, want %q", got, want)
	}
}
