package draft

// The header fields of answers: of all, or of those with an extension, where nearly all of
// them agree.

import (
	"cmp"
	"fmt"
	"maps"
	"mime"
	"net/http"
	"path"
	"regexp"
	"slices"
	"strings"

	"kibitz/core/representation"
	"kibitz/core/request"
	"kibitz/core/rulebook"
)

// ownFields are those that the answer decides, the server or the network, and no entry.
var ownFields = []string{"Date", "Etag", "Last-Modified", "Content-Length", "Content-Encoding", "Content-Type", "Content-Range", "Content-Location", "Vary", "Location", "Accept-Ranges", "Server",
	"Connection", "Keep-Alive", "Transfer-Encoding", "Allow", "Www-Authenticate", "Retry-After", "Age", "Via", "Expires", "Set-Cookie", "Link", "Alt-Svc", "Trailer", "Upgrade"}

// agree is the share of answers that must agree on a field: a server fails now and then.
const agree = 0.9

// leastAnswers is of how many answers a field is drafted.
const leastAnswers = 3

// headers finds the fields that entries set.
func (d *drafter) headers() {
	var told []*Answer
	for _, a := range d.Answers {
		if a.Header != nil && a.Request.Verb() == "GET" && d.knows(a.Request.Address.Host) && a.Status != 304 {
			told = append(told, a)
		}
	}
	names := map[string]bool{}
	var secure, open []*Answer
	for _, a := range told {
		if a.Request.Address.Scheme == "https" {
			secure = append(secure, a)
		} else {
			open = append(open, a)
		}
		for _, h := range a.Header {
			if name := http.CanonicalHeaderKey(h.Name); !slices.Contains(ownFields, name) {
				names[name] = true
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		value, n := common(told, name)
		if over, all := common(secure, name); over != "" && all == len(secure) && n < len(told) && !sent(open, name) {
			d.add(rankHeaders, "header", strings.ToLower(name), "when scheme https set "+name+" "+rulebook.Quote(rulebook.Literal(over)), "Of every answer over https. %s", answers(all))
			continue
		}
		if value != "" {
			d.add(rankHeaders, "header", strings.ToLower(name), "set "+name+" "+rulebook.Quote(rulebook.Literal(value)), "Of every answer. %s", answers(n))
			continue
		}
		d.byExtension(told, name)
	}
}

// byExtension finds the values of a field that the files with an extension have.
func (d *drafter) byExtension(told []*Answer, name string) {
	files := map[string][]*Answer{}
	for _, a := range told {
		if a.Status == http.StatusOK {
			end := strings.ToLower(strings.TrimPrefix(path.Ext(a.Request.Address.Path), "."))
			if strings.Trim(end, "abcdefghijklmnopqrstuvwxyz0123456789") != "" {
				continue
			}
			files[end] = append(files[end], a)
		}
	}
	ends, counts := map[string][]string{}, map[string]int{}
	for _, end := range slices.Sorted(maps.Keys(files)) {
		if value, n := common(files[end], name); value != "" {
			ends[value] = append(ends[value], end)
			counts[value] += n
		}
	}
	for _, value := range slices.Sorted(maps.Keys(ends)) {
		var parts []string
		folders := false
		for _, end := range ends[value] {
			if end == "" {
				folders = true
			} else {
				parts = append(parts, end)
			}
		}
		on := ""
		switch {
		case folders && len(parts) > 0:
			on = `~.*\.(` + strings.Join(parts, "|") + `) ~.*/`
		case folders:
			on = "~.*/"
		case len(parts) == 1:
			on = `~.*\.` + parts[0]
		default:
			on = `~.*\.(` + strings.Join(parts, "|") + ")"
		}
		d.add(rankHeaders, "header", strings.ToLower(name), "on "+on+" for 200 304 set "+name+" "+rulebook.Quote(rulebook.Literal(value)), "%s", answers(counts[value]))
	}
}

// mediaType is one as a rulebook can say it.
var mediaType = regexp.MustCompile(`^[a-z0-9][a-z0-9.+-]*/[a-z0-9][a-z0-9.+-]*$`)

// media finds the media types of files that are others than usual, by their extensions, and
// the charsets of texts.
func (d *drafter) media() {
	type sentAs struct{ kind, charset string }
	told := map[string]map[sentAs]int{}
	for _, a := range d.Answers {
		at := a.Request.Address
		end := strings.ToLower(strings.TrimPrefix(path.Ext(at.Path), "."))
		if a.Status != http.StatusOK || a.Request.Verb() != "GET" || !d.knows(at.Host) || end == "" || strings.Trim(end, "abcdefghijklmnopqrstuvwxyz0123456789") != "" {
			continue
		}
		if n := d.Tree.Find(at.Path); n == nil || n.Folder {
			continue // something else than a file answers there
		}
		for _, h := range a.Header {
			if !strings.EqualFold(h.Name, "Content-Type") {
				continue
			}
			if kind, more, err := mime.ParseMediaType(h.Value); err == nil && mediaType.MatchString(kind) {
				if told[end] == nil {
					told[end] = map[sentAs]int{}
				}
				told[end][sentAs{kind, strings.ToLower(more["charset"])}]++
			}
		}
	}
	for _, end := range slices.Sorted(maps.Keys(told)) {
		all := 0
		var most sentAs
		for as, n := range told[end] {
			if all += n; n > told[end][most] || n == told[end][most] && as.kind+as.charset < most.kind+most.charset {
				most = as
			}
		}
		n := told[end][most]
		if float64(n) < agree*float64(all) {
			continue
		}
		if usual := cmp.Or(representation.Extensions[end], "application/octet-stream"); most.kind != usual {
			d.add(rankWire, "media", end+"-files", fmt.Sprintf("type %s %s", end, most.kind), "%s", answers(n))
		}
		if most.charset != "" && most.charset != "utf-8" && strings.HasPrefix(most.kind, "text/") {
			d.add(rankWire, "media", end+"-charset", fmt.Sprintf(`on ~.*\.%s charset %s`, end, most.charset), "%s", answers(n))
		}
	}
}

// common gives the value of a field that nearly all of some answers have, and how many that
// are; "" where there is none.
func common(told []*Answer, name string) (string, int) {
	values := map[string]int{}
	for _, a := range told {
		value, n := "", 0
		for _, h := range a.Header {
			if strings.EqualFold(h.Name, name) {
				value, n = h.Value, n+1
			}
		}
		if n == 1 && !strings.ContainsFunc(value, func(r rune) bool { return r < ' ' || r > '~' }) {
			values[value]++
		}
	}
	for value, n := range values {
		if n >= leastAnswers && float64(n) >= agree*float64(len(told)) {
			return value, n
		}
	}
	return "", 0
}

// sent reports whether any answer has a field.
func sent(told []*Answer, name string) bool {
	return slices.ContainsFunc(told, func(a *Answer) bool {
		return slices.ContainsFunc(a.Header, func(h request.Header) bool { return strings.EqualFold(h.Name, name) })
	})
}

// compression finds whether texts are compressed, and how.
func (d *drafter) compression() {
	used := map[string]int{}
	n := 0
	for _, a := range d.Answers {
		for _, h := range a.Header {
			if v := strings.ToLower(h.Value); strings.EqualFold(h.Name, "Content-Encoding") && slices.Contains([]string{"br", "zstd", "gzip"}, v) {
				used[v]++
				n++
			}
		}
	}
	if n == 0 {
		return
	}
	using := slices.SortedFunc(maps.Keys(used), func(a, b string) int { return cmp.Or(used[b]-used[a], strings.Compare(a, b)) })
	d.add(rankWire, "compress", "text", fmt.Sprintf("using %s", strings.Join(using, " ")), "%s", answers(n))
}
