package engine

// A real browser as the judge of what the standards say: it is handed patterns and
// Locations, and what it makes of them must be what this program does.

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"kibitz/core/canonical"
	"kibitz/core/pattern"
	"kibitz/core/request"
)

// inBrowser runs a script on an input, which it finds in `input`, and reads what it
// returns.
func inBrowser(t *testing.T, script string, input, output any) {
	t.Helper()
	browser, err := exec.LookPath("chromium")
	if err != nil || testing.Short() {
		t.Skip("there is no chromium here: .ci/run installs it where it can")
	}
	data, err := json.Marshal(input)
	if err != nil {
		t.Fatal(err)
	}
	page := `<!DOCTYPE html><meta charset=utf-8><p id=out></p><script>
const bytes = s => Uint8Array.from(atob(s), c => c.charCodeAt(0))
const input = JSON.parse(new TextDecoder().decode(bytes("` + base64.StdEncoding.EncodeToString(data) + `")))
const run = () => {` + script + `}
let out = ""
for (const b of new TextEncoder().encode(JSON.stringify(run()))) out += String.fromCharCode(b)
document.getElementById("out").textContent = btoa(out)
</script>`
	dir := t.TempDir()
	name := filepath.Join(dir, "page.html")
	if err := os.WriteFile(name, []byte(page), 0o644); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 120*time.Second)
	defer cancel()
	dom, err := exec.CommandContext(ctx, browser, "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
		"--disable-component-update", "--disable-sync", "--user-data-dir="+filepath.Join(dir, "profile"), "--dump-dom", "file://"+name).Output()
	if err != nil {
		t.Fatal(err)
	}
	_, text, _ := strings.Cut(string(dom), `<p id="out">`)
	text, _, _ = strings.Cut(text, "</p>")
	result, err := base64.StdEncoding.DecodeString(text)
	if err != nil || len(result) == 0 {
		t.Fatalf("the browser gave nothing: %v", err)
	}
	if err := json.Unmarshal(result, output); err != nil {
		t.Fatal(err)
	}
}

// Random patterns, and paths that they take or nearly take. Where an expression of a
// group could see a character that is sent encoded, this program departs from the
// standard, and asks nobody; so it does where letters compare without case.
func TestABrowserTakesWhatAPatternTakes(t *testing.T) {
	type question struct {
		Pattern string
		Fold    bool
		Paths   []string
	}
	r := rand.New(rand.NewPCG(5, 5))
	plain := func(s string) bool {
		return strings.IndexFunc(s, func(c rune) bool { return c >= 0x80 || c == '%' }) < 0
	}
	var questions []question
	var patterns []*pattern.Pattern
	for len(questions) < 2000 {
		text, pieces := randomPattern(r)
		fold := r.IntN(4) == 0
		// A text of dots is read as a path when a browser reads a pattern.
		if slices.ContainsFunc(pieces, func(p piece) bool { return strings.HasPrefix(p.text, ".") }) {
			continue
		}
		p, err := pattern.Path(text, fold)
		if err != nil || p.Merged() != nil {
			continue
		}
		expression := slices.ContainsFunc(pieces, func(p piece) bool { return p.re != "" && p.re != "*" })
		if fold && !plain(text) || slices.ContainsFunc(pieces, func(p piece) bool { return !plain(p.re) }) {
			continue
		}
		q := question{text, fold, nil}
		for range 14 {
			path, err := canonical.Path(nearPath(r, pieces), false)
			if err == nil && (!fold && !expression || plain(path)) {
				q.Paths = append(q.Paths, path)
			}
		}
		questions, patterns = append(questions, q), append(patterns, p)
	}
	var answers []struct {
		Error string
		Found []map[string]string // nil where the pattern does not take the path
	}
	inBrowser(t, `
return input.map(q => {
    try {
        const p = new URLPattern({pathname: q.Pattern}, {ignoreCase: q.Fold})
        return {Found: (q.Paths || []).map(path => {
            const m = p.exec("https://s.example" + path)
            return m && Object.fromEntries(Object.entries(m.pathname.groups).map(([k, v]) => [k, v ?? ""]))
        })}
    } catch (e) { return {Error: String(e)} }
})`, questions, &answers)
	pairs, taken := 0, 0
	for i, q := range questions {
		if answers[i].Error != "" {
			t.Errorf("the browser refuses %s: %s", q.Pattern, answers[i].Error)
			continue
		}
		for j, path := range q.Paths {
			pairs++
			want := answers[i].Found[j]
			captures := patterns[i].Captures(path, nil)
			if (captures != nil) != (want != nil) {
				t.Errorf("%s (ignoring case: %v) on %s: %v, and the browser says %v", q.Pattern, q.Fold, path, captures != nil, want != nil)
				continue
			}
			if captures == nil {
				continue
			}
			taken++
			unnamed := 0
			for n, name := range patterns[i].Names() {
				if name[0] >= '0' && name[0] <= '9' { // counted from 0 there
					name = fmt.Sprint(unnamed)
					unnamed++
				}
				if captures[n] != want[name] && !torn(want) {
					t.Errorf("%s (ignoring case: %v) on %s: %s is %q, and %q to the browser", q.Pattern, q.Fold, path, name, captures[n], want[name])
				}
			}
		}
	}
	t.Logf("%d pairs, %d taken", pairs, taken)
	if taken < 1000 {
		t.Errorf("%d of %d pairs are taken: the test shows too little", taken, pairs)
	}
}

