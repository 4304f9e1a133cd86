package cli

// Results for people to read.

import (
	"bytes"
	"fmt"
	"strings"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/replay"
	"kibitz/internal/render"
)

func init() {
	registerForm(form{name: "text",
		check:    (*run).checkText,
		links:    (*run).linksText,
		version:  (*run).versionText,
		trace:    (*run).traceText,
		sides:    (*run).sidesText,
		visitors: (*run).visitorsText,
		compare:  (*run).comparedText,
		sums:     (*run).tallyText,
		parts:    (*run).partsText,
		each:     (*run).eachText,
		verify:   (*run).verifiedText,
	})
}

// eachText shows one request a line. What it says of an answer that was remembered is, too.
func (r *run) eachText(w *bytes.Buffer) func(*replay.Result) {
	known := render.Remembered[string]{}
	return func(res *replay.Result) {
		w.WriteString(known.Of(res.Response, func() string {
			by := string(res.Response.Cause)
			if res.Response.By != nil {
				by = res.Response.By.Name
			}
			target := res.Response.Location
			if res.Visit != nil && res.Visit.Ending == browser.Loop {
				target += " (loop)"
			}
			return fmt.Sprintf("%s %-7s %s   %s   %s", engine.StatusText(res.Response), render.Clean(res.Item.Request.Verb()), render.Clean(res.Item.Request.Address.String()), render.Clean(target), by)
		}))
		if len(res.Unmet) > 0 {
			w.WriteString("   UNMET: " + render.Clean(strings.Join(res.Unmet, "; ")))
		}
		w.WriteByte('\n')
	}
}
