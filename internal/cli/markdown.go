package cli

// The documents as plain text, for help.

import (
	"strings"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/extension"
	table "github.com/yuin/goldmark/extension/ast"
	"github.com/yuin/goldmark/text"

	"github.com/rivo/uniseg"
)

var documents = goldmark.New(goldmark.WithExtensions(extension.Table)).Parser()

// markdown shows a document, or a part of one.
func (r *run) markdown(source string) {
	m := &plainText{run: r, source: []byte(strings.TrimSpace(source))}
	m.blocks(documents.Parse(text.NewReader(m.source)), "")
}

// A plainText writes a document's blocks as lines.
type plainText struct {
	*run
	source []byte
}

func (m *plainText) blocks(parent ast.Node, indent string) {
	for n := parent.FirstChild(); n != nil; n = n.NextSibling() {
		if n.PreviousSibling() != nil && parent.Kind() == ast.KindDocument {
			m.out.Printf("\n")
		}
		switch n := n.(type) {
		case *ast.Heading:
			m.out.Printf("%s\n", strings.ToUpper(m.inline(n, "")))
		case *ast.FencedCodeBlock, *ast.CodeBlock:
			for _, line := range n.Lines().Sliced(0, n.Lines().Len()) {
				m.out.Printf("%s    %s", indent, line.Value(m.source))
			}
		case *ast.List:
			for item := n.FirstChild(); item != nil; item = item.NextSibling() {
				m.item(item, indent)
			}
		case *table.Table:
			m.table(n)
		case *ast.HTMLBlock: // marks for who writes the document
		default:
			m.out.Wrapped(indent, m.inline(n, "`"))
		}
	}
}

// item writes an item of a list behind its mark; what is below its first block is indented.
func (m *plainText) item(item ast.Node, indent string) {
	first := item.FirstChild()
	if first == nil {
		return
	}
	m.out.Wrapped(indent+"- ", m.inline(first, "`"))
	item.RemoveChild(item, first)
	m.blocks(item, indent+"  ")
}

// inline gives the text of a block, with a mark around what is code: in a sentence a bare
// keyword would be read as one of its words.
func (m *plainText) inline(parent ast.Node, mark string) string {
	var b strings.Builder
	ast.Walk(parent, func(n ast.Node, entering bool) (ast.WalkStatus, error) {
		if n.Kind() == ast.KindCodeSpan {
			b.WriteString(mark)
		}
		if !entering {
			return ast.WalkContinue, nil
		}
		switch n := n.(type) {
		case *ast.Text:
			b.Write(n.Value(m.source))
			if n.SoftLineBreak() || n.HardLineBreak() {
				b.WriteByte(' ')
			}
		case *ast.String:
			b.Write(n.Value)
		case *ast.AutoLink:
			b.Write(n.Label(m.source))
		}
		return ast.WalkContinue, nil
	})
	return strings.ReplaceAll(b.String(), `\|`, "|") // in code, in a table
}

// leastColumn is how narrow the last column of a table may become.
const leastColumn = 30

// table writes a table in columns, the last one wrapped; as a list where it is too wide.
func (m *plainText) table(t *table.Table) {
	var rows [][]string
	for row := t.FirstChild(); row != nil; row = row.NextSibling() {
		var cells []string
		for cell := row.FirstChild(); cell != nil; cell = cell.NextSibling() {
			mark := "`"
			if cell.PreviousSibling() == nil || cell.ChildCount() == 1 { // nothing but code, or its name
				mark = ""
			}
			cells = append(cells, m.inline(cell, mark))
		}
		rows = append(rows, cells)
	}
	const indent, gap = "  ", "   "
	widths := make([]int, len(rows[0]))
	for _, row := range rows {
		for i, cell := range row {
			widths[i] = max(widths[i], uniseg.StringWidth(cell))
		}
	}
	last := len(widths) - 1
	before := len(indent)
	for _, w := range widths[:last] {
		before += w + len(gap)
	}
	if before+min(widths[last], leastColumn) > m.out.Width {
		for _, row := range rows[1:] {
			m.out.Wrapped(indent, row[0])
			for i, cell := range row[1:] {
				if cell != "" {
					m.out.Wrapped(indent+"    ", rows[0][i+1]+": "+cell)
				}
			}
		}
		return
	}
	for _, row := range rows {
		line := indent
		for i, cell := range row[:last] {
			line += cell + strings.Repeat(" ", widths[i]-uniseg.StringWidth(cell)) + gap
		}
		if row[last] == "" {
			m.out.Printf("%s\n", strings.TrimRight(line, " "))
			continue
		}
		m.out.Wrapped(line, row[last])
	}
}
