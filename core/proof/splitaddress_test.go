package proof

import (
	"strings"
	"testing"

	"kibitz/core/engine"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// However many names a site has, those under which its pages are found, too, are one
// finding.
func TestSplitNames(t *testing.T) {
	for _, test := range []struct{ rules, message, advice string }{
		{"site s address https://s.example files public hosts www.s.example\n",
			"https://s.example/ and https://www.s.example/ are one page under two addresses. So is one more page in the same way.",
			"send one on to the other:   redirect one-name when host www.s.example to https://s.example{path} as permanent"},
		{"site s address https://s.example files public hosts www.s.example old.s.example *.boats.example\n",
			"https://s.example/ and https://www.s.example/ are one page under two addresses. So is one more page in the same way. The site answers under 2 more names.",
			"send the others on to it:   redirect one-name when host www.s.example old.s.example *.boats.example to https://s.example{path} as permanent"},
		{"site s address https://s.example files public hosts a.example b.example c.example d.example e.example\nredirect b when host b.example to https://s.example{path} as 301\n",
			"https://s.example/ and https://a.example/ are one page under two addresses. So is one more page in the same way. The site answers under 3 more names.",
			"send the others on to it:   redirect one-name unless host s.example to https://s.example{path} as permanent"},
		{"site s address https://s.example:8443 hosts a.example\nredirect at-home on / when host a.example to https://s.example:8443/ as 301\n",
			"https://s.example:8443/fares/ and https://a.example:8443/fares/ are one page under two addresses.",
			"send one on to the other:   redirect one-name when host a.example to https://s.example:8443{path} as permanent"},
		{"site s address https://s.example files public hosts *.s.example\n",
			"https://s.example/ and https://a.s.example/ are one page under two addresses. So is one more page in the same way.",
			"send one on to the other:   redirect one-name when host *.s.example to https://s.example{path} as permanent"},
		{"site s address https://s.example files public unknown-hosts answer\n",
			"https://s.example/ and https://any-name.invalid/ are one page under two addresses. So is one more page in the same way. The site answers under every other name, too.",
			"send the others on to it:   redirect one-name unless host s.example to https://s.example{path} as permanent"},
		{"site s address https://s.example files public hosts www.s.example\nredirect b unless host s.example to https://s.example{path} as 301\n", "", ""},
	} {
		book, err := rulebook.Read("t.kibitz", []byte(test.rules+"redirect secure when scheme http to https://{host}{path} as 301\n"), nil)
		if err != nil {
			t.Fatal(err)
		}
		e := engine.New(book, []*site.Tree{site.Memory(map[string]string{"/index.html": "home", "/fares/index.html": "fares"})})
		message, advice := "", ""
		for _, f := range Only(e, "split-address") {
			if f.Other.Address.Host != f.Request.Address.Host {
				message, advice = message+f.Message, advice+f.Advice
			}
		}
		if message != test.message || advice != test.advice {
			t.Errorf("%s\n%s\n%s\nwant\n%s\n%s", test.rules, message, advice, test.message, test.advice)
		}
	}
}

// What is advised for a site that answers under any name sends nobody elsewhere.
func TestSplitAdviceIsSafe(t *testing.T) {
	rules := "site s address https://s.example files public unknown-hosts answer\n"
	files := []*site.Tree{site.Memory(map[string]string{"/index.html": "home", "/fares/index.html": "fares"})}
	check := func(kind string) []*Finding {
		book, err := rulebook.Read("t.kibitz", []byte(rules), nil)
		if err != nil {
			t.Fatal(err)
		}
		return Only(engine.New(book, files), kind)
	}
	advised := 0
	for _, f := range check("split-address") {
		if _, entry, ok := strings.Cut(f.Advice, ":   "); ok {
			rules += entry + "\n"
			advised++
		}
	}
	if left := append(check("split-address"), check("open-target")...); advised != 3 || len(left) > 0 {
		t.Errorf("%d entries are advised; with them, %v is left:\n%s", advised, left, rules)
	}
}
