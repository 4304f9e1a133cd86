package rulebook

// The grammar: which clauses an entry may have, and how entries are made of
// lines.

import (
	"cmp"
	"maps"
	"slices"
	"strings"
)

// A Kind is a kind of entry.
type Kind string

// A kindRow is all that is said of a kind of entry. It stands in the kind's own file.
type kindRow struct {
	kind    Kind
	order   int                                                 // in which kinds are explained
	clauses map[string]clauseForm                               // of its own
	read    func(b *builder, r *Rule, captures []string) Action // its clauses; nil for what is not a rule
	setting bool                                                // an entry without any of these says nothing
	leads   bool                                                // it can lead a request elsewhere, or answer it in another way than the files do

	required []string // the clauses that it cannot do without, sorted
}

var kindRows = map[Kind]*kindRow{}

func register(row kindRow) {
	kindRows[row.kind] = &row
	for _, word := range Clauses(row.kind) {
		if row.clauses[word].needed {
			row.required = append(row.required, word)
		}
	}
}

// Leads reports whether entries of the kind can lead a request elsewhere, or answer it in
// another way than the files do; it does not where they only refuse it, or say something
// of the answer.
func (k Kind) Leads() bool { return rowOf(k).leads }

// rowOf gives all that is said of a kind; nil for one that there is not.
func rowOf(k Kind) *kindRow { return kindRows[k] }

// A clauseForm says how many words a clause takes.
type clauseForm struct {
	must   int    // words it takes whatever they say
	more   bool   // and then more, up to the next clause keyword
	repeat bool   // the clause may be repeated
	needed bool   // the entry cannot do without
	needs  string // what it wants behind it, in words
}

// selectors are the clauses of every rule.
var selectors = map[string]clauseForm{
	"on":       {must: 1, more: true, needs: "a path like /fares or a pattern like /maps/*"},
	"in":       {must: 1, more: true, needs: "a folder like /crew/"},
	"when":     {must: 2, more: true, repeat: true, needs: "a field and a value, like `when scheme http`"},
	"unless":   {must: 2, more: true, repeat: true, needs: "a field and a value, like `unless client 192.0.2.0/24`"},
	"ignoring": {must: 1, needs: "the word `case` behind it"},
	"example":  {must: 3, more: true, repeat: true, needs: "a request, => and what is expected, like `example /fares => 301 /prices`"},
	"accept":   acceptForm,
}

// acceptForm is of the clause that sites have, too.
var acceptForm = clauseForm{must: 2, repeat: true, needs: "the name of a finding and a reason in quotes"}

// Kinds are all kinds of entry, in the order in which they are explained.
func Kinds() []Kind {
	return slices.SortedFunc(maps.Keys(kindRows), func(a, b Kind) int { return cmp.Compare(rowOf(a).order, rowOf(b).order) })
}

// IsRule reports whether entries of a kind are rules: they take requests.
func (k Kind) IsRule() bool { return rowOf(k) != nil && rowOf(k).read != nil }

// form gives how a clause of this kind is written, if it is one.
func (k Kind) form(word string) (clauseForm, bool) {
	row := rowOf(k)
	form, ok := row.clauses[word]
	if !ok && row.read != nil {
		form, ok = selectors[word]
	}
	return form, ok
}

// Begins reports whether a word begins a clause of this kind, so that no entry of it can be
// called by it.
func (k Kind) Begins(word string) bool { return k.begins(Word{Text: word}) }

// begins reports whether a word begins a clause of this kind.
func (k Kind) begins(w Word) bool {
	_, ok := k.form(w.Text)
	return ok && !w.Quoted
}

// Keywords are the clauses of this kind, selectors too, sorted; none where there is no such
// kind.
func (k Kind) Keywords() []string {
	if rowOf(k) == nil {
		return nil
	}
	words := Clauses(k)
	if k.IsRule() {
		words = slices.Sorted(slices.Values(slices.AppendSeq(words, maps.Keys(selectors))))
	}
	return words
}

