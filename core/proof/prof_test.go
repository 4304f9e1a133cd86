package proof

import (
	"bytes"
	"os"
	"testing"

	"kibitz/core/engine"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

func TestProf(t *testing.T) {
	name := os.Getenv("BOOK")
	if name == "" {
		t.Skip()
	}
	book, err := rulebook.Load(name)
	if err != nil {
		t.Fatal(err)
	}
	inv, _ := os.ReadFile(book.Sites[0].Inventory)
	tree, _ := site.Inventory(bytes.NewReader(inv))
	Check(engine.New(book, []*site.Tree{tree}))
}
