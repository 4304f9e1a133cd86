package rulebook

import (
	"fmt"
	"math/rand"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"kibitz/core/request"
	"kibitz/demo"
)

// files are what rulebooks of these tests name.
func files(name string) ([]byte, error) {
	if text, ok := example()[name]; ok {
		return text, nil
	}
	return nil, os.ErrNotExist
}

var example = sync.OnceValue(demo.Files)

// meaning is what a rulebook says, without how it is laid out.
func meaning(text string) string {
	book, err := Read("site.kibitz", []byte(text), files)
	if err != nil {
		return "errors: " + strings.Join(messages(err), "; ")
	}
	var b strings.Builder
	for _, s := range book.Sites {
		fmt.Fprintln(&b, "site", s.Name, s.Address, s.Files, s.KeepSlashes, s.UnknownHosts)
	}
	for _, r := range book.Rules {
		fmt.Fprint(&b, r.Kind, " ", r.Name)
		for _, c := range r.Entry.Clauses {
			fmt.Fprint(&b, " | ", c.Keyword.Text)
			for _, v := range c.Values {
				fmt.Fprintf(&b, " %q %v", v.Text, v.Quoted)
			}
		}
		fmt.Fprintln(&b)
	}
	return b.String()
}

func messages(err error) []string {
	var out []string
	for _, e := range err.(Errors) {
		out = append(out, e.Message)
	}
	return out
}

func TestFormatKeepsTheMeaning(t *testing.T) {
	texts := []string{string(demo.Files()["site.kibitz"]), string(demo.Files()["before.kibitz"]), string(demo.Files()["headers.kibitz"]),
		"site s address https://s.example files public\n\nredirect\n   a on\n /x # why\n\n  to /y as\n\t301\n", "# only a comment\n\n\n# and another\n",
		"site s\r\n  address https://s.example files public # main\r\n\r\nreply r with 200 text \"a  b\" \"#c\"\r\n",
		"redirect on /x to /y as 301\n  example /x => 301 /y\n  # in between\n  accept chain \"so it is\"\nlist l 1 2 # two\n"}
	for _, text := range texts {
		laid, err := Format("site.kibitz", []byte(text))
		if err != nil {
			t.Errorf("%v in\n%s", err, text)
			continue
		}
		if got, want := meaning(string(laid)), meaning(text); got != want {
			t.Errorf("laid out, it says\n%s\nand said\n%s", got, want)
		}
		again, err := Format("site.kibitz", laid)
		if err != nil || string(again) != string(laid) {
			t.Errorf("laid out twice:\n%s\nonce:\n%s", again, laid)
		}
		if strings.Count(text, "\n") != strings.Count(string(laid), "\n") || strings.Count(text, "#") != strings.Count(string(laid), "#") {
			t.Errorf("lines or comments were lost:\n%s", laid)
		}
	}
}

func FuzzRulebook(f *testing.F) {
	for _, line := range strings.Split(string(demo.Files()["site.kibitz"]), "\n") {
		if line != "" && line[0] > ' ' {
			f.Add("site s address https://s.example files public\n" + line + "\n")
		}
	}
	f.Add("site s address https://s.example files public\nredirect on ~( to {x as \"301\n header h set A {{ for 2xx\n")
	f.Add("site s address https://s.example files public\nerror for !xx text a\n")
	f.Add("list a b\n \"x\ninclude \"\"\n\t#\n")
	f.Fuzz(func(t *testing.T, text string) {
		Read("site.kibitz", []byte(text), files)
		laid, err := Format("site.kibitz", []byte(text))
		if err != nil {
			return
		}
		if got, want := meaning(string(laid)), meaning(text); got != want && !strings.Contains(want, ":") {
			t.Errorf("%q laid out is %q: it says\n%s\nand said\n%s", text, laid, got, want)
		}
		again, err := Format("site.kibitz", laid)
		if err != nil || string(again) != string(laid) {
			t.Errorf("%q laid out twice is %q, once %q (%v)", text, again, laid, err)
		}
	})
}

