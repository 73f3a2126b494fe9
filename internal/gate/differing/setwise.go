package differing

import (
	"cmp"
	"context"
	"math/bits"
	"slices"

	"hiddengate/internal/gate/opset"
	"hiddengate/internal/region"
)

// together tells the differences of many classes pile by pile, for all of them at once. It costs the steps of their
// rows, some sets of classes for each pile and operation in question, and a few instructions for each class and pile
// that differ.
type together struct {
	*standings
	sweeps  [2]*sweep
	still   []bool                 // of all classes, whether nothing can differ
	numbers []int                  // of each class that is looked at, its place among all
	odd     [][]uint32             // of each pile, operations that may differ by lists that traits tell; with doubles
	counts  []int                  // of each operation, for how many classes rows say something else on the two sides
	unlike  map[[2]uint32][]uint32 // of two views, the operations of which they say something else
	seen    []uint32               // of each class, the mark and one at which it was last met
	ways    map[wayOfCell]uint32
	way     []wayOfCell
	found   [][]wayPiles // of each class
	place   uint32       // of the piles at hand: of 64 of them
	here    map[uint32]*[64]ClassSet
	order   []uint32 // the ways that have some there
	rooms   ClassRoom
	kept    ClassRoom // for the piles at hand
}

// wayOfCell is how an operation changes.
type wayOfCell struct {
	operation uint32
	was, is   Cell
}

// wayPiles is the piles on which an operation changes in one way for one class.
type wayPiles struct {
	way   uint32
	words []pileWord
}

// pileWord is piles: 64 times the place, and a bit for each of the 64 from there on.
type pileWord struct {
	place uint32
	bits  uint64
}

// plain says that nothing but its rows and tags counts for a class, which differ by rows alone, and what it owns, which
// is the same on both sides.
func (d *differ) plain(w who) bool {
	if d.mayDifferAnywhere(w) {
		return false
	}
	same := d.Old.Estate().Tree == d.New.Estate().Tree
	for k, s := range d.sides {
		n := w.numbers[k]
		if n < 0 || s.Rows.RowOf[n].Active != int32(region.Full) || !same && len(s.owners[n]) > 0 {
			return false
		}
	}
	return true
}

// togetherFor readies what tells the differences of those of some classes that are plain; of none of them, where fewer
// piles would be looked at for one class after another.
func (d *differ) togetherFor(classes [][]who) *together {
	q := d.question(classes)
	if q.piles < len(d.piles) {
		return &together{still: q.still}
	}
	return d.together(q)
}

// question is what classes that are plain may differ by.
type question struct {
	still   []bool             // of each class, that it is plain, and differs by nothing
	plain   [][]who            // the others that are
	numbers []int              // of each of those, its place among all classes
	covers  map[[2]uint32]bool // that rows have at one mark
	odd     map[uint64]bool    // what one of the two has under lists that traits tell: a coverage, and a unit
	piles   int                // that would be looked at for one class after another
}

// question looks at what classes may differ by.
func (d *differ) question(classes [][]who) question {
	q := question{still: make([]bool, len(classes)), covers: map[[2]uint32]bool{}, odd: map[uint64]bool{}}
	for n, class := range classes {
		w := class[0]
		if !d.plain(w) {
			continue
		}
		still := len(d.uneven) == 0
		q.piles += len(d.uneven)
		beside := slices.ContainsFunc(d.sides[:], func(s *side) bool {
			return s.Rows.RowOf[w.numbers[s.number()]].Extras > 0
		})
		d.eachStep(w, func(from, to uint32, covers [2]uint32) bool {
			if beside { // else all that are alike are looked at once
				q.piles += int(to - from)
			}
			q.covers[covers], still = true, false
			return true
		})
		d.eachOdd(w, func(one uint64) {
			q.piles += len(d.within.Get(uint32(one >> 32)))
			q.odd[one], still = true, false
		})
		if q.still[n] = still; !still {
			q.plain, q.numbers = append(q.plain, class), append(q.numbers, n)
		}
	}
	return q
}

