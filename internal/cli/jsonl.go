package cli

// Requests with their answers as JSON, one a line.

import (
	"bytes"

	"kibitz/core/replay"
	"kibitz/internal/render"
)

func init() {
	registerForm(form{name: "jsonl", rank: 1, whole: true, each: func(_ *run, w *bytes.Buffer) func(*replay.Result) {
		return render.NewLines(w).Write
	}})
}
