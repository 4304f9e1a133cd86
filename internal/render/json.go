package render

import (
	"encoding/json"
	"fmt"
	"io"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// JSON gives an encoder that writes control and formatting characters as escapes, those
// beyond ASCII, too: they mean the same to a program, and nothing to a terminal.
func JSON(w io.Writer) *json.Encoder {
	enc := json.NewEncoder(escaping{w})
	enc.SetEscapeHTML(false)
	return enc
}

// escaping escapes what an encoder writes, which is whole values.
type escaping struct{ w io.Writer }

func (e escaping) Write(b []byte) (int, error) {
	kept := 0
	var out []byte
	for i := 0; i < len(b); {
		if b[i] < utf8.RuneSelf && b[i] != 0x7f {
			i++
			continue
		}
		r, n := utf8.DecodeRune(b[i:])
		if !unicode.IsGraphic(r) {
			out = append(out, b[kept:i]...)
			if hi, lo := utf16.EncodeRune(r); hi != unicode.ReplacementChar {
				out = fmt.Appendf(out, `\u%04x\u%04x`, hi, lo)
			} else {
				out = fmt.Appendf(out, `\u%04x`, r)
			}
			kept = i + n
		}
		i += n
	}
	if out == nil {
		return e.w.Write(b)
	}
	if _, err := e.w.Write(append(out, b[kept:]...)); err != nil {
		return 0, err
	}
	return len(b), nil
}
