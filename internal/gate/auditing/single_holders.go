// Package auditing looks for what is of no use or too little in what grants and blocks come to: operations without one
// that they need, grants that others or blocks make needless, and what one person alone may do.
package auditing

import (
	"context"
	"iter"
	"maps"
	"slices"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/region"
)

// SingleHolder is one person who alone may do some operations, each of them somewhere.
type SingleHolder struct {
	Who        estate.Principal
	Operations []string // by name
	Resources  []string // some of those on which they alone may do any of them, in tree order
	Count      int      // how many there are
}

// SingleHolders tells which of the operations one person alone may do somewhere on something listed, by standing
// grants, at some time from since on. It names at most so many resources for each person. It costs what going through
// the cells pile by pile does. Its error says that conditions are too complex.
func SingleHolders(ctx context.Context, g *gate.Gate, since clock.Instant, most int,
	selects func(*estate.Operation) bool) ([]SingleHolder, error) {
	cells, err := differing.CompileCells(g.Estate(),
		differing.Scene{Which: gate.Standing, Roster: g.Roster, Base: g})
	if err != nil {
		return nil, err
	}
	cells.Choose(selects, nil)
	h := singles{Cells: cells, since: cells.Space().Between(since, clock.End), active: map[[2]region.Region]bool{},
		activity: cells.Activity(),
		people:   make([][]estate.Principal, cells.Classes()), found: map[estate.Principal]*foundSingle{},
		most: most, last: make([]single, len(cells.Names())), weights: cells.Weights(estate.IsPerson),
		there: cells.NewClassSet(), some: cells.NewClassSet()}
	for n := range h.people {
		if h.meets(h.since, h.activity.When(uint32(n))) {
			h.there.Add(uint32(n))
		}
		for _, who := range cells.Class(uint32(n)) {
			if who.Kind == estate.IsPerson {
				h.people[n] = append(h.people[n], who)
			}
		}
	}
	for n, name := range cells.Names() {
		if selects(g.Estate().Operations[name]) {
			h.operations = append(h.operations, uint32(n))
		}
	}
	if err := cells.ByPile(ctx, since, h.pile); err != nil {
		return nil, err
	}
	return h.tell(), nil
}

// singles looks for who is alone, pile by pile.
type singles struct {
	*differing.Cells
	since      region.Region
	operations []uint32
	people     [][]estate.Principal // of each class
	weights    differing.Weights    // of people
	there      differing.ClassSet   // who is active at some time from then on
	some       differing.ClassSet
	activity   differing.Activity
	active     map[[2]region.Region]bool // of a region and times, whether they meet
	last       []single                  // of each operation, what was found last
	most       int
	found      map[estate.Principal]*foundSingle
}

// single is who alone may do something, if one person may.
type single struct {
	who    estate.Principal
	is     bool
	serial uint64 // of the bands that it was found in
}

type foundSingle struct {
	operations map[uint32]bool
	last       int   // the pile that was counted last
	rows       []int // the first of the resources, in order
	count      int
}

func (h *singles) pile(pile *differing.Pile, on *differing.OnPile) error {
	if !pile.Listed() {
		return nil
	}
	for _, operation := range h.operations {
		if !pile.Valid(operation) || on.Unhindered(operation, h.several) {
			continue
		}
		bands, err := on.Of(operation)
		if err != nil {
			return err
		}
		one := &h.last[operation]
		if one.serial != bands.Serial {
			*one = h.alone(bands.List)
			one.serial = bands.Serial
		}
		if one.is {
			found := h.found[one.who]
			if found == nil {
				found = &foundSingle{operations: map[uint32]bool{}, last: -1}
				h.found[one.who] = found
			}
			found.operations[operation] = true
			if found.last != pile.Number() {
				found.last = pile.Number()
				found.rows = firstRows(found.rows, rowsOf(pile, h.Estate()), h.most)
				found.count += pile.Len()
			}
		}
	}
	return nil
}

// several says whether several people of some classes are active at some time from then on.
func (h *singles) several(classes differing.ClassSet) bool {
	return h.some.SetTo(classes, h.there) && h.weights.Sum(h.some) > 1
}

// alone gives the one person who has some of the bands at some time.
func (h *singles) alone(bands []differing.Band) (one single) {
	for _, b := range bands {
		for class := range b.Classes.All() {
			people := h.people[class]
			if len(people) == 0 || !h.meets(b.Possible, h.activity.When(class)) {
				continue
			}
			if one.is || len(people) > 1 {
				return single{}
			}
			one = single{who: people[0], is: true}
		}
	}
	return one
}

func (h *singles) meets(r, active region.Region) bool {
	if active == region.Full {
		return true
	}
	key := [2]region.Region{r, active}
	out, ok := h.active[key]
	if !ok {
		both, err := h.Space().And(r, active)
		out = err == nil && both != region.Empty
		if len(h.active) >= mostPairs {
			clear(h.active)
		}
		h.active[key] = out
	}
	return out
}

// rowsOf gives a pile's resources by their rows.
func rowsOf(pile *differing.Pile, e *estate.Estate) iter.Seq[int] {
	return func(yield func(int) bool) {
		for row := range pile.Rows(e) {
			if !yield(row) {
				return
			}
		}
	}
}

// firstRows keeps the first of some resources and of more, in tree order.
func firstRows(rows []int, more iter.Seq[int], most int) []int {
	taken := 0
	for row := range more {
		if i, known := slices.BinarySearch(rows, row); !known && i < most {
			rows = slices.Insert(rows, i, row)
			rows = rows[:min(len(rows), most)]
		}
		if taken++; taken == most {
			break
		}
	}
	return rows
}

func (h *singles) tell() []SingleHolder {
	out := make([]SingleHolder, 0, len(h.found))
	for who, found := range h.found {
		one := SingleHolder{Who: who, Count: found.count}
		for _, operation := range slices.Sorted(maps.Keys(found.operations)) {
			one.Operations = append(one.Operations, h.Names()[operation])
		}
		for _, row := range found.rows {
			one.Resources = append(one.Resources, h.Estate().Tree.Address(row))
		}
		out = append(out, one)
	}
	slices.SortFunc(out, func(a, b SingleHolder) int { return a.Who.Compare(b.Who) })
	return out
}
