package main

import (
	"context"
	"fmt"
	"net/netip"
	"time"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/counting"
	"hiddengate/internal/shape"
)

// when is the context of every question here: a time and a network, and nothing else.
func when(g *gate.Gate) *gate.Context {
	at, err := g.Estate().Zone.ParseTime("2026-12-01T22:00")
	must(err)
	c := g.NewContext()
	c.Time(at)
	c.Network(netip.MustParseAddr("10.40.3.7"))
	return c
}

// measureWhole measures answers about the whole estate.
func measureWhole(t *table, s shape.Shape, g *gate.Gate, pairs int) {
	c := when(g)
	var counts, reaches, holders []float64
	cells := 0
	for range min(pairs, 3) {
		cells = 0
		start := time.Now()
		must(counting.NewTable(g, c).Counts(context.Background(), func(_ estate.Principal, list []counting.Count) bool {
			for _, n := range list {
				cells += n.Allowed + n.Depends
			}
			return true
		}))
		counts = append(counts, float64(time.Since(start)))
		start = time.Now()
		must(g.Reach(g.Subjects()[1], c, func(gate.Answer) bool { return true }))
		reaches = append(reaches, float64(time.Since(start)))
		start = time.Now()
		middle := g.Estate().Tree.At(g.Estate().Tree.Len() / 2)
		_, err := counting.Holders(context.Background(), g, c, counting.PlacesOf(middle),
			func(o *estate.Operation) bool { return o.Level == estate.Change })
		must(err)
		holders = append(holders, float64(time.Since(start)))
	}
	subjects := len(g.Subjects())
	t.line(figure{t.shape, "counts, all subjects", took(counts), "", "", fmt.Sprintf("%.3g cells given", float64(cells))})
	t.line(figure{t.shape, "reach of one", took(reaches), "", "", ""})
	t.line(figure{t.shape, "holders of one", took(holders), "", "", ""})
	cellByCell(t, g, c, median(counts)/float64(subjects))
	if s.Comparable() {
		const some = 12
		sql := measureSQL(s, g, min(some, s.People))
		t.line(figure{t.shape, "counts, a subject", short(time.Duration(median(counts) / float64(subjects))),
			"SQL, " + sql.way, short(sql.each),
			fmt.Sprintf("1/%.0f", float64(sql.each)*float64(subjects)/median(counts))})
		t.agree("SQL", sql.wrong, sql.subjects)
	}
}

// agree notes whether two ways came to the same.
func (t *table) agree(with string, wrong, of int) {
	if wrong > 0 {
		t.wrong = true
		t.line(figure{t.shape, fmt.Sprintf("NOT the same as %s: %d of %d", with, wrong, of), "", "", "", ""})
	}
}

// cellByCell decides every operation on every resource for a few subjects, and holds the counts against the table's.
func cellByCell(t *table, g *gate.Gate, c *gate.Context, each float64) {
	const few = 3
	all := g.Subjects()
	asked := map[estate.Principal]int{}
	for k := range few {
		asked[all[k*len(all)/few]] = k
	}
	number := map[string]int{}
	for i, o := range estate.Sorted(g.Estate().Operations) {
		number[o.Name] = i
	}
	var table [few][]counting.Count
	must(counting.NewTable(g, c).Counts(context.Background(), func(who estate.Principal, list []counting.Count) bool {
		if k, ok := asked[who]; ok {
			table[k] = append([]counting.Count(nil), list...)
		}
		return true
	}))
	var took []float64
	wrong := 0
	for who, k := range asked {
		cells := make([]counting.Count, len(number))
		start := time.Now()
		must(g.Reach(who, c, func(a gate.Answer) bool {
			if n := &cells[number[a.Operation.Name]]; a.Outcome == gate.Allow {
				n.Allowed++
			} else {
				n.Depends++
			}
			return true
		}))
		took = append(took, float64(time.Since(start)))
		for i := range cells {
			if cells[i] != table[k][i] {
				wrong++
				break
			}
		}
	}
	t.line(figure{t.shape, "counts, a subject", short(time.Duration(each)), "cell by cell",
		short(time.Duration(median(took))),
		fmt.Sprintf("1/%.0f", median(took)/each)})
	t.agree("cell by cell", wrong, few)
}
