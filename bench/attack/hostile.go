package main

// Small inputs: texts that are made to break something, in every place from which a text
// comes.

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"html"
	"os"
	"path/filepath"
	"strings"
)

// A hostile text is made for one thing that reads it.
var hostile = map[string]string{
	"clears the screen":          "\x1b[2J\x1b[H",
	"sets a title":               "\x1b]0;owned\x07",
	"one-byte escape":            "\x9b31m\u009b31m",
	"turns the direction":        "\u202egnp.exe\u2066x",
	"overwrites a line":          "ok\rnot so\b\b\b",
	"a null byte":                "a\x00b",
	"a line end":                 "a\nGET /second\r\nX: y",
	"another line end":           "a\u2028b\u2029c\u0085d\vd\fe",
	"markup":                     "<script>alert(1)</script><!--]]>",
	"quotes":                     `"'` + "`" + `\"\\`,
	"a formula":                  "=cmd|'/c calc'!A1",
	"a directive":                "x # SKIP\nBail out!\nnot ok 9",
	"shell words":                "$(reboot);`reboot`;x & rm -rf ~ #",
	"no UTF-8":                   "\xff\xfe\xc0\xaf\xed\xa0\x80",
	"marks over marks":           "e" + strings.Repeat("\u0301", 300),
	"wide":                       strings.Repeat("\U0001f6a2", 200),
	"nothing but blanks":         " \t\u00a0\u200b\u3000\ufeff",
	"percent":                    "%0d%0aSet-Cookie:x%00%%%zz%s%n%!d(MISSING)",
	"climbs":                     "/../../../../etc/passwd",
	"private use and surrogates": "\ue000\U000f0000\ufffe",
	"long":                       strings.Repeat("x", 5000),
	"a file for a moment":        "a.kibitz",
}

const (
	siteText = "site s address https://s.example files public\n"
	rules    = siteText + "redirect a on /a to /b as temporary\nredirect loop on /loop to /loop as temporary\nreply q when query.q present with 200 text \"you asked {query.q}\"\nheader h on /agent set X-Agent \"{agent}\"\n"
)

// logLine escapes a text as access logs do, or not.
func logLine(path, referrer, agent string) string {
	return fmt.Sprintf("192.0.2.1 - - [01/Mar/2026:06:00:00 +0000] \"GET /%s HTTP/1.1\" 200 5 \"%s\" \"%s\"\n", path, referrer, agent)
}

func quoteJSON(s string) string {
	b, _ := json.Marshal(s)
	return string(b)
}

