// Command mutants harms the prover, one small way after the other, in a copy of
// the project, and sees that a test turns red each time: tests that stay green
// hold nothing to account. Run it in the project's own folder.
package main

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// harms are what is written otherwise, and what that forgets.
var harms = []struct{ what, file, from, to string }{
	{"a class of bytes is dropped", "core/pattern/lang.go", "if cut[c] {", "if cut[c] && c != 'b' {"},
	{"the start accepts nothing", "core/pattern/lang.go", "b.accept = append(b.accept, b.ends(set, s == 1))", "b.accept = append(b.accept, s != 1 && s != 3 && b.ends(set, s == 1))"},
	{"states that differ are joined", "core/pattern/lang.go", "if len(ids) == count {", "if count > 1 || len(ids) == count {"},
	{"paths with dot segments can be asked for", "core/pattern/machine.go", "`*|\\.` + noDot", "`*|\\.` + noSlash + `?|\\.` + noDot"},
	{"a complement forgets what is dead", "core/pattern/machine.go", "func (n not) Accepts(state int) bool { return state == 1 ||", "func (n not) Accepts(state int) bool { return"},
	{"runs of slashes are not merged", "core/pattern/preimage.go", "if s[1] == 1 {", "if s[1] == 9 {"},
	{"a guess is not checked", "core/pattern/preimage.go", "if !known || !slices.Contains(states, int(s.begin)) {", "if !known || false && !slices.Contains(states, int(s.begin)) {"},
	{"a capture that is entered again counts the first time", "core/pattern/preimage.go", "if w.repeats[uint32(group)] && group > 0 {", "if group > 99 {"},
	{"the suffix is forgotten behind the last copy", "core/pattern/preimage.go", "at = w.alive([]int{int(t.slots[last-1].here)}, w.texts[last])", "at = w.alive([]int{int(t.slots[last-1].here)}, \"\")"},
	{"a superset is subtracted", "core/proof/space.go", "under := s.of(r).under", "under := s.of(r).over"},
	{"the excluded need not hold in all fields", "core/proof/space.go", "next.alive[i] = alive[i] && s.holdAll", "next.alive[i] = alive[i] || s.holdAll"},
	{"an unless is read as a when", "core/proof/space.go", "return pattern.Not(pattern.Or(over...)), pattern.Not(low)", "return pattern.Or(over...), low"},
	{"blocks of clients end one too early", "core/engine/clients.go", "cut.begin(next, outer())", "cut.begin(next.Prev(), outer())"},
	{"the reading goes on above a rewrite", "core/proof/hops.go", "return to.pos > h.pos", "return to.pos < h.pos"},
	{"what a rewrite brings is read above", "core/proof/hops.go", "above == maxAbove || h.fed", "above == maxAbove"},
	{"a circle that grows is said to shrink", "core/proof/hops.go", "grows-least >= 0", "grows-least > 3"},
	{"only the first survivors are followed", "core/proof/hops.go", "if left == 0 {", "if left == 0 || n == 1 {"},
	{"rewrites send nothing to entries below", "core/proof/neverreached.go", "if from == nil {", "if from == nil || a.Then == rulebook.Next {"},
	{"a text stands for the words that are like it", "core/proof/space.go", "if len(words) > 0 {", "if len(words) > 999 {"},
	{"what was found for some sets is told of others", "core/proof/space.go", `key += "\x00\x00" + set.source`, `key += set.source[:0]`},
	{"values that two entries share keep them apart", "core/proof/conflict.go", "return v.Text == w.Text })", "return v.Text == w.Text && len(v.Text) > 9 })"},
	{"a name that a test says stands for all others", "core/proof/space.go", "literal && !slices.Contains(words, name)", "literal"},
	{"who is not wanted is taken for who is", "core/proof/hops.go", "!t.Unless && t.Plain", "t.Plain"},
	{"chains are looked for at one host alone", "core/proof/chain.go", "for _, h := range at {", "for _, h := range at[:1] {"},
	{"hosts that rows name are no fronts", "core/proof/hops.go", "						name(rest)\n", "						_ = rest\n"},
	{"a longer beginning is no rival", "core/proof/neverreached.go", "strings.HasPrefix(p, q) || strings.HasPrefix(q, p)", "strings.HasPrefix(p, q)"},
}

func main() {
	from := flag.Int("from", 0, "the first harm, counted from 0")
	flag.Parse()
	work, err := os.MkdirTemp("", "mutants-")
	if err != nil {
		fail(err)
	}
	defer os.RemoveAll(work)
	if err := exec.Command("cp", "-r", "go.mod", "go.sum", "core", "demo", work).Run(); err != nil {
		fail(err)
	}
	green := 0
	for _, h := range harms[min(*from, len(harms)):] {
		name := filepath.Join(work, h.file)
		text, err := os.ReadFile(name)
		if err != nil {
			fail(err)
		}
		if strings.Count(string(text), h.from) != 1 {
			fail(fmt.Errorf("%s: %q stands there %d times", h.file, h.from, strings.Count(string(text), h.from)))
		}
		if err := os.WriteFile(name, []byte(strings.Replace(string(text), h.from, h.to, 1)), 0o644); err != nil {
			fail(err)
		}
		test := exec.Command("go", "test", "-timeout", "240s", "./core/pattern", "./core/proof/...")
		test.Dir = work
		out, err := test.CombinedOutput()
		state := "red"
		switch {
		case err == nil:
			state = "GREEN"
			green++
		case strings.Contains(string(out), "[build failed]"):
			fail(fmt.Errorf("%s: it does not build:\n%s", h.what, out))
		}
		fmt.Printf("%-6s %s\n", state, h.what)
		if err := os.WriteFile(name, text, 0o644); err != nil {
			fail(err)
		}
	}
	fmt.Printf("%d of %d harms turned a test red\n", len(harms)-*from-green, len(harms)-*from)
	if green > 0 {
		os.Exit(1)
	}
}

func fail(err error) {
	fmt.Fprintln(os.Stderr, "mutants:", err)
	os.Exit(1)
}
