// Package demo is the example site: Saltmarsh Ferries, an invented ferry line
// among invented islands. The site's pages, pictures and tables are made here;
// its rulebook, tables and request lists are the files beside this one.
package demo

import (
	"bytes"
	"embed"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"math/rand"
	"path"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"
)

//go:embed files
var files embed.FS

// Modified is the time of change of every file of the example.
var Modified = time.Date(2026, 3, 1, 6, 0, 0, 0, time.UTC)

// Faults are what the rulebook as it was, before.kibitz, says otherwise than
// the mended one: a text of site.kibitz, and its older form.
var Faults = [][2]string{
	// It lacks its condition: https is sent to https. And it is not needed at all.
	{"redirect secure ", "redirect crew-secure in /crew/                                    to https://{host}{path}                       as permanent\nredirect secure "},
	// The folder is called offers.
	{"to /offers/summer/ ", "to /offer/summer/  "},
	// The page has another name.
	{"show /errors/not-found.html  fill on", "show /errors/404.html"},
	// Without its slash the target is a second redirect.
	{"to /timetables/{season}/ ", "to /timetables/{season}  "},
	// Nothing was compressed yet.
	{"compress text ", "# compress text "},
}

// StandIn are the differences of standin.kibitz, by which a stand-in for the real
// server answers: where that is set up otherwise than the rulebook says.
var StandIn = [][2]string{
	// It redirects for now, where the rulebook says for good.
	{"to /fares/                              as permanent", "to /fares/                              as temporary"},
	// It shows no page of its own for what is missing.
	{"error not-found    for 404 ", "# error not-found    for 404 "},
	// Whatever is missing below /boats/ is answered with the home page.
	{"to {path}.html", "to {path}.html /index.html"},
}

// Next are the differences of next.kibitz, a plan for next year: the fares move
// back to their old address.
var Next = [][2]string{
	{"redirect old-fares   on /prices{/}? /fares.php                      to /fares/                              as permanent",
		"redirect new-prices  on /fares{/}?                                  to /prices/                             as permanent\n" +
			"rewrite  prices      on /prices/                                    to /fares/index.html                    then finish"},
}

// NewPages are the differences of newpages.kibitz, the rulebook with pages of a designer who
// did not know the site well, and with a policy.
var NewPages = [][2]string{
	{"files   public", "files   newpages"},
	{"\nlimit sizes ", "\nheader policy  set Content-Security-Policy \"script-src 'self'; object-src 'none'\"\n\nlimit sizes "},
}

// PageFaults are what the designer's pages say otherwise than those of the site: a file, a
// text of it, and what stands there in its place.
var PageFaults = [][3]string{
	// A page of the old site, and a folder without its slash: both are redirected.
	{"/index.html", `<a href="/fares/">Fares</a> <a href="/planner/">`, `<a href="/fares.php">Fares</a> <a href="/planner/">`},
	{"/timetables/index.html", `<a href="winter/">`, `<a href="winter">`},
	// A slip, a capital letter, and a part of a page that has another name.
	{"/timetables/index.html", `<a href="summer/">`, `<a href="sumer/">`},
	{"/boats/index.html", "<p>Three boats sail for Saltmarsh.</p>", `<p>Three boats sail for Saltmarsh: the newest is <a href="/Boats/Avocet.html">Avocet</a>.</p>`},
	{"/accessibility/index.html", "the crew will help.", `the crew will help. <a href="/contact/#lost">Lost something?</a>`},
	// The planner's entry answers whatever is asked for below it with its page.
	{"/planner/index.html", `<output>`, `<link rel="stylesheet" href="/planner/planer.css"><output>`},
	// Something from another site, in clear.
	{"/live/index.html", "lets it.</p>", `lets it.</p><script src="http://tides.example/clock.js"></script>`},
	// A short address in place of the page's own.
	{"/offers/summer/index.html", "<header>", "<link rel=\"canonical\" href=\"https://saltmarsh-ferries.example/summer\">\n<header>"},
	// A script in the page, which the policy does not let run.
	{"/notices/index.html", "for how long.</p>", "for how long.</p>\n<script>document.title += ' of today'</script>"},
	{"/robots.txt", "Disallow: /crew/\n", "Disallow: /crew/\nSitemap: https://saltmarsh-ferries.example/sitemap.xml\n"},
}

