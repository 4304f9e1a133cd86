package live

import (
	"fmt"

	"kibitz/core/request"
)

// LogLine is the line of an access log for a request, in the combined form, with its end.
// base is what paths in the log are asked of: of another address the whole URL stands
// there, as a proxy would be asked (RFC 9112, 3.2.2). A request that names no host could not
// be asked again: it is a comment.
func LogLine(d Served, base request.Address) []byte {
	if d.NoHost != "" {
		line := fmt.Appendf(nil, "# [%s] %d: the Host field names no host: \"", d.Time.Format("02/Jan/2006:15:04:05 -0700"), d.Status)
		return append(logged(line, d.NoHost), "\"\n"...)
	}
	a := d.Request.Address
	target := a.Target()
	if a.Origin() != base.Origin() && target != "*" {
		target = a.String()
	}
	field := func(name string) string {
		if v, ok := d.Request.Get(name); ok && v != "" {
			return v
		}
		return "-"
	}
	client := "-"
	if d.Request.Client.IsValid() {
		client = d.Request.Client.String()
	}
	line := fmt.Appendf(nil, "%s - - [%s] \"", client, d.Time.Format("02/Jan/2006:15:04:05 -0700"))
	line = logged(line, d.Request.Verb()+" "+target)
	line = fmt.Appendf(line, " HTTP/1.1\" %d %d \"", d.Status, d.Bytes)
	line = append(logged(line, field("Referer")), "\" \""...)
	return append(logged(line, field("User-Agent")), "\"\n"...)
}

// logged adds a text as it stands in a log: with what is not a plain character escaped.
func logged(line []byte, s string) []byte {
	for _, c := range []byte(s) {
		switch {
		case c == '"' || c == '\\':
			line = append(line, '\\', c)
		case c < ' ' || c >= 0x7f:
			line = fmt.Appendf(line, "\\x%02x", c)
		default:
			line = append(line, c)
		}
	}
	return line
}
