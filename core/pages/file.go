// Package pages reads what a site's own files refer to, as browsers do, and tells what
// becomes of it: which addresses are there, which are not, and what a page's own policy
// keeps from being shown.
package pages

import (
	"bytes"
	"errors"
	"io"
	"path"
	"strings"
	"unicode/utf8"

	"golang.org/x/net/html/charset"
	"golang.org/x/text/encoding"
	"golang.org/x/text/transform"
)

// A Use is what an address is referred to for.
type Use string

const (
	Hyperlink Use = "link"      // a visitor follows it
	Form      Use = "form"      // a form is sent there
	Refresh   Use = "refresh"   // the page leads on by itself
	Frame     Use = "frame"     // a page within the page
	Image     Use = "image"     // icons, too
	Style     Use = "style"     // a style sheet
	Script    Use = "script"    // a classic script
	Module    Use = "module"    // a script that is a module
	Font      Use = "font"      //
	Media     Use = "media"     // sound or film
	Track     Use = "track"     // subtitles
	Object    Use = "object"    // a plugin's, or any file
	Manifest  Use = "manifest"  // of a web application
	Fetch     Use = "fetch"     // fetched ahead, for what is not said
	Canonical Use = "canonical" // the page's own address, as it says itself
	Alternate Use = "alternate" // the page in another language
	Entry     Use = "entry"     // of a sitemap
	Sitemap   Use = "sitemap"   // that robots.txt or another sitemap names
)

// Loads reports whether a browser asks for it along with the page.
func (u Use) Loads() bool {
	switch u {
	case Frame, Image, Style, Script, Module, Font, Media, Track, Object, Manifest, Fetch:
		return true
	}
	return false
}

// Says is what it is called in a sentence.
func (u Use) Says() string {
	switch u {
	case Style:
		return "style sheet"
	case Module:
		return "script"
	case Media:
		return "sound or film"
	case Track:
		return "subtitles"
	case Entry:
		return "sitemap entry"
	case Fetch:
		return "preload"
	}
	return string(u)
}

// A Reference is an address that a file refers to.
type Reference struct {
	Text   string // as a browser reads it: escapes undone, blanks around it gone
	Use    Use
	Offset int // of the text in the file, in bytes
	Length int // as it stands there; 0 where that cannot be told
	Escape Escape
	Line   int // from 1 on
	Col    int // in characters

	Lang      string // of an alternate
	Nonce     string // of its element, and the others likewise
	Integrity string
	CORS      bool // it has crossorigin
	Set       bool // one of several pictures, of which a browser takes one
}

// An Escape is how an address is written where it stands.
type Escape byte

const (
	InMarkup Escape = iota // HTML and XML: & begins a reference to a character
	InStyle                // CSS: \ escapes
	InJSON
	InText // nothing is escaped
	InBoth // CSS in an attribute
)

// An Inline is what a page itself holds that a policy may forbid.
type Inline struct {
	Use     Use    // Script or Style
	Kind    string // element, or attribute: an event handler, or a style attribute
	Content string
	Nonce   string
	Module  bool
	Offset  int
	Line    int
	Col     int
}

// A Policy is one that the page states itself, in a meta element.
type Policy struct {
	Text      string
	Offset    int // it holds for what stands behind it
	Line, Col int
}

// A File is what was read of one.
type File struct {
	References []Reference
	IDs        map[string]bool // what a fragment can name
	Base       string          // of its relative addresses; "" for its own
	Title      string
	Inline     []Inline
	Policies   []Policy
	Quirks     bool // it has no doctype, and browsers read it as the oldest pages
	Foreign    bool // it is not in UTF-8: nothing can be written into it
	Scripted   bool // scripts may change what is in it

	Left int // references beyond MaxReferences

	lines []int    // where each line begins
	last  position // that was looked for
}

// MaxReferences is how many references of one file are kept.
const MaxReferences = 100_000

// keep adds a reference, where there is room.
func (f *File) keep(r Reference) {
	if len(f.References) == MaxReferences {
		f.Left++
		return
	}
	f.References = append(f.References, r)
}

// ErrEncoding is the error of Read for a file whose characters cannot be read.
var ErrEncoding = errors.New("its characters are in an encoding that does not hold ASCII as it is")

// MaxFile is how large a file may be, in bytes, of which references are read.
const MaxFile = 16 << 20

// Reads reports whether files of a media type refer to others in a way that is read here;
// name is the last part of its path.
func Reads(mediaType, name string) bool { return readerOf(mediaType, name) != nil }