// sitemap lists a page that has moved.
const sitemap = `<?xml version="1.0" encoding="utf-8"?>
<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">
<url><loc>https://saltmarsh-ferries.example/</loc></url>
<url><loc>https://saltmarsh-ferries.example/fares/</loc></url>
<url><loc>https://saltmarsh-ferries.example/tides.html</loc></url>
</urlset>
`

// newPages makes the tree of the designer's pages.
func newPages() map[string]string {
	out := public()
	for _, f := range PageFaults {
		out[f[0]] = strings.Replace(out[f[0]], f[1], f[2], 1)
	}
	out["/sitemap.xml"] = sitemap
	return out
}

// changed gives a text with others in the place of some of its parts.
func changed(text string, changes [][2]string) string {
	for _, c := range changes {
		text = strings.Replace(text, c[0], c[1], 1)
	}
	return text
}

// Files gives the files of the example, by name.
func Files() map[string][]byte {
	out := map[string][]byte{}
	entries, err := files.ReadDir("files")
	if err != nil {
		panic(err) // the files are part of the program
	}
	for _, e := range entries {
		text, err := files.ReadFile("files/" + e.Name())
		if err != nil {
			panic(err)
		}
		out[e.Name()] = text
	}
	site := string(out["site.kibitz"])
	out["standin.kibitz"] = []byte(changed(site, StandIn))
	out["next.kibitz"] = []byte(changed(site, Next))
	out["newpages.kibitz"] = []byte(changed(site, NewPages))
	before := changed(site, Faults)
	before = strings.Replace(before, "as rebuilt in the spring of 2026.", "as it was before the repair.", 1)
	out["before.kibitz"] = []byte(before)
	out["days.log"] = days()
	out["browser.txt"] = browser()
	for name, text := range public() {
		out["public"+name] = []byte(text)
	}
	for name, text := range newPages() {
		out["newpages"+name] = []byte(text)
	}
	return out
}

type island struct{ code, name, story string }

var islands = []island{
	{"TE", "Ternholm", "A lighthouse, two farms and a very long beach. The ferry calls six times a day."},
	{"EI", "Eider Skerry", "Bird wardens live here from April to August, and nobody else does."},
	{"GU", "Gullness", "The fish market opens when the first boat is in. Bring cash."},
	{"WH", "Whimbrel", "Salt pans, windmills, and the island's one bus, which meets every ferry."},
	{"SA", "Sandling", "The old harbour town. Boats to the outer islands leave from the east pier."},
}

var boats = []struct{ name, story string }{
	{"Kittiwake", "Takes 180 passengers and 24 cars, and has a café that is open when the sea is calm."},
	{"Sandpiper", "The small one: 60 passengers, bicycles on the foredeck."},
	{"Avocet", "Built for ice, used for freight, loved by photographers."},
}

