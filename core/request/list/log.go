package list

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"math/bits"
	"net/netip"
	"strings"
	"unsafe"

	"kibitz/core/request"
)

const FormatLog Format = "log"

func init() {
	register(form{name: FormatLog, rank: rankLog, read: readLog, lines: true, parts: true, comment: Comment, detect: func(head []byte) bool {
		for _, line := range bytes.SplitN(head, []byte("\n"), 20) {
			var l Line
			if len(line) > 0 && ParseLog(bytes.Clone(line), &l) == nil || looksLogged(line) {
				return true
			}
		}
		return false
	}})
}

// looksLogged reports whether a line has the shape of an access log's, though
// its request may be none.
func looksLogged(line []byte) bool {
	open := bytes.Index(line, []byte(" ["))
	return open > 0 && open+30 < len(line) && line[open+28] == ']' && bytes.Contains(line[open:], []byte(`] "`))
}

// A Line is one line of an access log, in the common or combined form. Its texts are parts
// of the line that was read. It remembers where they stand in it: pointers to them would
// each cost something while the collector works.
type Line struct {
	Status int

	text            []byte // the line
	host            span   // that was asked, where the line begins with it
	client, time    span
	method, target  span     // side by side
	rest            span     // behind the status, until Tail is called
	referrer, agent span     // from then on
	path            uint32   // length of the target without its query
	form            timeForm // of the time
	buffer          []byte   // that text is a part of, where it is not the line itself
}

// A span is a part of a line.
type span struct{ from, to uint32 }

func (s span) len() int { return int(s.to - s.from) }

func (l *Line) part(s span) []byte { return l.text[s.from:s.to] }

// at gives the place of a part of the line, which has been made by slicing alone.
func (l *Line) at(part []byte) span {
	from := cap(l.text) - cap(part)
	return span{uint32(from), uint32(from + len(part))}
}

// Client, Time, Method and Target are parts of the line as they stand there, Referrer and
// Agent without escapes; these are empty where there is none, and until Tail is called.
func (l *Line) Client() []byte   { return l.part(l.client) }
func (l *Line) Time() []byte     { return l.part(l.time) }
func (l *Line) Method() []byte   { return l.part(l.method) }
func (l *Line) Target() []byte   { return l.part(l.target) }
func (l *Line) Referrer() []byte { return l.part(l.referrer) }
func (l *Line) Agent() []byte    { return l.part(l.agent) }

var (
	errNoLog     = errors.New("it is not a line of an access log: there is no [time] followed by a quoted request")
	errNoRequest = errors.New("its request is not an HTTP request")
	errNoStatus  = errors.New("there is no status behind its request")
)

// ParseLog reads a line without its end, up to its status; Tail reads the rest.
// The line may be changed: escapes in it are undone in place.
func ParseLog(line []byte, l *Line) error {
	l.text, l.form, l.referrer, l.agent, l.host = line, logTime, span{}, span{}, span{}
	if l.quick(line) {
		return nil
	}
	return l.careful(line)
}

func (l *Line) careful(line []byte) error {
	i := bytes.IndexByte(line, ' ')
	if i <= 0 {
		return errNoLog
	}
	l.client = span{0, uint32(i)}
	if second, _, ok := bytes.Cut(line[i+1:], []byte(" ")); ok && isAddress(second) { // who asks is behind the host that is asked
		l.host, l.client = l.client, l.at(second)
	}
	open := bytes.IndexByte(line[i:], '[')
	if open < 0 {
		return errNoLog
	}
	open += i
	end := bytes.Index(line[open:], []byte(`] "`))
	if end < 0 {
		return errNoLog
	}
	end += open
	l.time = span{uint32(open + 1), uint32(end)}
	request, status, ok := quoted(line[end+2:], true)
	if !ok {
		return errNoLog
	}
	if err := l.parseRequest(request); err != nil {
		return err
	}
	for len(status) > 0 && status[0] == ' ' {
		status = status[1:]
	}
	if len(status) < 3 || !isDigit(status[0]) || !isDigit(status[1]) || !isDigit(status[2]) || len(status) > 3 && status[3] != ' ' {
		return errNoStatus
	}
	l.Status, l.rest = threeDigits(status), l.at(status[3:])
	return nil
}

