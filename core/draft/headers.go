package draft

// The header fields of answers: of all, of a folder, an extension or a status, where nearly
// all of them agree.

import (
	"cmp"
	"fmt"
	"maps"
	"mime"
	"net/http"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"kibitz/core/canonical"
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

// headers finds the fields that entries set: of each value the fewest sets of answers that
// have it, and of which hardly any has not.
func (d *drafter) headers() {
	values := map[string]map[string][]*Answer{} // by name and value
	told := map[group]int{}
	for _, a := range d.Answers {
		if a.Header == nil || a.Request.Verb() != "GET" || !d.knows(a.Request.Address.Host) || a.Status == 304 || a.Status >= 500 {
			continue
		}
		for _, g := range groupsOf(a) {
			told[g]++
		}
		for name, value := range single(a.Header) {
			if values[name] == nil {
				values[name] = map[string][]*Answer{}
			}
			values[name][value] = append(values[name][value], a)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(values)) {
		common := slices.SortedFunc(maps.Keys(values[name]), func(a, b string) int {
			return cmp.Or(len(values[name][b])-len(values[name][a]), strings.Compare(a, b))
		})
		var sets []fieldSet
		for _, value := range common[:min(len(common), mostFieldValues)] {
			sets = append(sets, setsOf(value, values[name][value], told)...)
		}
		slices.SortStableFunc(sets, func(a, b fieldSet) int { return b.n - a.n }) // all apply in order: what is said of few comes last
		for _, s := range sets {
			of := ""
			switch s.groups[0].kind {
			case everyAnswer:
				of = "Of every answer. "
			case overTLS:
				of = "Of every answer over https. "
			}
			d.add(rankHeaders, "header", strings.ToLower(name), s.selector()+"set "+name+" "+rulebook.Quote(rulebook.Literal(s.value)), "%s%s", of, answers(s.n))
		}
	}
}

// mostFieldValues is of how many values of a field entries are drafted.
const mostFieldValues = 20

// single gives the fields that come once, and that an entry may set.
func single(header []request.Header) map[string]string {
	out := map[string]string{}
	again := map[string]bool{}
	for _, h := range header {
		name := http.CanonicalHeaderKey(h.Name)
		if _, twice := out[name]; twice || slices.Contains(ownFields, name) || strings.ContainsFunc(h.Value, func(r rune) bool { return r < ' ' || r > '~' }) {
			again[name] = true
		}
		out[name] = h.Value
	}
	maps.DeleteFunc(out, func(name, _ string) bool { return again[name] })
	return out
}

// A group is answers that an entry can name together. Of those that are as good as each
// other, the kind that stands first is taken.
type group struct {
	kind groupKind
	what string
}

type groupKind int

const (
	everyAnswer groupKind = iota
	overTLS
	found         // answered 200
	foundInFolder // answered 200; what: the folder's path
	inFolder      // what: its path
	foundFiles    // answered 200; what: their extension, "" for folders
	extension     // what: it
	withStatus    // what: it
)

// maxDepth is how deep a folder may lie that is named.
const maxDepth = 4

// groupsOf gives the groups that an answer is in.
func groupsOf(a *Answer) []group {
	out := []group{{kind: everyAnswer}}
	at := a.Request.Address
	if at.Scheme == "https" {
		out = append(out, group{kind: overTLS})
	}
	if p, err := canonical.Path(at.Path, false); err == nil && plainPath(p) {
		rest, folder := strings.TrimPrefix(p, "/"), "/"
		for range maxDepth {
			name, below, ok := strings.Cut(rest, "/")
			if !ok {
				break
			}
			folder += name + "/"
			rest = below
			if out = append(out, group{inFolder, folder}); a.Status == http.StatusOK {
				out = append(out, group{foundInFolder, folder})
			}
		}
		end := strings.TrimPrefix(path.Ext(p), ".")
		if strings.Trim(end, "abcdefghijklmnopqrstuvwxyz0123456789") == "" && (end != "" || strings.HasSuffix(p, "/")) {
			if out = append(out, group{extension, end}); a.Status == http.StatusOK {
				out = append(out, group{foundFiles, end})
			}
		}
	}
	if a.Status == http.StatusOK {
		return append(out, group{kind: found})
	}
	return append(out, group{withStatus, strconv.Itoa(a.Status)})
}

// A fieldSet is a value of a field with some groups of answers that have it.
type fieldSet struct {
	value  string
	groups []group // of one kind
	n      int
}

// wrongField is what an answer costs that a set takes, and that has not the value: an entry
// that names it apart.
const wrongField = 3

// setsOf finds the fewest groups that explain where a value comes; told is how many answers
// each group has.
func setsOf(value string, with []*Answer, told map[group]int) (out []fieldSet) {
	have := map[group]int{}
	for _, a := range with {
		for _, g := range groupsOf(a) {
			have[g]++
		}
	}
	maps.DeleteFunc(have, func(g group, n int) bool { return told[g] == 0 || float64(n) < agree*float64(told[g]) })
	for len(with) >= leastAnswers {
		left := map[group]int{}
		for _, a := range with {
			for _, g := range groupsOf(a) {
				if have[g] > 0 {
					left[g]++
				}
			}
		}
		worth := func(g group) int { return left[g] - wrongField*(told[g]-have[g]) }
		var best group
		most := leastAnswers - 1
		for g := range left {
			if w := worth(g); w > most || w == most && (g.kind < best.kind || g.kind == best.kind && (len(g.what) < len(best.what) || len(g.what) == len(best.what) && g.what < best.what)) {
				best, most = g, w
			}
		}
		if most < leastAnswers {
			break
		}
		same := slices.IndexFunc(out, func(s fieldSet) bool { return s.groups[0].kind == best.kind })
		if same < 0 {
			same = len(out)
			out = append(out, fieldSet{value: value})
		}
		out[same].groups = append(out[same].groups, best)
		out[same].n += left[best]
		with = slices.DeleteFunc(slices.Clone(with), func(a *Answer) bool { return slices.Contains(groupsOf(a), best) })
	}
	return out
}

// selector says which answers an entry takes; with a blank behind it, where it says something.
func (s *fieldSet) selector() string {
	var whats []string
	for _, g := range s.groups {
		whats = append(whats, g.what)
	}
	slices.Sort(whats)
	switch s.groups[0].kind {
	case overTLS:
		return "when scheme https "
	case found:
		return "for 200 304 "
	case inFolder:
		return "in " + strings.Join(whats, " ") + " "
	case foundInFolder:
		return "in " + strings.Join(whats, " ") + " for 200 304 "
	case withStatus:
		return "for " + strings.Join(whats, " ") + " "
	case extension:
		return "on " + endings(whats) + " "
	case foundFiles:
		return "on " + endings(whats) + " for 200 304 "
	}
	return ""
}

// endings is the pattern of paths with some extensions; "" is that of folders.
func endings(ends []string) string {
	var words []string
	files := slices.DeleteFunc(slices.Clone(ends), func(end string) bool { return end == "" })
	switch {
	case len(files) == 1:
		words = append(words, `~.*\.`+files[0])
	case len(files) > 1:
		words = append(words, `~.*\.(`+strings.Join(files, "|")+")")
	}
	if len(files) < len(ends) {
		words = append(words, "~.*/")
	}
	return strings.Join(words, " ")
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
