package change

import (
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/differing"
	"slices"
	"strings"
)

// gatherer brings differences together that say the same.
type gatherer struct {
	pair   *differing.Pair
	lent   bool
	who    []estate.Principal // of the differences that are at hand
	open   map[sameWay]*Line  // of those subjects
	begun  []*Line            // those, in order
	coming *differing.Having  // something that may come; nil until it is asked for
	parts  map[*differing.Piles][2]*differing.Piles
	lines  map[sameLine]*Line // by all but the subjects
	order  []*Line
}

// sameWay is what one subject's lines differ by, but for the operations.
type sameWay struct {
	old, new differing.Cell
	piles    *differing.Piles
}

// sameLine is all that lines differ by, but for the subjects.
type sameLine struct {
	sameWay
	operations string
}

func newGatherer(pair *differing.Pair, lent bool) *gatherer {
	return &gatherer{pair: pair, lent: lent, open: map[sameWay]*Line{},
		parts: map[*differing.Piles][2]*differing.Piles{}, lines: map[sameLine]*Line{}}
}

func (g *gatherer) take(d differing.Difference) bool {
	if len(g.who) == 0 || len(d.Subjects) == 0 || &g.who[0] != &d.Subjects[0] {
		g.close()
		g.who = d.Subjects
	}
	for _, piles := range g.partsOf(d.Piles) {
		if piles == nil {
			continue
		}
		way := sameWay{d.Old, d.New, piles}
		line := g.open[way]
		if line == nil {
			line = &Line{Way: g.way(d.Old, d.New), OnRequest: g.lent, Subjects: slices.Clip(d.Subjects), Piles: piles,
				Old: d.Old, New: d.New, pair: g.pair}
			g.open[way], g.begun = line, append(g.begun, line)
		}
		line.Operations = append(line.Operations, d.Operation)
	}
	return true
}

// partsOf gives those piles that are there, and those that may come; nil where there are none.
func (g *gatherer) partsOf(piles *differing.Piles) [2]*differing.Piles {
	known, ok := g.parts[piles]
	if !ok {
		known[0] = piles
		if g.coming == nil {
			g.coming = g.pair.Having(func(p *differing.Pile) bool { return p.May() != nil })
		}
		if g.coming.Any(piles) {
			for i := range known {
				some := piles.Where(func(p *differing.Pile) bool { return (p.May() != nil) == (i == 1) })
				if known[i] = nil; some.Len() > 0 {
					known[i] = g.pair.Once(some)
				}
			}
		}
		g.parts[piles] = known
	}
	return known
}

// close brings the lines of the subjects at hand among those of others.
func (g *gatherer) close() {
	for _, line := range g.begun {
		slices.Sort(line.Operations)
		full := sameLine{sameWay{line.Old, line.New, line.Piles}, strings.Join(line.Operations, " ")}
		if same := g.lines[full]; same != nil {
			same.Subjects = append(same.Subjects, line.Subjects...)
			continue
		}
		g.lines[full] = line
		g.order = append(g.order, line)
	}
	clear(g.open)
	g.begun = g.begun[:0]
}

// finish gives the lines about what is there, and those about what may come.
func (g *gatherer) finish() (there, coming []Line) {
	g.close()
	for _, l := range g.order {
		slices.SortFunc(l.Subjects, estate.Principal.Compare)
		if l.coming() {
			coming = append(coming, *l)
		} else {
			there = append(there, *l)
		}
	}
	return sorted(there), sorted(coming)
}
