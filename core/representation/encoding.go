// Package representation is about what is sent for a resource: its media type, its
// encodings, and whether all of it is sent, a part, or nothing since it is known.
package representation

import (
	"bytes"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"kibitz/core/request"
)

// Suffixes are what the names of stored encodings end with.
var Suffixes = map[string]string{"br": ".br", "zstd": ".zst", "gzip": ".gz"}

// Weights are those of encodings (RFC 9110, 12.5.3).
type Weights map[string]float64

// Encodings reads an Accept-Encoding field.
func Encodings(field string) Weights {
	w := Weights{}
	for name, q := range request.Weighted(field) {
		if name == "x-gzip" {
			name = "gzip"
		}
		w[name] = q
	}
	return w
}

// Of gives the weight of an encoding; 0 is not accepted.
func (w Weights) Of(name string) float64 {
	if q, ok := w[name]; ok {
		return q
	}
	if q, ok := w["*"]; ok {
		return q
	}
	if name == "identity" {
		return 0.0001 // acceptable, but after all that is named
	}
	return 0
}

// Encode gives content in an encoding (br, zstd or gzip); level 0 is a middling
// one.
func Encode(content []byte, name string, level int) []byte {
	var b bytes.Buffer
	switch name {
	case "br":
		if level == 0 {
			level = 5
		}
		w := brotli.NewWriterLevel(&b, level)
		w.Write(content)
		w.Close()
	case "zstd":
		z := zstd.SpeedDefault
		if level > 0 {
			z = zstd.EncoderLevelFromZstd(2 * level)
		}
		// The window of RFC 9659, that every client can hold.
		w, _ := zstd.NewWriter(nil, zstd.WithEncoderLevel(z), zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(8<<20))
		return w.EncodeAll(content, nil)
	default:
		if level == 0 {
			level = 6
		}
		w, _ := gzip.NewWriterLevel(&b, min(level, 9))
		w.Write(content)
		w.Close()
	}
	return b.Bytes()
}
