package cli

// Help on a word that is not a topic: what the documents have on it.

import (
	"regexp"
	"strings"

	"kibitz/core/rulebook"
	"kibitz/docs"
	"kibitz/internal/render"
)

// A passage is a part of a document, below one heading.
type passage struct {
	title, heading, text string
}

// searched are the documents in the order in which a word is looked for in them.
var searched = []string{docs.Words, docs.Language, docs.Lists, docs.Pages, docs.Engine, docs.Live, docs.Draft, docs.Exit, docs.Findings}

// passages are those of all documents that help shows.
func passages() (all []passage) {
	for _, doc := range searched {
		title, heading := "", ""
		var lines []string
		end := func() {
			if len(lines) > 0 && heading != "" {
				all = append(all, passage{title, heading, strings.Join(lines, "\n")})
			}
			lines = nil
		}
		code := false
		for line := range strings.SplitSeq(doc, "\n") {
			if strings.HasPrefix(line, "```") {
				code = !code
			}
			switch {
			case !code && strings.HasPrefix(line, "# "):
				title, heading = strings.TrimPrefix(line, "# "), "at the beginning"
			case !code && strings.HasPrefix(line, "##"):
				end()
				heading = strings.TrimLeft(line, "# ")
				lines = append(lines, line)
			default:
				lines = append(lines, line)
			}
		}
		end()
	}
	return all
}

// mostFound is how many passages are named for a word.
const mostFound = 12

// searchHelp shows what the documents have on a word: the part whose heading names it, or
// the places where it stands. It reports whether there is anything.
func (r *run) searchHelp(word string) bool {
	all := passages()
	for _, p := range all {
		for _, name := range strings.FieldsFunc(p.heading, func(c rune) bool { return strings.ContainsRune(" ,:`…", c) }) {
			if strings.EqualFold(name, word) && len(word) > 1 && (strings.EqualFold(p.heading, word) || strings.HasPrefix(strings.ToLower(p.heading), strings.ToLower(word)+" ") || strings.HasSuffix(strings.ToLower(p.heading), " "+strings.ToLower(word))) {
				r.markdown(p.text)
				return true
			}
		}
	}
	told := false
	for _, doc := range searched {
		cells := docs.Row(doc, word)
		if cells == nil {
			continue
		}
		title, _, _ := strings.Cut(doc, "\n")
		r.out.Wrapped("", strings.ReplaceAll(strings.Trim(cells[0], "`")+": "+strings.Join(cells[1:], "; "), `\|`, "|"))
		r.out.Printf("    %s\n", r.out.Quiet(strings.TrimPrefix(title, "# ")))
		told = true
	}
	whole, err := regexp.Compile(`(?i)(^|[^\pL\pN])` + regexp.QuoteMeta(strings.TrimSuffix(word, "s")) + `s?($|[^\pL\pN])`)
	if err != nil || len(word) < 2 {
		return told
	}
	found := 0
	for _, p := range all {
		for line := range strings.SplitSeq(p.text, "\n") {
			if strings.HasPrefix(line, "#") || !whole.MatchString(line) {
				continue
			}
			if found++; found == 1 {
				if told {
					r.out.Printf("\nIt is mentioned here:\n")
				} else {
					r.out.Printf("There is no page on %s; it is mentioned here:\n", render.Clean(word))
				}
			}
			if found > mostFound {
				r.out.Printf("\n… and in more places: docs/\n")
				return true
			}
			r.out.Printf("\n%s: %s\n", r.out.Quiet(p.title), p.heading)
			line = strings.NewReplacer("**", "", "| ", "  ", " |", "", "|", " ").Replace(line)
			if at := whole.FindStringIndex(line); at != nil && len(line) > 200 {
				from := strings.LastIndexAny(line[:max(0, at[0]-60)]+" ", " .")
				line = "… " + strings.TrimSpace(line[max(0, from):])
			}
			r.out.Wrapped("    ", render.Short(line, 220))
			break
		}
	}
	return told || found > 0
}

// nearHelp gives the topic of help that a word most likely means; "" for none.
func nearHelp(word string) string {
	best, least := "", 1+len(word)/3
	for _, topic := range helpWords() {
		if d := rulebook.Distance(strings.ToLower(word), topic); d <= least && (best == "" || d < least) {
			best, least = topic, d
		}
	}
	return best
}
