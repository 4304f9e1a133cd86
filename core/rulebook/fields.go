package rulebook

// The fields of a request: all that is said of each stands in its row. How it is read from a
// rulebook and from a request, how answers are remembered by it, and how the proofs vary it,
// is derived from that. A new field is a new kind, with a row.

import (
	"math"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"kibitz/core/pattern"
	"kibitz/core/request"
)

// A FieldKind is a field of a request, or a family of them.
type FieldKind uint8

const (
	FieldScheme FieldKind = iota
	FieldHost
	FieldPort
	FieldMethod
	FieldPath
	FieldAsked
	FieldQuery  // the raw query, or one parameter of it
	FieldHeader // a request header, by its lower-case name
	FieldCookie // a cookie by its name
	FieldLanguage
	FieldClient // the address that the request comes from
	FieldUser   // who was let in
	FieldTime   // in microseconds since 1970, which hold every year of RFC 3339
	FieldBody   // bytes
	FieldFile   // what the tree has at the path
	fieldKinds
)

// A Field is one field: its kind and, in a family, its name ("" is the raw
// query). Fields are comparable.
type Field struct {
	Kind FieldKind
	Name string
}

// Row gives all that is said of the field.
func (f Field) Row() *FieldRow { return &fieldRows[f.Kind] }

// A FieldRow is all that is said of a field, or of a family of them.
type FieldRow struct {
	Word   string // as a rulebook writes it
	Family bool   // of fields that are written with a dot and a name behind the word
	Plain  bool   // the word alone is a field, too, where there is a family

	Text    func(v View, name string) (string, bool) // the value as text, and whether the request has it
	Number  func(v View) (int64, bool)               // and as a number, where values are compared as such
	Encoded bool                                     // the text is percent-encoded, in a family for the word alone
	Always  bool                                     // every request has it

	Front  bool // one of the four by which the entries are chosen that can fit at all
	Fixed  bool // it stays the same while entries are read
	Beside bool // it is of the request beside its method and address

	Header  func(name string) string // the header field, in small letters, that it is read from; nil for none
	Stays   func(name string) bool   // on the next request of a visit it is the same; nil: it need not be
	Changed func(name string) string // says of a value that it may be another the next time; nil: it is not

	read  func(b *builder, t *Test, words []Word, v *Value) (*Value, int) // reads a value from a rulebook
	Words []string                                                        // all values, where there are few

	Vary Vary                                                      // how requests are made that differ in it
	Put  func(r *request.Request, name, text string, present bool) // gives a request another text, or none
	Set  func(r *request.Request, n int64)                         // and another number
}

// A View is what can be read of a request on its way through the entries.
type View interface {
	Request() *request.Request
	Path() string           // canonical, as it stands
	Asked() string          // canonical, as it was asked for
	Query() string          // as it stands
	User() string           // who was let in; "" for nobody
	InTree() (string, bool) // exists, folder or missing; whether that is known
}

// Before is the View of a request that no entry has looked at yet: nobody was let in, and its
// path is as it was sent.
type Before struct{ Asks *request.Request }

func (v Before) Request() *request.Request { return v.Asks }
func (v Before) Path() string              { return v.Asks.Address.Path }
func (v Before) Asked() string             { return v.Asks.Address.Path }
func (v Before) Query() string             { return v.Asks.Address.Query }
func (v Before) User() string              { return "" }
func (v Before) InTree() (string, bool)    { return "", false }

// A Vary says how the proofs find values of a field for which given tests hold and do not
// hold. Each field has one: of a field that cannot be varied nothing can be proved, and it
// must say so.
type Vary interface{ vary() }

type (
	// VaryWords tries all values, which are the row's words.
	VaryWords struct{}
	// VaryTexts finds texts in a set, one for each combination of answers of the tests.
	VaryTexts struct {
		All   func(f Field) *pattern.Lang
		Usual []string // those that people know, to be tried before any others
	}
	// VaryNumbers tries the ends of all spans, and the numbers beside them.
	VaryNumbers struct{ Low, High int64 }
	// VaryHosts finds names by which the site is asked.
	VaryHosts struct{}
	// VaryClients finds addresses inside and outside of all networks.
	VaryClients struct{}
	// VaryPath leaves it to the search for a path, which holds those of the tree, too.
	VaryPath struct{}
	// VaryNot tries none, and says why.
	VaryNot struct{ Why string }
)

