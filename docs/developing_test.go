package docs

import (
	"flag"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

var write = flag.Bool("write", false, "write the files of testdata anew")

// A thing is what can be added to the program, by the words that name it in the code.
type thing struct{ what, name, words string }

// things finds what there is in the code itself.
func things(sources map[string]string) []thing {
	var out []thing
	for _, of := range []struct{ what, file, name, words string }{
		{"field", "core/rulebook/fields.go", `(?m)^\tField([A-Z]\w+)(?: FieldKind = iota)?(?: +//.*)?$`, `\bField%s\b`},
		{"kind", "core/rulebook/", `Kind([A-Z]\w+) Kind = "`, `\bKind%s\b|\*rulebook\.%[1]s\b`},
		{"format", "core/request/list/", `Format([A-Z]\w+) +Format = "`, `\bFormat%s\b`},
		{"form", "internal/cli/", `registerForm\(form\{name: "(\w+)"`, `form\{name: "%s"|form\.name == "%[1]s"`},
	} {
		for file, text := range sources {
			if !strings.HasPrefix(file, of.file) {
				continue
			}
			for _, m := range regexp.MustCompile(of.name).FindAllStringSubmatch(text, -1) {
				out = append(out, thing{of.what, m[1], fmt.Sprintf(of.words, m[1])})
			}
		}
	}
	return out
}

// What is said of a thing stands in as few files as it can: how many name it may not grow.
func TestWhatIsAddedStandsInFewFiles(t *testing.T) {
	sources := map[string]string{}
	for _, root := range []string{"core", "internal"} {
		err := filepath.WalkDir(filepath.Join("..", root), func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			text, err := os.ReadFile(path)
			sources[filepath.ToSlash(path)[len("../"):]] = string(text)
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	now := map[string]int{}
	for _, of := range things(sources) {
		words := regexp.MustCompile(of.words)
		for file, text := range sources {
			if !strings.HasPrefix(file, "core/proof/trial/") && words.MatchString(text) {
				now[of.what+" "+of.name]++
			}
		}
	}
	known, err := os.ReadFile("testdata/named.txt")
	if err != nil && !*write {
		t.Fatal(err)
	}
	before := map[string]int{}
	for line := range strings.Lines(string(known)) {
		var what, name string
		var n int
		if _, err := fmt.Sscan(line, &what, &name, &n); err != nil {
			t.Fatal(err)
		}
		before[what+" "+name] = n
	}
	const most = 3 // for what is new
	for name, n := range now {
		switch was, ok := before[name]; {
		case *write:
		case !ok && n > most:
			t.Errorf("%s is new, and named in %d files; %d would do", name, n, most)
		case ok && n > was:
			t.Errorf("%s was named in %d files, and is in %d", name, was, n)
		case n != was:
			t.Errorf("%s is named in %d files: write testdata/named.txt anew (go test ./docs -run FewFiles -write)", name, n)
		}
	}
	if *write {
		writeNamed(t, now)
	}
}

func writeNamed(t *testing.T, now map[string]int) {
	var b strings.Builder
	for _, name := range slices.Sorted(maps.Keys(now)) {
		fmt.Fprintln(&b, name, now[name])
	}
	if err := os.WriteFile("testdata/named.txt", []byte(b.String()), 0o644); err != nil {
		t.Fatal(err)
	}
}
