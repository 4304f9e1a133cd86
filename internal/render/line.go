package render

import (
	"kibitz/core/browser"
	"kibitz/core/replay"
)

// A Line is one request of a replayed list in the machine formats.
type Line struct {
	List string `json:"list"`
	Line int    `json:"line"`
	Answer
	Asked
	Ends     browser.Ending `json:"ends,omitempty"`
	Hops     [][2]any       `json:"hops,omitempty"`
	Expected *bool          `json:"expected,omitempty"`
	Met      *bool          `json:"met,omitempty"`
	Unmet    []string       `json:"unmet,omitempty"`
	Recorded int            `json:"recorded,omitempty"`
}

// NewLine gives a result in that form.
func NewLine(r *replay.Result) Line {
	l := Line{List: r.List, Line: r.Item.Line, Answer: NewAnswer(r.Item.Request, r.Response), Asked: NewAsked(r.Item.Request), Recorded: r.Item.Recorded, Unmet: r.Unmet}
	if r.Visit != nil {
		l.Ends = r.Visit.Ending
		for _, h := range r.Visit.Hops {
			l.Hops = append(l.Hops, [2]any{Status(h.Response), h.Request.Address.Printable()})
		}
	} else {
		l.Ends = browser.Arrived
		if r.Response.Word() != "" {
			l.Ends = browser.Ending(r.Response.Word())
		}
	}
	if r.Item.Expects != nil {
		yes, met := true, len(r.Unmet) == 0
		l.Expected, l.Met = &yes, &met
	}
	return l
}