func TestTables(t *testing.T) {
	read := func(csv, rest string) error {
		_, err := Read("t.kibitz", []byte("site s address https://s.example files public hosts www.s.example\nmoves m table t.csv "+rest), func(string) ([]byte, error) { return []byte(csv), nil })
		return err
	}
	for _, test := range []struct{ csv, want string }{
		{"old,new\n/a,/b\n/a,/c\n", "t.csv: line 3: /a is on line 2 already"},
		{"/a,/a\n", "line 1: /a points at itself"},
		{"/a,https://s.example/a?x=1\n", "points at itself"},
		{"/%61,/a\n", "points at itself"},
		{"/a\n", "two or three fields"},
		{"/a,/b,200\n", `the status "200"`},
		{"/a,,\n", "the new address is missing"},
		{"/a,/b,410\n", "has no new address"},
		{"a,/b\n", "write /a"},
		{"/a,b\n", "write /b"},
		{"/a,//b\n", "write https://b"},
		{"/a#x,/b\n", "never reaches the server"},
		{"/%zz,/b\n", "two hexadecimal digits"},
		{"\"/a,/b\n", "quote"},
		{"/a?id=1,/a?id=2\n/b,/a,301\nhttp://s.example/c,/c2\nhttps://s.example/c,/c3\n/gone,,410\n", ""},
	} {
		err := read(test.csv, "as permanent")
		if test.want == "" && err != nil || test.want != "" && (err == nil || !strings.Contains(err.Error(), test.want)) {
			t.Errorf("%q: %v, want %q", test.csv, err, test.want)
		}
	}
	for _, test := range []struct{ csv, rest, want string }{
		{"/A,,410\n/a,,404\n", "ignoring case", "line 2: /a is on line 1 already"},
		{"/a,/b?x=1\n", "as permanent query keep", "line 1: the new address has a query of its own: write `query merge`"},
		{"/a,/b?x=1\n", "as permanent query only y x", "the new address names the parameter x itself"},
		{"/a,/b?x=1\n", "as permanent query only y", ""},
		{"/a,/b?x=1\n", "as permanent query merge", ""},
		{"/a,https://h.example:99999/\n", "as permanent", "not a host"},
		{"/a,https://me:x@h.example/b\n", "as permanent", "write https://h.example"},
	} {
		if err := read(test.csv, test.rest); test.want == "" && err != nil || test.want != "" && (err == nil || !strings.Contains(err.Error(), test.want)) {
			t.Errorf("%q %s: %v, want %q", test.csv, test.rest, err, test.want)
		}
	}
	if err := read("/a,/b\n", ""); err == nil || !strings.Contains(err.Error(), "no status") {
		t.Errorf("a row without a status: %v", err)
	}
}

// A table of a hundred thousand rows is read in well under a second; how long
// it takes says the benchmark.
func BenchmarkTable(b *testing.B) {
	var csv strings.Builder
	for i := range 100_000 {
		fmt.Fprintf(&csv, "/old/section-%d/page-%d.php,/new/%d/\n", i%97, i, i)
	}
	text := []byte("site s address https://s.example files public\nmoves m table t.csv as permanent")
	for b.Loop() {
		start := time.Now()
		if _, err := Read("t.kibitz", text, func(string) ([]byte, error) { return []byte(csv.String()), nil }); err != nil {
			b.Fatal(err)
		}
		b.ReportMetric(float64(time.Since(start).Milliseconds()), "ms/100k-rows")
	}
}

// One line may name as many networks as a table has rows: words cost the same
// wherever they stand in a line.
func BenchmarkLongList(b *testing.B) {
	for _, n := range []int{1_000, 100_000} {
		var line strings.Builder
		for i := range n {
			fmt.Fprintf(&line, " 10.%d.%d.%d", i>>16, i>>8&255, i&255)
		}
		text := []byte("site s address https://s.example files public\naccess a when client" + line.String() + " refuse")
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				if _, err := Read("l.kibitz", text, nil); err != nil {
					b.Fatal(err)
				}
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(n), "ns/word")
		})
	}
}

// A glob takes what its expression takes.
func TestGlobsAgreeWithTheirExpressions(t *testing.T) {
	r := rand.New(rand.NewSource(6))
	text := func(n int, letters ...string) string {
		s := ""
		for range r.Intn(n) {
			s += letters[r.Intn(len(letters))]
		}
		return s
	}
	for range 3000 {
		v := Value{Kind: ValueGlob, Glob: strings.Split(text(7, "a", "b", "*", ".")+"*", "*")}
		re := regexp.MustCompile(v.Source())
		for range 20 {
			if s := text(9, "a", "b", "."); v.Glob.Match(s) != re.MatchString(s) {
				t.Fatalf("%q on %q: %v", v.Glob, s, v.Glob.Match(s))
			}
		}
	}
}

// Tables without quotes are read in parts, all others as CSV: both ways must give the same
// rows and problems, with the same lines.
func TestPartsOfATableAreReadAsTheWhole(t *testing.T) {
	r := rand.New(rand.NewSource(4))
	pick := func(list ...string) string { return list[r.Intn(len(list))] }
	reader := &rowReader{def: 301, base: request.Address{Scheme: "https", Host: "s.example", Port: 443}}
	for _, rows := range []int{0, 1, 2, 30, 9000} {
		for range 20 {
			var b strings.Builder
			b.WriteString(pick("", "old,new\n", "Old,New,Status\r\n", "\n", "old;new\n"))
			for n := range rows {
				if r.Intn(500) == 0 {
					b.WriteString(pick("/x", "/a,", "/a,b,301", "/a,/b,600", "/a,/b,301,", ",", "/a#b,/c", "/itself,/itself", " ", "old,new"))
				} else {
					fmt.Fprintf(&b, "%s/%d%s,/new/%d%s", pick("", "", "https://www.s.example"), n, pick("", "?id=1", "/a b", "/%61"), n, pick("", ",", ",302", " "))
				}
				b.WriteString(pick("\n", "\n", "\r\n", "\n\n"))
			}
			text := strings.TrimSuffix(b.String(), pick("\n", ""))
			comma := commaOf(text)
			parts, whole := reader.lines(text, comma), reader.quoted(text, comma)
			slices.SortFunc(parts.problems, func(a, b rowProblem) int { return int(a.line - b.line) })
			if n := len(whole.problems); !slices.Equal(parts.rows, whole.rows) || parts.more+len(parts.problems) != whole.more+n || !slices.Equal(parts.problems[:n], whole.problems) {
				t.Fatalf("in parts %d rows and problems %v, as a whole %d and %v", len(parts.rows), parts.problems, len(whole.rows), whole.problems)
			}
		}
	}
}
