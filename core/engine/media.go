package engine

import (
	_ "embed"
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

// packedText is the extension of pictures that are kept as gzip, and are sent so: the
// one whose media type is that of the plain file.
const packedText = "svgz"
