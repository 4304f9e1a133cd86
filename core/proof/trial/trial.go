// Package trial holds the proofs to account: random rulebooks whose every short
// request is tried against what is claimed of them, and good rulebooks into
// which faults are planted.
package trial

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"slices"
	"strings"

	"kibitz/core/browser"
	"kibitz/core/canonical"
	"kibitz/core/engine"
	"kibitz/core/proof"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// Book writes a small random rulebook.
func Book(r *rand.Rand) string {
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	var b strings.Builder
	b.WriteString("site s address https://s.example files public hosts " + strings.Join(others, " ") + "\n")
	for i := range 1 + r.IntN(5) {
		on := pick("/a", "/:x", "/*", "/a/:x", "/:x/:y", "/a*", "/:x-:y", "/a/*", "/b/:x{/}?", "~/(a|b)+", "~/a(.*)b")
		var names []string
		for _, name := range []string{"x", "y"} {
			if strings.Contains(on, ":"+name) {
				names = append(names, "{"+name+"}")
			}
		}
		if strings.ContainsAny(on, "*(") && on != "~/(a|b)+" {
			names = append(names, "{1}")
		}
		to := "/"
		for range r.IntN(4) {
			if len(names) == 0 || r.IntN(3) == 0 {
				to += pick("a", "b", "a/", "b/", "-")
			} else {
				to += pick(names...)
			}
		}
		when := pick("", "", "", " when scheme http", " when scheme https", " when header.h present", " unless header.h present", " when host www.s.example", " when host old.s.example", " unless host s.example old.s.example", " when host ~o.*", " when query.q 1", " when query present", " unless query ~q=.*",
			" when method POST", " unless method POST", " when client 192.0.2.0/24", " unless client 192.0.2.0/24")
		where := "on " + on
		if r.IntN(5) == 0 {
			where = "in " + pick("/a/", "/b/", "/a/b/", "/")
			to = strings.NewReplacer("{x}", "{below}", "{y}", "{below}", "{1}", "{below}").Replace(to)
		}
		switch r.IntN(10) {
		case 0, 1, 2, 3:
			if r.IntN(4) == 0 {
				to = pick("https", "http") + "://" + pick("{host}", "s.example", "old.s.example", "c.s.example") + to
			}
			fmt.Fprintf(&b, "redirect e%d %s%s to %s as %s\n", i, where, when, to, pick("301", "301", "307", "303"))
		case 4, 5:
			fmt.Fprintf(&b, "rewrite e%d %s%s to %s then %s\n", i, where, when, to, pick("next", "next", "finish", "again"))
		case 6:
			fmt.Fprintf(&b, "moves e%d table %s%s as permanent\n", i, Table, when)
		case 7:
			fmt.Fprintf(&b, "%s\n", pick(fmt.Sprintf("folder e%d in / slash %s", i, pick("drop", "leave")), fmt.Sprintf("fallback e%d %s to /a", i, where), fmt.Sprintf("handoff e%d %s", i, where)))
		case 8:
			fmt.Fprintf(&b, "access e%d %s%s %s\n", i, where, when, pick("refuse 403", "refuse 404", "admit", "ask crew accounts "+Accounts))
		default:
			fmt.Fprintf(&b, "reply e%d %s%s with 200\n", i, where, when)
		}
	}
	return b.String()
}

// Accounts is a file that rulebooks of Book name, with one account: a, b. Table is
// one of old addresses.
const (
	Accounts = "crew.accounts"
	Table    = "moves.csv"
)

// Load gives the content of the files that rulebooks of Book name.
func Load(name string) ([]byte, error) {
	switch name {
	case Table:
		return []byte("/a,/b\n/b,/a/\n/b?q=1,/ab\n/ab,/a/b,302\n/ba,,410\nhttps://s.example/aa,/a\n/aba,https://c.s.example/a\n/bb,https://old.s.example/b\n"), nil
	case Accounts:
	default:
		return nil, os.ErrNotExist
	}
	return []byte("a:$2a$04$4y.2qM7uE8l8CKtcMzd25urC99HnSazwsZ5.Reqgzpq0qwsG8RsSu\n"), nil
}

