// Command profile runs one of kibitz's commands and says where its time went: by packages, and
// by their functions. Of each moment that was looked at, the innermost function of the project
// counts, whatever that had called. What it prints goes to the error output.
//
//	go run ./bench/profile replay -rules site.kibitz access.log >/dev/null
package main

import (
	"bufio"
	"cmp"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/pprof"
	"slices"
	"strings"
	"time"

	"kibitz/internal/cli"
)

func main() {
	status, err := run(os.Args[1:])
	if err != nil {
		fmt.Fprintln(os.Stderr, "profile:", err)
		os.Exit(1)
	}
	os.Exit(status)
}

func run(args []string) (status int, err error) {
	dir, err := os.MkdirTemp("", "kibitz-profile-*")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	name := filepath.Join(dir, "cpu")
	file, err := os.Create(name)
	if err != nil {
		return 0, err
	}
	if err := pprof.StartCPUProfile(file); err != nil {
		return 0, err
	}
	start := time.Now()
	status = cli.Main(args, os.Stdin, os.Stdout, os.Stderr)
	took := time.Since(start)
	pprof.StopCPUProfile()
	if err := file.Close(); err != nil {
		return 0, err
	}
	program, err := os.Executable()
	if err != nil {
		return 0, err
	}
	traces := exec.Command("go", "tool", "pprof", "-traces", program, name)
	traces.Stderr = os.Stderr
	text, err := traces.Output()
	if err != nil {
		return 0, fmt.Errorf("go tool pprof: %w", err)
	}
	parts, all := sum(strings.NewReader(string(text)))
	fmt.Fprintf(os.Stderr, "%s, of the processors %s:\n", took.Round(time.Millisecond), all)
	report(os.Stderr, parts, all)
	return status, nil
}

// A part is a package, and how long its functions took.
type part struct {
	name      string
	took      time.Duration
	functions map[string]time.Duration
}

// sum adds up the time of the moments that `pprof -traces` writes down, the longest first.
func sum(traces io.Reader) (parts []*part, all time.Duration) {
	byName := map[string]*part{}
	in := bufio.NewScanner(traces)
	in.Buffer(nil, 1<<20)
	var took time.Duration
	name, function := "", ""
	end := func() {
		if took == 0 {
			return
		}
		name = cmp.Or(name, "garbage, scheduling")
		p := byName[name]
		if p == nil {
			p = &part{name: name, functions: map[string]time.Duration{}}
			byName[name] = p
			parts = append(parts, p)
		}
		p.took += took
		p.functions[function] += took
		all += took
		took, name, function = 0, "", ""
	}
	for in.Scan() {
		words := strings.Fields(in.Text())
		if strings.HasPrefix(in.Text(), "---") {
			end()
			continue
		}
		if len(words) > 1 && took == 0 {
			if d, err := time.ParseDuration(words[0]); err == nil {
				took, words = d, words[1:]
			}
		}
		if took > 0 && name == "" && len(words) > 0 && strings.HasPrefix(words[0], "kibitz/") {
			name, function = split(words[0])
		}
	}
	end()
	slices.SortFunc(parts, func(a, b *part) int { return cmp.Or(cmp.Compare(b.took, a.took), strings.Compare(a.name, b.name)) })
	return parts, all
}

// split gives the package and the function of a name, without the functions inside that and
// without the types that it is made for.
func split(name string) (of, function string) {
	name = strings.TrimPrefix(name, "kibitz/")
	name, _, _ = strings.Cut(name, "[")
	at := strings.LastIndexByte(name, '/') + 1
	folder, function, _ := strings.Cut(name[at:], ".")
	if i := strings.Index(function, ".func"); i >= 0 {
		function = function[:i]
	}
	return name[:at] + folder, strings.NewReplacer("(*", "", ")", "").Replace(strings.Trim(function, "."))
}

// report shows the packages that took a fiftieth or more, and what took most of each.
func report(w io.Writer, parts []*part, all time.Duration) {
	share := func(d time.Duration) float64 { return 100 * float64(d) / float64(max(all, 1)) }
	for _, p := range parts {
		if share(p.took) < 2 {
			break
		}
		names := slices.SortedFunc(maps.Keys(p.functions), func(a, b string) int {
			return cmp.Or(cmp.Compare(p.functions[b], p.functions[a]), strings.Compare(a, b))
		})
		most := ""
		for _, name := range names[:min(len(names), 3)] {
			if name != "" {
				most += fmt.Sprintf("  %s %.0f%%", name, share(p.functions[name]))
			}
		}
		fmt.Fprintf(w, "%4.0f%%  %-24s%s\n", share(p.took), p.name, most)
	}
}
