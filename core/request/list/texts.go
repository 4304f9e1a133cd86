package list

// What lists tell of requests, as it is written there.

import (
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"kibitz/core/request"
)

// texts are what a list tells of a request, as it is written there.
type texts struct {
	url, method, client, time, body, status, location string
	requests                                          string // how many it stands for
	old, new                                          string // of a table of moves
	headers                                           []request.Header
	answer                                            []request.Header // the header of the answer
	hints                                             []string
	sum                                               string // of its body
}

// tell takes what stands in a column.
func (t *texts) tell(column, value string) {
	switch column {
	case "url":
		t.url = value
	case "method":
		t.method = value
	case "client":
		t.client = value
	case "time":
		t.time = value
	case "body":
		t.body = value
	case "status":
		t.status = value
	case "location":
		t.location = value
	case "recorded": // stands behind the predicted status, and counts more
		t.status, t.location = value, ""
	case "list", "line", "cause", "by", "at", "ends", "met", "outcome", "robots", "first", "last", "referrers", "likeliest": // of an answer, or of several
	case "requests":
		t.requests = value
	case "old":
		t.old = value
	case "new":
		t.new = value
	default:
		t.headers = append(t.headers, request.Header{Name: strings.TrimPrefix(column, "header."), Value: value})
	}
}

// itemOf makes a request.
func itemOf(t *texts, base request.Address) (*Item, error) {
	item := &Item{Request: &request.Request{Method: strings.ToUpper(t.method), Headers: t.headers}, Location: t.location, Answer: t.answer, Sum: t.sum, Hints: t.hints}
	var err error
	if t.url == "" {
		return nil, errors.New("the url is missing")
	}
	if item.Request.Address, err = request.Parse(t.url, base); err != nil {
		return nil, err
	}
	if s := t.client; s != "" {
		if item.Request.Client, err = netip.ParseAddr(s); err != nil {
			return nil, fmt.Errorf("%q is not an address of a client", s)
		}
	}
	if s := t.time; s != "" {
		if item.Request.Time, err = time.Parse(time.RFC3339, s); err != nil {
			return nil, fmt.Errorf("%q is not a time: write it like 2026-03-01T08:00:00Z", s)
		}
	}
	if s := t.body; s != "" {
		if item.Request.Body, err = strconv.ParseInt(s, 10, 64); err != nil || item.Request.Body < 0 {
			return nil, fmt.Errorf("the body %q is not a number of bytes", s)
		}
	}
	if s := t.requests; s != "" {
		if item.Times, err = strconv.ParseInt(s, 10, 64); err != nil || item.Times < 0 {
			return nil, fmt.Errorf("%q is not a number of requests", s)
		}
	}
	if s := t.status; s != "" && s != request.StatusApp && s != request.StatusFiles {
		if item.Recorded, err = strconv.Atoi(s); err != nil || item.Recorded < 100 || item.Recorded > 599 {
			return nil, fmt.Errorf("the status %q is none", s)
		}
	}
	return item, nil
}
