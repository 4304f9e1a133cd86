package list

// Sitemaps, as sitemaps.org describes them.

import (
	"bufio"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/url"
	"path"
	"strings"

	"kibitz/core/request"
)

const FormatSitemap Format = "sitemap"

func init() {
	register(form{name: FormatSitemap, rank: rankMarkup, read: readSitemap, detect: func(head []byte) bool {
		return bytes.HasPrefix(head, []byte("<?xml")) || bytes.HasPrefix(head, []byte("<urlset")) || bytes.HasPrefix(head, []byte("<sitemapindex"))
	}})
}

const maxSitemaps = 1000

// readSitemap reads sitemaps.org XML: every address is expected to answer 200
// itself. Of an index the sitemaps beside it are read. Its lines are addresses.
func readSitemap(in *bufio.Reader, o Options, each func(*Item)) (Counts, error) {
	c := Counts{Of: "address"}
	maps, err := sitemap(in, o.Base, &c, each)
	seen := map[string]bool{}
	for i := 0; i < len(maps) && err == nil; i++ {
		c.Comments++ // the line that names it
		name := maps[i]
		if u, err := url.Parse(name); err == nil {
			name = path.Base(u.Path)
		}
		if seen[name] {
			continue
		}
		seen[name] = true
		if o.Open == nil || i >= maxSitemaps {
			c.Comments--
			c.skip(c.Lines, 1, "the sitemap %s is not read", name)
			continue
		}
		other, err := o.Open(name)
		if err != nil {
			c.Comments--
			c.skip(c.Lines, 1, "the sitemap %s cannot be read beside its index: %v", name, err)
			continue
		}
		unpacked, err := Unpack(other)
		if err == nil {
			var more []string
			more, err = sitemap(unpacked, o.Base, &c, each)
			maps = append(maps, more...)
		}
		other.Close()
		if err != nil {
			return c, err
		}
	}
	return c, err
}

// sitemap reads one file, and gives the sitemaps that it names.
func sitemap(in io.Reader, base request.Address, c *Counts, each func(*Item)) (maps []string, err error) {
	limited := &limitedReader{in: in}
	d := xml.NewDecoder(bufio.NewReader(limited))
	inIndex, depth := false, 0
	for {
		limited.left = MaxLine
		t, err := d.Token()
		if err == io.EOF {
			return maps, nil
		}
		if err == errLong {
			err = fmt.Errorf("an element is longer than %d MiB", MaxLine>>20)
		}
		if err != nil {
			line, _ := d.InputPos()
			c.Lines++
			c.skip(line, 1, "the XML cannot be read any further: %v", err)
			if _, syntax := errors.AsType[*xml.SyntaxError](err); syntax {
				return maps, nil
			}
			return maps, &Damaged{err}
		}
		if _, ok := t.(xml.EndElement); ok {
			depth--
		}
		start, ok := t.(xml.StartElement)
		if !ok {
			continue
		}
		if depth++; depth > maxDepth {
			return maps, &Damaged{fmt.Errorf("more than %d elements lie in each other", maxDepth)}
		}
		switch start.Name.Local {
		case "sitemapindex":
			inIndex = true
		case "loc":
			line, _ := d.InputPos()
			var loc string
			if err := d.DecodeElement(&loc, &start); err != nil {
				continue // the next token tells
			}
			depth--
			loc = strings.TrimSpace(loc)
			c.Lines++
			switch {
			case inIndex && len(maps) < maxSitemaps:
				maps = append(maps, loc)
				continue
			case inIndex:
				c.skip(line, 1, "an index names at most %d sitemaps: %s is not read", maxSitemaps, loc)
				continue
			}
			item := &Item{Request: &request.Request{}, Line: line, Expects: &request.Expectation{Status: "200"}}
			item.Request.Address, err = request.Parse(loc, base)
			c.take(line, item, err, each)
		}
	}
}

// A limitedReader gives no more than what is left of a bound.
type limitedReader struct {
	in   io.Reader
	left int
}

func (l *limitedReader) Read(b []byte) (int, error) {
	if l.left <= 0 {
		return 0, errLong
	}
	n, err := l.in.Read(b[:min(len(b), l.left)])
	l.left -= n
	return n, err
}
