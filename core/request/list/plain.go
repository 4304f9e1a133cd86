package list

// The plain format, which is ours.

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"strings"
	"time"

	"kibitz/core/request"
	"kibitz/core/units"
)

const FormatPlain Format = "plain"

func init() {
	register(form{name: FormatPlain, rank: rankRest, read: func(in *bufio.Reader, o Options, each func(*Item)) (Counts, error) { return Plain(in, o.Base, each) },
		lines: true, layout: plainLayout, detect: func([]byte) bool { return true }})
}

// plainLayout reads requests without anything below them in place, and others with care.
func plainLayout(o Options) *Layout {
	return &Layout{
		Comment: func(line []byte) bool { return strings.TrimSpace(withoutComment(string(line))) == "" },
		Read: func(line, rest []byte, l *Line) (*Item, error) {
			if len(rest) > 0 && !beginsRequest(rest[0]) {
				return nil, ErrRecord
			}
			var parts quickParts
			from := bytes.IndexByte(line, ' ') + 1
			if from > 1 {
				parts[theMethod] = span{0, uint32(from - 1)}
			}
			parts[theURL] = span{uint32(from), uint32(len(line))}
			if from == 1 || !parts.line(line, o.Base, l) {
				return nil, ErrRecord
			}
			return nil, nil
		},
		cut: func(text []byte, last bool) int {
			for end := len(text) - 1; end >= 0; {
				if end = bytes.LastIndexByte(text[:end], '\n'); end >= 0 && beginsRequest(text[end+1]) {
					return end + 1
				}
			}
			if last { // a request that is too long
				return len(text)
			}
			return 0
		},
		record: func(text []byte, each func(*Item)) (int, Counts) {
			p := &plainReader{base: o.Base, each: each}
			used := 0
			for used == 0 || used < len(text) && !beginsRequest(text[used]) {
				line, _, more := bytes.Cut(text[used:], []byte("\n"))
				if used += len(line); more {
					used++
				}
				p.line(string(line), len(line) > MaxLine)
			}
			p.flush()
			return used, p.counts
		},
	}
}

// beginsRequest reports whether a line that begins with c is surely neither a detail of the
// request above it, nor a comment, nor blank.
func beginsRequest(c byte) bool { return c > ' ' && c < 0x7f && c != '#' }

// Plain reads the plain format: a request a line, with what is expected behind
// `=>`, and indented lines below it for more. Relative addresses are asked of
// base. each is called for every request, in order.
func Plain(r io.Reader, base request.Address, each func(*Item)) (Counts, error) {
	p := &plainReader{base: base, each: each}
	in := bufio.NewReaderSize(r, 64<<10)
	for {
		line, tooLong, err := readLine(in)
		if line == "" && !tooLong && err != nil {
			p.flush()
			if !errors.Is(err, io.EOF) {
				return p.counts, err
			}
			return p.counts, nil
		}
		if p.counts.Lines == 0 {
			line = strings.TrimPrefix(line, "\ufeff")
		}
		p.line(strings.TrimSuffix(line, "\n"), tooLong)
	}
}

type plainReader struct {
	base   request.Address
	each   func(*Item)
	counts Counts
	item   *Item // not yet handed on
	lines  int   // that it took
	size   int   // of those, in bytes
	failed bool  // a detail of it could not be read
}

func (p *plainReader) flush() {
	if p.item != nil {
		p.counts.Requests++
		p.counts.Details += p.lines - 1
		p.each(p.item)
	}
	p.item, p.failed = nil, false
}

