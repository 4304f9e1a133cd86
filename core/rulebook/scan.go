package rulebook

// Scanning: a rulebook's text as lines of words, each with its place.

import (
	"bytes"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"unicode"
	"unicode/utf8"
)

// A Source is one file of a rulebook.
type Source struct {
	Name  string // as errors name it
	Lines []string
}

// A Place is a position in a source. Line and Col begin at 1; Col counts
// characters.
type Place struct {
	Source *Source
	Line   int
	Col    int
}

// String is FILE:LINE, for people: a name with characters in it that are not for reading
// has escapes in their place.
func (p Place) String() string {
	if p.Source == nil {
		return "-"
	}
	name := p.Source.Name
	if strings.ContainsFunc(name, func(r rune) bool { return !unicode.IsGraphic(r) || r == utf8.RuneError }) {
		name = strings.Trim(strconv.QuoteToGraphic(name), `"`)
	}
	return name + ":" + strconv.Itoa(p.Line)
}

// A Word is one word of a rulebook.
type Word struct {
	Text   string // without its quotes and escapes
	Quoted bool
	Place  Place
	Width  int // characters in the source, quotes and all
}

// Quote writes a text as a word that means just this text: in quotes, where it would be a
// pattern, a list, a comment or several words.
func Quote(s string) string {
	if s != "" && !strings.ContainsAny(s, ":*{}()\\?+~\"# \t\r\n") {
		return s
	}
	return inQuotes(s)
}

func inQuotes(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

// Literal writes a text as a template without a value in it.
func Literal(s string) string { return strings.ReplaceAll(s, "{", "{{") }

// line is one line of the text, in words.
type line struct {
	number   int
	indented bool
	words    []Word
	comment  string // with its #
}

// maxFile is the largest file that is taken for a rulebook, in bytes. Tables of
// redirects are files of their own.
const maxFile = 16 << 20

// scan cuts a text into lines of words. The source gets its lines; errors go to
// the list.
func scan(name string, text []byte, errs *Errors) (*Source, []line) {
	src := &Source{Name: name}
	text = bytes.TrimPrefix(text, []byte("\ufeff"))
	if len(text) > maxFile {
		errs.add(Place{src, 1, 1}, 0, "the file is larger than a rulebook may be (16 MiB)")
		return src, nil
	}
	if i := firstBad(text); i >= 0 {
		number := 1 + bytes.Count(text[:i], []byte("\n"))
		col := utf8.RuneCount(text[bytes.LastIndexByte(text[:i], '\n')+1:i]) + 1
		what := "a byte that is not UTF-8 text"
		if text[i] < ' ' {
			what = "a control character"
		}
		errs.add(Place{src, number, col}, 0, "%s (0x%02X): a rulebook is a text file in UTF-8", what, text[i])
		return src, nil
	}
	src.Lines = strings.Split(strings.TrimSuffix(string(text), "\n"), "\n")
	lines := make([]line, len(src.Lines))
	together(len(lines), errs, func(from, to int, errs *Errors) {
		for i := from; i < to; i++ {
			s := strings.TrimSuffix(src.Lines[i], "\r")
			src.Lines[i] = s
			l := &lines[i]
			l.number, l.indented = i+1, strings.HasPrefix(s, " ") || strings.HasPrefix(s, "\t")
			l.words, l.comment = src.words(s, i+1, errs)
		}
	})
	return src, lines
}

// together does something with n things, with several parts of them at once; errors
// go to the list in the order of the things.
func together(n int, errs *Errors, do func(from, to int, errs *Errors)) {
	const part = 128
	parts := make([]Errors, (n+part-1)/part)
	inParts(len(parts), func(p int) { do(p*part, min((p+1)*part, n), &parts[p]) })
	*errs = append(*errs, slices.Concat(parts...)...)
}

// inParts does something with n parts, on all cores.
func inParts(n int, do func(part int)) {
	var next atomic.Int64
	var pool sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), n) {
		pool.Go(func() {
			for p := int(next.Add(1)) - 1; p < n; p = int(next.Add(1)) - 1 {
				do(p)
			}
		})
	}
	pool.Wait()
}

// firstBad finds the first byte that no text file holds, or -1.
func firstBad(text []byte) int {
	for i := 0; i < len(text); {
		c := text[i]
		if c < utf8.RuneSelf {
			if c < ' ' && c != '\n' && c != '\t' && !(c == '\r' && i+1 < len(text) && text[i+1] == '\n') {
				return i
			}
			i++
			continue
		}
		r, size := utf8.DecodeRune(text[i:])
		if r == utf8.RuneError && size == 1 {
			return i
		}
		i += size
	}
	return -1
}

// words splits one line.
func (src *Source) words(s string, number int, errs *Errors) (words []Word, comment string) {
	counted, col := 0, 1 // up to where columns are counted, and the column there
	for i := 0; i < len(s); {
		if s[i] == ' ' || s[i] == '\t' {
			i++
			continue
		}
		if words == nil && s[i] != '#' {
			words = make([]Word, 0, min(16, 1+strings.Count(s[i:], " ")))
		}
		if s[i] == '#' {
			return words, strings.TrimRight(s[i:], " \t")
		}
		col += utf8.RuneCountInString(s[counted:i])
		counted = i
		w := Word{Place: Place{src, number, col}}
		start := i
		if s[i] != '"' {
			for i < len(s) && s[i] != ' ' && s[i] != '\t' {
				i++
			}
			w.Text = s[start:i]
		} else {
			text, size, problem := unquote(s[i:])
			i += size
			if problem != "" {
				at := w.Place
				if text != "" {
					at.Col += utf8.RuneCountInString(s[start:i])
				}
				errs.add(at, 1, "%s", problem)
				for i < len(s) && s[i] != ' ' && s[i] != '\t' {
					i++
				}
			}
			w.Text, w.Quoted = text, true
		}
		w.Width = utf8.RuneCountInString(s[start:i])
		words = append(words, w)
	}
	return words, ""
}

// unquote reads a quoted word: its text, and the bytes that it takes.
func unquote(s string) (text string, size int, problem string) {
	var b strings.Builder
	for i := 1; i < len(s); i++ {
		switch s[i] {
		case '\\':
			if i+1 < len(s) && (s[i+1] == '"' || s[i+1] == '\\') {
				i++
			}
			b.WriteByte(s[i])
		case '"':
			if i+1 < len(s) && s[i+1] != ' ' && s[i+1] != '\t' {
				return b.String(), i + 1, `a blank must follow a closing quote; a plain quote inside one is \"`
			}
			return b.String(), i + 1, ""
		default:
			b.WriteByte(s[i])
		}
	}
	return "", len(s), `the quote opened here is not closed on this line: add a "`
}

// Quote writes a word as it must stand in a rulebook: quoted where that is
// needed, or where it was.
func (w Word) Quote() string {
	if !w.Quoted {
		return w.Text
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(w.Text) + `"`
}
