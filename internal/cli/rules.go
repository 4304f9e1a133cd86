package cli

import (
	"errors"
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"

	"kibitz/core/rulebook"
	"kibitz/internal/render"
)

func init() {
	register(command{
		order:   11,
		rules:   theRules,
		name:    "rules",
		args:    "[RULEBOOK]",
		summary: "the rulebook as a table: what each entry takes, and what it does",
		about: `Shows the entries in the order in which they are read: what each takes, what it
does, and where it stands. With -for URL only those whose selectors take that
request as it is asked; kibitz trace shows which of them decides.

With -as json the whole rulebook is given as data, what it includes too: every entry with
its clauses, values, places, and the parts of its targets and texts. Whoever deploys to a
server writes the last step from that, in any language (docs/rules.schema.json says what
stands where). -from FILE writes such data back as a rulebook.`,
		setup: func(flags *flag.FlagSet) func(*run, []string) (int, error) {
			var f requestFlags
			as := flags.String("as", "text", "the `form` of the result: text, json, html")
			from := flags.String("from", "", "a `file` that -as json has written: print the rulebook that it is")
			url := flags.String("for", "", "only entries that could take a request for this `URL`")
			flags.StringVar(&f.method, "method", "GET", "the `method` of that request")
			flags.Var(&f.headers, "header", "a header field of it, `\"Name: value\"`")
			flags.StringVar(&f.client, "client", "", "the `address` that it comes from")
			return func(r *run, args []string) (int, error) {
				if len(args) > 1 || len(args) == 1 && r.rules != "" {
					return 0, usagef("rules takes one rulebook")
				}
				if len(args) == 1 {
					r.rules = args[0]
				}
				switch {
				case !slices.Contains([]string{"text", "json", "html"}, *as):
					return 0, usagef("-as is text, json or html, not %s", *as)
				case *as == "json" && *url != "":
					return 0, usagef("-as json gives the whole rulebook, and does not go with -for")
				case *from != "" && (len(args) > 0 || r.rules != "" || *url != "" || *as != "text"):
					return 0, usagef("-from stands alone: it reads data, and prints a rulebook")
				case *from != "":
					return exitWell, r.rulesFrom(*from)
				case *as == "json":
					book, err := r.loadBook()
					if err != nil {
						return 0, err
					}
					return exitWell, r.writeJSON(book.Data())
				}
				e, err := r.load()
				if err != nil {
					return 0, err
				}
				list := e.Book.Rules
				if *url != "" {
					req, err := f.request(*url, e.Book.BaseAddress())
					if err != nil {
						return 0, err
					}
					if list, err = e.Taking(req); err != nil {
						return 0, err
					}
				}
				if *as == "html" {
					return exitWell, r.rulesHTML(list, *url)
				}
				r.rulesText(list)
				return exitWell, nil
			}
		},
	})
}

// rulesFrom prints the rulebook that some data are.
func (r *run) rulesFrom(name string) error {
	in, err := r.open(name)
	if err != nil {
		return err
	}
	defer in.Close()
	text, err := rulebook.FromData(io.LimitReader(in, rulebook.MaxFile))
	if errs, ok := errors.AsType[rulebook.Errors](err); ok {
		return bookErrors{errs}
	}
	if err != nil {
		return fmt.Errorf("%s: %w", listName(name), err)
	}
	_, err = r.stdout.Write(text)
	return err
}

func (r *run) rulesText(list []*rulebook.Rule) {
	out := r.out
	if len(list) == 0 {
		out.Printf("No entry takes this request: the tree alone answers it.\n")
		return
	}
	first := true
	bySite(list, func(s *rulebook.Site, rules []*rulebook.Rule) {
		if !first {
			out.Printf("\n")
		}
		first = false
		out.Printf("%s\n\n", siteTitle(s))
		var rows [][]string
		for _, rule := range rules {
			rows = append(rows, []string{fmt.Sprint(rule.Number + 1), string(rule.Kind), rule.Name, takes(rule), does(rule), out.Quiet(place(rule))})
		}
		out.Rows("  ", rows, 0)
	})
}

// bySite calls each for the entries of every site, and then of each.
func bySite(list []*rulebook.Rule, each func(s *rulebook.Site, rules []*rulebook.Rule)) {
	for len(list) > 0 {
		n := slices.IndexFunc(list, func(rule *rulebook.Rule) bool { return rule.Site != list[0].Site })
		if n < 0 {
			n = len(list)
		}
		each(list[0].Site, list[:n])
		list = list[n:]
	}
}

// siteTitle names a site, or nil for every one.
func siteTitle(s *rulebook.Site) string {
	if s == nil {
		return "every site"
	}
	return fmt.Sprintf("%s   %s", s.Name, s.Address.Origin())
}

// rulesHTML is the page of the entries, in the order in which they are read.
func (r *run) rulesHTML(list []*rulebook.Rule, asked string) error {
	p := webPage{Title: fmt.Sprintf("%s in %s", render.Count(len(list), "entry"), render.Clean(r.rulesName())), Says: "in the order in which they are read: of each site's own, the first that takes a request and answers decides"}
	if asked != "" {
		p.Says = "those that could take " + render.Clean(asked) + ", in the order in which they are read"
	}
	bySite(list, func(s *rulebook.Site, rules []*rulebook.Rule) {
		section := pageSection{Title: render.Clean(siteTitle(s)), Note: render.Count(len(rules), "entry"), Head: heads("#number", "kind", "name", "takes", "does", "at", "note above it")}
		for _, rule := range rules {
			section.Rows = append(section.Rows, []cell{number(rule.Number + 1), {Text: string(rule.Kind)}, code(rule.Name), code(takes(rule)), code(does(rule)), code(place(rule)), {Text: render.Clean(rule.Note())}})
		}
		p.Sections = append(p.Sections, section)
	})
	return r.writePage(p)
}

// clausesAs are the entry's clauses, as they are written, where pick says so.
func clausesAs(rule *rulebook.Rule, pick func(word string) bool) string {
	var out []string
	for _, c := range rule.Entry.Clauses {
		if !pick(c.Keyword.Text) {
			continue
		}
		out = append(out, c.Keyword.Text)
		for _, v := range c.Values {
			out = append(out, v.Quote())
		}
	}
	return strings.Join(out, " ")
}

func isSelector(word string) bool {
	switch word {
	case "on", "in", "when", "unless", "ignoring":
		return true
	}
	return false
}

// takes says what an entry takes.
func takes(rule *rulebook.Rule) string {
	s := clausesAs(rule, isSelector)
	switch {
	case rule.Kind == rulebook.KindMoves:
		return strings.TrimSpace("the table's addresses " + s)
	case s == "":
		return "every request"
	}
	return s
}

// does says what an entry does.
func does(rule *rulebook.Rule) string {
	s := clausesAs(rule, func(w string) bool { return !isSelector(w) && w != "example" && w != "accept" })
	if m, ok := rule.Action.(*rulebook.Moves); ok && m.Table != nil {
		s += fmt.Sprintf(" (%s)", render.Count(len(m.Table.Rows), "row"))
	}
	if s == "" {
		s = "an application answers"
	}
	return s
}
