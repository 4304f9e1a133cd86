package engine

import (
	"bytes"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// compression is what the compress entries say for a request.
type compression struct {
	using  []string
	types  []string
	over   int64
	level  int
	stored bool
	by     *rulebook.Rule
}

var siblings = map[string]string{"br": ".br", "zstd": ".zst", "gzip": ".gz"}

// compressible are the media types that shrink, where no entry names any: texts, and
// what holds numbers as they are. `*+xml` and `*+json` are all with these suffixes
// (RFC 6838, 4.2.8).
var compressible = []string{"text/*", "*+xml", "*+json", "application/javascript", "application/json", "application/json5", "application/x-ndjson", "application/xml", "application/xml-dtd", "application/yaml", "application/toml", "application/sql", "application/rtf", "application/wasm",
	"application/vnd.apple.mpegurl", "audio/mpegurl", "application/postscript", "application/pem-certificate-chain", "application/x-subrip", "application/x-sh", "application/x-plist", "application/n-triples", "application/n-quads", "application/trig", "application/sparql-query", "application/mbox",
	"application/msword", "application/vnd.ms-excel", "application/vnd.ms-powerpoint", "application/vnd.ms-fontobject", "application/x-tar", "application/vnd.sqlite3", "application/dicom",
	"image/bmp", "image/vnd.microsoft.icon", "image/x-icon", "font/ttf", "font/otf", "font/collection", "audio/wav", "audio/aiff", "model/obj", "model/mtl", "model/stl", "model/step", "model/gltf-binary"}

// compression gathers the points of the compress entries; nil if none fits.
func (s *state) compression() *compression {
	if s.site.groups[groupCompress] == nil {
		return nil
	}
	c := &compression{using: []string{"br", "zstd", "gzip"}, types: compressible, over: 256, stored: true}
	if !s.point(groupCompress, func(a *rulebook.Compress) bool { return true }, func(*rulebook.Compress) {}, &c.by) {
		return nil
	}
	s.point(groupCompress, func(a *rulebook.Compress) bool { return a.Using != nil }, func(a *rulebook.Compress) { c.using = a.Using }, &c.by)
	s.point(groupCompress, func(a *rulebook.Compress) bool { return a.Types != nil }, func(a *rulebook.Compress) { c.types = a.Types }, nil)
	s.point(groupCompress, func(a *rulebook.Compress) bool { return a.Over >= 0 }, func(a *rulebook.Compress) { c.over = a.Over }, nil)
	s.point(groupCompress, func(a *rulebook.Compress) bool { return a.Level > 0 }, func(a *rulebook.Compress) { c.level = a.Level }, nil)
	s.point(groupCompress, func(a *rulebook.Compress) bool { return a.Stored != nil }, func(a *rulebook.Compress) { c.stored = *a.Stored }, nil)
	return c
}

func (s *state) point(g group, says func(*rulebook.Compress) bool, take func(*rulebook.Compress), by **rulebook.Rule) bool {
	e := s.first(g, func(r *rulebook.Rule) bool { return says(r.Action.(*rulebook.Compress)) })
	if e == nil {
		return false
	}
	take(e.Action.(*rulebook.Compress))
	if by != nil {
		*by = e.Rule
	}
	return true
}

// TypeListed reports whether a media type is among types like text/html, text/* or
// *+xml.
func TypeListed(mediaType string, list []string) bool {
	return slices.ContainsFunc(list, func(t string) bool {
		return t == mediaType || t == "*/*" || strings.HasSuffix(t, "/*") && strings.HasPrefix(mediaType, t[:len(t)-1]) ||
			strings.HasPrefix(t, "*+") && strings.HasSuffix(mediaType, t[1:])
	})
}

// encode chooses the encoding of a file (RFC 9110, 12.5.3).
func (s *state) encode(r *Response) {
	c := s.compression()
	if c == nil || !TypeListed(r.Type, c.types) || extension(r.File) == packedText {
		return
	}
	r.varies = true
	if !s.light {
		r.Headers = append(r.Headers, request.Header{Name: "Vary", Value: acceptEncoding})
	}
	accepts, asked := s.req.Get("accept-encoding")
	if !asked || r.Size <= c.over {
		return
	}
	q := qualities(accepts)
	best, bestQ := "", 0.0
	for _, name := range c.using {
		if v := q.of(name); v > bestQ {
			best, bestQ = name, v
		}
	}
	if best == "" || bestQ < q.of("identity") && q.of("identity") > 0 {
		return
	}
	// A stored sibling in any accepted encoding saves the work.
	if c.stored && r.content == nil {
		for _, name := range c.using {
			sibling := s.site.tree.Find(r.File.Path + siblings[name])
			if q.of(name) < bestQ || sibling == nil || sibling.Folder || sibling.Size >= r.Size {
				continue
			}
			s.note(c.by, "the stored %s is sent (%s)", sibling.Path, name)
			s.encoded(r, name, sibling.Size)
			r.stored = sibling
			return
		}
	}
	content := r.content
	if content == nil {
		var err error
		if content, err = r.File.Read(); err != nil {
			s.note(c.by, "encoded as %s; its size is not known: %v", best, err)
			s.encoded(r, best, -1)
			return
		}
	}
	size := encodedSize(r.File, content, best, c.level, r.content == nil)
	if size >= r.Size {
		s.note(c.by, "%s would not shrink it: it is sent as it is", best)
		return
	}
	s.note(c.by, "encoded as %s: %d of %d bytes", best, size, r.Size)
	s.encoded(r, best, size)
	r.level = c.level
}

// acceptEncoding is what an answer varies by that can be encoded.
const acceptEncoding = "Accept-Encoding"

func (s *state) encoded(r *Response, name string, size int64) {
	r.Encoding, r.Encoded = name, size
	if s.light {
		return
	}
	r.set("Content-Encoding", name)
	if _, ok := r.Get("ETag"); ok {
		r.set("ETag", etag(r.File, name))
	}
}

// weights are the qualities of an Accept field.
type weights map[string]float64

// qualities reads an Accept-Encoding field (RFC 9110, 12.4.2 and 12.5.3).
func qualities(field string) weights {
	w := weights{}
	for name, q := range request.Weighted(field) {
		if name == "x-gzip" {
			name = "gzip"
		}
		w[name] = q
	}
	return w
}

// of gives the quality of an encoding; 0 is not accepted.
func (w weights) of(name string) float64 {
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

type encodedKey struct {
	node  *site.Node
	name  string
	level int
}

var encodedSizes sync.Map // encodedKey to int64

// encodedSize gives the size of a file in an encoding; it is found once.
func encodedSize(n *site.Node, content []byte, name string, level int, keep bool) int64 {
	key := encodedKey{n, name, level}
	if keep {
		if size, ok := encodedSizes.Load(key); ok {
			return size.(int64)
		}
	}
	size := int64(len(Encode(content, name, level)))
	if keep {
		encodedSizes.Store(key, size)
	}
	return size
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

// conditions decides conditional and range requests, in the order of RFC 9110,
// 13.2.2.
func (s *state) conditions(r *Response) {
	s.validators(r)
	tag, _ := r.Get("ETag")
	field, dated := r.Get("Last-Modified")
	modified, known := request.Date(field)
	dated = dated && known
	get := s.req.Get
	if v, ok := get("If-Match"); ok {
		if !tagListed(v, tag, true) {
			s.precondition(r, http.StatusPreconditionFailed, "If-Match")
			return
		}
	} else if v, ok := get("If-Unmodified-Since"); ok {
		if t, ok := request.Date(v); ok && dated && modified.After(t) {
			s.precondition(r, http.StatusPreconditionFailed, "If-Unmodified-Since")
			return
		}
	}
	if v, ok := get("If-None-Match"); ok {
		if tagListed(v, tag, false) {
			s.precondition(r, http.StatusNotModified, "If-None-Match")
			return
		}
	} else if v, ok := get("If-Modified-Since"); ok {
		if t, ok := request.Date(v); ok && dated && !modified.After(t) {
			s.precondition(r, http.StatusNotModified, "If-Modified-Since")
			return
		}
	}
	r.set("Accept-Ranges", "bytes")
	v, ok := get("Range")
	if !ok || s.req.Verb() != "GET" || r.Encoded < 0 {
		return
	}
	if cond, ok := get("If-Range"); ok {
		t, ok := request.Date(cond)
		if ok && !(dated && modified.Equal(t)) || !ok && (cond != tag || tag == "" || strings.HasPrefix(tag, "W/")) {
			s.note(nil, "If-Range does not hold: the whole is sent")
			return
		}
	}
	s.byteRange(r, v)
}

// validators are those that are sent with the whole file: what header entries say of them
// is what conditions are held against (RFC 9110, 8.8 and 13.1).
func (s *state) validators(r *Response) {
	if !s.site.validators {
		return
	}
	for pos := s.find.next(s, groupHeader, -1); pos >= 0; pos = s.find.next(s, groupHeader, pos) {
		rule := s.site.entries[pos].Rule
		a := rule.Action.(*rulebook.Header)
		if !a.For.Empty() && !a.For.Has(http.StatusOK) {
			continue
		}
		v := s.valuesOf(rule)
		for _, c := range a.Changes {
			if !isValidator(c.Name) {
				continue
			}
			_, has := r.Get(c.Name)
			value := ""
			if c.Value != nil {
				var err error
				if value, err = v.fill(c.Value.Body, forHeader); err != nil {
					continue // the answer will be an error
				}
			}
			switch {
			case c.Do == "drop":
				r.drop(c.Name)
			case c.Do == "set" || !has:
				r.set(c.Name, value)
			}
		}
	}
}

// isValidator reports whether a field is one that conditions are held against.
func isValidator(name string) bool {
	return strings.EqualFold(name, "ETag") || strings.EqualFold(name, "Last-Modified")
}

// tagListed compares entity tags (RFC 9110, 8.8.3.2).
func tagListed(field, tag string, strong bool) bool {
	if strings.TrimSpace(field) == "*" {
		return true
	}
	weak := strings.HasPrefix(tag, "W/")
	tag = strings.TrimPrefix(tag, "W/")
	for _, item := range request.List(field) {
		opaque := strings.TrimPrefix(item, "W/")
		if opaque == tag && tag != "" && (!strong || !weak && opaque == item) {
			return true
		}
	}
	return false
}

func (s *state) precondition(r *Response, status int, field string) {
	r.Status = status
	r.Cause = CauseUnchanged
	if status == http.StatusPreconditionFailed {
		r.Cause = CausePrecondition
	}
	s.note(nil, "%s decides: %d", field, status)
	r.drop("Content-Length")
	r.drop("Content-Type")
	if status == http.StatusNotModified {
		r.drop("Content-Encoding")
		r.Size, r.Encoded, r.Encoding, r.Type = 0, 0, "", ""
		return
	}
	for _, name := range []string{"Content-Encoding", "ETag", "Last-Modified", "Vary"} {
		r.drop(name)
	}
	r.File, r.Encoding = nil, ""
	s.errorPage(r)
	s.represent(r)
}

// position reads a number of a range: digits alone. One beyond any size is as large as
// can be.
func position(s string) (n int64, ok bool) {
	if s == "" || strings.Trim(s, "0123456789") != "" {
		return 0, false
	}
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil {
		n = math.MaxInt64
	}
	return n, true
}

// byteRange answers a Range field. Of several ranges none is answered: the
// whole is sent, as RFC 9110, 14.2 permits.
func (s *state) byteRange(r *Response, field string) {
	unit, spec, ok := strings.Cut(field, "=")
	if !ok || !strings.EqualFold(strings.TrimSpace(unit), "bytes") || strings.Contains(spec, ",") {
		return
	}
	from, to, ok := strings.Cut(strings.TrimSpace(spec), "-")
	if !ok {
		return
	}
	size := r.Encoded
	first, ok1 := position(from)
	last, ok2 := position(to)
	switch {
	case from == "" && ok2: // the last bytes
		first, last = max(0, size-last), size-1
		if first == size {
			first = math.MaxInt64
		}
	case !ok1 || to != "" && (!ok2 || last < first):
		return // no valid range: it is as if it were not there
	case to == "" || last >= size:
		last = size - 1
	}
	r.Cause = CauseRange
	if first >= size {
		r.Status = http.StatusRequestedRangeNotSatisfiable
		for _, name := range []string{"Content-Encoding", "ETag", "Last-Modified", "Vary", "Content-Length", "Content-Type", "Accept-Ranges"} {
			r.drop(name)
		}
		r.set("Content-Range", "bytes */"+strconv.FormatInt(size, 10))
		r.File, r.Encoding = nil, ""
		s.note(nil, "the range lies behind the end")
		s.errorPage(r)
		s.represent(r)
		return
	}
	r.Status = http.StatusPartialContent
	r.Encoded = last - first + 1
	r.first = first
	r.set("Content-Range", "bytes "+strconv.FormatInt(first, 10)+"-"+strconv.FormatInt(last, 10)+"/"+strconv.FormatInt(size, 10))
	r.set("Content-Length", strconv.FormatInt(r.Encoded, 10))
	s.note(nil, "a part is sent: bytes %d to %d of %d", first, last, size)
}
