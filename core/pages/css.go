package pages

// Style sheets: url(), @import, and the texts in image-set() (CSS Values and Units, 4.5).

import (
	"strconv"
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/css"
)

// readCSS reads a style sheet, or the declarations of a style attribute.
func (f *File) readCSS(content []byte, where place, escape Escape) {
	l := css.NewLexer(parse.NewInputBytes(append(make([]byte, 0, len(content)+1), content...)))
	text := string(content)
	rule := ""      // the at-rule whose prelude is read
	font := -1      // the depth of the block of a font
	depth := 0      // of blocks
	var sets []bool // for each open parenthesis, whether it is that of a set of images
	for at := 0; ; {
		kind, token := l.Next()
		begin := at
		at += len(token)
		switch kind {
		case css.ErrorToken:
			return
		case css.AtKeywordToken:
			rule = strings.ToLower(string(token))
		case css.SemicolonToken:
			rule = ""
		case css.LeftBraceToken:
			if depth++; rule == "@font-face" {
				font = depth
			}
			rule, sets = "", nil
		case css.RightBraceToken:
			if font == depth {
				font = -1
			}
			depth = max(0, depth-1)
			rule, sets = "", nil
		case css.FunctionToken:
			name := strings.ToLower(string(token))
			sets = append(sets, name == "image-set(" || name == "-webkit-image-set(")
		case css.LeftParenthesisToken:
			sets = append(sets, false)
		case css.RightParenthesisToken:
			if len(sets) > 0 {
				sets = sets[:len(sets)-1]
			}
		case css.URLToken:
			if rule == "@namespace" {
				continue
			}
			from, to := begin+strings.IndexByte(text[begin:at], '(')+1, at
			if text[to-1] == ')' {
				to--
			}
			from, to = trimmed(text, from, to)
			if to-from >= 2 && (text[from] == '"' || text[from] == '\'') && text[to-1] == text[from] {
				from, to = from+1, to-1
			}
			use := Image
			switch {
			case rule == "@import":
				use = Style
			case font >= 0:
				use = Font
			}
			f.addCSS(use, text, from, to, where, escape)
		case css.StringToken:
			from, to := begin+1, at-1
			switch {
			case rule == "@import":
				f.addCSS(Style, text, from, to, where, escape)
				rule = ""
			case len(sets) > 0 && sets[len(sets)-1]:
				f.addCSS(Image, text, from, to, where, escape)
			}
		}
	}
}

func trimmed(text string, from, to int) (int, int) {
	for from < to && strings.IndexByte(blanks, text[from]) >= 0 {
		from++
	}
	for from < to && strings.IndexByte(blanks, text[to-1]) >= 0 {
		to--
	}
	return from, to
}

// addCSS adds an address of a style sheet; one within the sheet's own file is none.
func (f *File) addCSS(use Use, text string, from, to int, where place, escape Escape) {
	if from >= to || text[from] == '#' {
		return
	}
	r := Reference{Use: use, Text: strings.Trim(unescapeCSS(text[from:to]), blanks), Escape: escape}
	r.Offset, r.Length = where(from, to)
	f.keep(r)
}

// unescapeCSS undoes the escapes of a text (CSS Syntax, 4.3.7).
func unescapeCSS(s string) string {
	if strings.IndexByte(s, '\\') < 0 {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '\\' || i+1 == len(s) {
			b.WriteByte(s[i])
			continue
		}
		i++
		n := 0
		for n < 6 && i+n < len(s) && strings.IndexByte("0123456789abcdefABCDEF", s[i+n]) >= 0 {
			n++
		}
		switch {
		case n > 0:
			code, _ := strconv.ParseUint(s[i:i+n], 16, 32)
			if code == 0 || code > 0x10ffff || code >= 0xd800 && code < 0xe000 {
				code = 0xfffd
			}
			b.WriteRune(rune(code))
			if i += n - 1; i+1 < len(s) && strings.IndexByte(blanks, s[i+1]) >= 0 {
				i++
			}
		case s[i] == '\n': // a line goes on
		default:
			b.WriteByte(s[i])
		}
	}
	return b.String()
}
