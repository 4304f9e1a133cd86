// Command mutants holds the tests to account. It makes small changes of meaning, by rule,
// at seeded places of the core and of the live part, and sees that a test turns red for
// each: tests that stay green hold nothing to account.
//
// All changes are compiled into the tests at once, each behind a switch that the
// environment sets. Each test is run once without a change, to see which changes it comes
// by: only those tests are run with a change that could notice it.
//
// Run it in the project's own folder. What survives and changes nothing that anybody could
// notice is named in equivalent.txt beside this file, each with its reason.
package main

import (
	"cmp"
	"context"
	_ "embed"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"
)

func main() {
	n := flag.Int("n", 300, "how many changes to make")
	seed := flag.Uint64("seed", 1, "of the random numbers")
	again := flag.String("again", "", "a `file` that names changes, one a line, as they are printed: try those of them that can still be made, and no others")
	verbose := flag.Bool("v", false, "say what becomes of each, not only of those that survive")
	flag.Parse()
	if err := run(*n, *seed, *again, *verbose); err != nil {
		fmt.Fprintln(os.Stderr, "mutants:", err)
		os.Exit(1)
	}
}

//go:embed equivalent.txt
var equivalent string

// equivalents are the names of the changes that nobody could notice.
func equivalents() map[string]bool {
	all := map[string]bool{}
	for _, line := range strings.Split(equivalent, "\n") {
		if name, reason, ok := strings.Cut(line, " => "); ok && strings.TrimSpace(reason) != "" {
			all[strings.TrimSpace(name)] = true
		}
	}
	return all
}

