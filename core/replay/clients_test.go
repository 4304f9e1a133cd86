package replay

import (
	"fmt"
	"math/rand"
	"net/netip"
	"strconv"
	"strings"
	"testing"

	"kibitz/core/engine"
	"kibitz/core/request/list"
	"kibitz/core/rulebook"
	"kibitz/core/site"
)

// A client is classed by its text alone; what holds for the class must hold for the
// address. Runs of classes begin and end where networks do.
func TestClientsAreReadQuickly(t *testing.T) {
	r := rand.New(rand.NewSource(11))
	pick := func(list ...string) string { return list[r.Intn(len(list))] }
	networks := "10.0.0.0/8 192.0.2.128/25 2001:db8::/32 ::ffff:198.51.100.0/120 10.1.2.3 10.1.2.0/24 255.255.255.0/24"
	rulebooks := []string{
		"access a when client " + networks + " refuse\n",
		"access a when client " + networks + " refuse\naccess b when client 0.0.0.0/0 refuse 404\n",
		"access a unless client " + networks + " refuse\naccess b when client absent refuse\n",
		"access a when client ::/0 refuse\naccess b when client ::1 fe80::/10 refuse\n",
	}
	wide := "access a when client"
	for i := range 1200 { // which begin in more ways than are looked up at once
		wide += fmt.Sprintf(" %d.%d.1.0/24", 20+i/200, i%200)
	}
	rulebooks = append(rulebooks, wide+" refuse\n")
	for range 40 { // networks inside and beside each other
		rules := ""
		for i := range 1 + r.Intn(12) {
			var values []string
			for range 1 + r.Intn(3) {
				n := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(r.Intn(2)), byte(r.Intn(3)), byte(r.Intn(256))}), r.Intn(33))
				if r.Intn(4) == 0 {
					n = netip.PrefixFrom(netip.AddrFrom16([16]byte{0x20, 1, byte(r.Intn(2)), 15: byte(r.Intn(256))}), r.Intn(129))
				}
				values = append(values, n.Masked().String())
			}
			rules += fmt.Sprintf("access e%d %s client %s refuse\n", i, pick("when", "unless"), strings.Join(values, " "))
		}
		rulebooks = append(rulebooks, rules)
	}
	for _, rules := range rulebooks {
		e := bookOf(t, rules)
		runs := runsOf(e.Inputs("s.example").Clients)
		read := newClientReader(runs)
		texts := []string{"", "-", "1.2.3", "1.2.3.", "1.2.3.4.", "1..2.3", "1.2.3.4.5", "01.2.3.4", "1.2.3.04", "1.2.3.256", "256.1.1.1", "1000.2.3.4", "10000.2.3.4", "1.10000.3.4", "100000.2.3.4", "12345678.1.1.1", "123456789", "é.1.1.1", "1.2.3.\xff", "/.1.2.3", "1./.2.3", "a.b.c.d", "1.2.3.4a", "1.2.3.4", "1.2.example", "::", "::1", "::ffff:10.1.2.3", "10.1.2.3/8", "localhost.example", "fe80::1%eth0", "fe80::1", "2001:db8::%1"}
		for range 400 {
			text := ""
			for i := range 4 {
				text += pick(pick("10", "192", "255", "203", "0"), pick("0", "1", "255", "01", "51"), pick("2", "255", "100", "113", "x"), fmt.Sprint(r.Intn(300)))
				if i < 3 {
					text += "."
				}
			}
			texts = append(texts, text)
		}
		for _, rule := range e.Book.Rules { // the addresses at the ends
			for _, v := range rule.Tests[0].Values {
				if v.Kind == rulebook.ValueNetwork {
					for _, at := range []netip.Addr{v.Network.Addr().Prev(), v.Network.Addr(), rulebook.LastOf(v.Network), rulebook.LastOf(v.Network).Next()} {
						texts = append(texts, at.String())
						if numbers := strings.Split(at.String(), "."); len(numbers) == 4 { // what begins like it and is none
							begins, c, d := numbers[0]+"."+numbers[1]+".", numbers[2], numbers[3]
							long, _ := strconv.Atoi(d)
							texts = append(texts, begins+c, begins+c+".", begins+c+".."+d, begins+"."+d, begins+c+"."+d+".1", begins+c+".0"+d, begins+c+"."+strconv.Itoa(1<<32+long), begins+"257."+d, begins+c+"."+d+"x", c+"."+d)
						}
					}
				}
			}
		}
		for _, text := range texts {
			client, _ := netip.ParseAddr(text)
			var got [1]engine.Class
			read.classes([]list.Line{*lineOf(text)}, got[:])
			if want := runs.of(client.Unmap()); got[0] != want {
				t.Errorf("%s: %q has class %d, and its address %d", rules, text, got[0].ID, want.ID)
			}
		}
	}
}

