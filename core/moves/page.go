package moves

// What is known of a page: its name in words, where it lies, and its content where that is
// at hand.

import (
	"bytes"
	"hash/fnv"
	"path"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/net/html"
	"golang.org/x/text/unicode/norm"

	"kibitz/core/canonical"
	"kibitz/core/site"
)

// A page is an address, old or new.
type page struct {
	address  string   // as it is asked for: a folder's page as the folder
	joined   string   // its name without what parts words
	numbered bool     // that is its folder's: its own is a number
	words    []string // of the name
	folders  []string // the words of the folders that it lies in
	folder   string   // these, with each number as #
	numbers  []string // of name and folders
	home     bool     // it is what the site's own page is called
	kind     string   // page, image, document, …
	title    []string
	text     []uint64 // shingles of its text
	digest   uint64   // of its content; 0 where that is not known
}

// kinds are those of files, by their extensions.
var kinds = map[string]string{
	"": "page", "html": "page", "htm": "page", "xhtml": "page", "shtml": "page", "php": "page", "asp": "page", "aspx": "page", "jsp": "page", "cfm": "page", "cgi": "page", "pl": "page",
	"png": "image", "jpg": "image", "jpeg": "image", "gif": "image", "svg": "image", "webp": "image", "avif": "image", "bmp": "image", "ico": "image",
	"pdf": "document", "doc": "document", "docx": "document", "odt": "document", "rtf": "document", "txt": "document", "csv": "table", "xls": "table", "xlsx": "table", "ods": "table",
	"css": "style", "js": "script", "mjs": "script", "zip": "archive", "gz": "archive", "mp3": "sound", "ogg": "sound", "mp4": "film", "webm": "film",
}

// empty are words that say nothing of a page.
var empty = map[string]bool{"index": true, "page": true, "item": true, "view": true, "default": true, "home": true, "show": true, "detail": true, "details": true, "article": true, "node": true, "id": true, "html": true, "www": true}

var (
	letters = strings.NewReplacer("ß", "ss", "æ", "a", "œ", "o", "ø", "o", "ł", "l")
	umlauts = strings.NewReplacer("ae", "a", "oe", "o", "ue", "u")
)

// homes are what the page of a site is commonly called.
var homes = []string{"index", "default", "home", "welcome", "main", "start"}

// fold gives a text in small letters without marks, as two spellings of a name are one.
func fold(s string) string {
	s = strings.ToLower(s)
	if strings.ContainsFunc(s, func(r rune) bool { return r >= utf8.RuneSelf }) {
		s = strings.Map(func(r rune) rune {
			if unicode.Is(unicode.Mn, r) {
				return -1
			}
			return r
		}, norm.NFD.String(letters.Replace(s)))
	}
	return umlauts.Replace(s)
}

// wordsOf parts a name at all that is not a letter, at capitals, and between letters and
// digits.
func wordsOf(name string) (words, numbers []string) {
	var word []rune
	last := rune(0)
	end := func() {
		if len(word) == 0 {
			return
		}
		w := fold(string(word))
		word = word[:0]
		switch {
		case w == "":
		case w[0] >= '0' && w[0] <= '9':
			numbers = append(numbers, strings.TrimLeft(w, "0"))
		case !empty[w]:
			words = append(words, w)
		}
	}
	for _, r := range name {
		switch {
		case !unicode.IsLetter(r) && !unicode.IsDigit(r) && !unicode.Is(unicode.Mn, r):
			end()
		case unicode.IsDigit(r) != unicode.IsDigit(last) && len(word) > 0, unicode.IsUpper(r) && unicode.IsLower(last):
			end()
			word = append(word, r)
		default:
			word = append(word, r)
		}
		last = r
	}
	end()
	return words, numbers
}

// pageOf looks at an address: a canonical path.
func pageOf(at string) *page {
	p := &page{address: at}
	decoded := canonical.Decode(at)
	folder, name := path.Split(decoded)
	ext := strings.ToLower(strings.TrimPrefix(path.Ext(name), "."))
	stem := strings.TrimSuffix(name, path.Ext(name))
	if len(ext) > 5 || strings.ContainsAny(ext, " -_") {
		ext, stem = "", name
	}
	p.kind = kinds[ext]
	if p.kind == "" {
		p.kind = ext
	}
	if words, numbers := wordsOf(stem); len(words)+len(numbers) == 0 && folder != "/" { // a folder's page
		folder, stem = path.Split(strings.TrimSuffix(folder, "/"))
	}
	var own, of []string
	p.words, own = wordsOf(stem)
	above := folder
	if len(p.words) == 0 && len(own) > 0 { // what has but a number is called as its folder is
		outer, last := path.Split(strings.TrimSuffix(folder, "/"))
		if words, numbers := wordsOf(last); len(words) > 0 {
			p.words, own, above, p.numbered = words, append(own, numbers...), outer, true
		}
	}
	p.folders, of = wordsOf(above)
	p.numbers = append(own, of...)
	p.joined = strings.Join(p.words, "")
	p.home = folder == "/" && slices.Contains(homes, strings.ToLower(stem)) && p.kind == "page"
	p.folder = strings.Map(func(r rune) rune {
		if unicode.IsDigit(r) {
			return '#'
		}
		return r
	}, strings.ToLower(folder))
	return p
}

// most is how much of a page is read, in bytes.
const most = 256 << 10

// read takes what a file holds.
func (p *page) read(n *site.Node) {
	if n == nil || n.Folder {
		return
	}
	content, err := n.Beginning(most)
	if err != nil || len(content) == 0 {
		return
	}
	sum := fnv.New64a()
	sum.Write(content)
	if p.digest = sum.Sum64(); p.kind == "page" {
		p.parse(content)
	}
}

// parse takes title, heading and text of a page, as browsers read it.
func (p *page) parse(content []byte) {
	z := html.NewTokenizer(bytes.NewReader(content))
	inside, skip := "", 0
	var text []string
	for {
		switch z.Next() {
		case html.ErrorToken:
			p.text = shingles(text)
			return
		case html.StartTagToken:
			switch name, _ := z.TagName(); string(name) {
			case "script", "style", "nav", "header", "footer":
				skip++
			case "title", "h1":
				inside = string(name)
			}
		case html.EndTagToken:
			switch name, _ := z.TagName(); string(name) {
			case "script", "style", "nav", "header", "footer":
				skip = max(0, skip-1)
			case "title", "h1":
				inside = ""
			}
		case html.TextToken:
			if skip > 0 {
				continue
			}
			words, _ := wordsOf(string(z.Text()))
			if inside != "" {
				for _, w := range words {
					if !slices.Contains(p.title, w) {
						p.title = append(p.title, w)
					}
				}
			} else if len(text) < 20_000 {
				text = append(text, words...)
			}
		}
	}
}

// shingles are hashes of each four words in a row, of which every fourth or so is kept.
func shingles(words []string) (out []uint64) {
	keep := uint64(4)
	if len(words) < 60 {
		keep = 1
	}
	for i := 0; i+4 <= len(words); i++ {
		sum := fnv.New64a()
		for _, w := range words[i : i+4] {
			sum.Write([]byte(w))
			sum.Write([]byte{' '})
		}
		if h := sum.Sum64(); h%keep == 0 {
			out = append(out, h)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