// others are the names of a site of Book beside its main one.
var others = []string{"www.s.example", "old.s.example", "c.s.example"}

// Requests gives all requests over paths of up to five characters, with every
// value of the conditions that a rulebook of Book has.
func Requests(base request.Address, text string) []*request.Request {
	vary := 0
	for bit, word := range []string{"host", "scheme", "header.h", "query", "method", "client", "ask"} {
		if strings.Contains(text, "when "+word) || strings.Contains(text, "unless "+word) || bit == 0 && strings.Contains(text, "to http") || bit == 1 && strings.Contains(text, "http://") || word == "ask" && strings.Contains(text, " ask ") {
			vary |= 1 << bit
		}
	}
	paths := []string{"/"}
	for from, n := 0, 0; n < 4; n++ {
		to := len(paths)
		for _, p := range paths[from:to] {
			for _, c := range "ab/-" {
				if q := p + string(c); canonical.Is(q, false) {
					paths = append(paths, q)
				}
			}
		}
		from = to
	}
	paths = append(paths, "/%20", "/a%20b", "/%C3%A4", "/a%2Fb", "/.", "/.a", "/a..b")
	paths = slices.DeleteFunc(paths, func(p string) bool { return !canonical.Is(p, false) })
	var out []*request.Request
	for _, p := range paths {
		for i := range 128 {
			if i&^vary != 0 {
				continue
			}
			req := &request.Request{Address: base}
			req.Address.Path = p
			if i&1 != 0 {
				req.Address.Host = others[len(out)%len(others)] // in turn
			}
			if i&2 != 0 {
				req.Address.Scheme, req.Address.Port = "http", 80
			}
			if i&4 != 0 {
				req.Headers = []request.Header{{Name: "H", Value: "x"}}
			}
			if i&8 != 0 {
				req.Address.Query, req.Address.HasQuery = "q=1", true
			}
			if i&16 != 0 {
				req.Method = "POST"
			}
			if i&32 != 0 {
				req.Client = netip.AddrFrom4([4]byte{192, 0, 2, 1})
			}
			if i&64 != 0 {
				req.Headers = append(req.Headers, request.Header{Name: "Authorization", Value: "Basic YTpi"})
			}
			out = append(out, req)
		}
	}
	return out
}

// A Count is how many entries had each claim.
type Count map[string]map[string]int // by finding, by state

// Claims are those that can be broken by a request.
var Claims = []string{"redirect-loop", "runaway", "rewrite-loop", "never-reached", "bad-target", "chain", "downgrade", "method-lost"}

// Hold checks a rulebook and tries every request against the report. The error
// tells of a claim that is broken, or of a finding that is none.
func Hold(text string, count Count) error {
	book, err := rulebook.Read("t.kibitz", []byte(text), Load)
	if err != nil {
		return fmt.Errorf("%w in\n%s", err, text)
	}
	e := engine.New(book, []*site.Tree{site.Memory(map[string]string{"/a": "a", "/b/index.html": "b"})})
	report := proof.Check(e, 1)
	state := map[string]string{} // of finding and entry
	for _, c := range report.Claims {
		for _, rule := range c.Rules {
			if !slices.Contains(Claims, c.Finding) {
				continue
			}
			state[c.Finding+" "+rule] = c.State
			if count != nil {
				if count[c.Finding] == nil {
					count[c.Finding] = map[string]int{}
				}
				count[c.Finding][c.State]++
			}
		}
	}
	for _, f := range report.Findings {
		if err := shown(e, f); err != nil {
			return fmt.Errorf("%w in\n%s", err, text)
		}
	}
	for _, req := range Requests(book.Sites[0].Address, text) {
		for _, rule := range e.Met(req) {
			if state["never-reached "+rule.Name] == proof.Found && rule.Kind != rulebook.KindMoves { // of which rows are meant
				return fmt.Errorf("%s is said never to be reached, and is by %s, in\n%s", rule.Name, req.Address, text)
			}
		}
		v := browser.OpenFor(e, req, 22)
		for i, h := range v.Hops {
			by := h.Response.By
			if by == nil {
				continue
			}
			for _, broken := range shows(v, i) {
				if state[broken+" "+by.Name] != proof.Proved {
					continue
				}
				return fmt.Errorf("%s is said to be impossible for %s: %s %v, in\n%s", broken, by.Name, req.Address, req.Headers, text)
			}
		}
	}
	return nil
}