// readerOf gives what reads files of a media type.
func readerOf(mediaType, name string) func(*File, []byte) {
	switch {
	case name == "robots.txt":
		return readRobots
	case path.Ext(name) == ".webmanifest":
		return readManifest
	}
	switch mediaType {
	case "text/html", "application/xhtml+xml":
		return readHTML
	case "text/css":
		return func(f *File, content []byte) { f.readCSS(content, plainMap(0), InStyle) }
	case "application/manifest+json":
		return readManifest
	case "text/xml", "application/xml", "image/svg+xml", "application/rss+xml", "application/atom+xml":
		return readXML
	}
	return nil
}

// Read reads the content of a file of a media type; name is the last part of its path. It
// fails for UTF-16 and the like.
func Read(content []byte, mediaType, name string) (*File, error) {
	read := readerOf(mediaType, name)
	f := &File{IDs: map[string]bool{}}
	if read == nil {
		return f, nil
	}
	if bytes.HasPrefix(content, []byte{0xfe, 0xff}) || bytes.HasPrefix(content, []byte{0xff, 0xfe}) {
		return nil, ErrEncoding
	}
	if f.Foreign = !utf8.Valid(content); f.Foreign && strings.Contains(mediaType, "xml") && mediaType != "application/xhtml+xml" {
		content = asUTF8(content)
	}
	f.lines, f.last.line = append(f.lines, 0), -1
	for i, c := range content {
		if c == '\n' {
			f.lines = append(f.lines, i+1)
		}
	}
	read(f, content)
	if f.Foreign && !utf8.Valid(content) {
		f.decode(content, mediaType)
	}
	for i := range f.References {
		r := &f.References[i]
		r.Line, r.Col = f.at(content, r.Offset)
	}
	for i := range f.Inline {
		in := &f.Inline[i]
		in.Line, in.Col = f.at(content, in.Offset)
	}
	for i := range f.Policies {
		p := &f.Policies[i]
		p.Line, p.Col = f.at(content, p.Offset)
	}
	f.lines = nil
	return f, nil
}

// asUTF8 gives an XML file in UTF-8, by the encoding that it names.
func asUTF8(content []byte) []byte {
	label := "windows-1252"
	head := content[:min(len(content), 200)]
	if _, after, ok := bytes.Cut(head, []byte("encoding=")); ok && len(after) > 1 {
		if name, _, ok := bytes.Cut(after[1:], after[:1]); ok {
			label = string(name)
		}
	}
	in, err := charset.NewReaderLabel(label, bytes.NewReader(content))
	if err != nil {
		return content
	}
	out, err := io.ReadAll(in)
	if err != nil {
		return content
	}
	return out
}

// decode reads the texts of a file anew that is not in UTF-8.
func (f *File) decode(content []byte, mediaType string) {
	e, _, _ := charset.DetermineEncoding(content, mediaType)
	for i := range f.References {
		f.References[i].Text = decoded(e, f.References[i].Text)
	}
	for id := range f.IDs {
		f.IDs[decoded(e, id)] = true
	}
	f.Base = decoded(e, f.Base)
	f.Title = decoded(e, f.Title)
}

func decoded(e encoding.Encoding, s string) string {
	if out, _, err := transform.String(e.NewDecoder(), s); err == nil && !utf8.ValidString(s) {
		return out
	}
	return s
}

// at gives the line and the character of a place in a file.
func (f *File) at(content []byte, offset int) (line, col int) {
	low, high := 0, len(f.lines)
	for high-low > 1 {
		if mid := (low + high) / 2; f.lines[mid] <= offset {
			low = mid
		} else {
			high = mid
		}
	}
	offset = min(offset, len(content))
	if low != f.last.line || offset < f.last.offset { // else it goes on from the place before: lines may be very long
		f.last = position{line: low, offset: f.lines[low]}
	}
	f.last.runes += utf8.RuneCount(content[f.last.offset:offset])
	f.last.offset = offset
	return low + 1, f.last.runes + 1
}

// A position is one in a file, with the characters of its line before it.
type position struct{ line, offset, runes int }

// A place tells where text that was read stands in the file.
type place func(from, to int) (offset, length int)

// plainMap is the place of text that stands in the file as it is.
func plainMap(at int) place {
	return func(from, to int) (int, int) { return at + from, to - from }
}

// blanks are those that may stand around an address (HTML, ASCII whitespace).
const blanks = " \t\n\f\r"

// add adds a reference: of text, the part from here to there.
func (f *File) add(use Use, text string, from, to int, where place, escape Escape) {
	for from < to && strings.IndexByte(blanks, text[from]) >= 0 {
		from++
	}
	for from < to && strings.IndexByte(blanks, text[to-1]) >= 0 {
		to--
	}
	r := Reference{Use: use, Text: text[from:to], Escape: escape}
	r.Offset, r.Length = where(from, to)
	f.keep(r)
}

// addAll adds all of a text.
func (f *File) addAll(use Use, text string, where place, escape Escape) {
	f.add(use, text, 0, len(text), where, escape)
}
