package render

import (
	"strconv"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/request"
)

// An Answer is one predicted response in the machine formats. The names of its
// fields are an interface that scripts depend on.
type Answer struct {
	Method   string              `json:"method"`
	URL      string              `json:"url"`
	Status   any                 `json:"status"` // as Status gives it
	Cause    engine.Cause        `json:"cause"`
	By       *string             `json:"by"`
	At       string              `json:"at,omitempty"`
	Location string              `json:"location,omitempty"`
	File     string              `json:"file,omitempty"`
	Type     string              `json:"type,omitempty"`
	Size     *int64              `json:"size,omitempty"`
	Encoded  *int64              `json:"encoded,omitempty"`
	Headers  map[string][]string `json:"headers,omitempty"`
	Hints    []string            `json:"hints,omitempty"`
}

// Status is a status in the machine formats: a number, or the word in its place.
func Status(r *engine.Response) any {
	if r.Word() != "" {
		return r.Word()
	}
	return r.Status
}

// StatusValue is Status for one that stands as text.
func StatusValue(text string) any {
	if n, err := strconv.Atoi(text); err == nil {
		return n
	}
	return text
}

// NewAnswer gives a response in that form.
func NewAnswer(req *request.Request, r *engine.Response) Answer {
	a := bareAnswer(r)
	a.Method, a.URL, a.Hints = req.Verb(), req.Address.Printable(), r.Hints
	for _, h := range r.Headers {
		if a.Headers == nil {
			a.Headers = map[string][]string{}
		}
		name := strings.ToLower(h.Name)
		a.Headers[name] = append(a.Headers[name], h.Value)
	}
	return a
}

// bareAnswer is that without what was asked for, without header fields and hints.
func bareAnswer(r *engine.Response) Answer {
	a := Answer{Status: Status(r), Cause: r.Cause, Location: r.Location, Type: r.Type}
	if r.By != nil {
		a.By, a.At = &r.By.Name, r.By.Place.String()
	}
	if r.File != nil {
		a.File = canonical.Decode(r.File.Path)
	}
	if r.Type != "" && r.Size >= 0 {
		a.Size = &r.Size
		if r.Encoding != "" && r.Encoded >= 0 {
			a.Encoded = &r.Encoded
		}
	}
	return a
}
