package proof

import (
	"fmt"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/pattern"
	"kibitz/core/rulebook"
)

func init() {
	register(25, Kind{
		Name: "looks-unintended", Severity: Warning,
		Summary: "what is written takes or says something else than it seems to: an unescaped dot, a bare keyword, an address left from an example",
		Before:  "redirect fares on ~/fares.php to /fares/ as permanent        # takes /faresXphp, too",
		After:   "redirect fares on ~/fares\\.php to /fares/ as permanent",
		find:    findUnintended,
	})
}

func findUnintended(c *checker) {
	for _, r := range c.Book.Rules {
		c.note(Proved, r, "")
		sp := c.space(c.sitesOf(r)[0])
		for _, p := range r.On {
			c.looseDot(sp, r, p, "on")
		}
		for _, t := range r.Tests {
			for _, v := range t.Values {
				if v.Pattern != nil {
					c.looseDot(sp, r, v.Pattern, "when")
				}
			}
		}
		c.leftExample(sp, r)
		c.bareKeyword(sp, r)
	}
	c.conclusions("no dot stands unescaped between letters, no value is a bare keyword, no address is one from an example")
}

// looseDot looks for a `.` in a regular expression that stands for any character
// where a dot is meant: one that is neither repeated nor in brackets, with text
// on its sides.
func (c *checker) looseDot(sp *space, r *rulebook.Rule, p *pattern.Pattern, word string) {
	text := p.String()
	if !strings.HasPrefix(text, "~") {
		return
	}
	at := looseDotIn(text)
	if at < 0 {
		return
	}
	strict, err := pattern.PathRegexp(text[1:at]+`\.`+text[at+1:], r.Fold)
	if err != nil {
		return
	}
	exact, err := strict.Lang()
	if err != nil {
		return
	}
	req, err := sp.find(question{in: []*rulebook.Rule{r}, path: pattern.Not(exact)})
	if err != nil {
		return
	}
	place, width := clause(r, word)
	c.note(Found, r, "")
	c.add(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: req,
		Message: fmt.Sprintf("The dot in %s stands for any character: the entry takes %s, too.", text, canonical.Decode(req.Address.Path)),
		Advice:  "write   " + text[:at] + `\.` + text[at+1:]})
}

// looseDotIn gives the place of a dot that is meant as one; -1 for none.
func looseDotIn(text string) int {
	letter := func(i int) bool {
		return i >= 0 && i < len(text) && (text[i]|32 >= 'a' && text[i]|32 <= 'z' || text[i] >= '0' && text[i] <= '9' || text[i] == '_')
	}
	brackets := false
	for i := 1; i < len(text); i++ {
		switch c := text[i]; {
		case c == '\\':
			i++
		case c == '[':
			brackets = true
		case c == ']':
			brackets = false
		case c == '.' && !brackets && (letter(i+1) || i+1 < len(text) && text[i+1] == '(') && (letter(i-1) || strings.ContainsRune(")+*]?", rune(text[i-1]))):
			return i
		}
	}
	return -1
}

// leftExample looks for targets at the names that RFC 2606 keeps for examples.
func (c *checker) leftExample(sp *space, r *rulebook.Rule) {
	a, ok := r.Action.(*rulebook.Redirect)
	if !ok || a.To.IsPath() {
		return
	}
	host, _ := rulebook.Constant(a.To.Host)
	for _, name := range []string{"example.com", "example.net", "example.org", "example.edu"} {
		if host != name && !strings.HasSuffix(host, "."+name) {
			continue
		}
		req, err := sp.find(question{in: []*rulebook.Rule{r}})
		if err != nil {
			return
		}
		place, width := clause(r, "to")
		c.note(Found, r, "")
		c.add(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: req,
			Message: fmt.Sprintf("%s is a name for examples (RFC 2606): nobody's site is there.", host), Advice: "write the host that is meant"})
	}
}

// keywords are the words of the fields' values; as the value of a header, a
// cookie or a parameter they are more often a slip than meant.
var keywords = map[string]bool{"exists": true, "missing": true, "folder": true, "over": true, "below": true, "after": true, "before": true}

func (c *checker) bareKeyword(sp *space, r *rulebook.Rule) {
	for _, t := range r.Tests {
		if _, texts := t.Field.Row().Vary.(rulebook.VaryTexts); !texts || t.Field.Row().Always {
			continue
		}
		for _, v := range t.Values {
			if v.Kind != rulebook.ValueText || !keywords[v.Text] || strings.HasPrefix(v.Word, `"`) {
				continue
			}
			req, err := sp.find(question{in: []*rulebook.Rule{r}})
			if err != nil {
				return
			}
			c.note(Found, r, "")
			c.add(Finding{Rules: []*rulebook.Rule{r}, Place: t.Place, Width: t.Width, Request: req,
				Message: fmt.Sprintf("%s is compared with the text %q, which looks like a word of the language.", t.Field, v.Text),
				Advice:  fmt.Sprintf("if the text is meant, put it in quotes:   %q", v.Text)})
			break
		}
	}
}
