// Package canonical gives every requested path its one spelling.
//
// Two spellings of a path ask for the same thing when they differ only in
// which characters are percent-encoded, in `.` and `..` segments, or in runs
// of slashes. Rules that compare text would miss all but one of them, so a
// path is made canonical once, when a request is received, and everything
// afterwards reads only that form. See RFC 3986, sections 6.2.2 and 6.2.3.
package canonical

import (
	"errors"
	"strings"
	"unicode"
	"unicode/utf8"
)

// The ways in which a path can have no canonical form. A request for such a
// path is answered 400.
var (
	ErrNoSlash = errors.New("the path does not begin with a slash")
	ErrPercent = errors.New("a % is not followed by two hexadecimal digits")
	ErrNull    = errors.New("%00 may not stand in a path")
	ErrClimbs  = errors.New("the path climbs above the root with its .. segments")
)

// How a byte stands in a canonical path.
const (
	other = iota // written %XX
	bare         // written as it is
	slash        // parts segments
)

var class [256]uint8

func init() {
	for c := range 256 {
		if isBare(byte(c)) {
			class[c] = bare
		}
	}
	class['/'] = slash
}

func isBare(c byte) bool {
	return 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' ||
		strings.IndexByte("-._~!$&'()*+,;=:@", c) >= 0
}

// Bare reports whether c stands for itself in a canonical path; every other
// byte but the slash is written %XX.
func Bare(c byte) bool { return class[c] == bare }

// Is reports whether path is canonical as it stands. It is the quick check
// that lets nearly every request pass without a copy.
func Is(path string, keepSlashes bool) bool {
	if path == "" || path[0] != '/' {
		return false
	}
	for i := 0; i < len(path); i++ {
		c := class[path[i]]
		if c == bare { // nearly all are
			continue
		}
		switch c {
		case slash:
			if i+1 == len(path) {
				break
			}
			if next := path[i+1]; next == '/' && !keepSlashes || next == '.' && dotSegment(path[i+1:]) {
				return false
			}
		default:
			if path[i] != '%' || i+2 >= len(path) {
				return false
			}
			c, ok := unhex(path[i+1], path[i+2])
			if !ok || c == 0 || class[c] == bare || path[i+1] >= 'a' || path[i+2] >= 'a' {
				return false
			}
			i += 2
		}
	}
	return true
}

// dotSegment reports whether s begins with a `.` or `..` segment.
func dotSegment(s string) bool {
	s = strings.TrimPrefix(s[1:], ".")
	return s == "" || s[0] == '/'
}

// Path gives the canonical form of a path as a client sent it: percent-encoding
// in one form, dot segments resolved (an empty segment is a segment), and, but
// with keepSlashes, runs of slashes made one. The errors are those above.
func Path(raw string, keepSlashes bool) (string, error) {
	if Is(raw, keepSlashes) {
		return raw, nil
	}
	if raw == "" || raw[0] != '/' {
		return "", ErrNoSlash
	}
	spelled, err := Text(raw)
	if err != nil {
		return "", err
	}
	out := make([]byte, 0, len(spelled))
	for rest := spelled; rest != ""; {
		segment := rest[1:]
		if i := strings.IndexByte(segment, '/'); i >= 0 {
			segment = segment[:i]
		}
		rest = rest[1+len(segment):]
		switch segment {
		case ".":
			if rest == "" {
				out = append(out, '/')
			}
		case "..":
			if len(out) == 0 {
				return "", ErrClimbs
			}
			out = out[:lastSlash(out)]
			if rest == "" {
				out = append(out, '/')
			}
		default:
			out = append(append(out, '/'), segment...)
		}
	}
	if len(out) == 0 {
		out = append(out, '/')
	}
	if !keepSlashes {
		out = mergeSlashes(out)
	}
	return string(out), nil
}