func (VaryWords) vary()   {}
func (VaryTexts) vary()   {}
func (VaryNumbers) vary() {}
func (VaryHosts) vary()   {}
func (VaryClients) vary() {}
func (VaryPath) vary()    {}
func (VaryNot) vary()     {}

var fieldRows [fieldKinds]FieldRow

func init() { // not where it is declared, since reading values looks at rows
	fieldRows = [fieldKinds]FieldRow{
		FieldScheme: {Word: "scheme", Front: true, Always: true, Words: []string{"https", "http"},
			Text: func(v View, _ string) (string, bool) { return v.Request().Address.Scheme, true },
			read: (*builder).schemeValue,
			Vary: VaryWords{}, Put: func(r *request.Request, _, text string, _ bool) { r.Address.SetScheme(text) }},
		FieldHost: {Word: "host", Front: true, Always: true,
			Text: func(v View, _ string) (string, bool) { return v.Request().Address.Host, true },
			read: (*builder).patternValue,
			Vary: VaryHosts{}, Put: func(r *request.Request, _, text string, _ bool) { r.Address.Host = text }},
		FieldPort: {Word: "port", Front: true, Always: true,
			Text:   func(v View, _ string) (string, bool) { return strconv.Itoa(v.Request().Address.Port), true },
			Number: func(v View) (int64, bool) { return int64(v.Request().Address.Port), true },
			read:   spanOf(portUnit),
			Vary:   VaryNumbers{1, 65535}, Set: func(r *request.Request, n int64) { r.Address.Port = int(n) }},
		FieldMethod: {Word: "method", Front: true, Always: true,
			Text: func(v View, _ string) (string, bool) { return v.Request().Verb(), true },
			read: (*builder).methodValue,
			Vary: VaryTexts{All: func(Field) *pattern.Lang { return pattern.Methods() }, Usual: []string{"POST", "PUT", "DELETE", "PATCH"}}, Put: func(r *request.Request, _, text string, _ bool) { r.Method = text }}, // without one it is GET
		FieldPath: {Word: "path", Always: true, Encoded: true,
			Text: func(v View, _ string) (string, bool) { return v.Path(), true },
			read: (*builder).patternValue, Vary: VaryPath{}},
		FieldAsked: {Word: "asked", Always: true, Encoded: true,
			Text: func(v View, _ string) (string, bool) { return v.Asked(), true },
			read: (*builder).patternValue, Vary: VaryPath{}},
		FieldQuery: {Word: "query", Family: true, Plain: true, Encoded: true,
			Text: queryField, read: (*builder).textValue, Put: putQuery,
			Vary: VaryTexts{All: func(f Field) *pattern.Lang {
				if f.Name == "" {
					return pattern.Queries()
				}
				return pattern.Parameters()
			}}},
		FieldHeader: {Word: "header", Family: true, Fixed: true, Beside: true,
			Text:   func(v View, name string) (string, bool) { return v.Request().Get(name) },
			Header: func(name string) string { return name },
			Stays:  func(name string) bool { return name != "referer" && name != "authorization" },
			Changed: func(name string) string {
				return "even with another " + http.CanonicalHeaderKey(name) + "; and a cache on the way sends others there, too"
			},
			read: (*builder).textValue, Put: putHeader,
			Vary: VaryTexts{All: func(Field) *pattern.Lang { return pattern.HeaderValues() }}},
		FieldCookie: {Word: "cookie", Family: true, Fixed: true, Beside: true,
			Text: func(v View, name string) (string, bool) {
				all, _ := v.Request().Get("cookie")
				return cookie(all, name)
			},
			Header:  func(string) string { return "cookie" },
			Stays:   func(string) bool { return true },
			Changed: func(name string) string { return "even when the cookie " + name + " has changed" },
			read:    (*builder).textValue, Put: putCookie,
			Vary: VaryTexts{All: func(Field) *pattern.Lang { return pattern.CookieValues() }}},
		FieldLanguage: {Word: "language", Fixed: true, Beside: true,
			Text: func(v View, _ string) (string, bool) {
				all, _ := v.Request().Get("accept-language")
				return firstLanguage(all)
			},
			Header: func(string) string { return "accept-language" },
			Stays:  func(string) bool { return true },
			Changed: func(string) string {
				return "even when another language is asked for; and a cache on the way sends others there, too"
			},
			read: (*builder).languageValue,
			Put: func(r *request.Request, _, text string, present bool) {
				putHeader(r, "accept-language", text, present)
			},
			Vary: VaryTexts{All: func(Field) *pattern.Lang { return languages() }}},
		FieldClient: {Word: "client", Fixed: true, Beside: true,
			Text: func(v View, _ string) (string, bool) {
				client := v.Request().Client
				if !client.IsValid() {
					return "", false
				}
				return client.Unmap().String(), true
			},
			Stays:   func(string) bool { return true },
			Changed: func(string) string { return "even from another network" },
			read:    (*builder).networkValue, Vary: VaryClients{},
			Put: func(r *request.Request, _, text string, present bool) {
				if r.Client = (netip.Addr{}); present {
					r.Client, _ = netip.ParseAddr(text)
				}
			}},
		FieldUser: {Word: "user", Beside: true,
			Text:   func(v View, _ string) (string, bool) { return v.User(), v.User() != "" },
			Header: func(string) string { return "authorization" },
			read:   (*builder).textValue, Vary: VaryNot{"who is let in is not known here"}},
		FieldTime: {Word: "time", Beside: true,
			Text: func(v View, _ string) (string, bool) {
				at := v.Request().Time
				if at.IsZero() {
					return "", false
				}
				return at.UTC().Format(time.RFC3339), true
			},
			Number: func(v View) (int64, bool) {
				return v.Request().Time.UnixMicro(), !v.Request().Time.IsZero()
			},
			Stays:   func(string) bool { return true },
			Changed: func(string) string { return "even when its time is over" },
			read:    spanOf(timeUnit),
			Vary:    VaryNumbers{math.MinInt64, math.MaxInt64}, Set: func(r *request.Request, n int64) { r.Time = time.UnixMicro(n).UTC() },
			Put: func(r *request.Request, _, text string, present bool) {
				if r.Time = (time.Time{}); present {
					r.Time, _ = time.Parse(time.RFC3339, text)
				}
			}},
		FieldBody: {Word: "body", Always: true, Beside: true,
			Text:   func(v View, _ string) (string, bool) { return strconv.FormatInt(v.Request().Body, 10), true },
			Number: func(v View) (int64, bool) { return v.Request().Body, true },
			read:   spanOf(bodyUnit),
			Vary:   VaryNumbers{0, math.MaxInt64}, Set: func(r *request.Request, n int64) { r.Body = n }},
		FieldFile: {Word: "file", Always: true, Words: []string{"exists", "folder", "missing"},
			Text: func(v View, _ string) (string, bool) { return v.InTree() },
			read: (*builder).treeValue, Vary: VaryPath{}},
	}
	for kind := range fieldRows {
		if row := &fieldRows[kind]; row.Word == "" || row.Text == nil || row.read == nil || row.Vary == nil {
			panic("a field lacks part of its row: " + row.Word)
		}
	}
}

