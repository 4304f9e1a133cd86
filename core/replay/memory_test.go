package replay

import (
	"fmt"
	"io"
	"runtime"
	"strings"
	"testing"

	"kibitz/core/request"
	"kibitz/core/request/list"
)

// A made is a list that is made while it is read, so that none of it is in memory.
type made struct {
	line func(i int) string
	n, i int
	rest string
}

func (m *made) Read(b []byte) (int, error) {
	if m.rest == "" {
		if m.i == m.n {
			return 0, io.EOF
		}
		m.rest = m.line(m.i)
		m.i++
	}
	n := copy(b, m.rest)
	m.rest = m.rest[n:]
	return n, nil
}

// Whatever stands in a list, and however much of it: what is remembered of it is bounded.
func TestMemoryIsBounded(t *testing.T) {
	if testing.Short() {
		t.Skip("it reads gigabytes")
	}
	const kib = 1 << 10
	logged := func(path, from, agent int) func(int) string {
		return func(i int) string {
			return fmt.Sprintf("192.0.2.1 - - [10/Oct/2026:13:55:36 +0000] \"GET /%d%s HTTP/1.1\" %d 1 \"https://s.example/%d%s\" \"%d%s\"\n", i, strings.Repeat("p", path), 200+i%300, i%5000, strings.Repeat("f", from), i, strings.Repeat("a", agent))
		}
	}
	for name, test := range map[string]struct {
		lines  int
		line   func(int) string
		format list.Format
	}{
		"long addresses":          {6_000, logged(50*kib, 0, 0), list.FormatLog},
		"addresses of 3 KiB":      {60_000, logged(3*kib, 0, 0), list.FormatLog},
		"long pages":              {60_000, logged(0, 5*kib, 0), list.FormatLog},
		"long agents":             {60_000, logged(0, 0, 5*kib), list.FormatLog},
		"lines that are too long": {100, logged(5<<20, 0, 0), list.FormatLog},
		"long expectations unmet": {6_000, func(i int) string { return fmt.Sprintf("/%d%s => 200\n", i, strings.Repeat("p", 50*kib)) }, list.FormatPlain},
		"a request without an end": {300_000, func(i int) string {
			return strings.Repeat("/x\n", max(0, 1-i)) + fmt.Sprintf("  X-%d: %s\n", i, strings.Repeat("v", kib))
		}, list.FormatPlain},
	} {
		t.Run(name, func(t *testing.T) {
			e := build(t, "reply bots when agent *bot* with 403 text no\nredirect a on /a to /b as temporary when referrer *other*")
			peak := uint64(0)
			watched := func(r io.Reader) io.Reader {
				n := 0
				return readerFunc(func(b []byte) (int, error) {
					if n++; n%(1<<12) == 0 {
						var m runtime.MemStats
						runtime.GC()
						runtime.ReadMemStats(&m)
						peak = max(peak, m.HeapAlloc)
					}
					return r.Read(b)
				})
			}
			in := watched(&made{line: test.line, n: test.lines})
			var tally *Tally
			var err error
			if Quick(test.format, false) {
				tally, err = LogStream(e, "list", in, test.format, Options{Workers: 2})
			} else {
				tally, err = Run(e, []Source{{Name: "list", Read: func(base request.Address, yield func(*list.Item)) (list.Counts, error) {
					return list.Read(in, list.Options{Base: base, Format: test.format}, yield)
				}}}, Options{Workers: 2})
			}
			if err != nil || tally.Lists[0].Lines < test.lines {
				t.Fatalf("%d lines: %v", tally.Lists[0].Lines, err)
			}
			for _, top := range []*Top{&tally.Missing, &tally.Loops, &tally.Chains} {
				top.Most(10)
			}
			var m runtime.MemStats
			runtime.GC()
			runtime.ReadMemStats(&m)
			if peak = max(peak, m.HeapAlloc); peak > 128<<20 {
				t.Errorf("%d MiB are held", peak>>20)
			}
			t.Logf("%d MiB", peak>>20)
			runtime.KeepAlive(tally)
		})
	}
}

type readerFunc func([]byte) (int, error)

func (f readerFunc) Read(b []byte) (int, error) { return f(b) }
