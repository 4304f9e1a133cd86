package rulebook

// Access: who may, and who is asked for a name and password.

import (
	"fmt"
	"strings"

	"golang.org/x/crypto/bcrypt"
)

const KindAccess Kind = "access"

func init() {
	register(kindRow{kind: KindAccess, order: 9, read: readAccess, clauses: map[string]clauseForm{
		"refuse":   {more: true},
		"ask":      {must: 1, needs: "a realm, the name that the visitor is shown"},
		"accounts": {must: 1, needs: "a file of names and password hashes"},
		"admit":    {},
	}})
}

// Access says who may.
type Access struct {
	Do       AccessDo
	Status   int    // of a refusal
	Realm    string // of the question for a name and password
	Accounts map[string]string
}

// Templates are those that are filled in for an answer.
func (*Access) Templates() []*Template { return nil }

// Points are none: it is read in order.
func (*Access) Points() []string { return nil }

// Ends reports whether every request that it takes is answered by it.
func (*Access) Ends() bool { return false }

// Does writes what it does.
func (a *Access) Does() string { return fmt.Sprint("access ", a.Do, a.Status, a.Realm) }

// AccessDo is what an access entry does.
type AccessDo uint8

const (
	Refuse AccessDo = iota
	Ask
	Admit
)

func readAccess(b *builder, r *Rule, _ []string) Action {
	e := r.Entry
	a := &Access{Status: 403}
	var chosen []string
	for _, word := range []string{"refuse", "ask", "admit"} {
		if e.clause(word) != nil {
			chosen = append(chosen, word)
		}
	}
	if len(chosen) != 1 {
		b.errs.at(e.Kind, "an `access` entry says just one of: refuse [STATUS], ask REALM accounts FILE, admit")
		return a
	}
	accounts := e.clause("accounts")
	switch chosen[0] {
	case "refuse":
		c := e.clause("refuse")
		if len(c.Values) > 1 {
			b.errs.at(c.Values[1], "`refuse` takes one status")
		}
		if len(c.Values) > 0 {
			a.Status = b.status(c.Values[0], 400, 599)
		}
	case "admit":
		a.Do = Admit
	case "ask":
		a.Do, a.Status = Ask, 401
		a.Realm = e.clause("ask").Values[0].Text
		if accounts == nil {
			b.errs.at(e.clause("ask").Keyword, "`ask` needs the file with the names and password hashes: ask \"%s\" accounts FILE", a.Realm)
			return a
		}
		a.Accounts = b.accounts(accounts.Values[0])
		return a
	}
	if accounts != nil {
		b.errs.at(accounts.Keyword, "`accounts` goes with `ask`")
	}
	return a
}

// maxCost is the highest cost of a hash that is taken.
const maxCost = 18

// HashCost gives the cost of a bcrypt hash: each step doubles the time that one password
// takes to try.
func HashCost(hash string) int {
	cost, _ := bcrypt.Cost([]byte(hash))
	return cost
}

// accounts reads a file of name:hash lines. Errors name the line, never the hash.
func (b *builder) accounts(w Word) map[string]string {
	text, err := b.load(b.path(w))
	if err != nil {
		b.errs.at(w, "the accounts file cannot be read: %v", err)
		return nil
	}
	out := map[string]string{}
	for i, l := range strings.Split(strings.TrimPrefix(string(text), "\ufeff"), "\n") {
		l = strings.TrimSpace(l)
		if l == "" || strings.HasPrefix(l, "#") {
			continue
		}
		name, hash, ok := strings.Cut(l, ":")
		known := strings.HasPrefix(hash, "$2a$") || strings.HasPrefix(hash, "$2b$") || strings.HasPrefix(hash, "$2y$")
		_, twice := out[name]
		switch {
		case !ok || name == "":
			b.errs.at(w, "%s: line %d is not of the form name:hash", b.path(w), i+1)
		case !known || len(hash) != 60:
			b.errs.at(w, "%s: line %d has no bcrypt hash ($2b$…, 60 characters)", b.path(w), i+1)
		case HashCost(hash) > maxCost:
			b.errs.at(w, "%s: line %d has a hash of the cost %d: trying one password would take minutes; create it again with a cost from 10 to 14", b.path(w), i+1, HashCost(hash))
		case twice:
			b.errs.at(w, "%s: line %d names an account a second time", b.path(w), i+1)
		}
		out[name] = hash
	}
	return out
}
