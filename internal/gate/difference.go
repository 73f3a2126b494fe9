package gate

import (
	"cmp"
	"encoding/binary"
	"maps"
	"slices"
	"strings"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/placemap"
	"hiddengate/internal/gate/unitrow"
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
	Piles     []*Pile
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
// Its error says that the conditions are too complex.
func (p *Pair) Differences(since clock.Instant, each func(Difference) bool) error {
	p.begin(since)
	return p.tell(p.alikes(), each)
}

// alikes puts subjects together whom nothing tells apart.
func (p *Pair) alikes() (classes [][]who) {
	alike := map[likeness]int{}
	for _, w := range p.everyone() {
		if p.only != nil && !p.only[w.principal] {
			continue
		}
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
func (p *Pair) tell(classes [][]who, each func(Difference) bool) error {
	d := differ{Pair: p, marked: make([]uint32, len(p.piles))}
	for _, class := range classes {
		if p.among != nil && !slices.ContainsFunc(class, func(w who) bool { return p.among(w.principal) }) {
			continue
		}
		found, err := d.walk(class[0])
		if err != nil {
			return err
		}
		var subjects []estate.Principal
		for _, w := range class {
			subjects = append(subjects, w.principal)
		}
		for _, f := range found {
			if !each(Difference{subjects, p.names[f.operation], f.was, f.is, f.piles}) {
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
	d := differ{Pair: p, marked: make([]uint32, len(p.piles)), all: true}
	found, err := d.walk(w)
	for _, f := range found {
		each(Difference{[]estate.Principal{one}, p.names[f.operation], f.was, f.is, f.piles})
	}
	return err
}

func (p *Pair) begin(since clock.Instant) {
	p.since = p.New.space.Between(since, clock.End)
	clear(p.cells)
	clear(p.turned)
	p.turns = make([][]operationChange, noChange+1)
	p.assort()
	p.whole = map[region.Region]region.Region{}
}

// everyone lists the subjects of both, people first, by id, anonymous last.
func (p *Pair) everyone() []who {
	var out []who
	i, j := 0, 0
	rank := func(a estate.Principal) int {
		if a.Kind == estate.IsAnonymous {
			return 3
		}
		return int(a.Kind)
	}
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
			if order = rank(a) - rank(b); order == 0 {
				order = strings.Compare(a.ID, b.ID)
			}
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
	changes map[operationChange][]*Pile
	order   []operationChange
	at      [2][]uint32
	all     bool                          // what is the same is told too
	known   map[spotOfOne]*operationTimes // of the subject at hand
	aside   []uint32                      // likewise, piles in which more than its steps counts
	each    func(changeList, []*Pile)     // takes what is found, if it is not nil; piles come in no order
}

// spotOfOne is all by which resources can differ for one subject. Where there are several sessions, the mark stands for
// the cover.
type spotOfOne struct {
	side, cover, trait, class, facts uint32
	owns                             bool
}

// foundDifference is a change with the piles on which it is so.
type foundDifference struct {
	operationChange
	piles []*Pile
}

// walk finds the differences for a subject.
func (d *differ) walk(w who) ([]foundDifference, error) {
	d.round++
	d.look = d.look[:0]
	if d.known == nil {
		d.known = map[spotOfOne]*operationTimes{}
	}
	clear(d.known)
	d.changes, d.order = map[operationChange][]*Pile{}, d.order[:0]
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
		pile := *d.piles[at.pile]
		pile.places = pile.places[at.index : at.index+1]
		if err := d.compare(w, &pile, owns); err != nil {
			return nil, err
		}
	}
	return d.gathered(), nil
}

// gathered gives what has been found, by operation, and the piles in order.
func (d *differ) gathered() []foundDifference {
	out := make([]foundDifference, 0, len(d.order))
	for _, c := range d.order {
		out = append(out, foundDifference{c, inOrder(d.changes[c])})
	}
	slices.SortStableFunc(out, func(a, b foundDifference) int { return int(a.operation) - int(b.operation) })
	return out
}

// inOrder brings piles into order that are a few rows in order, one behind the other.
func inOrder(piles []*Pile) []*Pile {
	row := func(from int) int {
		to := from + 1
		for to < len(piles) && piles[to-1].number <= piles[to].number {
			to++
		}
		return to
	}
	for first := row(0); first < len(piles); {
		second := row(first)
		merged := make([]*Pile, 0, len(piles))
		a, b := piles[:first], piles[first:second]
		for len(a) > 0 && len(b) > 0 {
			if b[0].number < a[0].number {
				merged, b = append(merged, b[0]), b[1:]
			} else {
				merged, a = append(merged, a[0]), a[1:]
			}
		}
		piles = slices.Concat(merged, a, b, piles[second:])
		first = second
	}
	return piles
}

// bareSpot is all by which subjects can differ, over piles of one sort, who own none of them and whom no list covers
// that traits tell.
type bareSpot struct {
	covers [2]uint32
	active [2]int32
	tags   string
	owner  [2]bool // it can own something as somebody whom no list names
}

// mostTurns bounds what is remembered of them: a hundred megabytes.
const mostTurns = 1 << 25

// walkSteps goes through the stretches of piles over which a subject's rows have other covers. What they come to is
// worked out once for each sort of pile; piles in which the subject is told from others by more than that are marked
// instead, and so are looked at one by one.
func (d *differ) walkSteps(w who, owns map[ownedPlace][2]bool) error {
	aside := d.setAside(w, owns)
	spot := bareSpot{tags: d.likeness(w).tags[0]}
	for k, s := range d.sides {
		spot.active[k] = s.Rows.RowOf[w.numbers[k]].Active
		spot.owner[k] = d.owners && d.ownsUntested(s, w.numbers[k])
	}
	var bad error
	d.eachStep(w, func(from, to uint32, covers [2]uint32) bool {
		spot.covers = covers
		turns := d.bare[spot]
		if turns == nil {
			if len(d.bare)*d.sorts > mostTurns {
				clear(d.bare)
			}
			turns = make([]changeList, d.sorts)
			d.bare[spot] = turns
		}
		set := between(aside, from, to)
		start, now := from, noChange // of piles in a row that change alike
		for n := from; n < to; n++ {
			next := noChange
			switch sort := d.sort[n]; {
			case len(set) > 0 && set[0] == n:
				d.lookAt(n)
				set = set[1:]
			case sort != noSort:
				if turns[sort] == 0 {
					if turns[sort], bad = d.bareTurn(w, d.piles[n], covers); bad != nil {
						return false
					}
				}
				next = turns[sort]
			}
			if next != now {
				d.found(now, d.piles[start:n])
				start, now = n, next
			}
		}
		d.found(now, d.piles[start:to])
		return !d.onlyOne || len(d.order) == 0
	})
	return bad
}

// between gives those of some numbers, in order, that are from one on and below another.
func between(numbers []uint32, from, to uint32) []uint32 {
	first, _ := slices.BinarySearch(numbers, from)
	n, _ := slices.BinarySearch(numbers[first:], to)
	return numbers[first : first+n]
}

// setAside lists the piles in which a subject owns something or is covered by a list that traits tell, in order.
func (d *differ) setAside(w who, owns map[ownedPlace][2]bool) []uint32 {
	out := d.aside[:0]
	for k, s := range d.sides {
		h := &s.Rows.RowOf[w.numbers[k]]
		for _, e := range s.Rows.Extras[h.Extra : h.Extra+h.Extras] {
			out = append(out, d.within[s.coverage[e.Trait]]...)
		}
	}
	for at := range owns {
		out = append(out, at.pile)
	}
	slices.Sort(out)
	d.aside = slices.Compact(out)
	return d.aside
}

const noSort = ^uint32(0)

// assort puts the chosen piles that are alike on both sides into sorts: those of one sort are told apart by marks and
// lists alone.
func (p *Pair) assort() {
	type traits struct{ classes, facts [2]uint32 }
	known := map[traits]uint32{}
	p.sort, p.bare = make([]uint32, len(p.piles)), map[bareSpot][]changeList{}
	for n, pile := range p.piles {
		var one traits
		for k, l := range pile.looks {
			one.classes[k], one.facts[k] = l.at.Class, l.facts
		}
		sort, ok := known[one]
		if !ok {
			sort = uint32(len(known))
			known[one] = sort
		}
		p.sort[n] = sort
		if p.chosen != nil && !p.chosen[n] {
			p.sort[n] = noSort
		}
	}
	for _, n := range p.uneven {
		p.sort[n] = noSort
	}
	p.sorts = len(known)
}

// bareTurn is what covers alone make of a pile for a subject.
func (d *differ) bareTurn(w who, pile *Pile, covers [2]uint32) (changeList, error) {
	both := [2]*operationTimes{nothing, nothing}
	for k, s := range d.sides {
		if !pile.looks[k].there || s.Rows.RowOf[w.numbers[k]].Active == int32(region.Empty) {
			continue
		}
		d.at[k] = append(d.at[k][:0], d.Pair.covers.Get(covers[k])...)
		var err error
		if both[k], err = d.work(k, w.numbers[k], pile, false, d.at[k]); err != nil {
			return noChange, err
		}
	}
	return d.changesBetween(both), nil
}

func (d *differ) lookAt(n uint32) {
	if d.marked[n] != d.round && (d.chosen == nil || d.chosen[n]) {
		d.marked[n] = d.round
		d.look = append(d.look, n)
	}
}

// mayDifferAnywhere says that anything may differ for the subject.
func (d *differ) mayDifferAnywhere(w who) bool {
	l := d.likeness(w)
	if l.there[0] != l.there[1] || l.active[0] != l.active[1] || l.tags[0] != l.tags[1] {
		return true
	}
	for k, s := range d.sides {
		if s.Rows.RowOf[w.numbers[k]].Flags&unitrow.Separated != 0 {
			return true
		}
	}
	return false
}

// eachStep goes through the stretches of piles over which the two rows have other covers, until each returns false.
func (d *differ) eachStep(w who, each func(from, to uint32, covers [2]uint32) bool) {
	var steps [2][]unitrow.Step
	for k, s := range d.sides {
		h := &s.Rows.RowOf[w.numbers[k]]
		steps[k] = s.Rows.Steps[h.Row : h.Row+h.Steps]
	}
	var now [2]uint32
	for len(steps[0]) > 0 || len(steps[1]) > 0 {
		at := ^uint32(0)
		for k := range steps {
			if len(steps[k]) > 0 {
				at = min(at, steps[k][0].Mark)
			}
		}
		next := uint32(len(d.first) - 1)
		for k, s := range d.sides {
			if len(steps[k]) > 0 && steps[k][0].Mark == at {
				now[k] = d.coverOf(s, steps[k][0].Cover)
				steps[k] = steps[k][1:]
			}
			if len(steps[k]) > 0 {
				next = min(next, steps[k][0].Mark)
			}
		}
		if now[0] != now[1] && (d.concerns(now[0]) || d.concerns(now[1])) {
			if !each(d.first[at], d.first[next], now) {
				return
			}
		}
	}
}

// speaks says whether a unit has an operation that is looked at.
func (p *Pair) speaks(unit uint32) bool {
	if p.wanted == nil {
		return true
	}
	for op, wanted := range p.wanted {
		if wanted && p.list[unit].has(uint32(op)) {
			return true
		}
	}
	return false
}

// concerns says it of a cover.
func (p *Pair) concerns(cover uint32) bool {
	if p.wanted == nil {
		return true
	}
	is, ok := p.concerned[cover]
	if !ok {
		is = slices.ContainsFunc(p.covers.Get(cover), p.speaks)
		p.concerned[cover] = is
	}
	return is
}

// lookAtExtras marks the piles that lists cover, told by traits, under which the two have other units.
func (d *differ) lookAtExtras(w who) {
	type held struct{ coverage, unit uint32 }
	sides := map[held]int{}
	for k, s := range d.sides {
		h := &s.Rows.RowOf[w.numbers[k]]
		for _, e := range s.Rows.Extras[h.Extra : h.Extra+h.Extras] {
			sides[held{s.coverage[e.Trait], s.joint[e.Unit]}] |= 1 << k
		}
	}
	for h, k := range sides {
		if k != 3 && d.speaks(h.unit) {
			for _, n := range d.within[h.coverage] {
				d.lookAt(n)
			}
		}
	}
}

// ownedBy tells of each resource that the subject owns on which side it does.
func (d *differ) ownedBy(w who) map[ownedPlace][2]bool {
	var out map[ownedPlace][2]bool
	for k, s := range d.sides {
		if w.numbers[k] < 0 {
			continue
		}
		for _, owner := range s.owners[w.numbers[k]] {
			for _, at := range s.owned[owner] {
				if out == nil {
					out = map[ownedPlace][2]bool{}
				}
				owns := out[at]
				owns[k] = true
				out[at] = owns
			}
		}
	}
	return out
}

// compare holds against each other what the subject may do to the resources of a pile on both sides.
func (d *differ) compare(w who, pile *Pile, owns [2]bool) error {
	var both [2]*operationTimes
	for k := range d.sides {
		var err error
		if both[k], err = d.cellsOn(k, w.numbers[k], pile, owns[k]); err != nil {
			return err
		}
	}
	d.found(d.changesBetween(both), []*Pile{pile})
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
		if changes := both[0].changes(both[1], d.all); len(changes) > 0 {
			t = changeList(len(d.turns))
			d.turns = append(d.turns, changes)
		}
		d.turned[both] = t
	}
	return t
}

// found takes down that some piles change.
func (d *differ) found(t changeList, piles []*Pile) {
	if t == noChange || len(piles) == 0 {
		return
	}
	if d.each != nil {
		d.each(t, piles)
		return
	}
	for _, c := range d.turns[t] {
		if known := d.changes[c]; known == nil {
			d.order = append(d.order, c)
			d.changes[c] = slices.Clip(piles) // shared until something is added
		} else {
			d.changes[c] = append(known, piles...)
		}
	}
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

var nothing = &operationTimes{}

// cellsOn works out what a subject may do to the resources of a pile on one side.
func (d *differ) cellsOn(k, n int, pile *Pile, owns bool) (*operationTimes, error) {
	s, at := d.sides[k], &pile.looks[k]
	if n < 0 || !at.there || s.Rows.RowOf[n].Active == int32(region.Empty) {
		return nothing, nil
	}
	h := &s.Rows.RowOf[n]
	if h.Flags&unitrow.Separated != 0 {
		one := spotOfOne{uint32(k), at.at.Mark, at.at.Trait, at.at.Class, at.facts, owns}
		c, ok := d.known[one]
		if !ok {
			var err error
			if c, err = d.sessions(k, n, pile, owns); err != nil {
				return nil, err
			}
			d.known[one] = c
		}
		return c, nil
	}
	if h.Steps == 0 && h.Extras == 0 {
		return nothing, nil
	}
	cover := s.Rows.At(h, at.at.Mark)
	one := spotOfOne{uint32(k), cover, at.at.Trait, at.at.Class, at.facts, owns}
	if c, ok := d.known[one]; ok {
		return c, nil
	}
	c, err := d.work(k, n, pile, owns, d.unitsOn(k, n, at.at, cover))
	if err == nil {
		d.known[one] = c
	}
	return c, err
}

// unitsOn lists the units that are in force for a subject on a pile, given the cover there.
func (d *differ) unitsOn(k, n int, at placemap.Spot, cover uint32) []uint32 {
	s := d.sides[k]
	h := &s.Rows.RowOf[n]
	units := append(d.at[k][:0], d.Pair.covers.Get(d.coverOf(s, cover))...)
	if at.Trait > 0 {
		for _, e := range s.Rows.Extras[h.Extra : h.Extra+h.Extras] {
			if s.Places.Traits.Has(at.Trait, int(e.Trait)) {
				units = append(units, s.joint[e.Unit])
			}
		}
		slices.Sort(units)
		units = slices.Compact(units)
	}
	d.at[k] = units
	return units
}

// work works out what units come to for a subject on a pile.
func (d *differ) work(k, n int, pile *Pile, owns bool, units []uint32) (*operationTimes, error) {
	s, at, h := d.sides[k], &pile.looks[k], &d.sides[k].Rows.RowOf[n]
	if len(units) == 0 {
		return nothing, nil
	}
	key := binary.AppendUvarint([]byte{byte(k)}, uint64(at.at.Class))
	key = binary.AppendVarint(key, int64(h.Active))
	asks := false
	for _, u := range units {
		key = binary.AppendUvarint(key, uint64(u))
		asks = asks || s.space.AsksBelow(d.list[u].region, s.Facts.Fixed)
	}
	if asks {
		key = binary.AppendUvarint(key, uint64(at.facts))
		key = append(append(key, 0xff),
			s.All[n].Tags.Name(func(key string) bool { return s.Facts.Same[key] || s.Facts.Subject[key] })...)
		if owns {
			key = append(key, 0xfe)
		}
		if d.owners && pile.may != nil && d.ownsUntested(s, n) {
			key = append(key, 0xfd)
		}
	}
	if c, ok := d.cells[string(key)]; ok {
		return c, nil
	}
	var known *region.Context
	if asks {
		known = s.space.NewContext()
		d.fixFor(known, k, n, pile, owns)
	}
	out := &operationTimes{}
	for _, o := range d.validOn(s, at.at.Class) {
		when, err := d.when(s, o, units, region.Region(h.Active), known)
		if err != nil {
			return nil, err
		}
		if when != region.Empty {
			out.operations = append(out.operations, o)
			out.when = append(out.when, Cell{when, when})
		}
	}
	d.cells[string(key)] = out
	return out, nil
}

// when is the region in which units give an operation.
func (d *differ) when(s *side, operation uint32, units []uint32, active region.Region,
	known *region.Context) (region.Region, error) {
	given, blocked := region.Empty, region.Empty
	for _, u := range units {
		one := &d.list[u]
		if !one.has(operation) {
			continue
		}
		r := one.region
		if known != nil {
			r = s.space.Fix(r, known)
		}
		to := &given
		if one.block {
			to = &blocked
		}
		var err error
		if *to, err = s.space.Or(*to, r); err != nil {
			return region.Empty, err
		}
	}
	if given == region.Empty {
		return given, nil
	}
	rest, err := s.space.Minus(given, blocked)
	if err != nil {
		return region.Empty, err
	}
	return d.fromNow(s, rest, active)
}

// fromNow leaves out of a region what is over, and remembers what it was a part of.
func (d *differ) fromNow(s *side, regions ...region.Region) (region.Region, error) {
	all, err := s.space.And(regions...)
	if err != nil {
		return region.Empty, err
	}
	r, err := s.space.And(all, d.since)
	d.whole[r] = all
	return r, err
}

// sessions works out what a subject may do that can have several sessions.
func (d *differ) sessions(k, n int, pile *Pile, owns bool) (*operationTimes, error) {
	s := d.sides[k]
	who := s.Numbered(n)
	at := pile.looks[k].at
	known := s.space.NewContext()
	d.fixFor(known, k, n, pile, owns)
	possible, err := s.PossibleSessions(who, nil, 0, false)
	if err != nil {
		return nil, err
	}
	out := &operationTimes{}
	for _, o := range d.validOn(s, pile.looks[k].at.Class) {
		c := Cell{region.Full, region.Empty}
		for _, roles := range possible {
			a, err := s.AllowedAt(who, d.names[o], at, known, roles)
			if err == nil {
				a, err = d.fromNow(s, a)
			}
			if err == nil {
				c.Sure, err = s.space.And(c.Sure, a)
			}
			if err == nil {
				c.Possible, err = s.space.Or(c.Possible, a)
			}
			if err != nil {
				return nil, err
			}
		}
		if c.Possible != region.Empty {
			out.operations, out.when = append(out.operations, o), append(out.when, c)
		}
	}
	return out, nil
}
