package list

import (
	"math"
	"time"
)

// A timeForm is how a kind of log writes times.
type timeForm uint8

const (
	noTime timeForm = iota
	logTime
	w3cTime
	jsonTime
)

// timeForms are the layouts, as time.Parse has them, and the places of the two digits of
// the seconds.
var timeForms = [...]struct {
	layout  string
	seconds int
}{
	logTime:  {"02/Jan/2006:15:04:05 -0700", 18},
	w3cTime:  {"2006-01-02 15:04:05", 17},
	jsonTime: {"2006-01-02T15:04:05Z", 17},
}

// At is when the request was made; zero where the line has no time.
func (l *Line) At() time.Time {
	if l.form == noTime {
		return time.Time{}
	}
	t, err := time.Parse(timeForms[l.form].layout, string(l.Time()))
	if err != nil {
		return time.Time{}
	}
	return t.UTC()
}

// Whole reports whether the line's time is one of whole seconds.
func (l *Line) Whole() bool { return l.form != noTime && l.time.len() == len(timeForms[l.form].layout) }

// same reports whether two times of one length are the same text. Whole ones have 16 to 32
// bytes.
func same(a, b []byte) bool {
	n := len(a)
	return (word(a, 0)^word(b, 0))|(word(a, 8)^word(b, 8))|(word(a, n-16)^word(b, n-16))|(word(a, n-8)^word(b, n-8)) == 0
}

// A Clock reads the times of a log, of which most are of the minute before. The zero
// Clock is ready.
type Clock struct {
	form   timeForm
	text   []byte
	minute int64
	unix   uint32
}

// At gives the time of a line in seconds since 1970; 0 for what is not a time.
func (c *Clock) At(l *Line) uint32 {
	text := l.Time()
	if l.form == c.form && len(text) == len(c.text) && c.unix > 0 {
		if same(text, c.text) {
			return c.unix
		}
		s := timeForms[c.form].seconds
		if string(text[:s]) == string(c.text[:s]) && string(text[s+2:]) == string(c.text[s+2:]) {
			tens, ones := text[s]-'0', text[s+1]-'0'
			if tens < 6 && ones < 10 {
				copy(c.text, text)
				c.unix = uint32(c.minute + 10*int64(tens) + int64(ones))
				return c.unix
			}
		}
	}
	t := l.At()
	if t.Unix() <= 0 || t.Unix() > math.MaxUint32 {
		return 0
	}
	if !l.Whole() {
		return uint32(t.Unix())
	}
	c.form, c.text = l.form, append(c.text[:0], text...)
	c.minute, c.unix = t.Unix()-int64(t.Second()), uint32(t.Unix())
	return c.unix
}
