package cli

// The manual page, of what help knows, in the mdoc language of mandoc(7).

import (
	"flag"
	"fmt"
	"io"
	"strings"
	"time"
)

// man writes the manual page.
func (r *run) man(w io.Writer) error {
	p := &manPage{}
	day := time.Now()
	if at, err := time.Parse(time.RFC3339, builtOf().Time); err == nil {
		day = at
	}
	p.macro(".Dd %s", day.UTC().Format("January 2, 2006"))
	p.macro(".Dt KIBITZ 1")
	p.macro(".Os")
	p.macro(".Sh NAME")
	p.macro(".Nm kibitz")
	p.macro(".Nd predict what a web site's redirects, rewrites and access rules do")
	p.macro(".Sh SYNOPSIS")
	p.macro(".Nm")
	p.macro(".Ar command")
	p.macro(".Op Ar flags")
	p.macro(".Op Ar arguments")
	p.macro(".Nm")
	p.macro(".Cm help")
	p.macro(".Op Ar word")
	p.macro(".Sh DESCRIPTION")
	p.text(strings.TrimSuffix(strings.TrimSpace(overview), "The commands"))
	p.macro(".Sh COMMANDS")
	p.text("Flags may stand before or behind the arguments.")
	for i := range commands {
		r.manCommand(p, &commands[i])
	}
	p.macro(".Sh ENVIRONMENT")
	p.list([][2]string{
		{".Ev KIBITZ_RULES", "The rulebook where none is named; without it " + defaultRules + "."},
		{".Ev NO_COLOR", "Turns colours off."},
		{".Ev COLUMNS", "How wide the text is where it goes to no terminal."},
	})
	p.macro(".Sh FILES")
	p.list([][2]string{{".Pa " + defaultRules, "The rulebook of a folder."}})
	p.macro(".Sh EXIT STATUS")
	p.list([][2]string{
		{".Er 0", "All is well."},
		{".Er 1", "Errors, expectations that are not met, differences or a loop are found."},
		{".Er 2", "It could not run, or not to the end."},
	})
	p.text("More of it: kibitz help exit")
	_, err := io.WriteString(w, p.String())
	return err
}

func (r *run) manCommand(p *manPage, c *command) {
	p.macro(".Ss %s", c.name)
	p.macro(".Nm kibitz")
	p.macro(".Cm %s", c.name)
	p.macro(".Op Ar flags")
	if c.args != "" {
		p.macro(".Ar %s", manWord(c.args))
	}
	p.macro(".Pp")
	p.text(c.about)
	var rows [][2]string
	r.eachFlag(c, func(f *flag.Flag, value, usage string) {
		head := ".Fl " + f.Name
		if value != "" {
			head += " Ar " + manWord(value)
		}
		rows = append(rows, [2]string{head, usage})
	})
	p.list(rows)
}

// A manPage is a manual page as it is written.
type manPage struct{ strings.Builder }

func (p *manPage) macro(format string, args ...any) { fmt.Fprintf(p, format+"\n", args...) }

// list writes items, each a macro and a text.
func (p *manPage) list(rows [][2]string) {
	if len(rows) == 0 {
		return
	}
	p.macro(".Bl -tag -width Ds")
	for _, row := range rows {
		p.macro(".It %s", strings.TrimPrefix(row[0], "."))
		p.text(row[1])
	}
	p.macro(".El")
}

// manWidth is how long lines of text are, at most.
const manWidth = 78

// text writes paragraphs, a sentence a line; what is indented is shown as it stands.
func (p *manPage) text(text string) {
	shown := true // nothing stands above that a paragraph must be parted from
	for part := range strings.SplitSeq(strings.Trim(text, "\n"), "\n\n") {
		if strings.HasPrefix(part, "    ") {
			p.macro(".Bd -literal -offset indent")
			for line := range strings.SplitSeq(part, "\n") {
				p.macro("%s", manLine(strings.TrimPrefix(line, "    ")))
			}
			p.macro(".Ed")
			shown = true
			continue
		}
		for i, para := range strings.Split(strings.ReplaceAll(part, "\nExit status", "\x00Exit status"), "\x00") {
			if !shown || i > 0 {
				p.macro(".Pp")
			}
			shown = false
			line := ""
			for _, word := range strings.Fields(para) {
				if line != "" && len(line)+1+len(word) > manWidth {
					p.macro("%s", manLine(line))
					line = ""
				}
				line = strings.TrimSpace(line + " " + word)
				if strings.HasSuffix(strings.TrimRight(word, `)"`), ".") {
					p.macro("%s", manLine(line))
					line = ""
				}
			}
			if line != "" {
				p.macro("%s", manLine(line))
			}
		}
	}
}

// manLine writes a line of text so that nothing in it is an order.
func manLine(line string) string {
	line = strings.ReplaceAll(strings.ReplaceAll(line, "`", ""), `\`, `\e`)
	if strings.HasPrefix(line, ".") || strings.HasPrefix(line, "'") {
		line = `\&` + line
	}
	return line
}

// manWord writes the argument of a macro, of which no word is one.
func manWord(word string) string {
	return `"` + strings.ReplaceAll(manLine(word), `"`, `\(dq`) + `"`
}
