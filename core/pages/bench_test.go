package pages

import (
	"fmt"
	"strings"
	"testing"

	"kibitz/core/engine"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// BenchmarkPages reads 5,000 pages of 40 links and follows them.
func BenchmarkPages(b *testing.B) {
	files := map[string]string{}
	for n := range 5000 {
		var text strings.Builder
		text.WriteString("<!doctype html><title>A page</title><link rel=stylesheet href=/site.css>")
		for l := range 40 {
			fmt.Fprintf(&text, "<p>Some words about a crossing, and <a href=\"/f%d/p%d.html\">where it leads</a>.</p>\n", (n+l)%50, (n*7+l*131)%5000)
		}
		files[fmt.Sprintf("/f%d/p%d.html", n%50, n)] = text.String()
	}
	files["/site.css"] = "body { background: url(/sea.png) }"
	book, err := rulebook.Read("b.kibitz", []byte("site s address https://s.example files public\nredirect secure when scheme http to https://{host}{path} as permanent\n"), nil)
	if err != nil {
		b.Fatal(err)
	}
	e := engine.New(book, []*site.Tree{site.Memory(files)})
	for b.Loop() {
		if all := Of(e); len(all.Pages) != 5001 {
			b.Fatal(len(all.Pages))
		}
	}
}
