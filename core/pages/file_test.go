package pages

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"golang.org/x/net/html"
)

// TestReferences shows what is read of each kind of file: the use, the address as a browser
// reads it, the text that stands in the file, and its place.
func TestReferences(t *testing.T) {
	tests := []struct{ kind, name, content, want string }{
		{"text/html", "a.html", `<a href="/fares/?a=1&amp;b=2">x</a>`, `link /fares/?a=1&b=2 "/fares/?a=1&amp;b=2" 1:10`},
		{"text/html", "a.html", "<!doctype html>\n<p>é <a HREF = '/x'>", `link /x "/x" 2:17`},
		{"text/html", "a.html", `<a hidden href=/x download = '' ping =/p data-y><input disabled formaction=/z>`, `link /x "/x" 1:16; form /z "/z" 1:76`},
		{"text/html", "a.html", `<meta http-equiv=refresh content="1;ur"><meta http-equiv=refresh content="1 /plain"><meta http-equiv=refresh content="1; uri">`, `refresh ur "ur" 1:37; refresh /plain "/plain" 1:77; refresh uri "uri" 1:122`},
		{"text/css", "a.css", `a { b: url(\0000630.png) url(\63 0.png) url(\000063 1.png) }`, `image c0.png "\\0000630.png" 1:12; image c0.png "\\63 0.png" 1:30; image c1.png "\\000063 1.png" 1:45`},
		{"text/html", "a.html", `<a href=/plain>`, `link /plain "/plain" 1:9`},
		{"text/html", "a.html", `<a href="?a=1&copy=2">`, `link ?a=1&copy=2 "?a=1&copy=2" 1:10`}, // no © before =
		{"text/html", "a.html", `<a href=" /blank ">`, `link /blank "/blank" 1:11`},
		{"text/html", "a.html", `<a href="/one" href="/two">`, `link /one "/one" 1:10`},
		{"text/html", "a.html", `<!-- <a href="/no"> --><script>"<a href='/no'>"</script><template><img src=/no></template><noscript><img src=/no></noscript>`, ``},
		{"text/html", "a.html", `<img src=a.png srcset="b.png, c.png 2x,d.png 100w, data:,x 3x">`, `image a.png "a.png" 1:10; image b.png "b.png" 1:24; image c.png "c.png" 1:31; image d.png "d.png" 1:40; image data:,x "data:,x" 1:52`},
		{"text/html", "a.html", `<img srcset="/a?x=1&amp;y=2 1x, /b 2x">`, `image /a?x=1&y=2 "/a?x=1&amp;y=2" 1:14; image /b "/b" 1:33`},
		{"text/html", "a.html", `<link rel="preload stylesheet" href=s.css><link rel=icon href=i.svg><link rel=preload as=font href=f.woff2><link rel=preconnect href=//cdn.example>`, `style s.css "s.css" 1:37; image i.svg "i.svg" 1:63; font f.woff2 "f.woff2" 1:100`},
		{"text/html", "a.html", `<link rel=canonical href=/c><link rel=alternate hreflang=de href=/de/><link rel=alternate type=application/rss+xml href=/feed>`, `canonical /c "/c" 1:26; alternate /de/ "/de/" 1:66; link /feed "/feed" 1:121`},
		{"text/html", "a.html", `<meta http-equiv=refresh content="5; URL='/new'">`, `refresh /new "/new" 1:43`},
		{"text/html", "a.html", `<meta http-equiv=refresh content="5">`, ``},
		{"text/html", "a.html", `<script src=a.js></script><script type=module src=b.js></script><script type=text/template src=c></script>`, `script a.js "a.js" 1:13; module b.js "b.js" 1:51`},
		{"text/html", "a.html", `<video src=v.mp4 poster=p.jpg><source src=w.webm><track src=t.vtt></video>`, `media v.mp4 "v.mp4" 1:12; image p.jpg "p.jpg" 1:25; media w.webm "w.webm" 1:43; track t.vtt "t.vtt" 1:61`},
		{"text/html", "a.html", `<form action=/send><button formaction=/other></form><iframe src=/f></iframe><object data=/o></object><embed src=/e>`, `form /send "/send" 1:14; form /other "/other" 1:39; frame /f "/f" 1:65; object /o "/o" 1:90; object /e "/e" 1:113`},
		{"text/html", "a.html", `<p style="background: url('a&amp;b.png')">`, `image a&b.png "a&amp;b.png" 1:28`},
		{"text/html", "a.html", `<style>@import "x.css"; a { b: url(y.png) } @font-face { src: url("f.woff2") format("woff2") }</style>`, `style x.css "x.css" 1:17; image y.png "y.png" 1:36; font f.woff2 "f.woff2" 1:68`},
		{"text/html", "a.html", `<svg><image href="i.png"/><use href="#own"/><use xlink:href="s.svg#a"/><a href=/l></a><title>t</title></svg>`, `image i.png "i.png" 1:19; image s.svg#a "s.svg#a" 1:62; link /l "/l" 1:80`},
		{"text/css", "a.css", `@import url(b.css); a { c: url( "d e.png" ) url(\66.png) url(#x); e: image-set("g.avif" 1x, url(h.png) 2x) } @namespace url(http://n.example/);`, `style b.css "b.css" 1:13; image d e.png "d e.png" 1:34; image f.png "\\66.png" 1:49; image g.avif "g.avif" 1:81; image h.png "h.png" 1:97`},
		{"application/xml", "sitemap.xml", "<?xml version='1.0'?>\n<urlset xmlns='x'><url><loc> https://s.example/a?b=1&amp;c=2 </loc></url></urlset>", `entry https://s.example/a?b=1&c=2 "https://s.example/a?b=1&amp;c=2" 2:30`},
		{"application/xml", "sitemap.xml", "<sitemapindex><sitemap><loc>/s1.xml</loc></sitemap></sitemapindex>", `sitemap /s1.xml "/s1.xml" 1:29`},
		{"application/rss+xml", "feed.xml", "<rss><channel><link>/</link><item><link><![CDATA[/n]]></link><enclosure url='/p.mp3'/></item></channel></rss>", `link / "/" 1:21; link /n "" 1:41; link /p.mp3 "/p.mp3" 1:78`},
		{"application/atom+xml", "feed.xml", "<feed><link rel='self' href='/feed'/><entry><link href='/n'/></entry></feed>", `link /n "/n" 1:57`},
		{"image/svg+xml", "a.svg", `<svg xmlns:xlink="x"><image xlink:href="i.png"/><style>a { fill: url(p.svg#b) }</style></svg>`, `image i.png "i.png" 1:41; image p.svg#b "p.svg#b" 1:70`},
		{"application/octet-stream", "a.webmanifest", `{"start_url": "/app/", "icons": [{"src": "i.png"}], "shortcuts": [{"url": "/s"}], "name": "url"}`, `link /app/ "/app/" 1:16; image i.png "i.png" 1:43; link /s "/s" 1:76`},
		{"text/plain", "robots.txt", "User-agent: *\nSitemap: https://s.example/sitemap.xml # all\n", `sitemap https://s.example/sitemap.xml "https://s.example/sitemap.xml" 2:10`},
	}
	for _, tt := range tests {
		f, err := Read([]byte(tt.content), tt.kind, tt.name)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, r := range f.References {
			got = append(got, fmt.Sprintf("%s %s %q %d:%d", r.Use, r.Text, tt.content[r.Offset:r.Offset+r.Length], r.Line, r.Col))
		}
		if strings.Join(got, "; ") != tt.want {
			t.Errorf("%s\n got %s\nwant %s", tt.content, strings.Join(got, "; "), tt.want)
		}
	}
}

