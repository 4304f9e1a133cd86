package cli

// Results for people to read.

import (
	"bufio"
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

// eachText shows one request a line.
func (r *run) eachText(w *bufio.Writer) (func(*replay.Result), error) {
	return func(res *replay.Result) {
		resp := res.Response
		by := string(resp.Cause)
		if resp.By != nil {
			by = resp.By.Name
		}
		met := ""
		if len(res.Unmet) > 0 {
			met = "   UNMET: " + strings.Join(res.Unmet, "; ")
		}
		target := resp.Location
		if res.Visit != nil && res.Visit.Ending == browser.Loop {
			target += " (loop)"
		}
		fmt.Fprintf(w, "%s %-7s %s   %s   %s%s\n", engine.StatusText(resp), render.Clean(res.Item.Request.Verb()), render.Clean(res.Item.Request.Address.String()), render.Clean(target), by, render.Clean(met))
	}, nil
}