// line reads the next line, without its end.
func (p *plainReader) line(line string, tooLong bool) {
	p.counts.Lines++
	number := p.counts.Lines
	if tooLong {
		p.flush()
		p.counts.skip(number, 1, "%v", errLong)
		return
	}
	text := withoutComment(strings.TrimSuffix(line, "\r"))
	if strings.TrimSpace(text) == "" {
		p.counts.Comments++
		return
	}
	if text[0] != ' ' && text[0] != '\t' {
		p.flush()
		item, err := p.request(text)
		if err != nil {
			p.counts.skip(number, 1, "%v", err)
			p.failed = true
			return
		}
		item.Line = number
		p.item, p.lines, p.size = item, 1, len(text)
		if err := p.fits(); err != nil {
			p.counts.skip(number, 1, "%v", err)
			p.item, p.failed = nil, true
		}
		return
	}
	switch {
	case p.failed:
		p.counts.skip(number, 1, "it belongs to a request that could not be read")
	case p.item == nil:
		p.counts.skip(number, 1, "an indented line belongs to the request above it, and there is none")
	default:
		p.size += len(text)
		err := p.item.detail(strings.TrimSpace(text))
		if err == nil {
			err = p.fits()
		}
		if err != nil {
			p.counts.skip(number, p.lines+1, "%v: the whole request is left out", err)
			p.item, p.failed = nil, true
			return
		}
		p.lines++
	}
}

// fits refuses a request that is too long, with all that is expected of it.
func (p *plainReader) fits() error {
	if p.size > MaxRequest {
		return errRequest
	}
	return nil
}

// withoutComment cuts a line at a # that stands at its start or after a blank.
func withoutComment(s string) string {
	for i := 0; i < len(s); i++ {
		if s[i] == '#' && (i == 0 || s[i-1] == ' ' || s[i-1] == '\t') {
			return s[:i]
		}
	}
	return s
}

// request reads `[METHOD] URL [=> …]`.
func (p *plainReader) request(text string) (*Item, error) {
	words := strings.Fields(text)
	item := &Item{Request: &request.Request{}}
	asks := words
	for i, w := range words {
		if w == "=>" {
			item.Expects = &request.Expectation{}
			if err := item.Expects.Expect(words[i+1:]); err != nil {
				return nil, err
			}
			asks = words[:i]
			break
		}
	}
	switch {
	case len(asks) == 0:
		return nil, errors.New("the request is missing before the =>")
	case len(asks) > 2:
		return nil, fmt.Errorf("%q is more than a method and an address: write what is expected after =>, and a space in an address as %%20", strings.Join(asks, " "))
	case len(asks) == 2:
		if !request.IsMethod(asks[0]) {
			return nil, fmt.Errorf("%q is not a method: write one in capitals, then the address", asks[0])
		}
		item.Request.Method = asks[0]
	}
	var err error
	item.Request.Address, err = request.Parse(asks[len(asks)-1], p.base)
	return item, err
}

// detail reads an indented line: more of the request, or more that is expected.
func (i *Item) detail(text string) error {
	if rest, ok := strings.CutPrefix(text, "=>"); ok {
		if i.Expects == nil {
			i.Expects = &request.Expectation{}
		}
		return i.Expects.Expect(strings.Fields(rest))
	}
	word, rest, _ := strings.Cut(text, " ")
	rest = strings.TrimSpace(rest)
	var err error
	switch word {
	case "client":
		if i.Request.Client, err = netip.ParseAddr(rest); err != nil {
			return fmt.Errorf("%q is not an address of a client", rest)
		}
	case "time":
		if i.Request.Time, err = time.Parse(time.RFC3339, rest); err != nil {
			return fmt.Errorf("%q is not a time: write it like 2026-03-01T08:00:00Z", rest)
		}
	case "body":
		n, problem := units.Size(rest)
		if problem != "" {
			return errors.New(problem)
		}
		i.Request.Body = n
	default:
		name, value, ok := strings.Cut(text, ":")
		if !ok || strings.ContainsAny(name, " \t") || name == "" {
			return fmt.Errorf("%q is not a detail of a request: write client ADDRESS, time TIME, body SIZE, Name: value, or => and what is expected", text)
		}
		i.Request.Headers = append(i.Request.Headers, request.Header{Name: name, Value: strings.TrimSpace(value)})
	}
	return nil
}