// The runs of several sites end where one of any of them does.
func TestRunsOfSeveralSites(t *testing.T) {
	var sites []*engine.ClientClasses
	for i, rules := range []string{"access a when client 10.0.0.0/8 2001:db8::/32 refuse", "access a when client 10.1.0.0/16 192.0.2.0/24 refuse", "access a unless client 10.1.2.3 absent refuse"} {
		in := bookOf(t, rules).Inputs("s.example")
		in.Clients[0].Base = i == 0
		sites = append(sites, in.Clients[0])
	}
	runs := runsOf(sites)
	classes := map[string]uint32{}
	for _, text := range []string{"", "9.255.255.255", "10.0.0.0", "10.0.255.255", "10.1.0.0", "10.1.2.2", "10.1.2.3", "10.1.2.4", "10.2.0.0", "11.0.0.0", "192.0.1.255", "192.0.2.0", "192.0.3.0", "::1", "2001:db8::", "2001:db9::"} {
		client, _ := netip.ParseAddr(text)
		each := ""
		for _, s := range sites {
			each += fmt.Sprint(runsOf([]*engine.ClientClasses{s}).of(client).ID, " ")
		}
		got := runs.of(client).ID
		if known, ok := classes[each]; ok && known != got {
			t.Errorf("%q has class %d, and another of the same classes %d", text, got, known)
		}
		for other, id := range classes {
			if id == got && other != each {
				t.Errorf("%q has class %d, as one has that is of others", text, got)
			}
		}
		classes[each] = got
	}
}

// lineOf gives a line of a log that names a client.
func lineOf(client string) *list.Line {
	l := &list.Line{}
	if client == "" {
		return l
	}
	if err := list.ParseLog([]byte(client+` - - [10/Oct/2026:13:55:36 +0000] "GET / HTTP/1.1" 200 5`), l); err != nil {
		panic(err)
	}
	return l
}

// The last numbers of an address are read without a loop: they are what netip reads, and
// nothing else is.
func TestLastNumbers(t *testing.T) {
	read := func(text string) {
		low, ok := lastNumbers(lineOf("192.0."+text).ClientWord(6), len(text))
		a, err := netip.ParseAddr("192.0." + text)
		want := err == nil && a.Is4()
		if ok != want || ok && low != number4(a)&0xffff {
			t.Fatalf("%q: %d, %v; want %v, %v", text, low, ok, a, want)
		}
		if about := aboutNumbers(lineOf("192.0." + text).ClientWord(6)); ok && about != low {
			t.Fatalf("%q: about %d", text, about)
		}
	}
	for a := range 300 {
		for b := range 300 {
			read(fmt.Sprint(a, ".", b))
		}
	}
	for _, text := range []string{"", ".", "1", "1.", ".1", "1..2", "1.2.3", "01.2", "1.02", "00.0", "1234.5", "1.1234", "255.2555"} {
		read(text)
	}
	for c := range 256 {
		for i := range "12.34" {
			read("12.34"[:i] + string([]byte{byte(c)}) + "12.34"[i+1:])
			read("12.34"[:i] + string([]byte{byte(c)}) + "12.34"[i:])
		}
	}
}

// Classes of clients from the text of a line, and by way of a parsed address.
func BenchmarkClients(b *testing.B) {
	var rules strings.Builder
	for i := range 500 {
		fmt.Fprintf(&rules, "access c%d when client 10.%d.%d.0/28 refuse\n", i, i/256, i%256)
	}
	book, err := rulebook.Read("t.kibitz", []byte("site s address https://s.example\n"+rules.String()), nil)
	if err != nil {
		b.Fatal(err)
	}
	runs := runsOf(engine.New(book, []*site.Tree{nil}).Inputs("s.example").Clients)
	r := rand.New(rand.NewSource(1))
	lines, out := make([]list.Line, together), make([]engine.Class, together)
	for i := range lines {
		lines[i] = *lineOf(fmt.Sprintf("%d.%d.%d.%d", []int{10, 192, 203}[r.Intn(3)], r.Intn(256), r.Intn(256), r.Intn(256)))
	}
	b.Run("text", func(b *testing.B) {
		read := newClientReader(runs)
		for b.Loop() {
			read.classes(lines, out)
		}
	})
	b.Run("parsed", func(b *testing.B) {
		for b.Loop() {
			for i := range lines {
				out[i] = runs.of(lines[i].ClientAddr().Unmap())
			}
		}
	})
}
