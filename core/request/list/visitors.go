package list

// Visitors: who asks, without what they ask for.

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"kibitz/core/request"
)

// A Visitor is one who asks: where from, when, and with which header fields.
type Visitor struct {
	Name    string
	Request request.Request // without an address
}

// MaxVisitors is how many of them a list may have.
const MaxVisitors = 50

// Visitors reads a list of visitors: a name a line, and indented below it what the plain
// format says of a request (client, time, Name: value). # begins a comment. The error names
// the line.
func Visitors(r io.Reader) ([]Visitor, error) {
	in := bufio.NewReader(r)
	var out []Visitor
	for number := 1; ; number++ {
		line, tooLong, err := readLine(in)
		if line == "" && !tooLong && err != nil {
			if !errors.Is(err, io.EOF) {
				return nil, err
			}
			if len(out) == 0 {
				return nil, errors.New("it names no visitor: write a name a line, and indented below it client ADDRESS, time TIME or Name: value")
			}
			return out, nil
		}
		if tooLong {
			return nil, fmt.Errorf("line %d: %w", number, errLong)
		}
		if number == 1 {
			line = strings.TrimPrefix(line, "\ufeff")
		}
		line = withoutComment(strings.TrimRight(line, "\r\n"))
		name := strings.TrimSpace(line)
		switch {
		case name == "":
		case line[0] != ' ' && line[0] != '\t':
			switch {
			case len(out) == MaxVisitors:
				return nil, fmt.Errorf("line %d: there are more than %d visitors", number, MaxVisitors)
			case slices.ContainsFunc(out, func(v Visitor) bool { return v.Name == name }):
				return nil, fmt.Errorf("line %d: the visitor %q is above already", number, name)
			}
			out = append(out, Visitor{Name: name})
		case len(out) == 0:
			return nil, fmt.Errorf("line %d: an indented line tells of the visitor above it, and there is none", number)
		case strings.HasPrefix(name, "=>"):
			return nil, fmt.Errorf("line %d: of a visitor nothing is expected: write that into a list of requests", number)
		default:
			item := Item{Request: &out[len(out)-1].Request}
			if err := item.detail(name); err != nil {
				return nil, fmt.Errorf("line %d: %w", number, err)
			}
		}
	}
}
