package main

// Random sites: a tree of pages, and the rules that people write for such a tree.

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"

	"kibitz/core/engine"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

var sections = []string{"boats", "fares", "islands", "crossings", "crew", "harbour", "groups", "cargo", "winter", "jobs", "press", "stories"}

var pageNames = []string{"avocet", "tern", "kittiwake", "plover", "dunlin", "curlew", "adults", "children", "bikes", "dogs", "families", "north", "south", "pier", "lighthouse", "museum", "beach", "castle", "spring", "autumn"}

// A writer makes one site.
type writer struct {
	*rand.Rand
	files map[string]string
	free  []string // names of old folders that nothing has yet
}

func (w *writer) pick(list ...string) string { return list[w.IntN(len(list))] }

// page puts a text into the tree.
func (w *writer) page(at string) {
	w.files[at] = strings.Repeat("Text of "+at+". ", 80)
}

func (w *writer) old() string {
	name := w.free[0]
	w.free = w.free[1:]
	return name
}

// randomSite makes a site by a number.
func randomSite(seed uint64) (*engine.Engine, error) {
	w := &writer{Rand: rand.New(rand.NewPCG(seed, 21)), files: map[string]string{}}
	w.free = []string{"vessels", "preise", "angebote", "archive", "shop", "service", "info", "staff", "forms", "media-old", "kontakt", "blog"}
	w.Shuffle(len(w.free), func(i, j int) { w.free[i], w.free[j] = w.free[j], w.free[i] })
	chosen := slices.Clone(sections)
	w.Shuffle(len(chosen), func(i, j int) { chosen[i], chosen[j] = chosen[j], chosen[i] })
	chosen = chosen[:3+w.IntN(5)]
	pages := map[string][]string{}
	w.page("/index.html")
	for _, s := range chosen {
		w.page("/" + s + "/index.html")
		for _, name := range pageNames {
			if w.IntN(2) == 0 {
				w.page("/" + s + "/" + name + ".html")
				pages[s] = append(pages[s], name)
			}
		}
	}
	for _, at := range []string{"/assets/style.css", "/assets/site.js", "/assets/print.css", "/assets/menu.js", "/assets/logo.svg", "/robots.txt", "/404.html"} {
		w.page(at)
	}
	for _, name := range []string{"pier", "boat", "map", "crew"} {
		w.files["/pictures/"+name+".png"] = name
	}
	all := w.rules(chosen, pages)
	w.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	all = all[:4+w.IntN(len(all)-4)]
	var table strings.Builder
	table.WriteString("old,new,status\n")
	for i := range 8 + w.IntN(20) {
		s := w.pick(chosen...)
		fmt.Fprintf(&table, "/node/%d,/%s/,301\n", 100+i*7, s)
	}
	text := "site random\n    address https://random.example\n    files public\n    hosts www.random.example\n"
	if w.IntN(4) > 0 {
		text += "redirect secure when scheme http to https://random.example{path} as permanent\n"
	}
	text += "redirect name when host www.random.example to https://random.example{path} as permanent\n" + strings.Join(all, "\n") + "\n"
	book, err := rulebook.Read("random.kibitz", []byte(text), func(name string) ([]byte, error) {
		if name == "moves.csv" {
			return []byte(table.String()), nil
		}
		return nil, os.ErrNotExist
	})
	if err != nil {
		return nil, fmt.Errorf("%w\n%s", err, text)
	}
	return engine.New(book, []*site.Tree{site.Memory(w.files)}), nil
}

// rules are those of which a site has some.
func (w *writer) rules(chosen []string, pages map[string][]string) []string {
	a, b, c := chosen[0], chosen[1], chosen[2]
	for _, name := range []string{"terms", "imprint"} {
		w.page("/" + name + ".html")
	}
	shown := w.old()
	w.page("/" + shown + "/index.html")
	drafts := w.old()
	w.page("/" + drafts + "/plan.html")
	w.page("/" + drafts + "/notes.txt")
	error404 := "error missing for 404 show /404.html"
	if w.IntN(3) == 0 {
		w.files["/404.html"] = "<p>There is no {path} here.</p>" + w.files["/404.html"]
		error404 += " fill on"
	}
	return []string{
		fmt.Sprintf("redirect moved in /%s/ to /%s/{below} as %s", w.old(), a, w.pick("permanent", "temporary", "308")),
		fmt.Sprintf("redirect extension on /%[1]s/:page.%[2]s to /%[1]s/{page}.html as permanent", b, w.pick("php", "htm", "asp")),
		fmt.Sprintf("redirect renamed on /%s/:page.htm to /%s/{page}.html as permanent", w.old(), c),
		fmt.Sprintf("redirect dated on /%s/:year(\\d{4})/:page to /%s/{page}.html as permanent", w.old(), a),
		fmt.Sprintf("redirect by-name on /show.php when query.name %s to /%s/{query.name}.html as permanent query drop", strings.Join(pages[b], " "), b),
		fmt.Sprintf("redirect whole in /%s/ to /%s/ as permanent", w.old(), c),
		fmt.Sprintf("reply gone in /%s/ with 410", w.old()),
		fmt.Sprintf("access %[1]s in /%[1]s/ refuse %[2]s", drafts, w.pick("403", "404")),
		"access backups on ~.*\\.(bak|old) refuse 404",
		fmt.Sprintf("access reading in /%s/ unless method GET HEAD refuse 405", a),
		fmt.Sprintf("header kept in /assets/ set Cache-Control \"%s\"", w.pick("max-age=31536000", "public, max-age=86400")),
		"header type set X-Content-Type-Options nosniff",
		fmt.Sprintf("header frames in /%s/ set X-Frame-Options DENY", b),
		"header fresh on ~.*\\.html set Cache-Control no-cache",
		"header transport when scheme https set Strict-Transport-Security \"max-age=31536000\"",
		error404,
		fmt.Sprintf("fallback app in /%[1]s/ to /%[1]s/index.html", shown),
		"compress text using br gzip",
		fmt.Sprintf("hint early in /%s/ preload /assets/style.css as style", c),
		"moves single table moves.csv as permanent",
		"folder pictures in /pictures/ listing on",
		fmt.Sprintf("rewrite short on /%s to /terms.html then finish", w.pick("agb", "t", "conditions")),
		fmt.Sprintf("redirect lower on /%s/:page to /%s/{page|lower} as permanent", strings.ToUpper(a), a),
	}
}
