package trial

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"kibitz/core/engine"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// Whatever a rulebook says, its entries read one by one, its outcomes without the header,
// its text laid out anew, and its text in two files give the answers that it gives; and
// the listing of a folder gives those of the folder, but for what only the content tells.
func TestEveryWayOfAnsweringGivesTheSame(t *testing.T) {
	books, requests := 400, 60
	if testing.Short() {
		books = 100
	}
	dir := t.TempDir()
	for name, content := range AnythingFiles {
		at := filepath.Join(dir, name)
		os.MkdirAll(filepath.Dir(at), 0o755)
		if strings.HasSuffix(name, "/") {
			os.MkdirAll(at, 0o755)
		} else if err := os.WriteFile(at, []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	folder, err := site.Folder(dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	var listing bytes.Buffer
	if err := site.WriteInventory(&listing, folder, func(*site.Node) (string, error) { return "", nil }); err != nil {
		t.Fatal(err)
	}
	inventory, err := site.Inventory(listing.Bytes())
	if err != nil {
		t.Fatal(err)
	}
	used := map[string]int{}
	causes := map[engine.Cause]int{}
	for seed := range uint64(books) {
		r := rand.New(rand.NewPCG(seed, 4))
		text := Anything(r, 14)
		read := func(text, rest string, tree *site.Tree) *engine.Engine {
			book, err := rulebook.Read("a.kibitz", []byte(text), func(name string) ([]byte, error) {
				if name == "rest.kibitz" {
					return []byte(rest), nil
				}
				return AnythingLoad(name)
			})
			if err != nil {
				t.Fatalf("%v in\n%s", err, text)
			}
			return engine.New(book, []*site.Tree{tree, nil})
		}
		e := read(text, "", folder)
		count(used, e.Book)
		laid, err := rulebook.Format("a.kibitz", []byte(text))
		if err != nil {
			t.Fatalf("%v in\n%s", err, text)
		}
		lines := strings.SplitAfter(text, "\n")
		cut := 1 + r.IntN(len(lines)-1)
		parted := strings.Join(lines[:cut], "") + "include rest.kibitz\n"
		used["include"]++
		others := map[string]*engine.Engine{"laid out": read(string(laid), "", folder), "in two files": read(parted, strings.Join(lines[cut:], ""), folder)}
		listed := read(text, "", inventory)
		for range requests {
			req := AnyRequest(r)
			resp := e.Predict(req)
			causes[resp.Cause]++
			if _, err := e.Confirm(req, resp); err != nil {
				t.Fatalf("%v\nfor %+v in\n%s", err, req, text)
			}
			light := &engine.Response{}
			e.Outcome(req, light)
			if got, want := told(light, false), told(resp, false); got != want {
				t.Fatalf("%s %s: %s, and without the header %s, for %+v in\n%s", req.Verb(), req.Address, want, got, req, text)
			}
			for way, other := range others {
				if got, want := told(other.Predict(req), true), told(resp, true); got != want {
					t.Fatalf("%s %s: %s, and %s %s, for %+v in\n%s", req.Verb(), req.Address, want, way, got, req, text)
				}
			}
			if resp.Cause == engine.CauseRange || resp.Encoding != "" || resp.Status == 416 { // as the content has it
				continue
			}
			if got, want := brief(listed.Predict(req)), brief(resp); got != want {
				t.Fatalf("%s %s: %s, and by the listing %s, for %+v in\n%s", req.Verb(), req.Address, want, got, req, text)
			}
		}
	}
	if testing.Short() { // too few to have everything
		return
	}
	for _, want := range everything() {
		if used[want] == 0 {
			t.Errorf("no rulebook has %s", want)
		}
	}
	for _, cause := range []engine.Cause{engine.CauseUnknownHost, engine.CauseTooLarge, engine.CauseRefused, engine.CauseAsked, engine.CauseRedirect, engine.CauseReply, engine.CauseHandoff, engine.CauseRewriteLoop, engine.CauseBadTarget, engine.CauseOptions,
		engine.CauseMethod, engine.CauseSlash, engine.CauseFile, engine.CauseDocument, engine.CauseListing, engine.CauseFallback, engine.CauseNoDocument, engine.CauseMissing, engine.CauseUnchanged, engine.CauseRange, engine.CauseUnknownTree} {
		if causes[cause] == 0 {
			t.Errorf("no answer has the cause %s", cause)
		}
	}
}

// told is an answer in words, with its header or without.
func told(r *engine.Response, header bool) string {
	s := fmt.Sprint(brief(r), " ", r.Size, r.Encoded, r.Encoding)
	if header {
		s += fmt.Sprint(r.Headers, r.Hints)
	}
	return s
}

func brief(r *engine.Response) string {
	s := fmt.Sprint(engine.StatusText(r), " ", r.Cause, " ", r.Location, " ", r.Type)
	if r.By != nil {
		s += " by " + r.By.Name
	}
	if r.File != nil {
		s += " file " + r.File.Path
	}
	return s
}

// everything are all kinds, clauses, fields, forms of values, modes of queries and filters
// of the language.
func everything() []string {
	var out []string
	for _, k := range rulebook.Kinds() {
		if k == rulebook.KindList || k == rulebook.KindInclude {
			continue // seen to by their use
		}
		for _, clause := range rulebook.Clauses(k) {
			if k != rulebook.KindSite || clause != "inventory" { // tried by itself
				out = append(out, string(k)+" "+clause)
			}
		}
	}
	out = append(out, "include")
	for _, clause := range []string{"on", "in", "when", "unless", "ignoring", "example", "accept"} {
		out = append(out, "any "+clause)
	}
	for _, f := range rulebook.FieldWords() {
		out = append(out, "field "+strings.TrimSuffix(f, ".NAME"))
	}
	for kind := rulebook.ValueText; kind <= rulebook.ValueAbsent; kind++ {
		out = append(out, fmt.Sprint("value ", kind))
	}
	for mode := rulebook.QueryKeep; mode <= rulebook.QueryDrop; mode++ {
		out = append(out, fmt.Sprint("query ", mode))
	}
	for _, f := range rulebook.Filters {
		out = append(out, "filter "+f)
	}
	return out
}

// count notes what a rulebook has.
func count(used map[string]int, book *rulebook.Book) {
	for _, s := range book.Sites {
		used["site address"]++
		if len(s.Hosts) > 1 {
			used["site hosts"]++
		}
		if s.HasTree() {
			used["site files"]++
		}
		if s.KeepSlashes {
			used["site slashes"]++
		}
		if len(s.Accepts) > 0 {
			used["site accept"]++
		}
		if s.UnknownHosts {
			used["site unknown-hosts"]++
		}
	}
	for _, r := range book.Rules {
		for _, c := range r.Entry.Clauses {
			used[string(r.Kind)+" "+c.Keyword.Text]++
			used["any "+c.Keyword.Text]++
			for _, w := range c.Values {
				for _, f := range rulebook.Filters {
					if strings.Contains(w.Text, "|"+f) {
						used["filter "+f]++
					}
				}
			}
		}
		for _, t := range r.Tests {
			name := t.Field.String()
			if slices.Contains(rulebook.FieldWords(), name) {
				used["field "+name]++
			} else {
				used["field "+strings.SplitN(name, ".", 2)[0]]++
			}
			for _, v := range t.Values {
				used[fmt.Sprint("value ", v.Kind)]++
			}
		}
		switch a := r.Action.(type) {
		case *rulebook.Redirect:
			used[fmt.Sprint("query ", a.Query.Mode)]++
		case *rulebook.Rewrite:
			used[fmt.Sprint("query ", a.Query.Mode)]++
		}
	}
}

// Whatever a rulebook's text says: it has mistakes, or it answers, and its entries read
// one by one give the same.
func FuzzPredict(f *testing.F) {
	tree := site.Memory(AnythingFiles)
	for seed := range uint64(6) {
		f.Add(Anything(rand.New(rand.NewPCG(seed, 2)), 4), seed)
	}
	f.Fuzz(func(t *testing.T, text string, seed uint64) {
		if len(text) > 1<<12 {
			return
		}
		book, err := rulebook.Read("a.kibitz", []byte(text), AnythingLoad)
		if err != nil {
			return
		}
		trees := make([]*site.Tree, len(book.Sites))
		trees[0] = tree
		e := engine.New(book, trees)
		r := rand.New(rand.NewPCG(seed, 3))
		for range 3 {
			req := AnyRequest(r)
			for i := range min(len(book.Sites), 2) {
				if i > 0 {
					req.Address.Host, req.Address.Scheme, req.Address.Port = book.Sites[r.IntN(len(book.Sites))].Address.Host, "https", 443
				}
				if _, err := e.Confirm(req, e.Predict(req)); err != nil {
					t.Fatal(err)
				}
			}
		}
	})
}
