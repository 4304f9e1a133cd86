package cli

// When garbage is collected. Most commands end before it would have been worth the while: none
// is collected until much memory is in use.

import (
	"math"
	"os"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"slices"
	"sync/atomic"

	"kibitz/core/rulebook"
)

// A pace says how many bytes are in use before any are collected, and how much may lie beside
// what is in use, in percent of that.
type pace struct{ least, percent int64 }

var (
	freely      = pace{128 << 20, 100}
	ofReplay    = pace{80 << 20, 30} // lists may be long: what they take is worth more than time
	besideTable = pace{48 << 20, 20} // and a large table takes some itself
)

const memoryBeside = 176 << 20 // how many bytes a replay tries to do with beside the rulebook

// garbage is the pace at hand, and how many bytes all memory may take, if that can be done.
var garbage struct {
	pace atomic.Pointer[pace]
	most atomic.Int64
}

// collectLate sets when garbage is collected, for the whole program, if the environment does
// not. It is not for commands that run on: they may come to have thousands of connections.
func collectLate() {
	if os.Getenv("GOGC") != "" {
		return
	}
	garbage.pace.Store(&freely)
	garbage.most.Store(math.MaxInt64)
	collectAgain(struct{}{})
}

// collectAgain says when the next time is, and is called again behind it.
func collectAgain(struct{}) {
	setTime()
	runtime.AddCleanup(new(*int), collectAgain, struct{}{})
}

// leastHeap is how many bytes of garbage there are at least at 100 percent; at more, as many
// more.
const leastHeap = 4 << 20

// setTime sets when it is, by what is in use: a limit of all memory would count what lies idle
// between it, and garbage would be collected without end.
func setTime() {
	live, pace := inUse(), garbage.pace.Load()
	percent := 100 * pace.least / leastHeap
	if live > 0 {
		percent = min(percent, max(pace.percent, 100*(pace.least-live)/live))
	}
	debug.SetGCPercent(int(percent))
	debug.SetMemoryLimit(garbage.most.Load())
}

// collectBeside is for a replay by a rulebook that has been loaded.
func collectBeside(b *rulebook.Book) {
	if garbage.pace.Load() == nil {
		return
	}
	garbage.pace.Store(&ofReplay)
	if largeTable(b) {
		garbage.pace.Store(&besideTable)
	}
	garbage.most.Store(inUse() + memoryBeside)
	setTime()
}

// inUse tells how many bytes of the heap were in use when garbage was collected last; 0 before
// the first time.
func inUse() int64 {
	now := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	metrics.Read(now)
	return int64(now[0].Value.Uint64())
}

// largeTable reports whether the rulebook has tables of more than a few thousand
// rows.
func largeTable(b *rulebook.Book) bool {
	return slices.ContainsFunc(b.Rules, func(rule *rulebook.Rule) bool {
		m, ok := rule.Action.(*rulebook.Moves)
		return ok && len(m.Table.Rows) > 5000
	})
}
