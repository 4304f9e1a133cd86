package render

import (
	"testing"
	"time"
)

// Numbers as people read them.
func TestNumbersForPeople(t *testing.T) {
	for got, want := range map[string]string{
		Number(0): "0", Number(999): "999", Number(1000): "1,000", Number(-1234567): "-1,234,567",
		Size(1<<20 - 1): "1,048,575", Size(1 << 20): "1.0 MiB", Size(5 << 29): "2.5 GiB", Size(3 << 40): "3.0 TiB", Size(1 << 62): "4.0 EiB",
		Bytes(1): "1 byte", Bytes(0): "0 bytes", Bytes(-1): "size not known", Bytes(3 << 20): "3.0 MiB",
		Count(1, "entry"): "1 entry", Count(2, "entry"): "2 entries", Count(3, "address"): "3 addresses", Count(1200, "line"): "1,200 lines",
		Share(1, 3): "33.3%", Share(0, 5): "0.0%", Share(5, 5): "100.0%",
		Time(900 * time.Nanosecond): "0 µs", Time(1500 * time.Microsecond): "1 ms", Time(1900 * time.Millisecond): "1.9 s", Time(119 * time.Second): "119.0 s",
		Time(125 * time.Second): "2 min 5 s", Time(3*time.Hour + 5*time.Minute): "3 h 5 min",
	} {
		if got != want {
			t.Errorf("%s, want %s", got, want)
		}
	}
}
