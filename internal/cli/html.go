package cli

// Results as a page to show: one file that needs nothing from anywhere. It is whole without
// its script, and its policy lets nothing else run or load.

import (
	"cmp"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"fmt"
	"html/template"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"kibitz/core/proof"
	"kibitz/core/replay"
	"kibitz/core/rulebook"
	"kibitz/internal/render"
)

func init() {
	registerForm(form{name: "html", rank: 4,
		check:   (*run).checkHTML,
		links:   (*run).linksHTML,
		compare: (*run).comparedHTML,
		sums:    (*run).tallyHTML,
		sides:   (*run).sidesHTML,
		parts:   (*run).partsHTML,
		verify:  (*run).verifiedHTML,
	})
}

var (
	//go:embed page/page.html
	pageText string
	//go:embed page/page.css
	pageStyle string
	//go:embed page/page.js
	pageScript string

	pageTemplate = template.Must(template.New("page").Parse(pageText))
)

// A webPage is what a page shows.
type webPage struct {
	Command  string
	Title    string // a sentence
	Says     string
	Tiles    []tile
	Sections []pageSection
}

type (
	tile struct {
		Number, Text, Class string
	}
	pageSection struct {
		Title, Note string
		Flow        *flow
		Legend      []legend
		Bars        []bar
		Head        []cell
		Rows        [][]cell
		Findings    []pageFinding
		More        string
	}
	bar struct {
		Label, Text, Class string
		Share              string    // in percent
		Parts              []barPart // in place of one
	}
	barPart struct {
		Class, From, Share string // in percent
	}
	legend struct {
		Class, Text string
	}
	cell struct {
		Text, Class string
		Value       string   // to sort by, where that is not the text
		Lines       []string // in place of the text
	}
	pageFinding struct {
		Severity                                               proof.Severity
		Name, Place, Line, Mark, Message, See, Compare, Advice string
	}
)

// The classes of what is good, and what is not.
const (
	isBad   = "bad"
	isDoubt = "doubt"
	isWell  = "well"
)

func number[N int | int64](n N) cell {
	return cell{Text: render.Number(n), Class: "n", Value: strconv.FormatInt(int64(n), 10)}
}

func code(s string) cell { return cell{Text: render.Clean(s), Class: "code"} }

// when is a time, as the sums have it, to the minute.
func when(text string) cell {
	short := text
	if at, err := time.Parse(time.RFC3339, text); err == nil {
		short = at.Format("2006-01-02 15:04")
	}
	return cell{Text: short, Class: "when", Value: text}
}

func heads(names ...string) (out []cell) {
	for _, name := range names {
		c := cell{Text: strings.TrimPrefix(name, "#")}
		if c.Text != name {
			c.Class = "n"
		}
		out = append(out, c)
	}
	return out
}

// shareOf is a width in percent.
func shareOf(n, most int64) string {
	return strconv.FormatFloat(100*float64(n)/float64(max(most, 1)), 'f', 2, 64)
}

// statusClass says whether a status is good.
func statusClass(status string) string {
	switch {
	case strings.HasPrefix(status, "5"):
		return isBad
	case strings.HasPrefix(status, "4"):
		return isDoubt
	case strings.HasPrefix(status, "2"):
		return isWell
	}
	return ""
}

func source(text string) string {
	sum := sha256.Sum256([]byte(text))
	return "'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) + "'"
}

// writePage writes a page.
func (r *run) writePage(p webPage) error {
	p.Command = r.name
	return pageTemplate.Execute(r.stdout, struct {
		webPage
		Policy string
		Style  template.CSS // our own
		Script template.JS  // likewise
	}{p, "default-src 'none'; style-src " + source(pageStyle) + "; script-src " + source(pageScript) + "; base-uri 'none'; form-action 'none'", template.CSS(pageStyle), template.JS(pageScript)})
}