// public makes the tree of the site.
func public() map[string]string {
	out := map[string]string{
		"/robots.txt":               "User-agent: *\nDisallow: /crew/\n",
		"/site.webmanifest":         `{"name": "Saltmarsh Ferries", "start_url": "/", "display": "standalone"}` + "\n",
		"/.well-known/security.txt": "Contact: mailto:harbour@saltmarsh-ferries.example\nExpires: 2027-01-01T00:00:00Z\n",
		"/styles/site.css":          styles(),
		"/styles/print.css":         "nav, footer { display: none }\nbody { font: 11pt/1.4 serif }\n",
		"/scripts/menu.js":          "document.querySelector('nav button')?.addEventListener('click', event => {\n  event.target.closest('nav').classList.toggle('open');\n});\n",
		"/scripts/tides.js":         tideScript(),
		"/planner/planner.js":       "const stops = ['sandling', 'ternholm', 'gullness', 'whimbrel'];\nconst [, , from, to] = location.pathname.split('/');\ndocument.querySelector('output').textContent = stops.includes(from) && stops.includes(to) ? `${from} to ${to}: 40 minutes` : 'Choose two harbours.';\n",
		"/planner/planner.css":      "output { display: block; padding: 1rem; border: 1px solid #265d7a }\n",
		"/images/logo.svg":          logo(),
		"/images/map.svg":           chart(),
		"/downloads/timetable-2026.txt": "Saltmarsh Ferries 2026\n\nSandling     06:10  08:10  10:10  12:10  15:10  18:10\n" +
			"Ternholm     06:50  08:50  10:50  12:50  15:50  18:50\nGullness     07:20  09:20  11:20  13:20  16:20  19:20\n",
		"/downloads/sailings.ics": "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Saltmarsh Ferries//Sailings//EN\r\nEND:VCALENDAR\r\n",
	}
	add := func(name, title, body string) { out[name] = page(title, body) }
	add("/index.html", "Saltmarsh Ferries", "<p>Five islands, three boats, one tide at a time.</p><p><a href=\"/timetables/\">Timetables</a> <a href=\"/fares/\">Fares</a> <a href=\"/planner/\">Plan a crossing</a></p>")
	add("/de/index.html", "Saltmarsh-Fähren", "<p>Fünf Inseln, drei Schiffe, und immer nur eine Tide.</p>")
	add("/fares/index.html", "Fares", "<table><tr><td>Adult</td><td>8.40</td></tr><tr><td>Child</td><td>4.20</td></tr><tr><td>Bicycle</td><td>2.00</td></tr></table>")
	add("/fares/concessions.html", "Concessions", "<p>Islanders travel at half the fare with their card.</p>")
	add("/contact/index.html", "Contact", "<p>Harbour office, East Pier, Sandling.</p><h2 id=\"lost-property\">Lost property</h2><p>Ask on the boat first.</p><h2 id=\"jobs\">Jobs</h2><p>A deckhand is wanted from May.</p>")
	add("/accessibility/index.html", "Accessibility", "<p>Kittiwake and Avocet have a lift; on Sandpiper the crew will help.</p>")
	add("/conditions/index.html", "Conditions of carriage", strings.Repeat("<p>A ticket is good for the crossing that it names, and for the next one if that does not sail.</p>\n", 12))
	add("/timetables/index.html", "Timetables", "<p><a href=\"winter/\">Winter</a> <a href=\"spring/\">Spring</a> <a href=\"summer/\">Summer</a></p>")
	for _, season := range []string{"winter", "spring", "summer"} {
		add("/timetables/"+season+"/index.html", "The "+season+" timetable", timetable(season))
	}
	add("/offers/index.html", "Offers", "<p>At present: <a href=\"summer/\">the summer pass</a>.</p>")
	add("/offers/summer/index.html", "The summer pass", "<p>All five islands, as often as you like, from June to August.</p>")
	add("/islands/index.html", "The islands", "<p>Pick an island, then a boat.</p>")
	for _, i := range islands {
		add("/islands/"+strings.ToLower(strings.ReplaceAll(i.name, " ", "-"))+"/index.html", i.name, "<p>"+i.story+"</p>")
	}
	add("/boats/index.html", "The boats", "<p>Three boats sail for Saltmarsh.</p>")
	for n, b := range boats {
		name := strings.ToLower(b.name)
		add("/boats/"+name+".html", b.name, "<p>"+b.story+"</p><img src=\"/images/"+name+".png\" alt=\"\">")
		out["/images/"+name+".png"] = sea(float64(n + 1))
	}
	add("/routes/index.html", "Routes", "<p>TE, GU and WH sail all year.</p>")
	add("/routes/show.html", "A route", "<p>Which route it is stands in the query.</p>")
	for date, what := range map[string]string{"2026-01-09-ice": "Ice in the east channel", "2026-02-14-storm": "Storm: no sailings", "2026-02-20-dock": "Avocet is in dock", "2026-03-01-spring": "The spring timetable is out"} {
		add("/notices/"+date+".html", what, "<p>"+what+". We are sorry for the wait.</p>")
	}
	add("/notices/index.html", "Notices", "<p>What has changed, and for how long.</p>")
	add("/live/index.html", "Live departures", "<p>The next boat leaves when the tide lets it.</p>")
	add("/planner/index.html", "Plan a crossing", "<output></output><script src=\"/planner/planner.js\"></script>")
	add("/crew/index.html", "Crew", "<p><a href=\"rota.html\">Rota</a> <a href=\"handbook.html\">Handbook</a></p>")
	add("/crew/rota.html", "Rota", "<p>Kittiwake: Ada, Bram, Cleo. Sandpiper: Dov. Avocet: Edda, Finn.</p>")
	add("/crew/handbook.html", "Handbook", "<p>Check the life jackets first.</p>")
	add("/errors/not-found.html", "Not found", "<p>There is nothing at <code>{path}</code>. Perhaps it sailed to <a href=\"/\">another page</a>.</p>")
	add("/errors/not-allowed.html", "For the crew", "<p>This part of the site is for the crew.</p>")
	add("/errors/gone.html", "Gone", "<p>This route no longer sails.</p>")
	add("/errors/closed.html", "Closed for weather", "<p>No sailings until the storm has passed.</p>")
	add("/errors/broken.html", "Out of order", "<p>Something has broken. The engineers know.</p>")
	for month := 1; month <= 6; month++ {
		out[fmt.Sprintf("/tide-tables/2026-%02d.csv", month)] = tides(month)
	}
	out["/styles/site.css.gz"] = squeezed(out["/styles/site.css"])
	out["/scripts/tides.js.gz"] = squeezed(out["/scripts/tides.js"])
	return out
}

