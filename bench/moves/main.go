// Command moves measures how well old addresses are matched with the pages of a rebuilt
// site: rebuilds are made, whose truth is known, of the kinds that sites have (extensions,
// folders merged, flattened, deepened, renamed, names shortened, umlauts, numbers to names,
// dates, pages gone).
//
// Run it in the project's own folder.
package main

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"path"
	"slices"
	"strings"
	"time"

	"kibitz/core/canonical"
	"kibitz/core/moves"
	"kibitz/core/site"
)

func main() {
	seeds := flag.Uint64("seeds", 20, "how many rebuilds")
	from := flag.Uint64("from", 1, "the first seed")
	misses := flag.Bool("v", false, "show what is wrong")
	flag.Parse()
	fmt.Println("| | right at first place | sure at 80% or more | right among those | gone told as gone | 5,000 take |\n| --- | ---: | ---: | ---: | ---: | ---: |")
	for _, way := range []struct {
		name  string
		share float64
	}{{"by names and new pages alone", 0}, {"with half of the old pages", 0.5}, {"with the old pages", 1}} {
		sum := tally{}
		for seed := *from; seed < *from+*seeds; seed++ {
			measure(seed, way.share, &sum, *misses)
		}
		perOld := sum.took / time.Duration(max(1, sum.old))
		gone := "-"
		if sum.gone > 0 && way.share == 1 {
			gone = percent(sum.goneTold, sum.gone)
		}
		fmt.Printf("| %s | %s | %s | %s | %s | %.1f s |\n", way.name, percent(sum.right, sum.moved), percent(sum.sure, sum.moved), percent(sum.sureRight, sum.sure), gone, (5000 * perOld).Seconds())
	}
}

type tally struct {
	old, moved, right, sure, sureRight, gone, goneTold int
	took                                               time.Duration
}

func percent(part, whole int) string {
	return fmt.Sprintf("%.1f%%", 100*float64(part)/float64(max(1, whole)))
}

func measure(seed uint64, share float64, sum *tally, misses bool) {
	r := rand.New(rand.NewPCG(seed, 8))
	g := rebuild(r)
	before := map[string]string{}
	for _, old := range g.order {
		if r.Float64() < share {
			at := old
			if strings.HasSuffix(at, "/") { // as it lies in a folder
				at += "index.html"
			}
			before[at] = g.old[old]
		}
	}
	var asked []moves.Old
	for _, old := range g.order {
		asked = append(asked, moves.Old{Path: canonical.Spell(old)})
	}
	var tree *site.Tree
	if share > 0 {
		tree = site.Memory(before)
	}
	start := time.Now()
	found := moves.Find(asked, site.Memory(g.new), tree)
	sum.took += time.Since(start)
	sum.old += len(asked)
	for _, m := range found {
		truth := g.truth[canonical.Decode(m.Path)]
		if strings.HasSuffix(truth, "/index.html") {
			truth = strings.TrimSuffix(truth, "index.html")
		}
		got := canonical.Decode(m.New)
		if truth == "" {
			sum.gone++
			if m.New == "" {
				sum.goneTold++
			} else if misses {
				fmt.Printf("seed %d: %s is gone, told %s %d%% %s\n", seed, m.Path, got, m.Sure, m.Why)
			}
			continue
		}
		sum.moved++
		if got == truth {
			sum.right++
		}
		if m.Sure >= 80 && m.New != "" {
			sum.sure++
			if got == truth {
				sum.sureRight++
			}
		}
		if got != truth && misses {
			fmt.Printf("seed %d: %s moved to %s, told %s %d%% %s\n", seed, m.Path, truth, got, m.Sure, m.Why)
		}
	}
}

// A world is a rebuild.
type world struct {
	old, new map[string]string // content by path
	truth    map[string]string // old to new; "" for gone
	order    []string
}

var nouns = strings.Fields("anchor autumn bakery balcony barley basket beacon bicycle blanket boiler border bottle branch bridge bucket butter cabin candle canal canvas carpet castle cellar chapel cherry chimney cider circle clover coast compass copper corner cotton courtyard cradle crystal curtain dairy desert dinner donkey drawer easter engine falcon feather fence ferry fiddle finger fireplace flower forest fountain furnace gallery garden garlic ginger glacier glove grain granite gravel guitar hammer harbour harvest hazel heather hedge helmet herring honey horizon hostel island jacket jungle kettle kitchen ladder lantern lemon library lighthouse linen lobster locker maple marble market meadow melon mirror monument mountain museum mustard needle nettle notebook nutmeg oyster paddle palace paper parcel parsley pasture pepper pigeon pillow planet pocket pottery powder pumpkin puppet rabbit raven ribbon river rocket saddle sailor salmon sandal saucer school shelter shepherd shovel silver spider spinach station statue stream summer sunset tailor temple thistle thunder ticket timber tower tractor tunnel turnip valley velvet violin walnut weather whistle willow window winter workshop yoghurt")
var german = strings.Fields("bäckerei brücke fähre gärten häfen hügel küche mühle möwe schlösser straße türme wälder größe")
var sections = strings.Fields("news products services about events help projects people places history press shop")

