package differing

import (
	"cmp"
	"slices"

	"hiddengate/internal/gate/unitrow"
	"hiddengate/internal/region"
)

// bareSpot is all by which subjects can differ, over piles of one sort, who own none of them and whom no list covers
// that traits tell.
type bareSpot struct {
	covers [2]uint32
	manner uint32
}

// manner is what of a subject alone tells it from others there.
type manner struct {
	active [2]int32
	tags   string
	owner  [2]bool // it can own something as somebody whom no list names
}

// bareStretch is piles, from one on and below another, that a subject has by covers alone.
type bareStretch struct {
	bareSpot
	from, to uint32
}

// run is piles in a row that change alike.
type run struct {
	turn     changeList
	from, to uint32
}

// mostTurns bounds what is remembered of them: a hundred megabytes.
const mostTurns = 1 << 25

// mostRuns likewise bounds the runs, and the stretches that have some.
const mostRuns = 1 << 22

// walkSteps goes through the stretches of piles over which a subject's rows have other covers. What they come to is
// worked out once for whoever has such a stretch; piles in which the subject is told from others by more than that are
// marked instead, and so are looked at one by one.
func (d *differ) walkSteps(w who, owns map[ownedPlace][2]bool) error {
	how := manner{tags: d.likeness(w).tags[0]}
	for k, s := range d.sides {
		how.active[k] = s.Rows.RowOf[w.numbers[k]].Active
		how.owner[k] = d.owners && d.ownsUntested(s, w.numbers[k])
	}
	n, ok := d.manners[how]
	if !ok {
		n = uint32(len(d.manners))
		d.manners[how] = n
	}
	var bad error
	aside := false
	d.eachStep(w, func(from, to uint32, covers [2]uint32) bool {
		if !aside {
			d.setAside(w, owns)
			aside = true
		}
		var runs []run
		runs, bad = d.runsOver(w, bareStretch{bareSpot{covers, n}, from, to})
		for n := range d.aside.between(from, to) {
			d.lookAt(n)
		}
		for _, r := range runs {
			start, piles := r.from, (*Piles)(nil)
			add := func(to uint32) {
				if start < to {
					if piles == nil {
						piles = d.found(r.turn)
					}
					piles.addSpan(start, to)
				}
				start = to + 1
			}
			for n := range d.aside.between(r.from, r.to) {
				add(n)
			}
			add(r.to)
		}
		return bad == nil && (!d.onlyOne || len(d.order) == 0)
	})
	return bad
}

// runsOver lists the piles of a stretch that change for a subject by covers alone.
func (d *differ) runsOver(w who, over bareStretch) (out []run, err error) {
	if runs, ok := d.runs[over]; ok {
		return runs, nil
	}
	turns := d.bare[over.bareSpot]
	if turns == nil {
		if len(d.bare)*d.sorts > mostTurns {
			clear(d.bare)
		}
		turns = make([]changeList, d.sorts)
		d.bare[over.bareSpot] = turns
	}
	now := run{noChange, over.from, over.from}
	end := func(at uint32) {
		if now.to = at; now.turn != noChange {
			out = append(out, now)
		}
	}
	for n := over.from; n < over.to; n++ {
		next := noChange
		if sort := d.sort[n]; sort != noSort {
			if turns[sort] == 0 {
				if turns[sort], err = d.bareTurn(w, d.piles[n], over.covers); err != nil {
					return nil, err
				}
			}
			next = turns[sort]
		}
		if next != now.turn {
			end(n)
			now = run{next, n, n}
		}
	}
	end(over.to)
	if d.remembered += 1 + len(out); d.remembered > mostRuns {
		clear(d.runs)
		d.remembered = 1 + len(out)
	}
	d.runs[over] = slices.Clip(out)
	return out, nil
}

// setAside gathers the piles in which a subject owns something, or has a unit under a list that traits tell, and those
// units.
func (d *differ) setAside(w who, owns map[ownedPlace][2]bool) {
	d.aside.clear(len(d.piles))
	for k, s := range d.sides {
		d.beside[k].round = d.round
		h := &s.Rows.RowOf[w.numbers[k]]
		for _, e := range s.Rows.Extras[h.Extra : h.Extra+h.Extras] {
			unit := s.joint[e.Unit]
			if !d.speaks(unit) {
				continue
			}
			for _, n := range d.within.Get(s.coverage[e.Trait]) {
				d.aside.add(n)
				d.beside[k].add(n, unit, len(d.piles))
			}
		}
	}
	for at := range owns {
		d.aside.add(at.pile)
	}
}

