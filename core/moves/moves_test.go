package moves

import (
	"fmt"
	"strings"
	"testing"

	"kibitz/core/site"
)

// TestWhereAddressesHaveGone finds the likeliest new address by the names alone: what of the
// old one it shares decides, and nothing is made up where nothing fits.
func TestWhereAddressesHaveGone(t *testing.T) {
	tests := []struct{ files, old, want string }{
		{"/notices/storm-2031.html /notices/storm-2032.html", "/news/storm_2032.php", "/notices/storm-2032.html"},
		{"/boats/avocet.html /boats/tern.html /press/avocet.pdf", "/schiffe/Avocet.htm", "/boats/avocet.html"},
		{"/press/report.pdf /press/report.html", "/archive/report.pdf", "/press/report.pdf"},
		{"/press/map.svg /press/map.zip", "/archive/map.zip", "/press/map.zip"},
		{"/fares/index.html /boats/index.html", "/fares.php", "/fares/"},
		{"/en/harbour/index.html /de/hafen/index.html", "/de/Hafen.html", "/de/hafen/"},
		{"/index.html /fares/index.html", "/index.php", "/"},
		{"/index.html /fares/index.html", "/default.htm", "/"},
		{"/boats/avocet.html", "/zzz/qqq.html", ""},
		{"/models/hull.step /models/hull.stl", "/archive/hull.stl", "/models/hull.stl"},
		{numbered("/berths/berth-%d.html", 40), "/berth/37", "/berths/berth-37.html"},
	}
	for _, test := range tests {
		files := map[string]string{}
		for _, name := range strings.Fields(test.files) {
			files[name] = "x"
		}
		found := Find([]Old{{Path: test.old}}, site.Memory(files), nil)
		if len(found) != 1 || found[0].New != test.want {
			t.Errorf("%s of %s: got %s, want %s", test.old, test.files, fmt.Sprintf("%+v", found), test.want)
		}
	}
}

// numbered gives names with the numbers from 1 to n.
func numbered(form string, n int) string {
	var names []string
	for i := range n {
		names = append(names, fmt.Sprintf(form, i+1))
	}
	return strings.Join(names, " ")
}

// TestWhatHasNoPlaceAnyMore: an old page whose text is known and stands nowhere is gone, the
// surer the less there is that could be meant.
func TestWhatHasNoPlaceAnyMore(t *testing.T) {
	before := site.Memory(map[string]string{"/crew/rota.html": "<title>who sails when</title><p>" + strings.Repeat("who sails when ", 30)})
	now := site.Memory(map[string]string{"/fares/index.html": "<title>what a crossing costs</title><p>what it costs"})
	for _, m := range Find([]Old{{Path: "/crew/rota.html"}}, now, before) {
		if !m.Gone || m.New != "" || m.Sure != 99 {
			t.Errorf("%+v is not gone", m)
		}
	}
	m := newMatcher()
	for share, want := range map[float64]int{0.25: 75, 0.1: 90, 0: 99} {
		q := &question{page: &page{digest: 1}, taken: &candidate{page: &page{address: "/x"}, share: share}}
		if got := m.moveOf(q, true); !got.Gone || got.Sure != want {
			t.Errorf("with %v for another page: %+v, want %d", share, got, want)
		}
	}
}

// TestFoldersSpeakForAndAgainst: a folder of the same name speaks for a page, another one
// against it, and none does neither.
func TestFoldersSpeakForAndAgainst(t *testing.T) {
	m := newMatcher()
	m.add(site.Memory(map[string]string{"/boats/avocet.html": "", "/crew/rota.html": ""}), true)
	m.count()
	score := func(old string) float64 { return m.score(pageOf(old), pageOf("/boats/avocet.html")).score }
	if same, none, other := score("/boats/avocet.htm"), score("/avocet.htm"), score("/crew/avocet.htm"); !(same > none && none > other) {
		t.Errorf("the same folder %.2f, none %.2f, another %.2f", same, none, other)
	}
}