// browser is what a browser fetches on a first visit, as it asks for it.
func browser() []byte {
	var b strings.Builder
	b.WriteString("# A first visit, as a browser asks for its parts.\n")
	for _, path := range []string{"/", "/styles/site.css", "/scripts/menu.js", "/images/logo.svg", "/timetables/summer/", "/conditions/", "/scripts/tides.js", "/tide-tables/2026-06.csv", "/images/map.svg", "/boats/kittiwake.html", "/images/kittiwake.png"} {
		fmt.Fprintf(&b, "%s\n    Accept-Encoding: gzip, deflate, br, zstd\n", path)
	}
	return []byte(b.String())
}

// days is an access log of the three days before the rebuilt site went up: what the old
// server answered to visitors, to robots, to those who follow links on other pages, and to a
// program that looks for ways in.
func days() []byte {
	r := rand.New(rand.NewSource(26))
	type asked struct {
		target   string
		status   int
		referrer string
		weight   int
	}
	const here, guide = "https://saltmarsh-ferries.example", "https://island-hopping.example/guide"
	var all []asked
	add := func(weight, status int, referrer string, targets ...string) {
		for _, t := range targets {
			all = append(all, asked{t, status, referrer, weight})
		}
	}
	add(30, 200, "-", "/", "/index.php")
	add(16, 200, here+"/", "/timetable/winter.php", "/timetable/spring.php", "/fares.php", "/boat.php?name=kittiwake", "/boat.php?name=avocet", "/Islands/Ternholm.htm")
	add(8, 200, here+"/", "/styles/site.css", "/images/logo.svg", "/contact.php", "/page?id=3", "/page?id=7", "/tides.html", "/news/2026/02/14-storm", "/planner/ternholm/gullness")
	add(6, 200, guide, "/Islands/Ternholm.htm", "/timetable/summer.php")
	add(5, 404, here+"/boats/", "/boats/kitiwake.html")
	add(4, 404, here+"/fares/", "/fares/concesions.html")
	add(4, 404, guide, "/Islands/Gullnes.htm")
	add(3, 404, "https://harbour-cam.example/", "/webcam.php")
	add(3, 200, "-", "/boats/", "/fares/", "/notices/", "/islands/sandling/", "/summer", "/crew/rota.html", "/robots.txt")
	add(2, 404, "-", "/apple-touch-icon.png")
	var wheel []asked
	for _, a := range all {
		for range a.weight {
			wheel = append(wheel, a)
		}
	}
	agents := []string{"Mozilla/5.0 (X11; Linux x86_64) Gecko/20100101 Firefox/140.0", "Mozilla/5.0 (iPhone; CPU iPhone OS 18_1 like Mac OS X) Safari/604.1", "TideReader/2.1 (+https://tides.example/bot)", "PageHoover/2.1"}
	var b strings.Builder
	start := time.Date(2026, 2, 26, 0, 0, 0, 0, time.UTC)
	stamp := func(at time.Time) string { return at.Format("02/Jan/2006:15:04:05 -0700") }
	line := func(client string, at time.Time, request string, status, size int, referrer, agent string) {
		fmt.Fprintf(&b, "%s - - [%s] \"%s\" %d %d \"%s\" \"%s\"\n", client, stamp(at), request, status, size, referrer, agent)
	}
	// On the second day somebody looks for what was left lying about.
	probes := []string{"/.env", "/backup.sql", "/admin/login.php", "/.git/config", "/index.php?page=../../etc/passwd", "/search?q=<script>alert(1)</script>", "/site.zip", "/config.php.bak"}
	at := start
	for n := range 1800 {
		// Visitors come by day: a minute of the night is longer.
		pause := 30 + r.Intn(110)
		if h := at.Hour(); h < 6 || h > 21 {
			pause *= 4
		}
		at = at.Add(time.Duration(pause) * time.Second)
		if n%600 == 599 {
			line(fmt.Sprintf("203.0.113.%d", r.Intn(250)), at, `\x16\x03\x01\x02`, 400, 0, "-", "-")
			continue
		}
		if hour := at.Sub(start).Hours(); hour > 38 && hour < 39.5 && n%2 == 0 {
			line("198.51.100.66", at, "GET "+probes[r.Intn(len(probes))]+" HTTP/1.1", 404, 162, "<script>alert(1)</script>", "ScanAll/0.9 (<b>)")
			continue
		}
		a, method := wheel[r.Intn(len(wheel))], "GET"
		if r.Intn(30) == 0 {
			method = "HEAD"
		}
		line(fmt.Sprintf("203.0.113.%d", r.Intn(250)), at, method+" "+a.target+" HTTP/1.1", a.status, 200+r.Intn(9000), a.referrer, agents[max(0, r.Intn(24)-20)])
	}
	return []byte(b.String())
}

