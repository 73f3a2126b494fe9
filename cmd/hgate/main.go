// Command hgate decides who may do what, and shows why.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"
	"time"

	"hiddengate/internal/cli"
)

func main() {
	cli.ShortRun()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	context.AfterFunc(ctx, stop) // who interrupts twice does not want to wait
	os.Exit(cli.Run(ctx, os.Args[1:], cli.Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr}, time.Now))
}
