package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"
)

// An editor talks with `kibitz lsp` as an editor does.
type editor struct {
	t       *testing.T
	dir     string
	in      io.WriteCloser
	replies chan message
	told    chan message // diagnostics and whatever else comes unasked
	id      int
	text    map[string]string // of the open files
	version int
	program *exec.Cmd
}

// A message is one of the protocol, either way.
type message struct {
	ID     json.RawMessage `json:"id"`
	Method string          `json:"method"`
	Params json.RawMessage `json:"params"`
	Result json.RawMessage `json:"result"`
	Error  *struct {
		Code    int
		Message string
	} `json:"error"`
}

// edit starts the program on files, as an editor that can be asked to refresh.
func edit(t *testing.T, files map[string]string) *editor {
	t.Helper()
	e := &editor{t: t, dir: write(t, files), replies: make(chan message, 64), told: make(chan message, 4096), text: map[string]string{}}
	e.program = exec.Command(program, "lsp")
	e.program.Dir = t.TempDir() // editors start it anywhere
	e.in, _ = e.program.StdinPipe()
	out, _ := e.program.StdoutPipe()
	if err := e.program.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { e.program.Process.Kill() })
	go func() {
		defer close(e.replies)
		in := bufio.NewReader(out)
		for {
			head, err := in.ReadString('\n')
			if err != nil {
				return
			}
			n, _ := strconv.Atoi(strings.TrimSpace(strings.TrimPrefix(head, "Content-Length:")))
			in.ReadString('\n')
			body := make([]byte, n)
			if _, err := io.ReadFull(in, body); err != nil {
				return
			}
			var m message
			if err := json.Unmarshal(body, &m); err != nil {
				t.Errorf("it is not a message: %s", body)
			}
			switch {
			case m.Method == "":
				e.replies <- m
			case len(m.ID) > 0: // a question: editors say yes
				e.send(map[string]any{"id": m.ID, "result": nil})
				e.told <- m
			default:
				e.told <- m
			}
		}
	}()
	e.ask("initialize", map[string]any{"processId": nil, "rootUri": e.uri(""), "capabilities": map[string]any{"workspace": map[string]any{"codeLens": map[string]any{"refreshSupport": true}, "inlayHint": map[string]any{"refreshSupport": true}}}})
	e.tell("initialized", map[string]any{})
	return e
}

func (e *editor) uri(name string) string {
	return "file://" + filepath.ToSlash(filepath.Join(e.dir, name))
}

func (e *editor) send(m map[string]any) {
	m["jsonrpc"] = "2.0"
	body, _ := json.Marshal(m)
	fmt.Fprintf(e.in, "Content-Length: %d\r\n\r\n%s", len(body), body)
}

func (e *editor) tell(method string, params any) {
	e.send(map[string]any{"method": method, "params": params})
}

// request asks, and gives the answer whatever it is.
func (e *editor) request(method string, params any) message {
	e.t.Helper()
	e.id++
	e.send(map[string]any{"id": e.id, "method": method, "params": params})
	select {
	case m, ok := <-e.replies:
		if !ok {
			e.t.Fatalf("%s: it has ended", method)
		}
		return m
	case <-time.After(time.Minute):
		e.t.Fatalf("%s: no answer", method)
	}
	return message{}
}

// ask asks what must be answered, and gives that as JSON.
func (e *editor) ask(method string, params any) string {
	e.t.Helper()
	m := e.request(method, params)
	if m.Error != nil {
		e.t.Errorf("%s: %s", method, m.Error.Message)
	}
	return string(m.Result)
}

func (e *editor) open(name string) {
	text, err := os.ReadFile(filepath.Join(e.dir, name))
	if err != nil {
		e.t.Fatal(err)
	}
	e.text[name] = string(text)
	e.version++
	e.tell("textDocument/didOpen", map[string]any{"textDocument": map[string]any{"uri": e.uri(name), "languageId": "kibitz", "version": e.version, "text": string(text)}})
}

// place gives the position right behind a text, in UTF-16 units.
func (e *editor) place(name, behind string) map[string]any {
	e.t.Helper()
	before, _, ok := strings.Cut(e.text[name], behind)
	if !ok {
		e.t.Fatalf("there is no %q in %s", behind, name)
	}
	before += behind
	line := before[strings.LastIndexByte(before, '\n')+1:]
	units := 0
	for _, r := range line {
		if units++; r > 0xFFFF {
			units++
		}
	}
	return map[string]any{"line": strings.Count(before, "\n"), "character": units}
}

