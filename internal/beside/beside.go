// Package beside runs work on several goroutines so that a fault in one is a fault of whoever waits.
package beside

import "sync"

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
