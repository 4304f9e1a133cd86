package cli

// Completion in a shell. The scripts only ask the program itself what may come next, so
// that they know what it knows.

import (
	"flag"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"kibitz/core/proof"
	"kibitz/core/replay"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
)

func init() {
	register(command{
		order:   15,
		name:    "completion",
		args:    "SHELL",
		summary: "a script that lets bash, zsh or fish complete commands, flags and their values",
		about: `Prints the script for a shell. Put it where the shell reads it at its start:

    bash    kibitz completion bash > ~/.local/share/bash-completion/completions/kibitz
    zsh     kibitz completion zsh > "${fpath[1]}/_kibitz"
    fish    kibitz completion fish > ~/.config/fish/completions/kibitz.fish

It completes commands, flags, the values of flags, the topics of help, and the names of
the entries of the rulebook at hand; where none of these can stand, files.`,
		setup: func(flags *flag.FlagSet) func(*run, []string) (int, error) {
			next := flags.Bool("next", false, "print what may stand in the place of the last of these words: the scripts ask for it")
			return func(r *run, args []string) (int, error) {
				if *next {
					for _, word := range r.complete(args) {
						fmt.Fprintln(r.stdout, word)
					}
					return exitWell, nil
				}
				if len(args) != 1 || completions[args[0]] == "" {
					return 0, usagef("name a shell: bash, zsh or fish")
				}
				_, err := io.WriteString(r.stdout, completions[args[0]])
				return exitWell, err
			}
		},
	})
}

var completions = map[string]string{
	"bash": `# Completion of kibitz for bash.
_kibitz() {
    local IFS=$'\n'
    COMPREPLY=($(kibitz completion -next -- "${COMP_WORDS[@]:1:COMP_CWORD}" 2>/dev/null))
}
complete -o default -F _kibitz kibitz
`,
	"zsh": `#compdef kibitz
# Completion of kibitz for zsh.
_kibitz() {
    local -a found
    found=("${(@f)$(kibitz completion -next -- "${(@)words[2,CURRENT]}" 2>/dev/null)}")
    if [[ -n "${found[1]}" ]]; then compadd -- "${found[@]}"; else _files; fi
}
compdef _kibitz kibitz
`,
	"fish": `# Completion of kibitz for fish.
complete -c kibitz -a '(kibitz completion -next -- (commandline -opc)[2..] (commandline -ct) 2>/dev/null)'
`,
}

// complete gives what may stand in the place of the last of some words.
func (r *run) complete(words []string) []string {
	if len(words) == 0 {
		words = []string{""}
	}
	last := words[len(words)-1]
	var all []string
	if len(words) == 1 {
		for _, c := range commands {
			all = append(all, c.name)
		}
		return beginning(append(all, "help"), last)
	}
	if words[0] == "help" {
		return beginning(helpWords(), last)
	}
	i := slices.IndexFunc(commands, func(c command) bool { return c.name == words[0] })
	if i < 0 {
		return nil
	}
	c := &commands[i]
	flags := flag.NewFlagSet(c.name, flag.ContinueOnError)
	r.common.flags(c, flags)
	c.setup(flags)
	before := words[len(words)-2]
	if f := flags.Lookup(strings.TrimLeft(before, "-")); len(words) > 2 && strings.HasPrefix(before, "-") && f != nil {
		if _, isBool := boolean(f); !isBool {
			return beginning(r.valuesOf(c, f.Name), last)
		}
	}
	if strings.HasPrefix(last, "-") {
		flags.VisitAll(func(f *flag.Flag) { all = append(all, "-"+f.Name) })
		return beginning(all, last)
	}
	switch {
	case c.name == "completion":
		return beginning([]string{"bash", "zsh", "fish"}, last)
	case c.name == "check" && slices.Contains(words, "-fix"):
		for _, k := range proof.Kinds() {
			all = append(all, k.Name)
		}
		return beginning(all, last)
	}
	return nil
}

func beginning(words []string, with string) []string {
	return slices.DeleteFunc(words, func(w string) bool { return !strings.HasPrefix(w, with) })
}

// valuesOf are the values that a flag of a command can have, where they are few; else none,
// and the shell completes files.
func (r *run) valuesOf(c *command, name string) (all []string) {
	switch name {
	case "as":
		if c.shows == nil {
			return nil
		}
		for _, f := range forms {
			if c.shows(f) || c.each != nil && c.each(f) {
				all = append(all, f.name)
			}
		}
	case "by":
		return slices.Clone(replay.Bys)
	case "color":
		return []string{"auto", "always", "never"}
	case "list":
		for _, f := range list.Formats() {
			all = append(all, string(f))
		}
	case "fail-on":
		if c.name == "compare" {
			return slices.Clone(failWords)
		}
		return []string{string(proof.Error), string(proof.Warning), string(proof.Note)}
	case "pages":
		return []string{"on", "off"}
	case "notes":
		return []string{"some", "all"}
	case "only":
		if c.name == "replay" {
			all = slices.Clone(replay.Outcomes)
			if book, err := rulebook.Load(usualRules(), nil); err == nil {
				for _, rule := range book.Rules {
					all = append(all, rule.Name)
				}
			}
		}
	}
	return all
}

// helpWords are all that help knows.
func helpWords() (all []string) {
	for _, c := range commands {
		all = append(all, c.name)
	}
	for _, k := range rulebook.Kinds() {
		all = append(all, string(k))
	}
	for _, k := range proof.Kinds() {
		all = append(all, k.Name)
	}
	all = slices.AppendSeq(append(all, "findings"), maps.Keys(helpPages()))
	slices.Sort(all)
	return slices.Compact(all)
}