// torn reports whether a browser has parted the bytes of an encoded character, which
// this program never does.
func torn(captures map[string]string) bool {
	for _, s := range captures {
		for rest := s; ; {
			i := strings.IndexByte(rest, '%')
			if i < 0 {
				break
			}
			if rest = rest[i+1:]; len(rest) < 2 {
				return true
			}
			rest = rest[2:]
		}
	}
	return false
}

// Random Locations, resolved against random addresses.
func TestABrowserGoesWhereALocationLeads(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 9))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	type question struct{ Base, Location string }
	var questions []question
	for range 500 {
		base := pick("https://s.example/a/b?c#d", "http://s.example:8080/", "https://s.example/a/", "https://bücher.example/x/y/z?", "http://[2001:db8::1]/a")
		location := ""
		switch r.IntN(6) {
		case 0:
			location = pick("https:", "http:", "HTTP:", "//", "https://", "http:/", "https:\\\\", "mailto:", "javascript:", "ftp://", "data:")
			location += pick("t.example", "T.Example", "bücher.example", "xn--bcher-kva.example", "192.0.2.1", "256.1.1.1", "0x7f.1", "t.example:443", "t.example:80", "t.example:99999", "t.example:", "[2001:DB8:0::1]", "me:x@t.example", "t%2eexample", "a|b", "t.example.", "faß.example")
			location += pick("", "/", "/", "?", "#", "\\") // what follows is not part of the host
			questions = append(questions, question{base, location + pick("", "a", "/../b", "ä", "?x", "^|", "%2e/c")})
			continue
		case 1:
			location = "/"
		case 2:
			location = pick("?", "#", "")
		}
		for range r.IntN(6) {
			if len(location) > 1 && strings.Trim(location[:2], `/\`) == "" {
				break // a host would follow, of which browsers take more than the standard
			}
			location += pick("/", "a", "..", ".", "%2e", "%2E%2e", "//", "\\", "?x=1", "#f", "ä", " ", "%20", "\t", "\n", "'", "\"", "<", "^", "`", "{}", "|", "%", "%zz", "%C3%A4", ":", "@", ";", "é?ü", "😀", "\x7f", "b/c/../d", "&")
		}
		questions = append(questions, question{base, location})
	}
	var answers []string
	inBrowser(t, `
return input.map(q => {
    try {
        const u = new URL(q.Location, q.Base)
        if (u.protocol != "http:" && u.protocol != "https:") return "foreign"
        u.username = u.password = ""
        return u.href
    } catch (e) { return "error" }
})`, questions, &answers)
	led := 0
	for i, q := range questions {
		base, err := request.Parse(q.Base, request.Address{})
		if err != nil {
			t.Fatal(q.Base, err)
		}
		base.Fragment = ""
		got := ""
		switch to, err := base.Resolve(q.Location); {
		case errors.Is(err, request.ErrForeign):
			got = "foreign"
		case err != nil:
			got = "error"
		default:
			got = to.String()
		}
		want := answers[i]
		if host, _, ok := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(want, "http://"), "https://"), "/"); ok && strings.HasSuffix(host, ".") {
			want = strings.Replace(want, host, strings.TrimSuffix(host, "."), 1) // the dot is the same host's here
		}
		if want != "error" && want != "foreign" {
			led++
		}
		if got != want {
			t.Errorf("%q from %s leads to %s, and the browser goes to %s", q.Location, q.Base, got, want)
		}
	}
	if led < 250 {
		t.Errorf("only %d of the Locations lead anywhere", led)
	}
}
