// Command mutants holds the tests to account. It makes small changes of meaning, by rule,
// at seeded places of the core and of the live part, one after the other, and sees that a
// test turns red each time: tests that stay green hold nothing to account.
//
// Run it in the project's own folder. What survives and changes nothing that anybody could
// notice is named in equivalent.txt beside this file, each with its reason.
package main

import (
	"bytes"
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

func main() {
	n := flag.Int("n", 300, "how many changes to make")
	seed := flag.Uint64("seed", 1, "of the random numbers")
	from := flag.Int("from", 0, "the first of them, counted from 0")
	only := flag.String("only", "", "a part of the names of the files to change")
	flag.Parse()
	if err := run(*n, *from, *seed, *only); err != nil {
		fmt.Fprintln(os.Stderr, "mutants:", err)
		os.Exit(1)
	}
}

// places are the folders whose files are changed.
var places = []string{"core", "internal/live"}

// A mutant is one small change.
type mutant struct {
	file, function, rule string
	line                 int
	source               string // the line, as it was
	from, to             int    // bytes that are replaced
	with                 string
}

// name tells a mutant from others, and stays when lines move.
func (m *mutant) name() string {
	return fmt.Sprintf("%s | %s | %s | %s", m.file, m.function, m.rule, m.source)
}

//go:embed equivalent.txt
var equivalent string

func run(n, from int, seed uint64, only string) error {
	var all []mutant
	for _, place := range places {
		err := filepath.WalkDir(place, func(name string, d os.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") || !strings.Contains(name, only) || strings.Contains(name, "proof/trial") {
				return err
			}
			found, err := mutantsOf(name)
			all = append(all, found...)
			return err
		})
		if err != nil {
			return err
		}
	}
	r := rand.New(rand.NewPCG(seed, seed))
	r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	excused := map[string]bool{}
	for _, line := range strings.Split(equivalent, "\n") {
		if name, reason, ok := strings.Cut(line, " => "); ok && strings.TrimSpace(reason) != "" {
			excused[strings.TrimSpace(name)] = true
		}
	}
	users, err := usersOf()
	if err != nil {
		return err
	}
	chosen := all[:min(n, len(all))]
	noticed, same, broken := 0, 0, 0
	var survivors []string
	for i := from; i < len(chosen); i++ {
		m := &chosen[i]
		state, err := try(m, users)
		if err != nil {
			return err
		}
		if state == "survives" && excused[m.name()] {
			state = "equivalent"
		}
		switch state {
		case "noticed":
			noticed++
		case "equivalent":
			same++
		case "does not build":
			broken++
		default:
			survivors = append(survivors, fmt.Sprintf("%s:%d  %s", m.file, m.line, m.name()))
		}
		fmt.Printf("%3d  %-14s  %s:%d  %s: %s\n", i, state, m.file, m.line, m.rule, m.source)
	}
	fmt.Printf("\nseed %d: of %d changes %d do not build and %d are equivalent; of the other %d tests notice %d: %.1f%%\n",
		seed, len(chosen)-from, broken, same, noticed+len(survivors), noticed, 100*float64(noticed)/float64(max(1, noticed+len(survivors))))
	for _, s := range survivors {
		fmt.Println("  survives:", s)
	}
	return nil
}

// usersOf gives, for each folder of a package, the packages whose tests could notice a
// change in it: its own first, then those that use it, the program's last.
func usersOf() (map[string][]string, error) {
	out, err := exec.Command("go", "list", "-test", "-json=Dir,ImportPath,ForTest,Deps", "./...").Output()
	if err != nil {
		return nil, err
	}
	top, err := os.Getwd()
	if err != nil {
		return nil, err
	}
	users := map[string][]string{}
	folder := map[string]string{} // of an import path
	type listed struct {
		Dir, ImportPath, ForTest string
		Deps                     []string
	}
	var tests []listed
	for d := json.NewDecoder(bytes.NewReader(out)); ; {
		var p listed
		if err := d.Decode(&p); err != nil {
			break
		}
		dir, err := filepath.Rel(top, p.Dir)
		if err != nil {
			return nil, err
		}
		p.Dir = dir
		if p.ForTest == "" && !strings.HasSuffix(p.ImportPath, ".test") {
			folder[p.ImportPath] = dir
		} else if strings.HasSuffix(p.ImportPath, ".test") {
			tests = append(tests, p)
		}
	}
	for _, p := range tests {
		own := "./" + folder[strings.TrimSuffix(p.ImportPath, ".test")]
		for _, dep := range p.Deps {
			dep, _, _ = strings.Cut(dep, " ") // a package compiled for a test
			if dir, ok := folder[dep]; ok && !slices.Contains(users[dir], own) {
				users[dir] = append(users[dir], own)
			}
		}
	}
	for dir, list := range users {
		rank := func(p string) int {
			switch {
			case p == "./"+dir:
				return 0
			case strings.HasPrefix(p, "./core"):
				return 1
			case strings.HasPrefix(p, "./cmd"):
				return 3
			}
			return 2
		}
		if !slices.Contains(list, "./cmd/kibitz") {
			list = append(list, "./cmd/kibitz") // whose tests build the program
		}
		slices.SortStableFunc(list, func(a, b string) int { return rank(a) - rank(b) })
		users[dir] = list
	}
	return users, nil
}

