// Bench makes logs and rulebooks with a seeded generator, replays them side by
// side with other programs that read the same file, and prints best times, medians
// and ratios: of the best times, and the median of the rounds' own. See bench/run.
package main

import (
	"bufio"
	"compress/gzip"
	"flag"
	"fmt"
	"io"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

func main() {
	lines := flag.Int("lines", 2_000_000, "lines of the log")
	rounds := flag.Int("rounds", 9, "how often each contestant runs")
	program := flag.String("kibitz", "", "the program")
	dir := flag.String("dir", "", "where the files are made")
	flag.Parse()
	b := &bench{dir: *dir, kibitz: *program, rounds: *rounds}
	b.make(*lines)
	b.run()
}

type bench struct {
	dir, kibitz string
	rounds      int
}

func (b *bench) path(name string) string { return filepath.Join(b.dir, name) }

func check(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func (b *bench) write(name string, fill func(io.Writer)) {
	f, err := os.Create(b.path(name))
	check(err)
	w := bufio.NewWriterSize(f, 1<<20)
	fill(w)
	check(w.Flush())
	check(f.Close())
}

const sections, pages = 50, 100

// make writes the tree's inventory, the rulebooks and the logs.
func (b *bench) make(lines int) {
	b.write("tree.csv", func(w io.Writer) {
		fmt.Fprintln(w, "path,size,modified")
		for s := range sections {
			fmt.Fprintf(w, "/section-%d/index.html,4000,2026-03-01T06:00:00Z\n", s)
			for p := range pages {
				fmt.Fprintf(w, "/section-%d/page-%d.html,%d,2026-03-01T06:00:00Z\n", s, p, 2000+p)
			}
		}
		fmt.Fprintln(w, "/errors/404.html,700,2026-03-01T06:00:00Z")
	})
	site := "site bench\n    address https://bench.example\n    hosts www.bench.example\n    inventory tree.csv\n\n"
	books := map[string]func(io.Writer){
		"none":     func(w io.Writer) {},
		"moves":    func(w io.Writer) { fmt.Fprintln(w, "moves m table moves.csv as permanent") },
		"patterns": func(w io.Writer) { patterns(w, 5000) },
		"clients": func(w io.Writer) {
			for i := range 5000 {
				fmt.Fprintf(w, "access c%d when client 10.%d.%d.0/28 refuse\n", i, i/256, i%256)
			}
		},
		"agents": func(w io.Writer) {
			for i := range 500 {
				fmt.Fprintf(w, "access a%d when agent *hoover-%d* refuse\n", i, i)
			}
		},
	}
	for name, more := range books {
		b.write(name+".kibitz", func(w io.Writer) {
			io.WriteString(w, site)
			more(w)
			base(w)
		})
	}
	b.write("moves.csv", func(w io.Writer) {
		for i := range 100_000 {
			fmt.Fprintf(w, "/old/shelf-%d/paper-%d.php,/section-%d/page-%d.html\n", i%97, i, i%sections, i%pages)
		}
	})
	b.write("access.log", func(w io.Writer) { log(w, lines, false, combined) })
	b.write("tenth.log", func(w io.Writer) { log(w, lines/10, false, combined) })
	b.write("distinct.log", func(w io.Writer) { log(w, lines/4, true, combined) })
	b.write("w3c.log", func(w io.Writer) {
		fmt.Fprintln(w, "#Fields: date time c-ip cs-method cs-uri-stem cs-uri-query sc-status sc-bytes cs(Referer) cs(User-Agent)")
		log(w, lines, false, w3c)
	})
	b.write("access.log.gz", func(w io.Writer) {
		z := gzip.NewWriter(w)
		log(z, lines, false, combined)
		check(z.Close())
	})
}

// base are the 200 entries of every rulebook.
func base(w io.Writer) {
	fmt.Fprintln(w, "redirect secure when scheme http to https://{host}{path} as permanent")
	fmt.Fprintln(w, "redirect name when host www.bench.example to https://bench.example{path} as permanent")
	for i := range 70 {
		fmt.Fprintf(w, "redirect exact-%d on /exact/%d to /section-%d/ as permanent\n", i, i, i%sections)
	}
	for i := range 60 {
		fmt.Fprintf(w, "redirect page-%d on /legacy-%d/:page.php to /section-%d/{page}.html as permanent\n", i, i, i%sections)
	}
	for i := range 20 {
		fmt.Fprintf(w, "redirect re-%d on ~/archive-%d/(\\d{4})/.* to /section-%d/ as permanent\n", i, i, i%sections)
	}
	for i := range 20 {
		fmt.Fprintf(w, "access staff-%d in /staff-%d/ refuse\n", i, i)
	}
	for i := range 20 {
		fmt.Fprintf(w, "rewrite short-%d on /s%d/:page to /section-%d/{page}.html\n", i, i, i)
	}
	for i := range 5 {
		fmt.Fprintf(w, "fallback app-%d in /app-%d/ to /section-%d/index.html\n", i, i, i)
	}
	fmt.Fprintln(w, "error not-found for 404 show /errors/404.html")
	fmt.Fprintln(w, "header framing set X-Frame-Options SAMEORIGIN")
	fmt.Fprintln(w, "header kept for 200 default Cache-Control no-cache")
}

func patterns(w io.Writer, n int) {
	for i := range n {
		switch {
		case i%100 == 0:
			fmt.Fprintf(w, "redirect p%d on /:area/odd-%d.php to /section-%d/ as permanent\n", i, i, i%sections)
		case i%3 == 0:
			fmt.Fprintf(w, "redirect p%d on /shelf-%d/* to /section-%d/ as permanent\n", i, i, i%sections)
		default:
			fmt.Fprintf(w, "redirect p%d on /depot-%d/:name-:size.php to /section-%d/{name}.html as permanent\n", i, i, i%sections)
		}
	}
}

// A hit is what a line tells.
type hit struct {
	at                                       time.Time
	client, method, address, referrer, agent string
	status, size                             int
}

// combined writes a line of the combined form.
func combined(w io.Writer, h hit) {
	fmt.Fprintf(w, "%s - - [%s] \"%s %s HTTP/1.1\" %d %d \"%s\" \"%s\"\n", h.client, h.at.Format("02/Jan/2006:15:04:05 -0700"), h.method, h.address, h.status, h.size, h.referrer, h.agent)
}

// w3c writes one of the W3C extended form.
func w3c(w io.Writer, h hit) {
	stem, query, ok := strings.Cut(h.address, "?")
	if !ok {
		query = "-"
	}
	fmt.Fprintf(w, "%s %s %s %s %s %d %d %s %s\n", h.at.Format("2006-01-02 15:04:05"), h.client, h.method, stem, query, h.status, h.size, h.referrer, strings.ReplaceAll(h.agent, " ", "+"))
}

// log writes lines: Zipf over the addresses, bots, what is not there, queries, HEAD
// and POST.
func log(w io.Writer, n int, distinct bool, line func(io.Writer, hit)) {
	r := rand.New(rand.NewSource(2026))
	var addresses []string
	for i := range 20_000 {
		s, p := r.Intn(sections), r.Intn(pages)
		switch i % 20 {
		case 0:
			addresses = append(addresses, fmt.Sprintf("/section-%d/", s))
		case 1:
			addresses = append(addresses, fmt.Sprintf("/exact/%d", r.Intn(70)))
		case 2:
			addresses = append(addresses, fmt.Sprintf("/legacy-%d/page-%d.php", r.Intn(60), p))
		case 3:
			addresses = append(addresses, fmt.Sprintf("/old/shelf-%d/paper-%d.php", i%97, i))
		case 4:
			addresses = append(addresses, fmt.Sprintf("/s%d/page-%d", r.Intn(20), p))
		case 5:
			addresses = append(addresses, fmt.Sprintf("/nowhere/%d/%d.html", s, i))
		case 6:
			addresses = append(addresses, fmt.Sprintf("/app-%d/state/%d", r.Intn(5), i))
		default:
			addresses = append(addresses, fmt.Sprintf("/section-%d/page-%d.html", s, p))
		}
	}
	zipf := rand.NewZipf(r, 1.1, 4, uint64(len(addresses)-1))
	agents := []string{
		"Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/140.0.0.0 Safari/537.36",
		"Mozilla/5.0 (Macintosh; Intel Mac OS X 14_4) AppleWebKit/605.1.15 (KHTML, like Gecko) Version/18.1 Safari/605.1.15",
		"Mozilla/5.0 (Windows NT 10.0; rv:140.0) Gecko/20100101 Firefox/140.0",
		"TideReader/2.1 (+https://tides.example/bot)", "hoover-17/1.0",
	}
	at := time.Date(2026, 10, 10, 0, 0, 0, 0, time.UTC)
	for i := range n {
		address := addresses[zipf.Uint64()]
		if distinct {
			address = fmt.Sprintf("/section-%d/page-%d.html;%d", r.Intn(sections), r.Intn(pages), i)
		}
		if r.Intn(100) < 15 {
			address += fmt.Sprintf("?ref=%d", r.Intn(1000))
		}
		method, status := "GET", 200
		switch r.Intn(40) {
		case 0:
			method = "HEAD"
		case 1:
			method = "POST"
		case 2:
			status = 404
		case 3:
			status = 301
		}
		referrer := "-"
		if r.Intn(2) == 0 {
			referrer = "https://bench.example" + addresses[zipf.Uint64()]
		}
		at = at.Add(time.Duration(r.Intn(80)) * time.Millisecond)
		client := fmt.Sprintf("10.%d.%d.%d", r.Intn(100), r.Intn(256), r.Intn(256))
		line(w, hit{at, client, method, address, referrer, agents[min(r.Intn(20), len(agents)-1)], status, 500 + r.Intn(40000)})
	}
}

// A contestant is a command line whose time is taken.
type contestant struct {
	name string
	args []string
	took []time.Duration
	peak int64 // KiB
}

func (b *bench) replay(name, book, log string, more ...string) *contestant {
	args := append([]string{b.kibitz, "replay", "-rules", b.path(book + ".kibitz")}, more...)
	return &contestant{name: name, args: append(args, b.path(log))}
}

func (b *bench) run() {
	shell := func(name, command string) *contestant {
		return &contestant{name: name, args: []string{"sh", "-c", command}}
	}
	all := []*contestant{
		shell("mawk", "mawk '{n[$9]++} END {for (s in n) print s, n[s]}' "+b.path("access.log")),
		shell("gzip | mawk", "gzip -dc "+b.path("access.log.gz")+" | mawk '{n[$9]++} END {for (s in n) print s, n[s]}'"),
		b.replay("200 entries", "none", "access.log"),
		b.replay("one worker", "none", "access.log", "-workers", "1"),
		b.replay("gz", "none", "access.log.gz"),
		b.replay("W3C form", "none", "w3c.log"),
		b.replay("only 404", "none", "access.log", "-only", "404"),
		b.replay("100,000 moves", "moves", "access.log"),
		b.replay("5,000 patterns", "patterns", "access.log"),
		b.replay("5,000 clients", "clients", "access.log"),
		b.replay("500 agents", "agents", "access.log"),
		b.replay("a tenth", "none", "tenth.log"),
		b.replay("every path distinct", "none", "distinct.log"),
		b.replay("rulebook alone", "none", "empty.log"),
		b.replay("moves alone", "moves", "empty.log"),
		{name: "check 100,000 moves", args: []string{b.kibitz, "check", b.path("moves.kibitz")}},
		{name: "check 5,000 patterns", args: []string{b.kibitz, "check", b.path("patterns.kibitz")}},
	}
	b.write("empty.log", func(w io.Writer) { log(w, 1, false, combined) })
	for range b.rounds {
		for _, c := range all { // interleaved, so that all meet the same machine
			c.once()
		}
	}
	find := func(name string) *contestant {
		return all[slices.IndexFunc(all, func(c *contestant) bool { return c.name == name })]
	}
	fmt.Printf("%-24s %9s %9s %9s\n", "contestant", "best ms", "median ms", "peak MiB")
	for _, c := range all {
		fmt.Printf("%-24s %9d %9d %9.1f\n", c.name, c.best().Milliseconds(), c.median().Milliseconds(), float64(c.peak)/1024)
	}
	fmt.Printf("\n%-64s %7s %7s %7s\n", "ratios of times", "best", "rounds", "goal")
	row := func(what string, goal float64, ratio func(time func(name string) time.Duration) float64) {
		best := ratio(func(name string) time.Duration { return find(name).best() })
		var rounds []float64 // within a round all have met much the same machine
		for i := range b.rounds {
			rounds = append(rounds, ratio(func(name string) time.Duration { return find(name).took[i] }))
		}
		slices.Sort(rounds)
		fmt.Printf("%-64s %7.2f %7.2f", what, best, rounds[len(rounds)/2])
		if goal > 0 {
			fmt.Printf(" %7.2f", goal)
		}
		fmt.Println()
	}
	ratio := func(what, a, b string, goal float64) {
		row(what, goal, func(time func(string) time.Duration) float64 { return float64(time(a)) / float64(time(b)) })
	}
	ratio("replay against mawk, all cores", "200 entries", "mawk", 0.4)
	ratio("replay against mawk, one worker", "one worker", "mawk", 0.75)
	ratio(".gz against gzip -dc | mawk", "gz", "gzip | mawk", 0.7)
	ratio("the W3C form of the log against the combined one", "W3C form", "200 entries", 0)
	ratio("only what answers 404, against all", "only 404", "200 entries", 0)
	ratio("100,000 moves against 200 entries, whole process", "100,000 moves", "200 entries", 1.5)
	row("100,000 moves against 200 entries, once the rulebook is read", 1.3, func(time func(string) time.Duration) float64 {
		return float64(time("100,000 moves")-time("moves alone")) / float64(time("200 entries")-time("rulebook alone"))
	})
	ratio("5,000 pattern redirects against 200 entries", "5,000 patterns", "200 entries", 1.25)
	ratio("5,000 client entries against 200 entries", "5,000 clients", "200 entries", 1.25)
	ratio("500 agent tests against 200 entries", "500 agents", "200 entries", 1.25)
	fmt.Printf("\n%-64s %7s %15s\n", "memory", "is", "goal")
	fmt.Printf("%-64s %7.1f %15.1f\n", "peak memory apart, whole log against a tenth (MiB)", float64(find("200 entries").peak-find("a tenth").peak)/1024, 16.0)
	fmt.Printf("%-64s %7.1f %15.1f\n", "peak memory with 100,000 moves (MiB)", float64(find("100,000 moves").peak)/1024, 64.0)
}

func (c *contestant) once() {
	cmd := exec.Command(c.args[0], c.args[1:]...)
	var errs strings.Builder
	cmd.Stderr = &errs
	start := time.Now()
	err := cmd.Run()
	took := time.Since(start)
	if err != nil && cmd.ProcessState.ExitCode() != 1 {
		check(fmt.Errorf("%s: %w %s", c.name, err, errs.String()))
	}
	c.took = append(c.took, took)
	c.peak = max(c.peak, peak(cmd.ProcessState))
}

func (c *contestant) best() time.Duration { return slices.Min(c.took) }
func (c *contestant) median() time.Duration {
	return slices.Sorted(slices.Values(c.took))[len(c.took)/2]
}