// isAddress reports whether a word is the address of a client.
func isAddress(word []byte) bool {
	if len(word) < 2 || bytes.IndexByte(word, '.') < 0 && bytes.IndexByte(word, ':') < 0 {
		return false
	}
	_, err := netip.ParseAddr(string(word))
	return err == nil
}

// Hosted reports whether the line says which host was asked, so that only Item tells
// all of it.
func (l *Line) Hosted() bool { return l.host.len() > 0 }

// isStatus reports whether a text of a log is a status: three digits.
func isStatus(s []byte) bool {
	return len(s) == 3 && isDigit(s[0]) && isDigit(s[1]) && isDigit(s[2])
}

func threeDigits(s []byte) int { return int(s[0]-'0')*100 + int(s[1]-'0')*10 + int(s[2]-'0') }

// quick reads a line that is as nearly all are, up to its status: nobody is named, GET,
// HEAD or POST asks for a path, and nothing before the status is escaped. It looks at
// eight bytes in one go, and gives up at once where anything is otherwise.
func (l *Line) quick(line []byte) bool {
	const (
		dashes = ' ' | '-'<<8 | ' '<<16 | '-'<<24 | ' '<<32 | '['<<40
		get    = ']' | ' '<<8 | '"'<<16 | 'G'<<24 | 'E'<<32 | 'T'<<40 | ' '<<48 | '/'<<56
		head   = ']' | ' '<<8 | '"'<<16 | 'H'<<24 | 'E'<<32 | 'A'<<40 | 'D'<<48 | ' '<<56
		post   = ']' | ' '<<8 | '"'<<16 | 'P'<<24 | 'O'<<32 | 'S'<<40 | 'T'<<48 | ' '<<56
		http   = ' ' | 'H'<<8 | 'T'<<16 | 'T'<<24 | 'P'<<32 | '/'<<40 | '.'<<56
		status = '0' | '"'<<8 | ' '<<16 | '0'<<24 | '0'<<32 | '0'<<40 | ' '<<48 // and the last digit of HTTP/1.1
		digits = 0x0f | 0x0f<<24 | 0x0f<<32 | 0x0f<<40
		over9  = 0x06 | 0x06<<24 | 0x06<<32 | 0x06<<40
	)
	last := len(line) - 24 // up to there 24 bytes can be looked at
	i, ends := 0, uint64(0)
	for ; i <= last; i += 8 {
		if ends = under(word(line, i), '!'); ends != 0 {
			break
		}
	}
	i += bits.TrailingZeros64(ends) / 8
	method, target := i+35, i+39
	if ends == 0 || i == 0 || target > last || word(line, i)<<16 != dashes<<16 {
		return false
	}
	client := i
	switch w := word(line, i+32); {
	case w == get:
	case (w == head || w == post) && line[target+1] == '/':
		target++
	default:
		return false
	}
	for i, ends = target, 0; i <= last; i += 8 {
		w := word(line, i)
		if ends = (under(w, '#') | equal(w, '?') | equal(w, '\\')) & highBits; ends != 0 {
			break
		}
	}
	if ends == 0 {
		return false
	}
	i += bits.TrailingZeros64(ends) / 8
	path := i - target
	if line[i] == '?' {
		for i, ends = i+1, 0; i <= last; i += 8 {
			w := word(line, i)
			if ends = (under(w, '#') | equal(w, '\\')) & highBits; ends != 0 {
				break
			}
		}
		if ends == 0 {
			return false
		}
		i += bits.TrailingZeros64(ends) / 8
	}
	if i > len(line)-16 {
		return false
	}
	code := word(line, i+8) & (1<<56 - 1)
	if word(line, i)&^(0xff<<48) != http || !isDigit(line[i+6]) || code&^digits != status || (code+over9)&^digits != status {
		return false
	}
	part := func(from, to int) span { return span{uint32(from), uint32(to)} }
	l.client, l.time, l.method, l.target, l.rest = part(0, client), part(client+6, client+32), part(method, target-1), part(target, i), part(i+14, len(line))
	l.path, l.Status = uint32(path), int(code>>24&15)*100+int(code>>32&15)*10+int(code>>40&15)
	return true
}

