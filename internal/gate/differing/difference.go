package differing

import (
	"cmp"
	"context"
	"encoding/binary"
	"maps"
	"slices"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/region"
)

// Cell is when one subject may do one operation to one resource: Sure in every possible session, Possible in some. They
// are the same where there is one session.
type Cell struct{ Sure, Possible region.Region }

// Difference is an operation that some subjects, whom nothing tells apart, may do at other times or under other
// conditions than before, or now and not before, on the resources of some piles.
type Difference struct {
	Subjects  []estate.Principal
	Operation string
	Old, New  Cell
	Piles     *Piles
}

// operationTimes is what one subject may do to one resource: the operations, by number, of which it may do any,
// and when.
type operationTimes struct {
	operations []uint32
	when       []Cell
}

type operationChange struct {
	operation uint32
	was, is   Cell
}

// who is a subject on both sides: its number in either gate, -1 where there is none.
type who struct {
	principal estate.Principal
	numbers   [2]int
}

// likeness is all that tells subjects apart.
type likeness struct {
	class  [2]uint32
	active [2]int32
	there  [2]bool
	tags   [2]string
	self   int // its own, for a subject that owns something
}

// Differences tells whose access differs from an instant on. They come by subject. It stops when each returns false.
// Its error says that the conditions are too complex, or that the context ended.
func (p *Pair) Differences(ctx context.Context, since clock.Instant, each func(Difference) bool) error {
	p.begin(since)
	classes, d := p.alikes(), newDiffer(p)
	all := d.togetherFor(classes)
	if err := all.look(ctx); err != nil {
		return err
	}
	return d.tell(ctx, classes, all, each)
}

// alikes puts subjects together whom nothing tells apart.
func (p *Pair) alikes() (classes [][]who) {
	alike := map[likeness]int{}
	for _, w := range p.everyone() {
		key := p.likeness(w)
		n, ok := alike[key]
		if !ok {
			n = len(classes)
			alike[key] = n
			classes = append(classes, nil)
		}
		classes[n] = append(classes[n], w)
	}
	return classes
}

// tell tells the differences of classes of subjects.
func (p *Pair) tell(ctx context.Context, classes [][]who, each func(Difference) bool) error {
	return newDiffer(p).tell(ctx, classes, nil, each)
}

// tell does it with what is known of those that were looked at together; nil: there are none.
func (d *differ) tell(ctx context.Context, classes [][]who, all *together, each func(Difference) bool) error {
	for n, class := range classes {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if d.among != nil && !slices.ContainsFunc(class, func(w who) bool { return d.among(w.principal) }) {
			continue
		}
		found, known := all.of(n)
		if !known {
			var err error
			if found, err = d.walk(class[0]); err != nil {
				return err
			}
		}
		var subjects []estate.Principal
		for _, w := range class {
			subjects = append(subjects, w.principal)
		}
		for _, f := range found {
			if !each(Difference{subjects, d.names[f.operation], f.was, f.is, f.piles}) {
				return nil
			}
		}
	}
	return nil
}

// Between tells how what one subject may do in the old estate differs from what another may in the new one, from an
// instant on: Old is the one's, New the other's. What is the same is told too. Its error says that one is unknown, or
// that the conditions are too complex.
func (p *Pair) Between(one, other estate.Principal, since clock.Instant, each func(Difference)) error {
	w := who{one, [2]int{p.Old.NumberOf(one), p.New.NumberOf(other)}}
	if w.numbers[0] < 0 {
		return p.Old.Subject(one)
	}
	if w.numbers[1] < 0 {
		return p.New.Subject(other)
	}
	p.begin(since)
	d := newDiffer(p)
	d.all = true
	found, err := d.walk(w)
	for _, f := range found {
		each(Difference{[]estate.Principal{one}, p.names[f.operation], f.was, f.is, f.piles})
	}
	return err
}

func (p *Pair) begin(since clock.Instant) {
	p.since, p.sets = p.New.Space().Between(since, clock.End), newGathering()
	clear(p.cells)
	clear(p.turned)
	p.turns = make([][]operationChange, noChange+1)
	p.assort()
	p.whole = map[region.Region]region.Region{}
}

