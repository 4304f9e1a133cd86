package proof

import (
	"fmt"
	"regexp"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/pattern"
	"kibitz/core/rulebook"
)

func init() {
	register(25, Kind{
		Name: "looks-unintended", Severity: Warning,
		Summary: "what is written takes or says something else than it seems to: an unescaped dot, a bare keyword, an address left from an example, a habit from elsewhere",
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
		c.carriedOver(sp, r)
	}
	c.conclusions("no dot stands unescaped between letters, no value is a bare keyword, no address is one from an example, nothing is written as it is elsewhere")
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
		Advice:  "write   " + text[:at] + `\.` + text[at+1:],
		Fixes:   replaceIn(r, word, text, text[:at]+`\.`+text[at+1:])})
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

// numbered is a group of an expression as many other languages write it.
var numbered = regexp.MustCompile(`[$\\]\d`)

// spreadOut is a list of words in braces, as shells write it; in a pattern braces hold what
// may be left out.
var spreadOut = regexp.MustCompile(`\{[^{}]*,[^{}]*\}`)

// outsideGroups gives the text of a pattern without what has a meaning of its own in
// expressions: escaped characters, and what stands within parentheses and brackets. Of an
// expression as a whole the parentheses are left in.
func outsideGroups(text string) string {
	expression := strings.HasPrefix(text, "~")
	var out strings.Builder
	depth, class := 0, false
	for i := 0; i < len(text); i++ {
		c := text[i]
		within := depth > 0 || expression
		switch {
		case c == '\\':
			i++
		case class:
			class = c != ']'
		case c == '[' && within:
			if class = true; i+1 < len(text) && text[i+1] == '^' {
				i++
			}
			if i+1 < len(text) && text[i+1] == ']' { // the first is a character of the class
				i++
			}
		case c == '(' && !expression:
			depth++
		case c == ')' && depth > 0:
			depth--
		case depth == 0:
			out.WriteByte(c)
		}
	}
	return out.String()
}

// carriedOver looks for what is written as it is in other languages, and means something
// else here.
func (c *checker) carriedOver(sp *space, r *rulebook.Rule) {
	tell := func(place rulebook.Place, width int, message, advice string) {
		req, err := sp.find(question{in: []*rulebook.Rule{r}})
		if err != nil {
			return
		}
		c.add(Finding{Rules: []*rulebook.Rule{r}, Place: place, Width: width, Request: req, Message: message, Advice: advice})
	}
	for _, t := range r.Action.Templates() {
		for p := range t.Pieces {
			if group := numbered.FindString(p.Text); !p.Value && group != "" {
				place, width := clause(r, "to", "set", "add", "default", "text")
				tell(place, width, fmt.Sprintf("%s stands here as it is: what a pattern has taken is written differently.", group), "write   {"+group[1:]+"}   or the name of the capture")
				return
			}
		}
	}
	for _, p := range r.On {
		text := outsideGroups(p.String())
		place, width := clause(r, "on")
		switch {
		case strings.HasPrefix(text, "~"):
			if strings.HasPrefix(text, "~^") || strings.HasSuffix(text, "$") && !strings.HasSuffix(text, `\$`) {
				continue // they say what is so anyway
			}
		case strings.ContainsAny(text, "^$"):
			tell(place, width, fmt.Sprintf("%s is not an expression: its ^ or $ is a character of the path.", p), "a pattern takes the whole path anyway: leave them out, or write an expression with ~ before it")
			return
		case spreadOut.MatchString(text):
			tell(place, width, fmt.Sprintf("In %s the comma is a character of the path: braces hold what may be left out.", p), "write the words as an expression, like   /:name.:type(jpg|png)")
			return
		}
		if strings.Contains(text, "#") {
			tell(place, width, fmt.Sprintf("%s has a #: browsers never send what follows it.", p), "leave out what begins with #")
			return
		}
	}
	for _, t := range r.Tests {
		for _, v := range t.Values {
			word := strings.TrimSuffix(v.Word, ",")
			switch {
			case strings.HasPrefix(v.Word, `"`) || v.Kind != rulebook.ValueText && v.Kind != rulebook.ValueGlob:
				continue
			case word == "=" || word == "==" || word == "!=" || word == "=~" || word == "is":
				tell(t.Place, t.Width, fmt.Sprintf("%s is compared with the text %q, too.", t.Field, word), "write the field and its values, without a sign between:   when "+t.Field.String()+" VALUE")
				return
			case word == "or" || word == "and" || word == "||" || word == "&&":
				tell(t.Place, t.Width, fmt.Sprintf("%s is compared with the text %q, too.", t.Field, word), "several values are separated by spaces, and one of them is enough; for `and` write one more when")
				return
			case word != v.Word || strings.HasSuffix(v.Word, ";"):
				tell(t.Place, t.Width, fmt.Sprintf("The comma or semicolon belongs to the value %q: %s must have it, too.", v.Text, t.Field), "part values by blanks alone")
				return
			}
		}
	}
	if a, ok := r.Action.(*rulebook.Moves); ok {
		for i := range a.Table.Rows {
			if row := &a.Table.Rows[i]; strings.HasSuffix(row.Path, "*") {
				place, width := clause(r, "table")
				tell(place, width, fmt.Sprintf("%s:%d: %s is one address, with a star at its end: tables have no patterns.", a.Table.Name, row.Line, row.Path), "write an entry of its own:   redirect … on "+row.Path+" to …")
				return
			}
		}
	}
}
