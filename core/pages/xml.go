package pages

// Sitemaps, feeds, pictures in SVG, web app manifests, robots.txt.

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"io"
	"strings"
)

// readXML reads a sitemap (sitemaps.org), a feed (RFC 4287, RSS), or a picture (SVG).
func readXML(f *File, content []byte) {
	d := xml.NewDecoder(bytes.NewReader(content))
	d.Strict = false
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil } // it is UTF-8 by now
	var path []string
	var text strings.Builder
	begun := 0
	for {
		begin := int(d.InputOffset())
		t, err := d.RawToken()
		if err != nil {
			return
		}
		end := int(d.InputOffset())
		switch t := t.(type) {
		case xml.StartElement:
			path = append(path, t.Name.Local)
			text.Reset()
			begun = end
			f.readElement(path, t, content[begin:end], begin)
		case xml.CharData:
			if text.Len() == 0 {
				begun = begin
			}
			text.Write(t)
		case xml.EndElement:
			if len(path) == 0 {
				return
			}
			f.readText(path, text.String(), content, begun, begin)
			path = path[:len(path)-1]
			text.Reset()
		}
	}
}

// readElement reads the attributes of an element.
func (f *File) readElement(path []string, t xml.StartElement, tag []byte, at int) {
	spans := valuesOf(tag)
	if len(spans) != len(t.Attr) {
		return
	}
	get := func(name string) string {
		for _, a := range t.Attr {
			if a.Name.Local == name {
				return a.Value
			}
		}
		return ""
	}
	root := path[0]
	for i, a := range t.Attr {
		v := attribute{name: a.Name.Local, value: a.Value, raw: string(spans[i].value), at: at + spans[i].at}
		add := func(use Use) { f.addAll(use, v.value, v.where, InMarkup) }
		switch name := v.name; {
		case root == "svg" && name == "id":
			f.IDs[v.value] = true
		case root == "svg" && name == "style":
			f.readCSS([]byte(v.value), v.where, InBoth)
		case root == "svg" && name == "href" && !strings.HasPrefix(v.value, "#"):
			switch t.Name.Local {
			case "a":
				add(Hyperlink)
			case "image", "use", "feImage":
				add(Image)
			case "script":
				add(Script)
			}
		case root == "feed" && name == "href" && t.Name.Local == "link" && get("rel") != "self":
			add(Hyperlink)
		case root == "urlset" && name == "href" && t.Name.Local == "link":
			add(Alternate)
		case root == "rss" && name == "url" && (t.Name.Local == "enclosure" || t.Name.Local == "content"):
			add(Hyperlink)
		}
	}
}

// readText reads the text of an element.
func (f *File) readText(path []string, text string, content []byte, begin, end int) {
	use := Use("")
	switch name, root := path[len(path)-1], path[0]; {
	case root == "urlset" && name == "loc" && len(path) == 3:
		use = Entry
	case root == "urlset" && name == "loc":
		use = Image // of an image in an entry
	case root == "sitemapindex" && name == "loc":
		use = Sitemap
	case (root == "rss" || root == "RDF") && name == "link":
		use = Hyperlink
	case root == "svg" && name == "style":
		f.readCSS(content[begin:end], plainMap(begin), InStyle)
		return
	}
	if use == "" || strings.Trim(text, blanks) == "" {
		return
	}
	raw := string(content[begin:end])
	if strings.Contains(raw, "<") { // a section of plain text, or a comment, is in it
		f.addAll(use, text, func(int, int) (int, int) { return begin, 0 }, InMarkup)
		return
	}
	f.addAll(use, text, attribute{value: text, raw: raw, at: begin}.where, InMarkup)
}

// readManifest reads the manifest of a web application (W3C).
func readManifest(f *File, content []byte) {
	d := json.NewDecoder(bytes.NewReader(content))
	type level struct {
		key    string
		object bool
		value  bool // what comes next is the value of the key
	}
	var path []level
	within := func(key string) bool {
		for _, l := range path[:max(0, len(path)-1)] {
			if l.key == key {
				return true
			}
		}
		return false
	}
	for {
		begin := int(d.InputOffset())
		t, err := d.Token()
		if err != nil {
			return
		}
		end := int(d.InputOffset())
		top := len(path) - 1
		if s, ok := t.(string); ok && top >= 0 && path[top].object && !path[top].value {
			path[top].key, path[top].value = s, true
			continue
		}
		if s, ok := t.(string); ok && top >= 0 && path[top].object {
			use := Use("")
			switch key := path[top].key; {
			case key == "start_url" && top == 0, key == "url" && within("shortcuts"), key == "action":
				use = Hyperlink
			case key == "src":
				use = Image
			}
			if use != "" {
				at := begin + bytes.IndexByte(content[begin:end], '"') + 1
				raw := string(content[at : end-1])
				f.addAll(use, s, func(from, to int) (int, int) {
					if raw != s {
						return at, 0
					}
					return at + from, to - from
				}, InJSON)
			}
		}
		if top >= 0 {
			path[top].value = false
		}
		switch t {
		case json.Delim('{'), json.Delim('['):
			path = append(path, level{object: t == json.Delim('{')})
		case json.Delim('}'), json.Delim(']'):
			path = path[:max(0, len(path)-1)]
			if top := len(path) - 1; top >= 0 {
				path[top].value = false
			}
		}
	}
}

// readRobots reads the sitemaps that robots.txt names (RFC 9309, 2.2.4).
func readRobots(f *File, content []byte) {
	at := 0
	for line := range strings.SplitAfterSeq(string(content), "\n") {
		name, rest, ok := strings.Cut(line, ":")
		if value, _, _ := strings.Cut(rest, "#"); ok && strings.EqualFold(strings.TrimSpace(name), "sitemap") && strings.Trim(value, blanks) != "" {
			f.addAll(Sitemap, value, plainMap(at+len(name)+1), InText)
		}
		at += len(line)
	}
}