// shortFields are other words for fields.
var shortFields = map[string]Field{"agent": {FieldHeader, "user-agent"}, "referrer": {FieldHeader, "referer"}}

// String is the field as a rulebook writes it.
func (f Field) String() string {
	for word, field := range shortFields {
		if field == f {
			return word
		}
	}
	if f.Name == "" {
		return f.Row().Word
	}
	return f.Row().Word + "." + f.Name
}

// Encoded reports whether the field's value is percent-encoded.
func (f Field) Encoded() bool { return f.Row().Encoded && f.Name == "" }

// parseField reads a field's name; ok is false for one that is unknown.
func parseField(s string) (Field, bool) {
	if f, ok := shortFields[s]; ok {
		return f, true
	}
	word, name, dot := strings.Cut(s, ".")
	for kind := range fieldRows {
		row := &fieldRows[kind]
		switch {
		case row.Word != word || dot && (!row.Family || name == "") || !dot && row.Family && !row.Plain:
			continue
		case row.Header != nil && row.Header(name) == name: // names of header fields have no case
			name = strings.ToLower(name)
		}
		return Field{FieldKind(kind), name}, true
	}
	return Field{}, false
}

// FieldWords gives the fields as they are written.
func FieldWords() []string {
	var out []string
	for kind := range fieldRows {
		row := &fieldRows[kind]
		if !row.Family || row.Plain {
			out = append(out, row.Word)
		}
		if row.Family {
			out = append(out, row.Word+".NAME")
		}
	}
	for word := range shortFields {
		out = append(out, word)
	}
	slices.Sort(out)
	return out
}

