// Command attack gives the program what strangers might: lists, rulebooks, files and names
// that are made to break it, to fill the memory, or to reach a terminal. After each it looks
// at what must always be true (see hold.go).
//
// Run it in the project's own folder. It needs no network.
package main

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

func main() {
	only := flag.String("only", "", "the attacks whose name has this text in it")
	small := flag.Bool("small", false, "leave out those that take long")
	verbose := flag.Bool("v", false, "say of each what it took")
	flag.Parse()
	failed, err := run(*only, *small, *verbose)
	if err != nil {
		fmt.Fprintln(os.Stderr, "attack:", err)
		os.Exit(2)
	}
	if failed > 0 {
		os.Exit(1)
	}
}

func run(only string, small, verbose bool) (failed int, err error) {
	work, err := os.MkdirTemp("", "attack-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(work)
	program := filepath.Join(work, "kibitz")
	build := exec.Command("go", "build", "-o", program, "./cmd/kibitz")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		return 0, fmt.Errorf("the program does not build: %w\n%s", err, out)
	}
	count, most := 0, int64(0)
	for _, a := range attacks() {
		if !strings.Contains(a.name, only) || small && a.large {
			continue
		}
		count++
		r, err := a.run(program, filepath.Join(work, "here"))
		if err != nil {
			return failed, err
		}
		problems := a.problems(r)
		if most = max(most, r.peak); verbose || len(problems) > 0 {
			fmt.Printf("%-60s  %4d MiB  %6.2f s\n", a.name, r.peak>>20, r.took.Seconds())
		}
		for _, p := range problems {
			fmt.Printf("    %s\n", p)
		}
		if len(problems) > 0 {
			failed++
		}
	}
	fmt.Printf("%d attacks, %d of them succeed; none takes more than %d MiB\n", count, failed, most>>20)
	return failed, nil
}
