package rulebook

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"
)

var writeSlips = flag.Bool("write", false, "write testdata/slips.txt anew")

// TestSlips: what people write at first, each with what they are told. The file is there to
// be read aloud.
func TestSlips(t *testing.T) {
	const name = "testdata/slips.txt"
	text, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	var out strings.Builder
	for _, part := range strings.Split(strings.TrimSpace(string(text)), "\n\n") {
		var entry []string
		for _, line := range strings.Split(part, "\n") {
			if !strings.HasPrefix(line, "# ") {
				entry = append(entry, line)
			}
		}
		_, err := Read("site.kibitz", []byte("site s\n    address https://s.example\n    files public\n"+strings.Join(entry, "\n")+"\n"), func(name string) ([]byte, error) {
			if name == "rows.csv" {
				return []byte(strings.Repeat("a,/b\n", 83)), nil
			}
			return []byte("redirect a on /x to /y as 301\n"), nil
		})
		fmt.Fprintf(&out, "%s\n", strings.Join(entry, "\n"))
		errs, _ := errors.AsType[Errors](err)
		if len(errs) == 0 {
			t.Errorf("nothing is said of %s", entry)
		}
		for _, e := range errs {
			fmt.Fprintf(&out, "# %d:%d %s\n", e.Place.Line-3, e.Place.Col, e.Message)
		}
		out.WriteString("\n")
	}
	if *writeSlips {
		if err := os.WriteFile(name, []byte(out.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	was, is := strings.Split(string(text), "\n"), strings.Split(out.String(), "\n")
	for i, line := range is {
		if !*writeSlips && (i >= len(was) || was[i] != line) {
			t.Fatalf("line %d is said to be\n%s\nsee what has changed with -write", i+1, line)
		}
	}
}
