package rulebook

import (
	"fmt"
	"slices"
	"strings"
	"testing"
)

// The distance of two words is the least number of letters to change, add, drop or swap
// with the next: here counted by trying all ways.
func TestDistance(t *testing.T) {
	var plain func(a, b string) int
	plain = func(a, b string) int {
		if a == "" || b == "" {
			return len(a) + len(b)
		}
		change := 1
		if a[0] == b[0] {
			change = 0
		}
		least := min(plain(a[1:], b)+1, plain(a, b[1:])+1, plain(a[1:], b[1:])+change)
		if len(a) > 1 && len(b) > 1 && a[0] == b[1] && a[1] == b[0] {
			least = min(least, plain(a[2:], b[2:])+1)
		}
		return least
	}
	words := []string{""}
	for i := 0; len(words[i]) < 5; i++ {
		words = append(words, words[i]+"a", words[i]+"b", words[i]+"c")
	}
	for i := range 4000 {
		a, b := words[i*7919%len(words)], words[i*104729%len(words)]
		if got, want := Distance(a, b), plain(a, b); got != want {
			t.Fatalf("%s, %s: %d, want %d", a, b, got, want)
		}
	}
}

// Wherever an expression or a pattern can stand, one that cannot be read is an error at
// its place.
func TestNoExpressionIsPassedOver(t *testing.T) {
	selectors := []string{"on %s", "when path %s", "unless path %s", "when asked %s", "when host %s", "when header.x %s", "when cookie.c %s", "when query %s", "when query.q %s", "when agent %s", "when referrer %s", "when method %s", "when user %s", "when path /a %s"}
	for _, selector := range selectors {
		for _, bad := range []string{"~(", "~/a[", "~/a**", "~(?<x>.)(?<x>.)", "~/\\p{none}"} {
			text := "site s address https://s.example files public\nreply r " + fmt.Sprintf(selector, bad) + " with 410\n"
			_, err := Read("t.kibitz", []byte(text), nil)
			if err == nil || !strings.HasPrefix(err.Error(), "t.kibitz:2:") {
				t.Errorf("%s: %v", text, err)
			}
		}
	}
	for _, bad := range []string{"/:", "/{a", "/a}", "/:x/:x", "/:x(", "/:x(a"} {
		for _, selector := range slices.Clip(selectors[:3]) {
			text := "site s address https://s.example files public\nreply r " + fmt.Sprintf(selector, bad) + " with 410\n"
			if _, err := Read("t.kibitz", []byte(text), nil); err == nil || !strings.HasPrefix(err.Error(), "t.kibitz:2:") {
				t.Errorf("%s: %v", text, err)
			}
		}
	}
}

func TestLongWordsAreShortened(t *testing.T) {
	for length, want := range map[int]string{0: "", 59: strings.Repeat("ä", 59), 60: strings.Repeat("ä", 60), 61: strings.Repeat("ä", 60) + "…", 9999: strings.Repeat("ä", 60) + "…"} {
		if got := shorten(strings.Repeat("ä", length)); got != want {
			t.Errorf("of %d letters: %s", length, got)
		}
	}
}

// Columns stand below each other, as wide as the widest word: but a very wide one stands out.
func TestFormatAlignsColumns(t *testing.T) {
	for width, aligned := range map[int]bool{5: true, widest - 1: true, widest: true, widest + 1: false} {
		path := "/" + strings.Repeat("p", width-len("on /"))
		out, err := Format("t.kibitz", []byte("site s address https://s.example files public\n\nredirect a on "+path+" to /z as 301\nredirect b on /q to /z as 301\n"))
		if err != nil {
			t.Fatal(err)
		}
		lines := strings.Split(string(out), "\n")
		if got := strings.Index(lines[2], " to ") == strings.Index(lines[3], " to "); got != aligned {
			t.Errorf("%d wide: aligned is %v\n%s", width, got, out)
		}
	}
}

// Names of files are of the folder of the rulebook that names them, unless they begin at
// the root.
func TestWhereFilesAreLookedFor(t *testing.T) {
	for name, want := range map[string]string{"t.csv": "dir/t.csv", "sub/t.csv": "dir/sub/t.csv", "../t.csv": "t.csv", "/abs/t.csv": "/abs/t.csv"} {
		got := ""
		_, _ = Read("dir/t.kibitz", []byte("site s address https://s.example\nmoves m table "+name+" as 301\n"), func(name string) ([]byte, error) {
			got = name
			return []byte("/a,/b\n"), nil
		})
		if got != want {
			t.Errorf("%s is looked for at %s, want %s", name, got, want)
		}
	}
}

