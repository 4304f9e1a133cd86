package proof

import (
	"fmt"

	"kibitz/core/browser"
)

// Who gives out certificates asks for a file over http, and follows redirects (RFC 8555,
// 8.3): one to https works only where https already answers.
func init() {
	register(44, Kind{
		Name: "challenge-redirected", Severity: Note,
		Summary: "the proof for a certificate, asked for over http, is redirected to https, where a host without a certificate cannot answer",
		Before:  "redirect secure when scheme http to https://{host}{path} as permanent",
		After:   "redirect secure when scheme http unless path /.well-known/acme-challenge/* to https://{host}{path} as permanent",
		Quiet:   true,
		find: func(c *checker) {
			for _, s := range c.Book.Sites {
				c.noteSite(Tried, s, "")
				for _, o := range c.fronts().of[s] {
					if o.scheme != "http" {
						continue
					}
					req := o.request()
					req.Address.Path = "/.well-known/acme-challenge/" + improbable
					c.tried++
					v := browser.Open(c, req)
					if v.Redirects() == 0 || v.Hops[len(v.Hops)-1].Request.Address.Scheme != "https" {
						continue
					}
					const leave = "unless path /.well-known/acme-challenge/*"
					advice, fixes := "leave it where it is:   "+leave, []Fix(nil)
					if by := v.Hops[0].Response.By; by != nil {
						advice = fmt.Sprintf("leave it where it is, in %s:   %s", by.Name, leave)
						fixes = []Fix{addClause(by, leave)}
					}
					c.addOf(s, Finding{Request: req, Advice: advice, Fixes: fixes,
						Message: fmt.Sprintf("The proof that %s is yours is asked for over http, and sent on to https: that works only while https answers there.", o.host)})
					break
				}
			}
			c.conclusions("the address was asked for by every host over http")
		},
	})
}
