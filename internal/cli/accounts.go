package cli

import (
	"bufio"
	"bytes"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"

	"golang.org/x/crypto/bcrypt"
	"golang.org/x/term"

	"kibitz/core/rulebook"
)

func init() {
	register(command{
		order:   14,
		name:    "accounts",
		args:    "NAME",
		summary: "makes a line of an accounts file: a name, and the hash of a password",
		about: `Reads a password, twice, from the terminal, where it is not shown, or a line of
standard input, and prints a line for the file that the clause ` + "`accounts FILE`" + ` of an
access entry names: the name, and a bcrypt hash. The password itself is kept nowhere.
Append it:  kibitz accounts ada >> crew.accounts`,
		setup: func(flags *flag.FlagSet) func(*run, []string) (int, error) {
			cost := flags.Int("cost", 11, "how slow the hash is to try, a `number` from 10 to 14: each step doubles the time")
			return func(r *run, args []string) (int, error) {
				switch {
				case len(args) != 1:
					return 0, usagef("name one account, like: kibitz accounts ada")
				case *cost < 10 || *cost > 14:
					return 0, usagef("-cost is a number from 10 to 14, not %d", *cost)
				case args[0] == "" || strings.ContainsAny(args[0], ": \t\r\n#"):
					return 0, usagef("%q is not a name for an account: it has no colon, blank or #", args[0])
				}
				return exitWell, r.account(args[0], *cost)
			}
		},
	})
}

func (r *run) account(name string, cost int) error {
	password, err := r.password()
	if err != nil {
		return err
	}
	switch {
	case len(password) == 0:
		return errors.New("an empty password is none")
	case len(password) > 72:
		return errors.New("the password is longer than 72 bytes: bcrypt looks at no more")
	}
	hash, err := bcrypt.GenerateFromPassword(password, cost)
	if err != nil {
		return err
	}
	if rulebook.HashCost(string(hash)) != cost {
		return errors.New("the hash is not what a rulebook reads")
	}
	_, err = fmt.Fprintf(r.stdout, "%s:%s\n", name, hash)
	return err
}

// password reads a password: without showing it on a terminal.
func (r *run) password() ([]byte, error) {
	in, ok := r.stdin.(*os.File)
	if !ok || !term.IsTerminal(int(in.Fd())) {
		line, err := bufio.NewReader(io.LimitReader(r.stdin, 1<<10)).ReadBytes('\n')
		if err != nil && err != io.EOF {
			return nil, err
		}
		return bytes.TrimRight(line, "\r\n"), nil
	}
	var typed [2][]byte
	for i, ask := range []string{"Password: ", "The same again: "} {
		fmt.Fprint(r.stderr, ask)
		var err error
		typed[i], err = term.ReadPassword(int(in.Fd()))
		fmt.Fprintln(r.stderr)
		if err != nil {
			return nil, err
		}
	}
	if !bytes.Equal(typed[0], typed[1]) {
		return nil, errors.New("the two are not the same")
	}
	return typed[0], nil
}
