package main

import (
	"os"
	"syscall"
)

// peak is the most memory that a process had, in MiB.
func peak(p *os.ProcessState) int { return int(p.SysUsage().(*syscall.Rusage).Maxrss >> 10) }
