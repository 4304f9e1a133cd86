package rulebook

// What people write who have another language in their fingers, and what they mean.

import (
	"fmt"
	"slices"
	"strings"
)

// slips are words that are taken for a keyword, with the keywords that may be meant, the
// first that can stand there.
var slips = map[string][]string{
	"from": {"on"}, "path": {"on"}, "url": {"on"}, "source": {"on"}, "match": {"on"}, "matches": {"on"},
	"too": {"to"}, "=>": {"to"}, "->": {"to"}, "=": {"to", "set"}, "target": {"to"}, "destination": {"to"},
	"if": {"when"}, "where": {"when"}, "not": {"unless"}, "except": {"unless"},
	"status": {"as", "with", "for"}, "code": {"as", "with", "for"}, "permanent": {"as"}, "temporary": {"as"},
	"deny": {"refuse", "access"}, "block": {"refuse", "access"}, "forbid": {"refuse", "access"}, "reject": {"refuse", "access"},
	"allow": {"admit", "access"}, "permit": {"admit", "access"}, "auth": {"ask", "access"}, "login": {"ask", "access"}, "password": {"ask", "access"},
	"stop": {"then"}, "last": {"then"}, "file": {"show", "to"}, "page": {"show"}, "body": {"text"}, "index": {"documents", "folder"}, "gzip": {"using", "compress"}, "cache": {"header"}, "proxy": {"handoff"}, "map": {"moves"},
}

// meant gives the keyword that a word most likely stands for; "" for none.
func meant(word string, known []string) string {
	for _, k := range slips[strings.ToLower(word)] {
		if slices.Contains(known, k) {
			return k
		}
	}
	return ""
}

// noPath says what a word is most likely meant as that stands where a path should; "" where
// nothing is known.
func noPath(text string, keywords []string) string {
	if k := meant(text, keywords); k != "" {
		return fmt.Sprintf("`%s` is not a path: did you mean the clause `%s`?", text, k)
	}
	if k := nearest(text, keywords); k != "" && Distance(strings.ToLower(text), k) == 1 && !strings.ContainsAny(text, "./") {
		return fmt.Sprintf("`%s` is not a path: did you mean the clause `%s`?", text, k)
	}
	if text == "^" || text == "$" {
		return ""
	}
	if inner := strings.TrimSuffix(strings.TrimPrefix(text, "^"), "$"); inner != text && strings.HasPrefix(inner, "/") {
		return fmt.Sprintf("a regular expression begins with ~ and takes the whole path, without ^ and $: write ~%s", inner)
	}
	if host, path, ok := hostAndPath(text); ok {
		return fmt.Sprintf("a path begins with a slash, and the host is a condition: write %s when host %s", path, host)
	}
	return ""
}

// hostAndPath parts what looks like a host with a path behind it.
func hostAndPath(text string) (host, path string, ok bool) {
	if scheme, rest, has := strings.Cut(text, "://"); has && (scheme == "http" || scheme == "https") {
		text = rest
	}
	host, path, _ = strings.Cut(text, "/")
	labels := strings.Split(host, ".")
	if len(labels) < 2 || slices.Contains([]string{"html", "htm", "php", "asp", "aspx", "jsp", "txt", "css", "js", "png", "jpg", "pdf", "xml"}, labels[len(labels)-1]) {
		return "", "", false
	}
	for _, l := range labels {
		if l == "" || strings.Trim(strings.ToLower(l), "abcdefghijklmnopqrstuvwxyz0123456789-") != "" {
			return "", "", false
		}
	}
	return host, "/" + path, true
}

// isClause reports whether a word is a clause of some kind of entry.
func isClause(word string) bool {
	return slices.Contains(everyClause(), word)
}

// everyClause gives the words that begin clauses, of all kinds of entries.
func everyClause() (all []string) {
	for _, k := range Kinds() {
		all = append(all, k.Keywords()...)
	}
	slices.Sort(all)
	return slices.Compact(all)
}
