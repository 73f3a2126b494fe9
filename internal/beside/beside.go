// Package beside runs work on several goroutines so that a fault in one is a fault of whoever waits.
package beside

import (
	"runtime/debug"
	"sync"
)

// Group is work that is going on. Its zero value is none.
type Group struct {
	wait  sync.WaitGroup
	once  sync.Once
	fault any
}

// Go runs do beside whatever else is going on.
func (g *Group) Go(do func()) {
	g.wait.Go(func() {
		defer func() {
			if fault := recover(); fault != nil {
				g.once.Do(func() { g.fault = fault })
			}
		}()
		debug.SetPanicOnFault(true) // mapped memory that goes away is such a fault, and not the end of the program
		do()
	})
}

// Wait returns when all is done. If something panicked, so does Wait.
func (g *Group) Wait() {
	g.wait.Wait()
	if g.fault != nil {
		panic(g.fault)
	}
}