// TestCharacters reads pages that are not in UTF-8.
func TestCharacters(t *testing.T) {
	f, err := Read([]byte("<meta charset=windows-1252><a href='/f\xe4hre'>"), "text/html", "a.html")
	if err != nil || len(f.References) != 1 || f.References[0].Text != "/fähre" || !f.Foreign {
		t.Errorf("got %+v, %v", f, err)
	}
	f, err = Read([]byte("<?xml version='1.0' encoding='iso-8859-1'?><urlset><url><loc>/f\xe4hre</loc></url></urlset>"), "text/xml", "a.xml")
	if err != nil || len(f.References) != 1 || f.References[0].Text != "/fähre" {
		t.Errorf("got %+v, %v", f, err)
	}
	if _, err = Read([]byte("\xff\xfe<\x00a\x00"), "text/html", "a.html"); err != ErrEncoding {
		t.Errorf("UTF-16 gives %v", err)
	}
}

// FuzzRead holds the reading of each kind of file against itself: every reference lies in
// the file, and what stands there, read as its kind of file writes it, is its text. Of
// pages the tags are those of the standard's own parser.
func FuzzRead(f *testing.F) {
	kinds := []string{"text/html", "text/css", "application/xml", "image/svg+xml", "application/manifest+json"}
	for i, seed := range []string{`<a href="/x&amp;y">`, `<img srcset="a 1x, b">`, `<p style="a:url(&quot;b&quot;)">`, `<svg><style>a{b:url(c)}</style></svg>`, `<a/b=c/d="e"f='g'h>`, `@import"a";b{c:url(d\65)}`, "<urlset><url><loc>a</loc></url></urlset>", `{"icons":[{"src":"a\u0062"}]}`, "<a href='\r\nx&#13;&NotEqualTilde;'>"} {
		f.Add([]byte(seed), uint8(i))
	}
	f.Fuzz(func(t *testing.T, content []byte, kind uint8) {
		mediaType := kinds[int(kind)%len(kinds)]
		file, err := Read(content, mediaType, "x")
		if err != nil || file.Foreign {
			return
		}
		for _, r := range file.References {
			if r.Offset < 0 || r.Length < 0 || r.Offset+r.Length > len(content) {
				t.Fatalf("%q: %+v lies outside", content, r)
			}
			if r.Length == 0 {
				continue
			}
			if got := written(string(content[r.Offset:r.Offset+r.Length]), r.Escape); got != r.Text && mediaType != "application/xml" && mediaType != "image/svg+xml" {
				t.Fatalf("%q: at %d stands %q, which is read as %q, not %q", content, r.Offset, content[r.Offset:r.Offset+r.Length], got, r.Text)
			}
		}
	})
}

