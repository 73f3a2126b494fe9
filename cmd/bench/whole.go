package main

import (
	"net/netip"
	"time"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
)

// whole is how long answers about everything take.
type whole struct {
	prepare, counts time.Duration
	allowed         int // subject, operation and resource together
	reach, holders  time.Duration
}

func when(g *gate.Gate) *gate.Context {
	at, err := g.Estate().Zone.ParseTime("2026-12-01T22:00")
	must(err)
	c := g.NewContext()
	c.Time(at)
	c.Network(netip.MustParseAddr("10.40.3.7"))
	return c
}

func measureWhole(g *gate.Gate) (w whole) {
	c := when(g)
	start := time.Now()
	t := g.Table(c)
	w.prepare = time.Since(start)
	start = time.Now()
	must(t.Counts(func(_ estate.Principal, counts []gate.Count) bool {
		for _, n := range counts {
			w.allowed += n.Allowed
		}
		return true
	}))
	w.counts = time.Since(start)
	start = time.Now()
	must(g.Reach(g.Subjects()[1], c, func(gate.Answer) bool { return true }))
	w.reach = time.Since(start)
	start = time.Now()
	_, err := g.Holders(c, []*estate.Resource{g.Estate().Tree.At(g.Estate().Tree.Len() / 2)}, func(o *estate.Operation) bool { return o.Level == estate.Change })
	must(err)
	w.holders = time.Since(start)
	return w
}