func page(title, body string) string {
	return `<!DOCTYPE html>
<html lang="en">
<meta charset="utf-8">
<meta name="viewport" content="width=device-width">
<title>` + title + `</title>
<link rel="stylesheet" href="/styles/site.css">
<link rel="icon" href="/images/logo.svg">
<header><a href="/"><img src="/images/logo.svg" alt="Saltmarsh Ferries" width="48"></a></header>
<nav><button>Menu</button><a href="/timetables/">Timetables</a><a href="/fares/">Fares</a><a href="/islands/">Islands</a><a href="/boats/">Boats</a><a href="/notices/">Notices</a></nav>
<main>
<h1>` + title + `</h1>
` + body + `
</main>
<footer><a href="/contact/">Contact</a> <a href="/accessibility/">Accessibility</a> <a href="/conditions/">Conditions</a></footer>
<script src="/scripts/menu.js"></script>
</html>
`
}

func timetable(season string) string {
	first := map[string]int{"winter": 7, "spring": 6, "summer": 5}[season]
	var b strings.Builder
	b.WriteString("<table>\n<tr><th>Harbour")
	for n := range 8 {
		fmt.Fprintf(&b, "<th>Boat %d", n+1)
	}
	for i, is := range islands {
		fmt.Fprintf(&b, "\n<tr><td>%s", is.name)
		for n := range 8 {
			minutes := (first+2*n)*60 + 10 + 35*i
			fmt.Fprintf(&b, "<td>%02d:%02d", minutes/60%24, minutes%60)
		}
	}
	b.WriteString("\n</table>\n<p>Boats do not wait for trains, but they do wait for each other.</p>")
	return b.String()
}