// together readies what tells the differences.
func (d *differ) together(q question) *together {
	t := &together{standings: newStandings(d), still: q.still, numbers: q.numbers, odd: make([][]uint32, len(d.piles)),
		counts: make([]int, len(d.names)), unlike: map[[2]uint32][]uint32{}, seen: make([]uint32, len(q.plain)),
		ways: map[wayOfCell]uint32{}, found: make([][]wayPiles, len(q.plain)),
		here: map[uint32]*[64]ClassSet{}}
	t.rooms.words = (len(q.plain) + 63) / 64
	t.kept.words = t.rooms.words
	all, only := newStandings(d), make(opset.Set, (len(d.names)+63)/64)
	add := func(unit uint32) {
		for _, o := range all.opsOf(unit) {
			only.Add(o)
		}
	}
	for covers := range q.covers {
		apart(d.Pair.covers.Get(covers[0]), d.Pair.covers.Get(covers[1]), add)
	}
	for one := range q.odd {
		add(uint32(one))
		for _, n := range d.within.Get(uint32(one >> 32)) {
			t.odd[n] = append(t.odd[n], all.opsOf(uint32(one))...)
		}
	}
	for _, n := range d.uneven {
		for k, s := range d.sides {
			if look := &d.piles[n].looks[k]; look.there {
				t.odd[n] = append(t.odd[n], d.validOn(s, look.at.Class)...)
			}
		}
		for _, o := range t.odd[n] {
			only.Add(o)
		}
	}
	t.only = only
	for k := range t.sweeps {
		t.sweeps[k] = newSweep(t.standings, q.plain, Side(k))
	}
	return t
}

// apart tells what is in one of two sorted lists and not in the other.
func apart[N cmp.Ordered](a, b []N, each func(N)) {
	for len(a)+len(b) > 0 {
		switch {
		case len(b) == 0 || len(a) > 0 && a[0] < b[0]:
			each(a[0])
			a = a[1:]
		case len(a) == 0 || b[0] < a[0]:
			each(b[0])
			b = b[1:]
		default:
			a, b = a[1:], b[1:]
		}
	}
}

// look goes through all piles.
func (t *together) look(ctx context.Context) error {
	if len(t.numbers) == 0 {
		return nil
	}
	for mark := range uint32(len(t.first) - 1) {
		t.pass(mark)
		for n := t.first[mark]; n < t.first[mark+1]; n++ {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			if t.chosen != nil && !t.chosen[n] {
				continue
			}
			if err := t.lookAt(t.piles[n]); err != nil {
				return err
			}
		}
	}
	t.turn()
	return nil
}

// pass takes the steps at a mark, and counts anew for whom rows say something else on the two sides.
func (t *together) pass(mark uint32) {
	steps := [2][]classStep{t.sweeps[0].stepsAt(mark), t.sweeps[1].stepsAt(mark)}
	var met []uint32
	for _, some := range steps {
		for _, step := range some {
			if t.seen[step.class] != mark+1 {
				t.seen[step.class] = mark + 1
				met = append(met, step.class)
				t.count(step.class, -1)
			}
		}
	}
	for k, s := range t.sweeps {
		s.take(steps[k])
	}
	for _, class := range met {
		t.count(class, 1)
	}
}

// count counts a class at the operations of which its rows say something else on the two sides.
func (t *together) count(class uint32, by int) {
	views := [2]uint32{t.sweeps[0].at[class], t.sweeps[1].at[class]}
	if views[0] == views[1] {
		return
	}
	operations, known := t.unlike[views]
	if !known {
		var both [2][]uint64
		for k, v := range views {
			for said := t.views.Get(v); len(said) > 0; said = said[2:] {
				both[k] = append(both[k], uint64(said[0])<<32|uint64(said[1]))
			}
		}
		for k := range both {
			for _, said := range both[k] {
				if o := uint32(said >> 32); !slices.Contains(both[1-k], said) && !slices.Contains(operations, o) {
					operations = append(operations, o)
				}
			}
		}
		t.unlike[views] = operations
	}
	for _, o := range operations {
		t.counts[o] += by
	}
}

// lookAt finds who differs on a pile.
func (t *together) lookAt(pile *Pile) error {
	var operations []uint32
	for o, n := range t.counts {
		if n > 0 {
			operations = append(operations, uint32(o))
		}
	}
	operations = append(operations, t.odd[pile.number]...)
	slices.Sort(operations)
	operations = slices.Compact(operations)
	if len(operations) == 0 {
		return nil
	}
	var on [2]*OnPile
	for k, s := range t.sweeps {
		if pile.looks[k].there {
			on[k] = s.onPile(pile)
		}
	}
	for _, o := range operations {
		var both [2][]Band
		for k, s := range t.sides {
			if on[k] == nil || !slices.Contains(t.validOn(s, pile.looks[k].at.Class), o) {
				continue
			}
			bands, err := on[k].Of(o)
			if err != nil {
				return err
			}
			both[k] = bands.List
		}
		t.hold(pile.number, o, both)
	}
	return nil
}

