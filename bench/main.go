// Bench makes logs and rulebooks with a seeded generator, replays them side by
// side with other programs that read the same file, and prints best times, medians
// and ratios: of the best times, and the median of the rounds' own. See bench/run.
package main

import (
	"bufio"
	"cmp"
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

	"github.com/klauspost/compress/zstd"
)

func main() {
	lines := flag.Int("lines", 2_000_000, "lines of the log")
	rounds := flag.Int("rounds", 9, "how often each contestant runs")
	program := flag.String("kibitz", "", "the program")
	dir := flag.String("dir", "", "where the files are made")
	only := flag.String("only", "", "measure only what has this in its name, and what it is held against")
	kept := flag.Bool("kept", false, "the files are there already")
	flag.Parse()
	b := &bench{dir: *dir, kibitz: *program, rounds: *rounds, only: *only}
	if !*kept {
		b.make(*lines)
	}
	b.run()
}

type bench struct {
	dir, kibitz string
	rounds      int
	only        string
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
	books["everything"] = func(w io.Writer) { io.WriteString(w, tests) }
	books["copies"] = func(w io.Writer) { io.WriteString(w, tests+"header seen set X-Seen \"{agent}\"\n") }
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
	b.write("access.log.zst", func(w io.Writer) {
		z, err := zstd.NewWriter(w)
		check(err)
		log(z, lines, false, combined)
		check(z.Close())
	})
	b.write("list.jsonl", func(w io.Writer) { log(w, lines, false, jsonLine) })
	b.write("list.csv", func(w io.Writer) {
		fmt.Fprintln(w, "url,method,client,time,status,header.Referer,header.User-Agent")
		log(w, lines, false, csvRow)
	})
	b.write("list.txt", func(w io.Writer) { log(w, lines, false, plain) })
	b.write("empty.log", func(w io.Writer) { log(w, 1, false, combined) })
	b.write("one.log", func(w io.Writer) { log(w, lines/2, false, combined) })
	b.large(lines / 20)
}

// large writes what is long to load: entries, moves, and an inventory.
func (b *bench) large(n int) {
	site := "site bench\n    address https://bench.example\n    inventory %s.csv\n\n"
	b.write("large-tree.csv", func(w io.Writer) {
		fmt.Fprintln(w, "path,size,modified")
		for i := range 10 * n {
			fmt.Fprintf(w, "/shelf-%d/box-%d/paper-%d.html,4000,2026-03-01T06:00:00Z\n", i%97, i%1009, i)
		}
	})
	b.write("large-tree.kibitz", func(w io.Writer) { fmt.Fprintf(w, site, "large-tree") })
	b.write("large-entries.kibitz", func(w io.Writer) {
		fmt.Fprintf(w, site, "tree")
		patterns(w, n)
	})
	b.write("large-moves.csv", func(w io.Writer) {
		for i := range 10 * n {
			fmt.Fprintf(w, "/old/shelf-%d/paper-%d.php,/section-%d/page-%d.html\n", i%97, i, i%sections, i%pages)
		}
	})
	b.write("large-moves.kibitz", func(w io.Writer) {
		fmt.Fprintf(w, site, "tree")
		fmt.Fprintln(w, "moves m table large-moves.csv as permanent")
	})
	b.write("patterns-large-tree.kibitz", func(w io.Writer) {
		fmt.Fprintf(w, site, "hundred-tree")
		patterns(w, 5000)
	})
	b.write("hundred-tree.csv", func(w io.Writer) {
		fmt.Fprintln(w, "path,size,modified")
		for i := range 100_000 {
			fmt.Fprintf(w, "/shelf-%d/box-%d/paper-%d.html,4000,2026-03-01T06:00:00Z\n", i%97, i%1009, i)
		}
	})
}

// tests are entries that look at all that can be looked at of a request.
const tests = `reply closed when time after 2026-10-12 before 2026-10-13 with 503
redirect by-number on /nowhere/* when query.ref 7 to /section-1/ as temporary
reply preview in /section-2/ when cookie.preview 1 with 204
access frames in /section-3/ when referrer https://elsewhere.example/* refuse
redirect german on /section-4/ when language de* to /section-5/ as temporary
access bots when agent *hoover* *TideReader* refuse
access quay in /section-6/ when client 10.7.0.0/16 10.99.3.0/24 refuse
`

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

func jsonLine(w io.Writer, h hit) {
	referrer := ""
	if h.referrer != "-" {
		referrer = fmt.Sprintf(`"Referer":"%s",`, h.referrer)
	}
	fmt.Fprintf(w, `{"url":"%s","method":"%s","client":"%s","time":"%s","status":%d,"headers":{%s"User-Agent":"%s"}}`+"\n", h.address, h.method, h.client, h.at.Format(time.RFC3339), h.status, referrer, h.agent)
}

func csvRow(w io.Writer, h hit) {
	fmt.Fprintf(w, "%s,%s,%s,%s,%d,%s,\"%s\"\n", h.address, h.method, h.client, h.at.Format(time.RFC3339), h.status, strings.TrimPrefix(h.referrer, "-"), h.agent)
}

