package pattern

import (
	"strings"
	"testing"
)

func TestHostPatternsAreReadOrRefused(t *testing.T) {
	for _, test := range []struct {
		pattern string
		takes   string // a host; or
		refuses string // part of the error
	}{
		{"{www.}?fähre.example", "xn--fhre-loa.example", ""},
		{"{www.}?fähre.example", "www.xn--fhre-loa.example", ""},
		{"{*.}?büro.test", "a.b.xn--bro-hoa.test", ""},
		{":shop.{fähre.}?example", "x.xn--fhre-loa.example", ""},
		{"fähre{.:land}?", "xn--fhre-loa.test", ""},
		{"{a}?fähre.example", "", "split a label"},
		{"{www.}?{a}?fähre.example", "", "split a label"},
		{"{fähre}+.example", "", "split a label"},
		{"*fähre.example", "", "split a label"},
		{"fähre:x.example", "", "split a label"},
		{"*", "any.example", ""},
		{"*.*", "any.example", ""},
		{":sub.:top", "any.example", ""},
		{"10.0.0.*", "", "when client"},
		{"10.*", "", "when client"},
		{"a|b.example", "", "takes no host"},
		{`www.s.example\:8080`, "", "takes no host"},
		{"256.1.1.1", "", "takes no host"},
		{"1.1.1", "", "takes no host"},
		{"192.0.2.7", "192.0.2.7", ""},
		{"[:address]", "", "not an IPv6 address"},
		{"[2001:DB8::0:1]", "[2001:db8::1]", ""},
		{"a_b.example", "a_b.example", ""},
		{"3d.4you", "3d.4you", ""},
	} {
		p, err := Host(test.pattern)
		switch {
		case test.refuses != "":
			if err == nil || !strings.Contains(err.Error(), test.refuses) {
				t.Errorf("%s: %v, want an error that says %q", test.pattern, err, test.refuses)
			}
		case err != nil:
			t.Errorf("%s: %v", test.pattern, err)
		case !p.Match(test.takes):
			t.Errorf("%s does not take %s", test.pattern, test.takes)
		}
	}
}
