package main

// The changes: where they can be made, and how they are written behind their switches.

import (
	"cmp"
	"encoding/json"
	"fmt"
	"go/ast"
	"go/token"
	"go/types"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/tools/go/packages"
)

// places are the packages whose files are changed.
var places = []string{"./core/...", "./internal/live"}

// switchName is the variable of the environment that names the change to make.
const switchName = "KIBITZ_MUTANT"

// reachedName is the variable that names the file to which is written what changes the
// tests come by.
const reachedName = "KIBITZ_MUTANTS_REACHED"

// switches stand in each package that is changed; %d is how many changes there are.
const switches = `
import (
	mutantOS "os"
	mutantNumbers "strconv"
	mutantAtomic "sync/atomic"
)

var mutantOn, _ = mutantNumbers.Atoi(mutantOS.Getenv("` + switchName + `"))
var mutantReached = mutantOS.Getenv("` + reachedName + `")
var mutantSeen [%d + 1]mutantAtomic.Bool

func mutant(id int) bool {
	if mutantReached != "" && !mutantSeen[id].Load() {
		mutantSeen[id].Store(true)
		if f, err := mutantOS.OpenFile(mutantReached, mutantOS.O_APPEND|mutantOS.O_CREATE|mutantOS.O_WRONLY, 0o666); err == nil {
			f.WriteString(mutantNumbers.Itoa(id) + "\n")
			f.Close()
		}
	}
	return id == mutantOn
}

func mutantPick[T any](id int, as, otherwise T) T {
	if mutant(id) {
		return otherwise
	}
	return as
}
`

// A mutant is one small change.
type mutant struct {
	id             int // from 1 on
	file, function string
	rule           string
	line           int
	source         string // the line, as it was
	from, to       int    // bytes that are replaced
	with           func(id int, text string) string
}

// name tells a mutant from others, and stays when lines move.
func (m *mutant) name() string {
	return fmt.Sprintf("%s | %s | %s | %s", m.file, m.function, m.rule, m.source)
}

func (m *mutant) folder() string { return filepath.Dir(m.file) }

// choose picks n of all changes, of which no two are at one place; or those that a file
// names, one a line, wherever they stand in it.
func choose(n int, seed uint64, again string) ([]*mutant, error) {
	named := ""
	if again != "" {
		text, err := os.ReadFile(again)
		if err != nil {
			return nil, err
		}
		named = string(text) + "\n"
	}
	loaded, err := packages.Load(&packages.Config{Mode: packages.NeedName | packages.NeedFiles | packages.NeedSyntax | packages.NeedTypes | packages.NeedTypesInfo | packages.NeedImports | packages.NeedDeps}, places...)
	if err != nil {
		return nil, err
	}
	top, err := os.Getwd()
	if err != nil {
		return nil, err
	}
	var all []*mutant
	for _, p := range loaded {
		if len(p.Errors) > 0 {
			return nil, p.Errors[0]
		}
		if strings.HasSuffix(p.PkgPath, "proof/trial") { // which tests use alone
			continue
		}
		for _, file := range p.Syntax {
			name, err := filepath.Rel(top, p.Fset.Position(file.Pos()).Filename)
			if err != nil {
				return nil, err
			}
			text, err := os.ReadFile(name)
			if err != nil {
				return nil, err
			}
			w := &finder{info: p.TypesInfo, files: p.Fset, name: name, text: string(text), lines: strings.Split(string(text), "\n")}
			w.file(file)
			all = append(all, w.found...)
		}
	}
	if again != "" {
		all = slices.DeleteFunc(all, func(m *mutant) bool { return !strings.Contains(named, m.name()+"\n") })
		n = len(all)
	}
	r := rand.New(rand.NewPCG(seed, seed))
	r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	var chosen []*mutant
	for _, m := range all {
		apart := func(o *mutant) bool { return o.file != m.file || o.to <= m.from || m.to <= o.from }
		if len(chosen) < n && !slices.ContainsFunc(chosen, func(o *mutant) bool { return !apart(o) }) {
			m.id = len(chosen) + 1
			chosen = append(chosen, m)
		}
	}
	return chosen, nil
}

// writeOverlay writes the files with all changes in them, and gives the file that puts
// them in the place of the real ones.
func writeOverlay(work string, mutants []*mutant) (string, error) {
	of := map[string][]*mutant{}
	for _, m := range mutants {
		of[m.file] = append(of[m.file], m)
	}
	replace := map[string]string{}
	put := func(file, text string) error {
		real, err := filepath.Abs(file)
		if err != nil {
			return err
		}
		replace[real] = filepath.Join(work, strings.ReplaceAll(file, "/", "_"))
		return os.WriteFile(replace[real], []byte(text), 0o644)
	}
	for file, list := range of {
		text, err := os.ReadFile(file)
		if err != nil {
			return "", err
		}
		slices.SortFunc(list, func(a, b *mutant) int { return cmp.Compare(b.from, a.from) })
		changed := string(text)
		for _, m := range list {
			changed = changed[:m.from] + m.with(m.id, changed[m.from:m.to]) + changed[m.to:]
		}
		if err := put(file, changed); err != nil {
			return "", err
		}
		name, _, _ := strings.Cut(changed[strings.Index(changed, "\npackage ")+1:], "\n")
		if strings.HasPrefix(changed, "package ") {
			name, _, _ = strings.Cut(changed, "\n")
		}
		if err := put(filepath.Join(filepath.Dir(file), "mutants.go"), name+"\n"+fmt.Sprintf(switches, len(mutants))); err != nil {
			return "", err
		}
	}
	overlay := filepath.Join(work, "overlay.json")
	content, err := json.Marshal(map[string]map[string]string{"Replace": replace})
	if err != nil {
		return "", err
	}
	return overlay, os.WriteFile(overlay, content, 0o644)
}

