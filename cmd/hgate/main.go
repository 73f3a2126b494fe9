// Command hgate decides who may do what, and shows why.
package main

import (
	"os"
	"runtime/debug"
	"time"

	"hiddengate/internal/cli"
)

// A run is short: the collector may let the heap grow until it is large.
const (
	heapGrowth = 400       // percent
	largeHeap  = 384 << 20 // bytes
)

func main() {
	debug.SetGCPercent(heapGrowth)
	debug.SetMemoryLimit(largeHeap)
	os.Exit(cli.Run(os.Args[1:], cli.Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr}, time.Now))
}