func styles() string {
	var b strings.Builder
	b.WriteString(":root { --sea: #265d7a; --sand: #f3ead8; --ink: #1d2930 }\nbody { margin: 0 auto; max-width: 60rem; padding: 1rem; background: var(--sand); color: var(--ink); font: 18px/1.5 system-ui, sans-serif }\nh1 { color: var(--sea) }\ntable { border-collapse: collapse; width: 100% }\ntd, th { padding: .3rem .6rem; border-bottom: 1px solid var(--sea); text-align: left }\nnav a { margin-right: 1rem }\nnav button { display: none }\nfooter { margin-top: 3rem; font-size: .8rem }\n")
	for n := 1; n <= 12; n++ {
		fmt.Fprintf(&b, ".column-%d { flex: 0 0 calc(100%% / 12 * %d); max-width: calc(100%% / 12 * %d); padding: 0 .5rem }\n", n, n, n)
	}
	return b.String()
}

func tideScript() string {
	var b strings.Builder
	b.WriteString("// Heights of the tide at Sandling, in centimetres, by the half hour of the lunar day.\nexport const heights = [\n")
	for n := range 50 {
		fmt.Fprintf(&b, "  { halfHour: %d, height: %.1f },\n", n, 180+150*math.Sin(float64(n)*math.Pi/12.42))
	}
	b.WriteString("];\n")
	return b.String()
}

func tides(month int) string {
	var b strings.Builder
	b.WriteString("date,high water,height (m),low water,height (m)\n")
	day := time.Date(2026, time.Month(month), 1, 0, 0, 0, 0, time.UTC)
	for ; day.Month() == time.Month(month); day = day.AddDate(0, 0, 1) {
		high := day.YearDay() * 50 % 745
		low := (high + 372) % 1440
		swing := 0.6 * math.Cos(float64(day.YearDay())*2*math.Pi/14.77)
		fmt.Fprintf(&b, "%s,%02d:%02d,%.2f,%02d:%02d,%.2f\n", day.Format(time.DateOnly), high/60, high%60, 3.2+swing, low/60, low%60, 0.9-swing/2)
	}
	return b.String()
}

func logo() string {
	return `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 48 48"><circle cx="24" cy="24" r="23" fill="#265d7a"/><path d="M8 28h32l-5 8H13z" fill="#f3ead8"/><path d="M18 14h10v12H18z" fill="#d9743f"/></svg>` + "\n"
}

func chart() string {
	var b strings.Builder
	b.WriteString(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 400 240"><rect width="400" height="240" fill="#cfe3ec"/>`)
	for n, i := range islands {
		x, y := 60+70*n, 80+60*(n%2)
		fmt.Fprintf(&b, `<ellipse cx="%d" cy="%d" rx="28" ry="16" fill="#e7d9b4"/><text x="%d" y="%d" font-size="11">%s</text>`, x, y, x-24, y+34, i.name)
	}
	b.WriteString("</svg>\n")
	return b.String()
}

// sea paints a boat's picture: waves under an evening sky.
func sea(phase float64) string {
	img := image.NewRGBA(image.Rect(0, 0, 160, 90))
	for x := range 160 {
		level := 55 + 6*math.Sin(float64(x)/14+phase)
		for y := range 90 {
			sky := color.RGBA{uint8(255 - y), uint8(190 - y), 140, 255}
			if float64(y) > level {
				sky = color.RGBA{30, uint8(90 + y/3), uint8(120 + y/2), 255}
			}
			img.Set(x, y, sky)
		}
	}
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		panic(err) // it is written to memory
	}
	return b.String()
}

func squeezed(text string) string {
	var b bytes.Buffer
	w, _ := gzip.NewWriterLevel(&b, gzip.BestCompression)
	w.Write([]byte(text))
	w.Close()
	return b.String()
}

// Folders gives the folders that a set of files needs.
func Folders(files map[string][]byte) []string {
	seen := map[string]bool{}
	var out []string
	for name := range files {
		if dir := path.Dir(name); !seen[dir] {
			seen[dir] = true
			out = append(out, dir)
		}
	}
	return out
}
