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
	a := Asked{Body: req.Body}
	if req.Client.IsValid() {
		a.Client = req.Client.String()
	}
	if !req.Time.IsZero() {
		a.Time = req.Time.Format(time.RFC3339Nano)
	}
	headers := map[string][]string{}
	for _, h := range req.Headers {
		if name := strings.ToLower(h.Name); name != "authorization" {
			headers[name] = append(headers[name], h.Value)
		}
	}
	if len(headers) > 0 {
		a.Request = &AskedHeaders{headers}
	}
	return a
}
