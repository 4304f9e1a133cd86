package request

import (
	"errors"
	"fmt"
	"strings"
)

// An Expectation is what a list or an example says of the answer to a request.
// Empty fields expect nothing.
type Expectation struct {
	Status   string // "301", "2xx", or a word
	Location string
	By       string // the deciding entry's name
	Cause    string
	File     string   // path in the tree
	Headers  []Header // with their values
	Without  []string // header fields that must not be there
	Ends     string   // a status, or the address where the visit ends
	Loop     bool
}

// Expect reads the words behind `=>`, and adds what they say.
func (e *Expectation) Expect(words []string) error {
	if len(words) == 0 {
		return errors.New("nothing is expected: write a status behind the =>")
	}
	for i := 0; i < len(words); i++ {
		word := words[i]
		value := ""
		if i+1 < len(words) {
			value = words[i+1]
		}
		var field *string
		switch {
		case word == "by":
			field = &e.By
		case word == "cause":
			field = &e.Cause
		case word == "file":
			field = &e.File
		case word == "ends":
			field = &e.Ends
		case word == "without":
			if value == "" {
				return errors.New("`without` needs the name of a header field")
			}
			e.Without = append(e.Without, value)
			i++
			continue
		case word == "loop":
			e.Loop = true
			continue
		case IsStatus(word) && e.Status == "":
			e.Status = word
			continue
		case strings.HasPrefix(word, "/") || strings.Contains(word, "://"):
			if e.Location != "" {
				return fmt.Errorf("%q is a second Location", word)
			}
			e.Location = word
			continue
		case len(word) > 1 && strings.HasSuffix(word, ":"):
			e.Headers = append(e.Headers, Header{strings.TrimSuffix(word, ":"), strings.Join(words[i+1:], " ")})
			return nil
		default:
			return fmt.Errorf("%q is not something to expect: write a status, a Location, by ENTRY, cause WORD, file PATH, NAME: VALUE, without NAME, ends STATUS or loop", word)
		}
		if value == "" {
			return fmt.Errorf("`%s` needs a value", word)
		}
		if *field != "" {
			return fmt.Errorf("`%s` stands twice", word)
		}
		*field = value
		i++
	}
	return nil
}

// The words that stand in the place of a status which is not known: an application
// decides it, or the files of a site of which the rulebook names none.
const (
	StatusApp   = "app"
	StatusFiles = "files"
)

// IsStatus reports whether word is a status code, a class like 4xx, or one of the words.
func IsStatus(word string) bool {
	if word == StatusApp || word == StatusFiles {
		return true
	}
	return len(word) == 3 && '1' <= word[0] && word[0] <= '5' &&
		(word[1:] == "xx" || '0' <= word[1] && word[1] <= '9' && '0' <= word[2] && word[2] <= '9')
}
