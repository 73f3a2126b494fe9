package cli

import (
	"math"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"sync"
)

// largeHeap is how many bytes the heap may have before a short run collects any.
const largeHeap = 352 << 20

// least is up to how many bytes a short run collects none; 0 where it is none.
var least struct {
	sync.Mutex
	bytes int64
}

// ShortRun sets the collector for a program that answers and ends: what is read stays in use until then, so there is
// nothing to collect unless the heap is large. From then on it may grow by half of what is in use: at a fixed limit
// that is nearly all in use the collector would take as much time as the work.
func ShortRun() {
	debug.SetGCPercent(-1)
	limit(largeHeap)
	afterEach(func() bool {
		least.Lock()
		defer least.Unlock()
		if least.bytes > 0 {
			debug.SetMemoryLimit(max(least.bytes, inUse()*3/2))
		}
		return least.bytes > 0
	})
}

// longRun sets it back for a command that goes on as long as there is input.
func longRun() {
	limit(0)
	debug.SetGCPercent(100)
}

// limit has a short run collect none up to so many bytes; 0: it is none.
func limit(bytes int64) {
	least.Lock()
	defer least.Unlock()
	if least.bytes = bytes; bytes == 0 {
		bytes = math.MaxInt64
	}
	debug.SetMemoryLimit(bytes)
}

// inUse is how many bytes the last collection left, with all that the runtime has beside the heap.
func inUse() int64 {
	of := []metrics.Sample{{Name: "/gc/heap/live:bytes"}, {Name: "/memory/classes/total:bytes"},
		{Name: "/memory/classes/heap/objects:bytes"}, {Name: "/memory/classes/heap/free:bytes"},
		{Name: "/memory/classes/heap/released:bytes"}}
	metrics.Read(of)
	sum := of[0].Value.Uint64() + of[1].Value.Uint64()
	for _, part := range of[2:] {
		sum -= min(sum, part.Value.Uint64())
	}
	return int64(sum)
}

// afterEach does something after each collection, until it says that it is not to be done again.
func afterEach(do func() bool) {
	type marker *marker // what holds no pointer may share its memory with others
	runtime.SetFinalizer(new(marker), func(*marker) {
		if do() {
			afterEach(do)
		}
	})
}
