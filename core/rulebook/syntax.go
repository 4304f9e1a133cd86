package rulebook

// The grammar: which clauses an entry may have, and how entries are made of
// lines.

import (
	"maps"
	"slices"
	"strings"
)

// A Kind is a kind of entry.
type Kind string

const (
	KindSite     Kind = "site"
	KindList     Kind = "list"
	KindInclude  Kind = "include"
	KindRedirect Kind = "redirect"
	KindMoves    Kind = "moves"
	KindRewrite  Kind = "rewrite"
	KindReply    Kind = "reply"
	KindHandoff  Kind = "handoff"
	KindAccess   Kind = "access"
	KindFallback Kind = "fallback"
	KindError    Kind = "error"
	KindFolder   Kind = "folder"
	KindHeader   Kind = "header"
	KindMedia    Kind = "media"
	KindCompress Kind = "compress"
	KindHint     Kind = "hint"
	KindLimit    Kind = "limit"
)

// A clauseForm says how many words a clause takes.
type clauseForm struct {
	must   int  // words it takes whatever they say
	more   bool // and then more, up to the next clause keyword
	repeat bool // the clause may stand several times
	needed bool // the entry cannot do without
}

var one, several = clauseForm{must: 1}, clauseForm{must: 1, more: true}

// selectors are the clauses of every rule.
var selectors = map[string]clauseForm{
	"on":       several,
	"in":       several,
	"when":     {must: 2, more: true, repeat: true},
	"unless":   {must: 2, more: true, repeat: true},
	"ignoring": one,
	"example":  {must: 3, more: true, repeat: true},
	"accept":   {must: 2, repeat: true},
}

var (
	needed    = clauseForm{must: 1, needed: true}
	fieldForm = clauseForm{must: 2, more: true, repeat: true}
)

// clauses are those of each kind's own.
var clauses = map[Kind]map[string]clauseForm{
	KindSite:     {"address": needed, "hosts": several, "files": one, "inventory": one, "slashes": one, "unknown-hosts": one},
	KindList:     {},
	KindInclude:  {},
	KindRedirect: {"to": needed, "as": needed, "query": several},
	KindMoves:    {"table": needed, "as": one, "query": several},
	KindRewrite:  {"to": needed, "query": several, "then": one},
	KindReply:    {"with": needed, "show": one, "text": several, "retry": one},
	KindHandoff:  {"to": one},
	KindAccess:   {"refuse": {more: true}, "ask": one, "accounts": one, "admit": {}},
	KindFallback: {"to": {must: 1, more: true, needed: true}, "as": one},
	KindError:    {"for": {must: 1, more: true, needed: true}, "show": one, "text": several, "fill": one},
	KindFolder:   {"documents": several, "listing": one, "columns": several, "slash": one, "hidden": one},
	KindHeader:   {"set": fieldForm, "add": fieldForm, "default": fieldForm, "drop": {must: 1, repeat: true}, "for": several},
	KindMedia:    {"type": {must: 2, more: true, repeat: true}, "charset": one},
	KindCompress: {"using": several, "types": several, "over": one, "level": one, "stored": one},
	KindHint:     {"preload": {must: 3, repeat: true}, "preconnect": {must: 1, repeat: true}},
	KindLimit:    {"body": one, "url": one, "headers": one},
}

// Kinds are all kinds of entry, in the order in which they are explained.
var Kinds = []Kind{KindSite, KindList, KindInclude, KindRedirect, KindMoves, KindRewrite, KindReply, KindHandoff, KindAccess, KindFallback, KindError, KindFolder, KindHeader, KindMedia, KindCompress, KindHint, KindLimit}

func (k Kind) isRule() bool { return k != KindSite && k != KindList && k != KindInclude }

// grammar has all clauses of each kind, the selectors too.
var grammar = func() map[Kind]map[string]clauseForm {
	all := map[Kind]map[string]clauseForm{}
	for k, own := range clauses {
		all[k] = maps.Clone(own)
		if k.isRule() {
			maps.Copy(all[k], selectors)
		}
	}
	return all
}()

// required are the clauses that entries of a kind cannot do without, sorted.
var required = func() map[Kind][]string {
	all := map[Kind][]string{}
	for k, own := range clauses {
		for _, word := range Clauses(k) {
			if own[word].needed {
				all[k] = append(all[k], word)
			}
		}
	}
	return all
}()

// keywords are the clauses of this kind, sorted.
func (k Kind) keywords() []string { return slices.Sorted(maps.Keys(grammar[k])) }