// rebuild makes an old site, and the new one that came of it.
func rebuild(r *rand.Rand) *world {
	w := &world{old: map[string]string{}, new: map[string]string{}, truth: map[string]string{}}
	pick := func(list []string) string { return list[r.IntN(len(list))] }
	extension := pick([]string{".html", ".htm", ".php", ".asp", ""})
	style := r.IntN(6)
	join := pick([]string{"-", "_", "", "-"})
	renamed := map[string]string{}
	for _, s := range sections {
		renamed[s] = s
		if r.IntN(3) == 0 {
			renamed[s] = pick(nouns) + "s"
		}
	}
	if r.IntN(2) == 0 { // two are merged
		renamed[sections[0]] = renamed[sections[1]]
	}
	for range 250 {
		section := pick(sections)
		var words []string
		for range 1 + r.IntN(3) {
			words = append(words, pick(nouns))
		}
		if r.IntN(8) == 0 {
			words[0] = pick(german)
		}
		year, month, number := 2010+r.IntN(15), 1+r.IntN(12), 100+r.IntN(9000)
		text := pageText(r, words)
		plain := strings.NewReplacer("ä", "ae", "ö", "oe", "ü", "ue", "ß", "ss").Replace(strings.Join(words, "-"))
		old := ""
		switch {
		case style == 0: // with a date
			old = fmt.Sprintf("/%s/%d/%02d/%s%s", section, year, month, strings.ReplaceAll(plain, "-", join), extension)
		case style == 1 && r.IntN(3) == 0: // a number alone
			old = fmt.Sprintf("/%s/%d%s", section, number, extension)
		case style == 2: // capitals
			old = "/" + strings.ToUpper(section[:1]) + section[1:]
			for i, x := range strings.Split(plain, "-") {
				if i == 0 {
					old += "/"
				}
				old += strings.ToUpper(x[:1]) + x[1:] + join
			}
			old = strings.TrimSuffix(old, join) + extension
		default:
			old = "/" + section + "/" + strings.ReplaceAll(plain, "-", join) + extension
		}
		if extension == "" {
			old += "/"
		}
		if w.old[old] != "" || w.truth[old] != "" {
			continue
		}
		slug := plain
		if r.IntN(6) == 0 && len(words) > 1 { // shortened
			slug = strings.Join(strings.Split(plain, "-")[:len(words)-1], "-")
		}
		if r.IntN(10) == 0 { // and more words
			slug += "-" + pick(nouns)
		}
		to := ""
		switch style {
		case 0:
			to = fmt.Sprintf("/%s/%d-%02d-%s.html", renamed[section], year, month, slug)
		case 1:
			to = fmt.Sprintf("/%s/%s/index.html", renamed[section], slug)
		case 2:
			to = "/" + strings.ToLower(slug) + "/index.html"
		case 3:
			to = fmt.Sprintf("/en/%s/%s/index.html", renamed[section], slug)
		case 4:
			to = "/" + renamed[section] + "/" + slug + ".html"
		default:
			to = fmt.Sprintf("/%s/%s/%s.html", renamed[section], slug[:1], slug)
		}
		if w.new[to] != "" {
			continue
		}
		w.old[old] = text
		w.order = append(w.order, old)
		if r.IntN(15) == 0 {
			w.truth[old] = ""
			continue
		}
		w.truth[old] = to
		w.new[to] = edited(r, text)
	}
	for range 25 { // pages that are new
		words := []string{pick(nouns), pick(nouns)}
		at := "/" + renamed[pick(sections)] + "/" + strings.Join(words, "-") + ".html"
		if w.new[at] == "" {
			w.new[at] = pageText(r, words)
		}
	}
	slices.Sort(w.order)
	w.order = slices.DeleteFunc(w.order, func(old string) bool { return w.new[path.Clean(old)] != "" })
	return w
}

// pageText is a page about some words, within what all pages of a site have.
func pageText(r *rand.Rand, words []string) string {
	title := ""
	for _, w := range words {
		title += strings.ToUpper(w[:1]) + w[1:] + " "
	}
	var b strings.Builder
	fmt.Fprintf(&b, "<!DOCTYPE html><title>%s- The company</title><nav>Home News Contact</nav><h1>%s</h1><p>", title, title)
	for range 80 + r.IntN(150) {
		if r.IntN(6) == 0 {
			b.WriteString(words[r.IntN(len(words))] + " ")
		} else {
			b.WriteString(nouns[r.IntN(len(nouns))] + " ")
		}
	}
	b.WriteString("<footer>All rights of the company</footer>")
	return b.String()
}

// edited is a page as the new site has it: a few words are others.
func edited(r *rand.Rand, text string) string {
	words := strings.Split(text, " ")
	for range len(words) / 25 {
		if i := r.IntN(len(words)); !strings.ContainsAny(words[i], "<>") {
			words[i] = nouns[r.IntN(len(nouns))]
		}
	}
	return strings.Replace(strings.Join(words, " "), "<nav>Home", "<nav>Start Shop", 1)
}
