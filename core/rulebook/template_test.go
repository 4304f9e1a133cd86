package rulebook

import (
	"testing"
)

// In a page that is filled, only what is a field of the request is one; all else that
// stands in braces, a script's or a style's, is the page's own.
func TestWhatIsFilledInPages(t *testing.T) {
	for inner, want := range map[string]bool{
		"host": true, "path|lower": true, "query.id|lower|dashes": true, "header.X-A": true,
		"": false, "host ": false, "host|": false, "host|shout": false, "host|shout|lower": false, "host|lower|shout": false, "color: red": false, "|lower": false,
	} {
		if _, got := PagePiece(inner); got != want {
			t.Errorf("{%s}: %v, want %v", inner, got, want)
		}
	}
}
