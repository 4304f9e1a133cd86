package proof

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"time"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// formsOf gives values that the tests of a field can have, as they are written.
func formsOf(f rulebook.Field) []string {
	switch f.Row().Vary.(type) {
	case rulebook.VaryHosts:
		return []string{"s.example", "www.s.example", "*.boats.s.example", "~w+\\.s\\.example", "~.*t.*", "present"}
	case rulebook.VaryClients:
		return []string{"192.0.2.0/24", "192.0.2.7", "0.0.0.0/0", "2001:db8::/32", "::/0", "present", "absent"}
	case rulebook.VaryNumbers:
		if f.Kind == rulebook.FieldTime {
			return []string{"after 2026-02-01", "before 2026-03-01", "after 2026-02-01 before 2026-02-02", "present", "absent"}
		}
		if f.Kind == rulebook.FieldBody {
			return []string{"5B", "over 5B", "below 6B", "over 5B below 9B", "present"}
		}
		return []string{"5", "over 5", "below 6", "over 5 below 9", "80", "443", "present"}
	case rulebook.VaryWords:
		return f.Row().Words
	}
	if f.Kind == rulebook.FieldLanguage {
		return []string{"de", "de-at", "d*", "~e.*", "present", "absent"}
	}
	if f.Kind == rulebook.FieldMethod {
		return []string{"GET", "POST", "~P.*", "~.*T", "present"}
	}
	return []string{"a", "ab", "a*", "*b", "*a*", "~[ab]+", "~.?", "present", "absent", `""`, `"a b"`}
}

// fieldOf reads the name of a field.
func fieldOf(t *testing.T, word string) rulebook.Field {
	t.Helper()
	for _, value := range []string{"a", "5", "5B", "https", "GET", "192.0.2.0/24", "after 2026-01-01", "s.example", "de", "exists", "/a"} {
		text := fmt.Sprintf("site s address https://s.example files public\nredirect e on /a when %s %s to /z as 302\n", word, value)
		if book, err := rulebook.Read("t.kibitz", []byte(text), nil); err == nil {
			return book.Rules[0].Tests[0].Field
		}
	}
	t.Fatalf("no value was found for a test of %s", word)
	return rulebook.Field{}
}

// anyValue puts some value of a field into a request.
func anyValue(r *rand.Rand, f rulebook.Field, req *request.Request) {
	row := f.Row()
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	switch row.Vary.(type) {
	case rulebook.VaryHosts:
		row.Put(req, f.Name, pick("s.example", "www.s.example", "tern.boats.s.example", "t.boats.s.example", "ww.boats.s.example"), true)
	case rulebook.VaryClients:
		if req.Client = (netip.Addr{}); r.IntN(5) > 0 {
			req.Client = netip.MustParseAddr(pick("192.0.2.7", "192.0.2.8", "10.0.0.1", "2001:db8::1", "2001:db9::1", "::ffff:192.0.2.7"))
		}
	case rulebook.VaryNumbers:
		switch {
		case f.Kind != rulebook.FieldTime:
			row.Set(req, int64([]int{1, 4, 5, 6, 7, 8, 9, 10, 80, 443}[r.IntN(10)]))
		case r.IntN(5) > 0:
			row.Set(req, time.Date(2026, time.Month(1+r.IntN(4)), 1+r.IntN(3), r.IntN(2), 0, 0, 0, time.UTC).UnixMicro())
		}
	case rulebook.VaryWords:
		row.Put(req, f.Name, pick(row.Words...), true)
	case rulebook.VaryTexts:
		switch {
		case f.Kind == rulebook.FieldMethod:
			req.Method = pick("GET", "POST", "PUT", "PATCH", "DELETE", "T", "P")
		case f.Kind == rulebook.FieldLanguage:
			row.Put(req, f.Name, pick("de", "de-at", "en", "fr, de", "d", "e"), r.IntN(5) > 0)
		default:
			text := ""
			for range r.IntN(4) {
				text += pick("a", "b", "c")
			}
			row.Put(req, f.Name, text, r.IntN(5) > 0)
		}
	}
}

// Whatever tests of a field say, no value of it gives a combination of answers that none of
// the values chosen for the proofs gives.
func TestChoicesGiveEveryCombinationOfAnswers(t *testing.T) {
	words := rulebook.FieldWords()
	doubted := map[string]int{}
	const rounds = 40
	for _, word := range words {
		word := strings.Replace(word, "NAME", "a", 1)
		f := fieldOf(t, word)
		switch f.Row().Vary.(type) {
		case rulebook.VaryPath, rulebook.VaryNot:
			continue
		}
		for seed := range uint64(rounds) {
			r := rand.New(rand.NewPCG(seed, 21))
			text := "site s address https://s.example hosts www.s.example *.boats.s.example\n"
			for i := range 1 + r.IntN(3) {
				forms := formsOf(f)
				value := forms[r.IntN(len(forms))]
				line := fmt.Sprintf("redirect e%d on /a%d %s %s %s to /z as 302\n", i, i, []string{"when", "unless"}[r.IntN(2)], word, value)
				if _, err := rulebook.Read("t.kibitz", []byte(text+line), nil); err == nil {
					text += line
				}
			}
			book, err := rulebook.Read("t.kibitz", []byte(text), nil)
			if err != nil || len(book.Rules) == 0 {
				continue
			}
			e := engine.New(book, []*site.Tree{nil})
			sp := newSpace(e, book.Sites[0], 1)
			answers := func(req *request.Request) (out string) {
				for _, rule := range book.Rules {
					for _, test := range rule.Tests {
						out += fmt.Sprint(e.Holds(test, req), " ")
					}
				}
				return out
			}
			s := sp.ask(question{in: book.Rules})
			chosen := map[string]bool{}
			for _, req := range s.choices(s.fields[0], sp.base) {
				chosen[answers(&req)] = true
			}
			if s.why != "" {
				doubted[s.why]++
				continue
			}
			for range 200 {
				req := sp.base
				anyValue(r, f, &req)
				if got := answers(&req); !chosen[got] {
					t.Fatalf("%s %s %v client %v at %v gives %s, which no choice gives, in\n%s", req.Verb(), req.Address, req.Headers, req.Client, req.Time, got, text)
				}
			}
		}
	}
	for why, n := range doubted {
		t.Logf("%d doubted: %s", n, why)
	}
}