// Clauses are the clauses that a kind of entry has beside the selectors, sorted.
func Clauses(k Kind) []string { return slices.Sorted(maps.Keys(clauses[k])) }

// An Entry is one sentence of a rulebook, as it is written.
type Entry struct {
	Kind    Word
	Name    *Word
	Values  []Word // of a list or an include
	Clauses []Clause
}

// A Clause is a keyword and its values.
type Clause struct {
	Keyword Word
	Values  []Word
}

// end is the place right behind the clause's last word.
func (c *Clause) end() Place {
	last := c.Keyword
	if len(c.Values) > 0 {
		last = c.Values[len(c.Values)-1]
	}
	last.Place.Col += last.Width
	return last.Place
}

// clause gives the entry's clause with this keyword, or nil.
func (e *Entry) clause(word string) *Clause {
	for i := range e.Clauses {
		if e.Clauses[i].Keyword.Text == word {
			return &e.Clauses[i]
		}
	}
	return nil
}

// entries groups lines into entries.
func entries(lines []line, errs *Errors) []*Entry {
	var words [][]Word // of each entry
	for _, l := range lines {
		switch last := len(words) - 1; {
		case len(l.words) == 0:
		case !l.indented:
			words = append(words, slices.Clip(l.words))
		case last < 0:
			errs.at(l.words[0], "an indented line goes on with the entry above it, and there is none: begin it in the first column")
		default:
			words[last] = append(words[last], l.words...)
		}
	}
	out := make([]*Entry, len(words))
	together(len(words), errs, func(from, to int, errs *Errors) {
		for i := from; i < to; i++ {
			out[i] = parseEntry(words[i], errs)
		}
	})
	return slices.DeleteFunc(out, func(e *Entry) bool { return e == nil })
}

// parseEntry reads the words of one entry.
func parseEntry(words []Word, errs *Errors) *Entry {
	e := &Entry{Kind: words[0]}
	kind := Kind(e.Kind.Text)
	if _, ok := clauses[kind]; !ok || e.Kind.Quoted {
		var known []string
		for _, k := range Kinds {
			known = append(known, string(k))
		}
		errs.at(e.Kind, "`%s` is no kind of entry%s", shorten(e.Kind.Text), orNearest(e.Kind.Text, known))
		return nil
	}
	words = words[1:]
	forms := grammar[kind]
	keyword := func(w Word) bool {
		_, ok := forms[w.Text]
		return ok && !w.Quoted
	}
	if kind == KindInclude {
		e.Values = words
		if len(words) != 1 {
			errs.at(e.Kind, "`include` takes the name of one file")
			return nil
		}
		return e
	}
	if len(words) > 0 && !keyword(words[0]) {
		e.Name = &words[0]
		words = words[1:]
		checkName(kind, *e.Name, errs)
	}
	if e.Name == nil && len(words) > 2 && keyword(words[0]) && words[0].Text == words[1].Text && keyword(words[1]) && !keyword(words[2]) {
		errs.at(words[0], "`%s` begins a clause of `%s` and cannot be its name: call it something else", words[0].Text, kind)
		return nil
	}
	if kind == KindList {
		e.Values = words
		switch {
		case e.Name == nil:
			errs.at(e.Kind, "a list needs a name and its values: list NAME VALUE…")
			return nil
		case len(words) == 0:
			errs.at(*e.Name, "the list is empty: write its values behind the name")
		}
		return e
	}
	e.Clauses = make([]Clause, 0, min(4, (len(words)+1)/2)) // most have a value
	var begun []string                                      // clauses that lack a value
	for len(words) > 0 {
		if !keyword(words[0]) {
			if e.Name != nil && len(e.Clauses)+len(begun) == 0 && nearest(words[0].Text, kind.keywords()) == "" {
				if word := nearest(e.Name.Text, kind.keywords()); word != "" {
					errs.at(*e.Name, "`%s` is taken for the name of this `%s`, since it is none of its clauses: did you mean `%s`?", e.Name.Text, kind, word)
					return nil
				}
			}
			errs.at(words[0], "`%s` is no clause of `%s`%s", shorten(words[0].Text), kind, orNearest(words[0].Text, kind.keywords()))
			words = words[1:]
			for len(words) > 0 && !keyword(words[0]) {
				words = words[1:]
			}
			continue
		}
		c := Clause{Keyword: words[0]}
		form := forms[words[0].Text]
		words = words[1:]
		c.Values, words = takeValues(c.Keyword.Text, form, words, keyword)
		if len(c.Values) < form.must {
			errs.add(c.end(), 1, "`%s` needs %s", c.Keyword.Text, needs[c.Keyword.Text])
			begun = append(begun, c.Keyword.Text)
			continue
		}
		if old := e.clause(c.Keyword.Text); old != nil && !form.repeat {
			errs.at(c.Keyword, "`%s` stands twice in this entry: it is said on line %d already", c.Keyword.Text, old.Keyword.Place.Line)
			continue
		}
		e.Clauses = append(e.Clauses, c)
	}
	for _, word := range required[kind] {
		if e.clause(word) == nil && !slices.Contains(begun, word) {
			errs.at(e.Kind, "this `%s` lacks `%s`: it needs %s", kind, word, needs[word])
		}
	}
	return e
}