// Target makes the path of a rule's result canonical. Unlike Path it refuses
// dot segments, which a rule never means, and makes the result begin with
// exactly one slash, so that it can never name another host.
func Target(raw string, keepSlashes bool) (string, error) {
	if Is(raw, keepSlashes) && !strings.HasPrefix(raw, "//") {
		return raw, nil
	}
	spelled, err := Text("/" + strings.TrimLeft(raw, "/"))
	if err != nil {
		return "", err
	}
	for i := 0; i+1 < len(spelled); i++ {
		if spelled[i] == '/' && spelled[i+1] == '.' && dotSegment(spelled[i+1:]) {
			return "", errors.New("the result has a . or .. segment")
		}
	}
	if keepSlashes {
		return spelled, nil
	}
	return string(mergeSlashes([]byte(spelled))), nil
}

// Text writes every byte of a piece of a path in its one form; dot segments and
// slashes stay as they are. It fails with ErrPercent or ErrNull.
func Text(raw string) (string, error) {
	if unencoded(raw) {
		return raw, nil
	}
	var b strings.Builder
	b.Grow(len(raw) + 8)
	for i := 0; i < len(raw); i++ {
		c := raw[i]
		if c == '%' {
			if i+2 >= len(raw) {
				return "", ErrPercent
			}
			var ok bool
			if c, ok = unhex(raw[i+1], raw[i+2]); !ok {
				return "", ErrPercent
			}
			i += 2
			if c == '/' {
				b.WriteString("%2F")
				continue
			}
		}
		if c == 0 {
			return "", ErrNull
		}
		writeByte(&b, c)
	}
	return b.String(), nil
}

func writeByte(b *strings.Builder, c byte) {
	const hex = "0123456789ABCDEF"
	if class[c] != other {
		b.WriteByte(c)
		return
	}
	b.WriteByte('%')
	b.WriteByte(hex[c>>4])
	b.WriteByte(hex[c&15])
}

// unencoded reports whether every byte stands for itself.
func unencoded(text string) bool {
	for i := range len(text) {
		if class[text[i]] == other {
			return false
		}
	}
	return true
}

// Spell gives the canonical spelling of plain text: of a file's path, or of a
// value that goes into a path. No % in it is taken for an encoding.
func Spell(text string) string {
	if unencoded(text) {
		return text
	}
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		writeByte(&b, text[i])
	}
	return b.String()
}

// Decode gives the bytes that percent-encoded text stands for. A % without
// two hexadecimal digits stays as it is.
func Decode(text string) string {
	if strings.IndexByte(text, '%') < 0 {
		return text
	}
	out := make([]byte, 0, len(text))
	for i := 0; i < len(text); i++ {
		if text[i] == '%' && i+2 < len(text) {
			if c, ok := unhex(text[i+1], text[i+2]); ok {
				out = append(out, c)
				i += 2
				continue
			}
		}
		out = append(out, text[i])
	}
	return string(out)
}

// Fold gives a key that canonical paths share when they differ only in case,
// letter by letter (Unicode simple folding).
func Fold(path string) string {
	if strings.IndexByte(path, '%') < 0 {
		return strings.ToLower(path)
	}
	var b strings.Builder
	for i := 0; i < len(path); {
		n := 0
		if path[i] == '%' {
			n = encodedRune(path[i:])
		}
		if n == 0 {
			b.WriteByte(lower(path[i]))
			i++
			continue
		}
		r, _ := utf8.DecodeRuneInString(Decode(path[i : i+n]))
		least := r
		for f := unicode.SimpleFold(r); f != r; f = unicode.SimpleFold(f) {
			least = min(least, f)
		}
		b.WriteString(strings.ToLower(Spell(string(least))))
		i += n
	}
	return b.String()
}

func lower(c byte) byte {
	if 'A' <= c && c <= 'Z' {
		c += 'a' - 'A'
	}
	return c
}

