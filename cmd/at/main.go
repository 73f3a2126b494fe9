// Command at runs hgate as it would be at another time, by a made-up user of a made-up machine: `at TIME ARGUMENT…`.
// The pictures of the documentation are made with it, so that they stay the same.
package main

import (
	"context"
	"fmt"
	"os"
	"time"

	"hiddengate/internal/cli"
)

func main() {
	if len(os.Args) < 2 {
		fmt.Fprintln(os.Stderr, "this is written `at TIME ARGUMENT…`")
		os.Exit(2)
	}
	now, err := time.Parse(time.RFC3339, os.Args[1])
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	os.Exit(cli.Run(context.Background(), os.Args[2:], cli.Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr,
		User: "desk", Host: "summit"}, func() time.Time { return now }))
}
