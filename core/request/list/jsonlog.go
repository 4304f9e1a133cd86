package list

// Access logs of JSON objects, one a line. The names of the OpenTelemetry semantic
// conventions for HTTP are known, nested or with dots; others can be said.

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"kibitz/core/request"
)

const FormatJSONLog Format = "json-log"

func init() {
	register(form{name: FormatJSONLog, rank: rankObject + 2, line: readEvent, lines: true, parts: true, comment: isBlank, detect: func(head []byte) bool {
		first, _, _ := bytes.Cut(head, []byte("\n"))
		names, err := flat(first)
		if err != nil {
			return false
		}
		told := func(part string) bool {
			return slices.ContainsFunc(eventNames[part], func(name string) bool { _, ok := names[name]; return ok })
		}
		return told("url") || told("path")
	}})
}

// eventNames are the names of what a line tells (OpenTelemetry semantic conventions 1.27,
// HTTP, URL, client, server and user agent; and its log data model).
var eventNames = map[string][]string{
	"url":      {"url.full"},
	"path":     {"url.path"},
	"query":    {"url.query"},
	"scheme":   {"url.scheme"},
	"host":     {"server.address"},
	"port":     {"server.port"},
	"method":   {"http.request.method"},
	"status":   {"http.response.status_code"},
	"client":   {"client.address", "network.peer.address"},
	"agent":    {"user_agent.original"},
	"referrer": {headerName + "referer"},
	"body":     {"http.request.body.size", headerName + "content-length"},
	"time":     {"timestamp", "time"},
	"location": {"http.response.header.location"},
}

// headerName stands before the name of a request's header field.
const headerName = "http.request.header."

// EventParts are what can be named of a JSON log.
func EventParts() []string { return slices.Sorted(maps.Keys(eventNames)) }

// readEvent reads a line. What is said of names comes before those that are known.
func readEvent(o Options) lineReader {
	names := maps.Clone(eventNames)
	for part, name := range o.Fields {
		names[part] = []string{name}
	}
	parts := map[string]quickPart{}
	for part, all := range names {
		for _, name := range all {
			parts[name] = quickPartOf[part]
		}
	}
	quick := quickJSON{base: o.Base, names: func(path []byte) (quickPart, bool) { return eventName(path, parts, o.Matters) }}
	return func(line []byte, l *Line) (*Item, error) {
		if l != nil && o.Matters != nil && quick.line(line, l) {
			return nil, nil
		}
		values, err := flat(line)
		if err != nil {
			return nil, err
		}
		get := func(part string) string {
			for _, name := range names[part] {
				if v := values[name]; v != "" {
					return v
				}
			}
			return ""
		}
		t := texts{url: get("url"), method: get("method"), client: get("client"), body: get("body"), status: get("status"), location: get("location")}
		if t.url == "" {
			t.url = eventURL(get)
		}
		if t.url == "" {
			return nil, errors.New("it names no address: there is neither url.full nor url.path (-fields url=NAME says which name is the address)")
		}
		if t.time, err = eventTime(get("time")); err != nil {
			return nil, err
		}
		if at, err := netip.ParseAddrPort(t.client); err == nil {
			t.client = at.Addr().String()
		}
		for _, name := range slices.Sorted(maps.Keys(values)) {
			if field, ok := strings.CutPrefix(name, headerName); ok && values[name] != "" {
				t.headers = append(t.headers, request.Header{Name: strings.ReplaceAll(field, "_", "-"), Value: values[name]})
			}
		}
		for field, part := range map[string]string{"Referer": "referrer", "User-Agent": "agent"} {
			r := request.Request{Headers: t.headers}
			if _, ok := r.Get(field); !ok && get(part) != "" && get(part) != "-" {
				t.headers = append(t.headers, request.Header{Name: field, Value: get(part)})
			}
		}
		return itemOf(&t, o.Base)
	}
}

// eventURL makes the address of its parts; "" where there is no path.
func eventURL(get func(part string) string) string {
	path := get("path")
	if path == "" {
		return ""
	}
	if query := strings.TrimPrefix(get("query"), "?"); query != "" {
		path += "?" + query
	}
	host := get("host")
	if host == "" || !strings.HasPrefix(path, "/") {
		return path
	}
	if a, err := netip.ParseAddr(host); err == nil && a.Is6() {
		host = "[" + host + "]"
	}
	scheme, port := get("scheme"), get("port")
	if scheme == "" {
		scheme = "https"
		if port == "80" {
			scheme = "http"
		}
	}
	if port != "" {
		host += ":" + port
	}
	return scheme + "://" + host + path
}

// eventTime writes a time as RFC 3339: it is that already, or seconds, milliseconds,
// microseconds or nanoseconds since 1970, as its size tells.
func eventTime(s string) (string, error) {
	if s == "" || strings.ContainsAny(s, "T:") {
		return s, nil
	}
	n, err := strconv.ParseFloat(s, 64)
	if err != nil || n <= 0 || n > math.MaxInt64 {
		return "", fmt.Errorf("%q is not a time: write it like 2026-03-01T08:00:00Z, or as a number since 1970", s)
	}
	micros := n * 1e6
	for micros > 1e17 { // later than the year 5000, if it were this
		micros /= 1000
	}
	return time.UnixMicro(int64(micros)).UTC().Format(time.RFC3339Nano), nil
}

// maxEventDepth is how deep the objects of a line may lie in each other.
const maxEventDepth = 16

// flat gives the values of a JSON object by their names, with a dot between the name of an
// object and those in it. Of a list the values are joined by commas. An object of
// attributes tells as if it were not there.
func flat(line []byte) (map[string]string, error) {
	d := json.NewDecoder(bytes.NewReader(line))
	d.UseNumber()
	var object map[string]any
	if err := d.Decode(&object); err != nil || object == nil {
		return nil, errors.New("it is not a JSON object")
	}
	if d.More() {
		return nil, errors.New("there is more than one JSON object")
	}
	out := map[string]string{}
	var add func(prefix string, value any, depth int)
	add = func(prefix string, value any, depth int) {
		switch v := value.(type) {
		case map[string]any:
			if depth == maxEventDepth {
				return
			}
			for name, inner := range v {
				switch {
				case prefix == "" && (name == "attributes" || name == "Attributes"):
					add("", inner, depth+1)
				case prefix == "":
					add(name, inner, depth+1)
				default:
					add(prefix+"."+name, inner, depth+1)
				}
			}
		case []any:
			var texts []string
			for _, one := range v {
				if text := eventText(one); text != "" {
					texts = append(texts, text)
				}
			}
			out[prefix] = strings.Join(texts, ", ")
		default:
			out[prefix] = eventText(v)
		}
	}
	add("", object, 0)
	return out, nil
}

func eventText(value any) string {
	switch v := value.(type) {
	case string:
		return v
	case json.Number:
		return v.String()
	}
	return ""
}