// tallyHTML is the page of a replay.
func (r *run) tallyHTML(s summed) error {
	t := r.sumsOf(s)
	r.origin = s.engine.Book.BaseAddress().Origin()
	near := func(address string) cell { return code(r.near(address)) }
	loops := t.Loops.Requests + t.TooLong.Requests
	dead := int64(0)
	for _, d := range deadEndsOf(s.tally) {
		dead += d.n
	}
	p := webPage{Title: "All " + render.Count(t.Requests, "request") + " are answered"}
	switch {
	case loops > 0:
		p.Title = fmt.Sprintf("%s of %s never end: they are caught in a loop", render.Number(loops), render.Count(t.Requests, "request"))
	case t.Unmet > 0:
		p.Title = fmt.Sprintf("%s of %s are not answered as the list expects", render.Number(t.Unmet), render.Count(t.Requests, "request"))
	case t.Missing.Requests > 0:
		p.Title = fmt.Sprintf("%s of %s find nothing (404)", render.Number(t.Missing.Requests), render.Count(t.Requests, "request"))
	case dead > 0:
		p.Title = fmt.Sprintf("%s of %s are redirected to what is not there", render.Number(dead), render.Count(t.Requests, "request"))
	}
	var lists []string
	for _, l := range t.Lists {
		lists = append(lists, render.Clean(titleOf(l.Name, l.Part)))
	}
	p.Says = fmt.Sprintf("%s, answered by %s", strings.Join(lists, ", "), render.Clean(r.rulesName()))
	if t.Partial {
		p.Says += "; interrupted: only what had been read by then"
	}
	tiled := func(n int64, text, class string) {
		if n == 0 {
			class = ""
		}
		p.Tiles = append(p.Tiles, tile{render.Number(n), text, class})
	}
	tiled(t.Requests, "requests", "")
	tiled(loops, "in a loop", isBad)
	tiled(t.Missing.Requests, "not found", isDoubt)
	tiled(dead, "at a dead end", isDoubt)
	tiled(t.Chains.Requests, "over more than one redirect", isDoubt)
	if t.Expected > 0 {
		tiled(t.Expected-t.Unmet, fmt.Sprintf("of %s expectations met", render.Number(t.Expected)), "")
	}

	addresses := func(title, note string, sums addressSums) {
		if sums.Requests == 0 {
			return
		}
		section := pageSection{Title: title, Note: note, Head: heads("#requests", "address")}
		for _, a := range sums.Addresses {
			section.Rows = append(section.Rows, []cell{number(a.Requests), near(a.Address)})
		}
		section.More = moreAddresses(sums)
		p.Sections = append(p.Sections, section)
	}
	addresses("Loops", "visitors are caught in an endless loop", t.Loops)
	addresses("Too many redirects", "browsers give up after twenty", t.TooLong)
	if len(t.NotAsExpected) > 0 {
		section := pageSection{Title: "Not as expected", Note: "requests whose answer is not what their list says", Head: heads("at", "request", "what")}
		for _, u := range t.NotAsExpected {
			section.Rows = append(section.Rows, []cell{code(fmt.Sprintf("%s:%d", u.List, u.Line)), near(u.Request), {Lines: cleaned(u.Unmet)}})
		}
		p.Sections = append(p.Sections, section)
	}
	if t.Missing.Requests > 0 {
		section := pageSection{Title: "Not found", Note: "answered 404, and the list did not expect that", Head: heads("#requests", "#by robots", "address", "linked from", "likeliest", "first", "last")}
		for _, a := range t.Missing.Addresses {
			var from []string
			for i, page := range a.From {
				if i == 5 {
					from = append(from, fmt.Sprintf("and %s more", render.Count(len(a.From)-i, "page")))
					break
				}
				from = append(from, fmt.Sprintf("%s (%s)", render.Clean(r.near(page.Page)), render.Number(page.Requests)))
			}
			section.Rows = append(section.Rows, []cell{number(a.Requests), number(*a.Robots), near(a.Address), {Lines: from, Class: "code"}, code(a.Likeliest), when(a.First), when(a.Last)})
		}
		section.More = moreAddresses(t.Missing)
		p.Sections = append(p.Sections, section)
	}
	addresses("Chains", "more than one redirect before the visitor arrives", t.Chains)
	p.Sections = append(p.Sections, flowSection(t), outcomesSection(t), recordedSection(r, t), bytesSection(t))
	if len(t.NotReached) > 0 {
		section := pageSection{Title: "Entries that nothing reached", Note: "they decided no request of the list", Head: heads("entry", "at")}
		for _, e := range t.NotReached {
			section.Rows = append(section.Rows, []cell{code(e.Entry), code(e.At)})
		}
		p.Sections = append(p.Sections, section)
	}
	p.Sections = slices.DeleteFunc(p.Sections, func(s pageSection) bool { return len(s.Rows) == 0 })
	return r.writePage(p)
}

func cleaned(texts []string) (out []string) {
	for _, text := range texts {
		out = append(out, render.Clean(text))
	}
	return out
}

func moreAddresses(sums addressSums) string {
	shown := int64(0)
	for _, a := range sums.Addresses {
		shown += a.Requests
	}
	if shown == sums.Requests {
		return ""
	}
	return fmt.Sprintf("… and %s for others; with -top 0 all are here.", render.Count(sums.Requests-shown, "request"))
}

