package rulebook

import (
	"strings"
	"testing"
)

// Whatever stands in a table or in a file of accounts: mistakes have their line, and what is
// read can be asked for.
func FuzzTableAndAccounts(f *testing.F) {
	f.Add("old,new,status\n/a,/b,301\n\"/c\",https://s.example/d,308\n/e,,410\n", "ada:$2b$10$"+strings.Repeat("a", 53)+"\n")
	f.Add("\ufeff/a%20b?x=1;/b#c\n\"\n", ":\nx:$2y$99$\n# \n")
	f.Add("old,new\n/\xff,/\x00\nhttp://[::1]:9/,//x\n", "\xff:\x1b")
	f.Fuzz(func(t *testing.T, table, accounts string) {
		text := "site s address https://s.example files public\nmoves m table t as permanent\naccess a ask C accounts a\n"
		book, err := Read("t.kibitz", []byte(text), func(name string) ([]byte, error) {
			if name == "t" {
				return []byte(table), nil
			}
			return []byte(accounts), nil
		})
		if err != nil {
			for _, e := range err.(Errors) {
				if e.Place.Line < 1 || e.Message == "" {
					t.Errorf("an error without a place: %+v", e)
				}
			}
			return
		}
		for _, rule := range book.Rules {
			if m, ok := rule.Action.(*Moves); ok {
				for _, row := range m.Table.Rows {
					if row.Path == "" || row.Line < 1 || row.New == "" && row.Status/100 == 3 {
						t.Errorf("a row is %+v", row)
					}
				}
			}
		}
	})
}