// shows gives what a hop of a visit shows of the entry that decides it.
func shows(v *browser.Visit, i int) (findings []string) {
	add := func(so bool, finding string) {
		if so {
			findings = append(findings, finding)
		}
	}
	h := v.Hops[i]
	add(v.Ending == browser.Loop && i >= v.Again, "redirect-loop")
	add(v.Ending == browser.TooLong && i >= len(v.Hops)-2, "runaway")
	add(h.Response.Cause == engine.CauseRewriteLoop, "rewrite-loop")
	add(h.Response.Cause == engine.CauseBadTarget, "bad-target")
	if i+1 == len(v.Hops) {
		return findings
	}
	next := v.Hops[i+1]
	add(v.Ending == browser.Arrived && browser.Follows(next.Response), "chain")
	add(h.Request.Address.Scheme == "https" && next.Request.Address.Scheme == "http", "downgrade")
	add(h.Request.Verb() == "POST" && next.Request.Verb() == "GET" && h.Response.Status != 303, "method-lost")
	return findings
}

// shown reports whether a finding's own request shows it.
func shown(e *engine.Engine, f *proof.Finding) error {
	if f.Request == nil {
		return nil
	}
	v := browser.OpenFor(e, f.Request, 1000)
	met := e.Met(f.Request)
	ok := true
	switch f.Name {
	case "redirect-loop":
		ok = v.Ending == browser.Loop
	case "runaway":
		ok = v.Ending == browser.TooLong
	case "rewrite-loop":
		ok = v.Hops[0].Response.Cause == engine.CauseRewriteLoop
	case "never-reached":
		ok = !slices.Contains(met, f.Rules[0])
	case "bad-target":
		ok = v.Hops[0].Response.Cause == engine.CauseBadTarget
	case "conflict", "order-decides":
		ok = e.Takes(f.Rules[0], f.Request) && e.Takes(f.Rules[1], f.Request)
	case "chain":
		ok = v.Redirects() >= 2
	}
	if !ok {
		return fmt.Errorf("%s: %s does not show it", f.Name, f.Request.Address)
	}
	return nil
}

// Good is a rulebook in which nothing but notes is found, with GoodFiles for its
// tree: one more to plant faults into.
const Good = `site s address https://s.example files public hosts www.s.example
redirect secure when scheme http to https://{host}{path} as permanent
redirect name when host www.s.example to https://s.example{path} as permanent
access crew in /crew/ unless client 192.0.2.0/24 refuse 403
access office in /office/ unless client 198.51.100.0/24 refuse 403
redirect special on /old/map to /maps/ as permanent
redirect general on /old/:x to /new/{x}.html as permanent
redirect short on /m to /maps/ as 303
redirect shorter on /c to /new/a.html as 303
redirect german on /start when cookie.lang de to /new/a.html as 302
redirect start on /start to /maps/ as 302
rewrite plan on /plan/:x to /new/{x}.html
reply closed on /closed with 503 text closed
`

// GoodFiles are the files of Good.
var GoodFiles = map[string]string{"/index.html": "x", "/maps/index.html": "m", "/crew/rota.html": "r", "/office/keys.html": "k", "/new/a.html": "a"}

// A Mutant is a rulebook with one fault planted.
type Mutant struct {
	Fault string
	Text  string
}

// Faults are the ways in which Mutate harms a rulebook.
var Faults = []string{"drop a condition", "swap two entries", "broaden a pattern", "go around a guard", "redirect back"}

