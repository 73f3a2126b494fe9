// Command hgate decides who may do what, and shows why.
package main

import (
	"os"
	"time"

	"hiddengate/internal/cli"
)

func main() {
	cli.ShortRun()
	os.Exit(cli.Run(os.Args[1:], cli.Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr}, time.Now))
}