// Marked gives a canonical path in the form that patterns are matched on:
// encoded bytes that are no part of a UTF-8 character, and the encoded / and \,
// are written %!XX. So each character has exactly one spelling and none is the
// beginning of another. Nearly always the path itself.
func Marked(path string) string {
	i := strings.IndexByte(path, '%')
	if i < 0 {
		return path
	}
	var b []byte
	kept := 0
	for ; i < len(path); i++ {
		if path[i] != '%' {
			continue
		}
		n := encodedRune(path[i:])
		if n == 0 {
			b = append(append(b, path[kept:i+1]...), '!')
			kept, n = i+1, 3
		}
		i += n - 1
	}
	if b == nil {
		return path
	}
	return string(append(b, path[kept:]...))
}

// Unmarked undoes Marked.
func Unmarked(text string) string { return strings.ReplaceAll(text, "%!", "%") }

// Map gives canonical text in which each decoded character is changed; what is a
// character of its own (see Marked) stays.
func Map(text string, change func(rune) rune) string {
	var b strings.Builder
	eachCharacter(text, func(raw string, r rune) {
		if r == utf8.RuneError {
			b.WriteString(raw)
			return
		}
		b.WriteString(Spell(string(change(r))))
	})
	return b.String()
}

// Readable gives canonical text for people: printable characters beyond ASCII and
// blanks are decoded, everything else stays, so that it still means the same in a
// link.
func Readable(text string) string {
	if strings.IndexByte(text, '%') < 0 {
		return text
	}
	var b strings.Builder
	eachCharacter(text, func(raw string, r rune) {
		if r == ' ' || r >= utf8.RuneSelf && r != utf8.RuneError && unicode.IsPrint(r) {
			b.WriteRune(r)
			return
		}
		b.WriteString(raw)
	})
	return b.String()
}

// eachCharacter gives the characters of text, as they stand and decoded; one of its
// own is utf8.RuneError, and what stands encoded without need keeps its spelling.
func eachCharacter(text string, yield func(raw string, r rune)) {
	for text != "" {
		n, r := 1, rune(text[0])
		switch {
		case text[0] == '%':
			if n = encodedRune(text); n > 0 {
				r, _ = utf8.DecodeRuneInString(Decode(text[:n]))
			} else {
				n, r = min(3, len(text)), utf8.RuneError
			}
		case r >= utf8.RuneSelf:
			r, n = utf8.DecodeRuneInString(text)
		}
		yield(text[:n], r)
		text = text[n:]
	}
}

// encodedRune is the length of the encoded character at the start of text, 0
// where the byte there is a character of its own.
func encodedRune(text string) int {
	var raw [utf8.UTFMax]byte
	n := 0
	for n < len(raw) && 3*n+2 < len(text) && text[3*n] == '%' {
		c, ok := unhex(text[3*n+1], text[3*n+2])
		if !ok {
			break
		}
		raw[n] = c
		n++
	}
	if n == 0 || raw[0] == '/' || raw[0] == '\\' {
		return 0
	}
	r, size := utf8.DecodeRune(raw[:n])
	if r == utf8.RuneError && size <= 1 {
		return 0
	}
	return 3 * size
}

func lastSlash(b []byte) int {
	i := len(b) - 1
	for b[i] != '/' {
		i--
	}
	return i
}

func mergeSlashes(b []byte) []byte {
	out := b[:0]
	for i, c := range b {
		if c == '/' && i > 0 && out[len(out)-1] == '/' {
			continue
		}
		out = append(out, c)
	}
	return out
}

func unhex(a, b byte) (byte, bool) {
	hi, ok1 := digit(a)
	lo, ok2 := digit(b)
	return hi<<4 | lo, ok1 && ok2
}

func digit(c byte) (byte, bool) {
	switch {
	case '0' <= c && c <= '9':
		return c - '0', true
	case 'a' <= c && c <= 'f':
		return c - 'a' + 10, true
	case 'A' <= c && c <= 'F':
		return c - 'A' + 10, true
	}
	return 0, false
}
