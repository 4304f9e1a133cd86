package draft

// What a server answered, as facts: the site's main address, its other names, and what each
// path was answered.

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"kibitz/core/canonical"
	"kibitz/core/request"
	"kibitz/core/request/list"
)

// An Answer is a request with what a server answered to it.
type Answer struct {
	List     string
	Line     int
	Request  *request.Request
	Status   int
	Location string
	Header   []request.Header // that the server sent; nil where the list does not tell it
	Sum      string           // SHA-256 of the body; "" likewise
	Hints    []string         // values of Link ahead of it (103)
}

// AnswerOf gives the answer that an item of a list tells: what was recorded, or what is
// expected; false where it tells none.
func AnswerOf(name string, item *list.Item) (*Answer, bool) {
	a := &Answer{List: name, Line: item.Line, Request: item.Request, Status: item.Recorded, Location: item.Location, Header: item.Answer, Sum: item.Sum, Hints: item.Hints}
	if x := item.Expects; x != nil && a.Status == 0 {
		a.Status, _ = strconv.Atoi(x.Status) // 0 for 2xx and the like
		a.Location = x.Location
	}
	return a, a.Status > 0
}

// agent is the visitor's program, as far as it is told.
func (a *Answer) agent() string {
	agent, _ := a.Request.Get("User-Agent")
	return agent
}

// encoded reports whether the request has no header fields but those that say who asks, and
// in which encodings.
func (a *Answer) encoded() bool {
	return !slices.ContainsFunc(a.Request.Headers, func(h request.Header) bool {
		return !slices.Contains([]string{"user-agent", "referer", "accept-encoding"}, strings.ToLower(h.Name))
	})
}

// varied reports whether the request has header fields on which the answer may depend,
// beside the visitor's program and the page before.
func (a *Answer) varied() bool {
	return slices.ContainsFunc(a.Request.Headers, func(h request.Header) bool {
		return !strings.EqualFold(h.Name, "User-Agent") && !strings.EqualFold(h.Name, "Referer")
	})
}

// A fact is an answer about a path of the main address.
type fact struct {
	*Answer
	path     string // canonical
	query    string
	to       string // of a redirect: a path of the site, or a whole address; without its query
	toQuery  string
	hasQuery bool
	back     string // the path of to in its one spelling, where it is of the site
	done     bool   // the rulebook by now answers so
	aside    bool   // it was asked for otherwise than plainly: it says what is answered, but not with what
}

// said is what was answered, as far as facts are told apart.
func (f *fact) said() string { return fmt.Sprint(f.Status, f.to, f.toQuery) }

func (f *fact) redirects() bool { return f.Status/100 == 3 && f.Status != 304 && f.Location != "" }

// A survey is what the answers say of the site as a whole.
type survey struct {
	main    request.Address
	aliases []alias // other hosts, which lead to the main one
	secure  *alias  // what http is answered, where the main address is https
}

// An alias is a host, or a scheme, whose requests are sent on as they are.
type alias struct {
	host    string
	status  int
	own     bool // of the scheme: hosts are first sent to https under their own name
	answers int
}

// surveyed finds the main address: the one with the most pages of its own, and what most
// redirects lead to; of a host, if it is known.
func surveyed(answers []*Answer, host string) (*survey, error) {
	votes := map[string]int{}
	for _, a := range answers {
		o := a.Request.Address.Origin()
		if host != "" && a.Request.Address.Host != host {
			continue
		}
		votes[o] += 0
		switch {
		case a.Status/100 == 2:
			votes[o] += 2
		case a.Status == 304:
			votes[o]++
		case a.Status/100 == 3 && a.Location != "":
			to, err := a.Request.Address.Resolve(a.Location)
			if same := to.Host == a.Request.Address.Host; err == nil && (same || host == "" && to.Path == a.Request.Address.Path) {
				votes[to.Origin()]++
			}
		}
	}
	var origins []string
	for o := range votes {
		origins = append(origins, o)
	}
	slices.SortFunc(origins, func(a, b string) int { return cmp.Or(cmp.Compare(votes[b], votes[a]), strings.Compare(a, b)) })
	if len(origins) == 0 {
		return nil, silentError(host)
	}
	main, err := request.Parse(origins[0]+"/", request.Address{})
	if err != nil {
		return nil, err
	}
	s := &survey{main: main}
	s.names(answers)
	return s, nil
}

// names tells which hosts and which scheme are sent on to the main address, and how.
func (s *survey) names(answers []*Answer) {
	statuses := map[string]map[int]int{} // by host, and "" for the scheme
	all := map[string]int{}
	own, direct := 0, 0
	vote := func(key string, status int) {
		if statuses[key] == nil {
			statuses[key] = map[int]int{}
		}
		statuses[key][status]++
	}
	for _, a := range answers {
		from := a.Request.Address
		if from.Origin() == s.main.Origin() {
			continue
		}
		downgraded := s.main.Scheme == "https" && from.Scheme == "http"
		to, err := from.Resolve(a.Location)
		sentOn := a.Location != "" && err == nil && a.Status/100 == 3 && to.Path == from.Path
		switch {
		case from.Host == s.main.Host:
			if all[""]++; sentOn && to.Origin() == s.main.Origin() {
				vote("", a.Status)
			}
		case downgraded && sentOn && to.Host == from.Host && to.Scheme == "https":
			own++
			vote("", a.Status)
			all[""]++
		default:
			if all[from.Host]++; sentOn && to.Origin() == s.main.Origin() {
				vote(from.Host, a.Status)
				if downgraded {
					direct++
				}
			}
		}
	}
	for _, key := range slices.Sorted(maps.Keys(all)) {
		sent, best := 0, 0
		for _, status := range slices.Sorted(maps.Keys(statuses[key])) {
			n := statuses[key][status]
			if sent += n; n > statuses[key][best] {
				best = status
			}
		}
		switch {
		case 2*sent < all[key]: // it is another site, or unknown
		case key == "":
			s.secure = &alias{status: best, own: own > direct, answers: sent}
		default:
			s.aliases = append(s.aliases, alias{host: key, status: best, answers: sent})
		}
	}
}

// knows reports whether a host is the site's.
func (s *survey) knows(host string) bool {
	return host == s.main.Host || slices.ContainsFunc(s.aliases, func(a alias) bool { return a.host == host })
}

// factOf makes a fact of an answer of the main address; nil for any other, and for methods
// that files do not take.
func (s *survey) factOf(a *Answer) *fact {
	from := a.Request.Address
	verb := a.Request.Verb()
	if from.Origin() != s.main.Origin() || verb != "GET" && verb != "HEAD" || a.varied() && !a.encoded() {
		return nil
	}
	path, err := canonical.Path(from.Path, false)
	if err != nil {
		return nil
	}
	f := &fact{Answer: a, path: path, query: from.Query, hasQuery: from.HasQuery, aside: verb == "HEAD" || a.varied()}
	if f.Status == 304 || f.Status == 206 {
		f.Status = 200
	}
	if !f.redirects() {
		return f
	}
	to, err := from.Resolve(a.Location)
	if err != nil {
		return nil // nobody can follow it, and no entry can say it
	}
	f.toQuery = to.Query
	if to.Host == s.main.Host {
		f.back, _ = canonical.Path(to.Path, false)
	}
	if f.to = to.Path + to.Fragment; to.Origin() != s.main.Origin() || strings.HasPrefix(f.to, "//") { // else a host
		f.to = to.Origin() + f.to
	}
	return f
}