// Mutate plants one fault of a kind at random; ok is false where the rulebook
// has no place for it. Entries of one line are changed, others stay.
func Mutate(r *rand.Rand, text, fault string) (m Mutant, ok bool) {
	lines := strings.Split(text, "\n")
	var at []int
	for i, line := range lines {
		word, _, _ := strings.Cut(line, " ")
		alone := i+1 == len(lines) || !strings.HasPrefix(lines[i+1], " ")
		switch word {
		case "redirect", "rewrite", "access", "reply", "handoff":
			if alone {
				at = append(at, i)
			}
		}
	}
	r.Shuffle(len(at), func(i, j int) { at[i], at[j] = at[j], at[i] })
	for _, i := range at {
		out := slices.Clone(lines)
		if plant(r, out, i, fault) {
			return Mutant{fault, strings.Join(out, "\n")}, true
		}
	}
	return m, false
}

// plant puts a fault into line i.
func plant(r *rand.Rand, lines []string, i int, fault string) bool {
	words := strings.Fields(lines[i])
	value := func(word string) (int, string) {
		for j := 2; j+1 < len(words); j++ {
			if words[j] == word {
				return j, words[j+1]
			}
		}
		return -1, ""
	}
	switch fault {
	case "drop a condition":
		for _, word := range []string{"when", "unless"} {
			if j, _ := value(word); j > 0 && j+2 < len(words) && !strings.HasPrefix(words[j+1], "cookie") {
				end := j + 3
				for end < len(words) && !slices.Contains([]string{"to", "as", "refuse", "ask", "admit", "when", "unless", "on", "in", "with", "then"}, words[end]) {
					end++
				}
				lines[i] = strings.Join(slices.Delete(words, j, end), " ")
				return true
			}
		}
	case "swap two entries":
		for j := i + 1; j < len(lines); j++ {
			word, _, _ := strings.Cut(lines[j], " ")
			if word == words[0] && (j+1 == len(lines) || !strings.HasPrefix(lines[j+1], " ")) {
				lines[i], lines[j] = lines[j], lines[i]
				return true
			}
		}
	case "broaden a pattern":
		if j, on := value("on"); j > 0 && !strings.HasPrefix(on, "~") && strings.Count(on, "/") >= 1 && !strings.Contains(lines[i], "{") {
			words[j+1] = on[:strings.LastIndex(on, "/")+1] + "*"
			lines[i] = strings.Join(words, " ")
			return true
		}
	case "go around a guard":
		if j, in := value("in"); j > 0 && words[0] == "access" && !slices.Contains(words, "admit") {
			first := slices.IndexFunc(lines, func(l string) bool { return strings.HasPrefix(l, "redirect") || strings.HasPrefix(l, "access") })
			lines[first] = fmt.Sprintf("rewrite planted-alias on /planted/* to %s{1} then finish\n%s", in, lines[first])
			return true
		}
	case "redirect back":
		j, on := value("on")
		k, to := value("to")
		if j > 0 && k > 0 && words[0] == "redirect" && !strings.ContainsAny(on+to, ":*~({?") && strings.HasPrefix(to, "/") {
			lines[i] += fmt.Sprintf("\nredirect planted-back on %s to %s as permanent", to, on)
			return true
		}
	}
	return false
}

// Caught says what became of a mutant: a new finding, no difference to any of
// the requests, or neither.
type Caught int

const (
	Missed Caught = iota
	Found
	Same // it answers everything as the rulebook did
)

// Try checks a mutant against what was found in the rulebook that it is made of.
func Try(before *engine.Engine, known *proof.Report, after *engine.Engine, requests []*request.Request) Caught {
	old := map[string]bool{}
	for _, f := range known.Findings {
		old[key(f)] = true
	}
	report := proof.Check(after, 1)
	for _, f := range report.Findings {
		if !old[key(f)] {
			return Found
		}
	}
	for _, req := range append(requests, proof.Requests(after)...) {
		a, b := before.Predict(req), after.Predict(req)
		if a.Status != b.Status || a.Location != b.Location || a.File != b.File {
			return Missed
		}
	}
	return Same
}

func key(f *proof.Finding) string {
	key := f.Name
	for _, r := range f.Rules {
		key += " " + r.Name
	}
	return key
}
