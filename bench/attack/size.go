package main

// Large inputs: much in little, and little that is made to become much.

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

// packed writes a packed file.
func packed(name string, write func(io.Writer)) func(dir string) error {
	return func(dir string) error {
		f, err := os.Create(filepath.Join(dir, name))
		if err != nil {
			return err
		}
		defer f.Close()
		var z io.WriteCloser = gzip.NewWriter(f)
		if strings.HasSuffix(name, ".zst") {
			if z, err = zstd.NewWriter(f); err != nil {
				return err
			}
		}
		b := bufio.NewWriter(z)
		write(b)
		if err := b.Flush(); err != nil {
			return err
		}
		return z.Close()
	}
}

var aMebibyte = strings.Repeat("a", 1<<20)

// much is one thing that does not end, between what it needs around it.
func much(before, after string, mebibytes int) func(io.Writer) {
	return func(w io.Writer) {
		io.WriteString(w, before)
		for range mebibytes {
			io.WriteString(w, aMebibyte)
		}
		io.WriteString(w, after)
	}
}

func lines(n int, line func(i int) string) func(io.Writer) {
	return func(w io.Writer) {
		for i := range n {
			io.WriteString(w, line(i))
		}
	}
}

func sizes() (all []attack) {
	const kib, mib = 1 << 10, 1 << 20
	list := func(what, name string, write func(io.Writer), args ...string) {
		a := onRules(rules, append([]string{"replay", name}, args...)...)
		a.name, a.large, a.make = what, true, packed(name, write)
		all = append(all, a)
	}
	p := func(n int) string { return strings.Repeat("p", n) }
	list("a value without an end, CSV", "list.csv.gz", much("url,method\n\"", "", 1500))
	list("a value without an end, sitemap", "list.xml.gz", much("<?xml version=\"1.0\"?><urlset><url><loc>", "", 1500))
	list("a value without an end, HTTP archive", "list.har.gz", much("{\"log\":{\"entries\":[{\"request\":{\"url\":\"", "", 1500))
	list("a value without an end, JSON lines", "list.jsonl.gz", much("{\"url\":\"", "", 1500))
	list("a value without an end, log", "list.log.zst", much(logLine("x", "-", "-")+"192.0.2.1 - - [", "", 1500))
	list("a value without an end, plain", "list.txt.zst", much("/x\n/", "", 1500))
	list("a value without an end, W3C", "list.w3c.gz", much("#Fields: cs-method cs-uri-stem\nGET /", "", 1500))
	list("a name without an end, HTTP archive", "list.har.gz", much("{\"", "", 1500))
	list("lists in lists, HTTP archive", "list.har.gz", lines(2_000_000, func(int) string { return "{\"log\":[[[[" }))
	list("elements in elements, sitemap", "list.xml.gz", func(w io.Writer) {
		io.WriteString(w, "<?xml version=\"1.0\"?>")
		lines(20_000_000, func(int) string { return "<a>" })(w)
	})
	list("an index of sitemaps without an end", "list.xml.gz", func(w io.Writer) {
		io.WriteString(w, "<?xml version=\"1.0\"?><sitemapindex>")
		lines(3_000_000, func(i int) string { return fmt.Sprintf("<sitemap><loc>https://s.example/%d.xml</loc></sitemap>", i) })(w)
	})
	list("addresses of 50 KiB", "list.log.gz", lines(20_000, func(i int) string { return logLine(fmt.Sprint(i, p(50*kib)), "-", "-") }))
	list("pages of 50 KiB", "list.log.gz", lines(20_000, func(i int) string { return logLine("none", fmt.Sprint(i, p(50*kib)), "-") }))
	list("agents of 50 KiB", "list.log.gz", lines(20_000, func(i int) string { return logLine("agent", "-", fmt.Sprint(i, p(50*kib))) }))
	list("addresses of 3 KiB, and every status", "list.log.gz", lines(300_000, func(i int) string {
		return strings.Replace(logLine(fmt.Sprint(i, p(3*kib)), "-", "-"), " 200 ", fmt.Sprintf(" %d ", 100+i%900), 1)
	}))
	list("a million addresses", "list.log.gz", lines(1_000_000, func(i int) string { return logLine(fmt.Sprint(i), fmt.Sprint("https://s.example/", i), fmt.Sprint(i)) }))
	list("a million hosts", "list.log.gz", lines(1_000_000, func(i int) string {
		return strings.Replace(logLine("x", "-", "-"), "GET /x", fmt.Sprintf("GET http://h%d.example/x", i), 1)
	}))
	list("a million methods", "list.log.gz", lines(1_000_000, func(i int) string {
		return strings.Replace(logLine("x", "-", "-"), "GET", strings.Map(func(r rune) rune { return r - '0' + 'A' }, fmt.Sprint(i)), 1)
	}))
	list("expectations of which none is met", "list.txt.gz", lines(1_000_000, func(i int) string { return fmt.Sprintf("/%d => 302 /%d\n", i, i) }))
	list("every request shown, JSON", "list.txt.gz", lines(300_000, func(i int) string { return fmt.Sprintf("/%d%s\n", i, p(1000)) }), "-each", "-as", "jsonl", "-out", "no/such/folder")
	list("a request with details without an end", "list.txt.gz", lines(2_000_000, func(i int) string {
		return strings.Repeat("/x\n", max(0, 1-i)) + fmt.Sprintf("  X-%d: %s\n", i, p(500))
	}))
	list("a quote in each line that is never closed", "list.csv.gz", func(w io.Writer) {
		io.WriteString(w, "url\n")
		lines(2_000_000, func(i int) string { return "/a\"\n" })(w)
	})

	book := func(what string, files map[string]string, make func(string) error, args ...string) {
		a := attack{name: what, files: files, make: make, args: args, large: true}
		all = append(all, a)
	}
	big := func(name string, size int64) func(dir string) error {
		return func(dir string) error {
			f, err := os.Create(filepath.Join(dir, name))
			if err != nil {
				return err
			}
			defer f.Close()
			return f.Truncate(size)
		}
	}
	book("an include of a terabyte", map[string]string{"site.kibitz": siteText + "include x\n", "public/": ""}, big("x", 1<<40), "check")
	folders := strings.Repeat("/'a", 15_000)
	list("addresses of many folders, sent on", "list.log.gz", lines(5_000, func(i int) string { return logLine(fmt.Sprint("sent", i, folders), "-", "-") }))
	all[len(all)-1].files["site.kibitz"] = siteText + "redirect port to https://s.example:8443{path}/ as temporary\n"
	book("a table of a terabyte", map[string]string{"site.kibitz": siteText + "moves m table x\n", "public/": ""}, big("x", 1<<40), "check")
	book("a rulebook of a terabyte", map[string]string{"public/": ""}, big("site.kibitz", 1<<40), "check")
	book("a file of a terabyte", map[string]string{"site.kibitz": siteText + "compress all\n", "public/": ""}, big("public/x.html", 1<<40), "trace", "-header", "Accept-Encoding: br", "/x.html")
	book("the hash of a gibibyte", map[string]string{"public/": ""}, big("public/x", 1<<30), "inventory", "-hash", "public")
	book("an error page of a gibibyte that is filled", map[string]string{"site.kibitz": siteText + "error e for 404 show /x.html fill on\n", "public/": ""}, big("public/x.html", 1<<30), "trace", "/none")
	book("a path of many folders", map[string]string{"site.kibitz": "site s address https://s.example inventory i.csv\n", "i.csv": "path,size\n" + strings.Repeat("/a", 50_000) + ",1\n"}, nil, "check")
	book("links that multiply", map[string]string{"site.kibitz": siteText}, func(dir string) error {
		for level := range 40 {
			at := filepath.Join(dir, "public", fmt.Sprint("l", level))
			if err := os.MkdirAll(at, 0o755); err != nil {
				return err
			}
			for _, name := range []string{"a", "b", "c"} {
				if err := os.Symlink(fmt.Sprintf("../l%d", level+1), filepath.Join(at, name)); err != nil {
					return err
				}
			}
		}
		return nil
	}, "replay", "-every-file")
	var entries, sites strings.Builder
	for i := range 100_000 {
		fmt.Fprintf(&entries, "redirect r%d on /old-%d/page-%d.html to /new/%d/ as permanent\n", i, i%317, i, i)
	}
	for i := range 20_000 {
		fmt.Fprintf(&sites, "site s%d address https://s%d.example files public\nredirect a%d on /a to /b as permanent\n", i, i, i)
	}
	book("a hundred thousand entries", map[string]string{"site.kibitz": siteText + entries.String(), "public/": ""}, nil, "trace", "/old-1/page-1.html")
	all[len(all)-1].most = 512 << 20
	book("twenty thousand sites", map[string]string{"site.kibitz": sites.String(), "public/": ""}, nil, "trace", "/a")
	book("a million moves", map[string]string{"site.kibitz": siteText + "moves m table x.csv as permanent\n", "public/": ""}, func(dir string) error {
		f, err := os.Create(filepath.Join(dir, "x.csv"))
		if err != nil {
			return err
		}
		defer f.Close()
		b := bufio.NewWriter(f)
		b.WriteString("old,new\n")
		lines(1_000_000, func(i int) string { return fmt.Sprintf("/shop/item-%d.html,/items/%d/\n", i, i) })(b)
		return b.Flush()
	}, "trace", "/shop/item-7.html")
	book("expressions that could take for ever", map[string]string{"site.kibitz": siteText + "redirect a on ~/(a+)+b to /x as temporary\nredirect b on ~/(a|a)*(a|a)*(a|a)*c to /x as temporary\nredirect c on /{a{1,100}{b{1,100}}? to /x as temporary\n", "public/": ""}, nil, "trace", "/"+strings.Repeat("a", 20_000))
	book("a pattern of copies of copies", map[string]string{"site.kibitz": siteText + "redirect a on ~/((((((a{9}){9}){9}){9}){9}){9}){9} to /x as temporary\n", "public/": ""}, nil, "check")
	return all
}

// attacks are all of them.
func attacks() (all []attack) {
	for place, call := range places {
		for what, text := range hostile {
			a := call(text)
			a.name, a.ends = place+": "+what, strings.Contains(text, "\n")
			for i := range a.args { // no system passes it on
				a.args[i] = strings.ReplaceAll(a.args[i], "\x00", "")
			}
			all = append(all, a)
		}
	}
	all = append(all, devices()...)
	slices.SortFunc(all, func(a, b attack) int { return strings.Compare(a.name, b.name) })
	return append(all, sizes()...)
}
