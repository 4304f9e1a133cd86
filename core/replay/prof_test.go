package replay

import (
	"bytes"
	"os"
	"sync/atomic"
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
	book, err := rulebook.Load(name)
	if err != nil {
		b.Fatal(err)
	}
	inv, _ := os.ReadFile(book.Sites[0].Inventory)
	tree, err := site.Inventory(bytes.NewReader(inv))
	if err != nil {
		b.Fatal(err)
	}
	e := engine.New(book, []*site.Tree{tree})
	f, _ := os.Open(os.Getenv("LOG"))
	info, _ := f.Stat()
	for b.Loop() {
		var stop atomic.Bool
		LogFile(e, "x", f, info.Size(), 1, &stop, func(int64) {})
	}
}
