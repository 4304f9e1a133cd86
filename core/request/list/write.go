package list

// The plain format, written.

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"kibitz/core/request"
)

// errPlain is the error of WritePlain for what the format cannot say.
var errPlain = errors.New("the plain format cannot say this request")

// WritePlain writes a request with what is expected of it as Plain reads it, its address
// as it is asked of base. It writes nothing where it could not be read again as the same.
func WritePlain(w io.Writer, item *Item, base request.Address) error {
	text := plainText(item, base)
	var same *Item
	counts, err := Plain(strings.NewReader(text), base, func(i *Item) { same = i })
	if err != nil || counts.Skipped > 0 || counts.Requests != 1 || fmt.Sprintf("%+v", *item.Request) != fmt.Sprintf("%+v", *same.Request) ||
		item.Expects != nil && fmt.Sprintf("%+v", *item.Expects) != fmt.Sprintf("%+v", *same.Expects) {
		return errPlain
	}
	_, err = io.WriteString(w, text)
	return err
}

func plainText(item *Item, base request.Address) string {
	var b strings.Builder
	req := item.Request
	if req.Method != "" {
		b.WriteString(req.Method + " ")
	}
	if req.Address.Origin() == base.Origin() {
		b.WriteString(req.Address.Target() + req.Address.Fragment)
	} else {
		b.WriteString(req.Address.String())
	}
	x := item.Expects
	if x != nil {
		var words []string
		for _, part := range []struct{ word, value string }{{"", x.Status}, {"", x.Location}, {"by ", x.By}, {"cause ", x.Cause}, {"file ", x.File}, {"ends ", x.Ends}} {
			if part.value != "" {
				words = append(words, part.word+part.value)
			}
		}
		if x.Loop {
			words = append(words, "loop")
		}
		for _, name := range x.Without {
			words = append(words, "without "+name)
		}
		if len(words) > 0 {
			b.WriteString(" => " + strings.Join(words, " "))
		}
	}
	b.WriteString("\n")
	if req.Client.IsValid() {
		fmt.Fprintf(&b, "    client %s\n", req.Client)
	}
	if !req.Time.IsZero() {
		fmt.Fprintf(&b, "    time %s\n", req.Time.Format(time.RFC3339Nano))
	}
	if req.Body > 0 {
		fmt.Fprintf(&b, "    body %dB\n", req.Body)
	}
	for _, h := range req.Headers {
		fmt.Fprintf(&b, "    %s: %s\n", h.Name, h.Value)
	}
	if x != nil {
		for _, h := range x.Headers {
			fmt.Fprintf(&b, "    => %s: %s\n", h.Name, h.Value)
		}
	}
	return b.String()
}
