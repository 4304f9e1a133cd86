// Package trial holds the proofs to account: random rulebooks whose every short
// request is tried against what is claimed of them, and good rulebooks into
// which faults are planted.
package trial

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// Two sites, with two hosts each. The second may have the files of the first, those of a
// folder of it, others, or none that are known.
const (
	firstSite  = "site s address https://s.example files public hosts www.s.example"
	secondSite = "site t address https://t.example%s hosts www.t.example"
)

// Files are the trees of the sites, by their folders.
var Files = map[string]map[string]string{
	"public":   {"/a": "a", "/b/index.html": "b", "/b/ab": "ab", "/b/ab.gz": "z", "/404.html": "<p>{path}", "/.h": "h", "/-/a": "x", "/a.bak": "k"},
	"public/b": {"/index.html": "b", "/ab": "ab", "/ab.gz": "z"},
	"other":    {"/a": "a", "/ab/a": "x"},
}

// Trees gives the tree of each site of a rulebook; nil for those of which none is known.
func Trees(book *rulebook.Book) []*site.Tree {
	var out []*site.Tree
	for _, s := range book.Sites {
		var tree *site.Tree
		if files, ok := Files[s.Files]; ok {
			tree = site.Memory(files)
		}
		out = append(out, tree)
	}
	return out
}

// Accounts is a file that rulebooks of Book name, with one account: a, b. Table is
// one of old addresses.
const (
	Accounts = "crew.accounts"
	Table    = "moves.csv"
	Cased    = "cased.csv" // another one, of which some have capitals
)

// Load gives the content of the files that rulebooks of Book name.
func Load(name string) ([]byte, error) {
	switch name {
	case Table:
		return []byte("/a,/b\n/b,/a/\n/b?q=1,/ab\n/ab,/a/b,302\n/ba,,410\nhttps://s.example/aa,/a\n/aba,https://www.s.example/a\n/bb,https://t.example/b\n"), nil
	case Cased:
		return []byte("/A,/b\n/ab,/A/B\n/b/A,/AB\n/B/_,/b/a\n/a/-,https://www.s.example/AB\n"), nil
	case Accounts:
		return []byte("a:$2a$04$4y.2qM7uE8l8CKtcMzd25urC99HnSazwsZ5.Reqgzpq0qwsG8RsSu\n"), nil
	}
	return nil, os.ErrNotExist
}

// Read reads a rulebook of Book.
func Read(text string) (*engine.Engine, error) {
	book, err := rulebook.Read("t.kibitz", []byte(text), Load)
	if err != nil {
		return nil, fmt.Errorf("%w in\n%s", err, text)
	}
	return engine.New(book, Trees(book)), nil
}

// conditions are tests of every field, with the tests that one rulebook has together.
var conditions = [][]string{
	{"scheme http", "scheme https"},
	{"host www.s.example", "host s.example t.example", "host ~w.*"},
	{"port 8080", "port over 1000"},
	{"method POST", "method GET HEAD", "method ~P.*"},
	{"query present", "query absent", "query ~q=.*"},
	{"query.q 1", "query.q present", "query.q ~[12]"},
	{"header.h present", "header.h x", "header.h x*"},
	{"cookie.c present", "cookie.c de", "cookie.c absent"},
	{"agent *bot*", "agent absent"},
	{"referrer https://s.example/*", "referrer absent"},
	{"language de", "language absent"},
	{"client 192.0.2.0/24", "client 192.0.2.0/25", "client 192.0.2.0/24 2001:db8::/32", "client absent", "client 192.0.2.200"},
	{"time after 2026-03-01", "time after 2026-03-01 before 2026-04-01", "time present"},
	{"body over 5B", "body 0B"},
	{"user a", "user present"},
	{"path /a*", "path ~/b/.*"},
	{"asked /a*", "asked /b/*"},
	{"file exists", "file missing", "file folder"},
}

// A writer writes random rulebooks in which much meets.
type bookWriter struct {
	*writer
	fields   [][]string // the conditions that this rulebook has
	capitals bool       // capitals and small letters meet, and _ and -
	values   bool       // what requests hold is copied
	slashes  bool       // runs of slashes are kept
	cookies  bool       // answers set cookies
}