// word is eight bytes as one number, the first of them lowest. They must be there.
func word(text []byte, i int) uint64 {
	return binary.LittleEndian.Uint64((*[8]byte)(unsafe.Add(unsafe.Pointer(unsafe.SliceData(text)), i))[:])
}

const (
	eachByte = 0x0101010101010101
	highBits = 0x80 * eachByte
)

// under marks the bytes of a word that are less than c, and equal those that are c, by
// their high bits. The lowest mark is right; those above it may not be.
func under(w uint64, c byte) uint64 { return (w - uint64(c)*eachByte) &^ w & highBits }
func equal(w uint64, c byte) uint64 { return under(w^uint64(c)*eachByte, 1) }

// blank marks the bytes of a word that are blanks or control characters; all marks are
// right.
func blank(w uint64) uint64 {
	const above = (0x7f - ' ') * eachByte
	return ^(w&^highBits + above | w) & highBits
}

// ClientWord is eight bytes of the client from its i-th on as one number, the first of
// them lowest, with zeros where it has no more. Eight bytes can always be read: in an
// access log there are more behind it, and elsewhere they are put there.
func (l *Line) ClientWord(i uint32) uint64 {
	n := int32(l.client.to - l.client.from - i)
	if n >= 8 {
		return word(l.text, int(l.client.from+i))
	}
	if n <= 0 {
		return 0
	}
	return word(l.text, int(l.client.from+i)) & (1<<(8*n&63) - 1)
}

// Asked gives the method and the target, with its query or without, as they stand side by
// side in the line.
func (l *Line) Asked(query bool) []byte {
	if query {
		return l.text[l.method.from:l.target.to]
	}
	return l.text[l.method.from : l.target.from+l.path]
}

// Last gives the agent as it stands in the line, escapes and all, if the line
// plainly ends with it; else nil. It may hold what no agent can: a quote, where
// more follows. Tail costs more.
func (l *Line) Last() []byte {
	const unknown = '"' | '-'<<8 | '"'<<16 | ' '<<24 | '"'<<32 // as the referrer, and a quote
	rest := l.part(l.rest)
	end := len(rest) - 1
	if end < 16 || rest[end] != '"' {
		return nil
	}
	quotes := equal(word(rest, 1), '"') // behind the size
	if quotes == 0 {
		return nil
	}
	i := 1 + bits.TrailingZeros64(quotes)/8
	if word(rest, i)&(1<<40-1) == unknown {
		return rest[i+5 : end]
	}
	if i += 1 + bytes.IndexByte(rest[i+1:], '"'); rest[i-1] == '\\' || i+3 > end || rest[i+2] != '"' {
		return nil
	}
	return rest[i+3 : end]
}

// From gives the referrer, if it stands in the line without escapes; nil where Tail
// must look.
func (l *Line) From() []byte {
	rest := l.part(l.rest)
	i := behindSize(rest)
	if i+2 >= len(rest) {
		return nil
	}
	if string(rest[i+1:i+3]) == `-"` {
		return rest[i+1 : i+1]
	}
	end := bytes.IndexByte(rest[i+1:], '"')
	if end < 0 || bytes.IndexByte(rest[i+1:i+1+end], '\\') >= 0 {
		return nil
	}
	return rest[i+1 : i+1+end]
}

// behindSize gives the place of the first quote behind the status.
func behindSize(rest []byte) int {
	if len(rest) >= 9 {
		if quotes := equal(word(rest, 1), '"'); quotes != 0 { // as for all but large bodies
			return 1 + bits.TrailingZeros64(quotes)/8
		}
	}
	if i := bytes.IndexByte(rest, '"'); i >= 0 {
		return i
	}
	return len(rest)
}