// everyone lists the subjects of both who are looked at, people first, by id, anonymous last.
func (p *Pair) everyone() []who {
	var out []who
	if p.only != nil {
		for a, is := range p.only {
			if w := (who{a, [2]int{p.Old.NumberOf(a), p.New.NumberOf(a)}}); is && max(w.numbers[0], w.numbers[1]) >= 0 {
				out = append(out, w)
			}
		}
		slices.SortFunc(out, func(a, b who) int { return a.principal.Compare(b.principal) })
		return out
	}
	i, j := 0, 0
	for i < len(p.Old.All) || j < len(p.New.All) {
		var a, b estate.Principal
		order := 0
		switch {
		case i == len(p.Old.All):
			order, b = 1, p.New.SubjectOf(j)
		case j == len(p.New.All):
			order, a = -1, p.Old.SubjectOf(i)
		default:
			a, b = p.Old.SubjectOf(i), p.New.SubjectOf(j)
			order = a.Compare(b)
		}
		switch {
		case order < 0:
			out = append(out, who{a, [2]int{i, -1}})
			i++
		case order > 0:
			out = append(out, who{b, [2]int{-1, j}})
			j++
		default:
			out = append(out, who{a, [2]int{i, j}})
			i++
			j++
		}
	}
	return out
}

func (p *Pair) likeness(w who) (l likeness) {
	for k, s := range p.sides {
		n := w.numbers[k]
		if n < 0 {
			continue
		}
		l.there[k], l.class[k], l.active[k] = true, s.ClassOf[n], s.Rows.RowOf[n].Active
		if s.Facts.Fixed > 1 {
			l.tags[k] = s.All[n].Tags.Name(func(key string) bool { return s.Facts.Same[key] || s.Facts.Subject[key] })
		}
		if len(s.owners[n]) > 0 {
			l.self = w.numbers[0]*(len(p.New.All)+2) + w.numbers[1] + 2
		}
	}
	return l
}

// differ walks the piles for one class of subjects after another.
type differ struct {
	*Pair
	marked  []uint32 // of each pile, the round in which it was found worth a look
	round   uint32
	look    []uint32 // those piles
	changes map[changeList]*Piles
	joined  Piles // for what is gathered next
	order   []changeList
	at      [2][]uint32
	all     bool                          // what is the same is told too
	known   map[spotOfOne]*operationTimes // of the subject at hand
	aside   pileSet                       // likewise, piles in which more than its steps counts
	beside  [2]pileUnits                  // likewise, the units that it has there beside its steps
	held    [2][]uint64                   // likewise, its units under lists that traits tell
	given   []region.Region               // of the units at hand
	taken   []region.Region
	key     []byte // of what they come to
}

func newDiffer(p *Pair) *differ {
	return &differ{Pair: p, marked: make([]uint32, len(p.piles)), known: map[spotOfOne]*operationTimes{},
		changes: map[changeList]*Piles{}}
}

// foundDifference is a change with the piles on which it is so.
type foundDifference struct {
	operationChange
	piles *Piles
}

// walk finds the differences for a subject.
func (d *differ) walk(w who) ([]foundDifference, error) {
	d.round++
	d.look = d.look[:0]
	clear(d.known)
	clear(d.changes)
	d.order = d.order[:0]
	owns := d.ownedBy(w)
	if d.all || d.mayDifferAnywhere(w) {
		for n := range d.piles {
			d.lookAt(uint32(n))
		}
	} else {
		for _, n := range d.uneven {
			d.lookAt(n)
		}
		d.lookAtExtras(w)
		if err := d.walkSteps(w, owns); err != nil {
			return nil, err
		}
	}
	slices.Sort(d.look)
	for _, n := range d.look {
		if d.onlyOne && len(d.order) > 0 {
			break
		}
		pile := d.piles[n]
		if _, owned := owns[ownedPlace{n, 0}]; owned {
			continue // with all of its resources, which have the same owner; they are looked at below
		}
		if err := d.compare(w, pile, [2]bool{}); err != nil {
			return nil, err
		}
	}
	for _, at := range slices.SortedFunc(maps.Keys(owns),
		func(a, b ownedPlace) int { return cmp.Or(cmp.Compare(a.pile, b.pile), a.index-b.index) }) {
		owns := owns[at]
		if owns[0] == owns[1] && d.marked[at.pile] != d.round {
			continue
		}
		if err := d.compare(w, d.piles[at.pile].only(at.index), owns); err != nil {
			return nil, err
		}
	}
	return d.gathered(), nil
}