// Book writes a small random rulebook.
func Book(r *rand.Rand) string {
	w := &bookWriter{writer: &writer{r}}
	for range 3 {
		w.fields = append(w.fields, conditions[r.IntN(len(conditions))])
	}
	w.capitals, w.values = r.IntN(4) == 0, r.IntN(4) == 0
	if w.cookies = r.IntN(5) == 0; w.cookies {
		w.fields[0] = conditions[slices.IndexFunc(conditions, func(tests []string) bool { return strings.HasPrefix(tests[0], "cookie.") })]
	}
	keep := w.pick("", "", "", "", " slashes keep")
	w.slashes = keep != ""
	lines := []string{firstSite + w.pick("", "", "", " *.s.example") + keep + w.pick("", "", "", "", " unknown-hosts answer")}
	for i := range 1 + r.IntN(6) {
		lines = append(lines, w.entry(fmt.Sprint("e", i), true))
	}
	for i := range 2 {
		if w.cookies && r.IntN(3) > 0 {
			lines = append(lines, fmt.Sprint("header k", i, w.pick("", " on /a", " on /:x", " on /b/*", " in /a/", " when cookie.c absent"),
				w.pick(" set", " add"), " Set-Cookie \"", w.pick("c=de", "c=de; Path=/", "c=en; Path=/", "c=; Max-Age=0; Path=/", "c=; Max-Age=0", "c={query.q}; Path=/", "d=1", "c=de; Domain=s.example; Path=/a", "c=de; Secure; Path=/", "c=en; SameSite=None", "c=\\\"de\\\"; Path=/"), "\""))
		}
	}
	if r.IntN(3) == 0 {
		files := w.pick(" files public", " files public", " files public/b", " files other", "")
		lines = append(lines, fmt.Sprintf(secondSite, files))
		for i := range r.IntN(3) {
			lines = append(lines, w.entry(fmt.Sprint("f", i), files != ""))
		}
	}
	for { // what cannot be read is left out
		text := strings.Join(lines, "\n") + "\n"
		_, err := rulebook.Read("t.kibitz", []byte(text), Load)
		errs, bad := err.(rulebook.Errors)
		if !bad {
			return text
		}
		at := errs[len(errs)-1].Place.Line - 1
		lines = slices.Delete(lines, at, at+1)
	}
}

