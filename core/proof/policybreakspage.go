package proof

import (
	"fmt"
	"slices"
	"strings"

	"kibitz/core/pages"
	"kibitz/core/request"
)

func init() {
	register(66, Kind{
		Name: "policy-breaks-page", Severity: Warning, Page: true,
		Summary: "the policy that a page is sent with keeps the page's own script, style, picture or font from being used",
		Before:  `<script>let a = 1</script>`,
		After:   `<script src="/scripts/app.js"></script>`,
		find:    findBrokenPages,
	})
}

// findBrokenPages tells of each thing that a policy forbids once, with all pages that have
// it.
func findBrokenPages(c *checker) {
	type met struct {
		page *pages.Page
		pages.Blocked
	}
	all := map[string][]met{}
	var order []string
	for _, p := range c.ownPages().Pages {
		for _, b := range p.Blocked() {
			key := b.Field + "\n" + b.Directive + "\n" + strings.Join(b.Sources, " ") + "\n" + b.Why
			switch {
			case b.Inline != nil:
				key += "\n" + string(b.Inline.Use) + b.Inline.Kind + b.Inline.Content
			case b.Link != nil:
				key += "\n" + b.Link.To.String()
				if b.Link.To.Host == "" {
					key += b.Add
				}
			}
			if all[key] == nil {
				order = append(order, key)
			}
			all[key] = append(all[key], met{p, b})
		}
	}
	for _, key := range order {
		b, p := all[key][0].Blocked, all[key][0].page
		f := Finding{Page: p.Name(), Count: len(all[key]), Request: &request.Request{Address: p.Address}}
		for _, m := range all[key] {
			spot := Spot{Page: m.page, Line: 1, Col: 1}
			if in := m.Inline; in != nil {
				spot.Line, spot.Col = in.Line, in.Col
			} else if l := m.Link; l != nil {
				spot = Spot{m.page, l.Line, l.Col, short(l.Text), l}
			}
			f.Spots = append(f.Spots, spot)
			if name := m.page.Name(); !slices.Contains(f.Files, name) {
				f.Files = append(f.Files, name)
			}
		}
		what := ""
		switch {
		case b.Inline != nil:
			what = map[string]string{"script element": "its script is not run", "script attribute": "its event handler is not run", "style element": "its style element is not used", "style attribute": "its style attribute is not used"}[string(b.Inline.Use)+" "+b.Inline.Kind]
		case b.Link != nil:
			if b.Link.Use == pages.Form {
				what = fmt.Sprintf("its form is not sent to %s", short(b.Link.Text))
			} else {
				what = fmt.Sprintf("the %s %s is not loaded", b.Link.Use.Says(), short(b.Link.Text))
			}
			f.Width = len([]rune(b.Link.Text))
		default:
			what = b.Why
		}
		by := "the field " + b.Field
		if b.Meta != nil {
			by = "its own " + b.Field
		}
		if b.Directive != "" {
			by += fmt.Sprintf(" (%s)", strings.TrimSpace(b.Directive+" "+strings.Join(b.Sources, " ")))
		}
		f.Message = p.Name() + ": " + what + ", by " + by
		if f.Short = what + ", by " + by; b.Link != nil {
			f.Short = map[bool]string{true: "is not sent to", false: "is not loaded"}[b.Link.Use == pages.Form] + ", by " + by
		}
		if b.Why != "" && b.Why != what {
			f.Message += ": " + b.Why
		}
		f.Message += "." + further(len(f.Files)-1, "So it is in one more file.", "So it is in %d more files.")
		switch {
		case b.Inline != nil:
			f.Advice = fmt.Sprintf("put it into a file, or add to %s   %s", b.Directive, b.Add)
		case b.Add != "":
			f.Advice = fmt.Sprintf("add to %s   %s", b.Directive, b.Add)
		case b.Field == "Cross-Origin-Resource-Policy":
			f.Advice = fmt.Sprintf("header NAME on %s set Cross-Origin-Resource-Policy cross-origin", b.Link.Target.Request.Address.Path)
		default:
			f.Advice = fmt.Sprintf("let the page in the frame, at %s, be sent with another %s, or link to it", b.Link.Target.Request.Address.Path, b.Field)
		}
		f.Place = c.placeIn(p, f.Spots[0].Line, f.Spots[0].Col)
		c.addOf(p.Site, f)
	}
	c.conclusions(readPages)
}

// short is an address that may be very long, as data are.
func short(text string) string {
	const most = 60
	if r := []rune(text); len(r) > most {
		return string(r[:most]) + "…"
	}
	return text
}
