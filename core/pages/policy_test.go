package pages

import (
	"strings"
	"testing"

	"kibitz/core/request"
)

// TestSources holds sources of a policy against addresses, by the steps of CSP, 6.7.2.8.
func TestSources(t *testing.T) {
	tests := []struct {
		source, page, to string
		redirected, want bool
	}{
		{"*", "https://s.example/", "http://a.example/x", false, true},
		{"'self'", "https://s.example/", "https://s.example/x", false, true},
		{"'self'", "http://s.example/", "https://s.example/x", false, true}, // safer than itself
		{"'self'", "https://s.example/", "http://s.example/x", false, false},
		{"'self'", "http://s.example:8080/", "https://s.example/x", false, false},
		{"'self'", "http://s.example:8080/", "https://s.example:8080/x", false, true},
		{"'self'", "https://s.example/", "https://www.s.example/x", false, false},
		{"'none'", "https://s.example/", "https://s.example/x", false, false},
		{"https:", "https://s.example/", "https://a.example/x", false, true},
		{"https:", "https://s.example/", "http://a.example/x", false, false},
		{"http:", "https://s.example/", "https://a.example/x", false, true}, // may be had with encryption
		{"HTTP:", "https://s.example/", "http://a.example/x", false, true},
		{"a.example", "https://s.example/", "https://a.example/x", false, true},
		{"a.example", "https://s.example/", "http://a.example/x", false, false},
		{"a.example", "http://s.example/", "https://a.example/x", false, true},
		{"A.Example", "https://s.example/", "https://a.example/x", false, true},
		{"a.example", "https://s.example/", "https://b.a.example/x", false, false},
		{"*.a.example", "https://s.example/", "https://b.a.example/x", false, true},
		{"*.a.example", "https://s.example/", "https://a.example/x", false, false},
		{"https://a.example", "http://s.example/", "http://a.example/x", false, false},
		{"http://a.example", "https://s.example/", "https://a.example/x", false, true},
		{"a.example:8443", "https://s.example/", "https://a.example:8443/x", false, true},
		{"a.example:8443", "https://s.example/", "https://a.example/x", false, false},
		{"a.example", "https://s.example/", "https://a.example:8443/x", false, false},
		{"a.example:*", "https://s.example/", "https://a.example:8443/x", false, true},
		{"http://a.example:80", "https://s.example/", "https://a.example/x", false, true},
		{"http://a.example:80", "https://s.example/", "https://a.example:8443/x", false, false},
		{"a.example/x/", "https://s.example/", "https://a.example/x/y", false, true},
		{"a.example/x/", "https://s.example/", "https://a.example/x", false, false},
		{"a.example/x", "https://s.example/", "https://a.example/x", false, true},
		{"a.example/x", "https://s.example/", "https://a.example/x/y", false, false},
		{"a.example/x", "https://s.example/", "https://a.example/z", true, true}, // behind a redirect paths do not count
		{"a.example/", "https://s.example/", "https://a.example/z", false, true},
	}
	for _, test := range tests {
		page, err := request.Parse(test.page, request.Address{})
		if err != nil {
			t.Fatal(err)
		}
		to, err := request.Parse(test.to, request.Address{})
		if err != nil {
			t.Fatal(err)
		}
		if got := listed([]string{test.source}, page, to, test.redirected); got != test.want {
			t.Errorf("%s on %s for %s (redirected %v): got %v", test.source, test.page, test.to, test.redirected, got)
		}
	}
}

// TestInline holds what a page itself contains against sources, by CSP, 6.7.3.3.
func TestInline(t *testing.T) {
	sum := "'sha256-" + sumOf("sha256", "let a = 1") + "'"
	tests := []struct {
		sources, kind, nonce string
		want                 bool
	}{
		{"'unsafe-inline'", "element", "", true},
		{"'UNSAFE-INLINE'", "attribute", "", true},
		{"'self'", "element", "", false},
		{"'unsafe-inline' 'nonce-ab'", "element", "", false},
		{"'nonce-ab'", "element", "ab", true},
		{"'NONCE-ab'", "element", "ab", true},
		{"'nonce-a'", "element", "a", true},
		{"'nonce-ab'", "element", "AB", false},
		{"'nonce-ab'", "element", "a", false},
		{"'nonce-ab'", "attribute", "ab", false},
		{"'nonce-'", "element", "", false},
		{sum, "element", "", true},
		{sum, "attribute", "", false},
		{sum + " 'unsafe-hashes'", "attribute", "", true},
		{"'unsafe-inline' 'strict-dynamic'", "element", "", false},
		{strings.Replace(sum, "sha256", "sha384", 1), "element", "", false},
		{strings.NewReplacer("+", "-", "/", "_", "=", "").Replace(sum), "element", "", true},
	}
	for _, test := range tests {
		in := &Inline{Use: Script, Kind: test.kind, Nonce: test.nonce, Content: "let a = 1"}
		if got := allowsInline(strings.Fields(test.sources), in); got != test.want {
			t.Errorf("%s for an %s with nonce %q: got %v", test.sources, test.kind, test.nonce, got)
		}
	}
}
