package list

// HTTP Archives, and what else is one JSON document.

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"kibitz/core/request"
)

const (
	FormatHAR     Format = "har"
	FormatResults Format = "results" // what verify writes as JSON
)

func init() {
	register(form{name: FormatHAR, rank: rankObject, read: readHAR, detect: func(head []byte) bool {
		names := topNames(head)
		return names["url"] == 0 && (names["log"] == '{' || names["entries"] == '[')
	}})
	register(form{name: FormatResults, rank: rankObject + 1, read: readResults, detect: func(head []byte) bool {
		names := topNames(head)
		return names["url"] == 0 && names["results"] == '['
	}})
}

// readHAR reads an HTTP Archive (1.2), whose lines are its entries.
func readHAR(in *bufio.Reader, _ Options, each func(*Item)) (Counts, error) {
	c := Counts{Of: "entry"}
	err := jsonList(in, &c, [][]string{{"log", "entries"}, {"entries"}}, "the HTTP archive holds no entries", func(entry []byte) (*Item, error) { return harItem(entry) }, each)
	return c, err
}

// readResults reads what verify writes as JSON, whose lines are its results.
func readResults(in *bufio.Reader, o Options, each func(*Item)) (Counts, error) {
	c := Counts{Of: "result"}
	parse := readObject(o)
	err := jsonList(in, &c, [][]string{{"results"}}, "there are no results in it", func(one []byte) (*Item, error) { return parse(one, nil) }, each)
	return c, err
}

// harItem reads one entry.
func harItem(entry []byte) (*Item, error) {
	var e struct {
		Started string `json:"startedDateTime"`
		Request struct {
			Method, URL string
			Headers     []struct{ Name, Value string }
			BodySize    int64
		}
		Response struct {
			Status      int
			RedirectURL string
		}
	}
	if err := json.Unmarshal(entry, &e); err != nil {
		return nil, fmt.Errorf("the entry cannot be read: %w", err)
	}
	item := &Item{Request: &request.Request{Method: strings.ToUpper(e.Request.Method), Body: max(0, e.Request.BodySize)}, Recorded: e.Response.Status, Location: e.Response.RedirectURL}
	var err error
	if item.Request.Address, err = request.Parse(e.Request.URL, request.Address{}); err != nil || !strings.Contains(e.Request.URL, "://") {
		return nil, fmt.Errorf("%q is no http address", e.Request.URL)
	}
	if t, err := time.Parse(time.RFC3339, e.Started); err == nil {
		item.Request.Time = t.UTC()
	}
	for _, h := range e.Request.Headers {
		if !strings.HasPrefix(h.Name, ":") && !strings.EqualFold(h.Name, "host") {
			item.Request.Headers = append(item.Request.Headers, request.Header{Name: h.Name, Value: h.Value})
		}
	}
	return item, nil
}

// jsonList reads the elements of the list in a JSON document that lies at one of some
// paths of names. What is no request is skipped, and the next is read.
func jsonList(in *bufio.Reader, c *Counts, paths [][]string, none string, parse func([]byte) (*Item, error), each func(*Item)) error {
	if head, _ := in.Peek(3); bytes.Equal(head, []byte("\ufeff")) {
		in.Discard(3)
	}
	d := json.NewDecoder(in)
	if ok, err := descend(d, paths); err != nil {
		return fmt.Errorf("%s: %w", none, err)
	} else if !ok {
		return errors.New(none)
	}
	for d.More() {
		c.Lines++
		var one json.RawMessage
		if err := d.Decode(&one); err != nil {
			c.skip(c.Lines, 1, "it cannot be read any further: %v", err)
			return &Damaged{Err: err}
		}
		item, err := parse(one)
		c.take(c.Lines, item, err, each)
	}
	if _, err := d.Token(); err != nil {
		return &Damaged{Err: err}
	}
	return nil
}

// descend reads a document up to the first element of the list at one of some paths.
func descend(d *json.Decoder, paths [][]string) (found bool, err error) {
	t, err := d.Token()
	if err != nil {
		return false, err
	}
	if slices.ContainsFunc(paths, func(p []string) bool { return len(p) == 0 }) && t == json.Delim('[') {
		return true, nil
	}
	if t != json.Delim('{') {
		return false, skipRest(d, t)
	}
	for d.More() {
		name, err := d.Token()
		if err != nil {
			return false, err
		}
		var below [][]string
		for _, p := range paths {
			if len(p) > 0 && p[0] == name {
				below = append(below, p[1:])
			}
		}
		if len(below) == 0 {
			var other json.RawMessage
			err = d.Decode(&other)
		} else {
			found, err = descend(d, below)
		}
		if found || err != nil {
			return found, err
		}
	}
	_, err = d.Token()
	return false, err
}

// skipRest reads what is left of a value that begins with a token.
func skipRest(d *json.Decoder, t json.Token) error {
	if _, opens := t.(json.Delim); !opens {
		return nil
	}
	for d.More() {
		var other json.RawMessage
		if err := d.Decode(&other); err != nil {
			return err
		}
	}
	_, err := d.Token()
	return err
}
