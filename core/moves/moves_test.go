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
