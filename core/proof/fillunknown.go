package proof

import (
	"fmt"
	"regexp"
	"strings"

	"kibitz/core/rulebook"
)

func init() {
	register(16, Kind{
		Name: "fill-unknown", Severity: Note,
		Summary: "a page that is filled has a name in braces which nothing gives",
		Before:  "error not-found for 404 show /errors/strange.html fill on     # it has {adress}",
		After:   "error not-found for 404 show /errors/not-found.html fill on",
		find:    findUnknownFills,
	})
}

// inBraces is what looks like a value in a page; a piece of a style or of a script has
// blanks, colons or more in its braces.
var inBraces = regexp.MustCompile(`\{([A-Za-z_][A-Za-z0-9_.|-]*)\}`)

// notText are the parts of a page in which braces are something else.
var notText = regexp.MustCompile(`(?is)<(script|style)\b.*?</(script|style)\s*>`)

func findUnknownFills(c *checker) {
	for _, r := range c.Book.Rules {
		a, ok := r.Action.(*rulebook.ErrorPage)
		if !ok || !a.Fill {
			continue
		}
		c.note(Proved, r, "")
		for _, s := range c.sitesOf(r) {
			n := c.Tree(s).Find(a.Body.Show)
			if n == nil || n.Folder {
				continue
			}
			page, err := n.Read()
			if err != nil {
				continue
			}
			text := notText.ReplaceAllStringFunc(string(page), func(s string) string { return strings.Repeat("\n", strings.Count(s, "\n")) })
			var unknown []string
			for i, line := range strings.Split(text, "\n") {
				for _, m := range inBraces.FindAllStringSubmatch(line, -1) {
					if _, known := rulebook.PagePiece(m[1]); !known {
						unknown = append(unknown, fmt.Sprintf("{%s} (line %d)", m[1], i+1))
					}
				}
			}
			if len(unknown) == 0 {
				continue
			}
			place, width := clause(r, "fill")
			req := c.homeRequest(s)
			req.Address.Path = a.Body.Show
			c.add(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: req,
				Message: fmt.Sprintf("%s has %s: nothing gives that, and visitors read it as it stands.", a.Body.Show, strings.Join(unknown[:min(len(unknown), 5)], ", ")),
				Advice:  "name a value of the request, one of {" + strings.Join(rulebook.FieldWords(), "}, {") + "}"})
			break
		}
	}
	c.conclusions("for the tree as it is: each page was read")
}
