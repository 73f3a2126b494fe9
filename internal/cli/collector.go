package cli

import (
	"math"
	"runtime/debug"
)

// largeHeap is how many bytes the heap may have before a short run collects any.
const largeHeap = 576 << 20

// ShortRun sets the collector for a program that answers and ends: what is read stays in use until then, so there is
// nothing to collect unless the heap is large.
func ShortRun() {
	debug.SetGCPercent(-1)
	debug.SetMemoryLimit(largeHeap)
}

// shortEdit lets a short run that holds two estates have more before it collects any.
func shortEdit() { debug.SetMemoryLimit(2 * largeHeap) }

// longRun sets it back for a command that goes on as long as there is input, or looks at everything: at its limit the
// collector would take as much time as the work.
func longRun() {
	debug.SetGCPercent(100)
	debug.SetMemoryLimit(math.MaxInt64)
}