// needs says what each clause wants behind it.
var needs = map[string]string{
	"on": "a path like /fares or a pattern like /maps/*", "in": "a folder like /crew/", "when": "a field and a value, like `when scheme http`",
	"unless": "a field and a value, like `unless client 192.0.2.0/24`", "ignoring": "the word `case` behind it", "example": "a request, => and what is expected, like `example /fares => 301 /prices`",
	"accept": "the name of a finding and a reason in quotes", "address": "the site's main address, like `address https://saltmarsh-ferries.example`",
	"hosts": "a host name", "files": "the site's folder", "inventory": "a listing of the site's files", "slashes": "`merge` or `keep`", "unknown-hosts": "the word `answer`",
	"to": "an address, like `to /fares/`", "as": "a status, like `as permanent`", "query": "`keep`, `merge`, `only NAME…` or `drop`", "table": "a CSV file of old and new addresses",
	"then": "`next`, `finish` or `again`", "with": "a status, like `with 410`", "show": "a path in the site's tree, like /errors/gone.html", "text": "a text", "retry": "a duration, like `retry 2h`",
	"ask": "a realm, the name that the visitor is shown", "accounts": "a file of names and password hashes", "for": "a status, like `for 404` or `for 5xx`", "fill": "`on`",
	"documents": "names, like `documents index.html`, or `none`", "listing": "`on` or `off`", "columns": "some of `name size date`", "slash": "`add`, `drop` or `leave`", "hidden": "`on` or `off`",
	"set": "a header field and its value, like `set X-Frame-Options SAMEORIGIN`", "add": "a header field and its value", "default": "a header field and its value", "drop": "the name of a header field",
	"type": "extensions and a media type, like `type webmanifest application/manifest+json`", "charset": "a name, like `charset utf-8`",
	"using": "encodings: some of `br zstd gzip`", "types": "media types, like `types text/*`", "over": "a size, like `over 1KiB`", "level": "a number", "stored": "`on` or `off`",
	"preload": "a path, `as` and a destination, like `preload /site.css as style`", "preconnect": "an origin, like https://maps.saltmarsh-ferries.example",
	"body": "a size, like `body 2MiB`", "url": "a size, like `url 8KiB`", "headers": "a size, like `headers 16KiB`",
}

// binding are the words that always take the next word with them, whatever it
// says, by the clause in which they do.
var binding = map[string][]string{
	"when":    {"over", "below", "after", "before"},
	"unless":  {"over", "below", "after", "before"},
	"example": {"by", "cause", "file", "ends", "without"},
}

// takeValues takes the words of a clause.
func takeValues(keyword string, form clauseForm, words []Word, isKeyword func(Word) bool) (values, rest []Word) {
	n := 0
	for n < len(words) {
		if n >= form.must && (!form.more || isKeyword(words[n])) {
			break
		}
		if n > 0 && !words[n].Quoted && slices.Contains(binding[keyword], words[n].Text) {
			n++
		}
		n++
	}
	n = min(n, len(words))
	return words[:n:n], words[n:]
}

func checkName(kind Kind, w Word, errs *Errors) {
	bad := func(r rune) bool {
		return !(r == '-' || r == '_' || r == '.' || '0' <= r && r <= '9' || 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z')
	}
	if strings.IndexFunc(w.Text, bad) < 0 && w.Text != "" && !w.Quoted {
		return
	}
	if strings.HasPrefix(w.Text, "/") || strings.HasPrefix(w.Text, "~") {
		errs.at(w, "`%s` is no name: a path follows `on` or `in`, like `%s on %s`", shorten(w.Text), kind, shorten(w.Text))
		return
	}
	errs.at(w, "`%s` is no name: names are made of letters, digits, - _ and .", shorten(w.Text))
}

// shorten keeps a word of the text from filling the screen.
func shorten(s string) string {
	runes := []rune(s)
	if len(runes) > 60 {
		return string(runes[:60]) + "…"
	}
	return s
}