// outcomesSection shows what became of the requests.
func outcomesSection(t tallySums) pageSection {
	byStatus := map[string]int64{}
	rows := slices.Clone(t.Outcomes)
	for _, o := range rows {
		byStatus[fmt.Sprint(o.Status)] += o.Requests
	}
	slices.SortFunc(rows, func(a, b outcomeRow) int { return cmp.Compare(b.Requests, a.Requests) })
	section := pageSection{Title: "Nothing was asked", Head: heads("status", "#requests", "#share", "decided by", "at", "cause", "last")}
	first, most := "", int64(0)
	for _, status := range slices.Sorted(maps.Keys(byStatus)) {
		n := byStatus[status]
		section.Bars = append(section.Bars, bar{Label: status, Text: render.Share(n, t.Requests), Class: statusClass(status), Share: shareOf(n, t.Requests)})
		if n > most {
			first, most = status, n
		}
	}
	if most > 0 {
		section.Title = fmt.Sprintf("%s of the requests are answered %s", render.Share(most, t.Requests), first)
	}
	for _, o := range rows {
		status := fmt.Sprint(o.Status)
		section.Rows = append(section.Rows, []cell{{Text: status, Class: statusClass(status)}, number(o.Requests), {Text: render.Share(o.Requests, t.Requests), Class: "n", Value: strconv.FormatInt(o.Requests, 10)}, code(o.By), code(o.At), {Text: o.Cause}, when(o.Last)})
	}
	return section
}

// recordedSection holds the answers against those that were recorded.
func recordedSection(r *run, t tallySums) pageSection {
	section := pageSection{Note: "what the server answered then, and what the rulebook answers", Head: heads("recorded", "predicted", "#requests", "decided by", "at", "like")}
	same, other := int64(0), int64(0)
	commonest := slices.Clone(t.Recorded)
	slices.SortStableFunc(commonest, func(a, b recordedSums) int { return cmp.Compare(b.Requests, a.Requests) })
	for _, sum := range commonest {
		if !sum.Differs {
			same += sum.Requests
			continue
		}
		other += sum.Requests
		var like []string
		for i, a := range sum.Addresses {
			if i < 3 {
				like = append(like, render.Clean(r.near(a.Address)))
			}
		}
		status := fmt.Sprint(sum.Predicted)
		section.Rows = append(section.Rows, []cell{{Text: strconv.Itoa(sum.Recorded), Class: statusClass(strconv.Itoa(sum.Recorded))}, {Text: status, Class: statusClass(status)}, number(sum.Requests), code(sum.By), code(sum.At), {Lines: like, Class: "code"}})
	}
	section.Title = fmt.Sprintf("%s of the requests are answered differently from what was recorded", render.Share(other, same+other))
	section.Bars = []bar{{Label: "the same", Text: render.Number(same), Class: isWell, Share: shareOf(same, same+other)}, {Label: "another", Text: render.Number(other), Class: isDoubt, Share: shareOf(other, same+other)}}
	return section
}

// bytesSection shows sizes, as files are and as they are sent.
func bytesSection(t tallySums) pageSection {
	section := pageSection{Note: "bodies by media type, as the files are and as they are sent", Head: heads("type", "#requests", "#plain", "#sent", "#saved")}
	var plain, wire, largest int64
	names := slices.SortedFunc(maps.Keys(t.Bytes), func(a, b string) int {
		return cmp.Or(cmp.Compare(t.Bytes[b].Plain, t.Bytes[a].Plain), strings.Compare(a, b))
	})
	for _, name := range names {
		b := t.Bytes[name]
		plain, wire, largest = plain+b.Plain, wire+b.Wire, max(largest, b.Plain)
	}
	for i, name := range names {
		b := t.Bytes[name]
		saved := render.Saved(b.Plain, b.Wire)
		section.Rows = append(section.Rows, []cell{code(name), number(b.Requests), {Text: render.Bytes(b.Plain), Class: "n", Value: strconv.FormatInt(b.Plain, 10)}, {Text: render.Bytes(b.Wire), Class: "n", Value: strconv.FormatInt(b.Wire, 10)}, {Text: saved, Class: "n", Value: strconv.FormatInt(b.Plain-b.Wire, 10)}})
		if i < 6 {
			section.Bars = append(section.Bars, bar{Label: name, Text: render.Bytes(b.Plain), Class: "other", Share: shareOf(b.Plain, largest)}, bar{Label: "sent", Text: render.Bytes(b.Wire), Share: shareOf(b.Wire, largest)})
		}
	}
	section.Title = fmt.Sprintf("%s are sent for %s of content", render.Bytes(wire), render.Bytes(plain))
	return section
}

