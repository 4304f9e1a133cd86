// Package docs is the documentation that the program itself shows.
package docs

import _ "embed"

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

// Exit says what the exit statuses mean.
//
//go:embed exit.md
var Exit string