// hold holds against each other who may do an operation on a pile on either side.
func (t *together) hold(pile, operation uint32, both [2][]Band) {
	t.rooms.Free()
	rest, some, now := t.rooms.Any(), t.rooms.Any(), t.rooms.Empty()
	for _, is := range both[New] {
		now.AddAll(is.Classes)
		copy(rest, is.Classes)
		for _, was := range both[Old] {
			if was.Cell == is.Cell {
				rest.DropAll(was.Classes)
			}
		}
		if rest.Len() == 0 {
			continue
		}
		for _, was := range both[Old] {
			if !some.SetTo(rest, was.Classes) {
				continue
			}
			rest.DropAll(some)
			if !t.meansTheSame(was.Cell, is.Cell) {
				t.take(pile, wayOfCell{operation, was.Cell, is.Cell}, some)
			}
		}
		t.take(pile, wayOfCell{operation, Cell{}, is.Cell}, rest)
	}
	for _, was := range both[Old] {
		rest.SetBut(was.Classes, now)
		t.take(pile, wayOfCell{operation, was.Cell, Cell{}}, rest)
	}
}

// take takes down that an operation changes on a pile for some classes.
func (t *together) take(pile uint32, change wayOfCell, classes ClassSet) {
	if !slices.ContainsFunc(classes, func(w uint64) bool { return w != 0 }) {
		return
	}
	way, known := t.ways[change]
	if !known {
		way = uint32(len(t.way))
		t.ways[change], t.way = way, append(t.way, change)
	}
	if t.place != pile/64 {
		t.turn()
		t.place = pile / 64
	}
	sets := t.here[way]
	if sets == nil {
		sets = new([64]ClassSet)
		t.here[way], t.order = sets, append(t.order, way)
	}
	sets[pile%64] = t.kept.Any()
	copy(sets[pile%64], classes)
}

// turn makes of the classes that each of the piles at hand has the piles that each class has.
func (t *together) turn() {
	for _, way := range t.order {
		sets := t.here[way]
		for w := range t.kept.words {
			var bits [64]uint64
			some := uint64(0)
			for i, set := range sets {
				if set != nil {
					bits[i] = set[w]
					some |= set[w]
				}
			}
			if some == 0 {
				continue
			}
			transpose(&bits)
			for i, piles := range bits {
				if piles != 0 {
					t.add(64*w+i, way, piles)
				}
			}
		}
	}
	clear(t.here)
	t.order = t.order[:0]
	t.kept.Free()
}

// add adds some of the piles at hand to those of a class and way.
func (t *together) add(class int, way uint32, piles uint64) {
	of := t.found[class]
	if len(of) == 0 || of[0].way != way {
		i := slices.IndexFunc(of, func(w wayPiles) bool { return w.way == way })
		if i < 0 {
			of = append(of, wayPiles{way: way})
			i = len(of) - 1
			t.found[class] = of
		}
		of[0], of[i] = of[i], of[0] // the next piles are often like these
	}
	of[0].words = append(of[0].words, pileWord{t.place, piles})
}

// transpose makes rows of columns: a square of bits is cut in four again and again, of which two change places (H. S.
// Warren, Hacker's Delight, 2nd edition, 7-3).
func transpose(square *[64]uint64) {
	mask := uint64(1)<<32 - 1
	for j := 32; j != 0; j, mask = j/2, mask^mask<<(j/2) {
		for k := 0; k < 64; k = (k + j + 1) &^ j {
			swap := (square[k]>>j ^ square[k+j]) & mask
			square[k] ^= swap << j
			square[k+j] ^= swap
		}
	}
}

// of tells the differences of a class, if it was looked at. Classes are asked for in order.
func (t *together) of(n int) (out []foundDifference, known bool) {
	if t == nil || len(t.numbers) == 0 || t.numbers[0] != n {
		return nil, t != nil && t.still[n]
	}
	t.numbers = t.numbers[1:]
	class := len(t.found) - len(t.numbers) - 1
	slices.SortFunc(t.found[class], func(a, b wayPiles) int {
		return cmp.Or(cmp.Compare(t.way[a.way].operation, t.way[b.way].operation), cmp.Compare(a.way, b.way))
	})
	for _, one := range t.found[class] {
		d := t.standings.differ
		d.joined = Piles{pair: t.Pair, spans: d.joined.spans[:0]}
		for _, w := range one.words {
			for w.bits != 0 {
				from := uint32(bits.TrailingZeros64(w.bits))
				n := uint32(bits.TrailingZeros64(^(w.bits >> from)))
				d.joined.addSpan(64*w.place+from, 64*w.place+from+n)
				w.bits &^= (1<<n - 1) << from
			}
		}
		way := t.way[one.way]
		out = append(out, foundDifference{operationChange(way), d.sets.once(&d.joined)})
	}
	t.found[class] = nil
	return out, true
}