// Behind is the length of what stands behind the status: no less than that of the
// referrer and the agent. It must be asked before Tail.
func (l *Line) Behind() int64 { return int64(l.rest.len() + l.referrer.len() + l.agent.len()) }

// HeaderSize is how large a header is, beside its values, of a request that has all the
// fields that a line tells: names, and four bytes for each.
const HeaderSize = int64(len("Referer") + len("User-Agent") + 2*4)

// Plain reports whether what stands behind the status is no longer than max, and has
// neither escapes nor control characters. It must be asked before Tail.
func (l *Line) Plain(max int) bool {
	if l.Behind() > int64(max) {
		return false
	}
	for _, part := range [...]span{l.rest, l.referrer, l.agent} {
		for _, c := range l.part(part) {
			if c < ' ' || c == '\\' || c == 0x7f {
				return false
			}
		}
	}
	return true
}

// Tail reads what stands behind the status: referrer and agent, where the line
// has them.
func (l *Line) Tail() {
	if l.form == w3cTime { // they stand there already, with a plus in the place of each blank
		blanks(l.Referrer())
		blanks(l.Agent())
		return
	}
	rest := l.part(l.rest)
	l.rest = span{}
	i := behindSize(rest)
	if i == len(rest) {
		return
	}
	escaped := bytes.IndexByte(rest, '\\') >= 0
	if bytes.HasPrefix(rest[i:], []byte(`"-"`)) {
		rest = rest[i+3:]
	} else {
		referrer, more, ok := quoted(rest[i:], escaped)
		if !ok {
			return
		}
		l.referrer, rest = l.at(referrer), more
	}
	i = 1 // one blank stands between them
	if len(rest) < 2 || rest[1] != '"' {
		i = bytes.IndexByte(rest, '"')
	}
	if i >= 0 {
		if agent, _, _ := quoted(rest[i:], escaped); string(agent) != "-" {
			l.agent = l.at(agent)
		}
	}
}

func isDigit(c byte) bool { return '0' <= c && c <= '9' }

// parseRequest splits `GET /x HTTP/1.1`. A target with blanks in it is kept whole.
func (l *Line) parseRequest(req []byte) error {
	i := bytes.IndexByte(req, ' ')
	if i <= 0 {
		return errNoRequest
	}
	for _, c := range req[:i] {
		if (c < 'A' || c > 'Z') && c != '-' && c != '_' {
			return errNoRequest
		}
	}
	l.method = l.at(req[:i])
	target := req[i+1:]
	if j := bytes.LastIndex(target, []byte(" HTTP/")); j >= 0 {
		target = target[:j]
	}
	if len(target) == 0 {
		return errNoRequest
	}
	if target[0] != '/' && target[0] != '*' && !bytes.HasPrefix(target, []byte("http")) {
		return errNoRequest
	}
	l.target, l.path = l.at(target), uint32(len(target))
	if j := bytes.IndexByte(target, '?'); j >= 0 {
		l.path = uint32(j)
	}
	return nil
}

// quoted takes the quoted text at the start of s, with its escapes undone where
// there may be some.
func quoted(s []byte, escaped bool) (text, rest []byte, ok bool) {
	end := bytes.IndexByte(s[1:], '"') + 1
	if end == 0 {
		return nil, nil, false
	}
	if !escaped || bytes.IndexByte(s[1:end], '\\') < 0 {
		return s[1:end], s[end+1:], true
	}
	out := s[1:1]
	for i := 1; i < len(s); i++ {
		switch c := s[i]; {
		case c == '"':
			return out, s[i+1:], true
		case c == '\\' && i+1 < len(s):
			i++
			switch s[i] {
			case 'x':
				if i+2 < len(s) {
					if v, ok := hexByte(s[i+1], s[i+2]); ok {
						out = append(out, v)
						i += 2
						continue
					}
				}
				out = append(out, '\\', 'x')
			case 'n':
				out = append(out, '\n')
			case 'r':
				out = append(out, '\r')
			case 't':
				out = append(out, '\t')
			default:
				out = append(out, s[i])
			}
		default:
			out = append(out, c)
		}
	}
	return nil, nil, false
}

