package main

import (
	"context"
	"os"
	"runtime/pprof"
	"strconv"
	"time"

	"hiddengate/internal/cli"
)

func main() {
	cli.ShortRun()
	secs, _ := strconv.Atoi(os.Getenv("SECS"))
	f, _ := os.Create(os.Getenv("PROF"))
	pprof.StartCPUProfile(f)
	done := func() { pprof.StopCPUProfile(); f.Close() }
	go func() {
		if secs > 0 {
			time.Sleep(time.Duration(secs) * time.Second)
			done()
			os.Exit(9)
		}
	}()
	code := cli.Run(context.Background(), os.Args[1:], cli.Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr}, time.Now)
	done()
	os.Exit(code)
}
