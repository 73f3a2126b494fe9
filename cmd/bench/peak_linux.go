package main

import (
	"fmt"
	"os"
	"strings"
	"time"
)

// watchPeak watches the most memory that a process has, in MiB, until it is asked for. What the system tells of a
// process that has ended holds the memory of the one that started it, so it is looked at while it runs.
func watchPeak(pid int) func() int {
	end, most := make(chan struct{}), make(chan int)
	go func() {
		last := 0
		look := time.NewTicker(5 * time.Millisecond)
		defer look.Stop()
		for {
			select {
			case <-end:
				most <- last
				return
			case <-look.C:
				last = max(last, peakOf(pid))
			}
		}
	}()
	return func() int {
		close(end)
		return <-most
	}
}

// peakOf reads the most memory that a running process had, in MiB; 0 where it has ended.
func peakOf(pid int) int {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(text), "VmHWM:")
	var kib int
	fmt.Sscan(rest, &kib)
	return kib >> 10
}