// gathered gives what has been found, by operation, and the piles in order.
func (d *differ) gathered() []foundDifference {
	lists := map[operationChange][]changeList{}
	var order []operationChange
	for _, t := range d.order {
		for _, c := range d.turns[t] {
			if lists[c] == nil {
				order = append(order, c)
			}
			lists[c] = append(lists[c], t)
		}
	}
	slices.SortStableFunc(order, func(a, b operationChange) int { return int(a.operation) - int(b.operation) })
	piles := map[string]*Piles{}
	out := make([]foundDifference, 0, len(order))
	var key []byte
	for _, c := range order {
		key = key[:0]
		for _, t := range lists[c] {
			key = binary.LittleEndian.AppendUint32(key, uint32(t))
		}
		all, ok := piles[string(key)]
		if !ok {
			d.joined.spans, d.joined.parts, d.joined.pair = d.joined.spans[:0], d.joined.parts[:0], d.Pair
			for _, t := range lists[c] {
				d.joined.addAll(d.changes[t])
			}
			all = d.sets.once(&d.joined)
			piles[string(key)] = all
		}
		out = append(out, foundDifference{c, all})
	}
	return out
}

// compare holds against each other what the subject may do to the resources of a pile on both sides.
func (d *differ) compare(w who, pile *Pile, owns [2]bool) error {
	var both [2]*operationTimes
	for k := range d.sides {
		var err error
		if both[k], err = d.cellsOn(about{k, w.numbers[k], pile, owns[k]}); err != nil {
			return err
		}
	}
	if t := d.changesBetween(both); t != noChange {
		d.found(t).add(pile)
	}
	return nil
}

// changeList is a list of changes by its number.
type changeList uint32

// noChange is no change at all.
const noChange changeList = 1

// changesBetween tells the changes from one to the other.
func (d *differ) changesBetween(both [2]*operationTimes) changeList {
	if both[0] == both[1] && !d.all {
		return noChange
	}
	t, ok := d.turned[both]
	if !ok {
		t = noChange
		changes := both[0].changes(both[1], d.all)
		if !d.all {
			changes = slices.DeleteFunc(changes, func(c operationChange) bool { return d.meansTheSame(c.was, c.is) })
		}
		if len(changes) > 0 {
			t = changeList(len(d.turns))
			d.turns = append(d.turns, changes)
		}
		d.turned[both] = t
	}
	return t
}

// meansTheSame says that two cells are so at the same times and under the same conditions, though they are written
// otherwise: a grant that begins later in the night than its hours last begins no later.
func (d *differ) meansTheSame(was, is Cell) bool {
	s := d.Space()
	same := func(a, b region.Region) bool {
		if a == b {
			return true
		}
		more, err := s.Contains(a, b)
		less, errTwo := s.Contains(b, a)
		return err == nil && errTwo == nil && more && less
	}
	return same(was.Sure, is.Sure) && same(was.Possible, is.Possible)
}

// found gives the piles that have been found to change in a way.
func (d *differ) found(t changeList) *Piles {
	known := d.changes[t]
	if known == nil {
		known = &Piles{pair: d.Pair}
		d.changes[t] = known
		d.order = append(d.order, t)
	}
	return known
}

// changes lists the operations for which two differ, or all.
func (c *operationTimes) changes(to *operationTimes, all bool) (out []operationChange) {
	i, j := 0, 0
	for i < len(c.operations) || j < len(to.operations) {
		var one operationChange
		switch {
		case j == len(to.operations) || i < len(c.operations) && c.operations[i] < to.operations[j]:
			one = operationChange{c.operations[i], c.when[i], Cell{}}
			i++
		case i == len(c.operations) || to.operations[j] < c.operations[i]:
			one = operationChange{to.operations[j], Cell{}, to.when[j]}
			j++
		default:
			one = operationChange{c.operations[i], c.when[i], to.when[j]}
			i++
			j++
		}
		if all || one.was != one.is {
			out = append(out, one)
		}
	}
	return out
}