// Clauses are the clauses that a kind of entry has beside the selectors, sorted.
func Clauses(k Kind) []string { return slices.Sorted(maps.Keys(rowOf(k).clauses)) }

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
	if rowOf(kind) == nil || e.Kind.Quoted {
		var known []string
		for _, k := range Kinds() {
			known = append(known, string(k))
		}
		if isClause(e.Kind.Text) {
			errs.at(e.Kind, "`%s` is a clause, and stands at the start of its line as entries do: indent it, and it belongs to the entry above", e.Kind.Text)
			return nil
		}
		errs.at(e.Kind, "`%s` is not a kind of entry%s", shorten(e.Kind.Text), orNearest(e.Kind.Text, known))
		return nil
	}
	words = words[1:]
	keyword := kind.begins
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
	if !e.parseClauses(kind, words, errs) {
		return nil
	}
	return e
}

// parseClauses reads the clauses of an entry; it is not ok where what is there is none.
func (e *Entry) parseClauses(kind Kind, words []Word, errs *Errors) (ok bool) {
	keyword := kind.begins
	e.Clauses = make([]Clause, 0, min(4, (len(words)+1)/2)) // most have a value
	var begun []string                                      // clauses that lack a value
	for len(words) > 0 {
		if !keyword(words[0]) {
			if strings.HasPrefix(words[0].Text, "/") && len(e.Clauses)+len(begun) == 0 && slices.Contains(kind.Keywords(), "on") {
				errs.at(words[0], "a clause begins here, and `%s` is none: write `on %s`", shorten(words[0].Text), shorten(words[0].Text))
				return false
			}
			if e.Name != nil && len(e.Clauses)+len(begun) == 0 && meant(words[0].Text, kind.Keywords()) == "" && nearest(words[0].Text, kind.Keywords()) == "" {
				if word := nearest(e.Name.Text, kind.Keywords()); word != "" {
					errs.at(*e.Name, "`%s` is taken for the name of this `%s`, since it is none of its clauses: did you mean `%s`?", e.Name.Text, kind, word)
					return false
				}
			}
			if rowOf(Kind(words[0].Text)) != nil && words[0].Place.Col > 1 && words[0].Place.Line > e.Kind.Place.Line {
				errs.at(words[0], "`%s` begins an entry, and is indented as the clauses of the `%s` above are: let it begin at the start of its line", words[0].Text, kind)
				return false
			}
			errs.at(words[0], "`%s` is not a clause of `%s`%s", shorten(words[0].Text), kind, orNearest(words[0].Text, kind.Keywords()))
			words = words[1:]
			for len(words) > 0 && !keyword(words[0]) {
				words = words[1:]
			}
			continue
		}
		c := Clause{Keyword: words[0]}
		form, _ := kind.form(words[0].Text)
		words = words[1:]
		c.Values, words = takeValues(c.Keyword.Text, form, words, keyword)
		if len(c.Values) < form.must {
			errs.add(c.end(), 1, "`%s` needs %s", c.Keyword.Text, form.needs)
			begun = append(begun, c.Keyword.Text)
			continue
		}
		if old := e.clause(c.Keyword.Text); old != nil && !form.repeat {
			errs.at(c.Keyword, "`%s` stands twice in this entry: it is said on line %d already", c.Keyword.Text, old.Keyword.Place.Line)
			continue
		}
		e.Clauses = append(e.Clauses, c)
	}
	for _, word := range rowOf(kind).required {
		if e.clause(word) == nil && !slices.Contains(begun, word) {
			form, _ := kind.form(word)
			errs.at(e.Kind, "this `%s` lacks `%s`: it needs %s", kind, word, form.needs)
		}
	}
	return true
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
		errs.at(w, "`%s` is not a name: a path follows `on` or `in`, like `%s on %s`", shorten(w.Text), kind, shorten(w.Text))
		return
	}
	errs.at(w, "`%s` is not a name: names are made of letters, digits, - _ and .", shorten(w.Text))
}

// shorten keeps a word of the text from filling the screen.
func shorten(s string) string {
	runes := []rune(s)
	if len(runes) > 60 {
		return string(runes[:60]) + "…"
	}
	return s
}