// entry writes one entry of a site of which the tree is known, or is not.
func (w *bookWriter) entry(name string, tree bool) string {
	patterns := []string{"/a", "/:x", "/*", "/a/:x", "/:x/:y", "/a*", "/:x-:y", "/a/*", "/b/:x{/}?", "~/(a|b)+", "~/a(.*)b", "/b/*", "/:x.:y", "{/index.html}?", "{/a}?{/b}?", "/:x(a|b)"}
	if w.capitals {
		patterns = append(patterns, "/A", "/:x/A", "~/(.*[A-Z].*)", "~/([a-z]+)(.*)", "/A/*", "/:x_:y", "~/(?i:(a.*))")
	}
	if w.slashes {
		patterns = append(patterns, "/a//b", "/a//:x", "//:x/*")
	}
	on := w.pick(patterns...)
	var names []string
	for _, name := range []string{"x", "y"} {
		if strings.Contains(on, ":"+name) {
			names = append(names, "{"+name+"}")
		}
	}
	if strings.ContainsAny(on, "*(") && on != "~/(a|b)+" && !strings.Contains(on, ":x(") {
		names = append(names, "{1}")
	}
	where := " on " + on
	switch w.IntN(12) {
	case 0, 1:
		where, names = " in "+w.pick("/a/", "/b/", "/a/b/", "/"), []string{"{below}", "{path}"}
	case 2:
		where += " " + w.pick(patterns...)
	case 3:
		where += " in " + w.pick("/a/", "/b/", "/")
	}
	for range w.IntN(3) {
		field := w.fields[w.IntN(len(w.fields))]
		where += w.pick(" when ", " when ", " unless ") + field[w.IntN(len(field))]
	}
	if w.values {
		if w.IntN(3) == 0 {
			where += w.pick(" when query.q ~(?<c>[a-z/]*)", " when path ~/(?<c>.*)b", " when header.h ~(?<c>.*)")
			names = append(names, "{c}", "{c}")
		}
		names = append(names, w.pick("{query.q}", "{header.h}", "{host}", "{asked}", "{path}", "{scheme}", "{query}"))
	}
	if w.capitals {
		for i, name := range names {
			names[i] = w.pick(name, strings.TrimSuffix(name, "}")+w.pick("|lower}", "|upper}", "|dashes}", "|lower|dashes}"))
		}
		where += w.pick("", "", " ignoring case")
	}
	to := "/"
	for range w.IntN(4) {
		if len(names) == 0 || w.IntN(3) == 0 {
			to += w.pick("a", "b", "a/", "b/", "-")
			if w.slashes {
				to += w.pick("", "/")
			}
		} else {
			to += w.pick(names...)
		}
	}
	query := w.pick("", "", "", " query drop", " query only q", " query only r", " query merge")
	asked := to // with a query of its own
	if w.IntN(3) == 0 {
		asked += w.pick("?q=1", "?q=2", "?r=1", "?{query}x", "?q={path}")
	}
	switch w.IntN(14) {
	case 0, 1, 2, 3:
		if w.IntN(3) == 0 {
			to = w.pick("https", "http", "{scheme}") + "://" + w.pick("{host}", "{host}", "s.example", "www.s.example", "t.example", "u.example") + w.pick(to, "{path}")
		}
		if w.IntN(2) == 0 {
			to += w.pick("?q=1", "?q=2", "?r=1", "?{query}x")
			query = w.pick("", "", " query merge")
		}
		return "redirect " + name + where + " to " + to + " as " + w.pick("301", "301", "308", "307", "303") + query
	case 4, 5:
		return "rewrite " + name + where + " to " + asked + " then " + w.pick("next", "next", "finish", "again") + query
	case 6:
		table := Table
		if w.capitals {
			table = w.pick(Table, Cased, Cased)
		}
		return "moves " + name + " table " + table + where[strings.Index(where+" when", " when"):] + " as permanent" + query
	case 7:
		if !tree {
			return "handoff " + name + where
		}
		return w.pick("folder "+name+" in / slash "+w.pick("drop", "leave", "add")+w.pick("", " documents ab", " listing on", " hidden on"), "fallback "+name+where+" to "+w.pick("/a", to, "{path}.html /a"), "fallback "+name+" to /b/ab")
	case 8:
		return "handoff " + name + where
	case 9, 10:
		return "access " + name + where + " " + w.pick("refuse 403", "refuse 403", "refuse 404", "admit", "ask crew accounts "+Accounts)
	case 11:
		if !tree {
			return "reply " + name + where + " with 410"
		}
		return w.pick("error "+name+" for 404 show "+w.pick("/404.html", "/b/ab", "/none.html"), "error "+name+" for 403 show /b/ab", "reply "+name+where+" with 200 show /a")
	}
	if w.IntN(2) == 0 {
		return w.pick("limit "+name+where+w.pick(" url 40B", " body 5B"), "header "+name+where+w.pick(" set Cache-Control no-store", " set Vary Cookie", " set Referrer-Policy "+w.pick("no-referrer", "origin", "unsafe-url", "same-origin", "strict-origin", "origin-when-cross-origin"), " add Vary Accept-Language", " set Vary *"))
	}
	return "reply " + name + where + " with 200 text b"
}

// values gives requests like one, with every value of a field that a rulebook of Book tells
// from others.
func values(f rulebook.Field, req *request.Request) []*request.Request {
	out := []*request.Request{req}
	put := func(text string, present bool) {
		next := *req
		next.Headers = slices.Clone(req.Headers)
		f.Row().Put(&next, f.Name, text, present)
		out = append(out, &next)
	}
	switch f.Kind {
	case rulebook.FieldMethod:
		put("POST", true)
		put("HEAD", true)
	case rulebook.FieldQuery:
		if f.Name == "" {
			put("a", true)
		}
		f.Name = "q"
		put("1", true)
		put("3", true)
		put("a", true)
	case rulebook.FieldHeader:
		switch f.Name {
		case "user-agent":
			put("a bot", true)
		case "referer":
			put("https://s.example/a", true)
		default:
			put("", true)
		}
		put("x", true)
	case rulebook.FieldCookie, rulebook.FieldLanguage:
		put("de", true)
		put("", f.Kind == rulebook.FieldCookie)
	case rulebook.FieldClient:
		for _, a := range []string{"192.0.2.1", "192.0.2.130", "192.0.2.200", "2001:db8::1", "203.0.113.5"} {
			put(a, true)
		}
	case rulebook.FieldTime:
		for _, at := range []string{"2026-02-01T00:00:00Z", "2026-03-02T00:00:00Z", "2026-05-01T00:00:00Z"} {
			put(at, true)
		}
	case rulebook.FieldBody:
		next := *req
		next.Body = 9
		out = append(out, &next)
	case rulebook.FieldUser:
		next := *req
		next.Headers = append(slices.Clone(req.Headers), request.Header{Name: "Authorization", Value: "Basic YTpi"})
		out = append(out, &next)
	}
	return out
}