// checkHTML is the page of a check.
func (r *run) checkHTML(c checked) error {
	count := map[proof.Severity]int{}
	p := webPage{Says: render.Clean(r.rulesName())}
	sections := map[proof.Severity]*pageSection{}
	for _, f := range c.report.Findings {
		count[f.Severity]++
		s := sections[f.Severity]
		if s == nil {
			s = &pageSection{}
			sections[f.Severity] = s
		}
		one := pageFinding{Severity: f.Severity, Name: f.Name, Place: placeOf(f), Message: render.Clean(f.Message), Advice: render.Clean(f.Advice)}
		if f.Place.Source != nil && f.Place.Line <= len(f.Place.Source.Lines) {
			one.Line, one.Mark = rulebook.MarkLine(f.Place, f.Width)
			one.Line = render.Clean(one.Line)
		}
		if f.Request != nil {
			one.See = r.traceLine(f.Request)
		}
		if f.Other != nil {
			one.Compare = r.traceLine(f.Other)
		}
		s.Findings = append(s.Findings, one)
	}
	classes := map[proof.Severity]string{proof.Error: isBad, proof.Warning: isDoubt}
	var said []string
	for _, severity := range []proof.Severity{proof.Error, proof.Warning, proof.Note} {
		n := count[severity]
		if n == 0 {
			continue
		}
		said = append(said, render.Count(n, string(severity)))
		word := strings.ToUpper(string(severity[:1])) + string(severity[1:]) + "s"
		p.Tiles = append(p.Tiles, tile{render.Number(n), strings.TrimPrefix(render.Count(n, string(severity)), render.Number(n)+" "), classes[severity]})
		sections[severity].Title = word
		p.Sections = append(p.Sections, *sections[severity])
	}
	if p.Title = "Nothing is found"; len(said) > 0 {
		p.Title = strings.Join(said, ", ")
	}
	if p.Title += " in " + render.Clean(r.rulesName()); c.book != nil {
		p.Says = fmt.Sprintf("%s for %s", render.Count(len(c.book.Rules), "entry"), render.Count(len(c.book.Sites), "site"))
		if own := c.pages.says(); own != "" {
			p.Says += ". " + own
		}
	}
	claims := pageSection{Title: "What is known", Note: "found: a request shows it; proved: no request can; tried: requests were made, and none shows it; open: not decided", Head: heads("finding", "state", "of", "why")}
	for _, cl := range c.report.Claims {
		class := map[string]string{proof.Found: isDoubt, proof.Proved: isWell, proof.Open: isDoubt}[cl.State]
		claims.Rows = append(claims.Rows, []cell{code(cl.Finding), {Text: cl.State, Class: class}, {Text: scope(cl)}, {Text: render.Clean(cl.Why)}})
	}
	if len(claims.Rows) > 0 {
		p.Sections = append(p.Sections, claims)
	}
	return r.writePage(p)
}

// linksHTML is the page of the site's own links.
func (r *run) linksHTML(l linked) error {
	look := 0
	section := pageSection{Title: "To look at", Head: heads("file", "#line", "address", "what", "write")}
	rows := l.rows()
	for _, row := range rows {
		if row.Finding == "" {
			continue
		}
		look++
		section.Rows = append(section.Rows, []cell{code(row.File), {Text: fmt.Sprintf("%d:%d", row.Line, row.Col), Class: "n", Value: strconv.Itoa(row.Line)}, code(row.Text), {Text: render.Clean(row.Says)}, {Text: render.Clean(row.Advice)}})
	}
	p := webPage{Title: fmt.Sprintf("All %s of the site's own pages lead somewhere", render.Count(len(rows), "link")), Says: fmt.Sprintf("%s refer to %s", render.Count(len(l.site.Pages), "file"), render.Count(len(l.site.Targets), "address"))}
	if look > 0 {
		p.Title = fmt.Sprintf("%s of %s of the site's own pages need a look", render.Number(look), render.Count(len(rows), "link"))
		p.Sections = append(p.Sections, section)
	}
	alone := pageSection{Title: "Pages that no other page links to", Head: heads("page", "file")}
	for _, page := range l.alone() {
		alone.Rows = append(alone.Rows, []cell{code(page.Address.Target()), code(page.Name())})
	}
	if len(alone.Rows) > 0 {
		p.Sections = append(p.Sections, alone)
	}
	return r.writePage(p)
}

