package engine

import (
	"bytes"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

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

// compressible are the media types that shrink, where no entry names any.
var compressible = []string{"text/*", "application/javascript", "application/json", "application/manifest+json", "application/xml", "application/rss+xml", "application/atom+xml", "application/ld+json", "application/geo+json", "application/wasm", "image/svg+xml", "image/bmp", "font/ttf", "font/otf"}

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

// TypeListed reports whether a media type is among types like text/html or
// text/*.
func TypeListed(mediaType string, list []string) bool {
	return slices.ContainsFunc(list, func(t string) bool {
		return t == mediaType || t == "*/*" || strings.HasSuffix(t, "/*") && strings.HasPrefix(mediaType, t[:len(t)-1])
	})
}

// encode chooses the encoding of a file (RFC 9110, 12.5.3).
func (s *state) encode(r *Response) {
	c := s.compression()
	if c == nil || !TypeListed(r.Type, c.types) {
		return
	}
	if !s.light {
		r.Headers = append(r.Headers, request.Header{Name: "Vary", Value: "Accept-Encoding"})
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
	for _, item := range strings.Split(field, ",") {
		name, params, _ := strings.Cut(item, ";")
		name = strings.ToLower(strings.TrimSpace(name))
		if name == "" {
			continue
		}
		if name == "x-gzip" {
			name = "gzip"
		}
		q := 1.0
		if key, value, ok := strings.Cut(strings.TrimSpace(params), "="); ok && strings.EqualFold(strings.TrimSpace(key), "q") {
			v, err := strconv.ParseFloat(strings.TrimSpace(value), 64)
			if err != nil || v < 0 || v > 1 {
				v = 0
			}
			q = v
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
	tag, _ := r.Get("ETag")
	modified := r.File.Modified.Truncate(time.Second)
	get := s.req.Get
	if v, ok := get("If-Match"); ok {
		if !tagListed(v, tag, true) {
			s.precondition(r, http.StatusPreconditionFailed, "If-Match")
			return
		}
	} else if v, ok := get("If-Unmodified-Since"); ok {
		if t, err := http.ParseTime(v); err == nil && modified.After(t) {
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
		if t, err := http.ParseTime(v); err == nil && !modified.After(t) && !r.File.Modified.IsZero() {
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
		t, err := http.ParseTime(cond)
		if err == nil && !modified.Equal(t) || err != nil && (cond != tag || tag == "") {
			s.note(nil, "If-Range does not hold: the whole is sent")
			return
		}
	}
	s.byteRange(r, v)
}

// tagListed compares entity tags (RFC 9110, 8.8.3.2).
func tagListed(field, tag string, strong bool) bool {
	if strings.TrimSpace(field) == "*" {
		return true
	}
	for _, item := range strings.Split(field, ",") {
		item = strings.TrimSpace(item)
		if !strong {
			item = strings.TrimPrefix(item, "W/")
		}
		if item == tag && tag != "" {
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
	first, err1 := strconv.ParseInt(from, 10, 64)
	last, err2 := strconv.ParseInt(to, 10, 64)
	switch {
	case from == "" && err2 == nil && last >= 0: // the last bytes
		first, last = max(0, size-last), size-1
		if to == "0" || size == 0 {
			first = size
		}
	case err1 != nil || first < 0 || to != "" && (err2 != nil || last < first):
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
