package cli

// One address as several visitors see it.

import (
	"fmt"
	"slices"
	"strings"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/replay"
	"kibitz/core/request"
	"kibitz/core/request/list"
	"kibitz/internal/render"
)

// A sight is what one visitor sees.
type sight struct {
	visitor string
	result  *replay.Result
}

// asVisitors asks for an address as each visitor of a list does. What the flags say of the
// request holds for all of them, where a visitor says nothing else.
func (r *run) asVisitors(f *requestFlags, url, name string) (int, error) {
	e, req, err := r.loadAsking(f, url)
	if err != nil {
		return 0, err
	}
	in, err := r.open(name)
	if err != nil {
		return 0, err
	}
	defer in.Close()
	visitors, err := list.Visitors(in)
	if err != nil {
		return 0, fmt.Errorf("%s: %w", listName(name), err)
	}
	status := exitWell
	var all []sight
	for _, v := range visitors {
		own := *req
		own.Headers = slices.Clone(v.Request.Headers)
		own.AddMissing(req.Headers)
		if v.Request.Client.IsValid() {
			own.Client = v.Request.Client
		}
		if !v.Request.Time.IsZero() {
			own.Time = v.Request.Time
		}
		if v.Request.Body > 0 {
			own.Body = v.Request.Body
		}
		visit := browser.Open(e, &own)
		if visit.Ending == browser.Loop || visit.Ending == browser.TooLong {
			status = exitFindings
		}
		all = append(all, sight{v.Name, &replay.Result{Item: &list.Item{Request: &own}, Response: visit.Hops[0].Response, Visit: visit}})
	}
	return status, r.form.visitors(r, req, all)
}

// visitorsText is a table with a column for each visitor: the first answer, where the visit
// ends, and what is sent there.
func (r *run) visitorsText(req *request.Request, all []sight) error {
	out := r.out
	r.origin = req.Address.Origin()
	out.Printf("%s %s as %s see it\n\n", render.Clean(req.Verb()), render.Clean(req.Address.String()), render.Count(len(all), "visitor"))
	head := []string{""}
	for _, s := range all {
		head = append(head, render.Clean(s.visitor))
	}
	rows := [][]string{head}
	add := func(what string, cell func(s sight) string) {
		row := []string{out.Quiet(what)}
		for _, s := range all {
			row = append(row, cell(s))
		}
		if slices.ContainsFunc(row[1:], func(c string) bool { return c != "" }) {
			rows = append(rows, row)
		}
	}
	last := func(s sight) *engine.Response { return s.result.Visit.Last() }
	add("answers", func(s sight) string {
		var codes []string
		hops := s.result.Visit.Hops
		for _, h := range hops[:min(len(hops), 5)] {
			codes = append(codes, out.Status(engine.StatusText(h.Response)))
		}
		if len(hops) > 5 {
			codes = append(codes, "…")
		}
		return strings.Join(codes, " ")
	})
	add("decided by", func(s sight) string { return r.decidedBy(s.result.Response) })
	add("Location", func(s sight) string { return render.Clean(r.near(s.result.Response.Location)) })
	add("ends", func(s sight) string {
		v := s.result.Visit
		switch v.Ending {
		case browser.Arrived:
			if v.Redirects() == 0 {
				return ""
			}
			return render.Clean(r.near(v.Hops[len(v.Hops)-1].Request.Address.String()))
		case browser.Loop, browser.TooLong:
			return out.Bad(string(v.Ending))
		}
		return string(v.Ending)
	})
	add("there", func(s sight) string {
		if s.result.Visit.Redirects() == 0 {
			return ""
		}
		return r.decidedBy(last(s))
	})
	add("type", func(s sight) string { return render.Clean(strings.TrimSpace(last(s).Type + " " + last(s).Encoding)) })
	add("size", func(s sight) string {
		if last(s).Type == "" || last(s).Status/100 == 3 {
			return ""
		}
		return render.Bytes(last(s).Encoded)
	})
	alike := 0
	for _, name := range headerNames(all) {
		values := map[string]bool{}
		for _, s := range all {
			value, _ := last(s).Get(name)
			values[value] = true
		}
		if len(values) == 1 {
			alike++
			continue
		}
		add(name, func(s sight) string {
			if value, ok := last(s).Get(name); ok {
				return render.Clean(value)
			}
			return out.Quiet("none")
		})
	}
	out.Rows("  ", rows)
	if alike > 0 {
		out.Printf("\n  %s\n", out.Quiet(render.Count(alike, "header field")+" more of the last answer: the same for all"))
	}
	return nil
}

// decidedBy names the entry that decided, or the cause.
func (r *run) decidedBy(resp *engine.Response) string {
	if resp.By != nil {
		return render.Clean(resp.By.Name)
	}
	return r.out.Quiet("(" + string(resp.Cause) + ")")
}

// ofFile are the fields that follow from the file that is sent, and from its size.
var ofFile = []string{"Accept-Ranges", "Content-Encoding", "Content-Length", "Content-Type", "Etag", "Last-Modified", "Location"}

// headerNames are the other fields of the last answers, in their order.
func headerNames(all []sight) (names []string) {
	for _, s := range all {
		for _, h := range s.result.Visit.Last().Headers {
			if !slices.ContainsFunc(slices.Concat(names, ofFile), func(n string) bool { return strings.EqualFold(n, h.Name) }) {
				names = append(names, h.Name)
			}
		}
	}
	return names
}

func (r *run) visitorsJSON(_ *request.Request, all []sight) error {
	type seen struct {
		Visitor string `json:"visitor"`
		render.Line
	}
	out := []seen{}
	for _, s := range all {
		out = append(out, seen{s.visitor, render.NewLine(s.result)})
	}
	return r.writeJSON(out)
}
