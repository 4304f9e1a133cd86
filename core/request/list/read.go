package list

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"slices"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"kibitz/core/request"
)

// A Format is a kind of request list. Each is told of in a file of its own.
type Format string

// A form is all that is said of a format. It stands in the format's own file.
type form struct {
	name    Format
	rank    int                    // in what order formats are asked whether a list is theirs
	detect  func(head []byte) bool // tells it by its first bytes, without blanks before them
	read    func(in *bufio.Reader, o Options, each func(*Item)) (Counts, error)
	line    func(o Options) lineReader // of lines that stand for themselves; nil for others
	comment func(line []byte) bool     // tells such lines that are none
	lines   bool                       // it has a Layout
	parts   bool                       // and can be read from any of them on
	layout  func(o Options) *Layout    // where it is more than lines and comments
}

// The ranks of formats: those that are told most surely come first.
const (
	rankMarkup = 10 * iota
	rankObject
	rankHeading
	rankTable
	rankLog
	rankRest
)

var forms []form

func register(f form) {
	if f.read == nil {
		f.read = readEach(&f)
	}
	forms = append(forms, f)
	slices.SortFunc(forms, func(a, b form) int { return cmp.Compare(a.rank, b.rank) })
}

// formOf gives all that is said of a format; the plain one's for one that there is not.
func formOf(name Format) *form {
	for i := range forms {
		if forms[i].name == name {
			return &forms[i]
		}
	}
	return formOf(FormatPlain)
}

// Formats are the names of all that can be read from a file.
func Formats() []Format {
	var out []Format
	for i := range forms {
		out = append(out, forms[i].name)
	}
	slices.Sort(out)
	return out
}

// ByLine reports whether a format has a Layout, so that several records can be read at once;
// and whether from any line on, without those before it.
func ByLine(name Format) (lines, parts bool) {
	f := formOf(name)
	return f.lines, f.parts
}

// Options say how a list is read.
type Options struct {
	Base   request.Address   // of relative addresses, and of logs, which name no host
	Format Format            // "" to tell by content
	Fields map[string]string // the names of a JSON log by what they tell, beside those that it knows
	// Matters tells the header fields, in small letters, that can change an answer, beside
	// agent and referrer: lines that tell of no other can be read quickly. nil: all do.
	Matters func(name string) bool
	// Open opens another list that this one names, as a sitemap index does.
	// nil: none is opened.
	Open func(name string) (io.ReadCloser, error)
}

// Read reads a list, and calls each for every request, in order.
func Read(r io.Reader, o Options, each func(*Item)) (Counts, error) {
	in, err := Unpack(r)
	if err != nil {
		return Counts{}, err
	}
	if o.Format == "" {
		head, _ := in.Peek(detectSize)
		o.Format = Detect(head)
	}
	f := formOf(o.Format)
	return f.read(in, o, each)
}

// Damaged is the error of a list that is cut or damaged: what was read before it is
// good.
type Damaged struct{ Err error }

func (e *Damaged) Error() string { return fmt.Sprintf("it is cut off or damaged (%v)", e.Err) }
func (e *Damaged) Unwrap() error { return e.Err }

// unpacker tells of a damaged stream.
type unpacker struct{ io.Reader }

func (u unpacker) Read(b []byte) (int, error) {
	n, err := u.Reader.Read(b)
	if err != nil && err != io.EOF {
		err = &Damaged{Err: err}
	}
	return n, err
}

const detectSize = 4096

// maxWindow bounds the memory that an unpacked stream may ask for.
const maxWindow = 64 << 20

// unpackedSize is less than what is asked for at once where much is: that is not copied
// once more.
const unpackedSize = 32 << 10

// Unpack gives the content of a gzip or zstd stream, or of a plain one.
func Unpack(r io.Reader) (*bufio.Reader, error) {
	in := bufio.NewReaderSize(r, 256<<10)
	head, _ := in.Peek(4)
	switch {
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		z, err := gzip.NewReader(in)
		if err != nil {
			return nil, fmt.Errorf("the list is not a whole gzip file: %w", err)
		}
		return bufio.NewReaderSize(unpacker{z}, unpackedSize), nil
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		z, err := zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxWindow))
		if err != nil {
			return nil, fmt.Errorf("the list is not a whole zstd file: %w", err)
		}
		return bufio.NewReaderSize(unpacker{z}, unpackedSize), nil
	}
	return in, nil
}

// Packed reports whether a list that begins with head is a gzip or zstd stream.
func Packed(head []byte) bool {
	return bytes.HasPrefix(head, []byte{0x1f, 0x8b}) || bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd})
}

// Detect tells the format of a list by its first bytes.
func Detect(head []byte) Format {
	head = bytes.TrimPrefix(head, []byte("\ufeff"))
	text := bytes.TrimLeft(head, " \t\r\n")
	for i := range forms {
		if forms[i].detect(text) {
			return forms[i].name
		}
	}
	return FormatPlain
}

// topNames gives the names of a JSON object, each with the first byte of its value, as far
// as head goes: those of others, further in, do not count.
func topNames(head []byte) map[string]byte {
	names := map[string]byte{}
	d := json.NewDecoder(bytes.NewReader(head))
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return names
	}
	for {
		t, err := d.Token()
		name, ok := t.(string)
		if err != nil || !ok {
			return names
		}
		if begins := bytes.TrimLeft(head[d.InputOffset():], " \t\r\n:"); len(begins) > 0 {
			names[name] = begins[0]
		}
		var value json.RawMessage
		if d.Decode(&value) != nil {
			return names
		}
	}
}
