// Package docs holds what `kibitz help` shows of the documents beside it.
package docs

import _ "embed"

// Language is the reference of the rulebook language.
//
//go:embed language.md
var Language string

// Lists explains request lists.
//
//go:embed lists.md
var Lists string
