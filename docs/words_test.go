package docs

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"kibitz/core/replay"
)

// What is printed uses one word for one thing: those that docs/words.md gives up for another
// are in no text of the program.
func TestWordsThatAreNotUsed(t *testing.T) {
	text, err := os.ReadFile("words.md")
	if err != nil {
		t.Fatal(err)
	}
	_, table, _ := strings.Cut(string(text), "| not | but |\n| --- | --- |\n")
	table, _, _ = strings.Cut(table, "\n\n")
	but := map[string]string{}
	var words []string
	for _, row := range strings.Split(table, "\n") {
		cells := strings.Split(strings.Trim(row, "| "), " | ")
		for _, word := range strings.Split(cells[0], ", ") {
			but[word] = cells[1]
			words = append(words, regexp.QuoteMeta(word))
		}
	}
	if len(words) < 10 {
		t.Fatalf("%d words", len(words))
	}
	not := regexp.MustCompile(`(?i)\b(` + strings.Join(words, "|") + `)\b`)
	there := regexp.MustCompile(`(?i)\b(there|here|that) is no\b`) // is another word
	for _, folder := range []string{"../internal", "../core", "../demo"} {
		err := filepath.WalkDir(folder, func(name string, d fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") || strings.Contains(name, "/trial/") {
				return err
			}
			files := token.NewFileSet()
			file, err := parser.ParseFile(files, name, nil, 0)
			if err != nil {
				return err
			}
			ast.Inspect(file, func(n ast.Node) bool {
				if l, ok := n.(*ast.BasicLit); ok && l.Kind == token.STRING {
					says, _ := strconv.Unquote(l.Value)
					if strings.Count(says, " ") < 2 {
						return true // a name, or a form
					}
					for _, word := range not.FindAllString(there.ReplaceAllString(says, ""), -1) {
						t.Errorf("%s: %q is not said, but %q, in\n\t%s", files.Position(l.Pos()), word, but[strings.ToLower(word)], says)
					}
				}
				return true
			})
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
}

// The words of robots stand in the document as they are looked for.
func TestRobotWordsAreThoseOfTheDocument(t *testing.T) {
	text, err := os.ReadFile("lists.md")
	if err != nil {
		t.Fatal(err)
	}
	if want := "one of these words: `" + strings.Join(replay.RobotWords, "`, `") + "`."; !strings.Contains(string(text), want) {
		t.Errorf("lists.md lacks %q", want)
	}
}
