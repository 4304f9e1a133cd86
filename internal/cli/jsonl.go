package cli

// Requests with their answers as JSON, one a line.

import (
	"bufio"

	"kibitz/core/replay"
	"kibitz/internal/render"
)

func init() {
	registerForm(form{name: "jsonl", rank: 1, whole: true, each: func(_ *run, w *bufio.Writer) (func(*replay.Result), error) {
		enc := render.JSON(w)
		return func(res *replay.Result) { enc.Encode(render.NewLine(res)) }, nil
	}})
}