// places are where a text can stand, each as a call of the program.
var places = map[string]func(s string) attack{
	"path of a log":     func(s string) attack { return onList(logLine(s, "-", "-"), "replay") },
	"referrer of a log": func(s string) attack { return onList(logLine("none", s, "-"), "replay", "-as", "json") },
	"agent of a log":    func(s string) attack { return onList(logLine("agent", "-", s), "replay", "-each", "-as", "jsonl") },
	"client of a log": func(s string) attack {
		return onList(s+" - "+s+" ["+s+"] \"GET /none HTTP/1.1\" 404 5\n", "replay", "-each")
	},
	"line of a plain list": func(s string) attack { return onList("/"+s+" => 200\n"+s+"\n  "+s+"\n", "replay", "-as", "tap") },
	"expectation": func(s string) attack {
		return onList("/a => 302 /"+s+"\n/none => 200\n  => header:X="+s+"\n", "replay", "-as", "junit")
	},
	"query": func(s string) attack { return onList("/?q="+s+"\n", "replay", "-each", "-as", "csv") },
	"JSON line": func(s string) attack {
		return onList("{\"url\":"+quoteJSON("/"+s)+",\"method\":"+quoteJSON(s)+",\"headers\":{\"x\":"+quoteJSON(s)+"}}\n{\"url\":"+quoteJSON(s)+"}\n", "replay", "-as", "json")
	},
	"CSV row": func(s string) attack {
		return onList("url,status,header.x\n/"+s+",200,"+s+"\n\"/"+s+"\",\""+s+"\",x\n", "replay", "-as", "csv")
	},
	"CSV heading": func(s string) attack { return onList("url,"+s+"\n/a,x\n", "replay") },
	"HTTP archive": func(s string) attack {
		return onList("{\"log\":{\"entries\":[{\"request\":{\"method\":\"GET\",\"url\":"+quoteJSON("https://s.example/"+s)+",\"headers\":[{\"name\":"+quoteJSON(s)+",\"value\":"+quoteJSON(s)+"}]}},{\"request\":{\"url\":"+quoteJSON(s)+"}}]}}", "replay", "-each", "-as", "jsonl")
	},
	"sitemap": func(s string) attack {
		return onList("<?xml version=\"1.0\"?><urlset><url><loc>https://s.example/"+html.EscapeString(s)+"</loc></url><url><loc>"+s+"</loc></url></urlset>", "replay", "-as", "tap")
	},
	"W3C fields": func(s string) attack {
		return onList("#Fields: cs-method cs-uri-stem cs(User-Agent) "+s+"\nGET /"+s+" "+s+" x\n", "replay", "-as", "json")
	},
	"tally":             func(s string) attack { return tallyOf(s, "404", "missing", "", "text") },
	"tally, as JSON":    func(s string) attack { return tallyOf(s, "404", "missing", "", "json") },
	"entry of a tally":  func(s string) attack { return tallyOf("x", "404", "missing", s, "text") },
	"status of a tally": func(s string) attack { return tallyOf("x", s, s, "", "csv") },
	"answers to draft from": func(s string) attack {
		return onList("{\"url\":"+quoteJSON("/"+s)+",\"status\":301,\"location\":"+quoteJSON("/to/"+s)+"}\n{\"url\":"+quoteJSON("/x/"+s+"/a")+",\"status\":301,\"location\":"+quoteJSON("/y/"+s+"/a")+"}\n{\"url\":"+quoteJSON("/x/"+s+"/b")+",\"status\":301,\"location\":"+quoteJSON("/y/"+s+"/b")+"}\n{\"url\":"+quoteJSON("/x/"+s+"/c?q="+s)+",\"status\":410}\n", "draft", "-base", "https://s.example", "-files", "public")
	},
	"old addresses": func(s string) attack {
		a := onList(logLine(s, "-", "-")+logLine("old/"+s+".php", "-", "-"), "moves", "-files", "public", "-old", "old", "-as", "text")
		a.files["old/x/page.html"], a.files["public/y/page.html"] = "<title>"+s+"</title><h1>"+s+"</h1>"+s, "<title>"+s+"</title>"+s+s
		return a
	},
	"table of moves": func(s string) attack {
		a := onList("url,requests\n/"+s+",3\n/a,"+s+"\n", "moves", "-files", "public")
		a.files["public/"+strings.NewReplacer("/", "_", "\x00", "_").Replace(s[:min(len(s), 100)])+".html"] = s
		return a
	},
	"agents to draft from": func(s string) attack {
		return onList(strings.Repeat(strings.Replace(logLine("a", "-", s), " 200 ", " 403 ", 1), 4)+logLine("b", "-", "other"), "draft", "-base", "https://s.example")
	},
	"folder to start from": func(s string) attack {
		name := strings.NewReplacer("/", "_", "\x00", "_").Replace(s)
		if len(name) > 200 {
			name = name[:200]
		}
		a := attack{files: map[string]string{"public/index.html": "home", "public/d/" + name: strings.Repeat(s, 300), "public/" + name + ".bak": "x", "log": logLine(s, "-", s)}, args: []string{"start", "-log", "log"}, writes: []string{"requests.txt", "site.kibitz"}}
		return a
	},
	"rulebook with a name":           func(s string) attack { return named(s, "replay", "list") },
	"rulebook with a name, checked":  func(s string) attack { return named(s, "check", "-claims") },
	"rulebook with a name, as JSON":  func(s string) attack { return named(s, "replay", "list", "-as", "json") },
	"rulebook with a name, as CSV":   func(s string) attack { return named(s, "replay", "-each", "list", "-as", "csv") },
	"rulebook with a name, as SARIF": func(s string) attack { return named(s, "check", "-as", "sarif") },
	"rulebook with a name, traced":   func(s string) attack { return named(s, "trace", "/loop") },
	"rulebook that is none": func(s string) attack {
		return onRules(siteText+"redirect "+s+" on /x to "+s+" as "+s+"\n"+s+"\n", "check")
	},
	"text of a reply": func(s string) attack {
		return onRules(siteText+"reply r on /x with 200 text \""+s+"\"\n", "trace", "/x")
	},
	"comment and target": func(s string) attack {
		return onRules(siteText+"redirect r on /x to /"+s+" as temporary # "+s+"\n", "check", "-as", "sarif")
	},
	"include":           func(s string) attack { return onRules(siteText+"include \""+s+"\"\n", "check") },
	"value of a header": func(s string) attack { return onRules(siteText+"header h set X-Y \""+s+"\"\n", "check", "-as", "json") },
	"table": func(s string) attack {
		a := onRules(siteText+"moves m table moves.csv as permanent\n", "check")
		a.files["moves.csv"] = "old,new\n/" + s + ",/" + s + "\n" + s + "," + s + "," + s + "\n"
		return a
	},
	"accounts": func(s string) attack {
		a := onRules(siteText+"access c in /c/ ask \"C\" accounts c.accounts\n", "check")
		a.files["c.accounts"] = s + ":" + s + "\n"
		return a
	},
	"inventory": func(s string) attack {
		a := onRules("site s address https://s.example inventory i.csv\n", "replay", "-every-file", "-each")
		a.files["i.csv"] = "path,size\n/" + s + ",5\n\"/" + strings.ReplaceAll(s, `"`, `""`) + ".html\",6\n" + s + ",x\n"
		return a
	},
	"name of a file": func(s string) attack {
		a := onRules(siteText, "replay", "-every-file", "-as", "json")
		name := strings.NewReplacer("/", "_", "\x00", "_").Replace(s)
		if len(name) > 200 {
			name = name[:200]
		}
		a.files["public/"+name] = "x"
		return a
	},
	"name of a list":     func(s string) attack { return onRules(rules, "replay", s) },
	"name of a rulebook": func(s string) attack { return onRules(rules, "check", "-rules", s) },
	"name of a result":   func(s string) attack { return onRules(rules, "check", "-out", "no/such/"+s) },
	"address":            func(s string) attack { return onRules(rules, "trace", "/"+s) },
	"whole address":      func(s string) attack { return onRules(rules, "trace", "-as", "json", "https://"+s+"/") },
	"header of a trace":  func(s string) attack { return onRules(rules, "trace", "-header", "User-Agent: "+s, "/agent") },
	"flag":               func(s string) attack { return onRules(rules, "replay", "-only", s, "-since", s) },
	"command":            func(s string) attack { return onRules(rules, s) },
	"word of help":       func(s string) attack { return onRules(rules, "help", s) },
	"layout": func(s string) attack {
		return onRules(siteText+"reply r on /x with 200 text \""+s+"\" # "+s+"\n", "format", "-check")
	},
	"two rulebooks": func(s string) attack {
		a := onRules(rules, "compare", "old.kibitz", "site.kibitz")
		a.files["old.kibitz"] = siteText + "redirect a on /a to \"/" + s + "\" as temporary\n"
		return a
	},
}

