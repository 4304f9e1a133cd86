// Package units reads numbers that are written with their units.
package units

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// Size reads a size like 512KiB, in bytes; problem says what is wrong with it, "" for nothing.
func Size(s string) (n int64, problem string) {
	n, unit, ok := cutNumber(s)
	shift, known := map[string]uint{"B": 0, "KiB": 10, "MiB": 20, "GiB": 30}[unit]
	switch {
	case !ok || n > math.MaxInt64>>30:
		return 0, brief(s) + " is not a size: write a number and its unit, like 512KiB"
	case unit == "" && n == 0:
		return 0, ""
	case unit == "":
		return 0, s + " lacks its unit: write " + s + "B, " + s + "KiB or " + s + "MiB"
	case !known:
		if power, ok := map[string]int64{"KB": 1e3, "kB": 1e3, "MB": 1e6, "GB": 1e9}[unit]; ok && n < math.MaxInt64/power {
			i := unit[:1]
			return 0, fmt.Sprintf("%s is %d bytes, or %d: write %d%siB, or %dB", s, n*power, n<<map[string]uint{"K": 10, "k": 10, "M": 20, "G": 30}[i], n, strings.ToUpper(i), n*power)
		}
		return 0, "the unit `" + brief(unit) + "` is not one of B, KiB, MiB, GiB"
	}
	return n << shift, ""
}

// Duration reads a duration like 2h; problem says what is wrong with it, "" for nothing.
func Duration(s string) (d time.Duration, problem string) {
	n, unit, ok := cutNumber(s)
	step, known := map[string]time.Duration{"ms": time.Millisecond, "s": time.Second, "m": time.Minute, "h": time.Hour, "d": 24 * time.Hour}[unit]
	switch {
	case !ok || n > 36500:
		return 0, brief(s) + " is not a duration: write a number up to 36500 and its unit, like 90s"
	case unit == "":
		return 0, s + " lacks its unit: write " + s + "s, " + s + "m, " + s + "h or " + s + "d"
	case !known:
		return 0, "the unit `" + brief(unit) + "` is not one of ms, s, m, h, d"
	}
	return time.Duration(n) * step, ""
}

func cutNumber(s string) (n int64, unit string, ok bool) {
	i := 0
	for i < len(s) && '0' <= s[i] && s[i] <= '9' {
		i++
	}
	n, err := strconv.ParseInt(s[:i], 10, 64)
	return n, s[i:], err == nil
}

// brief keeps a text from filling the screen.
func brief(s string) string {
	const most = 60
	if runes := []rune(s); len(runes) > most {
		return string(runes[:most]) + "…"
	}
	return s
}