// change puts a text in the place of another one, as typing does.
func (e *editor) change(name, old, text string) {
	e.t.Helper()
	to := e.place(name, old)
	before, _, _ := strings.Cut(e.text[name], old)
	e.text[name] = before + "\x00" + e.text[name][len(before):]
	from := e.place(name, before+"\x00")
	from["character"] = from["character"].(int) - 1
	e.text[name] = strings.Replace(e.text[name], "\x00"+old, text, 1)
	e.version++
	e.tell("textDocument/didChange", map[string]any{"textDocument": map[string]any{"uri": e.uri(name), "version": e.version},
		"contentChanges": []any{map[string]any{"range": map[string]any{"start": from, "end": to}, "text": text}}})
}

// at asks about the place right behind a text.
func (e *editor) at(method, name, behind string, more map[string]any) string {
	e.t.Helper()
	params := map[string]any{"textDocument": map[string]any{"uri": e.uri(name)}, "position": e.place(name, behind)}
	for k, v := range more {
		params[k] = v
	}
	return e.ask("textDocument/"+method, params)
}

// until waits for diagnostics of a file that hold a text, and gives them.
func (e *editor) until(name, text string) string {
	e.t.Helper()
	last := ""
	for end := time.After(20 * time.Second); ; {
		select {
		case m := <-e.told:
			if m.Method == "textDocument/publishDiagnostics" && strings.Contains(string(m.Params), e.uri(name)+`"`) {
				if last = string(m.Params); strings.Contains(last, text) {
					return last
				}
			}
		case <-end:
			e.t.Fatalf("nothing said of %s: %s; the last was %s", name, text, last)
		}
	}
}

// known waits until the rulebook has been looked into and its lists are counted.
func (e *editor) known() {
	e.t.Helper()
	asked := 0
	for end := time.After(20 * time.Second); asked < 2; {
		select {
		case m := <-e.told:
			if m.Method == "workspace/inlayHint/refresh" {
				asked++
			}
		case <-end:
			e.t.Fatal("it never asked to refresh")
		}
	}
}

// edited is a site whose rulebook has an include, a list, captures and examples.
var edited = map[string]string{
	"site.kibitz": `list office 192.0.2.0/24
site s
    address https://s.example
    files   public

# Alte Adressen: 🚢 fährt
redirect alt  on /fähre/:boat/:year(\d{4})  to /boats/{boat}.html?🚢={year}  as permanent
    example /f%C3%A4hre/avocet/2024 => 301
    example /fähre/tern/2024 => 404
redirect german  on /  when language de  to /de/  as permanent
access staff  in /crew/  unless client {office}  refuse
include "more.kibitz"
`,
	"more.kibitz":              "header safe  set X-Content-Type-Options nosniff\nerror gone  for 404  show /errors/gone.html\n",
	"requests.txt":             "/ => 200\n/crew/plan.html\n/f%C3%A4hre/tern/2025\n",
	"public/index.html":        "home",
	"public/de/index.html":     "de",
	"public/boats/avocet.html": "avocet",
	"public/crew/plan.html":    "plan",
	"public/errors/gone.html":  "gone",
}

// TestEditorIsTold tells mistakes while somebody types, and findings a moment later, each in
// the file and at the UTF-16 place where it is.
func TestEditorIsTold(t *testing.T) {
	e := edit(t, edited)
	e.open("site.kibitz")
	said := e.until("site.kibitz", `"permanent-varies"`)
	for _, want := range []string{`"code":"example-fails"`, `"severity":1`, `"severity":2`, `"source":"kibitz"`, `Fix: write as temporary`} {
		if !strings.Contains(said, want) {
			t.Errorf("there is no %s in %s", want, said)
		}
	}
	e.change("site.kibitz", "{boat}", "{boot}")
	if said := e.until("site.kibitz", `"syntax"`); !strings.Contains(said, `"range":{"start":{"line":6,"character":47}`) && !strings.Contains(said, `"line":6`) {
		t.Errorf("the mistake is at another place: %s", said)
	}
	e.change("site.kibitz", "{boot}", "{boat}")
	e.until("site.kibitz", `"permanent-varies"`)
	e.open("more.kibitz")
	e.change("more.kibitz", "nosniff", "nosnif")
	e.until("more.kibitz", `"header-invalid"`)
	e.change("more.kibitz", "for 404", "for 999")
	e.until("more.kibitz", `"syntax"`)
}

