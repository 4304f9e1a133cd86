package render

import (
	"strings"
	"time"

	"kibitz/core/request"
)

// An Asked is what a request tells beside its method and address, in the machine
// formats. Lists that have it are read again. A password is written nowhere.
type Asked struct {
	Client  string        `json:"client,omitempty"`
	Time    string        `json:"time,omitempty"`
	Body    int64         `json:"body,omitempty"`
	Request *AskedHeaders `json:"request,omitempty"`
}

// AskedHeaders are the request's own header fields, beside those of the answer.
type AskedHeaders struct {
	Headers map[string][]string `json:"headers"`
}

// NewAsked gives a request in that form.
func NewAsked(req *request.Request) Asked {
	a := Asked{Client: Client(req), Time: When(req), Body: req.Body}
	headers := map[string][]string{}
	for _, h := range req.Headers {
		if name := strings.ToLower(h.Name); name != unwritten {
			headers[name] = append(headers[name], h.Value)
		}
	}
	if len(headers) > 0 {
		a.Request = &AskedHeaders{headers}
	}
	return a
}

// unwritten is the header field that has a password.
const unwritten = "authorization"

// Client is who asks, in the machine formats; "" for nobody known.
func Client(req *request.Request) string {
	if !req.Client.IsValid() {
		return ""
	}
	return req.Client.String()
}

// When is the time of a request, in the machine formats; "" for none.
func When(req *request.Request) string {
	if req.Time.IsZero() {
		return ""
	}
	return req.Time.Format(time.RFC3339Nano)
}

// A Clock gives what When does, and writes a time that comes again but once.
type Clock struct {
	at   time.Time
	text string
}

// When is the time of a request.
func (c *Clock) When(req *request.Request) string {
	if c.at != req.Time {
		c.at, c.text = req.Time, When(req)
	}
	return c.text
}
