package main

import (
	"fmt"
	"net/netip"
	"runtime"
	"slices"
	"sync"
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/shape"
)

// bare is the yardstick: three look-ups in maps, by the same texts.
type bare struct{ people, operations, places map[string]int }

func newBare(e *estate.Estate, asks []shape.Ask) *bare {
	b := &bare{map[string]int{}, map[string]int{}, map[string]int{}}
	for i, p := range estate.Sorted(e.People) {
		b.people[p.ID] = i
	}
	for i, o := range estate.Sorted(e.Operations) {
		b.operations[o.Name] = i
	}
	for i := range e.Tree.Len() {
		b.places[e.Tree.Address(i)] = i
	}
	if e.Tree.Len() < 1000 { // nothing is listed: the places asked about
		for i, a := range asks {
			b.places[a.Where] = i
		}
	}
	return b
}

func (b *bare) find(asks []shape.Ask) (sum int) {
	for i := range asks {
		a := &asks[i]
		sum += b.people[a.Who] + b.operations[a.What] + b.places[a.Where]
	}
	return sum
}

// circumstances are a time and a network.
type circumstances struct {
	at   clock.Instant
	from netip.Addr
}

// decide answers all requests in some circumstances.
func decide(g *gate.Gate, c *gate.Context, asks []shape.Ask, in circumstances) (n [3]int) {
	for i := range asks {
		a := &asks[i]
		c.Reset()
		c.Time(in.at)
		c.Network(in.from)
		outcome, err := g.Decide(gate.Request{Subject: estate.Principal{ID: a.Who}, Operation: a.What, Resource: a.Where,
			Context: c})
		if err != nil {
			panic(err)
		}
		n[outcome]++
	}
	return n
}

// measureDeciding measures decisions from raw texts and a context with a time and a network.
func measureDeciding(t *table, s shape.Shape, g *gate.Gate, pairs int) {
	asks := s.Asks(1 << 16)
	b := newBare(g.Estate(), asks)
	at, err := g.Estate().Zone.ParseTime("2026-12-01T22:00")
	must(err)
	in := circumstances{at, netip.MustParseAddr("10.40.3.7")}
	c := g.NewContext()
	decide(g, c, asks, in) // what unlisted addresses teach is learned
	b.find(asks)
	var ratios, each, bare, both []float64
	forks := make([]*gate.Gate, runtime.GOMAXPROCS(0))
	contexts := make([]*gate.Context, len(forks))
	for i := range forks {
		forks[i] = g.Fork()
		contexts[i] = forks[i].NewContext()
		decide(forks[i], contexts[i], asks, in)
	}
	for range max(pairs, 11) {
		start := time.Now()
		b.find(asks)
		yardstick := time.Since(start)
		start = time.Now()
		decide(g, c, asks, in)
		ours := time.Since(start)
		start = time.Now()
		var wait sync.WaitGroup
		for i := range forks {
			wait.Go(func() { decide(forks[i], contexts[i], asks, in) })
		}
		wait.Wait()
		both = append(both, float64(time.Since(start)))
		ratios = append(ratios, float64(ours)/float64(yardstick))
		each, bare = append(each, float64(ours)/float64(len(asks))), append(bare, float64(yardstick)/float64(len(asks)))
	}
	t.line(figure{t.shape, "a decision", took(each), "three look-ups", took(bare), ratio(ratios)})
	t.line(figure{t.shape, "decisions a second", fmt.Sprintf("%.2f M, %.2f M on all cores", 1e3/median(each),
		1e3*float64(len(forks)*len(asks))/median(both)), "", "", ""})
	allocated := allocations(func() { decide(g, c, asks, in) }) / float64(len(asks))
	t.line(figure{t.shape, "allocations a decision", fmt.Sprintf("%.3f", allocated), "", "", ""})
	// Singly, with the timer's own time taken off.
	single, empty := make([]float64, len(asks)), make([]float64, len(asks))
	for i := range asks {
		start := time.Now()
		empty[i] = float64(time.Since(start))
	}
	timer := median(empty)
	for i := range asks {
		one := asks[i : i+1]
		start := time.Now()
		decide(g, c, one, in)
		single[i] = float64(time.Since(start)) - timer
	}
	slices.Sort(single)
	half, most := single[len(single)/2], single[len(single)*99/100]
	t.line(figure{t.shape, "p99 of a decision", short(time.Duration(most)), "the median", short(time.Duration(half)),
		fmt.Sprintf("%.2f", most/half)})
}

func allocations(do func()) float64 {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	do()
	runtime.ReadMemStats(&after)
	return float64(after.Mallocs - before.Mallocs)
}