// TestEditorAsks shows what is told, offered and found at a place.
func TestEditorAsks(t *testing.T) {
	e := edit(t, edited)
	e.open("site.kibitz")
	e.known()
	tests := []struct {
		name, method, behind string
		more                 map[string]any
		want                 []string
		not                  string
	}{
		{"an entry", "hover", "redirect al", nil, []string{"**redirect** `alt`", "is answered 301 to `/boats/", "does not hold", "decides 1 of 3 requests of `requests.txt`", "proved to have no"}, ""},
		{"a keyword", "hover", "  unle", nil, []string{"when and unless", "it has none of them"}, ""},
		{"a field", "hover", "when langua", nil, []string{"**language**: the first language that Accept-Language asks for"}, ""},
		{"a pattern", "hover", "on /fäh", nil, []string{"Takes", "- `/fähre/avocet/0000`", "Does not take", "/more`"}, ""},
		{"a capture", "hover", "/boats/{bo", nil, []string{"**boat**: what `/fähre/:boat/:year(\\\\d{4})` takes"}, ""},
		{"a list", "hover", "client {off", nil, []string{"the list **office**: `192.0.2.0/24`"}, ""},
		{"a status", "hover", "/de/  as perm", nil, []string{"**301** moved for good"}, ""},
		{"nothing in a comment", "hover", "# Alte Ad", nil, []string{"null"}, ""},
		{"what begins an entry", "completion", "refuse\n", nil, []string{`"label":"redirect"`, `"label":"access"`}, `"label":"on"`},
		{"fields", "completion", "/  when ", nil, []string{`"label":"language"`, `"label":"cookie."`, `"label":"query"`}, `"label":"redirect"`},
		{"lists", "completion", "client ", nil, []string{`"label":"{office}"`, `"label":"refuse"`}, `"label":"unless"x`},
		{"captures", "completion", "/boats/{", nil, []string{`"label":"boat"`, `"label":"year"`, `"label":"host"`}, `"label":"redirect"`},
		{"paths of the tree", "completion", "to /de", nil, []string{`"label":"/de/"`}, "/crew/"},
		{"statuses", "completion", "/de/  as ", nil, []string{`"label":"permanent"`, `"label":"308"`, "remembers it"}, ""},
		{"clauses", "completion", "to /de/ ", nil, []string{`"label":"query"`, `"label":"unless"`}, `"label":"to"`},
		{"where a list is", "definition", "client {off", nil, []string{`"line":0,"character":5`}, ""},
		{"where a capture is", "definition", "/boats/{bo", nil, []string{`"line":6,"character":25`}, ""},
		{"a file of the rulebook", "definition", `include "more`, nil, []string{`more.kibitz"`}, ""},
		{"a file of the tree", "definition", "to /de", nil, []string{`public/de/index.html"`}, ""},
		{"uses of a list", "references", "list off", map[string]any{"context": map[string]any{"includeDeclaration": true}}, []string{`"line":0,`, `"line":10,`}, ""},
		{"a new name", "rename", "/boats/{bo", map[string]any{"newName": "ship"}, []string{`"newText":"ship"`, `"line":6,"character":25`, `"line":6,"character":55`}, ""},
		{"a new name of a file", "rename", `include "mo`, map[string]any{"newName": "headers.kibitz"}, []string{`"kind":"rename"`, `more.kibitz","newUri":`, `"newText":"headers.kibitz"`, `"line":11,`}, ""},
		{"uses of a file", "references", `include "mo`, nil, []string{`"line":11,`}, ""},
		{"symbols", "documentSymbol", "list", nil, []string{`"name":"s"`, `"name":"alt","detail":"redirect"`}, ""},
		{"folds", "foldingRange", "list", nil, []string{`{"startLine":6,"endLine":8}`}, ""},
		{"examples", "codeLens", "list", nil, []string{`"title":"holds"`, `"title":"does not hold: `}, ""},
		{"requests beside entries", "inlayHint", "list", map[string]any{"range": map[string]any{"start": map[string]any{"line": 0, "character": 0}, "end": map[string]any{"line": 99, "character": 0}}}, []string{`"label":"1 request"`, `"label":"no request"`}, ""},
		{"the text laid out", "formatting", "list", nil, []string{`"newText":"list office  192.0.2.0/24\nsite s`}, ""},
		{"fixes that hold", "codeAction", "list", map[string]any{"range": map[string]any{"start": map[string]any{"line": 9, "character": 0}, "end": map[string]any{"line": 9, "character": 5}}},
			[]string{`"title":"permanent-varies: german: as temporary"`, `to /de/  as temporary`, `"title":"accept permanent-varies at german"`}, ""},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			got := e.at(test.method, "site.kibitz", test.behind, test.more)
			for _, want := range test.want {
				if !strings.Contains(got, want) {
					t.Errorf("there is no %s in %s", want, got)
				}
			}
			if test.not != "" && strings.Contains(got, test.not) {
				t.Errorf("there is %s in %s", test.not, got)
			}
		})
	}
}

