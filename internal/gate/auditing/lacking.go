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
	l := &lacking{
		Cells: cells, outside: map[[2]region.Region]region.Region{}, while: map[region.Region]meeting{},
		kept: map[pileOperation]*differing.Bands{}, rest: cells.NewClassSet(), none: cells.NewClassSet(),
		whole: cells.NewClassSet(), active: cells.Activity(),
		blame: blame{cells: cells, most: most, found: map[grantNeed]*shortfall{}},
	}
	l.plan = newPlan(cells)
	l.lacks = make([]map[lackKey]*lack, len(l.needs))
	if err := l.blame.begin(l.needs); err != nil {
		return nil, err
	}
	l.borne = newBorne(cells, l.needs)
	if err := cells.ByPile(ctx, clock.Beginning, l.pile); err != nil {
		return nil, err
	}
	return l.blame.tell(), nil
}

// lacking looks for what is missing, pile by pile.
type lacking struct {
	*differing.Cells
	plan
	blame      blame
	borne      borne
	kept       map[pileOperation]*differing.Bands
	outside    map[[2]region.Region]region.Region // of two regions, what of one is not in the other
	while      map[region.Region]meeting
	met        meeting // the last of those
	metBy      region.Region
	active     differing.Activity
	lacks      []map[lackKey]*lack // of each need, who lacks it
	serial     uint32              // of the last of those
	short      []shortOf           // what somebody lacks on the pile at hand
	rest, none differing.ClassSet
	partly     []differing.Band // what is there of those who have a part of what is needed, and what of it is missing
	whole      differing.ClassSet
	spare      []differing.ClassSet // that nobody has any more
}

// meeting says of a region whether it meets the times of each activity.
type meeting struct {
	of    []bool
	every bool // it meets all of them but never, at which nobody may anything
}

// lack is who lacks something.
type lack struct {
	all    differing.ClassSet
	count  int    // how many classes they are
	serial uint32 // which no other has of the need
}

// lackKey is the serials of the bands of an operation and of what it needs.
type lackKey struct{ has, there uint64 }

// shortOf is who lacks a need, and on which of a pile's resources; nil: on all.
type shortOf struct {
	need uint32
	lack *lack
	rows []int
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
	l.borne.begin(pile, l.blame.grants, l.blame.at[pile])
	for _, judged := range l.judged[pile] {
		l.short = l.short[:0]
		for _, j := range judged {
			if l.borne.has(pile, j) {
				continue
			}
			lack, err := l.lackOn(pile, j, on)
			if err != nil {
				return err
			}
			if lack.count > 0 {
				l.short = append(l.short, shortOf{j.need, lack, l.rows[pileJudgement{pile, j}]})
			}
		}
		if err := l.blame.find(pile, on, l.short); err != nil {
			return err
		}
	}
	return nil
}

// mostLacks is how many sets of those who lack something are kept of each need.
const mostLacks = 16

// lackOn gives who lacks a need on a pile, as it is judged in one place.
func (l *lacking) lackOn(pile uint32, j judgement, on *differing.OnPile) (*lack, error) {
	has, err := l.bands(pile, l.needs[j.need].operation, on)
	if err != nil {
		return nil, err
	}
	there, err := l.bands(j.above, l.needs[j.need].needed, on)
	if err != nil {
		return nil, err
	}
	key := lackKey{has.Serial, there.Serial}
	if known := l.lacks[j.need][key]; known != nil {
		return known, nil
	}
	clear(l.whole)
	l.add(l.whole, has.List, there.List)
	if l.lacks[j.need] == nil || len(l.lacks[j.need]) >= mostLacks {
		for _, old := range l.lacks[j.need] {
			if old.count > 0 {
				l.spare = append(l.spare, old.all)
			}
		}
		l.lacks[j.need] = map[lackKey]*lack{}
	}
	l.serial++
	out := &lack{count: l.whole.Len(), serial: l.serial}
	if out.count > 0 { // the set is kept, and another taken for the next
		out.all = l.whole
		if k := len(l.spare); k > 0 {
			l.whole, l.spare = l.spare[k-1], l.spare[:k-1]
		} else {
			l.whole = l.NewClassSet()
		}
	}
	l.lacks[j.need][key] = out
	return out, nil
}

// add adds to a set whoever has an operation in contexts in which they have not what it needs.
func (l *lacking) add(to differing.ClassSet, has, there []differing.Band) {
	for _, h := range has {
		l.partly = l.partly[:0]
		rest, last := h.Classes, differing.ClassSet(nil) // who lacks something: the rest without the last
		for _, t := range there {
			if missing := l.without(h.Possible, t.Possible); missing != region.Empty {
				l.partly = append(l.partly, differing.Band{Classes: t.Classes, Cell: differing.Cell{Possible: missing}})
				continue
			}
			if last != nil {
				l.rest.SetBut(rest, last)
				rest = l.rest
			}
			last = t.Classes
		}
		if last == nil {
			last = l.none
		}
		l.take(to, rest, last, h.Possible)
	}
}

// take adds the classes of a set that are not in another, if they are active where they lack something: where they
// have a part of what is needed, in what that is without, and else in a region.
func (l *lacking) take(to, classes, not differing.ClassSet, all region.Region) {
	partly, some := l.active.Partly[:len(classes)], uint64(0)
	to, not = to[:len(classes)], not[:len(classes)]
	for i, w := range classes {
		w &^= not[i]
		to[i] |= w &^ partly[i]
		some |= w & partly[i]
	}
	if some == 0 {
		return
	}
	every := l.meets(all).every
	for i, w := range classes {
		some := w &^ not[i] & partly[i]
		if every && some != 0 {
			own := uint64(0) // of those, who have a part
			for _, t := range l.partly {
				own |= t.Classes[i]
			}
			to[i] |= some &^ own
			some &= own
		}
		for ; some != 0; some &= some - 1 {
			class, missing := uint32(64*i+bits.TrailingZeros64(some)), all
			for _, t := range l.partly {
				if t.Classes.Has(class) {
					missing = t.Possible
				}
			}
			if l.meets(missing).of[l.active.Of[class]] {
				to.Add(class)
			}
		}
	}
}

// mostPairs bounds what is remembered of two regions: some tens of megabytes.
const mostPairs = 1 << 20

// without gives what of a region is not in another; nothing where that is too complex to say.
func (l *lacking) without(r, other region.Region) region.Region {
	if r == other || other == region.Full { // as it is for most
		return region.Empty
	}
	key := [2]region.Region{r, other}
	out, ok := l.outside[key]
	if !ok {
		var err error
		if out, err = l.Space().Minus(r, other); err != nil {
			out = region.Empty
		}
		if len(l.outside) >= mostPairs {
			clear(l.outside)
		}
		l.outside[key] = out
	}
	return out
}

// meets says whether a region meets the times of the activities.
func (l *lacking) meets(r region.Region) meeting {
	if l.met.of != nil && l.metBy == r { // as it is for most, one after the other
		return l.met
	}
	out, ok := l.while[r]
	if !ok {
		out = meeting{make([]bool, len(l.active.Times)), true}
		for i, active := range l.active.Times {
			both, err := l.Space().And(r, active)
			out.of[i] = err == nil && both != region.Empty
			out.every = out.every && (out.of[i] || active == region.Empty)
		}
		if len(l.while)*len(l.active.Times) >= mostPairs {
			clear(l.while)
		}
		l.while[r] = out
	}
	l.met, l.metBy = out, r
	return out
}
