package lsp

// The texts as the editor has them, and places in them: the protocol counts UTF-16 code
// units, a rulebook characters.

import (
	"net/url"
	"path/filepath"
	"runtime"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"kibitz/core/rulebook"
)

// A document is a text that the editor has opened.
type document struct {
	path    string
	version int
	text    string
	outline *rulebook.Outline // of that text; nil where it is not made yet
}

// pathOf gives the file that a URI names; "" for what is not a file.
func pathOf(uri string) string {
	u, err := url.Parse(uri)
	if err != nil || u.Scheme != "file" {
		return ""
	}
	path := u.Path
	if runtime.GOOS == "windows" { // /C:/a
		path = strings.TrimPrefix(path, "/")
	}
	return filepath.Clean(filepath.FromSlash(path))
}

// uriOf is the URI of a file.
func uriOf(path string) string {
	path = filepath.ToSlash(path)
	if !strings.HasPrefix(path, "/") {
		path = "/" + path
	}
	return (&url.URL{Scheme: "file", Path: path}).String()
}

// units is how many UTF-16 code units a text has.
func units(text string) (n int) {
	for _, r := range text {
		n += max(utf16.RuneLen(r), 1)
	}
	return n
}

// offset gives the byte of a line at which a number of UTF-16 code units has gone by.
func offset(line string, units int) int {
	for i, r := range line {
		if units <= 0 {
			return i
		}
		units -= max(utf16.RuneLen(r), 1)
	}
	return len(line)
}

// byteAt gives the byte of a text at a position; of one that is not there the nearest.
func byteAt(text string, at position) int {
	from := 0
	for range at.Line {
		i := strings.IndexByte(text[from:], '\n')
		if i < 0 {
			return len(text)
		}
		from += i + 1
	}
	line, _, _ := strings.Cut(text[from:], "\n")
	return from + offset(strings.TrimSuffix(line, "\r"), at.Character)
}

// lineOf gives a line of a source, counted from 1; "" where there is none.
func lineOf(src *rulebook.Source, line int) string {
	if line < 1 || line > len(src.Lines) {
		return ""
	}
	return src.Lines[line-1]
}

// positionOf gives the position of a place.
func positionOf(at rulebook.Place) position {
	line := []rune(lineOf(at.Source, at.Line))
	return position{max(at.Line-1, 0), units(string(line[:min(max(at.Col-1, 0), len(line))]))}
}

// spanOf gives the span of some characters at a place.
func spanOf(at rulebook.Place, width int) span {
	end := at
	end.Col += max(width, 1)
	return span{positionOf(at), positionOf(end)}
}

func spanOfWord(w rulebook.Word) span { return spanOf(w.Place, w.Width) }

// lines is the span of whole lines, counted from 0, to without to.
func lines(from, to int) span { return span{position{from, 0}, position{to, 0}} }

// column gives the character of a line, from 1, at a position.
func column(src *rulebook.Source, at position) int {
	line := lineOf(src, at.Line+1)
	return utf8.RuneCountInString(line[:offset(line, at.Character)]) + 1
}

// contains reports whether a word is at a column, or ends right before it.
func contains(w rulebook.Word, col int) bool {
	return col >= w.Place.Col && col <= w.Place.Col+w.Width
}