// pathsOf are all of up to four characters behind the first slash, and some others: of the
// letters that the rulebook tells apart.
func pathsOf(book *rulebook.Book) []string {
	letters, keep := "ab/-", false
	for _, s := range book.Sites {
		keep = keep || s.KeepSlashes
	}
	for _, rule := range book.Rules {
		text := fmt.Sprint(rule.Entry)
		if rule.Fold || strings.ContainsAny(text, "A|") {
			letters = "ab/-A_"
		}
	}
	out := []string{"/"}
	for from, n := 0, 0; n < 4; n++ {
		to := len(out)
		for _, p := range out[from:to] {
			for _, c := range letters {
				out = append(out, p+string(c))
			}
		}
		from = to
	}
	out = append(out, "/%20", "/a%20b", "/%C3%A4", "/a%2Fb", "/.a", "/a..b", "/.h", "/b/index.html", "/index.html", "/b/ab.gz", "/ab.gz", "/404.html", "/none.html", "/a.bak", "/a.html", "/b/ab/a", "/a/b/a/b")
	return slices.DeleteFunc(out, func(p string) bool { return !canonical.Is(p, keep) })
}

// Requests gives the requests over all short paths, by every scheme and host, with every
// combination of the values that a test of the rulebook tells apart; those of one address
// side by side. Where there would be more than most, some of the paths are left out, at
// random.
func Requests(book *rulebook.Book, most int, r *rand.Rand) []*request.Request {
	var origins []request.Address
	for _, s := range book.Sites {
		hosts := []string{s.Address.Host, "www." + s.Address.Host}
		if len(s.Hosts) > 2 {
			hosts = append(hosts, "w."+s.Address.Host)
		}
		if s.UnknownHosts {
			hosts = append(hosts, "u.example")
		}
		for _, host := range hosts {
			for _, scheme := range []string{"https", "http"} {
				at := s.Address
				at.Host = host
				at.SetScheme(scheme)
				origins = append(origins, at)
			}
		}
	}
	fields := map[rulebook.Field]bool{}
	told := func(f rulebook.Field) {
		if f.Kind == rulebook.FieldQuery {
			f.Name = ""
		}
		fields[f] = true
	}
	asks := false
	for _, rule := range book.Rules {
		for _, t := range rule.Action.Templates() {
			for p := range t.Pieces {
				if p.Value && p.Capture == "" {
					told(p.Field)
				}
			}
		}
		a, ok := rule.Action.(*rulebook.Access)
		asks = asks || ok && a.Do == rulebook.Ask
		if rule.Kind == rulebook.KindHandoff { // forms are sent to it
			told(rulebook.Field{Kind: rulebook.FieldMethod})
		}
		for _, t := range rule.Tests {
			told(t.Field)
			if t.Field.Kind == rulebook.FieldPort {
				origins = append(origins, request.Address{Scheme: "https", Host: "s.example", Port: 8080})
			}
		}
	}
	if asks {
		fields[rulebook.Field{Kind: rulebook.FieldUser}] = true
	}
	addresses, others := []*request.Request{{}}, []*request.Request{{}} // with all values of the query, and of the rest
	for _, f := range sortedFields(fields) {
		list := &others
		if f.Kind == rulebook.FieldQuery {
			list = &addresses
		}
		var more []*request.Request
		for _, req := range *list {
			more = append(more, values(f, req)...)
		}
		*list = more
	}
	var out []*request.Request
	each := len(origins) * len(addresses) * len(others)
	all := pathsOf(book)
	if len(all)*each > most {
		all = slices.Clone(all)
		r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		all = all[:min(len(all), max(3, most/each))]
	}
	for _, path := range all {
		for _, at := range origins {
			for _, address := range addresses {
				for _, other := range others {
					req := *other
					req.Address = at
					req.Address.Path, req.Address.Query, req.Address.HasQuery = path, address.Address.Query, address.Address.HasQuery
					out = append(out, &req)
				}
			}
		}
	}
	return out
}

func sortedFields(fields map[rulebook.Field]bool) []rulebook.Field {
	var out []rulebook.Field
	for f := range fields {
		out = append(out, f)
	}
	slices.SortFunc(out, func(a, b rulebook.Field) int { return strings.Compare(a.String(), b.String()) })
	return out
}
