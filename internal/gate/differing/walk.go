package differing

import (
	"slices"

	"hiddengate/internal/gate/unitrow"
	"hiddengate/internal/region"
)

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
			turns = make([]ChangeList, d.sorts)
			d.bare[spot] = turns
		}
		set := between(aside, from, to)
		start, now := from, NoChange // of piles in a row that change alike
		for n := from; n < to; n++ {
			next := NoChange
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
	p.sort, p.bare = make([]uint32, len(p.piles)), map[bareSpot][]ChangeList{}
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
func (d *differ) bareTurn(w who, pile *Pile, covers [2]uint32) (ChangeList, error) {
	both := [2]*operationTimes{nothing, nothing}
	for k, s := range d.sides {
		if !pile.looks[k].there || s.Rows.RowOf[w.numbers[k]].Active == int32(region.Empty) {
			continue
		}
		d.at[k] = append(d.at[k][:0], d.Pair.covers.Get(covers[k])...)
		var err error
		if both[k], err = d.work(about{side: k, subject: w.numbers[k], pile: pile}, d.at[k]); err != nil {
			return NoChange, err
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