// written reads an address as it stands in a file.
func written(raw string, e Escape) string {
	switch e {
	case InMarkup:
		return strings.Trim(unescape(raw), blanks)
	case InBoth:
		return strings.Trim(unescapeCSS(unescape(raw)), blanks)
	case InStyle:
		return strings.Trim(unescapeCSS(raw), blanks)
	}
	return raw
}

// TestPlacesInAttributes finds the parts of a value where they stand, whatever is before them.
func TestPlacesInAttributes(t *testing.T) {
	parts := []string{"a", "é", "\x00", "\r\n", "\r", "\n", "&amp;", "&#0;", "&#x20AC;", "&#13;", "&NotEqualTilde;", "&NotEqualTil", "&lt;", "&amp", "&not", "&", "&#", "&#x", "&#65", ";", "=", "\"", " "}
	tried := 0
	for _, one := range parts {
		for _, two := range parts {
			raw, next := one+two+"b", len(unescape(one))
			if unescape(raw) != unescape(one)+unescape(two)+"b" {
				continue // together they are something else
			}
			tried++
			if got, want := rawPlace(raw, next), len(one); got != want {
				t.Errorf("%q: what is at %d of the value stands at %d, not %d", raw, next, got, want)
			}
			if got, want := rawPlace(raw, len(unescape(one+two))), len(one+two); got != want {
				t.Errorf("%q: the end stands at %d, not %d", raw, got, want)
			}
		}
	}
	if tried < 400 {
		t.Errorf("only %d pairs", tried)
	}
}

// TestPagesAsTheStandardReadsThem holds the addresses of links and pictures against those
// in the tree that the standard's parser makes.
func TestPagesAsTheStandardReadsThem(t *testing.T) {
	for _, content := range []string{
		"<p><a href=/a>1<a href=/b>2</p><img src=c>", "<table><a href=/x><tr><td><img src=y></table>", "<a href=/a <b href=/b>", `<a href="/a>unclosed"><img src=b>`,
		"<title><a href=/no></title><textarea><img src=no></textarea><a href=/yes>", "<svg><title><a href=/s></a></title><style>a{}</style></svg><img src=z>", "<svg><desc><title><a href=no></title></desc></svg><a href=/z>",
		"<math><a href=/m></math>", "<xmp><a href=/no></xmp><plaintext><a href=/no>", "<!--><a href=/c>-->", "<a\x00 href=/n>", "<![CDATA[<a href=/x>]]>", "<svg><![CDATA[<a href=/x>]]></svg>", "<iframe><a href=/no></iframe><img/src=q/>",
	} {
		f, err := Read([]byte(content), "text/html", "a.html")
		if err != nil {
			t.Fatal(err)
		}
		var got, want []string
		for _, r := range f.References {
			if r.Use == Hyperlink || r.Use == Image {
				got = append(got, r.Text)
			}
		}
		root, err := html.Parse(strings.NewReader(content))
		if err != nil {
			t.Fatal(err)
		}
		for n := range root.Descendants() {
			for _, a := range n.Attr {
				if n.Data == "a" && a.Key == "href" || n.Data == "img" && a.Key == "src" {
					want = append(want, a.Val)
				}
			}
		}
		slices.Sort(got)
		slices.Sort(want)
		if want = slices.Compact(want); !slices.Equal(slices.Compact(got), want) {
			t.Errorf("%s\n got %q\nwant %q", content, got, want)
		}
	}
}
