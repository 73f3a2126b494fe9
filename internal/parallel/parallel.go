// Package parallel runs work on several goroutines so that a fault in one is a fault of whoever waits.
package parallel

import (
	"fmt"
	"iter"
	"runtime"
	"runtime/debug"
	"sync"
)

// Fault is a panic of work that went on beside, with where it was: what Wait and Ordered panic with.
type Fault struct {
	Value any
	Stack []byte
}

func (f *Fault) Error() string { return fmt.Sprint(f.Value) }

// faultOf keeps what was recovered; a Fault of work beside that work stays what it is.
func faultOf(value any) *Fault {
	if f, ok := value.(*Fault); ok {
		return f
	}
	return &Fault{value, debug.Stack()}
}

// Group is work that is going on. Its zero value is none.
type Group struct {
	wait  sync.WaitGroup
	once  sync.Once
	fault *Fault
}

// Go runs do beside whatever else is going on.
func (g *Group) Go(do func()) {
	g.wait.Go(func() {
		defer func() {
			if value := recover(); value != nil {
				g.once.Do(func() { g.fault = faultOf(value) })
			}
		}()
		debug.SetPanicOnFault(true) // mapped memory that goes away is such a fault, and not the end of the program
		do()
	})
}

// Wait returns when all is done. If something panicked, it panics with a *Fault.
func (g *Group) Wait() {
	g.wait.Wait()
	if g.fault != nil {
		panic(g.fault)
	}
}

// Workers is how many goroutines work at once: one for each core.
func Workers() int { return runtime.GOMAXPROCS(0) }

// Ordered hands items to Workers goroutines and gives take what becomes of each, in the order of the items, until it
// returns false. worker makes what a goroutine works with, by its number. So many items are under way at most, so that
// whoever takes is not overrun. A panic of the work is one of Ordered, with a *Fault.
func Ordered[In, Out any](items iter.Seq[In], worker func(n int) func(In) Out, take func(Out) bool) {
	type job struct {
		in    In
		out   Out
		fault *Fault
		done  chan struct{}
	}
	workers := Workers()
	ahead := make(chan *job, 4*workers) // in order, for whoever takes
	next := make(chan *job)
	stop := make(chan struct{})
	var wait Group
	wait.Go(func() {
		defer close(ahead)
		defer close(next)
		for in := range items {
			j := &job{in: in, done: make(chan struct{})}
			select {
			case ahead <- j:
			case <-stop:
				return
			}
			next <- j
		}
	})
	for n := range workers {
		wait.Go(func() {
			var do func(In) Out
			for j := range next {
				func() {
					defer close(j.done)
					defer func() {
						if value := recover(); value != nil {
							j.fault = faultOf(value)
						}
					}()
					if do == nil {
						do = worker(n)
					}
					j.out = do(j.in)
				}()
			}
		})
	}
	defer wait.Wait()
	defer func() { // nobody waits for whoever takes any more
		close(stop)
		for range ahead {
		}
	}()
	for j := range ahead {
		<-j.done
		if j.fault != nil {
			panic(j.fault)
		}
		if !take(j.out) {
			return
		}
	}
}
