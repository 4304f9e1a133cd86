package list

// Records that are as nearly all are, in lists other than logs: of one line, without escapes,
// of a request for a path. What they tell is put into a Line; anything else is left to the
// careful way.

import (
	"bytes"
	"encoding/binary"
	"net/netip"
	"unicode/utf8"
	"unsafe"

	"kibitz/core/request"
)

// A quickPart is something that a value tells.
type quickPart uint8

const (
	careful quickPart = iota // it must be read with care
	nothing                  // that matters
	theURL
	theQuery
	theMethod
	theClient
	theTime
	theStatus
	theAgent
	theReferrer
	theLocation
	theBody
	theField // of the header, that does not matter
)

// quickPartOf are the names of parts in columns and elsewhere; others must be read with care.
var quickPartOf = map[string]quickPart{"url": theURL, "path": theURL, "query": theQuery, "method": theMethod, "client": theClient, "time": theTime,
	"status": theStatus, "agent": theAgent, "referrer": theReferrer, "location": theLocation, "body": theBody}

// quickParts are where the parts of a record stand in its line; zero for what it does not
// tell.
type quickParts [theReferrer + 1]span

// tell notes what a value tells; not ok where it is not plain.
func (j *quickParts) tell(part quickPart, kind valueKind, line []byte, value span) bool {
	text := kind == jsonString
	switch part {
	case nothing:
		return true
	case theLocation, theField:
		return text
	case theBody:
		return string(line[value.from:value.to]) == "0"
	case theStatus:
		return kind != jsonLiteral && j.put(part, value)
	case theQuery:
		return text && (value.len() == 0 || line[value.from] != '?' && j.put(part, value))
	case theAgent:
		return text && string(line[value.from:value.to]) != "-" && j.put(part, value)
	case theURL, theMethod, theClient, theTime, theReferrer:
		return text && j.put(part, value)
	}
	return false
}

// put notes a value; each may be told once.
func (j *quickParts) put(part quickPart, value span) bool {
	if j[part].to != 0 || value.len() == 0 {
		return false
	}
	j[part] = value
	return true
}

// line fills l, if what is told is plain, too: of a path at base.
func (j *quickParts) line(text []byte, base request.Address, l *Line) bool {
	part := func(p quickPart) []byte { return text[j[p].from:j[p].to] }
	url, query, method := part(theURL), part(theQuery), part(theMethod)
	if len(url) > 0 && url[0] != '/' {
		if origin := base.Origin(); bytes.HasPrefix(url, []byte(origin)) {
			url = url[len(origin):]
		}
	}
	if len(url) == 0 || url[0] != '/' || len(url) > 1 && url[1] == '/' || !plainTarget(url) || !plainTarget(query) || len(query) > 0 && bytes.IndexByte(url, '?') >= 0 {
		return false
	}
	if len(method) == 0 {
		method = get
	}
	for _, c := range method {
		if c < 'A' || c > 'Z' {
			return false
		}
	}
	if client := part(theClient); len(client) > 0 && !isIPv4(client) {
		if _, err := netip.ParseAddr(unsafe.String(unsafe.SliceData(client), len(client))); err != nil {
			return false
		}
	}
	at, form := part(theTime), noTime
	if len(at) > 0 {
		if form = jsonTime; len(at) != len(timeForms[jsonTime].layout) || at[len(at)-1] != 'Z' {
			return false
		}
	}
	if referrer := part(theReferrer); !utf8.Valid(part(theAgent)) || !utf8.Valid(referrer) || string(referrer) == "-" {
		return false
	}
	status := part(theStatus)
	if len(status) != 0 && (!isStatus(status) || status[0] < '1' || status[0] > '5') {
		return false
	}
	// The line stands in memory of its own, which is used again, and behind it the method and
	// the target, side by side; behind that there is room for ClientWord and others to read
	// whole words.
	own := append(l.buffer[:0], text...)
	own = append(append(own, method...), ' ')
	target := len(own)
	if own = append(own, url...); len(query) > 0 {
		own = append(append(own, '?'), query...)
	}
	end := len(own)
	own = append(own, room[:]...)
	place := func(from, to int) span { return span{uint32(from), uint32(to)} }
	*l = Line{text: own, buffer: own, form: form, client: j[theClient], time: j[theTime], referrer: j[theReferrer], agent: j[theAgent],
		method: place(len(text), target-1), target: place(target, end), path: uint32(len(url))}
	if i := bytes.IndexByte(url, '?'); i >= 0 {
		l.path = uint32(i)
	}
	if len(status) > 0 {
		l.Status = threeDigits(status)
	}
	return form == noTime || plainTime(at) || !l.At().IsZero()
}

var (
	get  = []byte("GET") // the method of a record that tells none
	room [16]byte
)

// isIPv4 reports whether a text is surely an address of IPv4: four numbers up to 255, without
// zeros before them.
func isIPv4(text []byte) bool {
	number, digits, dots := 0, 0, 0
	for _, c := range text {
		switch {
		case isDigit(c) && (digits == 0 || number > 0):
			if number = number*10 + int(c-'0'); number > 255 {
				return false
			}
			digits++
		case c == '.' && digits > 0:
			number, digits, dots = 0, 0, dots+1
		default:
			return false
		}
	}
	return dots == 3 && digits > 0
}

// plainTime reports whether 2026-03-01T08:00:00Z is a time, as far as that is seen at once: of
// a day that no month lacks. It has the length of one.
func plainTime(at []byte) bool {
	if !dateForm.fits(word(at, 0)) || !hourForm.fits(word(at, 8)) || !endForm.fits(word(at, 12)) {
		return false
	}
	two := func(i int) int { return int(at[i]-'0')*10 + int(at[i+1]-'0') }
	month, day := two(5), two(8)
	return month >= 1 && month <= 12 && day >= 1 && day <= 28 && two(11) < 24 && two(14) < 60 && two(17) < 60
}

var dateForm, hourForm, endForm = newDigitForm("0000-00-"), newDigitForm("00T00:00"), newDigitForm("0:00:00Z")

// A digitForm is how eight bytes are written, with any digit in the place of each 0.
type digitForm struct{ form, digits uint64 }

func newDigitForm(form string) (d digitForm) {
	d.form = binary.LittleEndian.Uint64([]byte(form))
	for i, c := range []byte(form) {
		if c == '0' {
			d.digits |= 0x0f << (8 * i)
		}
	}
	return d
}

// fits looks at all of them in one go: a digit differs from '0' by what it is worth, and what
// is worth more than nine reaches the upper half of its byte when six is added.
func (d digitForm) fits(w uint64) bool {
	by := w ^ d.form
	return by&^d.digits == 0 && (by+6*eachByte)&(0xf0*eachByte) == 0
}

// plainTarget reports whether a path with its query is read as it stands: it has nothing
// that the URL standard encodes, cuts off or resolves.
func plainTarget(target []byte) bool {
	for i, c := range target {
		if plainBytes[c] {
			continue
		}
		switch {
		case c == '.' && (i == 0 || target[i-1] != '/'):
		case c == '%' && i+2 < len(target) && isHexDigit(target[i+1]) && isHexDigit(target[i+2]) && target[i+1] != '2':
		default:
			return false
		}
	}
	return true
}

// plainBytes are those that mean themselves, wherever they stand in a target.
var plainBytes = func() (plain [256]bool) {
	for _, c := range []byte("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789/-_?=&+,:;@~*!()") {
		plain[c] = true
	}
	return plain
}()

func isHexDigit(c byte) bool { _, ok := hexDigit(c); return ok }
