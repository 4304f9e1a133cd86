package rulebook

import (
	"strings"
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

// How an address begins tells a path of the site from a full URL.
func TestHowTargetsBegin(t *testing.T) {
	for to, says := range map[string]string{
		"{scheme}://{host}/x": "", "https://{host}": "", "HTTP://x.example/": "", "/x": "", "{path}": "", "{asked}x": "", "{path}://x": "",
		"{scheme}": "a scheme: write", "{scheme}/x": "a scheme: write", "{scheme}:/x": "a scheme: write", "{scheme}{host}": "a scheme: write", "{scheme}x://h/": "a scheme: write", "{scheme}x{host}": "a scheme: write",
		"{host}://x/": "a scheme: write", "{host}/x": "a scheme: write", "{1}://x/": "a scheme: write", "{1}": "a scheme: write", "{query.q}://x/": "a scheme: write",
		"{scheme}://": "the host is missing", "https://": "the host is missing", "https:///x": "the host is missing", "ftp://x.example/": "",
	} {
		_, err := Read("t.kibitz", []byte("site s address https://s.example files public\nredirect r on /* to "+to+" as 302\n"), nil)
		if says == "" && err != nil || says != "" && (err == nil || !strings.Contains(err.Error(), says)) {
			t.Errorf("%s: %v, want %q", to, err, says)
		}
	}
}
