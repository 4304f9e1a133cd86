// Command mutants holds the tests to account. It makes small changes of meaning, by rule,
// at seeded places of the core and of the live part, and sees that a test turns red for
// each: tests that stay green hold nothing to account.
//
// All changes are compiled into the tests at once, each behind a switch that the
// environment sets, so that one is tried in the time that its tests take.
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
	only := flag.String("only", "", "the numbers of those to try, with commas between; all of them without it")
	verbose := flag.Bool("v", false, "say what becomes of each, not only of those that survive")
	flag.Parse()
	if err := run(*n, *seed, *only, *verbose); err != nil {
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

func run(n int, seed uint64, only string, verbose bool) error {
	work, err := os.MkdirTemp("", "mutants-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	mutants, err := choose(n, seed)
	if err != nil {
		return err
	}
	overlay, err := writeOverlay(work, mutants)
	if err != nil {
		return err
	}
	users, err := usersOf()
	if err != nil {
		return err
	}
	t := &tester{work: work, overlay: overlay, tests: map[string]*binary{}}
	if only != "" {
		mutants = slices.DeleteFunc(mutants, func(m *mutant) bool { return !slices.Contains(strings.Split(only, ","), strconv.Itoa(m.id)) })
	}
	for _, m := range mutants {
		for _, folder := range users[m.folder()] {
			if err := t.compile(folder); err != nil {
				return err
			}
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
			by := t.try(m, users[m.folder()])
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
				fmt.Printf("%3d  %-28s %s:%d  %s: %s\n", m.id, state, m.file, m.line, m.rule, m.source)
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
	took         time.Duration // without any change
}

// tester runs tests.
type tester struct {
	work, overlay string
	tests         map[string]*binary // by the folder of their package
}

// patience is how much longer than without a change tests may take.
const patience = 4

// compile compiles the tests of a package, and sees that they pass without a change.
func (t *tester) compile(folder string) error {
	if t.tests[folder] != nil {
		return nil
	}
	b := &binary{file: filepath.Join(t.work, strings.ReplaceAll(folder, "/", "_")+".test"), folder: folder}
	compile := exec.Command("go", "test", "-c", "-vet=off", "-overlay", t.overlay, "-o", b.file, "./"+folder)
	if out, err := compile.CombinedOutput(); err != nil {
		return fmt.Errorf("the tests of %s do not build: %w\n%s", folder, err, out)
	}
	out, ok, took := t.run(b, 0, longest)
	if !ok {
		return fmt.Errorf("the tests of %s fail without a change:\n%s", folder, out)
	}
	b.took = took
	t.tests[folder] = b
	return nil
}

// longest is how long tests may run, however little they get of the processor.
const longest = 10 * time.Minute

// run runs tests with one change, or with none, and gives the time that they have used of
// the processor.
func (t *tester) run(b *binary, id int, limit time.Duration) (out []byte, passed bool, took time.Duration) {
	ctx, stop := context.WithTimeout(context.Background(), limit)
	defer stop()
	c := exec.CommandContext(ctx, b.file, "-test.short", "-test.failfast")
	c.Dir = b.folder
	c.Env = append(os.Environ(), fmt.Sprintf("%s=%d", switchName, id), "GOFLAGS=-overlay="+t.overlay) // for tests that build the program
	c.WaitDelay = time.Second
	out, err := c.CombinedOutput()
	if c.ProcessState != nil {
		took = c.ProcessState.UserTime() + c.ProcessState.SystemTime()
	}
	return out, err == nil, took
}

// passes reports whether tests pass with a change. Tests that do not end do not; but on a
// busy machine it may be that they only wait: then they are given more time.
func (t *tester) passes(b *binary, id int) bool {
	for limit := patience*b.took + 20*time.Second; ; limit *= 2 {
		begun := time.Now()
		_, passed, took := t.run(b, id, min(limit, longest))
		if passed || time.Since(begun) < limit || took > patience*b.took || limit >= longest {
			return passed
		}
	}
}

// try runs the tests that could notice a change, those of its own package first and then
// the quicker ones, and gives the package of those that do; "" if none does.
func (t *tester) try(m *mutant, users []string) (by string) {
	users = slices.Clone(users)
	slices.SortFunc(users, func(a, b string) int {
		switch own := m.folder(); own {
		case a:
			return -1
		case b:
			return 1
		}
		return cmp.Compare(t.tests[a].took, t.tests[b].took)
	})
	for _, folder := range users {
		if !t.passes(t.tests[folder], m.id) {
			return folder
		}
	}
	return ""
}

// usersOf gives, for each folder of a package, the folders of those whose tests could
// notice a change in it.
func usersOf() (map[string][]string, error) {
	out, err := exec.Command("go", "list", "-test", "-f", "{{.ImportPath}}\t{{.ForTest}}\t{{join .Deps \" \"}}", "./...").Output()
	if err != nil {
		return nil, err
	}
	const module = "kibitz/"
	users := map[string][]string{}
	for _, line := range strings.Split(string(out), "\n") {
		f := strings.Split(line, "\t")
		tests, isTest := strings.CutSuffix(f[0], ".test")
		if !isTest || len(f) != 3 {
			continue
		}
		tests = strings.TrimPrefix(tests, module)
		for _, dep := range strings.Fields(f[2]) {
			if folder, ok := strings.CutPrefix(dep, module); ok && !slices.Contains(users[folder], tests) {
				users[folder] = append(users[folder], tests)
			}
		}
	}
	const program = "cmd/kibitz" // its tests build it
	for folder, list := range users {
		if !slices.Contains(list, program) {
			users[folder] = append(list, program)
		}
	}
	return users, nil
}
