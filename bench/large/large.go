// Package large has four large rulebooks, good by intent, with the trees that they are
// for: a town, a shop, a university department with three sites, and a manual with
// versions.
package large

import (
	"embed"
	"io/fs"
	"path"
	"strconv"
	"strings"

	"kibitz/core/engine"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

//go:embed town shop department manual
var files embed.FS

// Names are the rulebooks.
var Names = []string{"town", "shop", "department", "manual"}

// A Book is one of them.
type Book struct {
	Name  string
	Text  string
	trees map[string]*site.Tree // by the folder of a site
}

// Open reads a rulebook and its trees.
func Open(name string) (*Book, error) {
	text, err := fs.ReadFile(files, name+"/site.kibitz")
	if err != nil {
		return nil, err
	}
	listing, err := fs.ReadFile(files, name+"/tree.txt")
	if err != nil {
		return nil, err
	}
	pages := map[string]map[string]string{}
	for _, line := range strings.Fields(string(listing)) {
		for _, at := range spread(line) {
			folder, file, _ := strings.Cut(at, "/")
			if folder == "" {
				folder = "public"
			}
			if pages[folder] == nil {
				pages[folder] = map[string]string{}
			}
			pages[folder]["/"+file] = contentOf(at)
		}
	}
	b := &Book{Name: name, Text: string(text), trees: map[string]*site.Tree{}}
	for folder, list := range pages {
		b.trees[folder] = site.Memory(list)
	}
	return b, nil
}

// contentOf gives what stands in a file: texts are long enough to be worth compressing.
func contentOf(at string) string {
	switch path.Ext(at) {
	case ".html", ".css", ".js", ".txt", ".csv", ".xml", ".svg":
		return strings.Repeat("Text of "+at+". ", 80)
	}
	return at
}

// Load compiles a text in the place of the book's own.
func (b *Book) Load(text string) (*engine.Engine, error) {
	book, err := rulebook.Read("site.kibitz", []byte(text), b.ReadFile)
	if err != nil {
		return nil, err
	}
	var trees []*site.Tree
	for _, s := range book.Sites {
		trees = append(trees, b.trees[s.Files])
	}
	return engine.New(book, trees), nil
}

// ReadFile gives the content of a file that the rulebook names.
func (b *Book) ReadFile(name string) ([]byte, error) { return fs.ReadFile(files, b.Name+"/"+name) }

// spread gives the names that braces stand for: {a,b} and {1..9}.
func spread(s string) []string {
	begin := strings.IndexByte(s, '{')
	if begin < 0 {
		return []string{s}
	}
	end := begin + strings.IndexByte(s[begin:], '}')
	var words []string
	for _, word := range strings.Split(s[begin+1:end], ",") {
		from, to, numbers := strings.Cut(word, "..")
		first, err := strconv.Atoi(from)
		last, err2 := strconv.Atoi(to)
		if !numbers || err != nil || err2 != nil {
			words = append(words, word)
			continue
		}
		for n := first; n <= last; n++ {
			words = append(words, strconv.Itoa(n))
		}
	}
	var out []string
	for _, rest := range spread(s[end+1:]) {
		for _, word := range words {
			out = append(out, s[:begin]+word+rest)
		}
	}
	return out
}
