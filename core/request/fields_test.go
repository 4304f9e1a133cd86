package request

import (
	"fmt"
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

func TestWeights(t *testing.T) {
	for s, want := range map[string]float64{"0": 0, "1": 1, "0.5": 0.5, "0.123": 0.123, "1.000": 1, "0.": 0, "1.": 1, "0.1234": 0, "1.001": 0, "0x1p-2": 0, "1e-1": 0, "+0.5": 0, ".5": 0, "": 0, "2": 0, "-1": 0} {
		for _, got := range Weighted("A;q=" + s) {
			if got != want {
				t.Errorf("weight %q: %v, want %v", s, got, want)
			}
			break
		}
	}
	for _, q := range Weighted("a;x=0.2;q") {
		if q != 1 {
			t.Errorf("a parameter of another name weighs %v", q)
		}
	}
	var got []string
	for name, q := range Weighted("DE-at , fr; q=0.5,,;q=1, *;x=1;q=0") {
		got = append(got, fmt.Sprint(name, " ", q))
	}
	if want := []string{"de-at 1", "fr 0.5", "* 0"}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
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
