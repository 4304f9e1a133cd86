package canonical

import (
	"errors"
	"strings"
	"testing"
	"unicode"
)

func TestPath(t *testing.T) {
	bad := map[string]error{"no slash": ErrNoSlash, "percent": ErrPercent, "null": ErrNull, "climbs": ErrClimbs}
	// Spelling, and what it becomes; a word without a slash is an error.
	for _, test := range [][2]string{
		{"/", "/"}, {"/a", "/a"}, {"/a/", "/a/"}, {"/a/b", "/a/b"}, {"/A", "/A"},
		// Bare characters are decoded.
		{"/%61", "/a"}, {"/%41", "/A"}, {"/%7a", "/z"}, {"/%7A", "/z"}, {"/%30", "/0"}, {"/%39", "/9"},
		{"/%2D", "/-"}, {"/%2d", "/-"}, {"/%2E", "/"}, {"/a%2Eb", "/a.b"}, {"/%5F", "/_"}, {"/%7E", "/~"}, {"/%7e", "/~"},
		{"/%21", "/!"}, {"/%24", "/$"}, {"/%26", "/&"}, {"/%27", "/'"}, {"/%28", "/("}, {"/%29", "/)"}, {"/%2A", "/*"},
		{"/%2B", "/+"}, {"/%2C", "/,"}, {"/%3B", "/;"}, {"/%3D", "/="}, {"/%3A", "/:"}, {"/%40", "/@"},
		{"/!$&'()*+,;=:@", "/!$&'()*+,;=:@"}, {"/-._~", "/-._~"},
		// All others are encoded, in capitals.
		{"/a b", "/a%20b"}, {"/a%20b", "/a%20b"}, {"/\"", "/%22"}, {"/<>", "/%3C%3E"}, {"/[x]", "/%5Bx%5D"}, {"/{x}", "/%7Bx%7D"},
		{"/|", "/%7C"}, {"/^", "/%5E"}, {"/`", "/%60"}, {"/\\", "/%5C"}, {"/%5c", "/%5C"}, {"/%5C", "/%5C"}, {"/#", "/%23"}, {"/?", "/%3F"},
		{"/%3f", "/%3F"}, {"/%23", "/%23"}, {"/\x01", "/%01"}, {"/\x7f", "/%7F"}, {"/%7f", "/%7F"}, {"/\t", "/%09"}, {"/%0a", "/%0A"}, {"/%0d%0a", "/%0D%0A"},
		{"/%25", "/%25"}, {"/%2525", "/%2525"}, {"/%252e", "/%252e"}, {"/%252E%252E/", "/%252E%252E/"},
		{"/ä", "/%C3%A4"}, {"/%c3%a4", "/%C3%A4"}, {"/%C3%A4", "/%C3%A4"}, {"/%C3ä", "/%C3%C3%A4"}, {"/日本", "/%E6%97%A5%E6%9C%AC"}, {"/😀", "/%F0%9F%98%80"},
		{"/\xff", "/%FF"}, {"/%ff", "/%FF"}, {"/\xc3", "/%C3"}, {"/%c0%af", "/%C0%AF"}, {"/%e0%80%af", "/%E0%80%AF"}, {"/%c0%ae%c0%ae/", "/%C0%AE%C0%AE/"},
		{"/%2f", "/%2F"}, {"/%2F", "/%2F"}, {"/a%2fb", "/a%2Fb"}, {"/%2F%2f", "/%2F%2F"}, {"/..%2f", "/..%2F"}, {"/%2f..", "/%2F.."}, {"/..%5c..", "/..%5C.."},
		// Dot segments are resolved, also those that were encoded.
		{"/.", "/"}, {"/./", "/"}, {"/a/.", "/a/"}, {"/a/./", "/a/"}, {"/a/./b", "/a/b"}, {"/a/..", "/"}, {"/a/../", "/"}, {"/a/../b", "/b"},
		{"/a/b/..", "/a/"}, {"/a/b/../..", "/"}, {"/a/b/../../c", "/c"}, {"/a/%2e", "/a/"}, {"/a/%2E/b", "/a/b"}, {"/a/%2e%2e", "/"}, {"/a/%2e./b", "/b"}, {"/a/.%2E/b", "/b"},
		{"/a/...", "/a/..."}, {"/...", "/..."}, {"/a..", "/a.."}, {"/..a", "/..a"}, {"/.a", "/.a"}, {"/a.", "/a."}, {"/.well-known/x", "/.well-known/x"}, {"/a/.../b", "/a/.../b"},
		{"/a/b/./../c", "/a/c"}, {"/a/./../b", "/b"}, {"/./a", "/a"}, {"/././.", "/"}, {"/a/b/c/../../..", "/"},
		// An empty segment is a segment; then runs of slashes become one.
		{"//", "/"}, {"///", "/"}, {"//a", "/a"}, {"/a//", "/a/"}, {"/a//b", "/a/b"}, {"/a///b//c", "/a/b/c"}, {"/a//..", "/a/"}, {"/a//../b", "/a/b"}, {"//..", "/"}, {"//../a", "/a"}, {"/a//../../b", "/b"},
		{"/a/.//b", "/a/b"}, {"/.//", "/"}, {"//./", "/"}, {"//.", "/"}, {"//%2e", "/"}, {"/%2e//a", "/a"}, {"//a//b//", "/a/b/"},
		{"//evil.example/x", "/evil.example/x"}, {"/\\evil.example", "/%5Cevil.example"},
		{"/;a=1/b", "/;a=1/b"}, {"/a;jsessionid=1", "/a;jsessionid=1"}, {"/a,b", "/a,b"}, {"/a=b&c=d", "/a=b&c=d"}, {"/:80/", "/:80/"}, {"/@x", "/@x"}, {"/http://x", "/http:/x"}, {"/a:b@c/", "/a:b@c/"},
		{"/index.php/extra", "/index.php/extra"}, {"/a+b", "/a+b"}, {"/a%2Bb", "/a+b"}, {"/%7Euser/", "/~user/"}, {"/%E2%82%AC", "/%E2%82%AC"}, {"/€", "/%E2%82%AC"}, {"/e\u0301", "/e%CC%81"},
		// These have no canonical form.
		{"", "no slash"}, {"a", "no slash"}, {"*", "no slash"}, {"a/b", "no slash"}, {"http://x/", "no slash"}, {"%2F", "no slash"},
		{"/%", "percent"}, {"/%4", "percent"}, {"/%zz", "percent"}, {"/%2", "percent"}, {"/a%", "percent"}, {"/%%41", "percent"}, {"/%u0041", "percent"}, {"/%g0", "percent"}, {"/%0g", "percent"}, {"/% 41", "percent"}, {"/%-1", "percent"}, {"/100%/x", "percent"},
		{"/%00", "null"}, {"/\x00", "null"}, {"/a%00.html", "null"}, {"/%00/..", "null"},
		{"/..", "climbs"}, {"/../", "climbs"}, {"/../a", "climbs"}, {"/a/../..", "climbs"}, {"/%2e%2e/a", "climbs"}, {"/.%2e", "climbs"}, {"/./..", "climbs"}, {"/a/../../b", "climbs"}, {"/../../../etc/passwd", "climbs"},
	} {
		got, err := Path(test[0], false)
		if want := bad[test[1]]; want != nil {
			if !errors.Is(err, want) {
				t.Errorf("%q: %q, %v; want the error %v", test[0], got, err, want)
			}
			continue
		}
		if err != nil || got != test[1] {
			t.Errorf("%q: %q, %v; want %q", test[0], got, err, test[1])
		}
	}
	for raw, want := range map[string]string{"//": "//", "/a//b": "/a//b", "/a//../b": "/a/b", "//a/": "//a/", "/%2e//": "//"} {
		if got, _ := Path(raw, true); got != want {
			t.Errorf("keeping slashes, %q: %q, want %q", raw, got, want)
		}
	}
}

