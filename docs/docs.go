// Package docs is the documentation that the program itself shows.
package docs

import (
	_ "embed"
	"strings"
)

// Language is the reference of the rulebook language.
//
//go:embed language.md
var Language string

// Lists is the reference of request lists.
//
//go:embed lists.md
var Lists string

// Findings explains what check finds.
//
//go:embed findings.md
var Findings string

// Pages explains what is read of a site's own pages.
//
//go:embed pages.md
var Pages string

// Live explains serve, verify and compare.
//
//go:embed live.md
var Live string

// Engine says how an answer is made.
//
//go:embed engine.md
var Engine string

// Draft explains start, record, draft and moves.
//
//go:embed draft.md
var Draft string

// Words are the words of the trade as they are used here.
//
//go:embed words.md
var Words string

// Exit says what the exit statuses mean.
//
//go:embed exit.md
var Exit string

// Section cuts the part of a document that a heading begins, up to the next
// heading of its rank; "" where there is no such heading.
func Section(text, heading string) string {
	start := strings.Index(text, "\n"+heading+"\n")
	if start < 0 {
		return ""
	}
	text = text[start+1:]
	rank, _, _ := strings.Cut(heading, " ")
	for i := len(heading); ; {
		next := strings.Index(text[i:], "\n#")
		if next < 0 {
			return text
		}
		i += next + 1
		line, _, _ := strings.Cut(text[i:], " ")
		if len(line) <= len(rank) && strings.Trim(line, "#") == "" {
			return text[:i]
		}
	}
}

// Row gives the first row of a document's tables whose first cell names a word, alone or
// among others; nil for none. Code is in backticks, as it is written.
func Row(text, word string) []string {
	for line := range strings.SplitSeq(text, "\n") {
		if !strings.HasPrefix(line, "|") {
			continue
		}
		cells := strings.Split(strings.Trim(line, "| "), " | ")
		for name := range strings.SplitSeq(cells[0], ",") {
			if len(cells) > 1 && strings.EqualFold(strings.Trim(name, " `"), word) {
				return cells
			}
		}
	}
	return nil
}