// patience is how long the tests of one package may take: a change can make them hang.
const patience = 4 * time.Minute

// try makes a change, and runs the tests that could notice it.
func try(m *mutant, users map[string][]string) (string, error) {
	work, err := os.MkdirTemp("", "mutant-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(work)
	text, err := os.ReadFile(m.file)
	if err != nil {
		return "", err
	}
	changed := filepath.Join(work, "changed.go")
	if err := os.WriteFile(changed, []byte(string(text[:m.from])+m.with+string(text[m.to:])), 0o644); err != nil {
		return "", err
	}
	original, err := filepath.Abs(m.file)
	if err != nil {
		return "", err
	}
	overlay := filepath.Join(work, "overlay.json")
	content, err := json.Marshal(map[string]map[string]string{"Replace": {original: changed}})
	if err != nil {
		return "", err
	}
	if err := os.WriteFile(overlay, content, 0o644); err != nil {
		return "", err
	}
	if err := exec.Command("go", "build", "-overlay", overlay, "./"+filepath.Dir(m.file)).Run(); err != nil {
		return "does not build", nil
	}
	for _, pkg := range users[filepath.Dir(m.file)] {
		ctx, stop := context.WithTimeout(context.Background(), patience)
		test := exec.CommandContext(ctx, "go", "test", "-overlay", overlay, "-short", "-failfast", "-vet=off", "-timeout", "120s", pkg)
		test.Env = append(os.Environ(), "GOFLAGS=-overlay="+overlay) // for tests that build the program
		out, err := test.CombinedOutput()
		stop()
		if errors.Is(err, exec.ErrNotFound) {
			return "", err
		}
		if err != nil {
			if bytes.Contains(out, []byte("[build failed]")) {
				return "does not build", nil
			}
			return "noticed", nil
		}
	}
	return "survives", nil
}

// turned are the operators that stand for each other.
var turned = map[token.Token]token.Token{
	token.EQL: token.NEQ, token.NEQ: token.EQL, token.LSS: token.GEQ, token.GEQ: token.LSS, token.GTR: token.LEQ, token.LEQ: token.GTR,
	token.LAND: token.LOR, token.LOR: token.LAND, token.ADD: token.SUB, token.SUB: token.ADD,
}

// moved are comparisons with their bound moved by one.
var moved = map[token.Token]token.Token{token.LSS: token.LEQ, token.LEQ: token.LSS, token.GTR: token.GEQ, token.GEQ: token.GTR}

// mutantsOf gives all changes of a file.
func mutantsOf(name string) ([]mutant, error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	files := token.NewFileSet()
	file, err := parser.ParseFile(files, name, text, 0)
	if err != nil {
		return nil, err
	}
	var out []mutant
	for _, decl := range file.Decls {
		f, ok := decl.(*ast.FuncDecl)
		if !ok || f.Body == nil {
			continue
		}
		add := func(rule string, from, to token.Pos, with string) {
			at := files.Position(from)
			lines := strings.Split(string(text), "\n")
			out = append(out, mutant{file: name, function: f.Name.Name, rule: rule, line: at.Line, source: strings.TrimSpace(lines[at.Line-1]), from: at.Offset, to: files.Position(to).Offset, with: with})
		}
		ast.Inspect(f.Body, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.CallExpr: // how much room is made at first changes nothing
				if f, ok := n.Fun.(*ast.Ident); ok && (f.Name == "make" || f.Name == "panic") {
					return false
				}
			case *ast.BinaryExpr:
				end := n.OpPos + token.Pos(len(n.Op.String()))
				if to, ok := turned[n.Op]; ok && !isText(n) {
					add("turned to "+to.String(), n.OpPos, end, to.String())
				}
				if to, ok := moved[n.Op]; ok {
					add("bound moved to "+to.String(), n.OpPos, end, to.String())
				}
			case *ast.BasicLit:
				if v, err := strconv.Atoi(n.Value); err == nil && n.Kind == token.INT {
					add("constant changed", n.Pos(), n.End(), strconv.Itoa(v+1))
				}
			case *ast.BranchStmt:
				if n.Label == nil && n.Tok == token.CONTINUE {
					add("continue for break", n.Pos(), n.End(), "break")
				}
			case *ast.BlockStmt:
				for _, s := range n.List {
					switch s := s.(type) {
					case *ast.ExprStmt:
						add("statement dropped", s.Pos(), s.End(), "")
					case *ast.AssignStmt:
						if s.Tok != token.DEFINE {
							add("statement dropped", s.Pos(), s.End(), "")
						}
					case *ast.IfStmt:
						if s.Init == nil && s.Else == nil {
							add("condition dropped", s.Cond.Pos(), s.Cond.End(), "false && ("+string(text[files.Position(s.Cond.Pos()).Offset:files.Position(s.Cond.End()).Offset])+")")
						}
					}
				}
			}
			return true
		})
	}
	return out, nil
}

// isText reports whether a sum joins texts, as far as that can be seen.
func isText(n *ast.BinaryExpr) bool {
	for _, x := range []ast.Expr{n.X, n.Y} {
		if lit, ok := x.(*ast.BasicLit); ok && lit.Kind == token.STRING && n.Op == token.ADD {
			return true
		}
		if b, ok := x.(*ast.BinaryExpr); ok && n.Op == token.ADD && isText(b) {
			return true
		}
	}
	return false
}
