package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"kibitz/bench/large"
)

// A rulebook as data is as its schema says, has every entry, and is the same rulebook when it
// is written back.
func TestARulebookAsData(t *testing.T) {
	schema, err := jsonschema.NewCompiler().Compile("../../docs/rules.schema.json")
	if err != nil {
		t.Fatal(err)
	}
	dir := ferries(t)
	books := map[string]string{"site.kibitz": "", "before.kibitz": ""}
	for _, name := range large.Names {
		book, err := large.Open(name)
		if err != nil {
			t.Fatal(err)
		}
		books[name+".kibitz"] = book.Text
	}
	books["odd.kibitz"] = "list l \"a b\" \"when\" c\nsite s address https://s.example files public\nredirect on /a \"/b c\" when header.X \"in\" {l} to \"/x {header.X|lower|dashes}\" as temporary # why\n    accept missing-target \"say \\\"so\\\" \\\\\"\nreply r on ~/x\\d+ with 200 text \"#1 {{ {path}\"\n    example \"/x1\" => 200 by r\n"
	for name, text := range books {
		if text != "" {
			os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644)
		}
		data, errs, status := kibitz(t, dir, "", "rules", "-as", "json", name)
		if status != 0 {
			if strings.Contains(errs, "cannot be read") { // its tables are elsewhere
				continue
			}
			t.Fatalf("%s: %s", name, errs)
		}
		document, err := jsonschema.UnmarshalJSON(strings.NewReader(data))
		if err == nil {
			err = schema.Validate(document)
		}
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		back, errs, status := kibitz(t, dir, data, "rules", "-from", "-")
		if status != 0 {
			t.Fatalf("%s: %s", name, errs)
		}
		os.WriteFile(filepath.Join(dir, "back.kibitz"), []byte(back), 0o644)
		again, errs, status := kibitz(t, dir, "", "rules", "-as", "json", "back.kibitz")
		if status != 0 {
			t.Fatalf("%s: what was written back: %s\n%s", name, errs, back)
		}
		if got, want := withoutPlaces(again), withoutPlaces(data); got != want {
			t.Errorf("%s: written back it is\n%s\nand was\n%s", name, got, want)
		}
		if out, _, status := kibitz(t, dir, "", "format", "-check", "back.kibitz"); status != 0 {
			t.Errorf("%s: %s", name, out)
		}
	}
	if out, errs, status := kibitz(t, dir, "", "compare", "site.kibitz", "back.kibitz"); status == 2 {
		t.Errorf("%s%s", out, errs)
	}
	for text, want := range map[string]string{
		"":                                     "not a rulebook as data",
		`{"kibitz":"rulebook 9","entries":[]}`: "another kind or version",
		`{"kibitz":"rulebook 1","rules":[]}`:   "unknown field",
		`{"kibitz":"rulebook 1","entries":[{"kind":"include","values":[{"text":"/etc/passwd"}]}]}`: "is not a kind of entry",
		`{"kibitz":"rulebook 1","entries":[{"kind":"redirect\nreply","name":"x"}]}`:                "is not a kind of entry",
		`{"kibitz":"rulebook 1","entries":[{"kind":"redirect","name":"x\nreply"}]}`:                "neither a name nor a keyword",
		`{"kibitz":"rulebook 1","entries":[]}{}`:                                                   "something follows",
	} {
		if _, errs, status := kibitz(t, dir, text, "rules", "-from", "-"); status != 2 || !strings.Contains(errs, want) {
			t.Errorf("%s: %d %s, want %q", text, status, errs, want)
		}
	}
}

// withoutPlaces leaves the lines out that say where an entry stands.
func withoutPlaces(data string) string {
	var out []string
	for _, line := range strings.Split(data, "\n") {
		if !strings.Contains(line, `"at": `) {
			out = append(out, line)
		}
	}
	return strings.Join(out, "\n")
}
