package main

import (
	"os/exec"
	"path/filepath"
	"testing"
)

// No attack that takes a moment succeeds. Those that take long are for the command.
func TestNoSmallAttackSucceeds(t *testing.T) {
	program := filepath.Join(t.TempDir(), "kibitz")
	build := exec.Command("go", "build", "-o", program, "kibitz/cmd/kibitz")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	dir, count := filepath.Join(t.TempDir(), "here"), 0
	for _, a := range attacks() {
		if a.large {
			continue
		}
		count++
		r, err := a.run(program, dir)
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range a.problems(r) {
			t.Errorf("%s: %s", a.name, p)
		}
	}
	if count < 300 {
		t.Errorf("%d attacks", count)
	}
}

// What an attack must not do is noticed.
func TestWhatHoldsIsHeld(t *testing.T) {
	good := result{out: []byte("{}"), exit: 0}
	for name, change := range map[string]func(a *attack, r *result){
		"memory":             func(_ *attack, r *result) { r.peak = maxMemory + 1 },
		"a panic":            func(_ *attack, r *result) { r.errs = []byte("panic: x\n\ngoroutine 1 [running]:") },
		"time":               func(_ *attack, r *result) { r.late = true },
		"another status":     func(_ *attack, r *result) { r.exit = 137 },
		"a control code":     func(_ *attack, r *result) { r.errs = []byte("\x1b[2J") },
		"a bidi mark":        func(_ *attack, r *result) { r.out = []byte(`{"a":"` + "\u202e" + `"}`) },
		"a file left":        func(_ *attack, r *result) { r.left = []string{"x"} },
		"broken JSON":        func(_ *attack, r *result) { r.out = []byte(`{"a":`) },
		"lines that are not": func(_ *attack, r *result) { r.out = []byte(`{"lists":[{"lines":2,"requests":1}]}`) },
		"broken JSON lines":  func(a *attack, r *result) { a.args, r.out = []string{"-as", "jsonl"}, []byte("{}\n{") },
		"broken XML":         func(a *attack, r *result) { a.args, r.out = []string{"-as", "junit"}, []byte("<a>&x</a>") },
		"a plan too long":    func(a *attack, r *result) { a.args, r.out = []string{"-as", "tap"}, []byte("1..2\nok 1 - a\n") },
		"a skipped test":     func(a *attack, r *result) { a.args, r.out = []string{"-as", "tap"}, []byte("1..1\nok 1 - a # SKIP\n") },
		"a formula":          func(a *attack, r *result) { a.args, r.out = []string{"-as", "csv"}, []byte("a,=1+1\n") },
		"silence":            func(a *attack, _ *result) { a.says = "hello" },
	} {
		a, r := attack{args: []string{"-as", "json"}}, good
		if problems := a.problems(&r); len(problems) > 0 {
			t.Fatalf("nothing is wrong: %v", problems)
		}
		if change(&a, &r); len(a.problems(&r)) != 1 {
			t.Errorf("%s: %v", name, a.problems(&r))
		}
	}
}
