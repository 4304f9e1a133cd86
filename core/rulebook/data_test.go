package rulebook

import (
	"strings"
	"testing"
)

// TestDataThatIsNoRulebook says which entry cannot be read.
func TestDataThatIsNoRulebook(t *testing.T) {
	for text, want := range map[string]string{
		`{"kibitz": "rulebook 9", "entries": []}`:                                                 "another kind or version",
		`{"kibitz": "rulebook 1", "entries": []} x`:                                               "something follows",
		`{"kibitz": "rulebook 1", "entries": [{"kind": "site", "name": "s"}, {"kind": "sight"}]}`: `entry 2: "sight" is not a kind of entry`,
		`{"kibitz": "rulebook 1", "entries": [{"kind": "include"}]}`:                              `entry 1: "include" is not a kind of entry`,
	} {
		if _, err := FromData(strings.NewReader(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}