// comparedHTML is the page of a change.
func (r *run) comparedHTML(c compared) error {
	result := c.result
	changed := result.Requests - result.Same
	p := webPage{Title: fmt.Sprintf("%s of %s are answered in another way", render.Number(changed), render.Count(result.Requests, "request")), Says: render.Clean(c.old) + " before, " + render.Clean(c.new) + " now"}
	switch {
	case len(result.Circles) > 0:
		p.Title = "Visitors who come back are caught in an endless loop"
	case c.every != nil && c.every.Alike():
		p.Title = "Proved: every request gets the same answer"
	case changed == 0:
		p.Title = fmt.Sprintf("All %s are answered as before", render.Count(result.Requests, "request"))
	}
	p.Tiles = []tile{{render.Number(result.Same), "the same", isWell}, {render.Number(changed), "in another way", isDoubt}}
	for _, circle := range result.Circles {
		s := pageSection{Title: "stored-redirect-loop", Note: "what browsers stored of the old rulebook, and what the new one answers, form an endless loop", Head: heads("status", "address", "leads to")}
		for _, h := range circle.Visit.Hops[circle.Visit.Again:] {
			s.Rows = append(s.Rows, []cell{{Text: strconv.Itoa(h.Response.Status)}, code(h.Request.Address.String()), code(h.Response.Location)})
		}
		p.Sections = append(p.Sections, s)
	}
	var s *pageSection
	for i, g := range result.Groups {
		if i == 0 || g.Change != result.Groups[i-1].Change {
			n, says := changeOf(result.Groups[i:])
			p.Sections = append(p.Sections, pageSection{Title: render.Count(n, "request") + " " + says, Head: heads("#requests", "was", "is", "like")})
			s = &p.Sections[len(p.Sections)-1]
		}
		was, is := r.htmlSide(g.From), r.htmlSide(g.To)
		if g.What != "" {
			was, is = cell{}, cell{Text: "another " + render.Clean(g.What)}
		}
		var like []string
		for _, req := range g.Examples {
			like = append(like, render.Clean(near(r, req.Verb(), req.Address.String()))+linkedFrom(c.linked, req))
		}
		s.Rows = append(s.Rows, []cell{number(g.Requests), was, is, {Lines: like, Class: "code"}})
	}
	return r.writePage(p)
}

func (r *run) htmlSide(a replay.Answer) cell {
	lines := []string{a.Status}
	if a.By != nil {
		lines[0] += " by " + render.Clean(a.By.Name) + " (" + place(a.By) + ")"
	}
	if a.Ends != "" {
		lines = append(lines, "the visit "+render.Clean(r.nearText(a.Ends)))
	}
	return cell{Lines: lines, Class: statusClass(a.Status)}
}

// verifiedHTML is the page of a server held against the prediction.
func (r *run) verifiedHTML(found verified) error {
	s := pageSection{Title: "Different from the prediction", Head: heads("request", "decided by", "what", "predicted", "got", "likeliest reason")}
	differ, sent := 0, 0
	for _, v := range found.all {
		if v.Skipped != "" {
			continue
		}
		sent++
		by := string(v.Predicted.Cause)
		if v.Predicted.By != nil {
			by = v.Predicted.By.Name + " (" + place(v.Predicted.By) + ")"
		}
		request := code(v.Item.Request.Verb() + " " + r.near(v.Item.Request.Address.String()))
		if v.Failed != nil {
			differ++
			s.Rows = append(s.Rows, []cell{request, code(by), {Text: "no answer"}, {}, {Text: render.Clean(v.Failed.Error())}, {}})
		}
		if len(v.Differences) == 0 {
			continue
		}
		differ++
		var what, predicted, got []string
		for _, d := range v.Differences {
			what = append(what, render.Clean(differenceName(d)))
			predicted = append(predicted, valueText(d.Predicted))
			got = append(got, valueText(d.Got))
		}
		s.Rows = append(s.Rows, []cell{request, code(by), {Lines: what}, {Lines: predicted, Class: "code"}, {Lines: got, Class: "code"}, {Text: render.Clean(v.Reason())}})
	}
	p := webPage{Title: fmt.Sprintf("The server answers %s as predicted", render.Count(sent, "request")), Says: strings.Join(found.flags.at, " and ")}
	if differ > 0 {
		p.Title = fmt.Sprintf("The server answers %s of %s differently from what is predicted", render.Number(differ), render.Count(sent, "request"))
		p.Sections = []pageSection{s}
	}
	p.Tiles = []tile{{render.Number(sent - differ), "as predicted", isWell}, {render.Number(differ), "different", isBad}, {render.Number(len(found.all) - sent), "not sent", ""}}
	return r.writePage(p)
}
