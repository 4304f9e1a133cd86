package representation

// Media types, and which of them shrink.

import (
	_ "embed"
	"slices"
	"strings"
)

// mediaTypes has a row for each extension: its media type, and whence that is known:
// the IANA registry, a standard, or what servers and browsers commonly do.
//
//go:embed mediatypes.csv
var mediaTypes string

// Extensions gives the media type of a file's extension (lower case, no dot): the same
// on every machine.
var Extensions = func() map[string]string {
	rows := strings.Split(strings.TrimSpace(mediaTypes), "\n")[1:] // below the heading
	all := make(map[string]string, len(rows))
	for _, row := range rows {
		extension, rest, _ := strings.Cut(row, ",")
		all[extension], _, _ = strings.Cut(rest, ",")
	}
	return all
}()

// PackedText is the extension of pictures that are kept as gzip, and are sent so: the
// one whose media type is that of the plain file.
const PackedText = "svgz"

// Shrinking are the media types that shrink, where no entry names any: texts, and
// what holds numbers as they are. `*+xml` and `*+json` are all with these suffixes
// (RFC 6838, 4.2.8).
var Shrinking = []string{"text/*", "*+xml", "*+json", "application/javascript", "application/json", "application/json5", "application/x-ndjson", "application/xml", "application/xml-dtd", "application/yaml", "application/toml", "application/sql", "application/rtf", "application/wasm",
	"application/vnd.apple.mpegurl", "audio/mpegurl", "application/postscript", "application/pem-certificate-chain", "application/x-subrip", "application/x-sh", "application/x-plist", "application/n-triples", "application/n-quads", "application/trig", "application/sparql-query", "application/mbox",
	"application/msword", "application/vnd.ms-excel", "application/vnd.ms-powerpoint", "application/vnd.ms-fontobject", "application/x-tar", "application/vnd.sqlite3", "application/dicom",
	"image/bmp", "image/vnd.microsoft.icon", "image/x-icon", "font/ttf", "font/otf", "font/collection", "audio/wav", "audio/aiff", "model/obj", "model/mtl", "model/stl", "model/step", "model/gltf-binary"}

// TypeListed reports whether a media type is among types like text/html, text/* or
// *+xml.
func TypeListed(mediaType string, list []string) bool {
	return slices.ContainsFunc(list, func(t string) bool {
		return t == mediaType || t == "*/*" || strings.HasSuffix(t, "/*") && strings.HasPrefix(mediaType, t[:len(t)-1]) ||
			strings.HasPrefix(t, "*+") && strings.HasSuffix(mediaType, t[1:])
	})
}

// Compressible reports whether files of a media type usually shrink.
func Compressible(mediaType string) bool { return TypeListed(mediaType, Shrinking) }