func plain(w io.Writer, h hit) { fmt.Fprintf(w, "%s %s\n", h.method, h.address) }

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
	dir  string
	env  string
	args []string
	took []time.Duration
	peak int64 // KiB
}

func (b *bench) replay(name, book, log string, more ...string) *contestant {
	args := append([]string{b.kibitz, "replay", "-rules", b.path(book + ".kibitz")}, more...)
	return &contestant{name: name, dir: b.dir, args: append(args, b.path(log))}
}

// A row holds one contestant against another, or against a time.
type row struct {
	what, a, b string
	scale      float64 // of a; 0 for 1
	goal       float64
}

func (b *bench) run() {
	shell := func(name, command string) *contestant {
		return &contestant{name: name, args: []string{"sh", "-c", "cd " + b.dir + "; " + command}}
	}
	kibitz := func(name string, args ...string) *contestant {
		return &contestant{name: name, dir: b.dir, args: append([]string{b.kibitz}, args...)}
	}
	const count = "mawk '{n[$9]++} END {for (s in n) print s, n[s]}'"
	all := []*contestant{
		shell("mawk", count+" access.log"),
		shell("gzip | mawk", "gzip -dc access.log.gz | "+count),
		shell("zstd | mawk", "zstd -dcq access.log.zst | "+count),
		b.replay("200 entries", "none", "access.log"),
		b.replay("one worker", "none", "access.log", "-workers", "1"),
		{name: "one processor", dir: b.dir, env: "GOMAXPROCS=1", args: b.replay("", "none", "access.log").args},
		b.replay("gz", "none", "access.log.gz"),
		b.replay("zst", "none", "access.log.zst"),
		b.replay("W3C form", "none", "w3c.log"),
		b.replay("JSON lines", "none", "list.jsonl"),
		b.replay("CSV", "none", "list.csv"),
		b.replay("plain list", "none", "list.txt"),
		b.replay("only 404", "none", "access.log", "-only", "404"),
		b.replay("100,000 moves", "moves", "access.log"),
		b.replay("5,000 patterns", "patterns", "access.log"),
		b.replay("5,000 clients", "clients", "access.log"),
		b.replay("500 agents", "agents", "access.log"),
		b.replay("all tests", "everything", "access.log"),
		b.replay("all tests, copies", "copies", "access.log"),
		b.replay("a tenth", "none", "tenth.log"),
		b.replay("every path distinct", "none", "distinct.log"),
		b.replay("rulebook alone", "none", "empty.log"),
		b.replay("moves alone", "moves", "empty.log"),
		b.replay("half", "none", "one.log"),
		b.replay("half, by day", "none", "one.log", "-by", "day"),
		b.replay("half, html", "none", "one.log", "-as", "html"),
		b.replay("half, each", "none", "one.log", "-each"),
		b.replay("half, each, CSV", "none", "one.log", "-each", "-as", "csv"),
		b.replay("half, each, JSON lines", "none", "one.log", "-each", "-as", "jsonl"),
		kibitz("half, excerpt", "excerpt", "-rules", "none.kibitz", "one.log"),
		kibitz("half, compared", "compare", "none.kibitz", "agents.kibitz", "one.log"),
		kibitz("trace, 5,000 patterns, 100,000 files", "trace", "-rules", "patterns-large-tree.kibitz", "/depot-1/a-b.php"),
		kibitz("check 100,000 moves", "check", "-rules", "moves.kibitz"),
		kibitz("check 5,000 patterns", "check", "-rules", "patterns.kibitz"),
		kibitz("load 100,000 entries", "trace", "-rules", "large-entries.kibitz", "/"),
		kibitz("load 1,000,000 moves", "trace", "-rules", "large-moves.kibitz", "/"),
		kibitz("load 1,000,000 files", "trace", "-rules", "large-tree.kibitz", "/"),
	}
	rows := []row{
		{"replay against mawk, all cores", "200 entries", "mawk", 0, 0.25},
		{"replay against mawk, one worker", "one worker", "mawk", 0, 0.75},
		{"replay against mawk, one processor (GOMAXPROCS=1)", "one processor", "mawk", 0, 0.5},
		{"a rulebook that tests everything, against mawk", "all tests", "mawk", 0, 0.45},
		{"the same with a header that copies the agent, against mawk", "all tests, copies", "mawk", 0, 0.8},
		{".gz against gzip -dc | mawk", "gz", "gzip | mawk", 0, 0.6},
		{".zst against zstd -dc | mawk", "zst", "zstd | mawk", 0, 0.9},
		{"the W3C form of the log against the combined one", "W3C form", "200 entries", 0, 1.15},
		{"JSON lines of the same requests against the log", "JSON lines", "200 entries", 0, 2},
		{"CSV of the same requests against the log", "CSV", "200 entries", 0, 1.5},
		{"a plain list of the same requests against the log", "plain list", "200 entries", 0, 1.5},
		{"only what answers 404, against all", "only 404", "200 entries", 0, 0},
		{"every address new, against a log of 20,000 addresses", "every path distinct", "200 entries", 4, 4},
		{"100,000 moves against 200 entries, whole process", "100,000 moves", "200 entries", 0, 1.5},
		{"5,000 pattern redirects against 200 entries", "5,000 patterns", "200 entries", 0, 1.25},
		{"5,000 client entries against 200 entries", "5,000 clients", "200 entries", 0, 1.25},
		{"500 agent tests against 200 entries", "500 agents", "200 entries", 0, 1.25},
		{"compare against one replay", "half, compared", "half", 0, 2.2},
		{"-each against replay", "half, each", "half", 0, 4},
		{"-each -as csv against replay", "half, each, CSV", "half", 0, 4},
		{"-each -as jsonl against replay", "half, each, JSON lines", "half", 0, 8},
		{"excerpt against replay", "half, excerpt", "half", 0, 1.5},
		{"-as html against replay", "half, html", "half", 0, 1.5},
		{"-by day against replay", "half, by day", "half", 0, 1.5},
	}
	goals := map[string]time.Duration{
		"trace, 5,000 patterns, 100,000 files": 30 * time.Millisecond, "check 100,000 moves": 800 * time.Millisecond, "check 5,000 patterns": 2 * time.Second,
		"load 100,000 entries": 2 * time.Second, "load 1,000,000 moves": 2500 * time.Millisecond, "load 1,000,000 files": 2500 * time.Millisecond,
	}
	if b.only != "" {
		rows = slices.DeleteFunc(rows, func(r row) bool {
			return !strings.Contains(r.what, b.only) && !strings.Contains(r.a, b.only)
		})
		all = slices.DeleteFunc(all, func(c *contestant) bool {
			return !strings.Contains(c.name, b.only) && !slices.ContainsFunc(rows, func(r row) bool { return r.a == c.name || r.b == c.name })
		})
	}
	for range b.rounds {
		for _, c := range all { // interleaved, so that all meet the same machine
			c.once()
		}
	}
	find := func(name string) *contestant {
		i := slices.IndexFunc(all, func(c *contestant) bool { return c.name == name })
		if i < 0 {
			return nil
		}
		return all[i]
	}
	fmt.Printf("%-38s %9s %9s %9s %9s\n", "contestant", "best ms", "median ms", "goal ms", "peak MiB")
	for _, c := range all {
		fmt.Printf("%-38s %9d %9d %9s %9.1f\n", c.name, c.best().Milliseconds(), c.median().Milliseconds(), goalOf(float64(goals[c.name].Milliseconds()), "%.0f"), float64(c.peak)/1024)
	}
	fmt.Printf("\n%-64s %7s %7s %7s\n", "ratios of times", "best", "rounds", "goal")
	for _, r := range rows {
		a, against, scale := find(r.a), find(r.b), max(r.scale, 1)
		var rounds []float64 // within a round all have met much the same machine
		for i := range b.rounds {
			rounds = append(rounds, scale*float64(a.took[i])/float64(against.took[i]))
		}
		slices.Sort(rounds)
		fmt.Printf("%-64s %7.2f %7.2f %7s\n", r.what, scale*float64(a.best())/float64(against.best()), rounds[len(rounds)/2], goalOf(r.goal, "%.2f"))
	}
	if b.only == "" {
		fmt.Printf("\n%-64s %7s %15s\n", "memory", "is", "goal")
		fmt.Printf("%-64s %7.1f %15.1f\n", "peak memory apart, whole log against a tenth (MiB)", float64(find("200 entries").peak-find("a tenth").peak)/1024, 16.0)
		fmt.Printf("%-64s %7.1f %15.1f\n", "peak memory with 100,000 moves (MiB)", float64(find("100,000 moves").peak)/1024, 64.0)
		most := slices.MaxFunc(all, func(a, b *contestant) int { return cmp.Compare(a.peakOfLog(), b.peakOfLog()) })
		fmt.Printf("%-64s %7.1f %15.1f\n", "peak memory of any log ("+most.name+", MiB)", float64(most.peakOfLog())/1024, 128.0)
		fmt.Printf("%-64s %7.1f %15.1f\n", "peak memory with 1,000,000 moves (MiB)", float64(find("load 1,000,000 moves").peak)/1024, 320.0)
	}
}

// peakOfLog is the peak memory of the replay of a list; 0 for others.
func (c *contestant) peakOfLog() int64 {
	if len(c.args) > 1 && c.args[1] == "replay" {
		return c.peak
	}
	return 0
}

func goalOf(goal float64, form string) string {
	if goal == 0 {
		return ""
	}
	return fmt.Sprintf(form, goal)
}

func (c *contestant) once() {
	cmd := exec.Command(c.args[0], c.args[1:]...)
	if cmd.Dir = c.dir; c.env != "" {
		cmd.Env = append(os.Environ(), c.env)
	}
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
