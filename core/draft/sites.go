package draft

// The rulebook of several sites: each is drafted from its own answers.

import (
	"strings"

	"kibitz/core/request"
)

// All drafts one rulebook from the answers of several sites, whose sources name their hosts.
// An answer of another host is of the site that it is sent on to, as most of that host are;
// where there is none, of the first. For one source it is Write.
func All(sources []*Source, answers []*Answer) (*Draft, error) {
	if len(sources) == 1 {
		sources[0].Answers = answers
		return sources[0].Write()
	}
	own := map[string]*Source{}
	for _, s := range sources {
		own[s.Host] = s
		s.Answers = nil
	}
	of := sentOn(answers, own)
	for _, a := range answers {
		s := sources[0]
		if found := of[a.Request.Address.Host]; found != nil {
			s = found
		}
		s.Answers = append(s.Answers, a)
	}
	all := &Draft{}
	for _, s := range sources {
		if len(s.Answers) == 0 {
			return nil, silentError(s.Host)
		}
		d, err := s.Write()
		if err != nil {
			return nil, err
		}
		text := d.Rulebook
		if all.Rulebook != "" {
			_, text, _ = strings.Cut(text, "\n\n") // without what it says at its beginning
			text = "\n" + text
		}
		all.Rulebook += text
		all.Tables = append(all.Tables, d.Tables...)
		all.Rows += d.Rows
		all.Entries += d.Entries
		all.Answers += d.Answers
		all.Agree += d.Agree
		all.Left = append(all.Left, d.Left...)
		all.Questions = append(all.Questions, d.Questions...)
		all.Accepted = append(all.Accepted, d.Accepted...)
	}
	return all, nil
}

// silentError names the host of a site of which nothing is known.
type silentError string

func (host silentError) Error() string {
	return "no answer is of " + string(host) + ": record some of it, or leave its files out"
}

// sentOn gives the site of each host: the one that has its name, or that most of its answers
// lead to under the same path.
func sentOn(answers []*Answer, own map[string]*Source) map[string]*Source {
	votes := map[string]map[*Source]int{}
	of := map[string]*Source{}
	for _, a := range answers {
		from := a.Request.Address
		if s := own[from.Host]; s != nil {
			of[from.Host] = s
			continue
		}
		to, err := from.Resolve(a.Location)
		if s := own[to.Host]; err == nil && s != nil && a.Location != "" && a.Status/100 == 3 && to.Path == from.Path {
			if votes[from.Host] == nil {
				votes[from.Host] = map[*Source]int{}
			}
			if votes[from.Host][s]++; of[from.Host] == nil || votes[from.Host][s] > votes[from.Host][of[from.Host]] {
				of[from.Host] = s
			}
		}
	}
	return of
}

// addresses makes whole addresses of paths of a site, with their queries.
func addresses(of request.Address, targets []string) (out []string) {
	for _, t := range targets {
		out = append(out, of.Origin()+t)
	}
	return out
}