func hexByte(a, b byte) (byte, bool) {
	hi, ok1 := hexDigit(a)
	lo, ok2 := hexDigit(b)
	return hi<<4 | lo, ok1 && ok2
}

func hexDigit(c byte) (byte, bool) {
	switch {
	case isDigit(c):
		return c - '0', true
	case 'a' <= c|32 && c|32 <= 'f':
		return c | 32 - 'a' + 10, true
	}
	return 0, false
}

// Item gives the line as a request of a list. The item keeps nothing of the line.
func (l *Line) Item(base request.Address) (*Item, error) {
	item := &Item{Request: &request.Request{Method: string(l.Method()), Client: l.ClientAddr(), Time: l.At(), Headers: l.Headers(nil)}, Recorded: l.Status}
	var err error
	if l.Hosted() {
		if base, err = hostAsked(string(l.part(l.host)), base); err != nil {
			return nil, err
		}
	}
	item.Request.Address, err = TargetAddress(string(l.Target()), base)
	return item, err
}

// hostAsked gives the origin that a log names in front of its clients: a host, perhaps
// with the port of the server, which tells the scheme; `-` and `_` are none.
func hostAsked(host string, base request.Address) (request.Address, error) {
	if host == "-" || host == "_" {
		return base, nil
	}
	a := base
	switch name, port, _ := strings.Cut(host, ":"); port {
	case "443":
		a.Scheme, host = "https", name
	case "80":
		a.Scheme, host = "http", name
	}
	return a, a.SetHost(host)
}

// ClientAddr is the address of the client; the zero Addr where the log has none.
func (l *Line) ClientAddr() netip.Addr {
	client, _ := netip.ParseAddr(string(l.Client()))
	return client
}

// Headers adds the header fields that the log tells.
func (l *Line) Headers(headers []request.Header) []request.Header {
	l.Tail()
	if l.referrer.len() > 0 { // `""` is written for none, too
		headers = append(headers, request.Header{Name: "Referer", Value: string(l.Referrer())})
	}
	if l.agent.len() > 0 {
		headers = append(headers, request.Header{Name: "User-Agent", Value: string(l.Agent())})
	}
	return headers
}

// TargetAddress reads a request target (RFC 9112, 3.2): nearly always a path as
// it was sent, sometimes a whole URL.
func TargetAddress(target string, base request.Address) (request.Address, error) {
	if target == "" || target[0] != '/' && target[0] != '*' {
		return request.Parse(target, base)
	}
	base.Path, base.Query, base.HasQuery = strings.Cut(target, "?")
	base.Fragment = ""
	return base, nil
}

func readLog(in *bufio.Reader, o Options, each func(*Item)) (Counts, error) {
	var c Counts
	var l Line
	err := eachLine(in, &c, func(number int, line []byte) {
		if Comment(line) {
			c.Comments++
			return
		}
		if err := ParseLog(line, &l); err != nil {
			c.skip(number, 1, "%v", err)
			return
		}
		item, err := l.Item(o.Base)
		c.take(number, item, err, each)
	})
	return c, err
}

// Comment reports whether a line of a log is blank or a comment.
func Comment(line []byte) bool {
	t := bytes.TrimLeft(line, " \t")
	return len(t) == 0 || t[0] == '#'
}

// eachLine calls yield for every line without its end, and counts them. A line
// that is too long is skipped.
func eachLine(in *bufio.Reader, c *Counts, yield func(number int, line []byte)) error {
	for number := 1; ; number++ {
		line, tooLong, err := readLine(in)
		if line == "" && !tooLong && err != nil {
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
		c.Lines++
		if tooLong {
			c.skip(number, 1, "the line is longer than %d MiB", MaxLine>>20)
			continue
		}
		if number == 1 {
			line = strings.TrimPrefix(line, "\ufeff")
		}
		yield(number, []byte(strings.TrimSuffix(strings.TrimSuffix(line, "\n"), "\r")))
	}
}
