package auditing

import (
	"context"
	"math/bits"
	"slices"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/region"
)

// Lack is an operation that subjects may do without one that it needs.
type Lack struct {
	Grant     string // the first that gives the operation
	Operation string
	Need      string
	Subjects  []estate.Principal // some of them, people first, by id
	Number    int                // how many they are
	Places    []string           // some of the resources, in tree order
	Count     int                // how many they are
}

// Lacking lists where somebody may do an operation and, in some of the same contexts, not one that it needs. Of each it
// names at most so many subjects and places. It costs what going through the cells pile by pile does, and for each pile
// what the grants there are. Its error says that conditions are too complex.
func Lacking(ctx context.Context, g *gate.Gate, most int) ([]Lack, error) {
	cells, err := differing.CompileCells(g.Estate(), differing.Scene{Which: g.Which, Roster: g.Roster, Base: g})
	if err != nil {
		return nil, err
	}
	l := &lacking{Cells: cells, outside: map[[2]region.Region]region.Region{}, while: map[region.Region][]bool{},
		kept: map[pileOperation]*differing.Bands{}, rest: cells.NewClassSet(), both: cells.NewClassSet(),
		partly: cells.NewClassSet(), blame: blame{cells: cells, most: most, found: map[grantNeed]*shortfall{}}}
	known := map[region.Region]int{}
	l.active = make([]int, cells.Classes())
	for class := range uint32(cells.Classes()) {
		active := cells.Active(class)
		if active == region.Full {
			continue
		}
		l.partly.Add(class)
		n, ok := known[active]
		if !ok {
			n = len(l.actives)
			known[active] = n
			l.actives = append(l.actives, active)
		}
		l.active[class] = n
	}
	l.plan = newPlan(cells)
	l.lack = make([]lackOf, len(l.needs))
	for i := range l.lack {
		l.lack[i].all = cells.NewClassSet()
	}
	if err := l.blame.begin(l.needs); err != nil {
		return nil, err
	}
	if err := cells.ByPile(ctx, clock.Beginning, differing.IfActive, l.pile); err != nil {
		return nil, err
	}
	return l.blame.tell(), nil
}

// lacking looks for what is missing, pile by pile.
type lacking struct {
	*differing.Cells
	plan
	blame      blame
	kept       map[pileOperation]*differing.Bands
	outside    map[[2]region.Region]region.Region // of two regions, what of one is not in the other
	while      map[region.Region][]bool           // of a region, whether it meets each of the actives
	partly     differing.ClassSet                 // who are active at some times alone
	active     []int                              // of each class, the number of the times at which it is active
	actives    []region.Region                    // those times, but for always
	lack       []lackOf                           // of each need
	short      []uint32                           // the needs that somebody lacks on the pile at hand
	rest, both differing.ClassSet
}

// lackOf is who lacks something on the pile at hand.
type lackOf struct {
	all   differing.ClassSet
	count int       // how many classes they are
	from  [2]uint64 // the serials of the bands of which it was worked out, if it was of these alone
}

// pile looks at what can be told now that a pile is at hand.
func (l *lacking) pile(pile *differing.Pile, on *differing.OnPile) error {
	n := uint32(pile.Number())
	for _, operation := range l.keep[n] {
		bands, err := on.Of(operation)
		if err != nil {
			return err
		}
		kept := *bands
		kept.List = slices.Clone(bands.List)
		for i := range kept.List {
			kept.List[i].Classes = slices.Clone(kept.List[i].Classes)
		}
		l.kept[pileOperation{n, operation}] = &kept
	}
	for _, p := range l.due[n] {
		if err := l.look(p, on); err != nil {
			return err
		}
	}
	for _, k := range l.drop[n] {
		delete(l.kept, k)
	}
	return nil
}

// bands gives who may do an operation on the pile at hand, or on one of which that was kept.
func (l *lacking) bands(pile, operation uint32, on *differing.OnPile) (*differing.Bands, error) {
	if len(l.kept) > 0 {
		if bands, ok := l.kept[pileOperation{pile, operation}]; ok {
			return bands, nil
		}
	}
	return on.Of(operation)
}

// look finds who lacks what on a pile, and the grants that give them what is of no use.
func (l *lacking) look(pile uint32, on *differing.OnPile) error {
	l.short = l.short[:0]
	for i, j := range l.judged[pile] {
		has, err := l.bands(pile, l.needs[j.need].operation, on)
		if err != nil {
			return err
		}
		there, err := l.bands(j.above, l.needs[j.need].needed, on)
		if err != nil {
			return err
		}
		lack := &l.lack[j.need]
		first := i == 0 || l.judged[pile][i-1].need != j.need
		single := first && (i+1 == len(l.judged[pile]) || l.judged[pile][i+1].need != j.need)
		if from := [2]uint64{has.Serial, there.Serial}; !single || lack.from != from {
			if first {
				clear(lack.all)
			}
			l.add(lack.all, has.List, there.List)
			if lack.from = from; !single {
				lack.from = [2]uint64{}
			}
			lack.count = lack.all.Len()
		}
		if lack.count > 0 && !slices.Contains(l.short, j.need) {
			l.short = append(l.short, j.need)
		}
	}
	return l.blame.find(pile, on, l.lack, l.short)
}

// add adds to a set whoever has an operation in contexts in which they have not what it needs.
func (l *lacking) add(to differing.ClassSet, has, there []differing.Band) {
	for _, h := range has {
		copy(l.rest, h.Classes)
		for _, t := range there {
			missing := l.without(h.Possible, t.Possible)
			if missing != region.Empty && l.both.SetTo(h.Classes, t.Classes) {
				l.take(to, l.both, missing)
			}
			l.rest.DropAll(t.Classes)
		}
		l.take(to, l.rest, h.Possible)
	}
}

// take adds classes that lack something in a region, if they are active there.
func (l *lacking) take(to, classes differing.ClassSet, missing region.Region) {
	if !classes.Meets(l.partly) {
		to.AddAll(classes)
		return
	}
	meets := l.meets(missing)
	for i, w := range classes {
		to[i] |= w &^ l.partly[i]
		for some := w & l.partly[i]; some != 0; some &= some - 1 {
			class := uint32(64*i + bits.TrailingZeros64(some))
			if meets[l.active[class]] {
				to.Add(class)
			}
		}
	}
}

// without gives what of a region is not in another; nothing where that is too complex to say.
func (l *lacking) without(r, other region.Region) region.Region {
	key := [2]region.Region{r, other}
	out, ok := l.outside[key]
	if !ok {
		var err error
		if out, err = l.Space().Minus(r, other); err != nil {
			out = region.Empty
		}
		l.outside[key] = out
	}
	return out
}

// meets says of each time at which somebody is active whether it meets a region.
func (l *lacking) meets(r region.Region) []bool {
	out, ok := l.while[r]
	if !ok {
		out = make([]bool, len(l.actives))
		for i, active := range l.actives {
			both, err := l.Space().And(r, active)
			out[i] = err == nil && both != region.Empty
		}
		l.while[r] = out
	}
	return out
}
