package replay

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
	"testing"

	"kibitz/core/request/list"

	"kibitz/core/engine"
)

// savedTally is a tally of a few lines as it is kept.
func savedTally(t testing.TB) string {
	e := build(t, "redirect a on /a to /b as temporary\nredirect loop on /loop to /loop as temporary")
	log := ""
	for i, path := range []string{"/a", "/a", "/loop", "/none", "/none"} {
		log += fmt.Sprintf("192.0.2.1 - - [10/Oct/2026:13:55:36 +0000] \"GET %s HTTP/1.1\" %d 1 \"https://s.example/from\" \"x\"\n", path, 200+i)
	}
	tally, err := LogStream(e, "list", strings.NewReader(log+"broken\n"), list.FormatLog, Options{Workers: 1})
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	if err := tally.Save(&b, RulesOf(e.Book)); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// signed gives a file with a body, and the checksum that belongs to it.
func signed(body string) string {
	sum := sha256.Sum256([]byte(body))
	return fmt.Sprintf("{\"kibitz\":%q,\"sha256\":%q}\n%s\n", savedAs, hex.EncodeToString(sum[:]), body)
}

// A tally that is not as it was written is an error, and so is one that somebody has made
// whose counts cannot be.
func TestTalliesThatAreNone(t *testing.T) {
	whole := savedTally(t)
	if _, _, err := LoadTally(strings.NewReader(whole)); err != nil {
		t.Fatal(err)
	}
	_, body, _ := strings.Cut(strings.TrimSuffix(whole, "\n"), "\n")
	changed := func(old, new string) string {
		if !strings.Contains(body, old) {
			t.Fatalf("%s is not in %s", old, body)
		}
		return signed(strings.Replace(body, old, new, 1))
	}
	for name, test := range map[string]struct{ text, want string }{
		"empty":                  {"", "not of the form"},
		"another file":           {"GET / 200\n", "not of the form"},
		"another version":        {strings.Replace(whole, savedAs, "replay tally 5", 1), `another kind or version ("replay tally 5"`},
		"two in one file":        {whole + whole, "checksum differs"},
		"cut off":                {whole[:len(whole)-20], "checksum differs"},
		"its last line end gone": {whole[:len(whole)-1], "checksum differs"},
		"one figure changed":     {strings.Replace(whole, `"Requests":5`, `"Requests":6`, 1), "checksum differs"},
		"a sum that is another":  {changed(`"Requests":5`, `"Requests":6`), "do not add up"},
		"a negative count":       {changed(`"Requests":5`, `"Requests":-5`), "do not add up"},
		"a count that overflows": {changed(`"Requests":5`, `"Requests":9223372036854775807`), "do not add up"},
		"a part that is null":    {changed(`"Loops":{`, `"Loops":null,"x":{`), "cannot be read"},
		"a null top":             {strings.Replace(signed(strings.Replace(body, body[strings.Index(body, `"Loops":`):strings.Index(body, `"TooLong":`)], `"Loops":null,`, 1)), "", "", 1), "do not add up"},
		"lines that are lost":    {changed(`"Lines":`, `"Lines":1`), "do not add up"},
		"an unknown part":        {changed(`"Unmets":0`, `"Unmets":0,"More":1`), "cannot be read"},
	} {
		if _, _, err := LoadTally(strings.NewReader(test.text)); err == nil || !strings.Contains(err.Error(), test.want) {
			t.Errorf("%s: %v, want %q", name, err, test.want)
		}
	}
}

// Whatever stands in a file that is signed: it is an error, or it adds up.
func FuzzTally(f *testing.F) {
	_, body, _ := strings.Cut(strings.TrimSuffix(savedTally(f), "\n"), "\n")
	f.Add(body)
	f.Add("{}")
	f.Fuzz(func(t *testing.T, body string) {
		tally, of, err := LoadTally(strings.NewReader(signed(strings.ReplaceAll(body, "\n", " "))))
		if err != nil {
			return
		}
		sum := int64(0)
		for _, o := range tally.Outcomes {
			sum += o.N
		}
		if sum != tally.Requests || sum < 0 {
			t.Fatalf("%d requests, and %d outcomes", tally.Requests, sum)
		}
		var again bytes.Buffer
		if err := tally.Save(&again, of); err != nil {
			t.Fatal(err)
		}
		if _, _, err := LoadTally(&again); err != nil {
			t.Errorf("what is written is not read: %v", err)
		}
	})
}

// What a tally can say of how requests end: a number for what the rulebook answers, and the
// word in its place for what it leaves to others.
func TestOutcomesThatCanBe(t *testing.T) {
	for o, want := range map[Outcome]bool{
		{Status: "200", Cause: engine.CauseFile}:              true,
		{Status: "404", Cause: engine.CauseMissing, By: "a"}:  true,
		{Status: "app", Cause: engine.CauseHandoff, By: "ä"}:  true,
		{Status: "100", Cause: engine.CauseReply}:             true,
		{Status: "999", Cause: engine.CauseReply}:             true,
		{Status: "99", Cause: engine.CauseReply}:              false,
		{Status: "1000", Cause: engine.CauseReply}:            false,
		{Status: "", Cause: engine.CauseReply}:                false,
		{Status: "app", Cause: engine.CauseFile}:              false,
		{Status: "200", Cause: engine.CauseHandoff}:           false,
		{Status: "", Cause: engine.CauseHandoff}:              false,
		{Status: "200", Cause: "File"}:                        false,
		{Status: "200", Cause: "a b"}:                         false,
		{Status: "200", Cause: engine.CauseFile, By: "a\x00"}: false,
	} {
		if got := o.can(); got != want {
			t.Errorf("%+v: %v", o, got)
		}
	}
}
