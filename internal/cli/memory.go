package cli

// When garbage is collected. Most commands end before it would have been worth the while: none
// is collected until much memory is in use.

import (
	"math"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"slices"
	"sync/atomic"

	"kibitz/core/rulebook"
)

const (
	freely       = 96 << 20  // how many bytes are in use before any are collected
	besideTable  = 56 << 20  // the same where a large table takes some: memory is worth more than time
	memoryBeside = 176 << 20 // how many a replay tries to do with beside the rulebook
)

// garbage says how many bytes are in use before any are collected, how much may lie beside
// what is in use, in percent of that, and how many bytes both may take together, if that can
// be done.
var garbage struct{ least, percent, most atomic.Int64 }

// collectLate sets when garbage is collected, for the whole program. It is not for commands
// that run on: they may come to have thousands of connections.
func collectLate() {
	garbage.least.Store(freely)
	garbage.percent.Store(100)
	garbage.most.Store(math.MaxInt64)
	debug.SetGCPercent(-1)
	collectAgain(struct{}{})
}

// collectAgain says when the next time is, and is called again behind it.
func collectAgain(struct{}) {
	setLimit()
	runtime.AddCleanup(new(*int), collectAgain, struct{}{})
}

func setLimit() {
	live, stacks := inUse()
	debug.SetMemoryLimit(min(stacks+max(garbage.least.Load(), live+live/100*garbage.percent.Load()), garbage.most.Load()))
}

// collectBeside is for a replay by a rulebook that has been loaded.
func collectBeside(b *rulebook.Book) {
	if largeTable(b) {
		garbage.least.Store(besideTable)
		garbage.percent.Store(40)
	}
	live, _ := inUse()
	garbage.most.Store(live + memoryBeside)
	setLimit()
}

// inUse tells how many bytes of the heap were in use when garbage was collected last, 0 before
// the first time; and how many stacks take.
func inUse() (live, stacks int64) {
	now := []metrics.Sample{{Name: "/gc/heap/live:bytes"}, {Name: "/memory/classes/heap/stacks:bytes"}}
	metrics.Read(now)
	return int64(now[0].Value.Uint64()), int64(now[1].Value.Uint64())
}

// largeTable reports whether the rulebook has tables of more than a few thousand
// rows.
func largeTable(b *rulebook.Book) bool {
	return slices.ContainsFunc(b.Rules, func(rule *rulebook.Rule) bool {
		m, ok := rule.Action.(*rulebook.Moves)
		return ok && len(m.Table.Rows) > 5000
	})
}
