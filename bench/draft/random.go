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
	files  map[string]string
	free   []string // names of old folders that nothing has yet
	visits []string // addresses that visitors ask for, as they stand in their logs
}

// visited adds addresses of which visitors know, one for each page: its name is in the place
// of the star, and numbers are in those of the hashes.
func (w *writer) visited(form string, pages ...string) {
	for _, name := range pages {
		at := form
		for strings.Contains(at, "#") {
			at = strings.Replace(at, "#", fmt.Sprint(1+w.IntN(900)), 1)
		}
		w.visits = append(w.visits, strings.ReplaceAll(at, "*", name))
	}
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
func randomSite(seed uint64) (e *engine.Engine, visits []string, err error) {
	w := &writer{Rand: rand.New(rand.NewPCG(seed, 21)), files: map[string]string{}}
	w.free = []string{"vessels", "preise", "angebote", "archive", "shop", "service", "info", "staff", "forms", "media-old", "kontakt", "blog", "hafen", "tickets", "galleries", "forum", "events", "partners"}
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
		return nil, nil, fmt.Errorf("%w\n%s", err, text)
	}
	return engine.New(book, []*site.Tree{site.Memory(w.files)}), w.visits, nil
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
	feeds, numbered, away, dated := w.old(), w.old(), w.old(), w.old()
	w.visited("/"+feeds+"/*.xml", pages[a]...)
	w.visited("/"+feeds+"/*.rss", pages[a]...)
	w.visited("/"+numbered+"/#-*", pages[b]...)
	w.visited("/"+away+"/*/view?id=#", pages[c]...)
	w.visited("/"+away+"/*", pages[a]...)
	w.visited("/"+dated+"/2019/*", pages[a]...)
	w.visited("/"+dated+"/2021/*", pages[a]...)
	w.visited("/"+a+"/*.html?print=1", pages[a]...)
	w.visited("/"+b+"/*.html?print=1", pages[b]...)
	posts := w.old()
	w.visited("/#/#/#/*", pages[c]...)
	w.visited("/"+posts+".php?kind="+b+"&page=*", pages[b]...)
	w.visited("/"+posts+".php?kind="+c+"&page=*", pages[c]...)
	for _, s := range chosen {
		w.visits = append(w.visits, "/"+s+"/index.html", "/"+strings.ToUpper(s)+"/", "/"+s+"/"+strings.ToUpper(w.pick(pageNames...))+".html")
	}
	error404 := "error missing for 404 show /404.html"
	if w.IntN(3) == 0 {
		w.files["/404.html"] = "<p>There is no {path} here.</p>" + w.files["/404.html"]
		error404 += " fill on"
	}
	return []string{
		fmt.Sprintf("redirect moved in /%s/ to /%s/{below} as %s", w.old(), a, w.pick("permanent", "temporary", "308")),
		fmt.Sprintf("redirect extension on /%[1]s/:page.%[2]s to /%[1]s/{page}.html as permanent", b, w.pick("php", "htm", "asp")),
		fmt.Sprintf("redirect renamed on /%s/:page.htm to /%s/{page}.html as permanent", w.old(), c),
		fmt.Sprintf("redirect dated on /%s/:year(\\d{4})/:page to /%s/{page}.html as permanent", dated, a),
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
		fmt.Sprintf("rewrite clean on /%[1]s/:page when file missing to /%[1]s/{page}.html then finish", a),
		fmt.Sprintf("redirect slash on /%[1]s/:page/ to /%[1]s/{page} as permanent", b),
		fmt.Sprintf("redirect bare on /%s to /%s/ as permanent", w.old(), c),
		fmt.Sprintf("redirect away in /%s/ to https://shop.example/{below} as temporary", away),
		fmt.Sprintf("redirect feed on /%s/:page.(xml|rss) to /%s/ as permanent", feeds, a),
		fmt.Sprintf("redirect numbered on /%s/:id(\\d+)-:page to /%s/{page}.html as permanent", numbered, b),
		"redirect print when query.print 1 to {path} as temporary query drop",
		"header open in /pictures/ set Access-Control-Allow-Origin *",
		"header styles on ~.*\\.css set Cache-Control \"max-age=600\"",
		fmt.Sprintf("reply closed in /%s/ with 503", w.old()),
		fmt.Sprintf("redirect permalink on /:year(\\d+)/:month(\\d+)/:day(\\d+)/:page to /%s/{page}.html as permanent", c),
		fmt.Sprintf("redirect two on /%s.php when query.kind ~(?<kind>[a-z]+) when query.page ~(?<page>[a-z]+) to /{kind}/{page}.html as permanent query drop", posts),
		"redirect index on /:rest((?:.*/)?)index.html to /{rest} as permanent",
		"redirect small on /:rest(.*[A-Z].*) to /{rest|lower} as permanent",
		fmt.Sprintf("redirect lower on /%s/:page to /%s/{page|lower} as permanent", strings.ToUpper(a), a),
	}
}
