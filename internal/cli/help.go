package cli

import (
	"flag"
	"fmt"
	"slices"
	"strings"

	"kibitz/core/proof"
	"kibitz/core/rulebook"
	"kibitz/docs"
)

const overview = `Kibitz predicts what a web site's redirects, rewrites, fallbacks, error pages
and access rules do, before a visitor meets them.

    kibitz demo                  see it at work on an example site
    kibitz start DIR             a first rulebook for your own folder of files
    kibitz record LIST -at URL   what does the server answer today?
    kibitz draft ANSWERS         and which rulebook would answer so?
    kibitz moves LIST            where have the old addresses gone?
    kibitz links                 what do the site's own pages still link to?
    kibitz check                 what is wrong with the rulebook site.kibitz?
    kibitz trace /fares/         what happens to one request, and why?
    kibitz replay LIST           what happens to all of these?
    kibitz excerpt LIST          which few of them stand for all?
    kibitz compare OLD NEW       what does the change do, also to those who come back?
    kibitz serve                 see it in a browser
    kibitz verify LIST -at URL   does the server do what the rulebook says?

The commands

`

const topics = `
Exit status: 0 all is well; 1 errors, expectations that are not met, differences
or a loop are found; 2 kibitz could not run, or not to the end.

More:  kibitz help COMMAND
       kibitz help language    the rulebook language, whole
       kibitz help KIND        one kind of entry: redirect, access, folder, …
       kibitz help fields      what a rule can test
       kibitz help statuses    what redirects and errors mean to a browser
       kibitz help lists       request lists, and what they can expect
       kibitz help pages       what is read of a site's own pages
       kibitz help findings    what check looks for
       kibitz help words       what the words mean that are used here
       kibitz help exit        the exit status of each command
       kibitz help -search WORD   where the documents speak of it
       kibitz help -man        all of this as a manual page
`

// help explains a command or a topic.
func (r *run) help(args []string) error {
	switch {
	case len(args) == 1 && args[0] == "-man":
		return r.man(r.stdout)
	case len(args) == 2 && args[0] == "-search":
		if !r.searchHelp(args[1]) {
			return usagef("the documents say nothing of %q", args[1])
		}
		return nil
	case len(args) > 1:
		return usagef("help takes one word, like: kibitz help redirect")
	}
	if len(args) == 0 {
		r.out.Printf("%s", overview)
		var rows [][]string
		for _, c := range commands {
			rows = append(rows, []string{c.name, c.summary})
		}
		r.out.Rows("    ", rows)
		r.out.Printf("%s", topics)
		return nil
	}
	topic := args[0]
	for _, c := range commands {
		if c.name == topic {
			r.commandHelp(&c)
			if slices.Contains(rulebook.Kinds(), rulebook.Kind(topic)) { // an entry has the same name
				r.out.Printf("\n")
				r.markdown(docs.Section(docs.Language, "### "+topic))
			}
			return nil
		}
	}
	for _, k := range rulebook.Kinds() {
		if string(k) == topic {
			r.markdown(docs.Section(docs.Language, "### "+topic))
			return nil
		}
	}
	if text := helpPages()[topic]; text != "" {
		r.markdown(text)
		return nil
	}
	switch topic {
	case "findings":
		r.findingsHelp()
		return nil
	case "help":
		return r.help(nil)
	}
	for _, k := range append(proof.Kinds(), proof.Syntax) {
		if k.Name == topic {
			r.findingHelp(k)
			return nil
		}
	}
	if r.searchHelp(topic) {
		return nil
	}
	if near := nearHelp(topic); near != "" {
		return usagef("there is no help on %q: did you mean kibitz help %s?", topic, near)
	}
	return usagef("there is no help on %q; see: kibitz help", topic)
}

// helpPages are the documents that help shows, and parts of them, by the word for them.
func helpPages() map[string]string {
	values := docs.Section(docs.Language, "## Values in text")
	return map[string]string{
		"language": docs.Language, "lists": docs.Lists, "pages": docs.Pages, "words": docs.Words, "exit": docs.Exit, "live": docs.Live, "engine": docs.Engine,
		"fields":   docs.Section(docs.Language, "## Fields") + "\n" + docs.Section(docs.Language, "## Values of a test"),
		"statuses": docs.Section(docs.Language, "## Statuses"), "causes": docs.Section(docs.Engine, "## Causes"), "visits": docs.Section(docs.Engine, "## Visits"),
		"captures": values, "filters": values, "values": values,
		"expectations": docs.Section(docs.Lists, "## What is expected"), "forms": docs.Section(docs.Lists, "## What comes out"),
		"stored-redirect-loop": docs.Section(docs.Live, "### Visitors who come back"),
	}
}

func (r *run) commandHelp(c *command) {
	r.out.Printf("kibitz %s [flags] %s\n\n%s\n\nFlags\n\n", c.name, c.args, c.about)
	var rows [][2]string
	width := 0
	r.eachFlag(c, func(f *flag.Flag, value, usage string) {
		name := "-" + f.Name
		if value != "" {
			name += " " + strings.ToUpper(value)
		}
		rows = append(rows, [2]string{name, usage})
		width = max(width, len(name))
	})
	for _, row := range rows {
		r.out.Wrapped(fmt.Sprintf("    %-*s   ", width, row[0]), row[1])
	}
	r.out.Printf("\nFlags may stand before or behind the arguments.\n")
}

// eachFlag gives the flags of a command, with the name of their value ("" for none) and what
// they do.
func (r *run) eachFlag(c *command, yield func(f *flag.Flag, value, usage string)) {
	flags := flag.NewFlagSet(c.name, flag.ContinueOnError)
	r.common.flags(c, flags)
	c.setup(flags)
	flags.VisitAll(func(f *flag.Flag) {
		value, usage := flag.UnquoteUsage(f)
		if f.DefValue != "" && f.DefValue != "false" && !strings.Contains(usage, "default") && !strings.Contains(usage, f.DefValue) {
			usage += " (default " + f.DefValue + ")"
		}
		yield(f, value, usage)
	})
}

func (r *run) findingsHelp() {
	r.out.Printf("What check looks for. More of each: kibitz help NAME\n\n")
	var rows [][]string
	for _, k := range proof.Kinds() {
		rows = append(rows, []string{r.out.Severity(string(k.Severity), string(k.Severity)), k.Name, k.Summary})
	}
	rows = append(rows, []string{r.out.Severity("error", "error"), proof.Syntax.Name, "(-as json, sarif) " + proof.Syntax.Summary})
	rows = append(rows, []string{r.out.Severity("error", "error"), "stored-redirect-loop", "(compare) visitors who stored an old permanent redirect are caught in an endless loop by the new rulebook"})
	r.out.Rows("  ", rows)
}

func (r *run) findingHelp(k proof.Kind) {
	r.out.Printf("%s   %s\n\n", k.Name, r.out.Severity(string(k.Severity), string(k.Severity)))
	r.out.Wrapped("  ", strings.ToUpper(k.Summary[:1])+k.Summary[1:]+".")
	for _, part := range []struct{ title, text string }{{"Before", k.Before}, {"After", k.After}} {
		r.out.Printf("\n%s\n\n", part.title)
		for _, line := range strings.Split(part.text, "\n") {
			r.out.Printf("    %s\n", line)
		}
	}
	if k.Name != proof.Syntax.Name {
		r.out.Printf("\nWhere it is meant, say so in the entry:  accept %s \"why\"\n", k.Name)
	}
}