// turned are the operators that stand for each other.
var turned = map[token.Token]token.Token{
	token.EQL: token.NEQ, token.NEQ: token.EQL, token.LSS: token.GEQ, token.GEQ: token.LSS, token.GTR: token.LEQ, token.LEQ: token.GTR,
	token.LAND: token.LOR, token.LOR: token.LAND, token.ADD: token.SUB, token.SUB: token.ADD,
}

// moved are comparisons with their bound moved by one.
var moved = map[token.Token]token.Token{token.LSS: token.LEQ, token.LEQ: token.LSS, token.GTR: token.GEQ, token.GEQ: token.GTR}

// A finder looks for changes in a file.
type finder struct {
	info     *types.Info
	files    *token.FileSet
	name     string
	text     string
	lines    []string
	function string
	found    []*mutant
}

func (w *finder) file(file *ast.File) {
	for _, decl := range file.Decls {
		if f, ok := decl.(*ast.FuncDecl); ok && f.Body != nil {
			w.function = f.Name.Name
			ast.Inspect(f.Body, w.node)
		}
	}
}

func (w *finder) add(rule string, from, to token.Pos, with func(id int, text string) string) {
	at := w.files.Position(from)
	w.found = append(w.found, &mutant{file: w.name, function: w.function, rule: rule, line: at.Line, source: strings.TrimSpace(w.lines[at.Line-1]), from: at.Offset, to: w.files.Position(to).Offset, with: with})
}

// node adds the changes of one node; false where none are below it.
func (w *finder) node(n ast.Node) bool {
	switch n := n.(type) {
	case *ast.CallExpr: // how much room is made at first changes nothing
		f, ok := n.Fun.(*ast.Ident)
		return !ok || f.Name != "make" && f.Name != "panic"
	case *ast.GenDecl, *ast.CaseClause:
		if c, ok := n.(*ast.CaseClause); ok { // what is a case must be constant, or may be a type
			for _, s := range c.Body {
				ast.Inspect(s, w.node)
			}
			w.statements(c.Body)
		}
		return false
	case *ast.BinaryExpr:
		w.binary(n)
	case *ast.BasicLit:
		w.constant(n)
	case *ast.BlockStmt:
		w.statements(n.List)
	case ast.Expr:
		if w.info.Types[n].Value != nil {
			return false // a part of something constant
		}
	}
	return true
}

// statements adds the changes of whole statements.
func (w *finder) statements(list []ast.Stmt) {
	unless := func(id int, text string) string { return fmt.Sprintf("if !mutant(%d) { %s }", id, text) }
	for _, s := range list {
		switch s := s.(type) {
		case *ast.ExprStmt:
			if c, ok := s.X.(*ast.CallExpr); ok {
				if f, ok := c.Fun.(*ast.Ident); ok && f.Name == "panic" {
					continue
				}
			}
			w.add("statement dropped", s.Pos(), s.End(), unless)
		case *ast.AssignStmt:
			if s.Tok != token.DEFINE {
				w.add("statement dropped", s.Pos(), s.End(), unless)
			}
		case *ast.BranchStmt:
			if s.Label == nil && s.Tok == token.CONTINUE {
				w.add("continue for break", s.Pos(), s.End(), func(id int, text string) string { return fmt.Sprintf("if mutant(%d) { break }; %s", id, text) })
			}
		case *ast.IfStmt:
			if s.Init == nil && s.Else == nil {
				w.add("condition dropped", s.Cond.Pos(), s.Cond.End(), func(id int, text string) string { return fmt.Sprintf("!mutant(%d) && (%s)", id, text) })
			}
		}
	}
}

// binary adds the changes of an operator.
func (w *finder) binary(n *ast.BinaryExpr) {
	of := w.info.Types[n]
	basic, ok := of.Type.(*types.Basic)
	if !ok || of.Value != nil {
		return
	}
	for rule, table := range map[string]map[token.Token]token.Token{"turned to ": turned, "bound moved to ": moved} {
		to, ok := table[n.Op]
		if !ok {
			continue
		}
		at, end := int(n.OpPos-n.Pos()), int(n.OpPos-n.Pos())+len(n.Op.String())
		other := func(text string) string { return text[:at] + to.String() + text[end:] }
		switch {
		case basic.Info()&types.IsBoolean != 0:
			w.add(rule+to.String(), n.Pos(), n.End(), func(id int, text string) string {
				return fmt.Sprintf("(mutant(%d) && (%s) || !mutant(%d) && (%s))", id, other(text), id, text)
			})
		case basic.Info()&types.IsInteger != 0 && basic.Info()&types.IsUntyped == 0 && rule == "turned to ":
			w.add(rule+to.String(), n.Pos(), n.End(), func(id int, text string) string {
				return fmt.Sprintf("mutantPick[%s](%d, %s, %s)", basic.Name(), id, text, other(text))
			})
		}
	}
}

// constant adds the change of a number.
func (w *finder) constant(n *ast.BasicLit) {
	v, err := strconv.Atoi(n.Value)
	basic, ok := w.info.Types[n].Type.(*types.Basic)
	if err != nil || n.Kind != token.INT || !ok || basic.Info()&types.IsInteger == 0 || basic.Info()&types.IsUntyped != 0 {
		return
	}
	if v >= 127 && types.SizesFor("gc", "amd64").Sizeof(basic) == 1 { // the next may not fit
		return
	}
	w.add("constant changed", n.Pos(), n.End(), func(id int, text string) string {
		return fmt.Sprintf("mutantPick[%s](%d, %d, %d)", basic.Name(), id, v, v+1)
	})
}