func TestTargetNeverNamesAnotherHost(t *testing.T) {
	for raw, want := range map[string]string{"//evil.example": "/evil.example", "///": "/", "": "/", "a": "/a", "/a b": "/a%20b", "/a//b": "/a/b"} {
		if got, err := Target(raw, false); err != nil || got != want {
			t.Errorf("%q: %q, %v; want %q", raw, got, err, want)
		}
	}
	for _, raw := range []string{"/..", "/a/../b", "/./a", "/a/%2e%2e", "/%", "/%00"} {
		if got, err := Target(raw, false); err == nil {
			t.Errorf("%q: %q, want an error", raw, got)
		}
	}
}

func TestFoldAndMarked(t *testing.T) {
	for a, b := range map[string]string{"/A": "/a", "/%C3%84": "/%C3%A4", "/k": "/%E2%84%AA", "/%CE%A3": "/%CF%82", "/a%2Fb": "/A%2Fb"} {
		if Fold(a) != Fold(b) {
			t.Errorf("%s and %s fold to %s and %s", a, b, Fold(a), Fold(b))
		}
	}
	for path, want := range map[string]string{"/a": "/a", "/%C3%A4": "/%C3%A4", "/%C3": "/%!C3", "/%2F%5C": "/%!2F%!5C", "/%C3%A4%FF%20": "/%C3%A4%!FF%20", "/%E2%82a": "/%!E2%!82a"} {
		if got := Marked(path); got != want || Unmarked(got) != path {
			t.Errorf("%s: %s, want %s", path, got, want)
		}
	}
}

// Two letters fold to the same if they differ in case alone, by Unicode's simple folding.
func TestFoldIsThatOfUnicode(t *testing.T) {
	for r := rune(' '); r < 0x3000; r++ {
		folded := Fold("/" + Spell(string(r)))
		for f := unicode.SimpleFold(r); f != r; f = unicode.SimpleFold(f) {
			if other := Fold("/" + Spell(string(f))); other != folded {
				t.Errorf("%q folds to %s, and %q to %s", r, folded, f, other)
			}
		}
		if low := strings.ToLower(string(r)); r < 0x80 && folded != "/"+strings.ToLower(Spell(low)) {
			t.Errorf("%q folds to %s", r, folded)
		}
	}
}

func FuzzPath(f *testing.F) {
	for _, s := range []string{"/a/../b", "/%2e%2e/", "//x//", "/%C3%a4", "/%", "/.//..", "/%2f..%5c"} {
		f.Add(s, false)
	}
	f.Fuzz(func(t *testing.T, raw string, keep bool) {
		once, err := Path(raw, keep)
		if err != nil {
			return
		}
		if !Is(once, keep) {
			t.Errorf("%q became %q, which is not canonical", raw, once)
		}
		if twice, err := Path(once, keep); err != nil || twice != once {
			t.Errorf("%q became %q, and that became %q (%v)", raw, once, twice, err)
		}
		for _, s := range strings.Split(once, "/") {
			if s == ".." || s == "." {
				t.Errorf("%q became %q, which has dot segments", raw, once)
			}
		}
		if Unmarked(Marked(once)) != once {
			t.Errorf("marking %q loses something", once)
		}
	})
}
