package lsp

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"kibitz/core/rulebook"
)

// TestPlaces turns positions of the protocol into characters of a line, and back.
func TestPlaces(t *testing.T) {
	src := &rulebook.Source{Name: "x", Lines: []string{"aä🚢z", ""}}
	tests := []struct {
		character, col int // UTF-16 units from 0, characters from 1
	}{{0, 1}, {1, 2}, {2, 3}, {4, 4}, {5, 5}}
	for _, test := range tests {
		at := position{0, test.character}
		if got := column(src, at); got != test.col {
			t.Errorf("unit %d is at column %d, want %d", test.character, got, test.col)
		}
		if got := positionOf(rulebook.Place{Source: src, Line: 1, Col: test.col}); got != at {
			t.Errorf("column %d is at %v, want %v", test.col, got, at)
		}
	}
	for _, path := range []string{"/tmp/a b/ä.kibitz", "/tmp/100%/x#y.kibitz"} {
		if got := pathOf(uriOf(path)); got != path {
			t.Errorf("%s comes back as %s", path, got)
		}
	}
	if pathOf("untitled:x") != "" {
		t.Error("what has no file is given one")
	}
}

// FuzzEdits makes changes of a text as an editor does: whatever they are, every question
// about the text is answered.
func FuzzEdits(f *testing.F) {
	f.Add("site s address https://s.example\nredirect a on /:x to /{x} as 301\n", 1, 3, 1, 20, "when ")
	f.Add("list l 1\n", 0, 0, 9, 9, "site s\n    address x\r\n")
	f.Add("x 🚢 {ä|lower}", 0, 3, 0, 4, "\"")
	f.Fuzz(func(t *testing.T, text string, line, char, endLine, endChar int, with string) {
		s := &server{docs: map[string]*document{}, projects: map[string]*project{}}
		path := filepath.Join(t.TempDir(), "site.kibitz")
		from, to := byteAt(text, position{max(line, 0), max(char, 0)}), byteAt(text, position{max(endLine, 0), max(endChar, 0)})
		doc := &document{path: path, text: text[:from] + with + text[max(from, to):]}
		s.docs[path] = doc
		s.projectOf(path).read(s.load)
		s.projectOf(path).diagnostics()
		for method, answer := range answers {
			if method == "initialize" || method == "shutdown" {
				continue
			}
			raw, _ := json.Marshal(map[string]any{"textDocument": map[string]any{"uri": uriOf(path)}, "position": position{line, char}, "newName": "x"})
			answer(s, context.Background(), raw)
		}
	})
}

// BenchmarkKeyStroke changes one letter of a rulebook of 5,000 entries, and waits for what is
// told of it.
func BenchmarkKeyStroke(b *testing.B) {
	var text strings.Builder
	text.WriteString("site s address https://s.example\n")
	for i := range 5000 {
		fmt.Fprintf(&text, "redirect r%d on /old/%d/:x to /new/%d/{x} as permanent\n", i, i, i)
	}
	path := filepath.Join(b.TempDir(), "site.kibitz")
	if err := os.WriteFile(path, []byte(text.String()), 0o644); err != nil {
		b.Fatal(err)
	}
	toServer, in := io.Pipe()
	out, fromServer := io.Pipe()
	go Serve(b.Context(), toServer, fromServer, Options{})
	reader := bufio.NewReader(out)
	send := func(m map[string]any) {
		m["jsonrpc"] = "2.0"
		body, _ := json.Marshal(m)
		fmt.Fprintf(in, "Content-Length: %d\r\n\r\n%s", len(body), body)
	}
	until := func(version int) { // the diagnostics of that version, or the first answer
		for {
			head, err := reader.ReadString('\n')
			if err != nil {
				b.Fatal(err)
			}
			n, _ := strconv.Atoi(strings.TrimSpace(strings.TrimPrefix(head, "Content-Length:")))
			reader.ReadString('\n')
			body := make([]byte, n)
			io.ReadFull(reader, body)
			if version == 0 || strings.Contains(string(body), fmt.Sprintf(`"version":%d,`, version)) {
				return
			}
		}
	}
	send(map[string]any{"id": 1, "method": "initialize", "params": map[string]any{}})
	until(0)
	send(map[string]any{"method": "textDocument/didOpen", "params": map[string]any{"textDocument": map[string]any{"uri": uriOf(path), "version": 1, "text": text.String()}}})
	until(1)
	version := 1
	for b.Loop() {
		version++
		send(map[string]any{"method": "textDocument/didChange", "params": map[string]any{"textDocument": map[string]any{"uri": uriOf(path), "version": version},
			"contentChanges": []any{map[string]any{"range": lines(2500, 2500), "text": strings.Repeat("#", version%2+1) + "\n"}}}})
		until(version)
	}
}