func run(n int, seed uint64, again string, verbose bool) error {
	work, err := os.MkdirTemp("", "mutants-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	mutants, err := choose(n, seed, again)
	if err != nil {
		return err
	}
	overlay, err := writeOverlay(work, mutants)
	if err != nil {
		return err
	}
	packages, err := testedPackages()
	if err != nil {
		return err
	}
	t := &tester{work: work, overlay: overlay}
	for _, folder := range packages {
		if err := t.compile(folder); err != nil {
			return err
		}
	}
	excused := equivalents()
	noticed, same := 0, 0
	var survivors []string
	var mu sync.Mutex
	var jobs errgroup.Group
	jobs.SetLimit(runtime.NumCPU())
	for _, m := range mutants {
		jobs.Go(func() error {
			by := t.try(m)
			mu.Lock()
			defer mu.Unlock()
			state := "noticed by " + by
			switch {
			case by != "":
				noticed++
			case excused[m.name()]:
				state = "equivalent"
				same++
			default:
				state = "SURVIVES"
				survivors = append(survivors, fmt.Sprintf("%s:%d  %s", m.file, m.line, m.name()))
			}
			if verbose || state == "SURVIVES" {
				fmt.Printf("%3d  %-28s %s:%d  %s\n", m.id, state, m.file, m.line, m.name())
			}
			return nil
		})
	}
	jobs.Wait()
	tried := noticed + len(survivors)
	fmt.Printf("\nseed %d: %d changes, of which %d are equivalent; of the other %d tests notice %d: %.1f%%\n", seed, tried+same, same, tried, noticed, 100*float64(noticed)/float64(max(1, tried)))
	for _, s := range survivors {
		fmt.Println("  survives:", s)
	}
	return nil
}

// A binary is the compiled tests of one package.
type binary struct {
	file, folder string
	tests        []*test
}

// A test is one of a package.
type test struct {
	name    string
	took    time.Duration // without any change
	reaches map[int]bool  // the changes that it comes by
}

// tester runs tests.
type tester struct {
	work, overlay string
	packages      []*binary
}

// patience is how much longer than without a change tests may take.
const patience = 4

// compile compiles the tests of a package, and sees that each passes without a change.
func (t *tester) compile(folder string) error {
	b := &binary{file: filepath.Join(t.work, strings.ReplaceAll(folder, "/", "_")+".test"), folder: folder}
	compile := exec.Command("go", "test", "-c", "-vet=off", "-overlay", t.overlay, "-o", b.file, "./"+folder)
	if out, err := compile.CombinedOutput(); err != nil {
		return fmt.Errorf("the tests of %s do not build: %w\n%s", folder, err, out)
	}
	list := exec.Command(b.file, "-test.list", "^(Test|Fuzz)")
	list.Dir = folder
	list.Env = append(os.Environ(), "GOFLAGS=-overlay="+t.overlay)
	names, err := list.Output()
	if err != nil {
		return fmt.Errorf("the tests of %s have no list: %w", folder, err)
	}
	var jobs errgroup.Group
	jobs.SetLimit(runtime.NumCPU())
	for _, name := range strings.Fields(string(names)) {
		one := &test{name: name, reaches: map[int]bool{}}
		b.tests = append(b.tests, one)
		jobs.Go(func() error {
			reached := filepath.Join(t.work, "reached-"+strings.ReplaceAll(folder, "/", "_")+"-"+name)
			out, passed, took := t.run(b, []*test{one}, longest, reachedName+"="+reached)
			if !passed {
				return fmt.Errorf("%s of %s fails without a change:\n%s", name, folder, out)
			}
			one.took = took
			ids, _ := os.ReadFile(reached) // none is written where it comes by none
			for _, id := range strings.Fields(string(ids)) {
				if n, err := strconv.Atoi(id); err == nil {
					one.reaches[n] = true
				}
			}
			return nil
		})
	}
	t.packages = append(t.packages, b)
	return jobs.Wait()
}

// longest is how long tests may run, however little they get of the processor.
const longest = 10 * time.Minute

// run runs some tests of a package, with variables of the environment, and gives the time
// that they have used of the processor.
func (t *tester) run(b *binary, tests []*test, limit time.Duration, env ...string) (out []byte, passed bool, took time.Duration) {
	ctx, stop := context.WithTimeout(context.Background(), limit)
	defer stop()
	var names []string
	for _, one := range tests {
		names = append(names, one.name)
	}
	c := exec.CommandContext(ctx, b.file, "-test.short", "-test.failfast", "-test.run", "^("+strings.Join(names, "|")+")$")
	c.Dir = b.folder
	c.Env = append(append(os.Environ(), "GOFLAGS=-overlay="+t.overlay), env...) // for tests that build the program
	c.WaitDelay = time.Second
	out, err := c.CombinedOutput()
	if c.ProcessState != nil {
		took = c.ProcessState.UserTime() + c.ProcessState.SystemTime()
	}
	return out, err == nil, took
}

// passes reports whether tests pass with a change. Tests that do not end do not; but on a
// busy machine it may be that they only wait: then they are given more time.
func (t *tester) passes(b *binary, tests []*test, id int) bool {
	var usual time.Duration
	for _, one := range tests {
		usual += one.took
	}
	for limit := patience*usual + 20*time.Second; ; limit *= 2 {
		begun := time.Now()
		_, passed, took := t.run(b, tests, min(limit, longest), fmt.Sprintf("%s=%d", switchName, id))
		if passed || time.Since(begun) < limit || took > patience*usual || limit >= longest {
			return passed
		}
	}
}

// try runs the tests that come by a change, those of its own package first and then the
// quicker ones, and gives the package of those that notice it; "" if none does.
func (t *tester) try(m *mutant) (by string) {
	type part struct {
		*binary
		tests []*test
		took  time.Duration
	}
	var parts []part
	for _, b := range t.packages {
		p := part{binary: b}
		for _, one := range b.tests {
			if one.reaches[m.id] {
				p.tests, p.took = append(p.tests, one), p.took+one.took
			}
		}
		if len(p.tests) > 0 {
			parts = append(parts, p)
		}
	}
	slices.SortFunc(parts, func(a, b part) int {
		switch own := m.folder(); own {
		case a.folder:
			return -1
		case b.folder:
			return 1
		}
		return cmp.Compare(a.took, b.took)
	})
	for _, p := range parts {
		if !t.passes(p.binary, p.tests, m.id) {
			return p.folder
		}
	}
	return ""
}

// testedPackages gives the folders of the packages that have tests.
func testedPackages() ([]string, error) {
	out, err := exec.Command("go", "list", "-f", "{{if or .TestGoFiles .XTestGoFiles}}{{.ImportPath}}{{end}}", "./...").Output()
	if err != nil {
		return nil, err
	}
	var folders []string
	for _, path := range strings.Fields(string(out)) {
		folders = append(folders, strings.TrimPrefix(path, "kibitz/"))
	}
	return folders, nil
}