const noSort = ^uint32(0)

// assort puts the chosen piles that are alike on both sides into sorts: those of one sort are told apart by marks and
// lists alone.
func (p *Pair) assort() {
	type traits struct{ classes, facts [2]uint32 }
	known := map[traits]uint32{}
	p.sort, p.bare = make([]uint32, len(p.piles)), map[bareSpot][]changeList{}
	p.manners, p.runs, p.remembered = map[manner]uint32{}, map[bareStretch][]run{}, 0
	for n, pile := range p.piles {
		if p.chosen != nil && !p.chosen[n] {
			p.sort[n] = noSort
			continue
		}
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
	}
	for _, n := range p.uneven {
		p.sort[n] = noSort
	}
	p.sorts = len(known)
	p.span = [2]uint32{0, uint32(len(p.first) - 1)}
	if p.chosen != nil {
		first, last := slices.Index(p.chosen, true), len(p.chosen)-1
		for ; first >= 0 && !p.chosen[last]; last-- {
		}
		if p.span = [2]uint32{}; first >= 0 {
			p.span = [2]uint32{p.piles[first].mark(), p.piles[last].mark() + 1}
		}
	}
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
		if both[k], err = d.work(about{side: k, subject: w.numbers[k], pile: pile}, d.at[k]); err != nil {
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
	var now [2]uint32
	for k, s := range d.sides {
		h := &s.Rows.RowOf[w.numbers[k]]
		steps[k] = s.Rows.Steps[h.Row : h.Row+h.Steps]
	}
	for at := d.span[0]; at < d.span[1]; {
		next := d.span[1]
		for k, s := range d.sides {
			passed := 0 // the first time all that lie before what is chosen
			if at == d.span[0] {
				passed, _ = slices.BinarySearchFunc(steps[k], at+1, func(s unitrow.Step, mark uint32) int {
					return cmp.Compare(s.Mark, mark)
				})
			}
			for passed < len(steps[k]) && steps[k][passed].Mark <= at {
				passed++
			}
			if passed > 0 {
				now[k] = d.coverOf(s, steps[k][passed-1].Cover)
				steps[k] = steps[k][passed:]
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
		at = next
	}
}

// speaks says whether a unit has an operation that is looked at.
func (p *Pair) speaks(unit uint32) bool {
	if p.wanted == nil {
		return true
	}
	if p.speaking == nil {
		p.speaking = make([]told, len(p.list))
	}
	return p.speaking[unit].of(func() bool {
		for op, wanted := range p.wanted {
			if wanted && p.list[unit].has(uint32(op)) {
				return true
			}
		}
		return false
	})
}

// concerns says it of a cover.
func (p *Pair) concerns(cover uint32) bool {
	if p.wanted == nil {
		return true
	}
	if more := p.covers.Len() - len(p.concerned); more > 0 {
		p.concerned = append(p.concerned, make([]told, more)...)
	}
	return p.concerned[cover].of(func() bool { return slices.ContainsFunc(p.covers.Get(cover), p.speaks) })
}

// told is an answer that is worked out when it is first asked for.
type told uint8

const (
	isSo told = iota + 1
	isNotSo
)

func (t *told) of(work func() bool) bool {
	if *t == 0 {
		if *t = isNotSo; work() {
			*t = isSo
		}
	}
	return *t == isSo
}

// lookAtExtras marks the piles that lists cover, told by traits, under which the two have other units.
func (d *differ) lookAtExtras(w who) {
	d.eachOdd(w, func(one uint64) {
		for _, n := range d.within.Get(uint32(one >> 32)) {
			d.lookAt(n)
		}
	})
}

// eachOdd tells what one of the two has under lists that traits tell and the other has not: a coverage, and in the
// lower half a unit of operations that are looked at.
func (d *differ) eachOdd(w who, each func(uint64)) {
	var held [2][]uint64 // by coverage, and by unit
	for k, s := range d.sides {
		h := &s.Rows.RowOf[w.numbers[k]]
		held[k] = d.held[k][:0]
		for _, e := range s.Rows.Extras[h.Extra : h.Extra+h.Extras] {
			held[k] = append(held[k], uint64(s.coverage[e.Trait])<<32|uint64(s.joint[e.Unit]))
		}
		slices.Sort(held[k])
		held[k] = slices.Compact(held[k])
	}
	d.held = held
	apart(held[0], held[1], func(one uint64) {
		if d.speaks(uint32(one)) {
			each(one)
		}
	})
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
