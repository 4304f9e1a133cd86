// Package list reads lists of requests.
//
// A list is never read in part without saying so: every line is a request, a
// comment, a detail of the request above it, or skipped, with the reason.
package list

import (
	"bufio"
	"errors"
	"fmt"

	"kibitz/core/request"
)

// An Item is one request of a list, with what the list says of its answer.
type Item struct {
	Request  *request.Request
	Line     int
	List     string               // the file that it stands in, where that is not the list itself
	Expects  *request.Expectation // nil where the list expects nothing
	Recorded int                  // the status that a server answered; 0 where none is told
	Location string               // and its Location
	Answer   []request.Header     // the header that a server sent, where the list is one that record has written
	Sum      string               // and the SHA-256 of the body, likewise
	Hints    []string             // and the values of Link in early hints
	Times    int64                // how many requests it stands for; 0 for one
}

// A Skip is a line that could not be read.
type Skip struct {
	Line   int
	Reason string
}

// Counts say what became of the lines of a list.
type Counts struct {
	Of       string `json:",omitempty"` // what the lines are, where they are none: entries, addresses, files
	Lines    int    // all of them
	Requests int
	Details  int // lines that belong to the request above them
	Comments int // and blank lines
	Skipped  int
	First    []Skip // the first ten of those
}

const keptSkips = 10

func (c *Counts) skip(line, lines int, format string, args ...any) {
	c.Skipped += lines
	if len(c.First) < keptSkips {
		c.First = append(c.First, Skip{line, fmt.Sprintf(format, args...)})
	}
}

// take hands on the request of a line, or skips the line if there is an error.
func (c *Counts) take(line int, item *Item, err error, each func(*Item)) {
	if err == nil {
		err = item.Fits()
	}
	if err != nil {
		c.skip(line, 1, "%v", err)
		return
	}
	item.Line = line
	c.Requests++
	each(item)
}

// MaxLine is the longest line that is read, in bytes.
const MaxLine = 4 << 20

// MaxRequest is the longest request that is read, in bytes of its address and header: no
// server takes a longer one.
const MaxRequest = 64 << 10

var errRequest = fmt.Errorf("the request is longer than %d KiB: no server accepts it", MaxRequest>>10)

// Fits gives an error for a request that is longer than MaxRequest.
func (i *Item) Fits() error {
	a := &i.Request.Address
	size := len(i.Request.Method) + len(a.Host) + len(a.Path) + len(a.Query) + len(a.Fragment) + len(i.Location)
	for _, h := range i.Request.Headers {
		size += len(h.Name) + len(h.Value)
	}
	if size > MaxRequest {
		return errRequest
	}
	return nil
}

// Fits is that of Item. Few lines are so long that it matters.
func (l *Line) Fits() error {
	if len(l.text) <= MaxRequest {
		return nil
	}
	l.Tail()
	if l.method.len()+l.target.len()+l.referrer.len()+l.agent.len()+l.host.len() > MaxRequest {
		return errRequest
	}
	return nil
}

// readLine reads a line with its end; one that is too long is passed over.
func readLine(in *bufio.Reader) (line string, tooLong bool, err error) {
	var b []byte
	for {
		part, err := in.ReadSlice('\n')
		if len(b)+len(part) <= MaxLine {
			b = append(b, part...)
		} else {
			tooLong = true
			b = nil
		}
		if !errors.Is(err, bufio.ErrBufferFull) {
			return string(b), tooLong, err
		}
	}
}
