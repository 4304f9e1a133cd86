package replay

import (
	"bytes"
	"os"
	"testing"

	"kibitz/core/engine"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

func BenchmarkFile(b *testing.B) {
	name := os.Getenv("BOOK")
	if name == "" {
		b.Skip()
	}
	book, _ := rulebook.Load(name)
	inv, _ := os.ReadFile(book.Sites[0].Inventory)
	tree, _ := site.Inventory(bytes.NewReader(inv))
	e := engine.New(book, []*site.Tree{tree})
	f, _ := os.Open(os.Getenv("LOG"))
	info, _ := f.Stat()
	for b.Loop() {
		LogFile(e, "x", f, info.Size(), Options{Workers: 1}, func(int64) {})
	}
}
