package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// fixSite is a site with a loop, a permanent redirect that hangs on the visitor, a backup file
// that everybody can fetch, and an entry that nothing comes to.
var fixSite = map[string]string{
	"site.kibitz": `list office 192.0.2.0/24
site s
    address https://s.example
    files   public

# To the safe side.
redirect secure  in /  to https://{host}{path} as permanent
include "more.kibitz"
`,
	"more.kibitz": `redirect german  on /  when language de  to /de/ as permanent

redirect fleet  on /fleet/*     to /boats/{1} as temporary
# The flagship.
redirect one    on /fleet/avocet  to /flagship.html as temporary   # since May
`,
	"public/index.html":        "<!doctype html>home",
	"public/de/index.html":     "<!doctype html>Willkommen",
	"public/flagship.html":     "<!doctype html>Avocet",
	"public/boats/avocet.html": "<!doctype html>Avocet",
	"public/prices.bak":        "x",
}

// TestFixShowsADiff tries what check advises, and changes nothing.
func TestFixShowsADiff(t *testing.T) {
	dir := write(t, fixSite)
	stdout, stderr, status := kibitz(t, dir, "", "check", "-fix")
	wantOut := `--- site.kibitz
+++ site.kibitz
@@ -3,6 +3,8 @@
     address https://s.example
     files   public
 
+access leftovers on ~.*\.bak refuse 404
+
 # To the safe side.
-redirect secure  in /  to https://{host}{path} as permanent
+redirect secure  in /  to https://{host}{path} as permanent when scheme http
 include "more.kibitz"
--- more.kibitz
+++ more.kibitz
@@ -1,5 +1,5 @@
-redirect german  on /  when language de  to /de/ as permanent
+redirect german  on /  when language de  to /de/ as temporary
 
-redirect fleet  on /fleet/*     to /boats/{1} as temporary
 # The flagship.
 redirect one    on /fleet/avocet  to /flagship.html as temporary   # since May
+redirect fleet  on /fleet/*     to /boats/{1} as temporary
`
	if stdout != wantOut || status != 1 {
		t.Errorf("got %d\n%s\nwant\n%s", status, stdout, wantOut)
	}
	for _, want := range []string{
		"findings would be fixed; each change was tried on ",
		"  redirect-loop     secure: when scheme http; answers differently: https://s.example/",
		"permanent-varies  german: as temporary;",
		"or german: as 307",
		"Notes are fixed by name: kibitz check -fix split-address list-unused\n",
		"To write it: the same with -write\n",
	} {
		if !strings.Contains(stderr, want) {
			t.Errorf("there is no %q in\n%s", want, stderr)
		}
	}
	for name, text := range fixSite {
		if now, _ := os.ReadFile(filepath.Join(dir, name)); string(now) != text {
			t.Errorf("%s was changed", name)
		}
	}
}

// TestFixWrites writes what helps, in the files where it stands, with their own ends of
// lines; nothing is left to do then.
func TestFixWrites(t *testing.T) {
	files := map[string]string{}
	for name, text := range fixSite {
		files[name] = text
	}
	files["more.kibitz"] = "\ufeff" + strings.TrimSuffix(strings.ReplaceAll(fixSite["more.kibitz"], "\n", "\r\n"), "\r\n")
	dir := write(t, files)
	if out, stderr, status := kibitz(t, dir, "", "check", "-fix", "-write"); status != 0 || stderr != "" || !strings.HasPrefix(out, "4 findings fixed") {
		t.Fatalf("got %d\n%s%s", status, out, stderr)
	}
	more, _ := os.ReadFile(filepath.Join(dir, "more.kibitz"))
	want := "\ufeff" + strings.ReplaceAll(`redirect german  on /  when language de  to /de/ as temporary

# The flagship.
redirect one    on /fleet/avocet  to /flagship.html as temporary   # since May
redirect fleet  on /fleet/*     to /boats/{1} as temporary`, "\n", "\r\n")
	if string(more) != want {
		t.Errorf("got\n%q\nwant\n%q", more, want)
	}
	out, _, _ := kibitz(t, dir, "", "check", "-fix", "-write")
	if !strings.HasPrefix(out, "Nothing can be fixed in the rulebook's text alone.\n") {
		t.Errorf("the second time: %s", out)
	}
	out, _, _ = kibitz(t, dir, "", "check")
	if !strings.HasPrefix(out, "site.kibitz: 5 entries for 1 site: 2 notes\n") {
		t.Errorf("what is left: %s", out)
	}
}

// TestFixTakesSome takes the findings that are named, and keeps what a list expects.
func TestFixTakesSome(t *testing.T) {
	tests := []struct {
		name, list string
		args       []string
		done, left string // in what is said
	}{
		{"one finding", "", []string{"exposed"}, "1 finding would be fixed", ""},
		{"a note, by its name", "", []string{"list-unused"}, "list-unused without the list office", ""},
		{"a list keeps the order", "/fleet/avocet => 302 /boats/avocet\n", []string{"never-reached", "-keep", "list.txt"}, "",
			"https://s.example/fleet/avocet, in line 1 of a list, would not do any more what is expected there"},
		{"a list keeps the file", "/prices.bak => 200\n", []string{"exposed", "-keep", "list.txt"}, "",
			"https://s.example/prices.bak, in line 1 of a list, would not do any more what is expected there"},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			files := map[string]string{"list.txt": test.list}
			for name, text := range fixSite {
				files[name] = strings.Replace(text, "permanent\ninclude", "permanent when scheme http\ninclude", 1)
			}
			dir := write(t, files)
			_, stderr, _ := kibitz(t, dir, "", append([]string{"check", "-fix"}, test.args...)...)
			said := strings.Join(strings.Fields(stderr), " ")
			if !strings.Contains(said, test.done) || !strings.Contains(said, test.left) || test.left != "" && !strings.Contains(said, "Not fixed") {
				t.Errorf("got\n%s", stderr)
			}
		})
	}
}

// TestFixRefuses says what does not go together, and loses nothing.
func TestFixRefuses(t *testing.T) {
	tests := []struct {
		args []string
		want string
	}{
		{[]string{"-write"}, "-write and -keep go with -fix"},
		{[]string{"-fix", "-as", "json"}, "-fix prints a diff, and has no other form"},
		{[]string{"-fix", "-watch"}, "-fix and -watch do not go together"},
		{[]string{"-fix", "-keep", "none.txt"}, "none.txt"},
	}
	for _, test := range tests {
		_, stderr, status := kibitz(t, write(t, fixSite), "", append([]string{"check"}, test.args...)...)
		if status != 2 || !strings.Contains(stderr, test.want) {
			t.Errorf("%v: got %d %s", test.args, status, stderr)
		}
	}
}
