package proof

import (
	"crypto/sha256"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// tree is the site that the rulebooks of testdata are for.
func tree() *site.Tree {
	noise := ""
	for i := range 40 {
		sum := sha256.Sum256([]byte{byte(i)})
		noise += string(sum[:])
	}
	return site.Memory(map[string]string{
		"/index.html": "home", "/fares/index.html": "fares", "/boats/avocet.html": "avocet", "/images/map.png": noise, "/errors/404.html": "gone",
		"/styles/site.css": strings.Repeat("body { color: red }\n", 60), "/styles/site.css.gz": strings.Repeat("x", 2000), "/styles/site.css.br": strings.Repeat("x", 1300),
	})
}

// looseTree has what nobody means to publish.
func looseTree() *site.Tree {
	return site.Memory(map[string]string{
		"/index.html": "home", "/open/map.txt": "x", "/open/prices.bak": "x", "/shut/fares.old": "x", "/dump.sql": "x", "/id.pem": "x",
		"/.env": "x", "/.well-known/security.txt": "x", "/shown/.git/config": "x", "/notes~": "x",
	})
}

// readTable gives the tables that the rulebooks of testdata name.
func readTable(name string) ([]byte, error) {
	switch filepath.Base(name) {
	case "chain.csv":
		return []byte("/r,/fares/\n/r2,/prices\n/r3,/r2\n/r4,/prices\n/r5,/prices\n"), nil
	case "downgrade.csv":
		return []byte("/d1,http://s.example/fares/\n/d2,http://s.example/\n/d3,/fares/\n"), nil
	case "crew.accounts":
		return []byte("a:$2a$04$4y.2qM7uE8l8CKtcMzd25urC99HnSazwsZ5.Reqgzpq0qwsG8RsSu\n"), nil
	case "undecided.csv":
		return []byte("old,new,status,sure,requests,why\n/a,/fares/,301,90,7,same name\n/b,,?,0,5,\n/c,,?,0,1,\n"), nil
	case "done.csv":
		return []byte("/d,/fares/\n"), nil
	case "slow.accounts":
		return []byte("a:$2a$16$4y.2qM7uE8l8CKtcMzd25urC99HnSazwsZ5.Reqgzpq0qwsG8RsSu\n"), nil
	case "hosts.csv":
		return []byte("/row,https://f.example/over\n/row2,https://c.example/fares/\n"), nil
	}
	return []byte("/a,/fares/\n/b,/none\n/c,/nil\n"), nil
}

// engineOf reads a rulebook of testdata, and compiles it with the trees that its sites name.
func engineOf(t *testing.T, name string) (text string, e *engine.Engine) {
	t.Helper()
	content, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	book, err := rulebook.Read(name, content, readTable)
	if err != nil {
		t.Fatal(err)
	}
	trees := make([]*site.Tree, len(book.Sites))
	for i, s := range book.Sites {
		if trees[i] = tree(); s.Files == "testdata/loose" {
			trees[i] = looseTree()
		}
	}
	return string(content), engine.New(book, trees)
}

// Each rulebook has what check finds beside the line that causes it.
func TestFindings(t *testing.T) {
	names, _ := filepath.Glob("testdata/*.kibitz")
	if len(names) == 0 {
		t.Fatal("no rulebooks")
	}
	for _, name := range names {
		t.Run(filepath.Base(name), func(t *testing.T) {
			text, e := engineOf(t, name)
			var want, got []string
			for i, line := range strings.Split(text, "\n") {
				_, findings, _ := strings.Cut(line, "# want ")
				for _, f := range strings.Fields(findings) {
					want = append(want, fmt.Sprintf("%d %s", i+1, f))
				}
			}
			for _, f := range CheckAll(e, 1).Findings {
				if f.Severity == Note && !strings.Contains(text, f.Name) {
					continue // only rulebooks that speak of a note want it
				}
				got = append(got, fmt.Sprintf("%d %s", f.Place.Line, f.Name))
				if f.Message == "" || f.Advice == "" {
					t.Errorf("%s says nothing", f.Name)
				}
				for i, r := range f.Rules {
					if slices.Contains(f.Rules[:i], r) {
						t.Errorf("%s at line %d names %s twice", f.Name, f.Place.Line, r.Name)
					}
				}
				if f.Request == nil {
					t.Errorf("%s at line %d has no request that shows it", f.Name, f.Place.Line)
				} else if again, err := request.Parse(f.Request.Address.String(), request.Address{}); err != nil || again != f.Request.Address {
					t.Errorf("%s at line %d asks for what nobody can: %s is %s (%v)", f.Name, f.Place.Line, f.Request.Address, again, err)
				}
			}
			slices.Sort(want)
			slices.Sort(got)
			if !slices.Equal(got, want) {
				t.Errorf("found\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
			}
		})
	}
}

func TestHeaderValues(t *testing.T) {
	for _, test := range []struct {
		name, value string
		faults      int
	}{
		{"Strict-Transport-Security", "max-age=31536000; includeSubDomains; preload", 0},
		{"Strict-Transport-Security", "includeSubDomains", 1},
		{"Strict-Transport-Security", "max-age=1; max-age=2", 1},
		{"Cache-Control", "public, max-age=604800, immutable", 0},
		{"Cache-Control", "max-age=1d", 1},
		{"Cache-Control", `max-age="60"`, 1},
		{"Cache-Control", "no-store, max-age=60", 1},
		{"Expires", "0", 0},
		{"Expires", "-1", 1},
		{"Cache-Control", "no-cach", 1},
		{"Link", `</a.css>; rel=preload; as=style, <https://t.example/x?a,b>; rel="next"`, 0},
		{"Link", "/a.css; rel=preload", 1},
		{"Link", "</a.css>; as=style", 1},
		{"Content-Security-Policy", "default-src 'none'; script-src 'self' 'nonce-abc' https://t.example; upgrade-insecure-requests", 0},
		{"Content-Security-Policy", "default-src none", 1},
		{"Content-Security-Policy", "default-src 'none' 'self'", 1},
		{"Content-Security-Policy", "script-src 'slef'", 1},
		{"Content-Security-Policy", "default-src 'self'; default-src 'none'", 1},
		{"Referrer-Policy", "no-referrer, strict-origin-when-cross-origin", 0},
		{"Permissions-Policy", `camera=(), fullscreen=*, geolocation=(self "https://t.example")`, 0},
		{"Permissions-Policy", "camera 'none'", 1},
		{"X-Content-Type-Options", "nosniff", 0},
		{"Cross-Origin-Opener-Policy", "same-origin; report-to=x", 0},
		{"Cross-Origin-Resource-Policy", "anywhere", 1},
		{"X-Anything", "at all", 0},
	} {
		if got := checkValue(test.name, test.value); len(got) != test.faults {
			t.Errorf("%s: %s: %d faults, want %d: %v", test.name, test.value, len(got), test.faults, got)
		}
	}
}

func TestProbesAreTakenByTheirRule(t *testing.T) {
	text := `site s address https://s.example files public hosts www.s.example
redirect a on /x/:y(\d+) when host www.s.example when query.id ~[a-c]{2} to /z as 301
redirect b in /in/ when cookie.c present when agent *Hoover* to /z as 301
redirect c on ~/r(a|b)+ unless scheme https when client 192.0.2.0/24 to /z as 301
redirect d when path /p when body over 5KiB when method PUT to /z as 301
redirect e on /t when time after 2026-01-01 before 2026-02-01 to /z as 301
redirect f on /u when query.a 1 when query.b ~[xy] when query.c present when cookie.c 1 when cookie.d ~e+ when header.x a when header.y present to /z as 301
moves h when cookie.x 1 table rows.csv as 301
redirect g on /v when query a=1 when method ~P.* when referrer https://t.example/* to /z as 301
`
	book, err := rulebook.Read("t.kibitz", []byte(text), func(string) ([]byte, error) { return []byte("/page?id=1,/z\n/page?id=2,/z\n"), nil })
	if err != nil {
		t.Fatal(err)
	}
	c := newShared(engine.New(book, []*site.Tree{nil}), 1)
	for _, r := range book.Rules {
		probes := c.probes(book.Sites[0], r)
		if len(probes) == 0 {
			t.Errorf("%s: no probe", r.Name)
		}
		for _, req := range probes {
			if got := c.Predict(req); got.By != r {
				t.Errorf("%s: %s is answered %d %s", r.Name, req.Address, got.Status, got.Cause)
			}
		}
	}
}

// Rows that name a query or an origin are asked for with it.
func TestRowsAreReachedByWhatTheyName(t *testing.T) {
	for _, rows := range []string{"/page?id=1,/a/\n/page?id=2,/b/\n", "https://www.s.example/page,/a/\n", "http://s.example/page?id=1,/a/\n"} {
		book, err := rulebook.Read("t.kibitz", []byte("site s address https://s.example files public hosts www.s.example\nmoves m table t.csv as permanent\n"), func(string) ([]byte, error) { return []byte(rows), nil })
		if err != nil {
			t.Fatal(err)
		}
		claims := Check(engine.New(book, []*site.Tree{nil}), 1).Claims
		i := slices.IndexFunc(claims, func(c Claim) bool { return c.Finding == "never-reached" })
		if claims[i].State != Proved {
			t.Errorf("%q: %s: %s", rows, claims[i].State, claims[i].Why)
		}
	}
}

// Whatever a rulebook says, check comes to an end, and says something of each
// finding.
func FuzzCheck(f *testing.F) {
	names, _ := filepath.Glob("testdata/*.kibitz")
	for _, name := range names {
		text, err := os.ReadFile(name)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(string(text))
	}
	f.Fuzz(func(t *testing.T, text string) {
		book, err := rulebook.Read("f.kibitz", []byte(text), readTable)
		if err != nil || len(book.Rules) > 12 {
			return
		}
		trees := make([]*site.Tree, len(book.Sites))
		trees[0] = tree()
		e := engine.New(book, trees)
		for _, finding := range CheckAll(e, 1).Findings {
			if finding.Message == "" || finding.Advice == "" || finding.Place.Source == nil {
				t.Errorf("%s says nothing: %+v", finding.Name, finding)
			}
			if finding.Request != nil {
				e.Predict(finding.Request)
			}
		}
	})
}

// Compression is of use for a type as soon as one of its files shrinks, wherever it stands
// among those that do not.
func TestCompressionThatIsOfUse(t *testing.T) {
	noise := ""
	for i := range 40 {
		sum := sha256.Sum256([]byte{byte(i)})
		noise += string(sum[:])
	}
	words := strings.Repeat("the ferry to Ternholm ", 60)
	for _, test := range []struct {
		files   map[string]string
		useless int
	}{
		{map[string]string{"/a.txt": words, "/b.txt": noise, "/c.txt": noise}, 0},
		{map[string]string{"/a.txt": noise, "/b.txt": words, "/c.txt": noise}, 0},
		{map[string]string{"/a.txt": noise, "/b.txt": noise, "/c.txt": words}, 0},
		{map[string]string{"/a.txt": noise, "/b.txt": noise, "/c.txt": "short"}, 1},
	} {
		book, err := rulebook.Read("t.kibitz", []byte("site s address https://s.example files public\ncompress text using gzip types text/plain\n"), nil)
		if err != nil {
			t.Fatal(err)
		}
		got := 0
		for _, f := range Check(engine.New(book, []*site.Tree{site.Memory(test.files)}), 1).Findings {
			if f.Name == "compress-useless" {
				got++
			}
		}
		if got != test.useless {
			t.Errorf("%d findings of %v, want %d", got, slices.Sorted(maps.Keys(test.files)), test.useless)
		}
	}
}

func TestWhichDotsAreLoose(t *testing.T) {
	for text, want := range map[string]int{"/a.b": 2, "/a.php": 2, `/a\.b`: -1, "/[a.b]": -1, "/[a.b]c": -1, "/[ab].c": 5, "/(a).b": 4, "/a.(b|c)": 2, "/a.*": -1, "/.b": -1, "/a.": -1, "/a/.b": -1, "/x[a.b].c": 7} {
		if got := looseDotIn(text); got != want {
			t.Errorf("%s: %d, want %d", text, got, want)
		}
	}
}

// What is written in parentheses is an expression, and means there what it means in any.
func TestWhatLooksUnintendedInPatterns(t *testing.T) {
	for on, says := range map[string]string{
		`/:rest([^.]*[^/.])`: "", `/:year(\d{2,4})/:page`: "", `~/x[^#]+`: "", `~/x[]#]+`: "", `~/(a|b)/[#^$]x`: "", `/:n([a-z]{1,3}).:type(jpg|png)`: "", `~/x\#y`: "",
		`/d$`: "its ^ or $ is a character of the path", `/:n(a).{jpg,png}`: "the comma is a character of the path", `/x#:n(a)`: "browsers never send what follows it", `~/x#(y)`: "browsers never send what follows it",
	} {
		book, err := rulebook.Read("o.kibitz", []byte("site s address https://s.example\nredirect r on "+on+" to /y as 301\n"), nil)
		if err != nil {
			t.Fatal(on, err)
		}
		said := ""
		for _, f := range Check(engine.New(book, []*site.Tree{nil}), 1).Findings {
			if f.Name == "looks-unintended" {
				said += f.Message
			}
		}
		if !strings.Contains(said, says) || says == "" && said != "" {
			t.Errorf("%s: %q, want %q", on, said, says)
		}
	}
}

// Rows of a table under a condition, a change of the scheme, and a redirect back: the visit
// goes through what no entry decides.
func TestRowsUnderAConditionComeBack(t *testing.T) {
	text := `site s address https://s.example
moves m on /old/* table t.csv when scheme http as permanent
redirect secure when scheme http to https://{host}{path} as permanent
redirect back on /x/:y when scheme https to http://s.example/old/a/b as permanent
`
	book, err := rulebook.Read("t.kibitz", []byte(text), func(string) ([]byte, error) {
		return []byte("/old/a/b,https://s.example/x/1,301\n/old/c,/x/1,301\n"), nil
	})
	if err != nil {
		t.Fatal(err)
	}
	var found []string
	for _, f := range Check(engine.New(book, []*site.Tree{nil}), 1).Findings {
		found = append(found, f.Name)
	}
	if !slices.Contains(found, "redirect-loop") {
		t.Errorf("found %v", found)
	}
}
