package engine

import (
	"net/http"
	"strconv"
	"strings"

	"kibitz/core/representation"
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

// compression gathers the points of the compress entries; nil if none fits.
func (s *state) compression() *compression {
	if s.site.groups[groupCompress] == nil {
		return nil
	}
	c := &compression{using: []string{"br", "zstd", "gzip"}, types: representation.Shrinking, over: 256, stored: true}
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

// encode chooses the encoding of a file (RFC 9110, 12.5.3).
func (s *state) encode(r *Response) {
	c := s.compression()
	if c == nil || !representation.TypeListed(r.Type, c.types) || extension(r.File) == representation.PackedText {
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
	q := representation.Encodings(accepts)
	best, bestQ := "", 0.0
	for _, name := range c.using {
		if v := q.Of(name); v > bestQ {
			best, bestQ = name, v
		}
	}
	if best == "" || bestQ < q.Of("identity") && q.Of("identity") > 0 {
		return
	}
	// A stored sibling in any accepted encoding saves the work.
	if c.stored && r.content == nil {
		for _, name := range c.using {
			sibling := s.site.tree.Find(r.File.Path + representation.Suffixes[name])
			if q.Of(name) < bestQ || sibling == nil || sibling.Folder || sibling.Size >= r.Size {
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
		if r.Size > site.MaxWhole {
			s.note(c.by, "it is larger than %d MiB, and is sent as it is: only files up to that are encoded", site.MaxWhole>>20)
			return
		}
		var err error
		if content, err = r.File.Read(); err != nil {
			s.note(c.by, "encoded as %s; its size is not known: %v", best, err)
			s.encoded(r, best, -1)
			return
		}
	}
	size := s.site.encodedSize(r.File, content, best, c.level, r.content == nil)
	if size >= r.Size {
		s.note(c.by, "%s would not shrink it: it is sent as it is", best)
		return
	}
	s.note(c.by, "encoded as %s: %d%% of its size", best, (100*size+r.Size/2)/r.Size)
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

type encodedKey struct {
	node  *site.Node
	name  string
	level int
}

// encodedSize gives the size of a file in an encoding; it is found once.
func (s *siteEngine) encodedSize(n *site.Node, content []byte, name string, level int, keep bool) int64 {
	key := encodedKey{n, name, level}
	if keep {
		if size, ok := s.encoded.Load(key); ok {
			return size.(int64)
		}
	}
	size := int64(len(representation.Encode(content, name, level)))
	if keep {
		s.encoded.Store(key, size)
	}
	return size
}

// conditions decides conditional and range requests, in the order of RFC 9110,
// 13.2.2.
func (s *state) conditions(r *Response) {
	s.validators(r)
	var v representation.Validators
	v.Tag, _ = r.Get("ETag")
	field, dated := r.Get("Last-Modified")
	v.Modified, v.Dated = request.Date(field)
	v.Dated = v.Dated && dated
	if status, decides := v.Condition(s.req.Get); status != 0 {
		s.precondition(r, status, decides)
		return
	}
	r.set("Accept-Ranges", "bytes")
	part, ok := s.req.Get("Range")
	if !ok || s.req.Verb() != "GET" || r.Encoded < 0 {
		return
	}
	if cond, ok := s.req.Get("If-Range"); ok && !v.IfRange(cond) {
		s.note(nil, "If-Range does not hold: the whole is sent")
		return
	}
	s.byteRange(r, part)
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
	size := r.Encoded
	first, last, ok := representation.Range(field, size)
	if !ok {
		return
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
