package unitrow

import (
	"math/bits"
	"slices"

	"hiddengate/internal/gate/opset"
	"hiddengate/internal/lookup"
	"hiddengate/internal/region"
)

// joiner keeps the units in force at a mark while a row is woven, and joins them to one unit for each region: first
// what is always denied, then what is always given, then the others. What a grant gives that another gives always, or
// that is always denied, is left out, so that what thousands of grants give alike is a short list. Where the same units
// were in force before, it is remembered what they came to; else it costs what has changed since the last that was
// joined, and the units with conditions.
type joiner struct {
	*Maker
	*combinations
	covers      *lookup.Sequences
	counts      []uint32 // of each unit, how often it is in force
	moved       []uint32 // units that may be in force and are not summed up below, or the other way round
	isMoved     []bool
	summed      []bool // of each unit, whether it is among these
	distinct    int
	sum         uint32 // of the numbers of the distinct ones
	denied      always
	given       always
	conditional []uint32 // sorted
	regions     []region.Region
	joined      []uint64
	cover       []uint32
}

// always counts, for each operation, the units without a condition that have it.
type always struct {
	counts []uint32
	set    opset.Set
}

func newJoiner(m *Maker) *joiner {
	n := len(m.List)
	j := &joiner{Maker: m, combinations: newCombinations(n), covers: lookup.NewSequences(), counts: make([]uint32, n),
		isMoved: make([]bool, n), summed: make([]bool, n)}
	for _, a := range []*always{&j.denied, &j.given} {
		a.counts, a.set = make([]uint32, 64*m.Words), make(opset.Set, m.Words)
	}
	return j
}

// toggle counts a unit in or out.
func (j *joiner) toggle(unit uint32, in bool) {
	if in {
		if j.counts[unit]++; j.counts[unit] > 1 {
			return
		}
	} else if j.counts[unit]--; j.counts[unit] > 0 {
		return
	}
	j.combinations.toggle(unit)
	if !j.isMoved[unit] {
		j.isMoved[unit], j.moved = true, append(j.moved, unit)
	}
}

// number gives the number of the cover that the units in force come to.
func (j *joiner) number() uint32 {
	if cover, ok := j.find(); ok {
		return cover
	}
	for _, unit := range j.moved {
		if j.isMoved[unit] = false; j.summed[unit] != (j.counts[unit] > 0) {
			j.sumUp(unit, !j.summed[unit])
		}
	}
	j.moved = j.moved[:0]
	j.cover = j.join(j.cover[:0])
	n := j.covers.Number(j.cover)
	j.keep(n)
	return n
}

// sumUp takes a unit in or out of what is joined.
func (j *joiner) sumUp(unit uint32, in bool) {
	j.summed[unit] = in
	if in {
		j.distinct++
		j.sum += unit
	} else {
		j.distinct--
		j.sum -= unit
	}
	if j.List[unit].Region != region.Full {
		i, _ := slices.BinarySearch(j.conditional, unit)
		if in {
			j.conditional = slices.Insert(j.conditional, i, unit)
		} else {
			j.conditional = slices.Delete(j.conditional, i, i+1)
		}
		return
	}
	a := &j.given
	if j.List[unit].Block {
		a = &j.denied
	}
	for w, set := range j.Set(unit) {
		for ; set != 0; set &= set - 1 {
			o := w*64 + bits.TrailingZeros64(set)
			if in {
				a.counts[o]++
			} else {
				a.counts[o]--
			}
			if a.counts[o] > 0 {
				a.set.Add(uint32(o))
			} else {
				a.set[w] &^= 1 << (o % 64)
			}
		}
	}
}

// join adds the units in force to out.
func (j *joiner) join(out []uint32) []uint32 {
	switch j.distinct {
	case 0:
		return out
	case 1:
		return append(out, j.sum)
	}
	put := func(set opset.Set, r region.Region, number func(opset.Set, region.Region) uint32) {
		if slices.ContainsFunc(set, func(w uint64) bool { return w != 0 }) {
			out = append(out, number(set, r))
		}
	}
	put(j.denied.set, region.Full, j.Deny)
	j.byRegion(blocks)
	for k, r := range j.regions {
		put(j.part(k), r, j.Deny)
	}
	free := append(j.joined[:0], j.given.set...)
	for w := range free {
		free[w] &^= j.denied.set[w]
	}
	put(free, region.Full, j.Give)
	j.byRegion(grants)
	for k, r := range j.regions {
		put(j.part(k), r, j.Give)
	}
	return out
}

// sort is whether a unit is of grants or of blocks.
type sort bool

const (
	grants sort = false
	blocks sort = true
)

// byRegion unites the operations of the units of a sort with conditions, region by region.
func (j *joiner) byRegion(of sort) {
	j.regions, j.joined = j.regions[:0], j.joined[:0]
	for _, u := range j.conditional {
		one := j.List[u]
		if one.Block != bool(of) {
			continue
		}
		k := slices.Index(j.regions, one.Region)
		if k < 0 {
			k = len(j.regions)
			j.regions = append(j.regions, one.Region)
			for range j.Words {
				j.joined = append(j.joined, 0)
			}
		}
		to := j.part(k)
		for w, set := range j.Set(u) {
			set &^= j.denied.set[w]
			if !one.Block {
				set &^= j.given.set[w]
			}
			to[w] |= set
		}
	}
}

func (j *joiner) part(k int) opset.Set { return j.joined[k*j.Words : (k+1)*j.Words] }