func TestPortsAreOfSixteenBits(t *testing.T) {
	for port, good := range map[string]bool{"0": true, "1": true, "443": true, "65535": true, "65536": false, "99999": false, "-1": false, "x": false, "8080x": false} {
		_, err := Read("t.kibitz", []byte("site s address https://s.example files public\nreply r on /a when port "+port+" with 410\n"), nil)
		if (err == nil) != good {
			t.Errorf("port %s: %v", port, err)
		}
	}
}

// A line that fills the screen is shown whole; a longer one is cut around the place.
func TestLongLinesAreCutAroundThePlace(t *testing.T) {
	for length, want := range map[int]int{10: 10, 139: 139, 140: 140, 141: 142, 500: 142} { // with a blank and … for the rest
		at := Place{Source: &Source{Name: "t.kibitz", Lines: []string{strings.Repeat("ä", length)}}, Line: 1, Col: 3}
		text, mark := MarkLine(at, 4)
		if got := len([]rune(text)); got != want || mark != "  ^^^^" {
			t.Errorf("of %d letters: %d are shown, marked %q; want %d", length, got, mark, want)
		}
	}
}

// A mistake is at the word that it is in.
func TestPlacesOfWords(t *testing.T) {
	for entry, col := range map[string]int{"header h set X-A a\x7f": 18, "header h set X-A fine\x7f more": 18, "header h set X-A": 1, "header h set bad(name a": 14, "media m type txt text": 18, "media m type t/t text/plain": 14, "compress c using br lzma": 21, "hint h preload a.css as style": 16, "limit l url 5 body 3B": 13, "redirect r on /a to /b as 301 when host a.{b": 43, "redirect r on /a to /b as 301 when path /c/:1": 44, "fallback f to /a b": 18, "access a refuse 403 404": 21, "folder f documents none a": 20} {
		_, err := Read("t.kibitz", []byte("site s address https://s.example files public\n"+entry+"\n"), nil)
		if want := fmt.Sprintf("t.kibitz:2:%d: ", col); err == nil || !strings.HasPrefix(err.Error(), want) {
			t.Errorf("%s: %v, want %s", entry, err, want)
		}
	}
}

// A mistake in an example is at the word that it is in.
func TestPlacesInExamples(t *testing.T) {
	for example, col := range map[string]int{"/a =>": 18, "fares => 200": 13, "GET fares => 200": 17, "get /a => 200": 13, "/a => nonsense": 16} {
		_, err := Read("t.kibitz", []byte("site s address https://s.example files public\nreply r on /r with 200\n    example "+example+"\n"), nil)
		if want := fmt.Sprintf("t.kibitz:3:%d: ", col); err == nil || !strings.HasPrefix(err.Error(), want) {
			t.Errorf("%s: %v, want %s", example, err, want)
		}
	}
}

// What is marked is the word, whatever room its letters take.
func TestMarksStandBelowWhatTheyMark(t *testing.T) {
	for line, want := range map[string]string{"on /fares x": "          ^", "on /港/ x": "        ^", "on /e\u0301 x": "      ^"} {
		at := Place{Source: &Source{Lines: []string{line}}, Line: 1, Col: len([]rune(line))}
		if _, mark := MarkLine(at, 1); mark != want {
			t.Errorf("%s: %q, want %q", line, mark, want)
		}
	}
}

// A file that is larger than any rulebook is told so, and is not read.
func TestARulebookHasABound(t *testing.T) {
	text := strings.Repeat("# The tide table of a whole century stands here.\n", maxFile/40)
	_, err := Read("tides.kibitz", []byte(text), nil)
	if err == nil || !strings.Contains(err.Error(), "tides.kibitz:1:1: the file is larger than a rulebook may be (16 MiB)") {
		t.Errorf("%.200v", err)
	}
}

// TestDistanceOfLongWords counts only where they differ, and gives up where that is long.
func TestDistanceOfLongWords(t *testing.T) {
	long := strings.Repeat("a", 50)
	for _, test := range []struct {
		a, b string
		want int
	}{{"x" + long, "y" + long, 1}, {long + "x", long + "y", 1}, {long, "", 99}, {long + "b", "b" + long, 99}} {
		if got := Distance(test.a, test.b); got != test.want {
			t.Errorf("%q and %q: %d, want %d", test.a, test.b, got, test.want)
		}
	}
}
