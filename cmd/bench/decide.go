package main

import (
	"net/netip"
	"slices"
	"time"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/shape"
)

// deciding is how fast requests are answered.
type deciding struct {
	median, p99    time.Duration // of one decision, timed singly
	each           float64       // nanoseconds, timed together
	ratio          float64       // to three bare look-ups, the median of the pairs
	bothCores      float64       // decisions a second
	allocations    float64       // for each decision
	allow, depends int
}

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

// decide answers all requests, with a time and a network.
func decide(g *gate.Gate, c *gate.Context, asks []shape.Ask, at clock.Instant, from netip.Addr) (n [3]int) {
	for i := range asks {
		a := &asks[i]
		c.Reset()
		c.Time(at)
		c.Network(from)
		outcome, err := g.Decide(gate.Request{Subject: estate.Principal{ID: a.Who}, Operation: a.What, Resource: a.Where, Context: c})
		if err != nil {
			panic(err)
		}
		n[outcome]++
	}
	return n
}

func measureDeciding(s shape.Shape, e *estate.Estate, g *gate.Gate, pairs int) deciding {
	asks := s.Asks(1 << 16)
	b := newBare(e, asks)
	at, err := e.Zone.ParseTime("2026-12-01T22:00")
	if err != nil {
		panic(err)
	}
	from := netip.MustParseAddr("10.40.3.7")
	c := g.NewContext()
	var d deciding
	n := decide(g, c, asks, at, from)
	d.allow, d.depends = n[gate.Allow], n[gate.Depends]
	b.find(asks)
	var ratios, each []float64
	for range pairs {
		start := time.Now()
		b.find(asks)
		yardstick := time.Since(start)
		start = time.Now()
		decide(g, c, asks, at, from)
		took := time.Since(start)
		ratios = append(ratios, float64(took)/float64(yardstick))
		each = append(each, float64(took)/float64(len(asks)))
	}
	d.ratio, d.each = median(ratios), median(each)
	d.allocations = allocations(func() { decide(g, c, asks, at, from) }) / float64(len(asks))
	single := make([]time.Duration, len(asks))
	empty := make([]time.Duration, len(asks))
	for i := range asks {
		start := time.Now()
		empty[i] = time.Since(start)
	}
	slices.Sort(empty)
	for i := range asks {
		one := asks[i : i+1]
		start := time.Now()
		decide(g, c, one, at, from)
		single[i] = time.Since(start) - empty[len(empty)/2]
	}
	slices.Sort(single)
	d.median, d.p99 = single[len(single)/2], single[len(single)*99/100]
	return d
}

func median(list []float64) float64 {
	slices.Sort(list)
	return list[len(list)/2]
}
