package auditing

import (
	"context"
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
		kept: map[pileOperation][]differing.Band{}, rest: cells.NewClassSet(), both: cells.NewClassSet(),
		partly: cells.NewClassSet(), blame: blame{cells: cells, most: most, found: map[grantNeed]*shortfall{},
			both: cells.NewClassSet()}}
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
	l.lack, l.some = make([]differing.ClassSet, len(l.needs)), make([]bool, len(l.needs))
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
	kept       map[pileOperation][]differing.Band
	outside    map[[2]region.Region]region.Region // of two regions, what of one is not in the other
	while      map[region.Region][]bool           // of a region, whether it meets each of the actives
	partly     differing.ClassSet                 // who are active at some times alone
	active     []int                              // of each class, the number of the times at which it is active
	actives    []region.Region                    // those times, but for always
	lack       []differing.ClassSet               // of each need, who lacks it on the pile at hand
	some       []bool                             // of each need, whether anybody does
	rest, both differing.ClassSet
}

// pile looks at what can be told now that a pile is at hand.
func (l *lacking) pile(pile *differing.Pile, on *differing.OnPile) error {
	n := uint32(pile.Number())
	for _, operation := range l.keep[n] {
		bands, _, err := on.Of(operation)
		if err != nil {
			return err
		}
		bands = slices.Clone(bands)
		for i := range bands {
			bands[i].Classes = slices.Clone(bands[i].Classes)
		}
		l.kept[pileOperation{n, operation}] = bands
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
func (l *lacking) bands(pile, operation uint32, on *differing.OnPile) ([]differing.Band, error) {
	if bands, ok := l.kept[pileOperation{pile, operation}]; ok {
		return bands, nil
	}
	bands, _, err := on.Of(operation)
	return bands, err
}

// look finds who lacks what on a pile, and the grants that give them what is of no use.
func (l *lacking) look(pile uint32, on *differing.OnPile) error {
	var short []uint32
	for _, j := range l.judged[pile] {
		has, err := l.bands(pile, l.needs[j.need].operation, on)
		if err != nil {
			return err
		}
		if len(has) == 0 {
			continue
		}
		there, err := l.bands(j.above, l.needs[j.need].needed, on)
		if err != nil {
			return err
		}
		if !l.some[j.need] {
			if l.lack[j.need] == nil {
				l.lack[j.need] = l.NewClassSet()
			}
			clear(l.lack[j.need])
		}
		if l.add(l.lack[j.need], has, there) && !l.some[j.need] {
			l.some[j.need] = true
			short = append(short, j.need)
		}
	}
	if len(short) == 0 {
		return nil
	}
	err := l.blame.find(pile, on, l.lack, l.some)
	for _, i := range short {
		l.some[i] = false
	}
	return err
}

// add adds to a set whoever has an operation in contexts in which they have not what it needs, and says whether there
// is anybody.
func (l *lacking) add(to differing.ClassSet, has, there []differing.Band) (found bool) {
	for _, h := range has {
		copy(l.rest, h.Classes)
		for _, t := range there {
			if l.both.SetTo(h.Classes, t.Classes) {
				l.rest.DropAll(t.Classes)
				found = l.take(to, l.both, l.without(h.Possible, t.Possible)) || found
			}
		}
		found = l.take(to, l.rest, h.Possible) || found
	}
	return found
}

// take adds classes that lack something in a region, if they are active there, and says whether any are.
func (l *lacking) take(to, classes differing.ClassSet, missing region.Region) (found bool) {
	if missing == region.Empty {
		return false
	}
	for i, w := range classes {
		sure := w &^ l.partly[i]
		to[i] |= sure
		found = found || sure != 0
	}
	if !classes.Meets(l.partly) {
		return found
	}
	classes.SetTo(classes, l.partly)
	meets := l.meets(missing)
	for class := range classes.All() {
		if meets[l.active[class]] {
			to.Add(class)
			found = true
		}
	}
	return found
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
