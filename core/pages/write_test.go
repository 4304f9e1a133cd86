package pages

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"kibitz/core/request"
)

// TestOnlyAddressesAreChanged puts addresses with every sign that some file must escape in
// the place of others, at random: every byte outside of them is the same, and what is read
// then is what was written.
func TestOnlyAddressesAreChanged(t *testing.T) {
	files := []struct{ kind, name, content string }{
		{"text/html", "a.html", `<a href="/a?b&amp;c">x</a><img src='/i' srcset="/a 1x, /b 2x,/c"><a href=/d><p style="a:url('/e')">` + "\r\n" + `<style>@import "/f"; a{b:url(/g)}</style><meta http-equiv=refresh content="1;url=/h"><script>"/no"</script>`},
		{"text/css", "a.css", `@import url(/a); b { c: url( '/b' ) url("/c") image-set("/d" 1x) } /* url(/no) */`},
		{"application/xml", "sitemap.xml", `<urlset><url><loc>https://s.example/a?b&amp;c</loc></url><!-- <loc>/no</loc> --></urlset>`},
		{"image/svg+xml", "a.svg", `<svg><a href='/a'><image href="/b"/></a></svg>`},
		{"application/manifest+json", "a.webmanifest", `{"start_url":"/a", "icons":[{"src" : "/b"}]}`},
		{"text/plain", "robots.txt", "Sitemap: /a\nDisallow: /no\n"},
	}
	r := rand.New(rand.NewPCG(1, 2))
	addresses := []string{"/new", "/a?b=1&c=2", "/it's(here)", "/x,y", "/q?a='b'", "/n?not=1&lt=2", "/p`q"}
	page := &Page{base: request.Address{Scheme: "https", Host: "s.example", Port: 443, Path: "/"}}
	for range 300 {
		f := files[r.IntN(len(files))]
		was, err := Read([]byte(f.content), f.kind, f.name)
		if err != nil {
			t.Fatal(err)
		}
		var edits []Edit
		want, between, at := []string{}, "", 0
		page.File = was
		for i := range was.References {
			ref := &was.References[i]
			to := ref.Text
			if r.IntN(2) == 0 {
				to = addresses[r.IntN(len(addresses))]
				if ref.Set {
					to = strings.ReplaceAll(to, ",", "%2C")
				}
				edits = append(edits, Edit{&Link{Reference: ref, Page: page}, to})
			}
			want = append(want, fmt.Sprint(ref.Use, to))
			between += f.content[at:ref.Offset] + "\x00"
			at = ref.Offset + ref.Length
		}
		between += f.content[at:]
		out, err := Rewrite([]byte(f.content), edits)
		if err != nil {
			t.Fatal(err)
		}
		now, err := Read(out, f.kind, f.name)
		if err != nil {
			t.Fatal(err)
		}
		got, gotBetween, at := []string{}, "", 0
		for _, ref := range now.References {
			got = append(got, fmt.Sprint(ref.Use, ref.Text))
			gotBetween += string(out[at:ref.Offset]) + "\x00"
			at = ref.Offset + ref.Length
		}
		gotBetween += string(out[at:])
		if strings.Join(got, " ") != strings.Join(want, " ") || gotBetween != between {
			t.Fatalf("%s\nbecomes\n%s\n got %q\nwant %q", f.content, out, got, want)
		}
	}
}