// TestEditorColours gives the types of the words: one row of five numbers each.
func TestEditorColours(t *testing.T) {
	e := edit(t, map[string]string{"site.kibitz": "# 🚢\nsite s address https://s.example\nredirect a on /:x to /b/{x} as 301 # y\n"})
	e.open("site.kibitz")
	got := e.at("semanticTokens/full", "site.kibitz", "site", nil)
	want := []string{
		"0,0,4,8", // the comment, whose ship is two units wide
		"1,0,4,0", "0,5,1,1", "0,2,7,2", "0,8,17,4",
		"1,0,8,0", "0,9,1,1", "0,2,2,2", "0,3,3,4", "0,4,2,2", "0,3,4,4", "0,4,1,7", "0,1,1,4", "0,2,2,2", "0,3,3,6", "0,4,3,8",
	}
	if got != `{"data":[`+strings.Join(want, ",0,")+`,0]}` {
		t.Errorf("got  %s\nwant %s", got, strings.Join(want, ",0,"))
	}
}

// TestEditorErrs answers what cannot be done, and goes on.
func TestEditorErrs(t *testing.T) {
	e := edit(t, edited)
	e.open("site.kibitz")
	e.known()
	doc := map[string]any{"uri": e.uri("site.kibitz")}
	tests := []struct {
		method string
		params map[string]any
		want   string
	}{
		{"textDocument/hover", map[string]any{"textDocument": map[string]any{"uri": e.uri("none.kibitz")}}, "is not open"},
		{"textDocument/rename", map[string]any{"textDocument": doc, "position": e.place("site.kibitz", "list off"), "newName": "a b"}, "is not a name"},
		{"textDocument/rename", map[string]any{"textDocument": doc, "position": e.place("site.kibitz", "redirect al"), "newName": "german"}, "cannot be called german"},
		{"textDocument/rename", map[string]any{"textDocument": doc, "position": e.place("site.kibitz", `include "mo`), "newName": "requests.txt"}, "is there already"},
		{"textDocument/rename", map[string]any{"textDocument": doc, "position": e.place("site.kibitz", `include "mo`), "newName": "../x.kibitz"}, "in its own folder"},
		{"textDocument/prepareRename", map[string]any{"textDocument": doc, "position": e.place("site.kibitz", "redi")}, "has no name"},
		{"textDocument/nothing", map[string]any{}, "is not known here"},
		{"textDocument/hover", map[string]any{"textDocument": doc, "position": "x"}, "json"},
	}
	for _, test := range tests {
		if m := e.request(test.method, test.params); m.Error == nil || !strings.Contains(m.Error.Message, test.want) {
			t.Errorf("%s: got %s %+v", test.method, m.Result, m.Error)
		}
	}
	for _, at := range []map[string]any{{"line": 999, "character": 999}, {"line": 6, "character": 9999}, {"line": -1, "character": -1}} { // nothing falls over
		for _, method := range []string{"hover", "completion", "definition", "references"} {
			e.request("textDocument/"+method, map[string]any{"textDocument": doc, "position": at})
		}
	}
	// A request that is taken back is answered as such, or was quicker.
	e.id++
	e.send(map[string]any{"id": e.id, "method": "textDocument/codeAction", "params": map[string]any{"textDocument": doc, "range": map[string]any{"start": map[string]any{"line": 0, "character": 0}, "end": map[string]any{"line": 99, "character": 0}}}})
	e.tell("$/cancelRequest", map[string]any{"id": e.id})
	if m := <-e.replies; m.Error != nil && m.Error.Code != -32800 {
		t.Errorf("the cancelled request: %+v", m.Error)
	}
	if e.ask("shutdown", nil) != "null" {
		t.Error("shutdown says something")
	}
	e.tell("exit", nil)
	if err := e.program.Wait(); err != nil {
		t.Errorf("after shutdown and exit: %v", err)
	}
}