func onRules(rules string, args ...string) attack {
	return attack{files: map[string]string{"site.kibitz": rules, "public/index.html": "home"}, args: args}
}

// named is a call on a rulebook whose file is named so, as far as a file can be.
func named(s string, args ...string) attack {
	name := "r" + strings.NewReplacer("/", "_", "\x00", "_").Replace(s)
	if len(name) > 200 {
		name = name[:200]
	}
	a := onList(logLine("a", "-", "-")+logLine("loop", "-", "-"), args[0], append(args[1:], "-rules", name)...)
	a.args = append([]string{args[0]}, append(args[1:], "-rules", name)...)
	a.files[name] = rules
	return a
}

func onList(list string, command string, args ...string) attack {
	a := onRules(rules, append([]string{command, "list"}, args...)...)
	a.files["list"] = list
	return a
}

// tallyOf is a saved tally, with its checksum, in which all texts are hostile.
func tallyOf(s, status, cause, by, as string) attack {
	top := map[string]any{"Counts": map[string]int{s: 1}, "From": map[string]any{s: []any{map[string]any{"Address": s, "N": 1}}}, "Total": 1, "Others": 0}
	body, _ := json.Marshal(map[string]any{
		"Rules": map[string]any{"Hash": s, "Sites": []string{s}}, "Requests": 1, "Expected": 1, "Unmets": 1, "Partial": false,
		"Lists":    []any{map[string]any{"Name": s, "Of": s, "Lines": 2, "Requests": 1, "Details": 0, "Comments": 0, "Skipped": 1, "First": []any{map[string]any{"Line": 1, "Reason": s}}}},
		"Outcomes": []any{map[string]any{"Status": status, "Cause": cause, "By": by, "At": by, "N": 1, "Recorded": []any{map[string]any{"Status": 200, "N": 1, "Differs": top}}}},
		"Loops":    top, "TooLong": top, "Chains": top, "Missing": top, "Plain": top,
		"Unmet": []any{map[string]any{"List": s, "Line": 1, "Target": s, "What": []string{s}}},
		"Types": map[string]any{s: map[string]any{"Requests": 1, "Plain": 1, "Wire": 1, "Unknown": 0}},
	})
	sum := sha256.Sum256(body)
	a := onRules(rules, "replay", "-merge", "tally", "-as", as)
	a.files["tally"] = fmt.Sprintf("{\"kibitz\":\"replay tally 7\",\"sha256\":%q}\n%s\n", hex.EncodeToString(sum[:]), body)
	return a
}

// devices are files that never end, or never begin, or are no files.
func devices() (all []attack) {
	for what, make := range map[string]func(at string) error{
		"a device": func(at string) error { return os.Symlink("/dev/zero", at) },
		"a pipe":   makePipe,
		"a folder": func(at string) error { return os.Mkdir(at, 0o755) },
		"nothing":  func(at string) error { return os.Symlink("nowhere", at) },
		"itself":   func(at string) error { return os.Symlink(filepath.Base(at), at) },
	} {
		for where, text := range map[string]string{
			"include":   siteText + "include x\n",
			"table":     siteText + "moves m table x as permanent\n",
			"accounts":  siteText + "access c in /c/ ask \"C\" accounts x\n",
			"inventory": "site s address https://s.example inventory x\n",
			"files":     "site s address https://s.example files x\n",
		} {
			if where == "files" && what == "a folder" {
				continue
			}
			a := onRules(text, "check")
			a.name, a.exits = fmt.Sprintf("%s is %s", where, what), []int{2}
			a.make = func(dir string) error { return make(filepath.Join(dir, "x")) }
			all = append(all, a)
		}
		if what != "a pipe" { // which may be meant
			a := onRules("", "check", "-rules", "x")
			a.name, a.exits = "the rulebook is "+what, []int{2}
			a.make = func(dir string) error { return make(filepath.Join(dir, "x")) }
			all = append(all, a)
		}
	}
	return all
}
