package gate

import "sync"

// Shared answers requests about one gate on any number of goroutines at once. Each request borrows a fork of the gate,
// with a memory of its own; there are as many forks as there were requests under way at once.
type Shared struct {
	lock sync.Mutex
	gate *Gate // only forked
	idle []*Gate
}

// Share gives what answers for a gate from now on. Nobody may ask the gate itself while requests are under way.
func (g *Gate) Share() *Shared { return &Shared{gate: g} }

// Decide answers a request, as the gate does. Its context is one of the gate's, and nobody else writes into it
// meanwhile.
func (s *Shared) Decide(req Request) (Outcome, error) {
	g := s.borrow()
	outcome, err := g.Decide(req)
	s.lock.Lock() // a fork that panicked is not there to be borrowed again
	s.idle = append(s.idle, g)
	s.lock.Unlock()
	return outcome, err
}

func (s *Shared) borrow() *Gate {
	s.lock.Lock()
	defer s.lock.Unlock()
	n := len(s.idle) - 1
	if n < 0 {
		return s.gate.Fork()
	}
	g := s.idle[n]
	s.idle = s.idle[:n]
	return g
}