func queryField(v View, name string) (string, bool) {
	if name == "" {
		return v.Query(), v.Query() != ""
	}
	return request.Parameter(v.Query(), name)
}

func putQuery(r *request.Request, name, text string, present bool) {
	var pairs []string
	if name != "" {
		pairs = slices.DeleteFunc(strings.Split(r.Address.Query, "&"), func(pair string) bool {
			key, _, _ := strings.Cut(pair, "=")
			decoded, err := url.QueryUnescape(key)
			return pair == "" || key == name || err == nil && decoded == name
		})
		text = request.ParameterText(name) + "=" + request.ParameterText(text)
	}
	if present {
		pairs = append(pairs, text)
	}
	r.Address.Query = strings.Join(pairs, "&")
	r.Address.HasQuery = len(pairs) > 0
}

func putHeader(r *request.Request, name, text string, present bool) {
	r.Headers = slices.DeleteFunc(slices.Clone(r.Headers), func(h request.Header) bool { return strings.EqualFold(h.Name, name) })
	if present {
		r.Headers = append(r.Headers, request.Header{Name: http.CanonicalHeaderKey(name), Value: text})
	}
}

// cookie gives the first cookie of a name, as it was sent (RFC 6265, 4.2.1).
func cookie(header, name string) (string, bool) {
	for header != "" {
		var pair string
		pair, header, _ = strings.Cut(header, ";")
		key, value, ok := strings.Cut(strings.TrimSpace(pair), "=")
		if ok && key == name {
			return value, true
		}
	}
	return "", false
}

func putCookie(r *request.Request, name, text string, present bool) {
	var pairs []string
	all, _ := r.Get("Cookie")
	for pair := range strings.SplitSeq(all, ";") {
		if key, _, _ := strings.Cut(strings.TrimSpace(pair), "="); key != "" && key != name {
			pairs = append(pairs, strings.TrimSpace(pair))
		}
	}
	if present {
		pairs = append(pairs, name+"="+text)
	}
	putHeader(r, "cookie", strings.Join(pairs, "; "), len(pairs) > 0)
}

// firstLanguage gives the language that is asked for with the highest weight, the first of
// several (RFC 9110, 12.5.4), in small letters. `*` is none.
func firstLanguage(header string) (first string, some bool) {
	most := 0.0
	for language, weight := range request.Weighted(header) {
		if weight > most && isLanguage(language) {
			first, most = language, weight
		}
	}
	return first, most > 0
}

// isLanguage reports whether a text is a language range without `*` (RFC 4647, 2.1), in
// small letters.
func isLanguage(s string) bool {
	for i, part := range strings.Split(s, "-") {
		if len(part) < 1 || len(part) > 8 || strings.Trim(part, "abcdefghijklmnopqrstuvwxyz0123456789") != "" || i == 0 && strings.ContainsAny(part, "0123456789") {
			return false
		}
	}
	return true
}

// languages is the set of all of them.
var languages = sync.OnceValue(func() *pattern.Lang {
	all, err := pattern.Regexp(`[a-z]{1,8}(?:-[a-z0-9]{1,8})*`)
	if err != nil {
		panic(err)
	}
	return all
})

func (b *builder) languageValue(t *Test, words []Word, v *Value) (*Value, int) {
	w := words[0]
	switch low := strings.ToLower(w.Text); {
	case strings.HasPrefix(w.Text, "~"):
	case low != w.Text:
		b.errs.at(w, "languages are compared in small letters: write %s", low)
		return nil, 1
	case !isLanguage(strings.TrimRight(low, "-*")) && strings.Trim(low, "*") != "":
		b.errs.at(w, "%s is not a language: write one like de, de-at or de*", w.Quote())
		return nil, 1
	}
	return b.textValue(t, words, v)
}
