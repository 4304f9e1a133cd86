package replay

// Requests counted by what they have in common: the day, the hour, the host, the visitor.

import (
	"cmp"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"kibitz/core/browser"
)

// Bys are what requests can be counted by.
var Bys = []string{"agent", "day", "host", "hour", "network", "path", "referrer", "visitor"}

// RobotWords are in the names of programs that ask by themselves. A program that gives an
// address where more is to be read about it is one, too.
var RobotWords = []string{"archive", "bot", "check", "crawl", "feed", "fetch", "http-client", "index", "library", "link", "monitor", "preview", "probe", "robot", "scan", "scrape", "spider", "validator"}

// Who asks, as far as the name of the program says it.
const (
	People  = "people"
	Robots  = "robots"
	Unnamed = "no agent"
)

// VisitorOf says who asks by the name of the program. Other words than RobotWords are those
// that the site knows; none of them has capitals.
func VisitorOf(agent string, others []string) string {
	agent = strings.ToLower(agent)
	in := func(word string) bool { return strings.Contains(agent, word) }
	switch {
	case agent == "" || agent == "-":
		return Unnamed
	case slices.ContainsFunc(RobotWords, in), slices.ContainsFunc(others, in), in("://"), in("@"):
		return Robots
	}
	return People
}

// A Breakdown is requests counted by one of Bys. It is for one goroutine.
type Breakdown struct {
	By     string
	Zone   *time.Location // of days and hours
	Robots []string       // more words of robots, in small letters
	Others int64          // requests of parts that are not kept: there are too many
	parts  map[string]*Part
}

// A Part is the requests that have one thing in common.
type Part struct {
	Name     string
	Requests int64
	Classes  [6]int64 // by the first digit of their status; 0 has those that an application, or the site's files, answer
	Loops    int64
	First    time.Time // of those that tell their time; zero for none
	Last     time.Time
	from, to uint32 // likewise, of lines of logs, in seconds since 1970
}

// count counts a request; status is 0 where an application or the site's files answer.
func (p *Part) count(status int, loops bool) {
	p.Requests++
	class := status / 100
	if class < 1 || class >= len(p.Classes) {
		class = 0
	}
	p.Classes[class]++
	if loops {
		p.Loops++
	}
}

// at notes the time of a request; the zero time of one that does not tell it.
func (p *Part) at(t time.Time) {
	if t.IsZero() {
		return
	}
	if p.First.IsZero() || t.Before(p.First) {
		p.First = t
	}
	if t.After(p.Last) {
		p.Last = t
	}
}

// settle notes the times of lines.
func (p *Part) settle() {
	if p.to > 0 {
		p.at(time.Unix(int64(p.from), 0).UTC())
		p.at(time.Unix(int64(p.to), 0).UTC())
	}
	p.from, p.to = 0, 0
}

// maxParts is how many parts are kept.
const maxParts = 20_000

// Add counts a request.
func (g *Breakdown) Add(r *Result) {
	p := g.part(g.of(r))
	if p == nil {
		g.Others++
		return
	}
	p.count(r.Response.Status, r.Visit != nil && (r.Visit.Ending == browser.Loop || r.Visit.Ending == browser.TooLong))
	p.at(r.Item.Request.Time)
}

// part gives the part of a name; nil where there are too many.
func (g *Breakdown) part(name string) *Part {
	if g.parts == nil {
		g.parts = map[string]*Part{}
	}
	one := g.parts[name]
	if one == nil {
		if len(g.parts) == maxParts {
			return nil
		}
		one = &Part{Name: name}
		g.parts[name] = one
	}
	return one
}

// of names the part of a request; what the list does not tell is "-".
func (g *Breakdown) of(r *Result) string {
	req := r.Item.Request
	agent, _ := req.Get("User-Agent")
	switch g.By {
	case "agent":
		return cmp.Or(agent, "-")
	case "day", "hour":
		if req.Time.IsZero() {
			return "-"
		}
		form := "2006-01-02"
		if g.By == "hour" {
			form += " 15:00"
		}
		return req.Time.In(g.Zone).Format(form)
	case "host":
		return cmp.Or(req.Address.Host, "-")
	case "network":
		return networkOf(req.Client)
	case "path":
		return cmp.Or(req.Address.Path, "-")
	case "referrer":
		page, _, _ := strings.Cut(r.From, "?")
		if u, err := url.Parse(page); err == nil && u.Host != "" {
			page = u.Scheme + "://" + u.Host + u.Path
		}
		return cmp.Or(page, "-")
	}
	return VisitorOf(agent, g.Robots)
}

// networkOf is the network of a client that is likely one network's own: the first 24 bits of
// an IPv4 address, the first 48 of an IPv6 one.
func networkOf(client netip.Addr) string {
	if !client.IsValid() {
		return "-"
	}
	client = client.Unmap()
	bits := 24
	if client.Is6() {
		bits = 48
	}
	network, err := client.WithZone("").Prefix(bits)
	if err != nil {
		return "-"
	}
	return network.String()
}

// Sorted gives the parts: those of times in their order, all others the largest first.
func (g *Breakdown) Sorted() []*Part {
	var all []*Part
	for _, one := range g.parts {
		one.settle()
		all = append(all, one)
	}
	slices.SortFunc(all, func(a, b *Part) int {
		if g.By == "day" || g.By == "hour" {
			return strings.Compare(a.Name, b.Name)
		}
		return cmp.Or(cmp.Compare(b.Requests, a.Requests), strings.Compare(a.Name, b.Name))
	})
	return all
}
