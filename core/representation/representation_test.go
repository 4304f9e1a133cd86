package representation

import (
	"strings"
	"testing"
)

// The table of media types: every row is whole, and names whence it is known.
func TestMediaTypes(t *testing.T) {
	rows := strings.Split(strings.TrimSpace(mediaTypes), "\n")
	if rows[0] != "extension,type,source" || len(rows) < 400 {
		t.Errorf("%d rows below %s", len(rows), rows[0])
	}
	last := ""
	for _, row := range rows[1:] {
		f := strings.Split(row, ",")
		if len(f) != 3 || f[0] <= last || strings.ToLower(f[0]+f[1]) != f[0]+f[1] || strings.Count(f[1], "/") != 1 || f[2] == "" {
			t.Errorf("%s behind %s", row, last)
			continue
		}
		last = f[0]
	}
	for ext, want := range map[string]string{
		"html": "text/html", "js": "text/javascript", "mjs": "text/javascript", "m3u8": "application/vnd.apple.mpegurl", "mpd": "application/dash+xml", "ts": "video/mp2t", "mpg": "video/mpeg", "apng": "image/apng", "svgz": "image/svg+xml",
		"glb": "model/gltf-binary", "ttc": "font/collection", "pem": "application/pem-certificate-chain", "ini": "text/plain", "xsd": "application/xml", "rdf": "application/rdf+xml", "docm": "application/vnd.ms-word.document.macroenabled.12", "odg": "application/vnd.oasis.opendocument.graphics",
		"woff2": "font/woff2", "ico": "image/vnd.microsoft.icon", "webmanifest": "application/manifest+json", "wasm": "application/wasm", "ics": "text/calendar",
	} {
		if Extensions[ext] != want {
			t.Errorf(".%s: %s, want %s", ext, Extensions[ext], want)
		}
	}
}

func TestWeightsOfEncodings(t *testing.T) {
	q := Encodings("x-gzip;x=1;q=0.5, br;q=0")
	for name, want := range map[string]float64{"gzip": 0.5, "br": 0, "zstd": 0, "identity": 0.0001} {
		if got := q.Of(name); got != want {
			t.Errorf("%s: %v, want %v", name, got, want)
		}
	}
	if q := Encodings("*;q=0.1, gzip"); q.Of("gzip") != 1 || q.Of("br") != 0.1 || q.Of("identity") != 0.1 {
		t.Errorf("%v", q)
	}
}

func TestRanges(t *testing.T) {
	for field, want := range map[string][3]int64{"bytes=0-2": {0, 2, 1}, "bytes=3-": {3, 9, 1}, "bytes=-4": {6, 9, 1}, "BYTES = 0-99": {0, 9, 1}, "bytes=0-1,3-4": {}, "lines=0-1": {}, "bytes=2-1": {}, "bytes=x-1": {}, "bytes=12-": {12, 9, 1}} {
		first, last, ok := Range(field, 10)
		if ok != (want[2] == 1) || ok && (first != want[0] || last != want[1]) {
			t.Errorf("%s: %d to %d, %v", field, first, last, ok)
		}
	}
}
