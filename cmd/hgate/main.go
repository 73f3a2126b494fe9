// Command hgate decides who may do what, and shows why.
package main

import (
	"os"
	"runtime/debug"
	"time"

	"hiddengate/internal/cli"
	"hiddengate/internal/policyfile"
)

func main() {
	debug.SetGCPercent(policyfile.HeapGrowth)
	debug.SetMemoryLimit(policyfile.LargeHeap)
	os.Exit(cli.Run(os.Args[1:], cli.Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr}, time.Now))
}
