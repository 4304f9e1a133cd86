package request

import (
	"slices"
	"testing"
)

func TestListsOfFields(t *testing.T) {
	for value, want := range map[string][]string{
		"":                   nil,
		"a, b ,,c":           {"a", "b", "c"},
		`a="x, y", b`:        {`a="x, y"`, "b"},
		`a="x\", y", b`:      {`a="x\", y"`, "b"},
		`a="never closed, b`: {`a="never closed, b`},
		"  ,\t, ":            nil,
	} {
		if got := List(value); !slices.Equal(got, want) {
			t.Errorf("%s: %q, want %q", value, got, want)
		}
	}
	for s, want := range map[string]string{"a": "a", `"a"`: "a", `"a\"b\\"`: `a"b\`, `"`: `"`, "": ""} {
		if got := Unquote(s); got != want {
			t.Errorf("%s: %q, want %q", s, got, want)
		}
	}
}

func TestTheLengthOfWhatIsSent(t *testing.T) {
	for url, want := range map[string]int{"/": 1, "/?": 2, "/a?b": 4, "/ü": 7, "/?ü": 8, "/%C3%BC": 7, "/\"^`{}": 16, "/?'^`{}": 9, "/a b": 6} {
		a, err := Parse(url, Address{Scheme: "https", Host: "s.example", Port: 443})
		if err != nil || a.Sent() != want {
			t.Errorf("%s: %d %v, want %d", url, a.Sent(), err, want)
		}
	}
}
