package list

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"kibitz/core/request"
)

// A Format is a kind of request list.
type Format string

const (
	FormatPlain   Format = "plain"
	FormatCSV     Format = "csv"
	FormatJSONL   Format = "jsonl"
	FormatHAR     Format = "har"
	FormatLog     Format = "log"
	FormatW3C     Format = "w3c"
	FormatSitemap Format = "sitemap"
	FormatResults Format = "results" // what verify writes as JSON
)

// Formats are all that can be read from a file.
var Formats = []Format{FormatPlain, FormatCSV, FormatJSONL, FormatHAR, FormatLog, FormatW3C, FormatSitemap, FormatResults}

// Options say how a list is read.
type Options struct {
	Base   request.Address // of relative addresses, and of logs, which name no host
	Format Format          // "" to tell by content
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
	switch o.Format {
	case FormatCSV:
		return readCSV(in, o.Base, each)
	case FormatJSONL:
		return readJSONL(in, o.Base, each)
	case FormatHAR:
		return readHAR(in, each)
	case FormatLog:
		return readLog(in, o.Base, each)
	case FormatW3C:
		return readW3C(in, o.Base, each)
	case FormatSitemap:
		return readSitemap(in, o, each)
	case FormatResults:
		return readResults(in, o.Base, each)
	}
	return Plain(in, o.Base, each)
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
			return nil, fmt.Errorf("the list is no whole gzip file: %w", err)
		}
		return bufio.NewReaderSize(unpacker{z}, unpackedSize), nil
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		z, err := zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxWindow))
		if err != nil {
			return nil, fmt.Errorf("the list is no whole zstd file: %w", err)
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
	first, _, _ := bytes.Cut(text, []byte("\n"))
	switch {
	case bytes.HasPrefix(text, []byte("<?xml")) || bytes.HasPrefix(text, []byte("<urlset")) || bytes.HasPrefix(text, []byte("<sitemapindex")):
		return FormatSitemap
	case bytes.HasPrefix(text, []byte("{")):
		return detectObject(text)
	case bytes.HasPrefix(text, []byte("#Version:")) || bytes.HasPrefix(text, []byte("#Software:")) || bytes.HasPrefix(text, []byte("#Fields:")) || bytes.HasPrefix(text, []byte("#Date:")) || bytes.HasPrefix(text, []byte("#Start-Date:")):
		return FormatW3C
	case bytes.HasPrefix(text, []byte("[")) && bytes.Contains(head, []byte(`"url"`)):
		return FormatJSONL
	case csvComma(string(first)) != 0:
		return FormatCSV
	}
	for _, line := range bytes.SplitN(text, []byte("\n"), 20) {
		var l Line
		if len(line) > 0 && ParseLog(bytes.Clone(line), &l) == nil || looksLogged(line) {
			return FormatLog
		}
	}
	return FormatPlain
}

// looksLogged reports whether a line has the shape of an access log's, though
// its request may be none.
func looksLogged(line []byte) bool {
	open := bytes.Index(line, []byte(" ["))
	return open > 0 && open+30 < len(line) && line[open+28] == ']' && bytes.Contains(line[open:], []byte(`] "`))
}

// detectObject tells what a JSON object is by its own names: those of others, further
// in, do not count.
func detectObject(text []byte) Format {
	d := json.NewDecoder(bytes.NewReader(text))
	d.Token() // {
	for {
		name, err := d.Token()
		if err != nil || name == json.Delim('}') {
			return FormatJSONL
		}
		var value json.RawMessage
		before := d.InputOffset()
		err = d.Decode(&value)
		begins := bytes.TrimLeft(text[before:], " \t\r\n:")
		opens := func(c byte) bool { return len(begins) > 0 && begins[0] == c }
		switch {
		case name == "log" && opens('{'), name == "entries" && opens('['):
			return FormatHAR
		case name == "results" && opens('['):
			return FormatResults
		case err != nil || name == "url":
			return FormatJSONL
		}
	}
}
